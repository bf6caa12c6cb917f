"""A model narrowed to what counts for one question, so that many changes of it can be tried (all
but the limits).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from itertools import islice

from drawknife.core.decide.since import (
    destinations,
    holding_ever,
    only_what_counts,
    possible_folders,
)
from drawknife.core.model.items import Account, Group, Model, Subject
from drawknife.core.prepared.question import Question
from drawknife.core.words.names import fold, rest_below

#: A model of no more accounts than this stays as it is.
SMALL = 200


def narrowed(model: Model, question: Question, small: int = SMALL) -> Model:
    """The model with the asker, whoever the lines that count name, the folders on the way, and the
    virtual paths there.
    """
    if len(model.accounts) <= small:
        return replace(model, promises=(), trials=())
    locations = [x for x in (question.path, question.to) if x is not None]
    asker = next(a for a in model.accounts if fold(a.name) == fold(question.account))
    places = {p for at in locations for p in possible_folders(asker, model.virtual_paths, at)}
    folders: dict[str, set[str]] = {}
    for place in places:
        folders.setdefault(fold(place.store), set()).add(place.path)
    for place in destinations(asker, model.virtual_paths, question):
        # That there is a folder below it is all that counts of those.
        every = (
            f.path for s in model.stores if fold(s.name) == fold(place.store) for f in s.folders
        )
        folders[fold(place.store)].update(
            islice((p for p in every if p.startswith(place.path + "/")), 1)
        )
    paths = tuple(v for v in model.virtual_paths if any(_related(v.path, at) for at in locations))
    there = [f for s in model.stores for f in s.folders if f.path in folders.get(fold(s.name), ())]
    named = [
        *(e.subject for f in there for e in f.entries),
        *(g.subject for v in paths for g in v.grants),
        *(e.subject for x in model.endpoints for e in x.entries),
        *(s for x in model.endpoints for s in x.never),
        *(s for x in model.endpoints for s in x.only or ()),
        *(x.subject for x in model.settings),
    ]
    names = {
        asker.name,
        *(s.name for s in named if s.kind == "account"),
        *(f.owner for f in there if f.owner),
    }
    names |= {question.owner} if question.owner else set()
    names |= {
        str(value) for x in model.settings for key, value in x.values if key == "uploads_owner"
    }
    kept = only_what_counts(model, sorted(names), folders)
    holding = holding_ever(model.groups, [asker])
    groups = {s for s in named if s.kind == "group"}
    groups |= {Subject("group", g.name) for g in model.groups if fold(g.name) in holding}
    return replace(
        kept,
        virtual_paths=paths,
        promises=(),
        trials=(),
        groups=_without_others(kept, kept.accounts, groups),
    )


def _related(path: str, location: str) -> bool:
    """Does one lie at or below the other?"""
    return rest_below(location, path) is not None or rest_below(path, location) is not None


def _without_others(
    model: Model, accounts: Iterable[Account], groups: set[Subject]
) -> tuple[Group, ...]:
    there = {Subject("account", a.name) for a in accounts} | groups
    return tuple(
        replace(
            g, members=tuple(m for m in g.members if m.subject.kind == "unit" or m.subject in there)
        )
        for g in model.groups
        if Subject("group", g.name) in groups
    )
