"""What comes down from groups and units to those in them (docs/rules.md, "What comes down")."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from itertools import islice
from typing import NamedTuple

from ..everybody.division import bits_in
from ..model.items import Member, Model, Subject
from ..model.removal import Reference, lines_naming
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared, prepare
from ..prepared.settings import resolve
from ..words.names import fold, unit_ancestors
from .access_differences import AccessChange
from .consequences import SettingChange, access_lost, settings_of

#: More ways than this into one group are not told: in a dense net of groups there can be very many.
MANY_WAYS = 100


class Given(NamedTuple):
    """A line that reaches the members of a subject, and the chain from the subject to the one it
    names.
    """

    reference: Reference
    chain: tuple[Subject, ...]


def counts_as(prepared: Prepared, subject: Subject) -> dict[Subject, tuple[Subject, ...]]:
    """The groups and units that everybody in `subject` counts as, each with the shortest chain
    there.

    `subject` itself comes first. Built-in subjects are left out: everybody counts as those.
    """
    found: dict[Subject, tuple[Subject, ...]] = {subject: (subject,)}
    level = [subject]
    while level:
        reached = []
        for at in level:
            above = list(prepared.people.held.get(at, ()))
            if at.kind == "unit":
                above += [Subject("unit", path) for path in unit_ancestors(at.name)[1:2]]
            for up in above:
                if up not in found:
                    found[up] = (*found[at], up)
                    reached.append(up)
        level = reached
    return found


def gives(prepared: Prepared, subject: Subject) -> list[Given]:
    """Every line that comes to the members of a group or unit through it: grants, entries,
    settings, quotas.
    """
    chains = counts_as(prepared, subject)
    found = [
        Given(reference, chains[named])
        for named, reference in lines_naming(prepared.model, chains)
        if reference.kind != "group"
    ]
    order = ("virtual path", "folder", "endpoint", "setting", "quota")
    return sorted(found, key=lambda g: (order.index(g.reference.kind), len(g.chain)))


def members(prepared: Prepared, subject: Subject) -> list[int]:
    """The indices of all accounts that count as `subject`."""
    sets = prepared.derived.get("members")
    if not isinstance(sets, dict):
        sets = prepared.derived["members"] = prepared.people.members()
    return list(bits_in(sets.get(prepared.people.number(subject), 0)))


def ways(prepared: Prepared, account: PreparedAccount, group: Subject) -> list[tuple[Subject, ...]]:
    """Each way in which an account came to be in a group: chains of memberships, shortest first.

    No chain passes a subject twice; no more than MANY_WAYS are told.
    """
    held = prepared.people.held
    me = Subject("account", account.name)
    units = (
        [Subject("unit", path) for path in unit_ancestors(account.account.unit)]
        if account.account.unit
        else []
    )
    towards = _leading_to(prepared.model, group)

    def walk(chain: tuple[Subject, ...]) -> Iterator[tuple[Subject, ...]]:
        if chain[-1] == group:
            yield chain
            return
        for up in held.get(chain[-1], ()):
            if up in towards and up not in chain:
                yield from walk((*chain, up))

    starts: list[tuple[Subject, ...]] = [(me,), *((me, *units[: i + 1]) for i in range(len(units)))]
    found = [chain for start in starts for chain in islice(walk(start), MANY_WAYS)]
    return sorted(found, key=lambda c: (len(c), [fold(s.name) for s in c]))[:MANY_WAYS]


def _leading_to(model: Model, group: Subject) -> set[Subject]:
    """The groups from which a chain of memberships leads to `group`, itself included."""
    inside = {Subject("group", g.name): [x.subject for x in g.members] for g in model.groups}
    found, todo = {group}, [group]
    while todo:
        for member in inside.get(todo.pop(), ()):
            if member.kind == "group" and member not in found:
                found.add(member)
                todo.append(member)
    return found


class Loss(NamedTuple):
    """What an account would lose out of a group or unit: the lines that reach it no more, and what
    follows.
    """

    lines: tuple[Given, ...]
    access: tuple[AccessChange, ...]
    settings: tuple[SettingChange, ...]


def without(prepared: Prepared, subject: Subject, account: PreparedAccount) -> Loss:
    """What would be lost by taking one account out of a group or unit, however it came
    to be in it.
    """
    other = prepare(_taken_out(prepared, subject, account))
    after = other.account(account.name)
    assert after is not None
    remains = after.standing.ranks
    lines = tuple(g for g in gives(prepared, subject) if g.chain[-1] not in remains)
    return Loss(
        lines,
        access_lost(prepared, other, account.name),
        settings_of(prepared, other, account.name),
    )


def _taken_out(prepared: Prepared, subject: Subject, account: PreparedAccount) -> Model:
    model = prepared.model
    if subject.kind == "unit":
        accounts = tuple(
            replace(a, unit=None) if a.name == account.name else a for a in model.accounts
        )
        return replace(model, accounts=accounts)
    # Everybody else stays in the group, named one by one, so that no chain leads this one back.
    rest = tuple(
        Member(Subject("account", prepared.people.accounts[i].name))
        for i in members(prepared, subject)
        if i != account.index
    )
    groups = tuple(
        replace(g, members=tuple(sorted(rest))) if g.name == subject.name else g
        for g in model.groups
    )
    return replace(model, groups=groups)


class SettingReach(NamedTuple):
    """A setting of a group or unit: whom it really reaches, and who has something nearer, and from
    where.
    """

    name: str
    value: object
    reaches: tuple[str, ...]
    nearer: tuple[tuple[str, tuple[Subject, ...]], ...]


def setting_reach(prepared: Prepared, subject: Subject) -> list[SettingReach]:
    """For each setting of `subject`, which of its members it reaches, and which have something
    nearer.

    Where several are equally near, it reaches the account if its value is the one taken.
    """
    own = next((s for s in prepared.model.settings if s.subject == subject), None)
    out = []
    for name, value in own.values if own else ():
        reached, nearer = [], []
        for index in members(prepared, subject):
            account = prepared.people.prepared(index)
            came = resolve(prepared, account, name)
            if subject in came.subjects and (came.value == value or isinstance(value, tuple)):
                reached.append(account.name)
            else:
                nearer.append((account.name, tuple(s for s in came.subjects if s != subject)))
        out.append(SettingReach(name, value, tuple(reached), tuple(nearer)))
    return out
