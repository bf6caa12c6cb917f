"""Some of many names, as a set of bits: what is told of ten thousand accounts at each of many
places is not written out.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from itertools import islice
from typing import overload

from ..everybody.division import bits_in


class Roll:
    """Names, in their order."""

    def __init__(self, names: Sequence[str]) -> None:
        self.names = names

    @cached_property
    def places(self) -> dict[str, int]:
        return {name: at for at, name in enumerate(self.names)}


class SomeNames(Sequence[str]):
    """The names of a roll at the bits of a set; the same as a tuple of them."""

    __slots__ = ("bits", "roll")

    def __init__(self, roll: Roll, bits: int) -> None:
        self.roll, self.bits = roll, bits

    def __len__(self) -> int:
        return self.bits.bit_count()

    def __iter__(self) -> Iterator[str]:
        return map(self.roll.names.__getitem__, bits_in(self.bits))

    @overload
    def __getitem__(self, at: int) -> str: ...

    @overload
    def __getitem__(self, at: slice) -> Sequence[str]: ...

    def __getitem__(self, at: int | slice) -> str | Sequence[str]:
        if isinstance(at, slice) and at.start is None and at.step is None and (at.stop or 0) >= 0:
            return tuple(islice(self, at.stop))
        return tuple(self)[at]

    def __contains__(self, name: object) -> bool:
        at = self.roll.places.get(name) if isinstance(name, str) else None
        return at is not None and bool(self.bits >> at & 1)

    def __eq__(self, other: object) -> bool:
        if isinstance(other, SomeNames) and other.roll is self.roll:
            return self.bits == other.bits
        return (
            tuple(self) == tuple(other) if isinstance(other, SomeNames | tuple) else NotImplemented
        )

    def __hash__(self) -> int:
        return hash(tuple(self))

    def __repr__(self) -> str:
        return repr(tuple(self))


def each_once(every: Iterable[Sequence[str]]) -> list[str]:
    """All the names, each once, in the order in which they come first."""
    found: dict[str, None] = {}
    seen: dict[int, int] = {}  # of each roll the bits that were seen
    rolls: list[Roll] = []  # they are kept, so that each has a number of its own
    for some in every:
        if not isinstance(some, SomeNames):
            found.update(dict.fromkeys(some))
            continue
        key = id(some.roll)
        if key not in seen:
            rolls.append(some.roll)
        known = seen.get(key, 0)
        if new := some.bits & ~known:
            found.update(dict.fromkeys(SomeNames(some.roll, new)))
            seen[key] = known | new
    return list(found)
