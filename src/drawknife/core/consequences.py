"""What follows from a change: who gains and who loses which right where, settings, and findings.

Both models are gone through by the map, so the work does not grow with accounts times folders. Of
access, only accounts that are in both models are compared: that others come or go is the change itself.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from .access_map import OF_FILES, AccessMap
from .division import bits_in
from .findings import Finding, findings
from .model import Model
from .names import rest_below, tree_key
from .prepared import Prepared
from .rights import RIGHTS
from .settings import resolve_all
from .soundness import new_items

Sets = list[int]


class AccessChange(NamedTuple):
    """Some accounts gain and lose the same rights at some locations.

    A right that remains with fewer or more files (one's own, others') is in `narrowed` or `widened`.
    """

    accounts: tuple[str, ...]
    locations: tuple[str, ...]
    gained: tuple[str, ...]
    lost: tuple[str, ...]
    widened: tuple[str, ...]
    narrowed: tuple[str, ...]


class SettingChange(NamedTuple):
    """Some accounts have another value of a setting."""

    accounts: tuple[str, ...]
    name: str
    before: object
    after: object


class Consequences(NamedTuple):
    access: tuple[AccessChange, ...]
    settings: tuple[SettingChange, ...]
    new_findings: tuple[Finding, ...]
    mended: tuple[Finding, ...]


def consequences(before: Prepared, after: Prepared, only: Iterable[str] | None = None) -> Consequences:
    """What follows from having `after` in the place of `before`; `only` for these accounts, if given."""
    common = [a.name for a in before.model.accounts if a.name in after.people.index]
    if only is not None:
        wanted = set(only)
        common = [name for name in common if name in wanted]
    old_findings, new_findings = findings(before), findings(after)
    return Consequences(
        tuple(_access(before, after, common)),
        tuple(_settings(before, after, common)),
        tuple(f for f in new_findings if f not in old_findings),
        tuple(f for f in old_findings if f not in new_findings),
    )


def _access(before: Prepared, after: Prepared, names: list[str]) -> list[AccessChange]:
    if not names or _same_access(before, after):
        return []
    branches = _changed_branches(before, after)
    old, new = _rights_by_location(before, names, branches), _rights_by_location(after, names, branches)
    nothing = ([0] * len(RIGHTS), [0] * len(RIGHTS))
    found: dict[tuple[int, tuple[tuple[str, ...], ...]], list[str]] = {}
    for location in sorted({*old, *new}, key=tree_key):
        was, now = old.get(location, nothing), new.get(location, nothing)
        if was[0] == now[0] and was[1] == now[1]:
            continue
        for accounts, changes in _alike(was, now):
            found.setdefault((accounts, changes), []).append(location)
    return [
        AccessChange(tuple(names[bit] for bit in bits_in(accounts)), tuple(locations), *changes)
        for (accounts, changes), locations in found.items()
    ]


def _same_people(before: Model, after: Model) -> bool:
    """Does everybody count as the same, and have the same home?"""
    if before.groups != after.groups or before.units != after.units:
        return False
    if before.accounts is after.accounts:
        return True
    return [(a.name, a.kind, a.unit, a.home) for a in before.accounts] == [
        (a.name, a.kind, a.unit, a.home) for a in after.accounts
    ]


def _same_access(before: Prepared, after: Prepared) -> bool:
    """Is nothing different that access comes from?"""
    a, b = before.model, after.model
    return a.stores == b.stores and a.virtual_paths == b.virtual_paths and _same_people(a, b)


#: Where more folders differ, the whole map is compared.
FEW_FOLDERS = 100


def _changed_branches(before: Prepared, after: Prepared) -> dict[str, list[str]] | None:
    """Where only folders differ, and few: them, by store. What is not at or below one of them cannot differ."""
    a, b = before.model, after.model
    same_stores = [(s.name, s.baseline) for s in a.stores] == [(s.name, s.baseline) for s in b.stores]
    if a.virtual_paths != b.virtual_paths or not same_stores or not _same_people(a, b):
        return None
    found: dict[str, list[str]] = {}
    for old, new in zip(a.stores, b.stores, strict=True):
        paths = {f.path for _, f in new_items(old.folders, new.folders)} | {
            f.path for _, f in new_items(new.folders, old.folders)
        }
        if paths:
            found[old.name] = sorted(paths)
    return found if sum(map(len, found.values())) <= FEW_FOLDERS else None


def _wanted(prepared: Prepared, map_: AccessMap, branches: dict[str, list[str]]) -> dict[str, list[str]]:
    """The folders at and below the branches that have a location: recorded, or where a virtual path begins."""
    wanted: dict[str, list[str]] = {}
    for name, tops in branches.items():
        store = prepared.stores[name]
        paths: set[str] = set()
        for top in tops:
            start, stop = store.branch(top)
            paths.update(f.path for f in store.store.folders[start:stop])
            paths.update(p for p in map_.division.starting.get(name, ()) if rest_below(p, top) is not None)
        wanted[name] = sorted(paths)
    return {name: paths for name, paths in wanted.items() if paths}


def _rights_by_location(
    prepared: Prepared, names: list[str], branches: dict[str, list[str]] | None
) -> dict[str, tuple[Sets, Sets]]:
    """For each location, and each right, who has it on what is not its own, and on what is.

    `branches` restricts it to folders at and below these, by store.
    """
    map_ = AccessMap(prepared, [prepared.people.index[name] for name in names])
    found: dict[str, tuple[Sets, Sets]] = {}
    recorded = {name: {f.path for f in prepared.stores[name].store.folders} for name in branches or ()}
    for cell in map_.cells() if branches is None else map_.cells(_wanted(prepared, map_, branches)):
        segment = cell.segment
        begins = segment is None or cell.location == segment.path
        if (
            branches is not None
            and segment is not None
            and not begins
            and cell.path not in recorded[segment.place.store]
        ):
            continue  # a virtual path of others begins there: these have no location of their own
        if cell.members:
            plain, owning = cell.plain, cell.owning
            there = found.get(cell.location)
            if there is not None:
                plain = [a | b for a, b in zip(plain, there[0], strict=True)]
                owning = [a | b for a, b in zip(owning, there[1], strict=True)]
            found[cell.location] = (plain, owning)
    return found


def _alike(was: tuple[Sets, Sets], now: tuple[Sets, Sets]) -> list[tuple[int, tuple[tuple[str, ...], ...]]]:
    """The accounts for which something changes at a location, parted by what changes."""
    kinds: list[tuple[int, int, int]] = []  # accounts, which of the four lists, which right
    touched = 0
    for r in range(len(RIGHTS)):
        had, has = was[0][r] | was[1][r], now[0][r] | now[1][r]
        gained, lost = has & ~had, had & ~has
        wider = narrower = 0
        if r in OF_FILES:
            both = had & has
            wider = both & (now[0][r] & ~was[0][r] | now[1][r] & ~was[1][r])
            narrower = both & (was[0][r] & ~now[0][r] | was[1][r] & ~now[1][r])
        for which, accounts in enumerate((gained, lost, wider, narrower)):
            if accounts:
                kinds.append((accounts, which, r))
                touched |= accounts
    parts: list[tuple[int, tuple[tuple[str, ...], ...]]] = [(touched, ((), (), (), ()))] if touched else []
    for accounts, which, r in kinds:
        parted = []
        for members, changes in parts:
            if members & accounts:
                more = tuple((*c, RIGHTS[r]) if i == which else c for i, c in enumerate(changes))
                parted.append((members & accounts, more))
            if members & ~accounts:
                parted.append((members & ~accounts, changes))
        parts = parted
    return parts


def _settings(before: Prepared, after: Prepared, names: list[str]) -> list[SettingChange]:
    if before.people is after.people and before.model.settings is after.model.settings:
        return []
    found: dict[tuple[str, object, object], list[str]] = {}
    for name in names:
        a, b = before.account(name), after.account(name)
        assert a is not None and b is not None
        if not (before.settings.keys() & a.who or after.settings.keys() & b.who):
            continue
        for was, now in zip(resolve_all(before, a), resolve_all(after, b), strict=True):
            if was.value != now.value:
                found.setdefault((was.name, was.value, now.value), []).append(name)
    return [SettingChange(tuple(accounts), *key) for key, accounts in found.items()]
