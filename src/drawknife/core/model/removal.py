"""Taking things away, and every place that names one (docs/rules.md, "Editing")."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterable, Iterator, Sequence, Set
from dataclasses import replace
from operator import attrgetter
from typing import Any, NamedTuple

from ..words.names import Place, fold, parse_place, unit_ancestors
from .edits import ChangeRefused, checked, find_all, refuse
from .fields import Field
from .items import Model, Says, Subject
from .kinds import FOLDER, KINDS, SECTIONS, SETTING, SUBJECT_KINDS, Kind
from .placeholders import WHOLE_HOME
from .rewriting import Rewriting, same_name, same_place
from .soundness import Flaw


def remove(model: Model, kind: str, names: Sequence[str], everywhere: bool = False) -> Model:
    """The model without some things. Refused, with every place that still names one, if any does.

    `everywhere`, for accounts, groups and units, strikes out the lines that name them as well; what
    an account owned then belongs to nobody known. A list that narrows stays, if empty: nobody is
    let in by that.
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
            count = (
                f"{len(naming)} places still name" if len(naming) > 1 else "something still names"
            )
            what = " and ".join(sorted(called))
            raise ChangeRefused(
                [Flaw((), str(x)) for x in naming],
                f"{count} {kind} {what}; change these first{hint}",
            )
        model_without = model
    rest: Any = tuple(
        x for x in getattr(model_without, declared.section) if declared.called(x) not in called
    )
    without = replace(model_without, **{declared.section: rest})
    if kind == "unit":
        without = replace(
            without, unit_facts=tuple(x for x in without.unit_facts if x.path not in called)
        )
    return checked(without, model)


def _without_folders(model: Model, names: Sequence[str]) -> Model:
    find_all(model, "folder", names)
    gone: dict[str, set[str]] = {}
    for place in map(parse_place, names):
        gone.setdefault(fold(place.store), set()).add(place.path)
    stores = tuple(
        (
            replace(s, folders=tuple(f for f in s.folders if f.path not in gone[fold(s.name)]))
            if fold(s.name) in gone
            else s
        )
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
    """A place that names a thing: the kind and name of what it stands in, and its line, if it is
    one.
    """

    kind: str
    name: str
    line: str = ""

    def __str__(self) -> str:
        return f"{self.kind} {self.name}" + (f", `{self.line}`" if self.line else "")


def references(model: Model, kind: str, names: Set[str]) -> Iterator[Reference]:
    """Every place that names one of some accounts, groups, units, or stores, as the model spells
    them.
    """
    wanted = {Subject(kind, name) for name in names}
    yield from (found for _, found in _naming(model, wanted, lambda field: True))
    if kind == "unit":
        yield from (
            Reference("unit", u) for u in model.units if not names.isdisjoint(unit_ancestors(u)[1:])
        )
    for store in model.stores if kind == "store" else ():
        if store.name in names and store.folders:
            count = len(store.folders)
            more = f"and {count - 1} more" if count > 1 else ""
            yield Reference("folder", f"{store.name}:{store.folders[0].path}", more)


def lines_naming(model: Model, subjects: Container[Subject]) -> Iterator[tuple[Subject, Reference]]:
    """Every line that names one of these subjects: memberships, entries, grants,
    settings, quotas.
    """
    yield from _naming(model, subjects, lambda field: field.names in ("subject", "line"))


def _naming(
    model: Model, wanted: Container[Subject], looked_at: Callable[[Field], bool]
) -> Iterator[tuple[Subject, Reference]]:
    """Everything that names one of the wanted subjects (places as those of kind ``store``), and
    where it stands.

    What a place is called is only made into words where it is wanted: most lines of a large model
    are not.
    """
    for kind in SECTIONS.values():
        for field in filter(looked_at, kind.naming):
            yield from _in_field(kind, field, getattr(model, kind.section), "", wanted)
    for field in filter(looked_at, FOLDER.naming):
        for store in model.stores:
            yield from _in_field(FOLDER, field, store.folders, store.name, wanted)


def _in_field(
    kind: Kind, field: Field, items: Iterable[Any], store: str, wanted: Container[Subject]
) -> Iterator[tuple[Subject, Reference]]:
    """The same for one field of some items; folders are those of one store."""
    get: Callable[[Any], Any] = (
        (lambda item: kind.get(item, field))
        if kind is SETTING
        else attrgetter(kind.attribute(field.name))
    )
    for item, subject, line in _wanted_in(kind, field, items, get, wanted):
        called = f"{store}:{item.path}" if kind is FOLDER else kind.placed(item)
        shown = "" if line == f"{field.name}: {called}" else line
        yield subject, Reference(kind.title, called, shown)


#: An item, a wanted subject that it names, and the line that names it.
_Naming = Iterator[tuple[Any, Subject, str]]


def _wanted_in(
    kind: Kind,
    field: Field,
    items: Iterable[Any],
    get: Callable[[Any], Any],
    wanted: Container[Subject],
) -> _Naming:
    match field.names:
        case "line":
            return _in_lines(items, get, wanted)
        case "promise":
            return _in_promises(items, wanted)
        case "steps":
            return _in_steps(items, get, wanted)
    if field.many:
        is_only = sum(f.names == "subject" for f in kind.naming) == 1
        return _in_lists(items, get, wanted, "" if is_only else f"{field.word} ")
    if field.names == "subject":
        return _in_settings(items, wanted)
    return _in_values(field, items, get, wanted)


def _in_lines(
    items: Iterable[Any], get: Callable[[Any], Any], wanted: Container[Subject]
) -> _Naming:
    for item in items:
        for line in get(item):
            if line.subject in wanted:
                yield item, line.subject, str(line)


def _in_promises(items: Iterable[Any], wanted: Container[Subject]) -> _Naming:
    for item in items:
        for subject in _named_in_promise(item.says):
            if subject in wanted:
                yield item, subject, str(item.says)


def _in_steps(
    items: Iterable[Any], get: Callable[[Any], Any], wanted: Container[Subject]
) -> _Naming:
    for item in items:
        for step in get(item):
            if step.owner is not None and Subject("account", step.owner) in wanted:
                yield item, Subject("account", step.owner), str(step)


def _in_lists(
    items: Iterable[Any], get: Callable[[Any], Any], wanted: Container[Subject], word: str
) -> _Naming:
    for item in items:
        for subject in get(item) or ():
            if subject in wanted:
                yield item, subject, f"{word}{subject}"


def _in_settings(items: Iterable[Any], wanted: Container[Subject]) -> _Naming:
    for item in items:
        if item.subject in wanted:
            yield item, item.subject, ", ".join(name for name, _ in item.values)


def _in_values(
    field: Field, items: Iterable[Any], get: Callable[[Any], Any], wanted: Container[Subject]
) -> _Naming:
    for item in items:
        value = get(item)
        subject = _named(field, value) if value else None
        if subject is not None and subject in wanted:
            yield item, subject, f"{field.name}: {value}"


def _named_in_promise(says: Says) -> set[Subject]:
    named = set(says.subjects)
    if isinstance(says.place, Place):
        named.add(Subject("store", says.place.store))
    if says.endpoint is not None:
        named.add(Subject("endpoint", says.endpoint))
    return named


def _named(field: Field, value: Any) -> Subject | None:
    """What a field names that holds one name: an account, a unit, or the store of a place."""
    match field.names:
        case "account" | "unit" | "endpoint" | "store" as kind:
            return Subject(kind, value)
        case "place":
            return Subject("store", value.store)
        case _:
            return None if value == WHOLE_HOME else Subject("store", value.partition(":")[0])
