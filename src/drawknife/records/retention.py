"""Retention: how long data is kept that answers about today do not need, and its removal.

The history is removed up to a revision. The model of that revision is still available: see
:mod:`.history`.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from typing import Any, LiteralString, NamedTuple

from psycopg import Connection, sql
from psycopg.rows import TupleRow

from drawknife.core.model.items import Lockout
from drawknife.core.words.errors import DrawknifeError, nearest
from drawknife.core.words.names import BadValue
from drawknife.core.words.sizes import number_of

from .database import CHANNEL, Database
from .history import as_of
from .journal import write_line


class DataKind(NamedTuple):
    """A kind of data with a retention period in `unit`s; None keeps it forever.

    `minimum` is the shortest period that can be set.
    """

    name: str
    description: str
    unit: str
    default: int | None
    minimum: int


JOURNAL = DataKind("journal", "history of the model, except console sign-ins", "days", None, 30)
CONSOLE_SIGN_INS = DataKind(
    "console-sign-ins", "sign-ins to the console, allowed and refused", "days", None, 1
)
SIGN_INS = DataKind(
    "sign-ins", "sign-ins reported by transfer servers, allowed and refused", "days", 30, 1
)
CENSUSES = DataKind("censuses", "all but the last census of each store", "days", None, 1)
REPORTS = DataKind("reports", "all but the last signed report per subject", "days", None, 1)
CREDENTIALS = DataKind(
    "removed-credentials", "passwords and keys of removed accounts", "days", 30, 0
)
REHEARSALS = DataKind("rehearsal-log", "client actions in rehearsals", "lines", 20_000, 0)
SYNCS = DataKind("syncs", "sync reports per directory", "syncs", 50, 1)
KINDS = (JOURNAL, CONSOLE_SIGN_INS, SIGN_INS, CENSUSES, REPORTS, CREDENTIALS, REHEARSALS, SYNCS)
_BY_NAME = {kind.name: kind for kind in KINDS}

#: The schema step with the tables of this module.
STEP = "024_shortened.sql"
#: The retention period of each kind, by name; None: forever.
Retention = Mapping[str, int | None]
DEFAULT: Retention = {kind.name: kind.default for kind in KINDS}
FOREVER = "forever"


def parse_retention(lines: Iterable[str]) -> Retention:
    """Read periods such as ``sign-ins=90``; the last line on a kind counts. :class:`BadValue`."""
    periods = dict(DEFAULT)
    for line in lines:
        name, _, period = (part.strip() for part in line.partition("="))
        kind = _BY_NAME.get(name)
        if kind is None:
            near = nearest(name, _BY_NAME)
            hint = f"; did you mean {near}?" if near else ""
            raise BadValue(f"unknown data {name!r}{hint}", f"one of {', '.join(_BY_NAME)}")
        periods[name] = _parse_period(kind, period)
    return periods


def _parse_period(kind: DataKind, text: str) -> int | None:
    if text == FOREVER:
        return None
    is_number = text.isascii() and text.isdecimal() and len(text) < 7
    if not is_number or int(text) < kind.minimum:
        wanted = f"{kind.name}=N with at least {kind.minimum} {kind.unit}, or {kind.name}={FOREVER}"
        raise BadValue(f"{text!r} is not a retention period", wanted)
    return int(text)


class Removal(NamedTuple):
    """What is removed of one kind: the number of rows, and the revision that the history starts at
    afterwards.
    """

    kind: DataKind
    rows: int
    history_start: int | None = None

    @property
    def text(self) -> str:
        """One line about it."""
        rows = number_of(self.rows, "row")
        if self.history_start is None:
            return f"{self.kind.name}: {rows}"
        return f"{self.kind.name}: {rows}, history before revision {self.history_start}"


def preview_removal(
    database: Database, retention: Retention, lockouts: Iterable[Lockout] = ()
) -> list[Removal]:
    """Return what :func:`remove_expired` would remove now."""
    removals = []
    start = _new_history_start(database, retention)
    with database.transaction() as connection:
        connection.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
        if start is not None:
            removals.append(Removal(JOURNAL, _count_history(connection, start), start))
        for kind, conditions in _expired(retention, lockouts):
            rows = sum(_count(connection, condition) for condition in conditions)
            removals.append(Removal(kind, rows))
    return [removal for removal in removals if removal.rows]


def remove_expired(
    database: Database, retention: Retention, who: str, lockouts: Iterable[Lockout] = ()
) -> list[Removal]:
    """Remove data past its retention period.

    Sign-ins that count for one of the `lockouts` in force stay, and so does the history that an
    open draft needs. The journal gets a line for the removed history.
    """
    removals = []
    if retention[JOURNAL.name] is not None:
        removals.append(_remove_history(database, retention, who))
    for kind, conditions in _expired(retention, lockouts):
        with database.transaction() as connection:
            rows = sum(_delete(connection, condition) for condition in conditions)
        removals.append(Removal(kind, rows))
    return [removal for removal in removals if removal.rows]


# --- rows of their own ----------------------------------------------------------------------------


class _Condition(NamedTuple):
    """The rows of a table, called `x`, for which an SQL condition holds."""

    table: LiteralString
    where: LiteralString
    parameters: tuple[Any, ...]


_OLDER: LiteralString = "x.at < clock_timestamp() - make_interval(days => %s)"
_OLDER_REPORT: LiteralString = "x.made < clock_timestamp() - make_interval(days => %s)"
_PAST_LOCKOUTS: LiteralString = "x.at < clock_timestamp() - make_interval(secs => %s)"
_NOT_LAST_CENSUS: LiteralString = (
    "x.at < (SELECT max(at) FROM censuses last WHERE last.store = x.store)"
)
_NOT_LAST_LEVEL: LiteralString = (
    "x.at < (SELECT max(at) FROM fill_levels last WHERE last.kind = x.kind AND last.name = x.name)"
)
_NOT_LAST_SIGNED: LiteralString = (
    "x.number IS DISTINCT FROM"
    " (SELECT max(number) FROM reports last WHERE last.about = x.about AND last.signed IS NOT NULL)"
)
_BEYOND_LINES: LiteralString = "x.id <= (SELECT max(id) FROM rehearsal_lines) - %s"
_BEYOND_SYNCS: LiteralString = (
    "(SELECT count(*) FROM syncs newer WHERE newer.directory = x.directory AND newer.at >= x.at)"
    " > %s AND x.at IS DISTINCT FROM"
    " (SELECT max(at) FROM syncs good WHERE good.directory = x.directory AND good.done)"
)


def _expired(
    retention: Retention, lockouts: Iterable[Lockout]
) -> Iterator[tuple[DataKind, list[_Condition]]]:
    """The expired rows of each kind except the history."""
    longest = max((policy.within + policy.lasts for policy in lockouts), default=0)
    conditions: dict[DataKind, list[tuple[LiteralString, LiteralString, tuple[Any, ...]]]] = {
        CONSOLE_SIGN_INS: [("journal", f"x.kind = 'sign-in' AND {_OLDER}", ())],
        SIGN_INS: [("sign_ins", f"{_OLDER} AND {_PAST_LOCKOUTS}", (longest,))],
        CENSUSES: [
            ("censuses", f"{_OLDER} AND {_NOT_LAST_CENSUS}", ()),
            ("fill_levels", f"{_OLDER} AND {_NOT_LAST_LEVEL}", ()),
        ],
        REPORTS: [("reports", f"{_OLDER_REPORT} AND {_NOT_LAST_SIGNED}", ())],
        CREDENTIALS: [("kept_credentials", _OLDER, ())],
        REHEARSALS: [("rehearsal_lines", _BEYOND_LINES, ())],
        SYNCS: [("syncs", _BEYOND_SYNCS, ())],
    }
    for kind, tables in conditions.items():
        period = retention[kind.name]
        if period is not None:
            yield kind, [_Condition(table, where, (period, *more)) for table, where, more in tables]


def _count(connection: Connection[TupleRow], condition: _Condition) -> int:
    query = sql.SQL("SELECT count(*) FROM {} x WHERE ").format(sql.Identifier(condition.table))
    row = connection.execute(query + sql.SQL(condition.where), condition.parameters).fetchone()
    return int(row[0]) if row else 0


def _delete(connection: Connection[TupleRow], condition: _Condition) -> int:
    query = sql.SQL("DELETE FROM {} x WHERE ").format(sql.Identifier(condition.table))
    return connection.execute(query + sql.SQL(condition.where), condition.parameters).rowcount


# --- the history ----------------------------------------------------------------------------------

_HISTORY: LiteralString = (
    "x.kind <> 'sign-in' AND (x.revision <= %(revision)s"
    " OR x.revision IS NULL AND x.at <= (SELECT at FROM revisions WHERE number = %(revision)s))"
)


def _new_history_start(database: Database, retention: Retention) -> int | None:
    """The revision that the history can start at, by the retention period and open drafts.

    None: nothing is removed. The period counts whole days, so the start moves once a day at most.
    """
    days = retention[JOURNAL.name]
    if days is None:
        return None
    rows = database.read(
        "SELECT max(number) FROM revisions"
        " WHERE at < date_trunc('day', clock_timestamp()) - make_interval(days => %s)",
        (days,),
    )
    by_age = rows[0][0]
    if by_age is None:
        return None
    start = min([int(by_age), *_needed_by_drafts(database)])
    (already,) = database.read("SELECT coalesce(max(revision), 0) FROM shortened")[0]
    return start if start > already else None


def _needed_by_drafts(database: Database) -> Iterator[int]:
    """The revisions that the history has to start at, or before, for the steps of open drafts.

    A step is compared with what changed since it was written. A step that reverts a revision needs
    the changes of that revision, one that restores a past needs the model of that time.
    """
    for written_at, text in database.read("SELECT revision, step FROM draft_steps"):
        yield int(written_at)
        step = json.loads(text)
        if step["op"] == "back":
            yield int(step["revision"]) - 1
        elif step["op"] == "back-to":
            try:
                yield as_of(database, str(step["as_of"])).revision
            except DrawknifeError:
                continue  # the step is stale already


def _count_history(connection: Connection[TupleRow], start: int) -> int:
    query = f"SELECT count(*) FROM journal x WHERE {_HISTORY}"
    row = connection.execute(query, {"revision": start}).fetchone()
    return int(row[0]) if row else 0


def _remove_history(database: Database, retention: Retention, who: str) -> Removal:
    with database.transaction() as connection:
        # One at a time, and no draft gets a step meanwhile that needs what is removed.
        connection.execute("LOCK TABLE shortened IN EXCLUSIVE MODE")
        connection.execute("LOCK TABLE draft_steps IN SHARE MODE")
        start = _new_history_start(database, retention)
        if start is None:
            return Removal(JOURNAL, 0)
        parameters = {"revision": start}
        connection.execute(
            f"DELETE FROM item_changes WHERE line IN (SELECT id FROM journal x WHERE {_HISTORY})",
            parameters,
        )
        rows = connection.execute(f"DELETE FROM journal x WHERE {_HISTORY}", parameters).rowcount
        connection.execute("INSERT INTO shortened (revision, who) VALUES (%s, %s)", (start, who))
        # Older services would take later models for earlier ones, so they stop answering.
        connection.execute(
            "UPDATE schema_steps SET older_may_answer = false WHERE name = %s", (STEP,)
        )
        connection.execute(f"NOTIFY {CHANNEL}")
        removed = f"removed the history before revision {start} ({number_of(rows, 'line')})"
        write_line(connection, who, removed, kind="other")
    return Removal(JOURNAL, rows, start)
