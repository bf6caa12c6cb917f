"""What of the findings was told outside, by each way of telling."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import datetime
from typing import NamedTuple

from .database import Database


class ToldFinding(NamedTuple):
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


def read_told(database: Database, way: str) -> tuple[list[ToldFinding], Last | None]:
    """What was told by a way and has not been told to be mended, and of which revision that was."""
    rows = database.read(
        "SELECT kind, about, text FROM told_findings WHERE way = %s ORDER BY kind, about, text",
        (way,),
    )
    last = database.read("SELECT revision, at FROM told_last WHERE way = %s", (way,))
    return [ToldFinding(*row) for row in rows], Last(*last[0]) if last else None


def note_told(
    database: Database,
    way: str,
    new: Iterable[ToldFinding],
    mended: Iterable[ToldFinding],
    revision: int,
    at: datetime,
) -> None:
    """It was told: what is new, what is mended, as of a revision."""
    with database.transaction() as connection:
        for told in mended:
            connection.execute(
                "DELETE FROM told_findings WHERE (way, kind, about, sentence) = (%s, %s, %s, %s)",
                (way, *told.key),
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
        )
