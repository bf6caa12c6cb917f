"""Which promises a model keeps, and who breaks one, where: by the map's sets (docs/rules.md,
"Promises").
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date
from functools import reduce
from itertools import groupby
from operator import or_
from typing import NamedTuple

from ..decide.folder_decision import judge
from ..model.items import Endpoint, Promise, Says, Subject
from ..prepared.people import bits_of
from ..prepared.prepared import Prepared
from ..words.collecting import many_objects
from ..words.names import UNRECORDED, Place, depth, fold, join, rest_below
from ..words.rights import FILE_RIGHTS, RIGHTS
from .access_map import AccessMap, access_of_all
from .cell import Cell
from .closed_form import INDICES, Sets
from .division import bits_in

#: So many who break a promise are named, each with one place.
NAMED = 5
#: And so many in a sentence.
IN_TEXT = 2


class Breach(NamedTuple):
    """One account that breaks a promise: where, by which right, and by which line, in words."""

    account: str
    where: str
    right: str
    line: str


class Broken(NamedTuple):
    """A promise that is not kept: who breaks it, and the first of them with where and how."""

    promise: Promise
    who: tuple[str, ...]
    breaches: tuple[Breach, ...]

    @property
    def accounts(self) -> int:
        """How many accounts break it."""
        return len(self.who)

    def text(self) -> str:
        """Who breaks it, where, and by which line, in a sentence."""
        some = self.breaches[:IN_TEXT]
        more = f"; and {self.accounts - len(some)} more" if self.accounts > len(some) else ""
        each = "; ".join(f"{b.account} at {b.where}: {b.line}" for b in some)
        return f"promise {self.promise.name} is broken ({self.promise.says}): {each}{more}"


class _At(NamedTuple):
    """The access at one place: the cell of its folder, and the sets on what is not one's own, and
    on what is.

    `unrecorded` says how many levels below that folder it is, of which nothing is recorded.
    """

    cell: Cell
    unrecorded: int
    plain: Sets
    owning: Sets

    @property
    def where(self) -> str:
        """The location, in words."""
        more = f"/{UNRECORDED}" * self.unrecorded
        return self.cell.location if not more else self.cell.location.rstrip("/") + more


def broken_promises(
    prepared: Prepared, day: date, promises: tuple[Promise, ...] | None = None
) -> list[Broken]:
    """The promises that are not kept, by the accounts' state on a day.

    `promises`: those of another model.
    """
    with many_objects():
        return _all_broken(prepared.on(day), day, promises)


def _all_broken(
    prepared: Prepared, day: date, promises: tuple[Promise, ...] | None
) -> list[Broken]:
    known = prepared.derived.setdefault("promises", {})
    assert isinstance(known, dict)
    out = []
    for promise in prepared.model.promises if promises is None else promises:
        key = (promise.says, day)
        if key not in known:
            known[key] = _broken(prepared, promise, day)
        found: Broken | None = known[key]
        if found is not None:
            out.append(found._replace(promise=promise))
    return out


def _broken(prepared: Prepared, promise: Promise, day: date) -> Broken | None:
    says = promise.says
    map_, admitted = _map(prepared, says)
    map_ = map_.restricted(says.rights)
    subjects = _members(prepared, says.subjects)
    if says.quantifier == "everybody":
        return _lacking(prepared, promise, map_, admitted, subjects & _active(prepared, day))
    breaking: dict[int, tuple[_At, int]] = {}
    wanted = subjects if says.quantifier == "nobody" else map_.division.everybody & ~subjects
    left = wanted & admitted
    for at in _places(prepared, map_, says, left):
        if not left:
            break
        for r in INDICES[says.rights]:
            some = (at.plain[r] | at.owning[r]) & at.cell.members & left
            if some:
                left &= ~some
                for bit in bits_in(some):
                    breaking[bit] = (at, r)
    if not breaking:
        return None
    breaches = (_breach(prepared, bit, *breaking[bit]) for bit in sorted(breaking)[:NAMED])
    names = tuple(prepared.model.accounts[bit].name for bit in sorted(breaking))
    return Broken(promise, names, tuple(breaches))


def _active(prepared: Prepared, day: date) -> int:
    """Who is enabled and has not expired."""
    found = prepared.derived.setdefault("active", {})
    assert isinstance(found, dict)
    if day not in found:
        accounts = prepared.model.accounts
        some = [
            i
            for i, a in enumerate(accounts)
            if a.enabled and (a.expires is None or day <= a.expires)
        ]
        found[day] = bits_of(some, len(accounts))
    bits: int = found[day]
    return bits


def _lacking(
    prepared: Prepared, promise: Promise, map_: AccessMap, admitted: int, subjects: int
) -> Broken | None:
    """Who of these lacks a right at a place, in state ``yes``, by every location that leads there,
    or sees none of it.
    """
    says = promise.says
    of_folder = isinstance(says.place, Place)
    lacking: dict[int, tuple[str, str]] = {}
    seen: dict[str, int] = {}
    itself = 0
    left = subjects

    def note(some: int, where: str, right: str) -> None:
        nonlocal left
        for bit in bits_in(some & left):
            lacking[bit] = (where, right)
        left &= ~some

    first = RIGHTS[INDICES[says.rights][0]]
    for ways in _ways_to_places(_places(prepared, map_, says, left), of_folder):
        members = reduce(or_, (at.cell.members for at in ways))
        # At a store folder each place has to be seen by everybody; at a virtual location, any, and
        # itself if it is a place.
        key = ways[0].cell.path if of_folder else ""
        seen[key] = seen.get(key, 0) | members
        if not of_folder and not ways[0].unrecorded and ways[0].cell.location == says.place:
            itself |= members
        for r in INDICES[says.rights]:
            having = reduce(or_, (at.cell.members & at.plain[r] & at.owning[r] for at in ways))
            lacks = members & ~(having & admitted)
            for at in ways if lacks & left else ():
                note(lacks & at.cell.members, at.where, RIGHTS[r])
    if isinstance(says.place, Place):
        # What lies below a folder that somebody sees is seen, too: only the folders themselves need
        # be asked about.
        for path in _under(prepared, map_, says.place, says.reach):
            if not left:
                break
            if _speaks_of(says, path):
                note(
                    ~seen.get(path, 0) & subjects,
                    f"{Place(says.place.store, path)}, which it does not see",
                    first,
                )
    else:
        unseen = ~itself if says.reach in ("here", "tree") else ~seen.get("", 0)
        note(unseen & subjects, f"{says.place}, which it does not see", first)
    if not lacking:
        return None
    names = {bit: prepared.model.accounts[bit].name for bit in sorted(lacking)}
    breaches = tuple(
        Breach(names[bit], where, right, f"it lacks {right}")
        for bit, (where, right) in sorted(lacking.items())[:NAMED]
    )
    return Broken(promise, tuple(names.values()), breaches)


def _ways_to_places(places: Iterator[_At], of_folder: bool) -> Iterator[list[_At]]:
    """The same by place: all ways that lead to one.

    A virtual location is a place of its own for each who has it.
    """
    if not of_folder:
        yield from ([at] for at in places)
        return
    for _, some in groupby(places, lambda at: at.cell.path):
        ways: dict[int, list[_At]] = {}
        for at in some:
            ways.setdefault(at.unrecorded, []).append(at)
        yield from ways.values()


# --- places -------------------------------------------------------------------------------------

_DEPTHS = {"tree": (0, 10**9), "here": (0, 0), "below": (1, 10**9), "children": (1, 1)}


def _reaches(reach: str, levels: int) -> bool:
    low, high = _DEPTHS[reach]
    return low <= levels <= high


def _places(prepared: Prepared, map_: AccessMap, says: Says, among: int) -> Iterator[_At]:
    """The access at every place that a promise speaks of, location by location; at least all that
    is to do with `among`.
    """
    if isinstance(says.place, str):
        yield from _synthetic(map_, says)
        map_ = map_.of_paths(
            path
            for path in map_.division.by_path
            if rest_below(path, says.place) is not None or rest_below(says.place, path) is not None
        )
    cells = map_.cells(_folders(prepared, map_, says, among))
    low, high = _DEPTHS[says.reach]
    for cell in cells:
        segment = cell.segment
        if segment is None:
            continue
        if isinstance(says.place, Place):
            rest = rest_below(cell.path, says.place.path)
        else:
            rest = rest_below(cell.location, says.place)
            # Where a virtual path of others begins at a folder that nobody recorded, it is no place
            # of these. For a store folder the places are the same for everybody, so whose virtual
            # path it is does not count.
            begins = not rest or cell.location == segment.path
            if not begins and prepared.stores[segment.place.store].folder(cell.path) is None:
                continue
        if rest is None:
            continue
        levels = rest.count("/")
        if low <= levels <= high:
            yield _At(cell, 0, cell.plain, cell.owning)
        for distance in (1, 2):
            if low <= levels + distance <= high:
                yield _At(cell, distance, *cell.below(distance))


def _folders(prepared: Prepared, map_: AccessMap, says: Says, among: int) -> dict[str, list[str]]:
    """By store, the folders whose cells have to be looked at, as some accounts see them."""
    if isinstance(says.place, Place):
        return {says.place.store: _under(prepared, map_, says.place, says.reach)}
    found: dict[str, set[str]] = {}
    deepest = _DEPTHS[says.reach][1]
    tops: set[tuple[Place, str]] = set()
    for path, every in map_.division.by_path.items():
        below, rest = rest_below(path, says.place), rest_below(says.place, path)
        segments = [s for s in every if s.members & among]
        if below is not None:  # they begin at the location or below it
            levels = depth(below) if below else 0
            if levels <= deepest:
                tops.update(
                    (s.place, "here" if levels == deepest else says.reach) for s in segments
                )
        elif rest:  # they hold the location
            tops.update(
                (Place(s.place.store, join(s.place.path, rest)), says.reach) for s in segments
            )
    for top, reach in tops:
        found.setdefault(top.store, set()).update(
            _under(prepared, map_, top, "tree" if reach == "below" else reach)
        )
    return {store: sorted(paths) for store, paths in found.items()}


def _under(prepared: Prepared, map_: AccessMap, top: Place, reach: str) -> list[str]:
    """A folder, and what is recorded below it or begins a virtual path there, as far as the reach
    goes.
    """
    ready = prepared.stores.get(top.store)
    if ready is None:
        return []
    paths = {top.path}
    if reach != "here":
        paths.update(f.path for f in ready.recorded_below(top.path))
        paths.update(map_.division.unrecorded_below(top))
    if reach == "children":
        paths = {p for p in paths if depth(p) <= depth(top.path) + 1}
    return sorted(paths)


def _speaks_of(says: Says, path: str) -> bool:
    """Is a folder, or one that is not recorded in it, as far as the reach of a promise about a
    store folder goes?
    """
    assert isinstance(says.place, Place)
    levels = depth(path) - depth(says.place.path)
    return any(_reaches(says.reach, levels + distance) for distance in (0, 1, 2))


def _synthetic(map_: AccessMap, says: Says) -> Iterator[_At]:
    assert isinstance(says.place, str)
    for cell in map_.synthetic():
        rest = rest_below(cell.location, says.place)
        if rest is not None and _reaches(says.reach, depth(rest) if rest else 0):
            yield _At(cell, 0, cell.plain, cell.owning)


# --- people, endpoints, lines -------------------------------------------------------------------


def _members(prepared: Prepared, subjects: tuple[Subject, ...]) -> int:
    bits = access_of_all(prepared).division.bits
    found = 0
    for subject in subjects:
        found |= bits.get(prepared.people.number(subject), 0)
    return found


def _map(prepared: Prepared, says: Says) -> tuple[AccessMap, int]:
    """The map, through the promise's endpoint, and whom that admits by its lists, if it is there
    and starts.
    """
    everybody = (1 << len(prepared.model.accounts)) - 1
    if says.endpoint is None:
        return access_of_all(prepared), everybody
    endpoint: Endpoint | None = prepared.endpoints.get(fold(says.endpoint))
    if endpoint is None or not endpoint.enabled or endpoint.name in prepared.stopped_by:
        return access_of_all(prepared), 0
    admitted = everybody if endpoint.only is None else _members(prepared, endpoint.only)
    return access_of_all(prepared, endpoint), admitted & ~_members(prepared, endpoint.never)


def _breach(prepared: Prepared, bit: int, at: _At, r: int) -> Breach:
    """Who, where, and the line that lets it."""
    account, right = prepared.people.prepared(bit), RIGHTS[r]
    place = at.cell.place
    if place is None:
        return Breach(account.name, at.where, right, f"it can {right}: its virtual paths lie below")
    own = None if right not in FILE_RIGHTS else not at.plain[r] >> bit & 1
    path = place.path + f"/{UNRECORDED}" * at.unrecorded
    why = judge(prepared.stores[place.store], path.replace("//", "/"), right, account, own)
    line = (
        f"`{why.decided_by}` on {why.decided_at} lets it {right}"
        if why.decided_by
        else f"nothing refuses {right}"
    )
    return Breach(account.name, at.where, right, line)
