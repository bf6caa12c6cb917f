"""Is a model sound? Dangling names, loops, duplicates."""

import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from difflib import get_close_matches
from functools import cached_property
from typing import Any

from ..words.names import ANONYMOUS, BadValue, check_path, fold, parse_place
from .items import Account, Folder, Model, Store, Subject, VirtualPath
from .standing import loops, units_of

#: Where in a model something stands: keys and list positions, as in the model file.
Where = tuple[str | int, ...]


@dataclass(frozen=True, slots=True)
class Problem:
    """A mistake: where it stands, what stands there, what was expected, and the nearest name."""

    where: Where
    message: str
    expected: str = ""
    nearest: str | None = None


def nearest(name: str, names: Iterable[str]) -> str | None:
    """The existing name that is most like `name`, if any is."""
    by_fold: dict[str, str] = {}
    for n in names:
        by_fold.setdefault(fold(n), n)
    close = get_close_matches(fold(name), by_fold, n=1, cutoff=0.6)
    return by_fold[close[0]] if close else None


#: For so many names that are missing the nearest one is looked for; that takes its time.
MOST_NEAREST = 200


class Names:
    """The names that a model defines: comparison form to spelling."""

    def __init__(self, model: Model) -> None:
        self.account = {fold(a.name): a.name for a in reversed(model.accounts)}
        self.group = {fold(g.name): g.name for g in reversed(model.groups)}
        self.unit = units_of(model)
        self.store = {fold(s.name): s.name for s in reversed(model.stores)}
        self._missing = 0
        #: Subjects that exist and are spelled as they are defined: most need no second look.
        self.exact = {Subject("account", name) for name in self.account.values()}
        self.exact |= {Subject("group", name) for name in self.group.values()}
        self.exact |= {Subject("unit", path) for path in self.unit.values()}
        #: Subjects that a directory once had: what still names them matches nobody, and is kept.
        self.gone = {s.key for s in model.gone}

    def within(self, other: "Names") -> bool:
        """Is everything that is defined here defined there, too, and spelled alike?"""
        return (
            self.exact <= other.exact
            and self.store.items() <= other.store.items()
            and self.gone <= other.gone | {s.key for s in other.exact}
        )  # fmt: skip

    @cached_property
    def _by_kind(self) -> dict[str, dict[str, str]]:
        return {"account": self.account, "group": self.group, "unit": self.unit, "store": self.store}

    def missing(self, kind: str, name: str, where: Where) -> Problem | None:
        """The problem, if there is no `kind` of that name."""
        known = self._by_kind[kind]
        if fold(name) in known:
            return None
        self._missing += 1
        near = nearest(name, known.values()) if self._missing <= MOST_NEAREST else None
        expected = f"the name of {'an' if kind == 'account' else 'a'} {kind}"
        return Problem(where, f"there is no {kind} {name!r}", expected, near)

    def spell(self, kind: str, name: str) -> str:
        """`name` as the model spells it; unchanged if it is not defined."""
        return self._by_kind[kind].get(fold(name), name)

    def subject(self, subject: Subject) -> Subject:
        """`subject` as the model spells it."""
        if not subject.name or subject in self.exact:
            return subject
        spelled = self._by_kind[subject.kind].get(fold(subject.name))
        return subject if spelled is None or spelled == subject.name else Subject(subject.kind, spelled)


def problems(model: Model, before: Model | None = None) -> list[Problem]:
    """Every mistake of `model` that is about meaning, not spelling, in the order of the model file.

    What is the same object in `before`, a sound model, need not be looked at again, unless something
    that it may name is no longer there.
    """
    names = Names(model)
    if before is None or not Names(before).within(names):
        before = Model()
    out: list[Problem] = []

    def new_to(section: str) -> Iterator[tuple[int, Any]]:
        return new_items(getattr(before, section), getattr(model, section))

    out += _duplicates("accounts", "account", model.accounts, lambda a: fold(a.name))
    out += _duplicates("groups", "group", model.groups, lambda g: fold(g.name))
    out += _duplicates("stores", "store", model.stores, lambda s: fold(s.name))
    out += _duplicates("endpoints", "endpoint", model.endpoints, lambda e: fold(e.name))
    out += _duplicates("quotas", "quota", model.quotas, lambda q: fold(q.name))
    out += _duplicates("settings", "settings", model.settings, lambda s: s.subject.key, "for")
    out += _duplicates("lockouts", "lockout", model.lockouts, lambda x: x.of, "of")
    out += _of_units(model)
    out += [p for i, a in new_to("accounts") for p in _of_account(a, ("accounts", i), names)]
    if model.groups is not before.groups:
        out += _of_groups(model, names)
    known = {s.name: s.folders for s in before.stores}
    for i, store in new_to("stores"):
        out += _of_store(store, ("stores", i), names, known.get(store.name, ()))
    for i, vpath in new_to("virtual_paths"):
        out += _of_virtual_path(vpath, ("virtual_paths", i), names)
    for i, endpoint in new_to("endpoints"):
        out += _subjects((e.subject for e in endpoint.entries), ("endpoints", i, "entries"), names)
        out += _subjects(endpoint.never, ("endpoints", i, "never"), names)
        out += _subjects(endpoint.only or (), ("endpoints", i, "only"), names)
    for i, setting in new_to("settings"):
        out += _subjects([setting.subject], ("settings", i), names, key="for")
        owner = dict(setting.values).get("uploads_owner")
        if owner is not None:
            out += _maybe(names.missing("account", owner, ("settings", i, "uploads_owner")))
    for i, quota in new_to("quotas"):
        out += _subjects(quota.shared_by, ("quotas", i, "shared_by"), names)
        if quota.folder is not None:
            out += _maybe(names.missing("store", quota.folder.store, ("quotas", i, "folder")))
    for i, usage in new_to("usage"):
        out += _maybe(names.missing("store", usage.folder.store, ("usage", i, "folder")))
        if usage.owner is not None:
            out += _maybe(names.missing("account", usage.owner, ("usage", i, "owner")))
    return out


def new_items(old: tuple[Any, ...], new: tuple[Any, ...]) -> Iterator[tuple[int, Any]]:
    """The items of `new`, with their positions, that are not the same objects in `old`."""
    if new is old:
        return
    known = set(map(id, old))
    for i, item in enumerate(new):
        if id(item) not in known:
            yield i, item


def _maybe(problem: Problem | None) -> list[Problem]:
    return [] if problem is None else [problem]


def _duplicates(
    section: str, word: str, items: Iterable[Any], key: Callable[[Any], object], field: str = "name"
) -> Iterator[Problem]:
    first: dict[object, int] = {}
    for i, item in enumerate(items):
        k = key(item)
        if k in first:
            shown = getattr(item, "name", None) or str(getattr(item, "subject", k))
            yield Problem(
                (section, i, field),
                f"{word} {shown!r} is there already: {section}[{first[k]}]",
                "each name once; upper and lower case do not tell names apart",
            )
        first.setdefault(k, i)


def _of_units(model: Model) -> Iterator[Problem]:
    first: dict[str, str] = {}
    for i, unit in enumerate(model.units):
        if fold(unit) in first and first[fold(unit)] != unit:
            yield Problem(("units", i), f"unit {unit!r} is there already as {first[fold(unit)]!r}", "each unit once")
        first.setdefault(fold(unit), unit)
    for path, _ in model.unit_sources:
        if fold(path) not in first:
            yield Problem(("units",), f"unit {path!r} has a source and is not there", "a unit of the list")


def _of_account(account: Account, where: Where, names: Names) -> Iterator[Problem]:
    is_named = fold(account.name) == ANONYMOUS
    if (account.kind == "anonymous") != is_named:
        yield Problem(
            (*where, "kind" if is_named else "name"),
            f"account {account.name!r} is of kind {account.kind}",
            "the account of kind anonymous, and no other, is named anonymous",
        )
    if account.kind == "anonymous" and account.methods:
        yield Problem((*where, "methods"), "an anonymous account has no sign-in methods", "no methods")
    if account.unit is not None:
        yield from _maybe(names.missing("unit", account.unit, (*where, "unit")))
    if account.home is not None:
        yield from _maybe(names.missing("store", account.home.store, (*where, "home")))


def _of_groups(model: Model, names: Names) -> Iterator[Problem]:
    position = {fold(g.name): i for i, g in enumerate(model.groups)}
    for i, group in enumerate(model.groups):
        yield from _subjects(group.members, ("groups", i, "members"), names)
        for j, member in enumerate(group.members):
            if member.kind not in ("account", "group", "unit"):
                yield Problem(("groups", i, "members", j), f"{member} cannot be a member", "an account, group or unit")
    sources = {g.name: g.source for g in model.groups}
    for loop in loops(model.groups):
        if all(sources[name] != "local" for name in loop):
            continue  # a directory may bring one: each group then counts once, and a finding says so
        yield Problem(
            ("groups", position[fold(loop[0])], "members"),
            "the groups form a loop: " + " > ".join(loop),
            "groups that do not hold themselves",
        )


def _of_store(store: Store, where: Where, names: Names, known: tuple[Folder, ...]) -> Iterator[Problem]:
    seen: set[str] = set()
    accounts = names.account
    for i, folder in enumerate(store.folders):
        if folder.path in seen:
            yield Problem(
                (*where, "folders", i, "path"), f"folder {folder.path!r} is there already", "each folder once"
            )
        seen.add(folder.path)
    for i, folder in new_items(known, store.folders):
        if folder.owner is not None and fold(folder.owner) not in accounts:
            yield from _maybe(names.missing("account", folder.owner, (*where, "folders", i, "owner")))
        if folder.entries:
            yield from _subjects((e.subject for e in folder.entries), (*where, "folders", i, "entries"), names)


def _subjects(subjects: Iterable[Subject], where: Where, names: Names, key: str | None = None) -> Iterator[Problem]:
    for i, subject in enumerate(subjects):
        if subject.name and subject not in names.exact and subject.key not in names.gone:
            yield from _maybe(names.missing(subject.kind, subject.name, (*where, i if key is None else key)))


PLACEHOLDER = re.compile(r"\{([^{}]*)\}")
PLACEHOLDERS = ("account", "unit", "unit-path", "home")
WHOLE_HOME = "{home}"


def check_leads_to(text: str) -> str:
    """Return `text` if it may stand as where a virtual path leads; raise :class:`BadValue` if not."""
    expected = "a folder such as homes:/{account}, or {home} alone"
    if text == WHOLE_HOME:
        return text
    for name in PLACEHOLDER.findall(text):
        if name not in PLACEHOLDERS:
            raise BadValue(f"{{{name}}} is no placeholder", "{account}, {unit}, {unit-path} or {home}")
        if name == "home":
            raise BadValue("{home} must be the whole of leads_to", "{home}, with nothing before or after it")
    store, colon, path = text.partition(":")
    if colon and "{" in store:
        raise BadValue("a placeholder cannot stand for the store", expected)
    # A stand-in shows whether the fixed parts are a valid path.
    stand_in = PLACEHOLDER.sub("x", path)
    if "{" in stand_in or "}" in stand_in:
        raise BadValue("an unpaired brace", expected)
    parse_place(f"{store}:{stand_in}" if colon else store)
    return f"{store}:{path if path == '/' else path.removesuffix('/')}"


def check_virtual_path(text: str) -> str:
    """Return `text` if it may be the path of a virtual path; raise :class:`BadValue` if not."""
    path = check_path(text)
    for name in PLACEHOLDER.findall(path):
        if name in PLACEHOLDERS:
            raise BadValue(
                f"{{{name}}} in a path stands for nothing: all see the same path",
                "a path such as /home, with {account} in leads_to",
            )
    return path


def _of_virtual_path(vpath: VirtualPath, where: Where, names: Names) -> Iterator[Problem]:
    if vpath.leads_to != WHOLE_HOME:
        store = vpath.leads_to.partition(":")[0]
        yield from _maybe(names.missing("store", store, (*where, "leads_to")))
    yield from _subjects((g.subject for g in vpath.grants), (*where, "grants"), names)
