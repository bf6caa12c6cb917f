"""Virtual paths: what an account sees, and where in the stores it is (docs/rules.md, "Virtual
paths").
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

from ..model.items import Account, VirtualPath
from ..model.placeholders import PLACEHOLDER, WHOLE_HOME
from ..model.standing import Rank
from ..words.names import BadValue, Place, ancestors, check_path, depth, join, parent


class Served(NamedTuple):
    """A virtual path as one account has it. `ceiling` is a set of rights."""

    path: str
    place: Place
    ceiling: int
    listing: str
    sources: tuple[VirtualPath, ...]


class Unserved(NamedTuple):
    """A virtual path that an account has a grant for and that is not served to it."""

    path: str
    reason: str  # ambiguous, or unusable
    text: str


class Location(NamedTuple):
    """A virtual location resolved: at `place` through `served`, or synthetic, or out of view."""

    location: str
    served: Served | None
    place: Place | None
    synthetic: bool
    unserved: Unserved | None


@dataclass(frozen=True, slots=True)
class Namespace:
    """What one account sees. `above` holds every location above a served virtual path.

    `deepest` is how many segments the longest path has, served or not."""

    served: dict[str, Served]
    unserved: dict[str, Unserved]
    above: frozenset[str]
    deepest: int

    def resolve(self, location: str) -> Location:
        """Where `location` is. Only the longest virtual path that is a prefix of it counts."""
        at = self.beginning(location)
        while True:
            served = self.served.get(at)
            if served is not None:
                rest = "" if at == location else location[len(at) :] if at != "/" else location
                return Location(
                    location,
                    served,
                    Place(served.place.store, join(served.place.path, rest)),
                    False,
                    None,
                )
            if at in self.unserved or at == "/":
                return Location(location, None, None, location in self.above, self.unserved.get(at))
            at = at[: at.rindex("/")] or "/"

    def beginning(self, location: str) -> str:
        """As much of `location` as a virtual path of this namespace could be, by its number of
        segments.
        """
        at = 0
        for _ in range(self.deepest):
            at = location.find("/", at + 1)
            if at < 0:
                return location
        return location[:at] or "/"

    def fixed(self, location: str) -> bool:
        """May the location not be deleted, renamed or replaced: a virtual path, or above one?"""
        return location in self.served or location in self.above


class Candidate(NamedTuple):
    """A virtual path with the numbers of its grants' subjects: ((sid, rights), ...).

    `fixed` is where it leads everybody; None where that has placeholders.
    """

    vpath: VirtualPath
    grants: tuple[tuple[int, int], ...]
    fixed: Place | None


class VirtualPaths:
    """All virtual paths, grouped by their path, and found by the subjects that their
    grants name.
    """

    def __init__(self, vpaths: tuple[VirtualPath, ...], number: Callable[..., int]) -> None:
        self.by_path: dict[str, list[Candidate]] = {}
        #: Where a path stands among all, and the subjects that are granted something at it.
        self._naming: dict[int, set[int]] = {}
        for v in vpaths:
            grants = tuple((number(g.subject), g.rights) for g in v.grants)
            store, _, path = v.leads_to.partition(":")
            fixed = None if "{" in v.leads_to else Place(store, path)
            self.by_path.setdefault(v.path, []).append(Candidate(v, grants, fixed))
        for at, candidates in enumerate(self.by_path.values()):
            for sid in {sid for c in candidates for sid, _ in c.grants}:
                self._naming.setdefault(sid, set()).add(at)
        self._paths = list(self.by_path)

    def granted(self, ranks: dict[int, Rank]) -> list[str]:
        """The paths, in their order, at which somebody is granted something who counts as these
        subjects.
        """
        found: set[int] = set()
        for sid in self._naming.keys() & ranks.keys():
            found |= self._naming[sid]
        return [self._paths[at] for at in sorted(found)]

    def only(self, path: str) -> VirtualPaths:
        """Those of one path."""
        some = VirtualPaths((), lambda _: -1)
        some.by_path = {path: self.by_path[path]}
        some._paths = [path]
        some._naming = {sid: {0} for c in self.by_path[path] for sid, _ in c.grants}
        return some


def expand(vpath: VirtualPath, account: Account) -> Place:
    """The folder that `vpath` leads this account to; :class:`BadValue` if it is unusable for it."""
    if vpath.leads_to == WHOLE_HOME:
        if account.home is None:
            raise BadValue(f"{{home}} has no value: account {account.name} has no home")
        return account.home
    store, _, path = vpath.leads_to.partition(":")
    if "{" not in path:
        return Place(store, path)
    unit = account.unit
    values = {"account": account.name, "unit": unit and unit.rpartition("/")[2], "unit-path": unit}
    for name in PLACEHOLDER.findall(path):
        if not values[name]:
            raise BadValue(f"{{{name}}} has no value: account {account.name} is in no unit")
    filled = PLACEHOLDER.sub(lambda found: str(values[found[1]]), path)
    return Place(store, check_path(filled))


def namespace_of(account: Account, ranks: dict[int, Rank], vpaths: VirtualPaths) -> Namespace:
    """The namespace of one account; `ranks` are those of the subjects that it counts
    as, by number.
    """
    served: dict[str, Served] = {}
    unserved: dict[str, Unserved] = {}
    for path in vpaths.granted(ranks):
        matching = vpaths.by_path[path]
        if len(matching) > 1:
            matching = [c for c in matching if any(sid in ranks for sid, _ in c.grants)]
        choice = _choose(path, matching, account, ranks)
        if isinstance(choice, Served):
            served[path] = choice
        else:
            unserved[path] = choice
    above = {up for at in {parent(path) for path in served if path != "/"} for up in ancestors(at)}
    deepest = max((depth(path) for path in (*served, *unserved)), default=0)
    return Namespace(served, unserved, frozenset(above), deepest)


def _choose(
    path: str, matching: list[Candidate], account: Account, ranks: dict[int, Rank]
) -> Served | Unserved:
    """Which folder `path` leads the account to, if to one."""
    if len(matching) == 1 and matching[0].fixed is not None:
        return _served(path, matching[0].fixed, matching, ranks)
    folders: dict[object, list[Candidate]] = {}
    troubles: dict[object, str] = {}
    for candidate in matching:
        try:
            key: object = candidate.fixed or expand(candidate.vpath, account)
        except BadValue as trouble:
            key = candidate  # as if it led to a folder of its own
            troubles[key] = str(trouble)
        folders.setdefault(key, []).append(candidate)
    chosen = next(iter(folders))
    if len(folders) > 1:
        nearest = {
            key: min(ranks[sid] for c in found for sid, _ in c.grants if sid in ranks)
            for key, found in folders.items()
        }
        best = min(nearest.values())
        nearest_ones = [key for key, rank in nearest.items() if rank == best]
        if len(nearest_ones) > 1:
            ways = sorted(
                key.vpath.leads_to if isinstance(key, Candidate) else str(key)
                for key in nearest_ones
            )
            return Unserved(
                path,
                "ambiguous",
                f"{path} leads to {' and '.join(ways)} by grants that are equally near",
            )
        chosen = nearest_ones[0]
    if chosen in troubles:
        return Unserved(path, "unusable", f"{path} cannot be used: {troubles[chosen]}")
    assert isinstance(chosen, Place)
    return _served(path, chosen, folders[chosen], ranks)


def _served(path: str, place: Place, candidates: list[Candidate], ranks: dict[int, Rank]) -> Served:
    ceiling = 0
    for candidate in candidates:
        for sid, rights in candidate.grants:
            if sid in ranks:
                ceiling |= rights
    sources = tuple(c.vpath for c in candidates)
    listing = "reachable" if any(v.listing == "reachable" for v in sources) else "all"
    return Served(path, place, ceiling, listing, sources)
