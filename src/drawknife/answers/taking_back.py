"""Undoes one revision on the model of today (docs/rules.md, "History")."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from drawknife.core.follows.pairing import Renames, Renaming
from drawknife.core.model.difference import Differs
from drawknife.core.model.edits import ChangeRefused, checked
from drawknife.core.model.items import Model
from drawknife.core.model.putting import items_at, with_items
from drawknife.core.model.soundness import Flaw

#: For items (section, name), the newest later revision that changed each, of those that were.
Later = Callable[[Sequence[tuple[str, str]]], Mapping[tuple[str, str], int]]


def undone(model: Model, revision: int, items: Sequence[Differs], later: Later) -> Model:
    """The model with what a revision did undone.

    :class:`ChangeRefused` where an item is not as that revision left it, with the later revision
    that touched it, unless it is already as it is to be; and where what would come of it is no
    sound model.
    """
    today = items_at(model, {(x.section, x.name) for x in items})
    put: dict[str, dict[str, list[Any]]] = {}
    touched: list[Differs] = []
    for x in items:
        there = put.setdefault(x.section, {}).setdefault(
            x.name, list(today.get((x.section, x.name), ()))
        )
        if (x.after is None and not there) or x.after in there:
            if x.after is not None:
                there.remove(x.after)
            if x.before is not None:
                there.append(x.before)
        elif not ((x.before is None and not there) or x.before in there):
            touched.append(x)
    if touched:
        by = later([(x.section, x.name) for x in touched])
        raise ChangeRefused(
            [
                Flaw(
                    (),
                    (
                        f"{x.section.replace('_', ' ')} {x.name} was touched later, by revision"
                        f" {by[x.section, x.name]}"
                        if (x.section, x.name) in by
                        else f"{x.section.replace('_', ' ')} {x.name} is not as it was left"
                    ),
                )
                for x in touched
            ],
            f"revision {revision} cannot be taken back: something later touched what it changed",
        )
    return checked(with_items(model, put), model)


def turned_round(renames: Iterable[tuple[str, str, str]]) -> Renames:
    """The renames that lead back from what some renames made."""
    return Renames([Renaming(kind, new, old) for kind, old, new in reversed(list(renames))])


def renamed_since(then: Model, today: Model, renames: Iterable[tuple[str, str, str]]) -> Renames:
    """The renames that lead from the names of today to those of a model of the past, of what is
    there in both.
    """
    forward = Renames([Renaming(*x) for x in renames])
    found = []
    for kind, items in (
        ("account", "accounts"),
        ("group", "groups"),
        ("store", "stores"),
        ("endpoint", "endpoints"),
        ("unit", "units"),
    ):
        names = {x if kind == "unit" else x.name for x in getattr(today, items)}
        for x in getattr(then, items) if forward else ():
            was = x if kind == "unit" else x.name
            now = forward.name(kind, was)
            if now != was and now in names and was not in names:
                found.append(Renaming(kind, now, was))
    return Renames(found)
