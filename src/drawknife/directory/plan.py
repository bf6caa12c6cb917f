"""What a sync makes of the model: a pure function of the model and of what the directory has.

Leavers are switched off, not removed. A name that exists here already is left alone, unless it is
handed over (`adopt`). Who is renamed there is renamed here, with all that names them; a name that
somebody else has there now is not taken for the one before. Groups and units that the directory has
no more are removed; what still names them is kept, and matches nobody.
"""

from __future__ import annotations

from collections.abc import Collection, Container, Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from drawknife.core.model.edits import checked, refuse
from drawknife.core.model.items import Account, Group, Member, Model, Subject, UnitFacts
from drawknife.core.model.removal import lines_naming
from drawknife.core.model.units import unit_facts
from drawknife.core.words.names import fold
from drawknife.core.words.sizes import number_of

from .following import follow
from .following_units import follow_units
from .losses import check_losses
from .reading import DirectoryContents, Person
from .sync_notes import Notes

#: More than these are counted, not named.
NAMED = 20


@dataclass(slots=True)
class SyncPlan:
    """The model as it would be, and what is different in it, by kind of change."""

    model: Model
    changes: dict[str, list[str]] = field(default_factory=dict)
    left_alone: list[str] = field(default_factory=list)
    notes: Notes = field(default_factory=Notes)
    #: (kind, old name, new name), in this order.
    renames: list[tuple[str, str, str]] = field(default_factory=list)
    #: The accounts whose people, and the groups that, are there no more.
    leavers: list[str] = field(default_factory=list)
    gone: list[str] = field(default_factory=list)
    units_gone: list[str] = field(default_factory=list)

    def note(self, what: str, name: str) -> None:
        self.changes.setdefault(what, []).append(name)


def plan(
    model: Model,
    directory: str,
    found: DirectoryContents,
    most_leavers: int,
    adopt: Collection[Subject] = (),
) -> SyncPlan:
    """What taking over `found` makes of `model`; :class:`TooFew` if too much would go (per cent).

    `adopt` are accounts and groups that are this directory's from now on, if it has them.
    """
    made = SyncPlan(model)
    before, model = model, _adopted(model, directory, found, adopt, made)
    followed = follow_units(model, directory, found, made.notes)
    made.renames += [("unit", old, new) for old, new in followed.renames]
    model = follow(followed.model, directory, found, made.renames, made.notes)
    for kind, old, new in made.renames:
        made.note(f"{kind}s renamed", f"{old} → {new}")
    for path in followed.added:
        made.note("units added", path)
    for path in followed.removed:
        _note_removed(made, path)
    made.left_alone += followed.left_alone
    unit_name = followed.here
    units, facts = _units(model, directory, found, unit_name, made)
    accounts, theirs = _accounts(model, directory, found, unit_name, units, made)
    groups = _groups(model, directory, found, theirs, unit_name, made)
    after = replace(
        model,
        accounts=tuple(accounts),
        groups=tuple(groups),
        units=tuple(units),
        unit_facts=unit_facts(facts),
    )
    made.model = checked(replace(after, gone=_gone(model, after)), before)
    if made.changes:
        check_losses(model, made.model, directory, made, most_leavers)
    return made


def _adopted(
    model: Model,
    directory: str,
    found: DirectoryContents,
    adopt: Collection[Subject],
    made: SyncPlan,
) -> Model:
    """The model with what is handed over to the directory; what it is known by there is
    said anew.
    """
    if not adopt:
        return model
    keys = {s.key for s in adopt}
    has = {Subject("account", p.name).key for p in found.people.values()} | {
        Subject("group", g).key for g in found.groups
    }
    missing = sorted(s for s in adopt if s.key not in has)
    if missing:
        raise refuse(
            f"the directory has no {missing[0]}", "what it has: `directory try` shows some of it"
        )

    def taken(kind: str, item: Any, there: Collection[str]) -> Any:
        subject = Subject(kind, item.name)
        if subject.key not in keys or fold(item.name) not in there:
            return item
        made.note(f"{kind}s adopted", item.name)
        return replace(item, source=directory, source_id=None)

    return replace(
        model,
        accounts=tuple(taken("account", a, found.people) for a in model.accounts),
        groups=tuple(taken("group", g, found.groups) for g in model.groups),
    )


def _units(
    model: Model,
    directory: str,
    found: DirectoryContents,
    unit_name: dict[str, str],
    made: SyncPlan,
) -> tuple[list[str], list[UnitFacts]]:
    """The units as they will be, and what is known of them; `unit_name` has those of the directory
    that are taken over.
    """
    known = model.facts_of_units()
    facts = {fold(u): known.get(u, UnitFacts(u)) for u in model.units}
    ids = {fold(path): found.unit_ids.get(there) for there, path in unit_name.items()}
    kept: list[UnitFacts] = []
    for path in unit_name.values():
        was = facts.get(fold(path))
        source_id = ids[fold(path)] or (was.source_id if was else None)
        kept.append(UnitFacts(path, directory, source_id, was.note if was else None))
    for key, was in facts.items():
        if key in ids:
            continue
        if was.source == directory:
            inside = _inside(model, directory, was.path)
            if inside is None:
                _note_removed(made, was.path)
                continue
            made.notes.say(
                "unit-made-local",
                f"unit {was.path} was removed from the directory and is local now, because {inside}"
                " is in it",
            )
            made.note("units made local", was.path)
            was = UnitFacts(was.path, note=was.note)
        kept.append(was)
    return [x.path for x in kept], kept


def _note_removed(made: SyncPlan, unit: str) -> None:
    made.note("units removed", unit)
    made.units_gone.append(unit)


def _inside(model: Model, directory: str, unit: str) -> str | None:
    """An account or a unit that is in a unit of the directory, and not the directory's."""
    known = model.facts_of_units()
    inside = [
        a.name
        for a in model.accounts
        if a.unit and a.source != directory and _is_under(a.unit, unit)
    ]
    below = (
        u
        for u in model.units
        if known.get(u, UnitFacts(u)).source != directory and _is_under(u, unit)
    )
    return next(iter(inside), None) or next(below, None)


def _is_under(unit: str, top: str) -> bool:
    return fold(unit) == fold(top) or fold(unit).startswith(fold(top) + "/")


def _accounts(
    model: Model,
    directory: str,
    found: DirectoryContents,
    unit_name: dict[str, str],
    units: list[str],
    made: SyncPlan,
) -> tuple[list[Account], dict[str, str]]:
    """The accounts as they will be; and the directory's own ones: what they are called there,
    folded, and here.
    """
    stores = {fold(s.name): s.name for s in model.stores}
    known = set(map(fold, units))
    by_id = {p.id: p for p in found.people.values() if p.id is not None}
    accounts: list[Account] = []
    there: set[str] = set()
    theirs: dict[str, str] = {}
    for account in model.accounts:
        key = fold(account.name)
        there.add(key)
        if account.source != directory:
            if key in found.people:
                made.left_alone.append(f"account {account.name}")
                _note_other_source(made, "account", account)
            accounts.append(account)
            continue
        person = by_id.get(account.source_id or "") or _same(account, found.people.get(key), made)
        if person is None:
            unit = account.unit if account.unit and fold(account.unit) in known else None
            after = replace(account, enabled=False, unit=unit)
            if account.enabled:
                made.note("accounts switched off", account.name)
                made.leavers.append(account.name)
        else:
            theirs[fold(person.name)] = account.name
            there.add(fold(person.name))
            after = _as_in(account, person, unit_name, stores)
            if account.enabled != after.enabled:
                made.note(
                    f"accounts switched {'on again' if after.enabled else 'off'}", account.name
                )
            elif after != account:
                made.note("accounts changed", account.name)
        accounts.append(after if after != account else account)
    for key, person in found.people.items():
        if key not in there:
            new = Account(person.name, methods=("directory",), source=directory)
            accounts.append(_as_in(new, person, unit_name, stores))
            theirs[key] = person.name
            made.note("accounts added", person.name)
    return accounts, theirs


def _note_other_source(made: SyncPlan, kind: str, item: Account | Group) -> None:
    if item.source != "local":
        made.notes.say(
            "another-directory",
            f"{kind} {item.name} already exists from directory {item.source}. Set a suffix for one"
            " of the two directories to have both",
        )


def _same(account: Account, named: Person | None, made: SyncPlan) -> Person | None:
    """Who has the account's name in the directory, unless that is known there to be somebody else
    now.
    """
    if named is None or account.source_id is None or named.id in (None, account.source_id):
        return named
    made.notes.say(
        "another-one",
        f"account {account.name} stays switched off: its name belongs to a different entry in the"
        f" directory now. If both are the same person, run `drawknife sync {account.source} --adopt"
        f" account:{account.name}`; otherwise rename the account",
    )
    return None


def _as_in(
    account: Account, person: Person, unit_name: dict[str, str], stores: dict[str, str]
) -> Account:
    """An account with what its directory says of it. Its expiry and its own keys are said here."""
    home = person.home if person.home and fold(person.home.store) in stores else None
    if home is not None:
        home = home._replace(store=stores[fold(home.store)])
    methods = tuple(sorted({"directory", *(m for m in account.methods if m == "key")}))
    unit = unit_name.get(fold(person.unit)) if person.unit else None
    return replace(
        account,
        display=person.display,
        mail=person.mail,
        unit=unit,
        home=home,
        enabled=person.enabled,
        methods=methods,
        source_id=person.id or account.source_id,
    )


def _known_groups(
    found: DirectoryContents, was: Mapping[str, Group], others: Container[str]
) -> dict[str, Group]:
    """The groups of a directory that are here already, by their names there: by identity first."""
    by_id = {g.source_id: g for g in was.values() if g.source_id is not None}
    known: dict[str, Group] = {}
    for key in map(fold, found.groups):
        group = by_id.get(found.group_ids.get(key, ""))
        if group is None and key not in others:
            group = was.get(key)
        if group is not None:
            known[key] = group
    return known


def _spelled(name: str, before: Group | None) -> str:
    """The name of a group here: a known one keeps its own, but for upper and lower case."""
    return name if before is None or fold(before.name) == fold(name) else before.name


def _groups(
    model: Model,
    directory: str,
    found: DirectoryContents,
    theirs: dict[str, str],
    unit_name: dict[str, str],
    made: SyncPlan,
) -> list[Group]:
    others = {fold(g.name): g for g in model.groups if g.source != directory}
    was = {fold(g.name): g for g in model.groups if g.source == directory}
    for name in sorted(found.groups):
        if (other := others.get(fold(name))) is not None:
            made.left_alone.append(f"group {name}")
            _note_other_source(made, "group", other)
    known = _known_groups(found, was, others)
    #: What each is called here, by what it is called there.
    spelled = {
        fold(name): _spelled(name, known.get(fold(name)))
        for name in found.groups
        if fold(name) in known or fold(name) not in others
    }
    dropped = 0

    def member(subject: Subject) -> Subject | None:
        key = fold(subject.name)
        table = {"account": theirs, "group": spelled, "unit": unit_name}[subject.kind]
        return Subject(subject.kind, table[key]) if key in table else None

    groups: list[Group] = list(others.values())
    for name, members in found.groups.items():
        key = fold(name)
        if key not in spelled:
            continue
        mine = [m for m in map(member, members) if m is not None]
        dropped += len(members) - len(mine)
        before = known.get(key)
        as_new = before or Group(name, source=directory)
        group = replace(
            as_new,
            name=spelled[key],
            members=tuple(sorted(map(Member, mine))),
            source_id=found.group_ids.get(key) or as_new.source_id,
        )
        if before is None:
            made.note("groups added", group.name)
        elif before != group:
            made.note("groups changed", group.name)
        groups.append(group if before != group or before is None else before)
    stay = {fold(name) for name in spelled.values()}
    for key, group in was.items():
        if key not in stay:
            made.note("groups removed", group.name)
            made.gone.append(group.name)
    if dropped:
        made.notes.say(
            "members-left-out",
            f"{number_of(dropped, 'member')} of groups skipped: the account or group of that name"
            " here is not from this directory",
        )
    return groups


def _gone(before: Model, after: Model) -> tuple[Subject, ...]:
    """The subjects that are there no more, and that something still names."""
    there = {Subject("group", g.name).key for g in after.groups} | {
        Subject("unit", u).key for u in after.units
    }
    missing: Iterable[Subject] = {
        *before.gone,
        *(Subject("group", g.name) for g in before.groups),
        *(Subject("unit", u) for u in before.units),
    }
    missing = {s for s in missing if s.key not in there}
    if not missing:
        return ()
    return tuple(sorted({subject for subject, _ in lines_naming(after, missing)}))
