"""Carrying names along: every field of a model that names something, written anew."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any, NamedTuple

from ..words.names import Place
from .fields import REQUIRED, Field
from .items import Model, Says, Subject
from .kinds import FOLDER, SECTIONS, STORE, Kind
from .placeholders import WHOLE_HOME


def same_endpoint(name: str) -> str:
    return name


class Rewriting(NamedTuple):
    """What becomes of each name.

    A subject that becomes None is struck out with the line it stands in.
    """

    subject: Callable[[Subject], Subject | None]
    account: Callable[[str], str | None]
    unit: Callable[[str], str | None]
    place: Callable[[Place], Place]
    endpoint: Callable[[str], str] = same_endpoint

    def of(self, model: Model) -> Model:
        """The model with every reference written anew. Definitions stay as they are."""
        parts: dict[str, Any] = {}
        for kind in SECTIONS.values():
            if kind.naming:
                found = (self.item(kind, x) for x in getattr(model, kind.section))
                parts[kind.section] = tuple(x for x in found if x is not None)
        parts["stores"] = tuple(
            replace(s, folders=tuple(self.item(FOLDER, f) for f in s.folders))
            for s in getattr(model, STORE.section)
        )
        return replace(model, **parts)

    def item(self, kind: Kind, item: Any) -> Any:
        """One item with all that it names written anew; the same object if nothing is different.

        None if what cannot be left out is struck out: what is set for a subject goes with it.
        """
        values = kind.values_naming(item)
        if not any(values):
            return item
        changed: dict[str, Any] = {}
        for field, value in zip(kind.naming, values, strict=True):
            if not value:
                continue
            now = self._value(field, value)
            if now is None and field.default is REQUIRED:
                return None
            if now is not value and now != value:
                changed[field.name] = now
        return kind.but(item, changed) if changed else item

    def _value(self, field: Field, value: Any) -> Any:
        """The value of a field, written anew.

        A list that is emptied stays, and so still narrows.
        """
        match field.names:
            case "line":
                return self._lines(value)
            case "subject":
                if field.many:
                    return tuple(s for s in map(self.subject, value) if s is not None)
                return self.subject(value)
            case "account":
                return self.account(value)
            case "unit":
                return self.unit(value)
            case "place":
                return self.place(value)
            case "promise":
                return self._says(value)
            case "endpoint":
                return self.endpoint(value)
            case "store":
                return self.place(Place(value, "/")).store
            case "steps":  # whose file it is: where that account goes, nobody known
                return tuple(
                    s if s.owner is None else s._replace(owner=self.account(s.owner)) for s in value
                )
            case _:  # where a virtual path leads
                if value == WHOLE_HOME:
                    return value
                store, _, path = value.partition(":")
                return str(self.place(Place(store, path)))

    def _says(self, says: Says) -> Says | None:
        """What a promise says.

        Where its last subject goes, ``only`` nobody is left, and of the others nothing.
        """
        kept = tuple(sorted({s for s in map(self.subject, says.subjects) if s is not None}))
        if not kept and says.quantifier != "only":
            return None
        if not kept:
            says = says._replace(quantifier="nobody")
        return says._replace(
            subjects=kept or (Subject("anyone"),),
            place=self.place(says.place) if isinstance(says.place, Place) else says.place,
            endpoint=None if says.endpoint is None else self.endpoint(says.endpoint),
        )

    def _lines(self, lines: tuple[Any, ...]) -> tuple[Any, ...]:
        """Lines with their subjects written anew; the same tuple where none is different, as in
        nearly all.
        """
        subject = self.subject
        for line in lines:
            if subject(line.subject) is not line.subject:
                break
        else:
            return lines
        found = ((line, subject(line.subject)) for line in lines)
        return tuple(
            line if now == line.subject else line._replace(subject=now)
            for line, now in found
            if now is not None
        )


def located(model: Model, location: Callable[[str], str]) -> Model:
    """The model with every virtual location written anew: start folders, promises about locations,
    and trials' steps.
    """
    settings = tuple(
        replace(s, values=tuple((k, location(x) if k == "landing" else x) for k, x in s.values))
        for s in model.settings
    )
    promises = tuple(
        (
            replace(p, says=p.says._replace(place=location(p.says.place)))
            if isinstance(p.says.place, str)
            else p
        )
        for p in model.promises
    )
    trials = []
    for trial in model.trials:
        steps = (
            s._replace(path=s.path and location(s.path), to=s.to and location(s.to))
            for s in trial.steps
        )
        trials.append(replace(trial, steps=tuple(steps)))
    return replace(model, settings=settings, promises=promises, trials=tuple(trials))


def same_subject(subject: Subject) -> Subject | None:
    return subject


def same_name(name: str) -> str | None:
    return name


def same_place(place: Place) -> Place:
    return place
