"""Windows of the map: which accounts and locations are wanted, and their cells."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache

from drawknife.core.everybody.access_map import AccessMap, access_of_all
from drawknife.core.everybody.cell import Cell
from drawknife.core.everybody.division import bits_in
from drawknife.core.model.items import Endpoint
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.words.checks import check_location, check_right
from drawknife.core.words.errors import NotFound
from drawknife.core.words.names import depth, fold, join, rest_below, tree_key
from drawknife.core.words.rights import INDEX, RIGHTS, perm_word


class MapWindow:
    """Which accounts and locations of the map are wanted, and which part of them.

    `matching`, `group` and `unit` choose accounts; `under`, `deepest` and `store` choose locations.
    """

    def __init__(
        self,
        right: str | None = None,
        endpoint: str | None = None,
        matching: str = "",
        group: str | None = None,
        *,
        unit: str | None = None,
        store: str | None = None,
        under: str = "/",
        deepest: int | None = None,
        account_offset: int = 0,
        account_limit: int | None = None,
        location_offset: int = 0,
        location_limit: int | None = None,
    ) -> None:
        self.right = check_right(right) if right is not None else None
        self.endpoint, self.matching, self.group, self.unit, self.store = (
            endpoint,
            matching,
            group,
            unit,
            store,
        )
        self.under, self.deepest = check_location(under, "under"), deepest
        self.account_offset, self.account_limit = account_offset, account_limit
        self.location_offset, self.location_limit = location_offset, location_limit

    def choose_accounts(self, prepared: Prepared) -> list[int]:
        """The indices of the accounts chosen, in order of names."""
        people = prepared.people
        chosen = set(range(len(people.accounts)))
        if self.group is not None or self.unit is not None:
            map_ = access_of_all(prepared)
            for kind, name in (("group", self.group), ("unit", self.unit)):
                if name is not None:
                    subject = next(
                        (
                            s
                            for s in people.subjects
                            if s.kind == kind and fold(s.name) == fold(name)
                        ),
                        None,
                    )
                    if subject is None:
                        raise NotFound(
                            kind, name, (s.name for s in people.subjects if s.kind == kind), kind
                        )
                    bits = map_.division.bits.get(people.number(subject), 0)
                    chosen &= {i for i in chosen if bits >> i & 1}
        if self.matching:
            wanted = fold(self.matching)
            chosen = {i for i in chosen if wanted in fold(people.accounts[i].name)}
        return sorted(chosen)

    def choose_locations(self, prepared: Prepared) -> list[str]:
        """The locations chosen, in tree order."""
        if self.store is not None and fold(self.store) not in map(fold, prepared.stores):
            raise NotFound("store", self.store, prepared.stores, "store")
        key = f"locations:{fold(self.store) if self.store else ''}"
        every = prepared.derived.get(key)
        if not isinstance(every, list):
            every = prepared.derived[key] = all_locations(prepared, self.store)
        if self.under == "/" and self.deepest is None:
            return every
        return [
            x
            for x in every
            if (self.under == "/" or rest_below(x, self.under) is not None)
            and (self.deepest is None or depth(x) - depth(self.under) <= self.deepest)
        ]


def all_locations(prepared: Prepared, store: str | None = None) -> list[str]:
    """Every location of any account's namespace, in tree order; of one store, if one is given."""
    division = access_of_all(prepared).division
    found = {at for at in division.above if division.synthetic_at(at)} if store is None else set()
    for name, starting in division.starting.items():
        if store is not None and fold(name) != fold(store):
            continue
        ready = prepared.stores[name]
        for top, segments in starting.items():
            start, stop = ready.branch(top)
            cut = 0 if top == "/" else len(top)
            rests = [f.path[cut:] for f in ready.store.folders[start:stop] if f.path != top]
            for path in {s.path for s in segments if not s.inner}:
                prefix = "" if path == "/" else path
                found.add(path)
                found.update([prefix + rest for rest in rests])
            for segment in (s for s in segments if s.inner):
                found.add(segment.path)
                below = (join(segment.path, rest) for rest in rests)
                found.update(
                    at for at in below if segment.members & ~division.overlaid_at(segment, at)
                )
    return sorted(found, key=tree_key)


def map_cells(
    prepared: Prepared,
    accounts: Sequence[int],
    locations: Sequence[str],
    right: str | None,
    endpoint: Endpoint | None = None,
    store: str | None = None,
) -> list[list[str | None]]:
    """The cells of a window of the map, a list for each account: a state, or a perm word."""
    map_ = AccessMap(prepared, accounts, endpoint).with_disks()
    column = {location: j for j, location in enumerate(locations)}
    cells: list[list[str | None]] = [[None] * len(locations) for _ in accounts]
    r = INDEX[right] if right is not None else -1
    for cell in map_.at(locations):
        j = column.get(cell.location)
        if j is None or not _in_namespace(prepared, cell):
            continue
        if store is not None and (cell.place is None or fold(cell.place.store) != fold(store)):
            continue
        for members, states in alike(
            cell, (r,) if right is not None else tuple(range(len(RIGHTS)))
        ):
            shown = states[0] if right is not None else _word(states)
            for i in bits_in(members):
                cells[i][j] = shown
    return cells


_word = lru_cache(1 << 14)(perm_word)


def alike(cell: Cell, rights: tuple[int, ...]) -> Iterator[tuple[int, tuple[str, ...]]]:
    """The accounts of a cell, those together that have the same states of these rights."""
    left = cell.members
    while left:
        one = (left & -left).bit_length() - 1
        same = left
        states = []
        for r in rights:
            for sets in (cell.plain, cell.owning):
                same &= sets[r] if sets[r] >> one & 1 else ~sets[r]
            states.append(cell.state(r, one))
        yield same, tuple(states)
        left &= ~same


def _in_namespace(prepared: Prepared, cell: Cell) -> bool:
    """Is the cell's location one of the namespace's: synthetic, a virtual path, or a recorded
    folder?
    """
    if cell.segment is None or cell.place is None or cell.location == cell.segment.path:
        return True
    return prepared.stores[cell.place.store].folder(cell.place.path) is not None
