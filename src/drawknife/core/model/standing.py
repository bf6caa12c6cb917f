"""Standing: the set of subjects that an account counts as (docs/rules.md, "Who somebody is")."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import NamedTuple

from ..words.names import fold, unit_ancestors
from .items import Account, Group, Model, Subject


class Rank(NamedTuple):
    """How near a subject is to an account: (class, distance). Smaller is nearer."""

    cls: int
    distance: int


@dataclass(frozen=True, slots=True)
class Standing:
    """What one account counts as.

    `ranks` maps each subject to its rank; `via` maps each subject to the one before it on the chain
    that leads there, the account itself to None. Subjects are spelled as the model spells them.
    """

    account: Account
    ranks: dict[Subject, Rank]
    via: dict[Subject, Subject | None]

    def chain(self, subject: Subject) -> tuple[Subject, ...]:
        """The steps from the account to `subject`, both included."""
        steps: list[Subject] = []
        at: Subject | None = subject
        while at is not None:
            steps.append(at)
            at = self.via[at]
        return tuple(reversed(steps))


def groups_holding(groups: Iterable[Group]) -> dict[Subject, list[Subject]]:
    """For each member the groups that hold it directly, sorted by name.

    In canonical form, names are equal if written so.
    """
    held: dict[Subject, list[Subject]] = {}
    for group in groups:
        subject = Subject("group", group.name)
        for member in group.members:
            held.setdefault(member.subject, []).append(subject)
    for found in held.values():
        found.sort(key=lambda s: fold(s.name))
    return held


def standing(account: Account, held: Mapping[Subject, list[Subject]]) -> Standing:
    """The standing of `account`, where `held` is what :func:`groups_holding` gives.

    A unit that is a direct member of a group counts as the account being one. In a loop of groups
    (which a directory may bring) each group counts once, at its smallest distance.
    """
    me = Subject("account", account.name)
    ranks: dict[Subject, Rank] = {me: Rank(0, 0)}
    via: dict[Subject, Subject | None] = {me: None}
    own_units: list[Subject] = []
    if account.unit is not None:
        own_units = [Subject("unit", path) for path in unit_ancestors(account.unit)]
        before: Subject = me
        for step, unit in enumerate(own_units, 1):
            ranks[unit], via[unit] = Rank(2, step), before
            before = unit
    level: list[Subject] = [me, *own_units]
    distance = 0
    while level:
        distance += 1
        reached: list[Subject] = []
        rank = Rank(1, distance)
        for member in level:
            for group in held.get(member, ()):
                if group not in ranks:
                    ranks[group], via[group] = rank, member
                    reached.append(group)
        level = reached
    built_in = Subject("anonymous" if account.kind == "anonymous" else "signed-in")
    ranks[built_in], via[built_in] = Rank(3, 0), me
    anyone = Subject("anyone")
    ranks[anyone], via[anyone] = Rank(4, 0), me
    return Standing(account, ranks, via)


def loops(groups: Iterable[Group]) -> list[tuple[str, ...]]:
    """Every loop of groups found, each as the names along it, the first one again at the end."""
    inside = {
        fold(g.name): sorted(
            (fold(m.subject.name) for m in g.members if m.subject.kind == "group"), reverse=True
        )
        for g in groups
    }
    spelled = {fold(g.name): g.name for g in groups}
    done: set[str] = set()
    found: list[tuple[str, ...]] = []
    for start in sorted(inside):
        if start in done:
            continue
        trail: list[str] = []
        on_trail: set[str] = set()
        todo: list[tuple[str, bool]] = [(start, False)]
        while todo:
            name, leaving = todo.pop()
            if leaving:
                on_trail.discard(trail.pop())
                done.add(name)
            elif name in on_trail:
                loop = trail[trail.index(name) :]
                found.append(tuple(spelled[n] for n in [*loop, name]))
            elif name not in done and name in inside:
                trail.append(name)
                on_trail.add(name)
                todo.append((name, True))
                todo += [(member, False) for member in inside[name]]
    return found


def units_of(model: Model) -> dict[str, str]:
    """Every unit by its comparison form, those above a written one included, as it is spelled.

    A unit is spelled as its own line spells it; one without a line, as the first line that needs it
    does, in order of casefold and then of code points. What lies below a unit takes over its
    spelling.
    """
    last: dict[str, str] = {}  # by comparison form, how the last part is spelled
    lines = sorted(model.units, key=lambda unit: (fold(unit), unit))
    for unit in lines:
        last.setdefault(fold(unit), unit.rpartition("/")[2])
    for unit in lines:
        for path in unit_ancestors(unit)[1:]:
            last.setdefault(fold(path), path.rpartition("/")[2])
    spelled: dict[str, str] = {}
    for key in sorted(last, key=lambda key: key.count("/")):
        above = key.rpartition("/")[0]
        spelled[key] = f"{spelled[above]}/{last[key]}" if above else last[key]
    return spelled
