"""Single changes that a way is made of, as docs/reference/changes.md has them; and how many people
they speak of.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
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
#: So many groups and units of somebody's standing are offered besides the account itself, the
#: nearest first.
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


def with_end(
    changes: Sequence[Change], until: date | None, note: str | None
) -> tuple[tuple[Change, ...], bool]:
    """The changes with a last day and a note on each line that they add; and whether all of them
    end by that day.

    A line that is wider than one that it takes the place of goes beside that one instead, which
    stays when it ends. What refuses gets no last day: it would let more from then on.
    """
    given = {
        key: value for key, value in (("until", until and str(until)), ("note", note)) if value
    }
    found = []
    all_end = True
    for change in changes:
        lists = {way: dict(change.get(way) or {}) for way in ("add", "drop")}
        item = dict(change.get("item") or {})
        ending = False
        for field, lines in [*lists["add"].items(), *((k, item[k]) for k in _LINES if k in item)]:
            if field not in _LINES:
                continue
            allowing = not any(_text_of(line).startswith(("deny ", "forbid ")) for line in lines)
            values = given if allowing else {k: v for k, v in given.items() if k != "until"}
            there = lists["add"] if field in lists["add"] else item
            there[field] = [_line_with(line, values, _LINES[field]) for line in lines]
            ending = ending or (allowing and bool(until))
            if allowing and until:
                lists["drop"].pop(field, None)
        more = {way: lines for way, lines in lists.items() if lines}
        kept = {k: v for k, v in change.items() if k not in ("add", "drop", "item")}
        found.append({**kept, **({"item": item} if item else {}), **more})
        all_end = all_end and ending and not lists["drop"] and "set" not in change
    return tuple(found), all_end


#: The lists whose lines can have a last day and a note, with the key of a line that has one.
_LINES = {"entries": "line", "grants": "line", "members": "member"}


def _text_of(line: Any) -> str:
    return line if isinstance(line, str) else str(line.get("line") or line.get("member"))


def _line_with(line: Any, values: Mapping[str, Any], key: str) -> Any:
    if not values:
        return line
    return {**(line if isinstance(line, dict) else {key: line}), **values}


def edited(
    kind: str, name: str, field: str, add: Iterable[Any] = (), drop: Iterable[Any] = ()
) -> Change:
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


def at_endpoint(
    name: str, add: Iterable[Any] = (), drop: Iterable[Any] = (), field: str = "entries"
) -> Change:
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
