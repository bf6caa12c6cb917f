"""Is a model sound? Dangling names, loops, duplicates, and the canonical form of a sound one."""

import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from difflib import get_close_matches
from functools import cached_property
from typing import Any

from .identity import loops, units_of
from .model import Account, Endpoint, Entry, Folder, Grant, Model, Setting, Store, Subject, VirtualPath
from .names import ANONYMOUS, BadValue, Place, check_path, fold, parse_place, tree_key

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


class Names:
    """The names that a model defines: comparison form to spelling."""

    def __init__(self, model: Model) -> None:
        self.account = {fold(a.name): a.name for a in reversed(model.accounts)}
        self.group = {fold(g.name): g.name for g in reversed(model.groups)}
        self.unit = units_of(model)
        self.store = {fold(s.name): s.name for s in reversed(model.stores)}
        #: Subjects that exist and are spelled as they are defined: most need no second look.
        self.exact = {Subject("account", name) for name in self.account.values()}
        self.exact |= {Subject("group", name) for name in self.group.values()}
        self.exact |= {Subject("unit", path) for path in self.unit.values()}

    @cached_property
    def _by_kind(self) -> dict[str, dict[str, str]]:
        return {"account": self.account, "group": self.group, "unit": self.unit, "store": self.store}

    def missing(self, kind: str, name: str, where: Where) -> Problem | None:
        """The problem, if there is no `kind` of that name."""
        known = self._by_kind[kind]
        if fold(name) in known:
            return None
        return Problem(
            where, f"there is no {kind} {name!r}", f"the name of {'an' if kind == 'account' else 'a'} {kind}",
            nearest(name, known.values()),
        )  # fmt: skip

    def spell(self, kind: str, name: str) -> str:
        """`name` as the model spells it; unchanged if it is not defined."""
        return self._by_kind[kind].get(fold(name), name)

    def subject(self, subject: Subject) -> Subject:
        """`subject` as the model spells it."""
        if not subject.name or subject in self.exact:
            return subject
        spelled = self._by_kind[subject.kind].get(fold(subject.name))
        return subject if spelled is None or spelled == subject.name else Subject(subject.kind, spelled)


def problems(model: Model) -> list[Problem]:
    """Every mistake of `model` that is about meaning, not spelling, in the order of the model file."""
    names = Names(model)
    out: list[Problem] = []
    out += _duplicates("accounts", "account", model.accounts, lambda a: fold(a.name))
    out += _duplicates("groups", "group", model.groups, lambda g: fold(g.name))
    out += _duplicates("stores", "store", model.stores, lambda s: fold(s.name))
    out += _duplicates("endpoints", "endpoint", model.endpoints, lambda e: fold(e.name))
    out += _duplicates("quotas", "quota", model.quotas, lambda q: fold(q.name))
    out += _duplicates("settings", "settings", model.settings, lambda s: s.subject.key, "for")
    out += _of_units(model)
    out += [p for i, a in enumerate(model.accounts) for p in _of_account(a, ("accounts", i), names)]
    out += _of_groups(model, names)
    for i, store in enumerate(model.stores):
        out += _of_store(store, ("stores", i), names)
    for i, vpath in enumerate(model.virtual_paths):
        out += _of_virtual_path(vpath, ("virtual_paths", i), names)
    for i, endpoint in enumerate(model.endpoints):
        out += _subjects((e.subject for e in endpoint.entries), ("endpoints", i, "entries"), names)
    for i, setting in enumerate(model.settings):
        out += _subjects([setting.subject], ("settings", i), names, key="for")
        owner = dict(setting.values).get("uploads_owner")
        if owner is not None:
            out += _maybe(names.missing("account", owner, ("settings", i, "uploads_owner")))
    for i, quota in enumerate(model.quotas):
        out += _subjects(quota.shared_by, ("quotas", i, "shared_by"), names)
        if quota.folder is not None:
            out += _maybe(names.missing("store", quota.folder.store, ("quotas", i, "folder")))
    for i, usage in enumerate(model.usage):
        out += _maybe(names.missing("store", usage.folder.store, ("usage", i, "folder")))
        if usage.owner is not None:
            out += _maybe(names.missing("account", usage.owner, ("usage", i, "owner")))
    return out


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
    for loop in loops(model.groups):
        yield Problem(
            ("groups", position[fold(loop[0])], "members"),
            "the groups form a loop: " + " > ".join(loop),
            "groups that do not hold themselves",
        )


def _of_store(store: Store, where: Where, names: Names) -> Iterator[Problem]:
    seen: set[str] = set()
    accounts = names.account
    for i, folder in enumerate(store.folders):
        if folder.path in seen:
            yield Problem(
                (*where, "folders", i, "path"), f"folder {folder.path!r} is there already", "each folder once"
            )
        seen.add(folder.path)
        if folder.owner is not None and fold(folder.owner) not in accounts:
            yield from _maybe(names.missing("account", folder.owner, (*where, "folders", i, "owner")))
        if folder.entries:
            yield from _subjects((e.subject for e in folder.entries), (*where, "folders", i, "entries"), names)


def _subjects(subjects: Iterable[Subject], where: Where, names: Names, key: str | None = None) -> Iterator[Problem]:
    for i, subject in enumerate(subjects):
        if subject.name and subject not in names.exact:
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


def _of_virtual_path(vpath: VirtualPath, where: Where, names: Names) -> Iterator[Problem]:
    if vpath.leads_to != WHOLE_HOME:
        store = vpath.leads_to.partition(":")[0]
        yield from _maybe(names.missing("store", store, (*where, "leads_to")))
    yield from _subjects((g.subject for g in vpath.grants), (*where, "grants"), names)


# --- canonical form ----------------------------------------------------------------------------


def sound(model: Model) -> Model:
    """The canonical form of a model without problems: spelled as defined, sorted, nothing twice."""
    names = Names(model)

    def place(p: Place) -> Place:
        return Place(names.spell("store", p.store), check_path(p.path))

    def entries(es: tuple[Entry, ...]) -> tuple[Entry, ...]:
        spelled = [
            e if names.subject(e.subject) is e.subject else e._replace(subject=names.subject(e.subject)) for e in es
        ]
        return tuple(sorted(set(spelled))) if len(spelled) > 1 else tuple(spelled)

    def grants(gs: tuple[Grant, ...]) -> tuple[Grant, ...]:
        return tuple(sorted({g._replace(subject=names.subject(g.subject)) for g in gs}))

    def subjects(ss: Iterable[Subject]) -> tuple[Subject, ...]:
        return tuple(sorted({names.subject(s) for s in ss}))

    def account(a: Account) -> Account:
        unit, home, methods = (
            a.unit and names.spell("unit", a.unit),
            a.home and place(a.home),
            tuple(sorted(set(a.methods))),
        )
        same = unit == a.unit and home == a.home and methods == a.methods
        return a if same else replace(a, unit=unit, home=home, methods=methods)

    def folder(f: Folder) -> Folder:
        if f.owner is None and not f.entries:
            return f
        owner, es = f.owner and names.spell("account", f.owner), entries(f.entries)
        return f if owner == f.owner and es == f.entries else Folder(f.path, owner, f.sealed, es)

    def store(s: Store) -> Store:
        return replace(s, folders=tuple(sorted(map(folder, s.folders), key=lambda f: tree_key(f.path))))

    def vpath(v: VirtualPath) -> VirtualPath:
        leads_to = v.leads_to
        if leads_to != WHOLE_HOME:
            store_name, _, path = leads_to.partition(":")
            leads_to = f"{names.spell('store', store_name)}:{path}"
        return replace(v, leads_to=leads_to, grants=grants(v.grants))

    def endpoint(e: Endpoint) -> Endpoint:
        return replace(e, entries=entries(e.entries), host_names=tuple(sorted({h.lower() for h in e.host_names})))

    def setting(s: Setting) -> Setting:
        values: dict[str, Any] = {k: tuple(sorted(set(v))) if isinstance(v, tuple) else v for k, v in s.values}
        if "uploads_owner" in values:
            values["uploads_owner"] = names.spell("account", values["uploads_owner"])
        return Setting(names.subject(s.subject), tuple(sorted(values.items())))

    by_name: Callable[..., str] = lambda x: fold(x.name)  # noqa: E731
    return Model(
        units=tuple(sorted(names.unit.values(), key=fold)),
        accounts=tuple(sorted(map(account, model.accounts), key=by_name)),
        groups=tuple(sorted((replace(g, members=subjects(g.members)) for g in model.groups), key=by_name)),
        stores=tuple(sorted(map(store, model.stores), key=by_name)),
        virtual_paths=tuple(
            sorted(
                dict.fromkeys(map(vpath, model.virtual_paths)),
                key=lambda v: (tree_key(v.path), v.leads_to, v.listing, [str(g) for g in v.grants]),
            )
        ),
        endpoints=tuple(sorted(map(endpoint, model.endpoints), key=by_name)),
        settings=tuple(
            sorted(
                (setting(x) for x in model.settings if x.values), key=lambda s: (s.subject.kind, fold(s.subject.name))
            )
        ),
        quotas=tuple(
            sorted(
                (
                    replace(q, shared_by=subjects(q.shared_by), folder=q.folder and place(q.folder))
                    for q in model.quotas
                ),
                key=by_name,
            )
        ),
        usage=tuple(
            sorted(
                (
                    replace(u, folder=place(u.folder), owner=u.owner and names.spell("account", u.owner))
                    for u in model.usage
                ),
                key=lambda u: (fold(u.folder.store), tree_key(u.folder.path), fold(u.owner or "")),
            )
        ),
    )
