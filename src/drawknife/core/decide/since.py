"""Since when somebody can do a thing: the verdict on one question, from one model to the next
(docs/rules.md, "History").
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import date, datetime, timedelta
from typing import Any

from ..model.ending import ends
from ..model.items import Account, Group, Model, Store, VirtualPath
from ..prepared.namespace import expand
from ..prepared.prepared import prepare
from ..prepared.question import Question, Verdict
from ..words.names import BadValue, Place, ancestors, fold, join, rest_below, unit_ancestors
from .gates import UnknownName, verdict


def led_to(account: Account, paths: Sequence[VirtualPath], location: str) -> set[Place]:
    """The folders that any of some virtual paths could lead an account to at a location."""
    found: set[Place] = set()
    for v in paths:
        rest = rest_below(location, v.path)
        if rest is None:
            continue
        try:
            top = expand(v, account)
        except BadValue:
            continue
        found.add(Place(top.store, join(top.path, rest)))
    return found


def possible_folders(account: Account, paths: Sequence[VirtualPath], location: str) -> set[Place]:
    """The same, and all folders above them."""
    return {
        Place(p.store, at) for p in led_to(account, paths, location) for at in ancestors(p.path)
    }


def destinations(account: Account, paths: Sequence[VirtualPath], question: Question) -> set[Place]:
    """Where a thing could be moved to: it counts whether a folder is recorded there, or anywhere
    below.
    """
    if question.to is None:
        return set()
    return {place for place in led_to(account, paths, question.to) if place.path != "/"}


def holding_ever(groups: Iterable[Group], accounts: Iterable[Account]) -> set[str]:
    """The names, in the form in which they are compared, of the groups that hold somebody, directly
    or through others.

    `groups` and `accounts` may be of several times: a group that held one at any of them is among
    those found.
    """
    held: dict[tuple[str, str], set[str]] = {}
    for group in groups:
        for member in group.members:
            held.setdefault((member.subject.kind, fold(member.subject.name)), set()).add(
                fold(group.name)
            )
    todo = {("account", fold(a.name)) for a in accounts}
    todo |= {("unit", fold(u)) for a in accounts for u in unit_ancestors(a.unit or "")}
    found: set[str] = set()
    while todo:
        new = held.get(todo.pop(), set()) - found
        found |= new
        todo |= {("group", name) for name in new}
    return found


def only_what_counts(
    model: Model,
    names: Sequence[str],
    folders: Mapping[str, set[str]],
    groups: set[str] | None = None,
) -> Model:
    """The model with some of its accounts, and some folders of each store: all that counts for one
    question.

    `groups`, in the form in which names are compared: no others are kept.
    """
    wanted = {fold(name) for name in names}

    def store(s: Store) -> Store:
        here = folders.get(fold(s.name), set())
        return replace(s, folders=tuple(f for f in s.folders if f.path in here))

    return replace(
        model,
        accounts=tuple(a for a in model.accounts if fold(a.name) in wanted),
        stores=tuple(map(store, model.stores)),
        groups=(
            model.groups
            if groups is None
            else tuple(g for g in model.groups if fold(g.name) in groups)
        ),
        usage=(),
        quotas=(),
    )


def turning_days(model: Model, account: str) -> list[date]:
    """The days on which a verdict about an account can turn though nothing is changed: a line or
    the account ends.
    """
    days = {end + timedelta(days=1) for end in ends(model) if end < date.max}
    days |= {
        a.expires + timedelta(days=1)
        for a in model.accounts
        if fold(a.name) == fold(account) and a.expires is not None and a.expires < date.max
    }
    return sorted(days)


def verdict_at(model: Model, question: Question, at: datetime) -> Verdict | None:
    """The verdict as of a moment; None where the account, or the endpoint, is not there."""
    try:
        return verdict(prepare(model), question, at)
    except UnknownName:
        return None


def without_hours(model: Model) -> Model:
    """The model without hours: by them a verdict turns every day."""
    values: Any = (
        replace(s, values=tuple(v for v in s.values if v[0] != "hours")) for s in model.settings
    )
    return replace(model, settings=tuple(values))
