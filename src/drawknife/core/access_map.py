"""Everybody's rights everywhere, at once (docs/architecture.md, "The closed form").

Sets of accounts are Python integers, bit `i` for the `i`-th account of the map. One pass goes down
each store's folders in tree order and carries, for each right, who is allowed so far:

    decided   = (inherited | allows) & ~denies        inherited is empty in a sealed folder
    effective = decided & ~forbidden

Reach makes it three such sets side by side (for the folder itself, for its children, for what is
deeper), ``owner`` makes it two (as not the owner, and as the owner). Each virtual path that leads
to a folder or above it adds its ceiling, and who could pass through so far. Folders that carry
nothing share what their parent made ready for them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from copy import copy
from typing import NamedTuple

from .model import Endpoint
from .names import BadValue, Place, ancestors, join, parent, rest_below, tree_key
from .names import depth as depth_of
from .namespace import Candidate, Served, expand, namespace_of
from .prepared import (
    OWNER,
    Prepared,
    PreparedAccount,
    PreparedFolder,
    PreparedStore,
    Rule,
    bits_of,
)
from .rights import ALL, FOLDER_RIGHTS, INDEX, RIGHTS

Sets = list[int]  # one set of accounts for each right

COUNT = len(RIGHTS)
ENTER, LIST, DELETE_FOLDER = INDEX["enter"], INDEX["list"], INDEX["delete-folder"]
OF_FOLDER = tuple(INDEX[r] for r in FOLDER_RIGHTS)
OF_FILES = tuple(i for i in range(COUNT) if i not in OF_FOLDER)
#: The indices of the rights in each possible set of rights.
INDICES = tuple(tuple(i for i in range(COUNT) if mask >> i & 1) for mask in range(ALL + 1))
NOBODY: Sets = [0] * COUNT


class Segment(NamedTuple):
    """A virtual path as some accounts have it: they all are led to the same folder.

    `ceiling` is shared between segments, so it can hold more accounts than `members`. `inner` says
    that other virtual paths lie below this one, or at it, so that locations have to be looked at.
    """

    path: str
    place: Place
    members: int
    ceiling: Sets
    inner: bool


class Cell(NamedTuple):
    """Who can do what at one location, as it lies in one segment.

    `members` have this location; `plain` holds for each right who has it on what is not its own,
    `owning` on what is its own. A synthetic location has no segment and no place.
    """

    location: str
    segment: Segment | None
    place: Place | None
    members: int
    plain: Sets
    owning: Sets

    def state(self, right: int, account: int) -> str:
        """``yes``, ``own``, ``others`` or ``no``: the right at this index for the account of this bit."""
        return STATES[self.plain[right] >> account & 1 | (self.owning[right] >> account & 1) << 1]


STATES = ("no", "others", "own", "yes")


class _Flow(NamedTuple):
    """What comes down from a folder: to its children (near), and further (far). f-: forbidden."""

    near: Sets
    far: Sets
    near_own: Sets
    far_own: Sets
    f_near: Sets
    f_far: Sets
    f_near_own: Sets
    f_far_own: Sets


class _Active(NamedTuple):
    """A segment on the way down: who has the location, and who could pass to here."""

    segment: Segment
    members: int
    passed: int


class _Frame:
    """A folder on the way down, with what it made ready for those below that carry nothing."""

    __slots__ = ("active", "depth", "flow", "key", "location_matters", "path", "plain_below")

    def __init__(self, key: str | None, path: str, depth: int, flow: _Flow, active: list[_Active]) -> None:
        self.key, self.path, self.depth, self.flow, self.active = key, path, depth, flow, active
        self.location_matters = any(a.segment.inner for a in active)
        self.plain_below: dict[int, tuple[list[_Active], list[tuple[Sets, Sets]]]] = {}


class AccessMap:
    """The access of some accounts, or of all, at the locations of their namespaces."""

    def __init__(
        self,
        prepared: Prepared,
        accounts: Sequence[int] | None = None,
        endpoint: Endpoint | None = None,
    ) -> None:
        """`accounts` are indices into the model's accounts, in the order wanted; None: all of them.

        With an `endpoint`, its entries are one more ceiling.
        """
        self.prepared = prepared
        self.rights = ALL
        people = prepared.people
        self.accounts: Sequence[int] = range(len(people.accounts)) if accounts is None else accounts
        self.everybody = (1 << len(self.accounts)) - 1
        if accounts is None:
            if "members" not in people_cache(prepared):
                people_cache(prepared)["members"] = people.members()
            self.bits = people_cache(prepared)["members"]
        else:
            self.bits = {}
            for bit, index in enumerate(accounts):
                for sid in people.prepared(index).who:
                    self.bits[sid] = self.bits.get(sid, 0) | 1 << bit
        self.bit_of = {index: bit for bit, index in enumerate(self.accounts)}
        self._through: Sets | None = self._endpoint_sets(endpoint) if endpoint is not None else None
        self.segments: list[Segment] = []
        self.served: dict[str, int] = {}
        self.unserved: dict[str, int] = {}
        self._paths = set(prepared.virtual_paths.by_path)
        self._above_paths = {up for p in self._paths if p != "/" for up in ancestors(parent(p))}
        for path, candidates in prepared.virtual_paths.by_path.items():
            self._divide(path, candidates)
        #: For each location above served virtual paths, the accounts that have one below it.
        self.above: dict[str, int] = {}
        for path, members in self.served.items():
            if path != "/" and members:
                for up in ancestors(parent(path)):
                    self.above[up] = self.above.get(up, 0) | members
        self.by_path: dict[str, list[Segment]] = {}
        #: The segments by store and by the folder that they begin at.
        self.starting: dict[str, dict[str, list[Segment]]] = {}
        for segment in self.segments:
            self.by_path.setdefault(segment.path, []).append(segment)
            self.starting.setdefault(segment.place.store, {}).setdefault(segment.place.path, []).append(
                segment
            )

    # --- who has which virtual path ---------------------------------------------------------

    def restricted(self, rights: int) -> AccessMap:
        """The same map, with only these rights (and `enter`) computed."""
        some = copy(self)
        some.rights = rights | 1 << ENTER
        return some

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
        return [s & sets[ENTER] for s in sets]

    def _ceiling(self, candidates: Iterable[Candidate]) -> Sets:
        """For each right, who has it by the grants; nobody who has no `enter`."""
        sets = [0] * COUNT
        for candidate in candidates:
            for sid, rights in candidate.grants:
                members = self.bits.get(sid, 0)
                for r in INDICES[rights]:
                    sets[r] |= members
        return self._usable(sets)

    def _usable(self, sets: Sets) -> Sets:
        enter = sets[ENTER]
        if self._through is None:
            return [s & enter for s in sets]
        return [s & enter & t for s, t in zip(sets, self._through, strict=True)]

    def _add(self, path: str, place: Place, members: int, ceiling: Sets) -> None:
        inner = path in self._above_paths
        self.segments.append(Segment(path, place, members, ceiling, inner))
        self.served[path] = self.served.get(path, 0) | members

    def _divide(self, path: str, candidates: list[Candidate]) -> None:
        """Divide the accounts that have `path` by the folder that it leads them to."""
        granted = 0
        for candidate in candidates:
            for sid, _ in candidate.grants:
                granted |= self.bits.get(sid, 0)
        if not granted:
            return
        ways = {c.vpath.leads_to for c in candidates}
        if len(ways) > 1:
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
        only = _OnlyPath(path, self.prepared)
        for bit in bits_in(granted):
            choice = only.choice(self.prepared.people.prepared(self.accounts[bit]))
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

    def _strand(self, path: str, bits: list[int]) -> None:
        if bits:
            self.unserved[path] = self.unserved.get(path, 0) | bits_of(bits, len(self.accounts))

    # --- the pass down the stores --------------------------------------------------------------

    def cells(self, wanted: dict[str, list[str]] | None = None) -> Iterator[Cell]:
        """Every cell, store by store, in tree order of the folders; synthetic locations first.

        `wanted` restricts it to some folders, by store; all segments that hold them are told.
        """
        if wanted is None:
            yield from self.synthetic()
        for name, store in self.prepared.stores.items():
            if name in self.starting and (wanted is None or name in wanted):
                yield from self._down(store, self.starting[name], None if wanted is None else wanted[name])

    def at(self, locations: Iterable[str]) -> Iterator[Cell]:
        """Every cell at some virtual locations, recorded or not."""
        asked = set(locations)
        wanted: dict[str, list[str]] = {}
        for location in asked:
            for path in ancestors(location):
                for segment in self.by_path.get(path, ()):
                    folder = join(segment.place.path, rest_below(location, path) or "")
                    wanted.setdefault(segment.place.store, []).append(folder)
        yield from self.synthetic(asked)
        yield from (cell for cell in self.cells(wanted) if cell.location in asked)

    def synthetic(self, asked: set[str] | None = None) -> Iterator[Cell]:
        """The locations that only lead to virtual paths; of those asked for, if any are."""
        for location in sorted(self.above if asked is None else asked & self.above.keys(), key=tree_key):
            members = self.synthetic_at(location)
            if members:
                sets = [0] * COUNT
                sets[ENTER] = members if self._through is None else members & self._through[ENTER]
                sets[LIST] = members if self._through is None else members & self._through[LIST]
                yield Cell(location, None, None, members, sets, sets)

    def synthetic_at(self, location: str) -> int:
        """The accounts for which `location` is synthetic."""
        undecided = self.above.get(location, 0)
        found = 0
        for at in ancestors(location):
            closed = self.unserved.get(at, 0) & undecided
            found |= closed
            undecided &= ~(closed | self.served.get(at, 0))
        return found | undecided

    def _down(
        self, store: PreparedStore, starting: dict[str, list[Segment]], wanted: list[str] | None
    ) -> Iterator[Cell]:
        base = [self.everybody] * COUNT if store.open else NOBODY
        flow = _Flow(base, base, base, base, NOBODY, NOBODY, NOBODY, NOBODY)
        stack = [_Frame(None, "", -1, flow, [])]
        told = None if wanted is None else set(wanted)
        unrecorded = {path for path in starting if store.folder(path) is None} if wanted is None else set()
        marked = store.marked
        for key, path in self._visits(store, starting, unrecorded, wanted):
            while stack[-1].key and not key.startswith(stack[-1].key + "\x00"):
                stack.pop()
            above = stack[-1]
            node = marked.get(path)
            begin = starting.get(path)
            if node is None and not above.active and begin is None:
                continue  # nobody sees it, and it changes nothing
            depth = depth_of(path)
            # Before the first folder all counts as deep below: the baseline has no reach.
            gap = min(depth - above.depth, 2) if above.depth >= 0 else 2
            if node is None and begin is None and not above.location_matters and above.depth >= 0:
                active, rows = self._ready(above, depth - above.depth)
                child = _Frame(key, path, depth, self._flow_below(above), active)
            else:
                at, at_own, child_flow = self._flow_at(node, above.flow, gap)
                active, rows = self._rows(store, above, path, depth, node, at, at_own, begin)
                child = _Frame(key, path, depth, child_flow, active)
            stack.append(child)
            if told is None or path in told:
                # Where nothing is recorded, only those have a location whose virtual path begins there.
                first = len(active) - len(begin) if begin and told is None and path in unrecorded else 0
                for a, (plain, owning) in zip(active[first:], rows[first:], strict=True):
                    segment = a.segment
                    location = join(segment.path, path[len(segment.place.path) :] if segment.place.path != "/" else
                                    "" if path == "/" else path)  # fmt: skip
                    yield Cell(location, segment, Place(store.name, path), a.members, plain, owning)

    def _visits(
        self,
        store: PreparedStore,
        starting: dict[str, list[Segment]],
        unrecorded: set[str],
        wanted: list[str] | None,
    ) -> list[tuple[str, str]]:
        """The folders to come to, in tree order: (key, path)."""
        if wanted is None:
            folders = store.store.folders
            visits = [(key, folder.path) for key, folder in zip(store.order, folders, strict=True)]
            if unrecorded:
                visits += [(tree_key(path), path) for path in unrecorded]
                visits.sort()
            return visits
        paths: set[str] = set()
        for path in wanted:
            for at in ancestors(path):
                if at in paths:
                    break
                if at == path or at in store.marked or at in starting:
                    paths.add(at)
        return sorted((tree_key(path), path) for path in paths)

    def _flow_below(self, above: _Frame) -> _Flow:
        """What comes down from a folder below `above` that carries nothing."""
        flow = above.flow
        if (
            flow.near is flow.far
            and flow.near_own is flow.far_own
            and flow.f_near is flow.f_far
            and (flow.f_near_own is flow.f_far_own)
        ):
            return flow
        return _Flow(
            flow.far,
            flow.far,
            flow.far_own,
            flow.far_own,
            flow.f_far,
            flow.f_far,
            flow.f_far_own,
            flow.f_far_own,
        )

    def _flow_at(self, node: PreparedFolder | None, flow: _Flow, gap: int) -> tuple[Sets, Sets, _Flow]:
        """Who is allowed at a folder (as not the owner, as the owner), and what comes down from it."""
        if gap >= 2:
            near, near_own, f_near, f_near_own = flow.far, flow.far_own, flow.f_far, flow.f_far_own
        else:
            near, near_own, f_near, f_near_own = flow.near, flow.near_own, flow.f_near, flow.f_near_own
        far, far_own, f_far, f_far_own = flow.far, flow.far_own, flow.f_far, flow.f_far_own
        if node is None:
            at, at_own, f_at, f_at_own = near, near_own, f_near, f_near_own
            below = _Flow(far, far, far_own, far_own, f_far, f_far, f_far_own, f_far_own)
        else:
            if node.sealed:
                near = near_own = far = far_own = NOBODY
            here, child, deep = node.rules
            at, at_own = self._decide(near, near_own, here)
            alike = here is child and child is deep and near is far and near_own is far_own
            b_near, b_near_own = (at, at_own) if alike else self._decide(far, far_own, child)
            b_far, b_far_own = (at, at_own) if alike else self._decide(far, far_own, deep)
            here, child, deep = node.forbids
            f_at, f_at_own = self._forbid(f_near, f_near_own, here)
            alike = here is child and child is deep and f_near is f_far and f_near_own is f_far_own
            g_near, g_near_own = (f_at, f_at_own) if alike else self._forbid(f_far, f_far_own, child)
            g_far, g_far_own = (f_at, f_at_own) if alike else self._forbid(f_far, f_far_own, deep)
            below = _Flow(b_near, b_far, b_near_own, b_far_own, g_near, g_far, g_near_own, g_far_own)
        if f_at is NOBODY and f_at_own is NOBODY:
            return at, at_own, below
        both = at is at_own and f_at is f_at_own
        plain = [a & ~f for a, f in zip(at, f_at, strict=True)]
        return plain, plain if both else [a & ~f for a, f in zip(at_own, f_at_own, strict=True)], below

    def _gather(self, rules: tuple[Rule, ...]) -> tuple[dict[int, list[int]], bool]:
        """By right: [allowed, denied, allowed to owners besides, denied to owners besides]."""
        found: dict[int, list[int]] = {}
        bits, wanted, owners = self.bits, self.rights, False
        for rights, sid, effect in rules:
            side = 0 if effect else 1
            if sid == OWNER:
                owners, side, members = True, side + 2, self.everybody
            else:
                members = bits.get(sid, 0)
                if not members:
                    continue
            for r in INDICES[rights & wanted]:
                four = found.get(r)
                if four is None:
                    four = found[r] = [0, 0, 0, 0]
                four[side] |= members
        return found, owners

    def _decide(self, plain: Sets, owning: Sets, rules: tuple[Rule, ...]) -> tuple[Sets, Sets]:
        """decided = (inherited | allows) & ~denies, as not the owner and as the owner."""
        if not rules:
            return plain, owning
        found, owners = self._gather(rules)
        if not found:
            return plain, owning
        decided = plain.copy()
        for r, (allow, deny, _, _) in found.items():
            decided[r] = (plain[r] | allow) & ~deny if deny else plain[r] | allow
        if plain is owning and not owners:
            return decided, decided
        decided_own = owning.copy()
        for r, (allow, deny, allow_own, deny_own) in found.items():
            decided_own[r] = (owning[r] | allow | allow_own) & ~(deny | deny_own)
        return decided, decided_own

    def _forbid(self, plain: Sets, owning: Sets, rules: tuple[Rule, ...]) -> tuple[Sets, Sets]:
        """Forbidden so far, and by these besides. In `rules` of forbids, nothing counts as an allow."""
        if not rules:
            return plain, owning
        found, owners = self._gather(rules)
        if not found:
            return plain, owning
        more = plain.copy()
        for r, four in found.items():
            more[r] |= four[1]
        if plain is owning and not owners:
            return more, more
        more_own = owning.copy()
        for r, four in found.items():
            more_own[r] |= four[1] | four[3]
        return more, more_own

    def _ready(self, above: _Frame, distance: int) -> tuple[list[_Active], list[tuple[Sets, Sets]]]:
        """The rows of a folder that carries nothing, `distance` below `above`: made once, then shared."""
        kept = above.plain_below.get(min(distance, 3))
        if kept is None:
            gap = min(distance, 2)
            at, at_own, _ = self._flow_at(None, above.flow, gap)
            active, rows = [], []
            for a in above.active:
                before = self._between(above, a, distance)
                row, passed = _row(at, at_own, a.segment.ceiling, before, 0, before)
                active.append(_Active(a.segment, a.members, passed))
                rows.append(row)
            kept = above.plain_below[min(distance, 3)] = (active, rows)
        return kept

    def _between(self, above: _Frame, a: _Active, distance: int) -> int:
        """Who could pass from `above` through the folders in between, which carry nothing."""
        passed = a.passed
        if distance >= 2 and passed:
            at, _, _ = self._flow_at(None, above.flow, 1)
            passed &= at[ENTER]
            if distance >= 3:
                at, _, _ = self._flow_at(None, above.flow, 2)
                passed &= at[ENTER]
        return passed

    def _rows(
        self,
        store: PreparedStore,
        above: _Frame,
        path: str,
        depth: int,
        node: PreparedFolder | None,
        at: Sets,
        at_own: Sets,
        begin: list[Segment] | None,
    ) -> tuple[list[_Active], list[tuple[Sets, Sets]]]:
        """The rows of one folder in every segment that holds it."""
        active: list[_Active] = []
        rows: list[tuple[Sets, Sets]] = []
        owner = 0
        if node is not None and node.owner >= 0:
            bit = self.bit_of.get(node.owner)
            owner = 0 if bit is None else 1 << bit
        for a in above.active:
            before, members, fixed = self._between(above, a, depth - above.depth), a.members, 0
            if a.segment.inner:
                gone, fixed = self._overlaid(a.segment, above.path, path)
                members &= ~gone
                before &= ~gone
                if not members:
                    continue
            row, passed = _row(
                at, at_own, a.segment.ceiling, before, owner, before & ~fixed if fixed else before
            )
            active.append(_Active(a.segment, members, passed))
            rows.append(row)
        for segment in begin or ():
            row, passed = _row(
                at, at_own, segment.ceiling, segment.members & segment.ceiling[ENTER], owner, 0
            )
            active.append(_Active(segment, segment.members, passed))
            rows.append(row)
        return active, rows

    def _overlaid(self, segment: Segment, above: str, path: str) -> tuple[int, int]:
        """Who meets another virtual path on the way from `above` down to `path`, and who one below it."""
        gone = 0
        at = path
        while at != above and (rest := rest_below(at, segment.place.path)):
            gone |= self._having(join(segment.path, rest))
            at = parent(at)
        location = join(segment.path, rest_below(path, segment.place.path) or "")
        return gone, self.above.get(location, 0) if location in self._above_paths else 0

    def overlaid_at(self, segment: Segment, location: str) -> int:
        """Who has another virtual path at `location` or between it and the segment's."""
        gone = 0
        while location != segment.path:
            gone |= self._having(location)
            location = parent(location)
        return gone

    def _having(self, path: str) -> int:
        """Who has a virtual path there, served or not."""
        return self.served.get(path, 0) | self.unserved.get(path, 0) if path in self._paths else 0


def _row(
    at: Sets, at_own: Sets, ceiling: Sets, before: int, owner: int, deleting: int
) -> tuple[tuple[Sets, Sets], int]:
    """One row: what is decided, under the ceiling, by those who can pass. Returns who passes, too.

    `before` could pass down to here, `owner` is the folder's owner, `deleting` may delete the folder
    as far as passing and fixed points go.
    """
    if not before:
        return (NOBODY, NOBODY), 0
    if owner and at_own is not at:
        own_here = [a & ~owner | o & owner for a, o in zip(at, at_own, strict=True)]
    else:
        own_here = at
    passed = before & own_here[ENTER]
    if not passed and not deleting:
        return (NOBODY, NOBODY), 0
    plain = [a & c & passed for a, c in zip(own_here, ceiling, strict=True)]
    plain[DELETE_FOLDER] = own_here[DELETE_FOLDER] & ceiling[DELETE_FOLDER] & deleting
    if at is at_own:
        return (plain, plain), passed
    owning = plain.copy()
    for r in OF_FILES:
        if at is not own_here:
            plain[r] = at[r] & ceiling[r] & passed
        owning[r] = at_own[r] & ceiling[r] & passed
    return (plain, owning), passed


def bits_in(members: int) -> Iterator[int]:
    """The positions of the bits set, lowest first."""
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


def people_cache(prepared: Prepared) -> dict[str, dict[int, int]]:
    """What is derived of the people alone, kept with them from revision to revision."""
    return prepared.people.derived


class _OnlyPath:
    """Chooses one path's folder for one account after the other."""

    def __init__(self, path: str, prepared: Prepared) -> None:
        self.path = path
        self.virtual_paths = prepared.virtual_paths.only(path)

    def choice(self, account: PreparedAccount) -> object:
        space = namespace_of(account, self.virtual_paths)
        return space.served.get(self.path) or space.unserved[self.path]


def access_of_all(prepared: Prepared, endpoint: Endpoint | None = None) -> AccessMap:
    """The map of all accounts, its virtual paths divided once per revision and endpoint."""
    key = f"map:{endpoint.name if endpoint else ''}"
    found = prepared.derived.get(key)
    if not isinstance(found, AccessMap):
        found = prepared.derived[key] = AccessMap(prepared, None, endpoint)
    return found
