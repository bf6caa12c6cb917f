"""What transfer servers report of sign-ins: kept for lockout, and for the sessions in use."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any, NamedTuple

from drawknife.core.model.items import Model
from drawknife.core.prepared.lockout import Attempt, Counting, counting, standing_now
from drawknife.core.words.names import fold

from .database import Database


class Event(NamedTuple):
    at: datetime
    what: str
    account: str
    address: str
    endpoint: str | None
    session: str | None


def add_events(database: Database, events: Iterable[Event]) -> int:
    """Keep what was reported; returns how many."""
    rows = [(*e[:3], fold(e.account), *e[3:]) for e in events]
    with database.transaction() as connection:
        connection.cursor().executemany(
            "INSERT INTO sign_ins (at, what, account, folded, address, endpoint, session) VALUES"
            " (%s, %s, %s, %s, %s, %s, %s)",
            rows,
        )
    return len(rows)


def _attempts(rows: Iterable[tuple[Any, ...]]) -> list[Attempt]:
    return [Attempt(at, account, address, what == "began") for at, what, account, address in rows]


_SELECT = "SELECT at, what, account, address FROM sign_ins s WHERE what <> 'ended'"


def locks_on(
    database: Database, model: Model, account: str, address: str | None, at: datetime
) -> tuple[Counting, ...]:
    """What locks an account, or an address, at a moment."""
    found = []
    for policy in model.lockouts:
        name = fold(account) if policy.of == "account" else address
        if name is None:
            continue
        column = "folded" if policy.of == "account" else "address"
        rows = database.read(
            f"{_SELECT} AND {column} = %s AND at > coalesce((SELECT at FROM lifted WHERE of = %s"
            " AND name = %s), '-infinity') ORDER BY at",
            (name, policy.of, name),
        )
        state = counting(policy, name, _attempts(rows), at)
        if state.until is not None:
            found.append(state)
    return tuple(found)


def all_counting(database: Database, model: Model, at: datetime) -> list[Counting]:
    """Every account and address that something counts against, the locked ones first."""
    out: list[Counting] = []
    for of, column in (("account", "folded"), ("address", "address")):
        rows = database.read(
            f"{_SELECT} AND at > coalesce((SELECT at FROM lifted l WHERE l.of = %s AND l.name ="
            f" s.{column}), '-infinity') ORDER BY at",
            (of,),
        )
        out += [c for c in standing_now(model, _attempts(rows), at) if c.of == of]
    return sorted(out, key=lambda c: (c.until is None, c.of, c.name))


def lift(database: Database, of: str, name: str, who: str) -> None:
    """Let nothing before now count against an account or an address."""
    with database.transaction() as connection:
        connection.execute(
            "INSERT INTO lifted (of, name, who) VALUES (%s, %s, %s)"
            " ON CONFLICT (of, name) DO UPDATE SET at = clock_timestamp(), who = excluded.who",
            (of, fold(name) if of == "account" else name, who),
        )


def last_sign_ins(database: Database, accounts: Iterable[str]) -> dict[str, datetime]:
    """When each of some accounts signed in last, by the form in which names are compared; as far
    back as it is kept.
    """
    return dict(
        database.read(
            "SELECT folded, max(at) FROM sign_ins WHERE what = 'began' AND folded = ANY(%s) GROUP"
            " BY folded",
            ([fold(name) for name in accounts],),
        )
    )


def sessions_open(database: Database, account: str, at: datetime) -> int:
    """How many sessions of an account began, and have not ended, at a moment."""
    rows = database.read(
        "SELECT count(*) FROM sign_ins b WHERE b.what = 'began' AND b.folded = %s AND b.at <= %s"
        " AND NOT EXISTS (SELECT 1 FROM sign_ins e WHERE e.what = 'ended' AND e.session = b.session"
        " AND e.folded = b.folded AND e.at BETWEEN b.at AND %s)",
        (fold(account), at, at),
    )
    return int(rows[0][0])
