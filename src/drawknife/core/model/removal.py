"""Taking things away, and every place that names one (docs/rules.md, "Editing")."""

from __future__ import annotations

from collections.abc import Container, Iterator, Sequence, Set
from dataclasses import replace
from typing import Any, NamedTuple

from ..words.names import fold, parse_place, unit_ancestors
from .edits import ChangeRefused, checked, find_all, refuse
from .fields import Field
from .items import Model, Subject
from .kinds import FOLDER, KINDS, SECTIONS, STORE, SUBJECT_KINDS, Kind
from .placeholders import WHOLE_HOME
from .rewriting import Rewriting, same_name, same_place
from .soundness import Problem


def remove(model: Model, kind: str, names: Sequence[str], everywhere: bool = False) -> Model:
    """The model without some things. Refused, with every place that still names one, if any does.

    `everywhere`, for accounts, groups and units, strikes out the lines that name them as well; what an
    account owned then belongs to nobody known. A list that narrows stays, if empty: nobody is let in by that.
    """
    if kind == "folder":
        return _without_folders(model, names)
    declared = KINDS[kind]
    called = {declared.called(item) for item in find_all(model, kind, names)}
    if everywhere and kind in SUBJECT_KINDS:
        model_without = _struck_out(model, kind, called)
    else:
        naming = list(references(model, kind, called))
        if naming:
            hint = ", or remove it everywhere" if kind in SUBJECT_KINDS else ""
            count = f"{len(naming)} places still name" if len(naming) > 1 else "something still names"
            what = " and ".join(sorted(called))
            raise ChangeRefused(
                [Problem((), str(x)) for x in naming], f"{count} {kind} {what}; change these first{hint}"
            )
        model_without = model
    rest: Any = tuple(x for x in getattr(model_without, declared.section) if declared.called(x) not in called)
    without = replace(model_without, **{declared.section: rest})
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
    wanted = {Subject(kind, name) for name in names}
    yield from (found for named, found, _ in _naming(model) if named in wanted)
    if kind == "unit":
        yield from (Reference("unit", u) for u in model.units if not names.isdisjoint(unit_ancestors(u)[1:]))
    for store in model.stores if kind == "store" else ():
        if store.name in names and store.folders:
            count = len(store.folders)
            more = f"and {count - 1} more" if count > 1 else ""
            yield Reference("folder", f"{store.name}:{store.folders[0].path}", more)


def lines_naming(model: Model, subjects: Container[Subject]) -> Iterator[tuple[Subject, Reference]]:
    """Every line that names one of these subjects: memberships, entries, grants, settings, quotas."""
    for named, found, field in _naming(model):
        if field.names in ("subject", "line") and named in subjects:
            yield named, found


def _naming(model: Model) -> Iterator[tuple[Subject, Reference, Field]]:
    """Everything that anything names, as a subject (of kind ``store``, for places), with where it stands."""
    for kind in SECTIONS.values():
        for item in getattr(model, kind.section):
            if kind is STORE:
                for folder in item.folders:
                    if folder.owner is not None or folder.entries:
                        yield from _named_by(FOLDER, folder, f"{item.name}:{folder.path}")
            elif kind.naming:
                yield from _named_by(kind, item, kind.placed(item))


def _named_by(kind: Kind, item: Any, called: str) -> Iterator[tuple[Subject, Reference, Field]]:
    for field in kind.naming:
        value = kind.get(item, field)
        if value is None:
            continue
        plain = f"{field.name}: {value}"
        match field.names:
            case "line":
                for line in value:
                    yield line.subject, Reference(kind.title, called, str(line)), field
            case "subject" if field.many:
                alone = sum(f.names == "subject" for f in kind.naming) == 1
                for subject in value:
                    line = str(subject) if alone else f"{field.word} {subject}"
                    yield subject, Reference(kind.title, called, line), field
            case "subject":  # what is set for it, by name
                yield value, Reference(kind.title, called, ", ".join(name for name, _ in item.values)), field
            case "account" | "unit":
                yield Subject(field.names, value), Reference(kind.title, called, plain), field
            case "place":
                yield Subject("store", value.store), Reference(kind.title, called, plain), field
            case _ if value != WHOLE_HOME:
                yield Subject("store", value.partition(":")[0]), Reference(kind.title, called, plain), field
