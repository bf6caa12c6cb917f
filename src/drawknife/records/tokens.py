"""Tokens: who may use the service. Only their SHA-256 digests are kept."""

from __future__ import annotations

import secrets
from datetime import timedelta
from hashlib import sha256

from .database import Database

PREFIX = "dk_"


def digest(token: str) -> bytes:
    """What is kept of a token. The token is random and long, so a fast digest is enough."""
    return sha256(token.encode("utf-8", "surrogatepass")).digest()


def make_token(database: Database, name: str, kind: str = "token", lasts: timedelta | None = None) -> str:
    """Make a token, a console `session`, or a `code` that can be exchanged for one once."""
    token = PREFIX + secrets.token_urlsafe(32)
    with database.connection() as connection:
        connection.execute("DELETE FROM tokens WHERE expires < clock_timestamp()")
        connection.execute(
            "INSERT INTO tokens (digest, name, kind, expires) VALUES (%s, %s, %s, clock_timestamp() + %s)",
            (digest(token), name, kind, lasts),
        )
    return token


def holder(database: Database, token: str, kind: str | None = None) -> str | None:
    """Whose token or session it is; None if it is none, or no longer. `kind`: only one of this kind."""
    rows = database.read(
        "SELECT name FROM tokens WHERE digest = %s AND kind = ANY(%s) AND (expires IS NULL OR expires > clock_timestamp())",
        (digest(token), [kind] if kind else ["token", "session"]),
    )
    return rows[0][0] if rows else None


def spend_code(database: Database, code: str) -> str | None:
    """Whose sign-in code it is, once: it is void afterwards."""
    rows = database.read(
        "DELETE FROM tokens WHERE digest = %s AND kind = 'code' AND expires > clock_timestamp() RETURNING name",
        (digest(code),),
    )
    return rows[0][0] if rows else None


def revoke(database: Database, token: str) -> None:
    """Make a token void everywhere, at once."""
    with database.transaction() as connection:
        connection.execute("DELETE FROM tokens WHERE digest = %s", (digest(token),))
        connection.execute("SELECT nextval('token_changes')")


def end_all(database: Database, name: str) -> int:
    """End every token, session and code of one name, everywhere, at once; returns how many there were."""
    with database.transaction() as connection:
        count = connection.execute("DELETE FROM tokens WHERE name = %s", (name,)).rowcount
        connection.execute("SELECT nextval('token_changes')")
    return count
