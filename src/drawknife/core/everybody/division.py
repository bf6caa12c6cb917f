"""Which accounts have which virtual path, and where it leads them: namespaces, as sets
of accounts.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from ..model.items import Endpoint
from ..prepared.namespace import Candidate, Served, expand, namespace_of
from ..prepared.people import bits_of
from ..prepared.prepared import Prepared
from ..words.names import BadValue, Place, ancestors, parent, tree_key
from ..words.rights import RIGHTS
from .closed_form import COUNT, INDICES, Sets

ENTER = RIGHTS.index("enter")


#: So many virtual paths are kept divided.
KEPT_PATHS = 5_000


class Segment(NamedTuple):
    """A virtual path as some accounts have it: they all are led to the same folder.

    `ceiling` is shared between segments, so it can hold more accounts than `members`. `inner` says
    that other virtual paths lie below this one, so that locations have to be looked at.
    """

    path: str
    place: Place
    members: int
    ceiling: Sets
    inner: bool


class Division:
    """The accounts of a map, divided by what each virtual path is for them.

    `accounts` are indices into the model's accounts; bit `i` of every set is the `i`-th of them.
    """

    def __init__(
        self, prepared: Prepared, accounts: Sequence[int] | None, endpoint: Endpoint | None
    ) -> None:
        self.prepared = prepared
        people = prepared.people
        self.accounts: Sequence[int] = range(len(people.accounts)) if accounts is None else accounts
        self.everybody = (1 << len(self.accounts)) - 1
        #: The accounts of each subject's number.
        self.bits: dict[int, int] = {}
        if accounts is None:
            if "members" not in people.derived:
                people.derived["members"] = people.members()
            self.bits = people.derived["members"]
        else:
            for bit, index in enumerate(accounts):
                for sid in people.prepared(index).who:
                    self.bits[sid] = self.bits.get(sid, 0) | 1 << bit
        #: For each right, who is let to it by the endpoint; None without one.
        self.through: Sets | None = self._endpoint_sets(endpoint) if endpoint is not None else None
        self.segments: list[Segment] = []
        self.served: dict[str, int] = {}
        self.unserved: dict[str, int] = {}
        self.paths = set(prepared.virtual_paths.by_path)
        self.above_paths = {up for p in self.paths if p != "/" for up in ancestors(parent(p))}
        for path, candidates in prepared.virtual_paths.by_path.items():
            self._divide_or_take_over(path, candidates, accounts is None and endpoint is None)
        #: For each location above served virtual paths, the accounts that have one below it.
        self.above: dict[str, int] = {}
        for path, members in self.served.items():
            if path != "/" and members:
                for up in ancestors(parent(path)):
                    self.above[up] = self.above.get(up, 0) | members
        #: The segments by virtual path, and by the folder that they begin at.
        self.by_path: dict[str, list[Segment]] = {}
        self.starting: dict[str, dict[str, list[Segment]]] = {}
        for segment in self.segments:
            self.by_path.setdefault(segment.path, []).append(segment)
            store, top = segment.place
            self.starting.setdefault(store, {}).setdefault(top, []).append(segment)
        self._unrecorded_sorted: dict[str, list[tuple[str, str]]] = {}

    @cached_property
    def unrecorded(self) -> dict[str, set[str]]:
        """By store, the folders that segments begin at and that are not recorded."""
        return {
            name: {top for top in tops if self.prepared.stores[name].folder(top) is None}
            for name, tops in self.starting.items()
        }

    def unrecorded_below(self, top: Place) -> list[str]:
        """The folders at one and below it that segments begin at and that are not recorded."""
        found = self._unrecorded_sorted.get(top.store)
        if found is None:
            found = self._unrecorded_sorted[top.store] = sorted(
                (tree_key(path), path) for path in self.unrecorded.get(top.store, ())
            )
        key = tree_key(top.path)
        if not key:
            return [path for _, path in found]
        start = bisect_left(found, (key,))
        stop = bisect_left(found, (key + "\x01",), start)
        return [path for _, path in found[start:stop]]

    def synthetic_at(self, location: str) -> int:
        """The accounts for which `location` is synthetic."""
        undecided = self.above.get(location, 0)
        found = 0
        for at in ancestors(location):
            closed = self.unserved.get(at, 0) & undecided
            found |= closed
            undecided &= ~(closed | self.served.get(at, 0))
        return found | undecided

    def having(self, path: str) -> int:
        """Who has a virtual path there, served or not."""
        return self.served.get(path, 0) | self.unserved.get(path, 0) if path in self.paths else 0

    def overlaid_at(self, segment: Segment, location: str) -> int:
        """Who has another virtual path at `location` or between it and the segment's."""
        gone = 0
        while location != segment.path:
            gone |= self.having(location)
            location = parent(location)
        return gone

    # --- dividing --------------------------------------------------------------------------------

    def _endpoint_sets(self, endpoint: Endpoint) -> Sets:
        allowed, refused = [0] * COUNT, [0] * COUNT
        for entry in endpoint.entries:
            members = self.bits.get(self.prepared.people.number(entry.subject), 0)
            for r in INDICES[entry.rights]:
                if entry.effect == "allow":
                    allowed[r] |= members
                else:
                    refused[r] |= members
        sets = [a & ~d for a, d in zip(allowed, refused, strict=True)]
        return [s & sets[ENTER] for s in sets]  # whatever the action, `enter` is asked, too

    def _usable(self, sets: Sets) -> Sets:
        """A ceiling without those who may not enter, under the endpoint's."""
        enter = sets[ENTER]
        if self.through is None:
            return [s & enter for s in sets]
        return [s & enter & t for s, t in zip(sets, self.through, strict=True)]

    def _ceiling(self, candidates: Iterable[Candidate]) -> Sets:
        sets = [0] * COUNT
        for candidate in candidates:
            for sid, rights in candidate.grants:
                members = self.bits.get(sid, 0)
                for r in INDICES[rights]:
                    sets[r] |= members
        return self._usable(sets)

    def _add(self, path: str, place: Place, members: int, ceiling: Sets) -> None:
        self.segments.append(Segment(path, place, members, ceiling, path in self.above_paths))
        self.served[path] = self.served.get(path, 0) | members

    def _strand(self, path: str, bits: list[int]) -> None:
        if bits:
            self.unserved[path] = self.unserved.get(path, 0) | bits_of(bits, len(self.accounts))

    def _divide_or_take_over(self, path: str, candidates: list[Candidate], everybody: bool) -> None:
        """Of all accounts, a path that is as it was is divided as it was, as long as the people are
        the same.
        """
        if not everybody:
            self._divide(path, candidates)
            return
        known = self.prepared.people.divided
        key = (path, path in self.above_paths, tuple(c.vpath for c in candidates))
        found = known.get(key)
        if found is None:
            if len(known) >= KEPT_PATHS:
                known.clear()
            before = len(self.segments)
            self._divide(path, candidates)
            known[key] = (
                tuple(self.segments[before:]),
                self.served.get(path),
                self.unserved.get(path),
            )
            return
        segments, served, unserved = found
        self.segments += segments
        if served is not None:
            self.served[path] = served
        if unserved is not None:
            self.unserved[path] = unserved

    def _divide(self, path: str, candidates: list[Candidate]) -> None:
        """Divide the accounts that have `path` by the folder that it leads them to."""
        granted = 0
        for candidate in candidates:
            for sid, _ in candidate.grants:
                granted |= self.bits.get(sid, 0)
        if not granted:
            return
        if len({c.vpath.leads_to for c in candidates}) > 1:
            self._divide_by_rank(path, granted)
            return
        ceiling = self._ceiling(candidates)
        way = candidates[0].vpath
        if "{" not in way.leads_to:
            self._add(path, Place(*way.leads_to.split(":", 1)), granted, ceiling)
            return
        led: dict[Place, list[int]] = {}
        stranded: list[int] = []
        for bit in bits_in(granted):
            try:
                place = expand(way, self.prepared.people.accounts[self.accounts[bit]])
            except BadValue:
                stranded.append(bit)
            else:
                led.setdefault(place, []).append(bit)
        for place, bits in led.items():
            self._add(path, place, bits_of(bits, len(self.accounts)), ceiling)
        self._strand(path, stranded)

    def _divide_by_rank(self, path: str, granted: int) -> None:
        """Where a path leads to different folders, each account's nearest grant chooses."""
        led: dict[Place, dict[int, list[int]]] = {}
        stranded: list[int] = []
        only = self.prepared.virtual_paths.only(path)
        for bit in bits_in(granted):
            account = self.prepared.people.prepared(self.accounts[bit])
            space = namespace_of(account.account, account.ranks, only)
            choice = space.served.get(path)
            if isinstance(choice, Served):
                led.setdefault(choice.place, {}).setdefault(choice.ceiling, []).append(bit)
            else:
                stranded.append(bit)
        for place, by_ceiling in led.items():
            sets, members = [0] * COUNT, 0
            for ceiling, bits in by_ceiling.items():
                some = bits_of(bits, len(self.accounts))
                members |= some
                for r in INDICES[ceiling]:
                    sets[r] |= some
            self._add(path, place, members, self._usable(sets))
        self._strand(path, stranded)


def bits_in(members: int) -> Iterator[int]:
    """The positions of the bits set, lowest first."""
    # Few bits: `x & -x` is the lowest one set. But each step makes a number as long as the set, so
    # of a full set it would take the square of its length: there byte by byte is quicker.
    if members.bit_count() * 8 < members.bit_length():
        while members:
            low = members & -members
            yield low.bit_length() - 1
            members ^= low
        return
    for at, byte in enumerate(members.to_bytes((members.bit_length() + 7) // 8, "little")):
        while byte:
            low = byte & -byte
            yield at * 8 + low.bit_length() - 1
            byte ^= low
