"""Notes of a sync, grouped by kind. The kinds that an administrator has to look at come first."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

#: The kinds, most important first, each with the words that follow a number of them.
KINDS = {
    "another-one": "names now belong to a different entry in the directory",
    "kept-name": "renamed entries keep their previous name here",
    "another-directory": "names already exist from another directory",
    "unit-left-out": "units were skipped",
    "unit-made-local": "units were removed from the directory and are local now",
    "not-followed": (
        "entries share their identity with another entry, so renames of them are not followed"
    ),
    "members-left-out": "groups have skipped members",
    "referrals": "referrals were not followed",
    "home-left-out": "homes were skipped",
    "respelled": "names contain characters that are not allowed and are spelled differently here",
}
#: More notes of a kind than these become one line.
FEW = 3


@dataclass(slots=True)
class Notes:
    """Sentences by their kind, which is one of :data:`KINDS`."""

    by_kind: dict[str, list[str]] = field(default_factory=dict)

    def say(self, kind: str, text: str) -> None:
        self.by_kind.setdefault(kind, []).append(text)

    def take(self, others: Notes) -> None:
        """Add the notes of another collection."""
        for kind, texts in others.by_kind.items():
            self.by_kind.setdefault(kind, []).extend(texts)

    def ranked(self) -> Iterator[tuple[str, list[str]]]:
        """The kinds with notes, the most important first."""
        return ((kind, self.by_kind[kind]) for kind in KINDS if kind in self.by_kind)

    def in_short(self) -> list[str]:
        """The notes as lines: a kind with more than :data:`FEW` notes is one line with
        an example.
        """
        lines: list[str] = []
        for kind, texts in self.ranked():
            lines += (
                texts
                if len(texts) <= FEW
                else [f"{len(texts):,} {KINDS[kind]}, for example: {texts[0]}"]
            )
        return lines
