"""Models of the past: the one in force with all that was changed since undone, item by item.

The journal keeps each item that a change changed, before and after it. So the model as of a
revision is today's with, for each item that was changed since, what the first of these changes
found: the more was changed, the longer it takes, and not the larger the model is.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from typing import Any, NamedTuple

from drawknife.answers.when import CountingRevision
from drawknife.core.decide.since import destinations, holding_ever, possible_folders
from drawknife.core.model.difference import Differs
from drawknife.core.model.items import Model
from drawknife.core.model.kinds import LINES, OF_SECTION, UNIT, VIRTUAL_PATH
from drawknife.core.model.putting import with_items
from drawknife.core.model.values import moment
from drawknife.core.prepared.question import Question
from drawknife.core.words.errors import BadInput, NotFound, Refused
from drawknife.core.words.names import BadValue, Place, fold, parse_place
from drawknife.formats.model_file import read_item

from .database import Database
from .journal import Item, sides_of
from .snapshots import Snapshot
from .tables import KEPT_LINES

#: What is expected where a revision is not there.
KNOWN = "a number that the journal has"


class AsOf(NamedTuple):
    """A revision, and the time from which questions about it count."""

    revision: int
    at: datetime


class NotKept(Refused):
    """The past that is asked for is not available: it was removed, or an older version only counted
    its changes.
    """


def history_start(database: Database) -> AsOf | None:
    """Return the first available revision; None if no history was removed (:mod:`.retention`)."""
    rows = database.read(
        "SELECT s.revision, r.at FROM shortened s JOIN revisions r ON number = s.revision ORDER BY"
        " 1 DESC LIMIT 1"
    )
    return AsOf(*rows[0]) if rows else None


def check_not_removed(database: Database, number: int, with_changes: bool = True) -> None:
    """:class:`NotKept` for a removed revision; of the first one kept only the model is left."""
    start = history_start(database)
    if start is None or number > start.revision:
        return
    if with_changes or number < start.revision:
        raise NotKept(
            f"Revision {number} was removed. The history starts with the model of revision"
            f" {start.revision} ({start.at:%Y-%m-%d %H:%M} UTC)."
        )


def as_of(database: Database, text: str) -> AsOf:
    """What ``as_of`` names: a revision, as of when it was made, or a time, and the revision in
    force then.

    Raises :class:`NotFound` for a revision that there is not, :class:`NotKept` for one that was
    removed, :class:`BadInput` for what is neither, lies ahead, or lies before the first revision.
    """
    if text.isascii() and text.isdecimal():
        rows = database.read(
            "SELECT number, at FROM revisions WHERE number = %s", (int(text[:18]),)
        )
        if not rows:
            raise NotFound("revision", text, [], "as_of", KNOWN)
        check_not_removed(database, rows[0][0], with_changes=False)
        return AsOf(*rows[0])
    try:
        at = moment(text)
    except BadValue:
        raise BadInput(
            "as_of", f"{text!r} is no revision and no time", "812, or 2026-11-20T08:00:00+00:00"
        ) from None
    (now,) = database.read("SELECT clock_timestamp()")[0]
    if at > now:
        raise BadInput("as_of", f"{at:%Y-%m-%d %H:%M} UTC lies ahead", "a time that has been")
    rows = database.read(
        "SELECT number FROM revisions WHERE at <= %s ORDER BY number DESC LIMIT 1", (at,)
    )
    if not rows:
        first = database.read("SELECT min(at) FROM revisions")[0][0]
        begins = f"the first was made {first:%Y-%m-%d %H:%M} UTC" if first else "there is none yet"
        raise BadInput(
            "as_of",
            f"{at:%Y-%m-%d %H:%M} UTC is before the first revision: {begins}",
            "a later time",
        )
    check_not_removed(database, rows[0][0], with_changes=False)
    return AsOf(rows[0][0], at)


def model_at(database: Database, newest: Snapshot, revision: int) -> Model:
    """The model as of a revision, undone from the newest one.

    :class:`NotKept` if that is not possible.
    """
    if revision == newest.revision:
        return newest.model
    put: dict[str, dict[str, list[Any]]] = {}
    _check_kept(database, revision)
    rows = database.read(
        "SELECT DISTINCT ON (section, name) section, name, c.before FROM item_changes c JOIN"
        " journal ON id = line WHERE revision > %s AND revision <= %s AND section <> %s ORDER BY"
        " section, name, revision, number",
        (revision, newest.revision, VIRTUAL_PATH.section),
    )
    for section, name, before in rows:
        if is_of_model(section):
            put.setdefault(section, {})[name] = (
                [] if before is None else [item_from(section, json.loads(before))]
            )
    old = _old_lines(database, revision, newest.revision)
    _undo_sides(put, old)
    paths = database.read(
        "SELECT name, c.before, c.after FROM item_changes c JOIN journal ON id = line WHERE"
        " revision > %s AND revision <= %s AND section = %s ORDER BY revision DESC, number DESC",
        (revision, newest.revision, VIRTUAL_PATH.section),
    )
    paths += [
        (name, *(None if x is None else json.dumps(x) for x in sides))
        for _, items in old
        for section, name, *sides in items
        if section == VIRTUAL_PATH.section
    ]
    if paths:
        put[VIRTUAL_PATH.section] = _undone_paths(newest.model, paths)
    return with_items(newest.model, put)


def is_of_model(section: str) -> bool:
    """Does the journal tell of an item of the model, or of something beside it?"""
    return section in OF_SECTION or section in LINES


def item_from(section: str, data: Any) -> Any:
    """An item as the journal has it, made again, in canonical form."""
    if section == UNIT.section:
        return data
    if section in LINES:
        return KEPT_LINES.get(section, LINES[section].read)(data)
    kind = OF_SECTION[section]
    return kind.sorted(read_item(kind.name, data))


def _undone_paths(
    model: Model, rows: Sequence[tuple[str, str | None, str | None]]
) -> dict[str, list[Any]]:
    """Virtual paths, of which several may be called alike: undone one by one, the last change
    first.
    """
    found: dict[str, list[Any]] = {name: [] for name, _, _ in rows}
    for v in model.virtual_paths:
        called = VIRTUAL_PATH.called(v)
        if called in found:
            found[called].append(v)
    for name, before, after in rows:
        if after is not None:
            found[name].remove(item_from(VIRTUAL_PATH.section, json.loads(after)))
        if before is not None:
            found[name].append(item_from(VIRTUAL_PATH.section, json.loads(before)))
    return found


# --- lines of older versions --------------------------------------------------------------------


def _check_kept(database: Database, revision: int) -> None:
    for number, items in _old_lines(database, revision, 2**62):
        if any(before == "counted" for _, _, before, _ in items):
            raise NotKept(
                f"revision {number} was made by an older version, which only counted what it"
                " changed: nothing before it can be had back"
            )


def _old_lines(database: Database, revision: int, newest: int) -> list[tuple[int, list[Item]]]:
    """Revisions after one of which an older version kept the items in another way, the
    last first.
    """
    rows = database.read(
        "SELECT revision, before, after FROM journal WHERE revision > %s AND revision <= %s AND"
        " before IS NOT NULL ORDER BY revision DESC",
        (revision, newest),
    )
    return [(number, list(sides_of(before or {}, after or {}))) for number, before, after in rows]


def _undo_sides(
    put: dict[str, dict[str, list[Any]]], lines: Iterable[tuple[int, list[Item]]]
) -> None:
    for _, items in lines:
        for section, name, before, _after in items:
            if is_of_model(section) and section != VIRTUAL_PATH.section:
                put.setdefault(section, {})[name] = (
                    [] if before is None else [item_from(section, before)]
                )


# --- single revisions ---------------------------------------------------------------------------


class Revision(NamedTuple):
    """One revision: when, who, and what, in the journal's words; what it renamed."""

    number: int
    at: datetime
    who: str
    what: str
    renames: tuple[tuple[str, str, str], ...]


_REVISION = "SELECT revision, at, who, what, renames FROM journal"


def read_revision(database: Database, number: int) -> Revision:
    """One revision; :class:`NotFound`."""
    rows = database.read(f"{_REVISION} WHERE revision = %s", (number,))
    if not rows:
        check_not_removed(database, number)
        raise NotFound("revision", str(number), [], "revision", KNOWN)
    return _revision(rows[0])


def read_revisions(database: Database, numbers: Sequence[int]) -> dict[int, Revision]:
    """Some revisions, by their numbers."""
    rows = database.read(f"{_REVISION} WHERE revision = ANY(%s)", (list(numbers),))
    return {row[0]: _revision(row) for row in rows}


def _revision(row: Any) -> Revision:
    number, at, who, what, renames = row
    return Revision(
        number, at, who, what, tuple((k, a, b) for k, a, b in json.loads(renames or "[]"))
    )


def renames_since(database: Database, revision: int) -> list[tuple[str, str, str]]:
    """All that was renamed after a revision, (kind, old name, new name), in order."""
    rows = database.read(
        "SELECT renames FROM journal WHERE revision > %s AND renames IS NOT NULL ORDER BY revision",
        (revision,),
    )
    return [(kind, old, new) for (renames,) in rows for kind, old, new in json.loads(renames)]


class Touched(NamedTuple):
    """An item that a revision changed, as plain data."""

    revision: int
    section: str
    name: str
    before: Any
    after: Any


def items_of(database: Database, number: int) -> list[Touched]:
    """Every item of the model that a revision changed. :class:`NotKept` if it was only counted."""
    rows = database.read(
        "SELECT section, name, c.before, c.after FROM item_changes c JOIN journal ON id = line"
        " WHERE revision = %s ORDER BY number",
        (number,),
    )
    found = [
        Touched(number, s, n, b and json.loads(b), a and json.loads(a))
        for s, n, b, a in rows
        if is_of_model(s)
    ]
    for _, items in _old_lines(database, number - 1, number):
        _check_kept(database, number - 1)
        found += [Touched(number, *x) for x in items]
    return found


def touched_since(
    database: Database, number: int, names: Iterable[tuple[str, str]]
) -> Iterator[tuple[str, str, int]]:
    """Which of some items (section, name) a later revision changed, with the newest that did."""
    sections, called = zip(*names, strict=True) if (names := list(names)) else ((), ())
    rows = database.read(
        "SELECT c.section, c.name, max(revision) FROM item_changes c JOIN journal ON id = line JOIN"
        " unnest(%s::text[], %s::text[]) AS t (section, name) ON c.section = t.section AND c.name ="
        " t.name WHERE revision > %s GROUP BY c.section, c.name",
        (list(sections), list(called), number),
    )
    yield from ((section, name, revision) for section, name, revision in rows)


def removed_after(database: Database, newest: Snapshot, account: str) -> int | None:
    """Return the last revision that had an account of this name, if today's model has none and an
    earlier one did.
    """
    wanted = fold(account)
    if any(fold(a.name) == wanted for a in newest.model.accounts):
        return None
    rows = database.read(
        "SELECT name, max(revision) FROM item_changes c JOIN journal ON id = line WHERE section ="
        " 'accounts' AND revision IS NOT NULL AND c.before IS NOT NULL GROUP BY name"
    )
    return max((revision - 1 for name, revision in rows if fold(name) == wanted), default=None)


# --- what counts for one question ---------------------------------------------------------------

_COUNTING = ("groups", "units", "virtual_paths", "stores", "gone")
_AT_AN_ENDPOINT = ("endpoints", "settings", "inside", "openings", "forwardings")


def steps_for(
    database: Database, newest: Snapshot, question: Question
) -> tuple[list[CountingRevision], dict[str, set[str]], set[str]]:
    """The revisions that changed something that can count for a question, the newest first; the
    folders that can, and
    the groups.

    Folders are by store; stores and groups are in the form in which names are compared.
    """
    _check_kept(database, 0)
    names = [question.account]
    for kind, old, new in reversed(renames_since(database, 0)):
        if kind == "account" and new == names[-1]:
            names.append(old)
    sections = [*_COUNTING, *(_AT_AN_ENDPOINT if question.endpoint is not None else ())]
    rows = _items(
        database,
        "section = ANY(%s) OR (section = 'accounts' AND name = ANY(%s))",
        (sections, names),
    )
    accounts = [a for a in newest.model.accounts if a.name in names]
    accounts += [
        x for _, i in rows if i.section == "accounts" for x in (i.before, i.after) if x is not None
    ]
    changed_groups = [
        x for _, i in rows if i.section == "groups" for x in (i.before, i.after) if x is not None
    ]
    groups = holding_ever([*newest.model.groups, *changed_groups], accounts)
    rows = [(number, i) for number, i in rows if i.section != "groups" or _is_of(groups, i)]
    paths = [*newest.model.virtual_paths]
    paths += [
        x
        for _, i in rows
        if i.section == VIRTUAL_PATH.section
        for x in (i.before, i.after)
        if x is not None
    ]
    places = {
        place
        for account in accounts
        for location in (question.path, question.to)
        if location is not None
        for place in possible_folders(account, paths, location)
    }
    below = {
        f"{place}/" for account in accounts for place in destinations(account, paths, question)
    }
    named = [str(place) for place in places]
    rows += _items(database, "section = 'folders' AND name = ANY(%s)", (named,))
    if below:
        some = (
            "EXISTS (SELECT FROM unnest(%s::text[]) AS top WHERE starts_with(name, top)) AND name"
            " <> ALL(%s)"
        )
        lower = _items(database, f"section = 'folders' AND {some}", (sorted(below), named))
        every = (Place(s.name, f.path) for s in newest.model.stores for f in s.folders)
        places |= {place for place in every if str(place).startswith(tuple(below))}
        places |= {parse_place(i.name) for _, i in lower}
        rows += lower
    by_revision: dict[int, list[Differs]] = {}
    for revision, item in rows:
        by_revision.setdefault(revision, []).append(item)
    known = read_revisions(database, list(by_revision))
    steps = [
        CountingRevision(*known[number], tuple(by_revision[number]))
        for number in sorted(by_revision, reverse=True)
    ]
    folders: dict[str, set[str]] = {}
    for place in places:
        folders.setdefault(fold(place.store), set()).add(place.path)
    return steps, folders, groups


def _is_of(groups: set[str], item: Differs) -> bool:
    return any(x is not None and fold(x.name) in groups for x in (item.before, item.after))


def _items(
    database: Database, where: str, parameters: tuple[Any, ...]
) -> list[tuple[int, Differs]]:
    rows = database.read(
        "SELECT revision, section, name, c.before, c.after FROM item_changes c JOIN journal ON id"
        f" = line WHERE revision IS NOT NULL AND ({where}) ORDER BY revision, number",
        parameters,
    )
    made: dict[tuple[str, str], Any] = {}  # what one revision made of an item, the next one found

    def side(section: str, text: str | None) -> Any:
        if text is None:
            return None
        if (section, text) not in made:
            made[section, text] = item_from(section, json.loads(text))
        return made[section, text]

    return [
        (revision, Differs(section, name, side(section, before), side(section, after)))
        for revision, section, name, before, after in rows
    ]
