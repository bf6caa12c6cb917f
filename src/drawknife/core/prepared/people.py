"""Accounts, groups and units with numbers for names: who counts as what."""

from __future__ import annotations

from collections.abc import Hashable
from typing import Any

from ..model.items import Account, Model, Subject
from ..model.standing import Rank, Standing, groups_holding, standing
from ..words.names import fold, unit_ancestors
from .namespace import Namespace, VirtualPaths

#: The number of the built-in subject ``owner``.
OWNER = 0

#: Standings are small but many: more than these are not kept.
KEPT_STANDINGS = 20_000


class PreparedAccount:
    """One account with the subjects it counts as, as numbers."""

    __slots__ = ("account", "index", "namespaces", "people", "ranks", "who", "who_owning")

    def __init__(self, people: People, index: int, account: Account) -> None:
        self.people = people
        self.index = index
        self.account = account
        sid = people.sid
        self.ranks: dict[int, Rank] = {
            sid[s]: rank for s, rank in standing(account, people.held).ranks.items()
        }
        #: Matched by entries when the account does not own the thing acted on, and when it does.
        self.who = frozenset(self.ranks)
        self.who_owning = self.who | {OWNER}
        #: What it sees, by the virtual paths of the last two models that were asked about: before a
        #: change, and after it.
        self.namespaces: tuple[tuple[VirtualPaths, Namespace], ...] = ()

    @property
    def name(self) -> str:
        return self.account.name

    @property
    def standing(self) -> Standing:
        """The standing with its chains, which only sentences and explanations need."""
        return self.people.standing_of(self.account)


class People:
    """Accounts, groups and units: who counts as what."""

    def __init__(self, model: Model, before: People | None = None) -> None:
        #: By name as the model spells it, the accounts that were asked for already.
        self.asked: dict[str, PreparedAccount] = {}
        #: Has every subject the number that it had `before`?
        self.same_numbers = before is not None and _same_names(before, model)
        self.accounts = model.accounts
        self.groups = model.groups
        self.units = model.units
        self.index: dict[str, int]
        self.by_fold: dict[str, int]
        self.subjects: list[Subject]
        self.sid: dict[Subject, int]
        self.held: dict[Subject, list[Subject]]
        if before is not None and self.same_numbers:
            self.index, self.by_fold = before.index, before.by_fold
            self.subjects, self.sid = before.subjects, before.sid
        else:
            self._number_all(model)
        self.held = (
            before.held
            if before is not None and before.groups == model.groups
            else groups_holding(model.groups)
        )
        self._accounts: dict[int, PreparedAccount] = {}
        self._standings: dict[str, Standing] = {}
        #: Room for what is derived of the people alone.
        self.derived: dict[str, Any] = {}
        #: What was derived of the people before these, and the groups that have other members than
        #: then. Empty where anything else differs.
        self.derived_before: dict[str, Any] = {}
        self.changed_groups: tuple[Subject, ...] = ()
        if before is not None and self.same_numbers and before.accounts == model.accounts:
            self.derived_before = dict(before.derived)
            pairs = zip(before.groups, model.groups, strict=True)
            self.changed_groups = tuple(
                Subject("group", now.name) for was, now in pairs if was.members != now.members
            )
        #: Room for how the accounts are divided by virtual paths (core/everybody/division.py).
        self.divided: dict[Hashable, Any] = {}

    def _number_all(self, model: Model) -> None:
        self.index = {a.name: i for i, a in enumerate(model.accounts)}
        self.by_fold = {fold(a.name): i for i, a in enumerate(model.accounts)}
        subjects = [Subject("owner"), Subject("anyone"), Subject("signed-in"), Subject("anonymous")]
        subjects += [Subject("unit", u) for u in model.units]
        subjects += [Subject("group", g.name) for g in model.groups]
        subjects += [Subject("account", a.name) for a in model.accounts]
        self.subjects = subjects
        self.sid = {s: i for i, s in enumerate(subjects)}

    def standing_of(self, account: Account) -> Standing:
        """The standing of an account; those asked for last are kept."""
        found = self._standings.get(account.name)
        if found is None:
            if len(self._standings) >= KEPT_STANDINGS:
                self._standings.clear()
            found = self._standings[account.name] = standing(account, self.held)
        return found

    def number(self, subject: Subject) -> int:
        """The number of a subject; -1, which nobody counts as, where it dangles."""
        return self.sid.get(subject, -1)

    def prepared(self, index: int) -> PreparedAccount:
        """The account at `index` of the model's accounts, prepared on first use and kept."""
        found = self._accounts.get(index)
        if found is None:
            found = self._accounts[index] = PreparedAccount(self, index, self.accounts[index])
            self.asked[found.name] = found
        return found

    def members(self) -> dict[int, int]:
        """For each subject's number the set of accounts that count as it, as bits by index."""
        count = len(self.accounts)
        everybody = (1 << count) - 1
        bits: dict[int, int] = {}
        direct_units: dict[str, list[int]] = {}
        public = 0
        base = len(self.subjects) - count
        for i, account in enumerate(self.accounts):
            bits[base + i] = 1 << i
            if account.kind == "anonymous":
                public |= 1 << i
            if account.unit is not None:
                direct_units.setdefault(account.unit, []).append(i)
        for path, indices in direct_units.items():
            here = bits_of(indices, count)
            for unit in unit_ancestors(path):
                number = self.number(Subject("unit", unit))
                bits[number] = bits.get(number, 0) | here
        for group in self.groups:
            inside = [m.subject for m in group.members]
            found = bits_of(
                [
                    self.index[s.name]
                    for s in inside
                    if s.kind == "account" and s.name in self.index
                ],
                count,
            )
            for s in inside:
                if s.kind == "unit":
                    found |= bits.get(self.number(s), 0)
            bits[self.sid[Subject("group", group.name)]] = found
        self._nest(bits)
        bits[self.sid[Subject("anyone")]] = everybody
        bits[self.sid[Subject("anonymous")]] = public
        bits[self.sid[Subject("signed-in")]] = everybody & ~public
        return bits

    def _nest(self, bits: dict[int, int]) -> None:
        """Bring the members of groups up into the groups that hold them, loops included."""
        inner = {
            self.sid[Subject("group", g.name)]: [
                self.number(m.subject) for m in g.members if m.subject.kind == "group"
            ]
            for g in self.groups
        }
        order: list[int] = []
        seen: set[int] = set()
        for start in inner:
            todo = [(start, False)]
            while todo:
                group, done = todo.pop()
                if done:
                    order.append(group)
                elif group not in seen and group in inner:
                    seen.add(group)
                    todo.append((group, True))
                    todo += [(member, False) for member in inner[group]]
        changed = True
        while changed:  # once, and once more to see that nothing changed; oftener only in loops
            changed = False
            for group in order:
                found = bits[group]
                for member in inner[group]:
                    found |= bits.get(member, 0)
                if found != bits[group]:
                    bits[group] = found
                    changed = True


def bits_of(indices: list[int], count: int) -> int:
    """The set of these indices as bits."""
    if len(indices) < 8:
        small = 0
        for i in indices:
            small |= 1 << i
        return small
    raw = bytearray((count + 7) // 8)
    for i in indices:
        raw[i >> 3] |= 1 << (i & 7)
    return int.from_bytes(raw, "little")


def _same_names(before: People, model: Model) -> bool:
    """Are accounts, groups and units called as before, in the same order?"""
    return (
        before.units == model.units
        and [g.name for g in before.groups] == [g.name for g in model.groups]
        and [a.name for a in before.accounts] == [a.name for a in model.accounts]
    )
