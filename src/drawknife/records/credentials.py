"""Passwords and public keys of accounts.

Kept beside the model: no snapshot, dump or journal has them.
"""

from __future__ import annotations

import secrets
import string
from collections.abc import Sequence
from functools import cache
from typing import Any

from argon2 import PasswordHasher
from argon2.exceptions import Argon2Error, InvalidHashError
from psycopg import Connection
from psycopg.rows import TupleRow

from drawknife.formats.public_keys import PublicKey

from .database import Database

HASHER = PasswordHasher()
#: Letters and digits that are not mistaken for each other, and a few signs that every keyboard has.
USUAL_ALPHABET = "".join(sorted(set(string.ascii_letters + string.digits) - set("0OIl1"))) + "-_.+"


def make_password(length: int, alphabet: str = "") -> str:
    """A random password of `length` characters of `alphabet` (each counts once)."""
    letters = "".join(dict.fromkeys(alphabet)) or USUAL_ALPHABET
    return "".join(secrets.choice(letters) for _ in range(length))


def set_password(connection: Connection[TupleRow], account: str, password: str, who: str) -> None:
    """Keep the argon2 hash (RFC 9106) of a password."""
    connection.execute(
        "INSERT INTO passwords (account, hash, changed_by) VALUES (%s, %s, %s) ON CONFLICT"
        " (account) DO UPDATE SET hash = excluded.hash, changed = clock_timestamp(), changed_by ="
        " excluded.changed_by",
        (account, HASHER.hash(password), who),
    )


def clear_password(connection: Connection[TupleRow], account: str) -> bool:
    """Forget a password; false if there was none."""
    return connection.execute("DELETE FROM passwords WHERE account = %s", (account,)).rowcount > 0


def is_right(database: Database, account: str, password: str) -> bool:
    """Is it the account's password? An account without one takes as long to answer."""
    rows = database.read("SELECT hash FROM passwords WHERE account = %s", (account,))
    try:
        return HASHER.verify(rows[0][0] if rows else nobodys(), password) and bool(rows)
    except (Argon2Error, InvalidHashError):
        return False


@cache
def nobodys() -> str:
    """The hash of a password that nobody has: checking it takes as long as checking somebody's."""
    return HASHER.hash(secrets.token_urlsafe())


def add_key(connection: Connection[TupleRow], account: str, key: PublicKey, who: str) -> bool:
    """Attach a public key; false if it is attached already."""
    return (
        connection.execute(
            "INSERT INTO public_keys (account, fingerprint, kind, body, comment, added_by)"
            " VALUES (%s, %s, %s, %s, %s, %s) ON CONFLICT DO NOTHING",
            (account, key.fingerprint, key.kind, key.body, key.comment, who),
        ).rowcount
        > 0
    )


def remove_key(connection: Connection[TupleRow], account: str, fingerprint: str) -> int | None:
    """Take a key away; how many are left, or None if there was no such key."""
    if not connection.execute(
        "DELETE FROM public_keys WHERE account = %s AND fingerprint = %s", (account, fingerprint)
    ).rowcount:
        return None
    row = connection.execute(
        "SELECT count(*) FROM public_keys WHERE account = %s", (account,)
    ).fetchone()
    return int(row[0]) if row else 0


def credentials_of(database: Database, account: str) -> dict[str, Any]:
    """When the password was set and by whom, and the keys. Never the password, nor its hash."""
    set_ = database.read("SELECT changed, changed_by FROM passwords WHERE account = %s", (account,))
    keys = database.read(
        "SELECT fingerprint, kind, comment, added, added_by FROM public_keys WHERE account = %s"
        " ORDER BY added, fingerprint",
        (account,),
    )
    return {
        "password_set": set_[0][0].isoformat(timespec="seconds") if set_ else None,
        "password_set_by": set_[0][1] if set_ else None,
        "keys": [
            {
                "fingerprint": f,
                "kind": k,
                "comment": c,
                "added": at.isoformat(timespec="seconds"),
                "added_by": who,
            }
            for f, k, c, at, who in keys
        ],
    }


def methods_with_credentials(database: Database) -> dict[str, frozenset[str]]:
    """For each account that has any, the methods that a credential is kept for: ``password``,
    ``key``.
    """
    found: dict[str, frozenset[str]] = {}
    for account, method in database.read(
        "SELECT account, 'password' FROM passwords UNION ALL SELECT DISTINCT account, 'key' FROM"
        " public_keys"
    ):
        found[account] = found.get(account, frozenset()) | {method}
    return found


def counts_of(database: Database, accounts: list[str]) -> tuple[int, int]:
    """How many passwords and keys some accounts have."""
    row = database.read(
        "SELECT (SELECT count(*) FROM passwords WHERE account = ANY(%s)),"
        " (SELECT count(*) FROM public_keys WHERE account = ANY(%s))",
        (accounts, accounts),
    )[0]
    return int(row[0]), int(row[1])


def carry_renamed(connection: Connection[TupleRow], old: str, new: str) -> None:
    """The credentials of a renamed account go with it."""
    for statement in (
        "UPDATE passwords SET account = %s WHERE account = %s",
        "UPDATE public_keys SET account = %s WHERE account = %s",
    ):
        connection.execute(statement, (new, old))


# --- coming back with their account -------------------------------------------------------------


def put_by(connection: Connection[TupleRow], accounts: Sequence[str], revision: int) -> None:
    """Take the credentials of accounts that a revision removes out of use, and keep them for a
    while.
    """
    names = list(accounts)
    connection.execute(
        """
        INSERT INTO kept_credentials (revision, account, password, keys)
        SELECT %(revision)s, name, to_jsonb(p) - 'account', coalesce(k.keys, '[]')
        FROM unnest(%(names)s::text[]) AS name
        LEFT JOIN passwords p ON p.account = name
        LEFT JOIN (SELECT account, jsonb_agg(to_jsonb(public_keys) - 'account') AS keys
                   FROM public_keys GROUP BY account) k ON k.account = name
        WHERE p.account IS NOT NULL OR k.account IS NOT NULL
        ON CONFLICT DO NOTHING
        """,
        {"revision": revision, "names": names},
    )
    connection.execute("DELETE FROM passwords WHERE account = ANY(%s)", (names,))
    connection.execute("DELETE FROM public_keys WHERE account = ANY(%s)", (names,))


_KEPT = (
    "SELECT password, keys FROM kept_credentials WHERE account = ANY(%s) AND revision > %s ORDER BY"
    " revision LIMIT 1"
)


def kept_methods(database: Database, went_as: Sequence[str], after: int) -> frozenset[str]:
    """What an account would have a credential for that comes back; see :func:`bring_back`."""
    rows = database.read(_KEPT, (list(went_as), after))
    password, keys = rows[0] if rows else (None, [])
    return frozenset((["password"] if password else []) + (["key"] if keys else []))


def bring_back(
    connection: Connection[TupleRow], account: str, went_as: Sequence[str], after: int
) -> None:
    """Give an account what it had when it first went after a revision, under one of some names;
    nothing if that is not kept.
    """
    row = connection.execute(_KEPT, (list(went_as), after)).fetchone()
    if row is None:
        return
    password, keys = row
    if password is not None:
        connection.execute(
            "INSERT INTO passwords (account, hash, changed, changed_by) VALUES (%s, %s, %s, %s) ON"
            " CONFLICT DO NOTHING",
            (account, password["hash"], password["changed"], password["changed_by"]),
        )
    for key in keys:
        connection.execute(
            "INSERT INTO public_keys (account, fingerprint, kind, body, comment, added, added_by)"
            " VALUES (%s, %s, %s, %s, %s, %s, %s) ON CONFLICT DO NOTHING",
            (
                account,
                *(key[x] for x in ("fingerprint", "kind", "body", "comment", "added", "added_by")),
            ),
        )
