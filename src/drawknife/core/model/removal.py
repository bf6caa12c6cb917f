"""Taking things away, and every place that names one (docs/rules.md, "Editing")."""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence, Set
from dataclasses import replace
from typing import NamedTuple

from ..words.names import fold, parse_place, unit_ancestors
from .edits import SECTION_OF, SUBJECT_KINDS, EditRefused, checked, find_all, name_of, refuse
from .items import Model, Subject
from .rewriting import Rewriting, same_name, same_place
from .soundness import WHOLE_HOME, Problem


def remove(model: Model, kind: str, names: Sequence[str], everywhere: bool = False) -> Model:
    """The model without some things. Refused, with every place that still names one, if any does.

    `everywhere`, for accounts, groups and units, strikes out the lines that name them as well; what an
    account owned then belongs to nobody known. A list that narrows stays, if empty: nobody is let in by that.
    """
    if kind == "folder":
        return _without_folders(model, names)
    called = {name_of(kind, item) for item in find_all(model, kind, names)}
    if everywhere and kind in SUBJECT_KINDS:
        model_without = _struck_out(model, kind, called)
    else:
        naming = list(references(model, kind, called))
        if naming:
            hint = ", or remove it everywhere" if kind in SUBJECT_KINDS else ""
            count = f"{len(naming)} places still name" if len(naming) > 1 else "something still names"
            what = " and ".join(sorted(called))
            raise EditRefused([Problem((), str(x)) for x in naming], f"{count} {kind} {what}; change these first{hint}")
        model_without = model
    section = SECTION_OF[kind]
    rest = tuple(x for x in getattr(model_without, section) if name_of(kind, x) not in called)
    without = replace(model_without, **{section: rest})
    if kind == "unit":
        without = replace(without, unit_sources=tuple(x for x in without.unit_sources if x[0] not in called))
    return checked(without, model)


def _without_folders(model: Model, names: Sequence[str]) -> Model:
    find_all(model, "folder", names)
    gone: dict[str, set[str]] = {}
    for place in map(parse_place, names):
        gone.setdefault(fold(place.store), set()).add(place.path)
    stores = tuple(
        replace(s, folders=tuple(f for f in s.folders if f.path not in gone[fold(s.name)]))
        if fold(s.name) in gone
        else s
        for s in model.stores
    )
    return checked(replace(model, stores=stores), model)


def _struck_out(model: Model, kind: str, names: set[str]) -> Model:
    if kind == "unit":
        for unit in model.units:
            above = next((n for n in unit_ancestors(unit) if n in names and n != unit), None)
            if above is not None and unit not in names:
                raise refuse(f"unit {above} still holds {unit}", "the units below it removed first")
    gone = {Subject(kind, name) for name in names}
    return Rewriting(
        lambda s: None if s in gone else s,
        (lambda n: None if n in names else n) if kind == "account" else same_name,
        (lambda u: None if u in names else u) if kind == "unit" else same_name,
        same_place,
    ).of(model)


class Reference(NamedTuple):
    """A place that names a thing: the kind and name of what it stands in, and its line, if it is one."""

    kind: str
    name: str
    line: str = ""

    def __str__(self) -> str:
        return f"{self.kind} {self.name}" + (f", `{self.line}`" if self.line else "")


def references(model: Model, kind: str, names: Set[str]) -> Iterator[Reference]:
    """Every place that names one of some accounts, groups, units, or stores, as the model spells them."""
    if kind in SUBJECT_KINDS:
        subjects = {Subject(kind, name) for name in names}
        yield from (reference for _, reference in lines_naming(model, subjects))
    if kind == "account":
        yield from _owned(model, names)
    elif kind == "unit":
        yield from (Reference("account", a.name, f"unit: {a.unit}") for a in model.accounts if a.unit in names)
        yield from (Reference("unit", u) for u in model.units if not names.isdisjoint(unit_ancestors(u)[1:]))
    elif kind == "store":
        for name in sorted(names):
            yield from _in_store(model, name)


def lines_naming(model: Model, subjects: Container[Subject]) -> Iterator[tuple[Subject, Reference]]:
    """Every line that names one of these subjects: memberships, entries, grants, settings, quotas."""
    for group in model.groups:
        for member in group.members:
            if member in subjects:
                yield member, Reference("group", group.name, str(member))
    for store in model.stores:
        for folder in store.folders:
            for entry in folder.entries:
                if entry.subject in subjects:
                    yield entry.subject, Reference("folder", f"{store.name}:{folder.path}", str(entry))
    for vpath in model.virtual_paths:
        for grant in vpath.grants:
            if grant.subject in subjects:
                yield grant.subject, Reference("virtual path", vpath.path, str(grant))
    for endpoint in model.endpoints:
        for entry in endpoint.entries:
            if entry.subject in subjects:
                yield entry.subject, Reference("endpoint", endpoint.name, str(entry))
        for word, named in (("never", endpoint.never), ("only", endpoint.only or ())):
            yield from ((s, Reference("endpoint", endpoint.name, f"{word} {s}")) for s in named if s in subjects)
    for setting in model.settings:
        if setting.subject in subjects:
            names = ", ".join(name for name, _ in setting.values)
            yield setting.subject, Reference("setting", str(setting.subject), names)
    for quota in model.quotas:
        for subject in quota.shared_by:
            if subject in subjects:
                yield subject, Reference("quota", quota.name, str(subject))


def _owned(model: Model, names: Set[str]) -> Iterator[Reference]:
    for store in model.stores:
        for folder in store.folders:
            if folder.owner in names:
                yield Reference("folder", f"{store.name}:{folder.path}", f"owner: {folder.owner}")
    for setting in model.settings:
        owner = dict(setting.values).get("uploads_owner")
        if owner in names:
            yield Reference("setting", str(setting.subject), f"uploads_owner: {owner}")
    yield from (Reference("usage", str(u.folder), f"owner: {u.owner}") for u in model.usage if u.owner in names)


def _in_store(model: Model, name: str) -> Iterator[Reference]:
    store = next(s for s in model.stores if s.name == name)
    if store.folders:
        count = len(store.folders)
        yield Reference("folder", f"{name}:{store.folders[0].path}", f"and {count - 1} more" if count > 1 else "")
    for vpath in model.virtual_paths:
        if vpath.leads_to != WHOLE_HOME and vpath.leads_to.partition(":")[0] == name:
            yield Reference("virtual path", vpath.path, vpath.leads_to)
    yield from (
        Reference("account", a.name, f"home: {a.home}") for a in model.accounts if a.home and a.home.store == name
    )
    yield from (Reference("quota", q.name, str(q.folder)) for q in model.quotas if q.folder and q.folder.store == name)
    yield from (Reference("usage", str(u.folder)) for u in model.usage if u.folder.store == name)
