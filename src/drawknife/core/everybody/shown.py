"""The part of a model that an area shows: what somebody whose reading is bounded by it is answered
from.

Accounts of the area are in it with all that counts for them, wherever it is, so that every decision
about them is the same as in the whole. Of its stores, folders, units and groups all is in it. Of
everything else there are the names that stand in these lines, as subjects that match nobody
(docs/rules.md, "Areas").
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from datetime import date
from typing import Any

from ..limits.usage import every_limit
from ..model.areas import Area
from ..model.items import (
    NAMED,
    DiskReading,
    Endpoint,
    Entry,
    Folder,
    Group,
    Model,
    Promise,
    Quota,
    Setting,
    Store,
    Subject,
    VirtualPath,
)
from ..model.kinds import FOLDER, SECTIONS, Kind
from ..model.standing import units_of
from ..model.units import unit_facts
from ..prepared.namespace import expand
from ..prepared.people import bits_of
from ..prepared.prepared import Prepared
from ..words.names import BadValue, Place, ancestors, depth, fold, rest_below
from .access_map import AccessMap

#: The sections of a model that are about everybody, and name nobody.
_OF_EVERYBODY = ("lockouts", "inside", "openings", "forwardings")


def shown(full: Prepared, area: Area, day: date) -> Model:
    """Return the part of a model that an area shows on a day, in canonical form.

    Lines that have ended by then are in it, as they are written.
    """
    model, people = full.model, _Inside(full, area)
    places = _Places(full, day, area, people)
    part = Model(
        units=tuple(
            u for u in model.units if area.holds_unit(u) or Subject("unit", u) in people.subjects
        ),
        accounts=tuple(people.accounts),
        groups=tuple(_groups(model, area, people)),
        stores=tuple(places.stores()),
        virtual_paths=tuple(_virtual_paths(model, area, people)),
        endpoints=tuple(_endpoints(full, people)),
        settings=tuple(_settings(model, area, people)),
        quotas=tuple(_quotas(model, area, people, places)),
        usage=tuple(u for u in model.usage if people.owns(u.owner) or area.holds_place(u.folder)),
        disk_readings=tuple(places.readings()),
        **{section: getattr(model, section) for section in _OF_EVERYBODY},
    )
    part = replace(
        part,
        unit_facts=unit_facts(
            x._replace(source_id=None, note=x.note if area.holds_unit(x.path) else None)
            for x in model.unit_facts
            if x.path in part.units
        ),
        promises=tuple(p for p in model.promises if _is_of_these(p, part, full, people)),
        trials=tuple(
            t for t in model.trials if people.owns(t.account) and _starts_at(t.endpoint, part)
        ),
    )
    part = replace(part, gone=tuple(sorted(_only_named(part))))
    return replace(part, beside=_beside(full, part, day))


def part_shown(full: Prepared, area: Area, day: date) -> Prepared:
    """The same, made ready, and kept with the whole."""
    key = f"shown:{day}:{area}"
    found = full.derived.get(key)
    if not isinstance(found, Prepared):
        found = full.derived[key] = Prepared(shown(full, area, day))
    return found


# --- who ----------------------------------------------------------------------------------------


class _Inside:
    """The accounts of an area, and whoever owns what they upload; with all that they count as."""

    def __init__(self, full: Prepared, area: Area) -> None:
        self.full = full
        found = {i for i, account in enumerate(full.model.accounts) if area.holds_account(account)}
        while True:
            self.indices = sorted(found)
            numbers = {sid for i in found for sid in full.people.prepared(i).ranks}
            self.subjects = frozenset(full.people.subjects[sid] for sid in numbers)
            owners = {
                dict(s.values).get("uploads_owner")
                for s in full.model.settings
                if s.subject in self.subjects
            }
            more = {full.people.index[name] for name in owners if name in full.people.index} - found
            if not more:
                break
            found |= more
        self.accounts = [full.model.accounts[i] for i in self.indices]
        self.names = frozenset(a.name for a in self.accounts)

    def owns(self, name: str | None) -> bool:
        return name is not None and name in self.names

    def concern(self, lines: Iterable[Any]) -> Iterator[Any]:
        """Those of some lines that match an account of the area."""
        return (line for line in lines if line.subject in self.subjects)


def _groups(model: Model, area: Area, people: _Inside) -> Iterator[Group]:
    there = {
        g.name
        for g in model.groups
        if fold(g.name) in area.groups or Subject("group", g.name) in people.subjects
    }
    for group in model.groups:
        if fold(group.name) in area.groups:
            yield group
        elif group.name in there:
            members = tuple(m for m in group.members if _is_there(m.subject, there, area, people))
            yield replace(group, members=members, note=None, source_id=None)


def _is_there(member: Subject, groups: set[str], area: Area, people: _Inside) -> bool:
    if member.kind == "group":
        return member.name in groups
    return member in people.subjects or (member.kind == "unit" and area.holds_unit(member.name))


def _settings(model: Model, area: Area, people: _Inside) -> Iterator[Setting]:
    for setting in model.settings:
        if _is_of_area(setting.subject, area, people):
            yield setting
        elif setting.subject in people.subjects:
            yield replace(setting, note=None)


def _is_of_area(subject: Subject, area: Area, people: _Inside) -> bool:
    match subject.kind:
        case "unit":
            return area.holds_unit(subject.name)
        case "group":
            return fold(subject.name) in area.groups
    return people.owns(subject.name)


# --- where --------------------------------------------------------------------------------------


class _Within:
    """Some places of one store: what lies in them, and what lies above them."""

    def __init__(self, paths: Iterable[str]) -> None:
        self.tops = frozenset(paths)
        self.above = frozenset(up for top in self.tops for up in ancestors(top)) - self.tops

    def holds(self, path: str) -> bool:
        return any(up in self.tops for up in ancestors(path))

    def meets(self, path: str) -> bool:
        """Does it lie in one of the places, or above one?"""
        return path in self.above or self.holds(path)


class _Places:
    """The stores that the area or its accounts have to do with."""

    def __init__(self, full: Prepared, day: date, area: Area, people: _Inside) -> None:
        self._days = (full,) if full.on(day) is full else (full, full.on(day))
        self._model, self._area, self._people = full.model, area, people
        led: dict[str, set[str]] = {}
        for place in _led_to(self._model.virtual_paths, people):
            led.setdefault(place.store, set()).add(place.path)
        of_area: dict[str, set[str]] = {}
        spelled = {fold(s.name): s.name for s in self._model.stores}
        for place in area.places:
            of_area.setdefault(spelled.get(fold(place.store), place.store), set()).add(place.path)
        self._led = {store: _Within(paths) for store, paths in led.items()}
        self._own = {store: _Within(paths) for store, paths in of_area.items()}
        homes = {a.home.store for a in people.accounts if a.home is not None}
        own_usage = {u.folder.store for u in self._model.usage if people.owns(u.owner)}
        targets = {v.leads_to.partition(":")[0] for v in _virtual_paths(self._model, area, people)}
        wanted = {*self._led, *self._own, *homes, *own_usage, *targets}
        #: The names of the stores that are there.
        self.known = frozenset(s.name for s in self._model.stores if s.name in wanted)
        self._reached = self._with_rights()

    def meets(self, place: Place) -> bool:
        """Does a folder lie in the area or where its accounts are led, or above?"""
        return any(
            within[place.store].meets(place.path)
            for within in (self._own, self._led)
            if place.store in within
        )

    def stores(self) -> Iterator[Store]:
        for store in self._model.stores:
            if store.name in self.known:
                folders = tuple(
                    f for each in store.folders if (f := self._folder(store.name, each)) is not None
                )
                note = store.note if self._area.holds_place(Place(store.name, "/")) else None
                yield replace(store, folders=folders, note=note)

    def _folder(self, store: str, folder: Folder) -> Folder | None:
        """What is shown of a recorded folder; None: nothing."""
        own, led = self._own.get(store), self._led.get(store)
        if own is not None and own.holds(folder.path):
            return folder
        above = own is not None and folder.path in own.above
        concerns = led is not None and led.meets(folder.path)
        if not above and not concerns:
            return None
        entries = tuple(
            e for e in folder.entries if self._counts(e, folder.path, own if above else None)
        )
        owner = folder.owner if self._people.owns(folder.owner) else None
        if (
            not entries
            and not folder.sealed
            and owner is None
            and Place(store, folder.path) not in self._reached
        ):
            return None
        return Folder(folder.path, owner, folder.sealed, entries)

    def _counts(self, entry: Entry, path: str, own: _Within | None) -> bool:
        """Does an entry count for an account of the area, or come down to a folder of it?"""
        if entry.subject in self._people.subjects or entry.subject.kind == "owner":
            return True
        if own is None or entry.reach == "here":
            return False
        return entry.reach != "children" or any(
            rest_below(top, path) is not None and depth(top) == depth(path) + 1 for top in own.tops
        )

    def _with_rights(self) -> set[Place]:
        """The folders, recorded or read of a disk, where an account of the area can do anything."""
        wanted = {
            s.name: [f.path for f in s.folders] + [f.path for f in self._on_disk(s.name)]
            for s in self._model.stores
            if s.name in self._led
        }
        found = set()
        for prepared in self._days:
            for cell in AccessMap(prepared, self._people.indices).cells(wanted):
                if cell.place is not None and any((*cell.plain, *cell.owning)):
                    found.add(cell.place)
        return found

    def _on_disk(self, store: str) -> Iterator[Any]:
        for reading in self._model.disk_readings:
            if reading.store == store:
                yield from reading.folders
                yield from reading.files

    def readings(self) -> Iterator[DiskReading]:
        """What was read of disks, as far as it counts for the accounts of the area or
        lies in it.
        """
        takes_on = self._taken_on()
        for reading in self._model.disk_readings:
            if reading.store in self.known:
                users = tuple(u for u in reading.users if u.name in takes_on)
                numbers = {number for u in users for number in (u.gid, *u.groups)}

                def is_shown(path: str, store: str = reading.store) -> bool:
                    place = Place(store, path)
                    own = self._own.get(store)
                    return (
                        path == "/"
                        or place in self._reached
                        or (own is not None and own.meets(path))
                    )

                yield replace(
                    reading,
                    folders=tuple(f for f in reading.folders if is_shown(f.path)),
                    files=tuple(f for f in reading.files if is_shown(f.path)),
                    users=users,
                    groups=tuple(g for g in reading.groups if g.gid in numbers),
                    notes=(),
                )

    def _taken_on(self) -> set[str]:
        """The users of the machine that the accounts of the area act as."""
        names = {dict(s.values).get("acts_as") for s in self._people.concern(self._model.settings)}
        return {
            name.replace("{account}", account)
            for name in names
            if name is not None
            for account in self._people.names
        }


def _led_to(paths: Iterable[VirtualPath], people: _Inside) -> Iterator[Place]:
    """Where virtual paths lead accounts of the area, whichever of them is chosen."""
    for path in paths:
        subjects = {g.subject for g in path.grants} & people.subjects
        if not subjects:
            continue
        if "{" not in path.leads_to:
            store, _, folder = path.leads_to.partition(":")
            yield Place(store, folder)
            continue
        for account in people.accounts:
            try:
                yield expand(path, account)
            except BadValue:
                continue


def _virtual_paths(model: Model, area: Area, people: _Inside) -> Iterator[VirtualPath]:
    for path in model.virtual_paths:
        if area.holds_item("virtual_paths", path.path, path, {}):
            yield path
        elif grants := tuple(people.concern(path.grants)):
            yield replace(path, grants=grants, note=None)


def _endpoints(full: Prepared, people: _Inside) -> Iterator[Endpoint]:
    """Those at which an account of the area is named, and whatever keeps these from starting."""
    model = full.model
    there = {e.name for e in model.endpoints if any(people.concern(e.entries))}
    while (
        more := {full.stopped_by[name].winner for name in there if name in full.stopped_by} - there
    ):
        there |= more
    for endpoint in model.endpoints:
        if endpoint.name in there:
            only = (
                None
                if endpoint.only is None
                else tuple(s for s in endpoint.only if s in people.subjects)
            )
            yield replace(
                endpoint,
                entries=tuple(people.concern(endpoint.entries)),
                never=tuple(s for s in endpoint.never if s in people.subjects),
                only=only,
                note=None,
            )


# --- limits -------------------------------------------------------------------------------------


def _quotas(model: Model, area: Area, people: _Inside, places: _Places) -> Iterator[Quota]:
    accounts = {fold(a.name): a for a in people.accounts}
    for quota in model.quotas:
        if area.holds_item("quotas", quota.name, quota, accounts):
            yield quota
        elif quota.folder is not None:
            if quota.folder.store in places.known and places.meets(quota.folder):
                yield replace(quota, note=None)
        elif shared_by := tuple(s for s in quota.shared_by if s in people.subjects):
            yield replace(quota, shared_by=shared_by, note=None)


def _beside(full: Prepared, part: Model, day: date) -> tuple[tuple[str, str, int, int], ...]:
    """What counts against limits of the part and is not in its usage: kind and name of the limit,
    bytes, files.
    """
    whole = {(f.limit.kind, f.limit.name): f.limit for f in every_limit(full.on(day))}
    found = []
    for limit in (filled.limit for filled in every_limit(Prepared(part).on(day))):
        all_of_it = whole[limit.kind, limit.name]
        more = all_of_it.used_bytes - limit.used_bytes, all_of_it.used_files - limit.used_files
        if any(more):
            found.append((limit.kind, limit.name, *more))
    return tuple(found)


# --- what names somebody ------------------------------------------------------------------------


def _is_of_these(promise: Promise, part: Model, full: Prepared, people: _Inside) -> bool:
    """Is a promise about accounts of the area alone?

    Of one about others, too, nobody can tell here whether it is kept.
    """
    says = promise.says
    if says.quantifier == "only" or any(s.kind not in NAMED for s in says.subjects):
        return False
    if isinstance(says.place, Place) and says.place.store not in {s.name for s in part.stores}:
        return False
    names = {*(("unit", u) for u in part.units), *(("group", g.name) for g in part.groups)}
    if any(s.kind != "account" and (s.kind, s.name) not in names for s in says.subjects):
        return False
    if "members" not in full.people.derived:
        full.people.derived["members"] = full.people.members()
    members, inside = (
        full.people.derived["members"],
        bits_of(people.indices, len(full.model.accounts)),
    )
    meant = (members.get(full.people.number(s), 0) for s in says.subjects)
    return _starts_at(says.endpoint, part) and not any(some & ~inside for some in meant)


def _starts_at(endpoint: str | None, part: Model) -> bool:
    """Is it asked without an endpoint, or at one that is there?"""
    return endpoint is None or any(fold(e.name) == fold(endpoint) for e in part.endpoints)


def _only_named(part: Model) -> set[Subject]:
    """The subjects that something names, and that are not there themselves."""
    there = {Subject("account", a.name) for a in part.accounts} | {
        Subject("group", g.name) for g in part.groups
    }
    there |= {Subject("unit", path) for path in units_of(part).values()}
    named = {
        s
        for kind in SECTIONS.values()
        for item in getattr(part, kind.section)
        for s in _named_by(kind, item)
    }
    named |= {
        s for store in part.stores for folder in store.folders for s in _named_by(FOLDER, folder)
    }
    return {s for s in named if s.name} - there


def _named_by(kind: Kind, item: Any) -> Iterator[Subject]:
    for field, value in zip(kind.naming, kind.values_naming(item), strict=True):
        if not value:
            continue
        match field.names:
            case "line":
                yield from (line.subject for line in value)
            case "subject":
                yield from value if field.many else (value,)
            case "promise":
                yield from value.subjects
            case "account":
                yield Subject("account", value)
            case "steps":
                yield from (
                    Subject("account", step.owner) for step in value if step.owner is not None
                )
