"""What is held against what, where one model takes the place of another (docs/rules.md, "What
follows").

Things are the same that have the same name, whatever its case; what a change renames is held
against itself under its new name.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from itertools import groupby
from typing import NamedTuple

from ..model import edits
from ..model.difference import Differs, differing
from ..model.items import Model, Subject
from ..model.kinds import OF_SECTION
from ..model.rewriting import Rewriting
from ..prepared.prepared import Prepared
from ..words.errors import NotFound
from ..words.names import Place, fold, join, parse_place, rest_below


class Renaming(NamedTuple):
    """One rename: the kind (account, group, unit, store, folder, endpoint, quota), and the names as
    they are spelled.
    """

    kind: str
    old: str
    new: str


class Renames:
    """The renames of a change, in the order in which they are done."""

    def __init__(self, renames: Iterable[Renaming] = ()) -> None:
        self.each = tuple(renames)
        self.moves = any(r.kind == "folder" for r in self.each)

    def __bool__(self) -> bool:
        return bool(self.each)

    def origins(self, kind: str, names: Iterable[str]) -> dict[str, str]:
        """For each name afterwards, in the form in which names are compared, the name before."""
        found = {fold(name): name for name in names}
        for r in self.each:
            if r.kind == kind and fold(r.old) in found:
                origin = found.pop(fold(r.old))
                found[fold(r.new)] = origin
        return found

    def account(self, name: str) -> str:
        """What an account of this name is called afterwards."""
        return self.name("account", name)

    def place(self, place: Place) -> Place:
        """Where a folder is afterwards."""
        for r in self.each:
            if r.kind == "store" and fold(place.store) == fold(r.old):
                place = Place(r.new, place.path)
            elif r.kind == "folder":
                old, new = parse_place(r.old), parse_place(r.new)
                rest = (
                    rest_below(place.path, old.path)
                    if fold(place.store) == fold(old.store)
                    else None
                )
                if rest is not None:
                    place = Place(new.store, join(new.path, rest))
        return place

    def name(self, kind: str, name: str) -> str:
        """What a thing of this kind is called afterwards; a unit also by one above it."""
        for r in self.each:
            if r.kind != kind:
                continue
            if fold(name) == fold(r.old):
                name = r.new
            elif kind == "unit" and fold(name).startswith(fold(r.old) + "/"):
                name = r.new + name[len(r.old) :]
        return name

    def rewriting(self) -> Rewriting:
        """What becomes of each name that an item of the model before holds."""
        return Rewriting(
            lambda s: Subject(s.kind, self.name(s.kind, s.name)) if s.name else s,
            self.account,
            lambda path: self.name("unit", path),
            self.place,
            lambda name: self.name("endpoint", name),
        )

    def carried(self, model: Model) -> Model:
        """The model before with the names that its things have afterwards."""
        for kind, some in groupby(self.each, lambda r: r.kind):
            pairs = [(r.old, r.new) for r in some]
            for part in (pairs,) if edits.independent(pairs) else [[pair] for pair in pairs]:
                # What the same change brought in, or took away before, cannot be renamed here.
                with contextlib.suppress(NotFound, edits.ChangeRefused):
                    model = edits.rename(model, kind, part)
        return model


class Item(NamedTuple):
    """One item that differs, and what it was called before."""

    was: str
    differs: Differs


def items_differing(before: Model, after: Model, renames: Renames) -> list[Item]:
    """What differs between two models; what was renamed is one item, and no two of which one goes
    and one comes.
    """
    found = list(differing(before, after))
    if not renames:
        return [Item(d.name, d) for d in found]
    rewriting = renames.rewriting()
    came = {(d.section, d.name): d for d in found if d.before is None and d.section in OF_SECTION}
    taken: set[int] = set()
    out: list[Item] = []
    for d in found:
        called = _called_now(d, renames, rewriting) if d.after is None else None
        new = came.get((d.section, called)) if called is not None else None
        if new is not None:
            taken.add(id(new))
        out.append(
            Item(d.name, d if new is None else Differs(d.section, new.name, d.before, new.after))
        )
    return [item for item in out if id(item.differs) not in taken]


def _called_now(d: Differs, renames: Renames, rewriting: Rewriting) -> str | None:
    """What a thing of the model before is called afterwards; None of a line, which is
    only itself.
    """
    kind = OF_SECTION.get(d.section)
    if kind is None:
        return None
    if kind.name == "folder":
        return str(renames.place(parse_place(d.name)))
    if kind.can_be_renamed:
        return renames.name(kind.name, d.name)
    return kind.called(rewriting.item(kind, d.before))


class Pairing:
    """Two models made ready, and which account and endpoint of one is which of the other.

    `common` are pairs of positions among the accounts; `gone` and `come` are positions in one model
    only.
    """

    def __init__(self, before: Prepared, after: Prepared, renames: Renames | None = None) -> None:
        self.before, self.after = before, after
        self.renames = renames or Renames()
        origin = self.renames.origins("account", (a.name for a in before.model.accounts))
        self.common: list[tuple[int, int]] = []
        self.come: list[int] = []
        if not self.renames and before.model.accounts is after.model.accounts:
            self.common = [(i, i) for i in range(len(before.model.accounts))]
        else:
            for i, account in enumerate(after.model.accounts):
                name = origin.get(fold(account.name))
                if name is None:
                    self.come.append(i)
                else:
                    self.common.append((before.people.index[name], i))
        #: Do all accounts have the same positions in both?
        self.aligned = len(self.common) == len(before.model.accounts) == len(
            after.model.accounts
        ) and all(was == now for was, now in self.common)
        known = {i for i, _ in self.common}
        self.gone = [i for i in range(len(before.model.accounts)) if i not in known]
        ways = self.renames.origins("endpoint", (e.name for e in before.model.endpoints))
        #: The endpoints of either model as (name before, name afterwards); None where it is not
        #: there.
        self.endpoints: list[tuple[str | None, str | None]] = [
            (ways.get(fold(e.name)), e.name) for e in after.model.endpoints
        ]
        there = {was for was, _ in self.endpoints}
        self.endpoints += [(e.name, None) for e in before.model.endpoints if e.name not in there]

    def affected(self) -> set[int]:
        """Positions in `common` of the accounts whose own lines or standing may differ."""
        a, b = self.before.model, self.after.model
        found = {
            i
            for i, (was, now) in enumerate(self.common)
            if a.accounts[was] is not b.accounts[now] and a.accounts[was] != b.accounts[now]
        }
        if a.groups is not b.groups and a.groups != b.groups:
            found |= self.positions(*changed_groups(a, b))
        return found

    def positions(self, before: set[object], after: set[object]) -> set[int]:
        """Positions in `common` of the accounts that count as any of the subjects, in
        either model.
        """
        was, now = members_of(self.before, before), members_of(self.after, after)
        return {i for i, (x, y) in enumerate(self.common) if was >> x & 1 or now >> y & 1}


def changed_groups(a: Model, b: Model) -> tuple[set[object], set[object]]:
    """The groups of either model that are not the same in the other, as subjects."""
    known, new = {g.name: g for g in a.groups}, {g.name: g for g in b.groups}
    return (
        {Subject("group", g.name) for g in a.groups if new.get(g.name) != g},
        {Subject("group", g.name) for g in b.groups if known.get(g.name) != g},
    )


def members_of(prepared: Prepared, subjects: Iterable[object]) -> int:
    """The accounts that count as any of these subjects, as bits by their positions."""
    people = prepared.people
    if "members" not in people.derived:
        people.derived["members"] = people.members()
    bits = people.derived["members"]
    found = 0
    for subject in subjects:
        found |= bits.get(people.number(subject), 0)  # type: ignore[arg-type]
    return found


def changed_settings(pairing: Pairing) -> set[int]:
    """Positions of the accounts that count as somebody for whom other things are set
    than before.
    """
    a, b = pairing.before.model.settings, pairing.after.model.settings
    if a is b or a == b:
        return set()
    old, new = {s.subject: s for s in a}, {s.subject: s for s in b}
    return pairing.positions(
        {s for s, x in old.items() if new.get(s) != x},
        {s for s, x in new.items() if old.get(s) != x},
    )
