"""What a sync has to say besides its changes: by kind, with those first that somebody has to look at."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

#: The kinds, most important first, each with what is said of many of a kind.
KINDS = {
    "another-one": "names belong to others in the directory now than before",
    "kept-name": "names have changed in the directory and stay as they are here",
    "another-directory": "names are those of accounts or groups of another directory",
    "unit-left-out": "units were left out",
    "unit-made-local": "units are gone from the directory and are local now",
    "not-followed": "entries have the identity of another entry and are not followed",
    "members-left-out": "groups have members that were left out",
    "referrals": "referrals to other servers were not followed",
    "home-left-out": "homes were left out",
    "respelled": "names hold characters that no name may have, and are spelled otherwise here",
}
#: More than these of a kind are told in one line.
FEW = 3


@dataclass(slots=True)
class Notes:
    """Sentences by their kind, which is one of :data:`KINDS`."""

    by_kind: dict[str, list[str]] = field(default_factory=dict)

    def say(self, kind: str, text: str) -> None:
        self.by_kind.setdefault(kind, []).append(text)

    def take(self, others: Notes) -> None:
        """Say all that others say."""
        for kind, texts in others.by_kind.items():
            self.by_kind.setdefault(kind, []).extend(texts)

    def ranked(self) -> Iterator[tuple[str, list[str]]]:
        """The kinds that there is something of, the most important first, each with its sentences."""
        return ((kind, self.by_kind[kind]) for kind in KINDS if kind in self.by_kind)

    def in_short(self) -> list[str]:
        """The same in lines to be read: a line for each kind of which there are many."""
        lines: list[str] = []
        for kind, texts in self.ranked():
            lines += texts if len(texts) <= FEW else [f"{len(texts):,} {KINDS[kind]}, such as: {texts[0]}"]
        return lines
