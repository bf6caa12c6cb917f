"""The people and groups of a directory that is provisioned by SCIM, as they were sent."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any, NamedTuple
from uuid import UUID

from psycopg import Connection
from psycopg.errors import UniqueViolation
from psycopg.rows import TupleRow
from psycopg.types.json import Jsonb

from drawknife.core.words.errors import Refused


class Resource(NamedTuple):
    """A ``User`` or a ``Group`` (RFC 7643).

    `called` is its name as names are compared; `body` what was sent of it.
    """

    id: str
    kind: str
    called: str
    body: dict[str, Any]
    made: datetime | None = None
    changed: datetime | None = None


class NameTaken(Refused):
    """Another of the directory has the name."""


_ROWS = "SELECT id::text, kind, called, body, made, changed FROM provisioned WHERE directory = %s"


def read(
    connection: Connection[TupleRow], directory: str, kind: str | None = None
) -> list[Resource]:
    """All of a directory, or all of one kind, in the order in which they came."""
    rows = connection.execute(
        _ROWS + " AND (%s::text IS NULL OR kind = %s) ORDER BY made, id", (directory, kind, kind)
    )
    return [Resource(*row) for row in rows]


def find(connection: Connection[TupleRow], directory: str, kind: str, id_: str) -> Resource | None:
    """One, by its id."""
    try:
        UUID(id_)
    except ValueError:
        return None
    row = connection.execute(
        _ROWS + " AND kind = %s AND id = %s", (directory, kind, id_)
    ).fetchone()
    return None if row is None else Resource(*row)


def with_name(
    connection: Connection[TupleRow], directory: str, kind: str, called: str
) -> list[Resource]:
    """Those of a name, in the form in which names are compared: one, or none."""
    return [
        Resource(*r)
        for r in connection.execute(
            _ROWS + " AND kind = %s AND called = %s", (directory, kind, called)
        )
    ]


def with_user_name(
    connection: Connection[TupleRow], directory: str, user_name: str
) -> list[Resource]:
    """People by the name that was sent of them, whatever its case, where login names are made
    otherwise.
    """
    rows = connection.execute(
        _ROWS + " AND kind = 'User' AND lower(body->>'userName') = lower(%s)",
        (directory, user_name),
    )
    return [Resource(*r) for r in rows]


def call(connection: Connection[TupleRow], directory: str, called: Mapping[str, str]) -> None:
    """Keep what each is called now, in the form in which names are compared, by ids: no two alike
    of a kind.
    """
    every = [(name, directory, id_) for id_, name in called.items()]
    with (
        connection.cursor() as cursor
    ):  # first each its id, so that none takes the name of another that is still to go
        cursor.execute(
            "UPDATE provisioned SET called = 'id:' || id WHERE directory = %s", (directory,)
        )
        cursor.executemany(
            "UPDATE provisioned SET called = %s WHERE directory = %s AND id = %s", every
        )


def with_external_id(
    connection: Connection[TupleRow], directory: str, kind: str, external_id: str
) -> list[Resource]:
    """Those that the client knows by this identifier."""
    rows = connection.execute(
        _ROWS + " AND kind = %s AND external_id = %s", (directory, kind, external_id)
    )
    return [Resource(*r) for r in rows]


def groups_of(connection: Connection[TupleRow], directory: str, id_: str) -> list[Resource]:
    """The groups that someone is a member of."""
    wanted = Jsonb({"members": [{"value": id_}]})
    return [
        Resource(*r)
        for r in connection.execute(
            _ROWS + " AND kind = 'Group' AND body @> %s", (directory, wanted)
        )
    ]


def each_of(connection: Connection[TupleRow], directory: str, ids: Sequence[str]) -> list[Resource]:
    """Those of some ids that there are."""
    wanted = [i for i in ids if _is_id(i)]
    return [
        Resource(*r)
        for r in connection.execute(_ROWS + " AND id = ANY(%s::uuid[])", (directory, wanted))
    ]


def _is_id(text: str) -> bool:
    try:
        UUID(text)
    except ValueError:
        return False
    return True


def put(connection: Connection[TupleRow], directory: str, resource: Resource) -> None:
    """Add one, or write it anew; :class:`NameTaken` if another has its name."""
    try:
        connection.execute(
            "INSERT INTO provisioned (directory, id, kind, called, external_id, body) VALUES (%s,"
            " %s, %s, %s, %s, %s) ON CONFLICT (directory, id) DO UPDATE SET called ="
            " excluded.called, external_id = excluded.external_id, body = excluded.body, changed ="
            " clock_timestamp() WHERE provisioned.body <> excluded.body",
            (
                directory,
                resource.id,
                resource.kind,
                resource.called,
                resource.body.get("externalId"),
                Jsonb(resource.body),
            ),
        )
    except UniqueViolation:
        raise NameTaken(f"there is another {resource.kind} of this name in {directory}") from None


def delete(connection: Connection[TupleRow], directory: str, id_: str) -> None:
    """Take one away, and its memberships."""
    connection.execute("DELETE FROM provisioned WHERE directory = %s AND id = %s", (directory, id_))
    for group in groups_of(connection, directory, id_):
        members = [m for m in group.body["members"] if m["value"] != id_]
        put(connection, directory, group._replace(body={**group.body, "members": members}))
