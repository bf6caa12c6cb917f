"""Following who is renamed in a directory: by what the directory knows them by, such as
``entryUUID`` (RFC 4530).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from drawknife.core.model import edits
from drawknife.core.model.items import Model
from drawknife.core.words.names import fold

from .reading import DirectoryContents
from .sync_notes import Notes


def follow(
    model: Model,
    directory: str,
    found: DirectoryContents,
    renames: list[tuple[str, str, str]],
    notes: Notes,
) -> Model:
    """The model with its accounts and groups of this directory called as they are called there.

    What is renamed is put into `renames`, in the order in which it was done, and what cannot be
    into `notes`.
    """
    people = {p.id: p.name for p in found.people.values() if p.id is not None}
    groups = {
        found.group_ids[key]: name
        for name in found.groups
        if (key := fold(name)) in found.group_ids
    }
    for kind, called, items in (
        ("account", people, model.accounts),
        ("group", groups, model.groups),
    ):
        pairs = _pairs(directory, called, items)
        names = {fold(x.name) for x in items}
        done = _in_order(pairs, names)
        if done:
            model = edits.rename(model, kind, done)
            renames += [(kind, old, new) for old, new in done]
        for old, new in pairs:
            if (old, new) not in done:
                notes.say(
                    "kept-name",
                    f"{kind} {old} keeps its name: the directory calls it {new}, but {new} already"
                    " exists here",
                )
    return model


def _pairs(
    directory: str, called: Mapping[str, str], items: Sequence[Any]
) -> list[tuple[str, str]]:
    """What is called otherwise there: (name here, name there)."""
    known: set[str] = set()
    pairs = []
    for item in items:
        by = item.source_id
        if item.source == directory and by in called and by not in known:
            known.add(by)
            if fold(called[by]) != fold(item.name):
                pairs.append((item.name, called[by]))
    return pairs


def _in_order(pairs: Sequence[tuple[str, str]], names: set[str]) -> list[tuple[str, str]]:
    """Those that can be done one after the other, each to a name that is free by then."""
    there, left, done = set(names), list(pairs), []
    while free := [p for p in left if fold(p[1]) not in there]:
        old, new = free[0]
        there = there - {fold(old)} | {fold(new)}
        left.remove(free[0])
        done.append(free[0])
    return done
