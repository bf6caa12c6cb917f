"""The mistakes of a document, each with its place."""

from dataclasses import dataclass

from drawknife.core.words.errors import Mistaken, Wrong
from drawknife.core.words.key_paths import Where, key_path


@dataclass(frozen=True, slots=True)
class Mistake:
    """A mistake of a document: line (from 1, or None), key path, what stands there, what would be
    right.
    """

    where: Where
    line: int | None
    found: str
    message: str
    expected: str
    nearest: str | None = None

    @property
    def key_path(self) -> str:
        """The key path as people write it: ``stores[0].folders[2].path``."""
        return key_path(self.where)

    def __str__(self) -> str:
        place = (f"line {self.line}: " if self.line else "") + (
            f"{self.key_path}: " if self.where else ""
        )
        expected = f"; expected {self.expected}" if self.expected else ""
        nearest = f"; did you mean {self.nearest!r}?" if self.nearest else ""
        return f"{place}{self.message}{expected}{nearest}"


class BadDocument(Mistaken):
    """A document with mistakes.

    Nothing of it is taken. `more` says that reading ended at some: there may be others.
    """

    def __init__(self, mistakes: list[Mistake], more: bool = False) -> None:
        count = len(mistakes)
        super().__init__(
            f"the document has {count} mistake{'' if count == 1 else 's'}: {mistakes[0]}"
        )
        self.mistakes = mistakes
        self.more = more
        #: Are they in a list of changes, and in no document that somebody wrote?
        self.of_change = mistakes[0].where[:1] == ("changes",)
        self.places = [
            Wrong(m.key_path, m.message, m.expected, m.nearest, m.line, m.found or None)
            for m in mistakes
        ]

    def sentence(self, what: str, most: int) -> str:
        """How many mistakes `what` has, of which the first `most` are told."""
        count = len(self.mistakes)
        more = (
            f"; the first {most} are listed"
            if count > most
            else "; there are more"
            if self.more
            else ""
        )
        return (
            f"{what} has {count} mistake{'' if count == 1 else 's'}, and nothing of it was"
            f" taken{more}"
        )
