"""Single changes that a way is made of, as docs/reference/changes.md has them; and how many people they speak of."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from typing import Any

from drawknife.core.model.items import Entry, Grant, Member, Subject, VirtualPath
from drawknife.core.model.kinds import VIRTUAL_PATH
from drawknife.core.prepared.people import PreparedAccount
from drawknife.core.words.names import Place
from drawknife.core.words.rights import BIT

Change = dict[str, Any]
#: One thing to do, which may take several changes that belong together.
Way = tuple[Change, ...]
#: So many groups and units of somebody's standing are offered besides the account itself, the nearest first.
MOST_SUBJECTS = 4


def written(line: Entry | Grant | Member, key: str = "line") -> str | dict[str, str]:
    """A line as a change has it, with its end and note where there are any."""
    more = {"until": str(line.until)} if line.until else {}
    if line.note:
        more["note"] = line.note
    return {key: line.says(), **more} if more else line.says()


def lasting(line: Entry | Grant | Member, until: date, key: str = "line") -> dict[str, str]:
    """A line again, to a later day."""
    found: Any = line._replace(until=until)
    text = written(found, key)
    assert isinstance(text, dict)
    return text


def edited(kind: str, name: str, field: str, add: Iterable[Any] = (), drop: Iterable[Any] = ()) -> Change:
    """Lines added to a list of an item, or taken away."""
    change: Change = {"op": "change", "kind": kind, "name": name}
    for way, lines in (("add", list(add)), ("drop", list(drop))):
        if lines:
            change[way] = {field: lines}
    return change


def set_to(kind: str, name: str, **values: Any) -> Change:
    """Values of an item set."""
    return {"op": "change", "kind": kind, "name": name, "set": values}


def at_folder(place: Place, add: Iterable[Any] = (), drop: Iterable[Any] = ()) -> Change:
    return edited("folder", str(place), "entries", add, drop)


def in_group(group: str, add: Iterable[Any] = (), drop: Iterable[Any] = ()) -> Change:
    return edited("group", group, "members", add, drop)


def on_path(vpath: VirtualPath, add: Iterable[Any] = (), drop: Iterable[Any] = ()) -> Change:
    return edited("virtual-path", VIRTUAL_PATH.called(vpath), "grants", add, drop)


def at_endpoint(name: str, add: Iterable[Any] = (), drop: Iterable[Any] = (), field: str = "entries") -> Change:
    return edited("endpoint", name, field, add, drop)


def subjects_of(account: PreparedAccount) -> list[Subject]:
    """The account, and the nearest groups and units that it counts as."""
    own = Subject("account", account.name)
    ranks = account.standing.ranks
    others = sorted((s for s in ranks if s.kind in ("group", "unit")), key=lambda s: (ranks[s], s))
    return [own, *others[:MOST_SUBJECTS]]


def without_rights(line: Entry | Grant, *rights: str) -> str | dict[str, str] | None:
    """The line with some rights less; None if nothing is left of it."""
    left = line.rights
    for right in rights:
        left &= ~BIT[right]
    return written(line._replace(rights=left)) if left else None


def with_rights(line: Grant, rights: Iterable[str]) -> str | dict[str, str]:
    """The grant with more rights, and entering, without which it is of no use."""
    more = line.rights | BIT["enter"]
    for right in rights:
        more |= BIT[right]
    return written(line._replace(rights=more))


def new_grant(subject: Subject, rights: Iterable[str]) -> str:
    """A grant of some rights, and entering."""
    bits = BIT["enter"]
    for right in rights:
        bits |= BIT[right]
    return Grant(subject, bits).says()
