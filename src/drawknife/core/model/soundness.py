"""Is a model sound? Dangling names, loops, duplicates."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache
from typing import Any

from ..words.errors import nearest
from ..words.key_paths import Where
from ..words.names import ANONYMOUS, Place, fold
from .fields import Field
from .items import Account, Folder, Model, Says, Store, Subject
from .kinds import FOLDER, SECTIONS, USAGE, Kind
from .placeholders import WHOLE_HOME
from .standing import loops, units_of
from .trials import mistakes_of


@dataclass(frozen=True, slots=True)
class Flaw:
    """A mistake: where it stands, what stands there, what was expected, and the nearest name."""

    where: Where
    message: str
    expected: str = ""
    nearest: str | None = None


#: For so many names that are missing the nearest one is looked for; that takes its time.
MOST_NEAREST = 200


@lru_cache(maxsize=8)
def _named(kind: str, names: tuple[str, ...]) -> tuple[dict[str, str], frozenset[Subject]]:
    """The names of one kind: comparison form to spelling, and the subjects.

    Most changes leave them as they were.
    """
    spelled = {fold(name): name for name in reversed(names)}
    return spelled, frozenset(Subject(kind, name) for name in spelled.values())


class Names:
    """The names that a model defines: comparison form to spelling."""

    def __init__(self, model: Model) -> None:
        self.account, accounts = _named("account", tuple(a.name for a in model.accounts))
        self.group, groups = _named("group", tuple(g.name for g in model.groups))
        self.unit = units_of(model)
        self.store = {fold(s.name): s.name for s in reversed(model.stores)}
        self.endpoint = {fold(e.name): e.name for e in reversed(model.endpoints)}
        self._missing = 0
        #: Subjects that exist and are spelled as they are defined: most need no second look.
        self.exact = {Subject("unit", path) for path in self.unit.values()}.union(accounts, groups)
        #: Subjects that a directory once had, by their comparison form: what still names them
        #: matches nobody, and is kept.
        there = {s.key for s in self.exact} if model.gone else set()
        self.gone = {s.key: s for s in sorted(model.gone, reverse=True) if s.key not in there}

    def within(self, other: "Names") -> bool:
        """Is everything that is defined here defined there, too, and spelled alike?"""
        return (
            self.exact <= other.exact
            and self.store.items() <= other.store.items()
            and self.endpoint.items() <= other.endpoint.items()
            and all(s in other.exact or other.gone.get(key) == s for key, s in self.gone.items())
        )

    @cached_property
    def _by_kind(self) -> dict[str, dict[str, str]]:
        return {
            "account": self.account,
            "group": self.group,
            "unit": self.unit,
            "store": self.store,
            "endpoint": self.endpoint,
        }

    def missing(self, kind: str, name: str, where: Where) -> Flaw | None:
        """The problem, if there is no `kind` of that name."""
        known = self._by_kind[kind]
        if fold(name) in known or (kind == "account" and Subject(kind, name).key in self.gone):
            return None
        self._missing += 1
        near = nearest(name, known.values()) if self._missing <= MOST_NEAREST else None
        expected = f"the name of {'an' if kind == 'account' else 'a'} {kind}"
        return Flaw(where, f"there is no {kind} {name!r}", expected, near)

    def missing_in(self, kind: Kind, item: Any, where: Where) -> Iterator[Flaw]:
        """A problem for everything that an item names and that is not there."""
        for field, value in zip(kind.naming, kind.values_naming(item), strict=True):
            if not value:
                continue
            match field.names:
                case "line":
                    yield from self._missing_in_list(
                        [line.subject for line in value], (*where, field.name)
                    )
                case "subject" if field.many:
                    yield from self._missing_in_list(value, (*where, field.name))
                case "subject":
                    for flaw in self._missing_in_list([value], (*where, field.name)):
                        yield replace(flaw, where=flaw.where[:-1])
                case "promise":
                    yield from self._missing_in_promise(value, (*where, field.name))
                case "steps":
                    yield from self._missing_in_steps(value, (*where, field.name))
                case "account" | "unit" | "endpoint" | "store" as named:
                    yield from self._maybe_missing(named, value, where, field)
                case "place":
                    yield from self._maybe_missing("store", value.store, where, field)
                case _ if value != WHOLE_HOME:
                    yield from self._maybe_missing("store", value.partition(":")[0], where, field)

    def _missing_in_list(self, subjects: Sequence[Subject], where: Where) -> Iterator[Flaw]:
        if not self.exact.issuperset(subjects):
            yield from self._missing_subjects(subjects, where)

    def _missing_in_steps(self, steps: Iterable[Any], where: Where) -> Iterator[Flaw]:
        for i, step in enumerate(steps):
            if step.owner is not None:
                yield from _maybe(self.missing("account", step.owner, (*where, i)))

    def _missing_in_promise(self, says: Says, where: Where) -> Iterator[Flaw]:
        yield from (replace(p, where=where) for p in self._missing_subjects(says.subjects, where))
        if isinstance(says.place, Place):
            yield from _maybe(self.missing("store", says.place.store, where))
        if says.endpoint is not None:
            yield from _maybe(self.missing("endpoint", says.endpoint, where))

    def _maybe_missing(self, kind: str, name: str, where: Where, field: Field) -> Iterator[Flaw]:
        if fold(name) not in self._by_kind[kind]:
            yield from _maybe(self.missing(kind, name, (*where, field.name)))

    def _missing_subjects(self, subjects: Iterable[Subject], where: Where) -> Iterator[Flaw]:
        for i, subject in enumerate(subjects):
            if subject.name and subject not in self.exact and subject.key not in self.gone:
                yield from _maybe(self.missing(subject.kind, subject.name, (*where, i)))

    def spell(self, kind: str, name: str) -> str:
        """`name` as the model spells it; unchanged if it is not defined."""
        return self._by_kind[kind].get(fold(name), name)

    def subject(self, subject: Subject) -> Subject:
        """`subject` as the model spells it."""
        if not subject.name or subject in self.exact:
            return subject
        spelled = self._by_kind[subject.kind].get(fold(subject.name))
        if spelled is None:
            return self.gone.get(subject.key, subject) if self.gone else subject
        return subject if spelled == subject.name else Subject(subject.kind, spelled)


def flaws(model: Model, before: Model | None = None) -> list[Flaw]:
    """Every mistake of `model` that is about meaning, not spelling, in the order of the model file.

    What is the same object in `before`, a sound model, need not be looked at again, unless
    something that it may name is no longer there.
    """
    names = Names(model)
    if before is None or not Names(before).within(names):
        before = Model()
    out: list[Flaw] = []

    def new_to(section: str) -> Iterator[tuple[int, Any]]:
        return new_items(getattr(before, section), getattr(model, section))

    out += _all_duplicates(model, before)
    out += _of_units(model)
    out += [p for i, a in new_to("accounts") for p in _of_account(a, ("accounts", i))]
    if model.groups is not before.groups:
        out += _of_groups(model)
    known = {s.name: s.folders for s in before.stores}
    for i, store in new_to("stores"):
        out += _of_store(store, ("stores", i), names, known.get(store.name, ()))
    for i, trial in new_to("trials"):
        out += [
            Flaw(("trials", i, *where), said, right) for where, said, right in mistakes_of(trial)
        ]
    for section in ("disk_readings", "descriptor_readings"):
        for i, reading in new_to(section):
            out += _of_reading(reading, (section, i, "folders"))
    for kind in SECTIONS.values():
        if kind.naming:
            for i, item in new_to(kind.section):
                out += names.missing_in(kind, item, (kind.section, i))
    return out


def new_items(old: tuple[Any, ...], new: tuple[Any, ...]) -> Iterator[tuple[int, Any]]:
    """The items of `new`, with their positions, that are not the same objects in `old`."""
    if new is old:
        return
    if not old:
        yield from enumerate(new)
        return
    if len(new) == len(old):  # nearly always all but a few are in their places
        some = [i for i, (a, b) in enumerate(zip(old, new, strict=True)) if a is not b]
        if len(some) < MOST_CHANGED:
            there = {id(old[i]) for i in some}
            yield from ((i, new[i]) for i in some if id(new[i]) not in there)
            return
    known = set(map(id, old))
    for i, item in enumerate(new):
        if id(item) not in known:
            yield i, item


#: Where not more items than these are others, they are looked at one by one.
MOST_CHANGED = 1000


def _maybe(problem: Flaw | None) -> list[Flaw]:
    return [] if problem is None else [problem]


def _of_reading(reading: Any, where: Where) -> Iterator[Flaw]:
    if all(folder.path != "/" for folder in reading.folders):
        message = "the reading does not tell of the root of its store"
        yield Flaw(where, message, "a line of the folder /")


def _all_duplicates(model: Model, before: Model) -> Iterator[Flaw]:
    for kind in SECTIONS.values():
        items = getattr(model, kind.section)
        if kind.each_once and kind is not USAGE and items is not getattr(before, kind.section):
            yield from _duplicates(kind, items)


def _duplicates(kind: Kind, items: Iterable[Any]) -> Iterator[Flaw]:
    first: dict[object, int] = {}
    for i, item in enumerate(items):
        k = kind.order(item)
        if k in first:
            yield Flaw(
                (kind.section, i, kind.fields[0].name),
                f"{kind.title} {kind.called(item)!r} is there already: {kind.section}[{first[k]}]",
                "each name once; upper and lower case do not tell names apart",
            )
        first.setdefault(k, i)


def _of_units(model: Model) -> Iterator[Flaw]:
    first: dict[str, str] = {}
    for i, unit in enumerate(model.units):
        if fold(unit) in first and first[fold(unit)] != unit:
            yield Flaw(
                ("units", i),
                f"unit {unit!r} is there already as {first[fold(unit)]!r}",
                "each unit once",
            )
        first.setdefault(fold(unit), unit)
    for facts in model.unit_facts:
        if fold(facts.path) not in first:
            yield Flaw(
                ("units",),
                f"something is said of unit {facts.path!r}, which is not there",
                "a unit of the list",
            )


def _of_account(account: Account, where: Where) -> Iterator[Flaw]:
    is_named = fold(account.name) == ANONYMOUS
    if (account.kind == "anonymous") != is_named:
        yield Flaw(
            (*where, "kind" if is_named else "name"),
            f"account {account.name!r} is of kind {account.kind}",
            "the account of kind anonymous, and no other, is named anonymous",
        )
    if account.kind == "anonymous" and account.methods:
        yield Flaw((*where, "methods"), "an anonymous account has no sign-in methods", "no methods")


def _of_groups(model: Model) -> Iterator[Flaw]:
    position = {fold(g.name): i for i, g in enumerate(model.groups)}
    for i, group in enumerate(model.groups):
        for j, member in enumerate(group.members):
            if member.subject.kind not in ("account", "group", "unit"):
                yield Flaw(
                    ("groups", i, "members", j),
                    f"{member} cannot be a member",
                    "an account, group or unit",
                )
    sources = {g.name: g.source for g in model.groups}
    for loop in loops(model.groups):
        if all(sources[name] != "local" for name in loop):
            # a directory may bring one: each group then counts once, and a finding says so
            continue
        yield Flaw(
            ("groups", position[fold(loop[0])], "members"),
            "the groups form a loop: " + " > ".join(loop),
            "groups that do not hold themselves",
        )


def _of_store(
    store: Store, where: Where, names: Names, known: tuple[Folder, ...]
) -> Iterator[Flaw]:
    where = (*where, "folders")
    seen: set[str] = set()
    paths = [f.path for f in store.folders]
    for i, path in enumerate(paths if len(set(paths)) < len(paths) else ()):
        if path in seen:
            yield Flaw((*where, i, "path"), f"folder {path!r} is there already", "each folder once")
        seen.add(path)
    for i, folder in new_items(known, store.folders):
        if folder.owner is not None or folder.entries:
            yield from names.missing_in(FOLDER, folder, (*where, i))
