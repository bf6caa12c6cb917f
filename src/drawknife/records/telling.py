"""What of the findings was told outside, by each way of telling."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from datetime import datetime
from typing import NamedTuple
from zlib import crc32

from .database import Database

_LOCKS = 0x746F6C64


class Told(NamedTuple):
    """A finding as it was told."""

    kind: str
    about: str
    text: str

    @property
    def key(self) -> tuple[str, str, str]:
        """What makes it the same: a limit that is 98 % full and then 99 % is one finding."""
        return self.kind, self.about, re.sub(r"\d+(?:[.,:-]\d+)*", "#", self.text)


class Last(NamedTuple):
    """The revision that was told of last, and when."""

    revision: int
    at: datetime


def read_told(database: Database, way: str) -> tuple[list[Told], Last | None]:
    """What was told by a way and has not been told to be mended, and of which revision that was."""
    rows = database.read(
        "SELECT kind, about, text FROM told_findings WHERE way = %s ORDER BY kind, about, text", (way,)
    )
    last = database.read("SELECT revision, at FROM told_last WHERE way = %s", (way,))
    return [Told(*row) for row in rows], Last(*last[0]) if last else None


def note_told(
    database: Database, way: str, new: Iterable[Told], mended: Iterable[Told], revision: int, at: datetime
) -> None:
    """It was told: what is new, what is mended, as of a revision."""
    with database.transaction() as connection:
        for told in mended:
            connection.execute(
                "DELETE FROM told_findings WHERE (way, kind, about, sentence) = (%s, %s, %s, %s)", (way, *told.key)
            )
        for told in new:
            connection.execute(
                "INSERT INTO told_findings VALUES (%s, %s, %s, %s, %s) ON CONFLICT DO NOTHING",
                (way, *told.key, told.text),
            )
        connection.execute(
            "INSERT INTO told_last VALUES (%s, %s, %s) ON CONFLICT (way) DO UPDATE"
            " SET revision = excluded.revision, at = excluded.at",
            (way, revision, at),
        )  # fmt: skip


@contextmanager
def alone(database: Database, way: str) -> Iterator[bool]:
    """True for the one service that tells by this way while the block runs; false for all others."""
    with database.connection() as connection:
        key = crc32(way.encode()) - 2**31
        row = connection.execute("SELECT pg_try_advisory_lock(%s, %s::int)", (_LOCKS, key)).fetchone()
        if row is None or not row[0]:
            yield False
            return
        try:
            yield True
        finally:
            connection.execute("SELECT pg_advisory_unlock(%s, %s::int)", (_LOCKS, key))
