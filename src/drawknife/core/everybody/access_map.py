"""Everybody's rights everywhere, at once (docs/architecture.md, "The map").

One pass goes down each store's folders in tree order with the closed form of :mod:`closed_form`.
Each virtual path that leads to a folder, or above it, adds its ceiling (:mod:`division`) and who
could pass through so far. Folders that carry nothing share what their parent made ready for them,
so the work grows with the folders that carry entries.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from copy import copy

from ..model.items import Endpoint
from ..prepared.prepared import Prepared
from ..prepared.stores import PreparedFolder, PreparedStore
from ..words.names import ancestors, join, parent, rest_below, tree_key
from ..words.names import depth as depth_of
from ..words.rights import ALL, FOLDER_RIGHTS, INDEX, RIGHTS
from .cell import Cell
from .closed_form import NOBODY, ClosedForm, Flow, Sets, baseline
from .disk_sets import DiskSets
from .division import ENTER, Division, Segment

LIST, DELETE_FOLDER = INDEX["list"], INDEX["delete-folder"]
OF_FILES = tuple(i for i, right in enumerate(RIGHTS) if right not in FOLDER_RIGHTS)


class _Row:
    """One folder in one segment: who has the location, who could pass to it, and the sets."""

    __slots__ = ("members", "owning", "passed", "plain", "segment")

    def __init__(
        self, segment: Segment, members: int, passed: int, plain: Sets, owning: Sets
    ) -> None:
        self.segment, self.members, self.passed = segment, members, passed
        self.plain, self.owning = plain, owning


class _State:
    """What a folder hands down: the flow of its store, its rows, and what it made ready for those
    below.

    `deleting` is who may delete folders in it as far as its entries go: such as are not their own,
    and such as are.
    """

    __slots__ = ("__weakref__", "deleting", "flow", "location_matters", "ready", "rows")

    def __init__(
        self,
        flow: Flow,
        rows: list[_Row],
        location_matters: bool,
        deleting: tuple[int, int] = (0, 0),
    ) -> None:
        self.flow, self.rows, self.location_matters, self.deleting = (
            flow,
            rows,
            location_matters,
            deleting,
        )
        self.ready: list[_State | None] = [None, None, None, None]


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
        self.division = Division(prepared, accounts, endpoint)
        self.accounts = self.division.accounts
        self.form = ClosedForm(self.division.bits, self.division.everybody)
        self.indices: tuple[int, ...] | None = None  # None: all rights
        self._bit_of = (
            None if accounts is None else {index: bit for bit, index in enumerate(accounts)}
        )
        #: Of stores whose disk counts, too: what it lets through.
        self.disks: dict[str, DiskSets] = {}

    def with_disks(self) -> AccessMap:
        """The same map with what the disks let through, where they were read."""
        if not self.prepared.disks:
            return self
        some = copy(self)
        some.disks = {
            name: DiskSets(self.prepared, name, self.accounts) for name in self.prepared.disks
        }
        return some

    def restricted(self, rights: int) -> AccessMap:
        """The same map with only these rights, and `enter`, computed."""
        some = copy(self)
        rights |= 1 << ENTER
        some.form = ClosedForm(self.form.bits, self.form.everybody, rights)
        some.indices = (
            None if rights == ALL else tuple(i for i in range(len(RIGHTS)) if rights >> i & 1)
        )
        return some

    def of_paths(self, paths: Iterable[str]) -> AccessMap:
        """The same map with only what lies in these virtual paths."""
        some = copy(self)
        some.division = copy(self.division)
        some.division.by_path = {path: self.division.by_path[path] for path in paths}
        some.division.starting = {}
        for segment in (s for every in some.division.by_path.values() for s in every):
            some.division.starting.setdefault(segment.place.store, {}).setdefault(
                segment.place.path, []
            ).append(segment)
        return some

    def cells(self, wanted: dict[str, list[str]] | None = None) -> Iterator[Cell]:
        """Every cell, store by store, in tree order of the folders; synthetic locations first.

        `wanted` restricts it to some folders, by store: recorded or not, in all segments that hold
        them.
        """
        if wanted is None:
            yield from self.synthetic()
        for name, store in self.prepared.stores.items():
            if name in self.division.starting and (wanted is None or name in wanted):
                some = None if wanted is None else wanted[name]
                if some is not None and len(some) == 1:
                    yield from self._at_one(store, some[0])
                else:
                    yield from self._down(store, some)

    def at(self, locations: Iterable[str]) -> Iterator[Cell]:
        """Every cell at some virtual locations, recorded or not."""
        asked = set(locations)
        wanted: dict[str, list[str]] = {}
        for location in asked:
            for path in ancestors(location):
                for segment in self.division.by_path.get(path, ()):
                    folder = join(segment.place.path, rest_below(location, path) or "")
                    wanted.setdefault(segment.place.store, []).append(folder)
        yield from self.synthetic(asked)
        yield from (cell for cell in self.cells(wanted) if cell.location in asked)

    def synthetic(self, asked: set[str] | None = None) -> Iterator[Cell]:
        """The locations that only lead to virtual paths; of those asked for, if any are."""
        division = self.division
        for location in sorted(
            division.above if asked is None else asked & division.above.keys(), key=tree_key
        ):
            members = division.synthetic_at(location)
            if members:
                sets = NOBODY.copy()
                sets[ENTER] = (
                    members if division.through is None else members & division.through[ENTER]
                )
                sets[LIST] = (
                    members if division.through is None else members & division.through[LIST]
                )
                yield Cell(None, "", members, sets, owning=sets, location=location)

    # --- the pass down a store -------------------------------------------------------------------

    def _down(self, store: PreparedStore, wanted: list[str] | None) -> Iterator[Cell]:
        starting = self.division.starting[store.name]
        unrecorded = self.division.unrecorded[store.name] if wanted is None else ()
        only = None if wanted is None else set(wanted)
        marked = store.marked
        top = _State(baseline(self.division.everybody, store.open), [], False)
        # The folders above the one at hand: what keys below them begin with, depth, path, and
        # state. A folder's key begins with the keys of those above it and a zero character:
        # whatever on the stack does not begin so is not above it, and can go. Before the first
        # folder all counts as deep below: a baseline has no reach.
        stack: list[tuple[str, int, str, _State]] = [("", -3, "", top)]
        for key, path in self._visits(store, wanted):
            while not key.startswith(stack[-1][0]):
                stack.pop()
            _, above_depth, above_path, above = stack[-1]
            node = marked.get(path)
            begin = starting.get(path)
            if node is None and begin is None:
                if not above.rows:
                    continue  # nobody sees it, and it changes nothing
                depth = path.count("/") if path != "/" else 0
                distance = depth - above_depth
                if not above.location_matters:
                    state = above.ready[distance if distance < 3 else 3] or self._make_ready(
                        above, distance
                    )
                else:
                    state = self._state(above, above_path, path, distance, node=None, begin=begin)
            else:
                depth = depth_of(path)
                state = self._state(
                    above, above_path, path, depth - above_depth, node=node, begin=begin
                )
            stack.append((key + "\x00" if key else "", depth, path, state))
            if only is None or path in only:
                first = 0
                if only is None and begin and path in unrecorded:
                    # Where nothing is recorded, only those have a location whose virtual path
                    # begins there.
                    first = len(state.rows) - len(begin)
                yield from self._cells_at(state, path, first)

    def _at_one(self, store: PreparedStore, path: str) -> Iterator[Cell]:
        """The cells of one folder, recorded or not, in every segment that holds it."""
        starting, marked = self.division.starting[store.name], store.marked
        chain = []
        at = path
        while True:
            if at is path or at in marked or at in starting:
                chain.append(at)
            if at == "/":
                break
            at = at[: at.rindex("/")] or "/"
        state = _State(baseline(self.division.everybody, store.open), [], False)
        above_path, above_depth = "", -3
        for at in reversed(chain):
            depth = depth_of(at)
            state = self._state(
                state,
                above_path,
                at,
                depth - above_depth,
                node=marked.get(at),
                begin=starting.get(at),
            )
            above_path, above_depth = at, depth
        yield from self._cells_at(state, path)

    def _cells_at(self, state: _State, path: str, first: int = 0) -> Iterator[Cell]:
        for i in range(first, len(state.rows)):
            row = state.rows[i]
            disk = self.disks.get(row.segment.place.store) if self.disks else None
            yield Cell(
                row.segment,
                path,
                row.members,
                row.plain,
                owning=row.owning,
                location=None,
                source=(self, state, i),
                disk=disk,
            )

    def below(self, state: _State, row: int, distance: int) -> tuple[Sets, Sets]:
        """What one row of a folder is `distance` levels below, where nothing is recorded in
        between.
        """
        found = (state.ready[distance] or self._make_ready(state, distance)).rows[row]
        return found.plain, found.owning

    def _visits(self, store: PreparedStore, wanted: list[str] | None) -> Iterable[tuple[str, str]]:
        """The folders to come to, in tree order: (key, path)."""
        if wanted is None:
            recorded = (
                (key, folder.path)
                for key, folder in zip(store.order, store.store.folders, strict=True)
            )
            unrecorded = self.division.unrecorded[store.name]
            if not unrecorded:
                return recorded
            return sorted([*recorded, *((tree_key(path), path) for path in unrecorded)])
        starting = self.division.starting[store.name]
        paths: set[str] = set()
        for path in wanted:
            for at in ancestors(path):
                if at in paths:
                    break
                if at == path or at in store.marked or at in starting:
                    paths.add(at)
        return sorted((tree_key(path), path) for path in paths)

    def _make_ready(self, above: _State, distance: int) -> _State:
        """What a folder that carries nothing is, `distance` below `above`: made once,
        then shared.
        """
        flow = above.flow.further()
        if distance > 1 and flow is above.flow:
            # The same comes down to all that is below: where all who got here get to a child, too,
            # it is as the child is. But a child is deleted as the folder itself lets, and what is
            # deeper as a child does.
            child = above.ready[1] or self._make_ready(above, 1)
            held_alike = not child.deleting[0] & ~above.deleting[0]
            if held_alike and all(
                a.passed == b.passed for a, b in zip(above.rows, child.rows, strict=True)
            ):
                above.ready[min(distance, 3)] = child
                return child
        at, at_own = above.flow.at_child() if distance == 1 else above.flow.at_deeper()
        holder, _ = _holder(above, distance)
        rows = []
        for a in above.rows:
            before = _between(above.flow, a.passed, distance)
            plain, owning, passed = self._row(
                at, at_own, a.segment.ceiling, before, owner=0, deleting=before & holder
            )
            rows.append(_Row(a.segment, a.members, passed, plain, owning))
        state = _State(flow, rows, False, (at[DELETE_FOLDER], at_own[DELETE_FOLDER]))
        above.ready[min(distance, 3)] = state
        return state

    def _state(
        self,
        above: _State,
        above_path: str,
        path: str,
        distance: int,
        *,
        node: PreparedFolder | None,
        begin: list[Segment] | None,
    ) -> _State:
        """What one folder is in every segment that holds it."""
        if node is None:
            at, at_own = above.flow.at_child() if distance == 1 else above.flow.at_deeper()
            flow = above.flow.further()
        else:
            at, at_own, flow = self.form.at(node, above.flow, distance == 1)
        owner = 0
        if node is not None and node.owner >= 0:
            bit = node.owner if self._bit_of is None else self._bit_of.get(node.owner)
            owner = 0 if bit is None else 1 << bit
        held, held_own = _holder(above, distance)
        holder = held & ~owner | held_own & owner
        rows = []
        # Where another virtual path of somebody lies below a segment's, a folder is not only a
        # folder: at some locations that path takes its place. What was made ready once for all
        # folders that carry nothing cannot be shared then.
        matters = above.location_matters
        for a in above.rows:
            before, members, fixed = _between(above.flow, a.passed, distance), a.members, 0
            if a.segment.inner:
                gone, fixed = self._overlaid(a.segment, above_path, path)
                members &= ~gone
                before &= ~gone
                if not members:
                    continue
            deleting = before & holder & ~fixed
            plain, owning, passed = self._row(
                at, at_own, a.segment.ceiling, before, owner=owner, deleting=deleting
            )
            rows.append(_Row(a.segment, members, passed, plain, owning))
        for segment in begin or ():
            before = segment.members & segment.ceiling[ENTER]
            plain, owning, passed = self._row(
                at, at_own, segment.ceiling, before, owner=owner, deleting=0
            )
            rows.append(_Row(segment, segment.members, passed, plain, owning))
            matters = matters or segment.inner
        return _State(flow, rows, matters, (at[DELETE_FOLDER], at_own[DELETE_FOLDER]))

    def _overlaid(self, segment: Segment, above: str, path: str) -> tuple[int, int]:
        """Who meets another virtual path on the way from `above` down to `path`, and who one below
        it.
        """
        division = self.division
        gone = 0
        at = path
        while at != above and (rest := rest_below(at, segment.place.path)):
            gone |= division.having(join(segment.path, rest))
            at = parent(at)
        location = join(segment.path, rest_below(path, segment.place.path) or "")
        return gone, division.above.get(location, 0) if location in division.above_paths else 0

    def _row(
        self, at: Sets, at_own: Sets, ceiling: Sets, before: int, *, owner: int, deleting: int
    ) -> tuple[Sets, Sets, int]:
        """What is decided, under the ceiling, for those who can pass; and who passes.

        `before` could pass down to here, `owner` is the folder's owner, `deleting` may delete the
        folder as far as passing, fixed points and the folder that holds it go.
        """
        if not before:
            return NOBODY, NOBODY, 0
        # The folder's own owner is decided as the owner, everybody else as not the owner: one bit
        # of the two lists.
        own_here = at
        if owner and at_own is not at:
            own_here = [a & ~owner | o & owner for a, o in zip(at, at_own, strict=True)]
        passed = before & own_here[ENTER]
        if not passed and not deleting:
            return NOBODY, NOBODY, 0
        if self.indices is None:
            plain = [a & c & passed for a, c in zip(own_here, ceiling, strict=True)]
        else:
            plain = NOBODY.copy()
            for r in self.indices:
                plain[r] = own_here[r] & ceiling[r] & passed
        # Deleting the folder asks passing to its parent only, so not `passed`, which has its own
        # `enter` in it.
        plain[DELETE_FOLDER] = own_here[DELETE_FOLDER] & ceiling[DELETE_FOLDER] & deleting
        if at is at_own:
            return plain, plain, passed
        owning = plain.copy()
        for r in OF_FILES:
            if at is not own_here:
                plain[r] = at[r] & ceiling[r] & passed
            if at_own[r] is not at[r]:
                owning[r] = at_own[r] & ceiling[r] & passed
            else:
                owning[r] = plain[r]
        return plain, owning, passed


def _holder(above: _State, distance: int) -> tuple[int, int]:
    """Who may delete folders in the one that holds a folder `distance` below: not their own ones,
    and their own.
    """
    if distance == 1:
        return above.deleting
    return (
        above.flow.right_at_child(DELETE_FOLDER)
        if distance == 2
        else above.flow.right_at_deeper(DELETE_FOLDER)
    )


def _between(flow: Flow, passed: int, distance: int) -> int:
    """Who of those passed through the folders in between, too, which carry nothing."""
    if distance >= 2 and passed:
        passed &= flow.at_child()[0][ENTER]
        if distance >= 3:
            passed &= flow.at_deeper()[0][ENTER]
    return passed


def access_of_all(
    prepared: Prepared, endpoint: Endpoint | None = None, disk: bool = False
) -> AccessMap:
    """The map of all accounts, its virtual paths divided once per revision and endpoint; with
    `disk`, what the disks let.
    """
    if disk and not prepared.disks:
        disk = False
    key = f"map:{endpoint.name if endpoint else ''}" + (":disk" if disk else "")
    found = prepared.derived.get(key)
    if not isinstance(found, AccessMap):
        found = (
            access_of_all(prepared, endpoint).with_disks()
            if disk
            else AccessMap(prepared, None, endpoint)
        )
        prepared.derived[key] = found
    return found
