"""Telling what wants attention to people who do not look: each finding once, and once more when it
is mended.

Of several services on one database one tells by each way. What was not taken is tried again, ever
less often, and nothing is noted as told that was not.
"""

from __future__ import annotations

import threading
from collections.abc import Sequence
from datetime import UTC, datetime, time, timedelta
from typing import NamedTuple

import structlog

from drawknife.records.database import Unavailable, alone
from drawknife.records.journal import read_journal
from drawknife.records.telling import Last, ToldFinding, note_told, read_told

from .current import Current
from .tidings import NewRevision, NotTaken, Tidings, WayOfTelling

log = structlog.get_logger()
_LOCKS = 0x746F6C64
#: Seconds between two looks.
LOOK_EVERY = 2.0
#: Seconds until it is tried again: this, and twice as long each time, up to the longest.
FIRST_WAIT, LONGEST_WAIT = 2.0, 3600.0
#: Seconds after which a model that is the same is looked at again: days pass, and disks fill.
LOOK_AGAIN = 60.0
#: Of so many changes it is told what they were.
MOST_CHANGES = 50


#: The findings that come of something beside the model, and what that is called where it was not
#: looked at.
_LOOKED_AT = {"certificate": "certificate", "no-credential": "passwords", "disk-refuses": "disk"}


class When(NamedTuple):
    """When it is told: as soon as it is found, or once a day at a time (UTC)."""

    daily: time | None = None

    def due(self, last: Last | None, now: datetime) -> bool:
        """Is it time to tell again?"""
        if self.daily is None:
            return True
        at = datetime.combine(now.date(), self.daily, UTC)
        at = at if at <= now else at - timedelta(days=1)
        return last is None or last.at < at


class Telling:
    """Tells by some ways, in a thread of its own, as long as the process lives."""

    def __init__(self, current: Current, ways: Sequence[WayOfTelling], when: When) -> None:
        self._current, self._ways, self._when = current, ways, when
        self._waits: dict[str, tuple[float, datetime]] = {}
        self._looked: dict[str, tuple[int, datetime]] = {}

        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="telling", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def stop(self, seconds: float) -> None:
        """Tell nothing new, and wait so long for what is being told: it is noted as told, or it
        would be told again.
        """
        self._stop.set()
        self._thread.join(seconds)

    def _run(self) -> None:
        while not self._stop.wait(LOOK_EVERY):
            for way in self._ways:
                try:
                    self.look(way, datetime.now(UTC))
                except Unavailable:
                    continue  # the thread that listens for revisions says so
                except Exception:
                    log.exception("telling failed unexpectedly", way=way.name)

    def look(self, way: WayOfTelling, now: datetime) -> bool:
        """Tell by a way what there is to be told, if it is time; true if it was told."""
        wait, until = self._waits.get(way.name, (FIRST_WAIT, now))
        if now < until or self._looked_just_now(way, now):
            return False
        with alone(self._current.database, _LOCKS, way.name) as mine:
            if not mine:
                return False
            told, last = read_told(self._current.database, way.name)
            if not self._when.due(last, now):
                return False
            tidings = self._tidings(told, last, now)
            if not tidings.new and not tidings.mended:
                self._looked[way.name] = tidings.revision, now
                if self._when.daily is not None or last is None:
                    # What was changed until today is told with what there will be to be told.
                    since = tidings.revision if last is None else last.revision
                    note_told(self._current.database, way.name, (), (), since, now)
                return False
            try:
                way.tell(tidings)
            except NotTaken as error:
                self._waits[way.name] = (min(wait * 2, LONGEST_WAIT), now + timedelta(seconds=wait))
                log.warning(
                    "findings were not told, and are told again later",
                    way=way.name,
                    error=str(error),
                    seconds=wait,
                )
                return False
            self._waits.pop(way.name, None)
            self._looked[way.name] = tidings.revision, now
            note_told(
                self._current.database, way.name, tidings.new, tidings.mended, tidings.revision, now
            )
            return True

    def _looked_just_now(self, way: WayOfTelling, now: datetime) -> bool:
        """Is the model as it was when it was looked at last, not long ago?"""
        revision, at = self._looked.get(way.name, (-1, now))
        return (
            revision == self._current.snapshot().revision
            and (now - at).total_seconds() < LOOK_AGAIN
        )

    def _tidings(self, told: Sequence[ToldFinding], last: Last | None, now: datetime) -> Tidings:
        answering = self._current.answering()
        findings = answering.findings()
        found = [ToldFinding(f.kind, f.about, f.text) for f in findings.findings]
        accepted = [ToldFinding(f.kind, f.about, f.text) for f in findings.accepted]
        keys, before = {t.key for t in (*found, *accepted)}, {t.key for t in told}
        # What was not looked at is not mended because it is not found.
        unknown = {
            kind
            for kind, what in _LOOKED_AT.items()
            if any(what in text for text in findings.not_looked_at)
        }
        changes, left_out = self._changes(last, answering.revision)
        return Tidings(
            answering.revision,
            now,
            [t for t in found if t.key not in before],
            [t for t in told if t.key not in keys and t.kind not in unknown],
            changes,
            left_out,
        )

    def _changes(self, last: Last | None, revision: int) -> tuple[list[NewRevision], int]:
        """The revisions since what was told last, the newest first, and how many more there are."""
        if last is None or last.revision >= revision:
            return [], 0
        _, lines = read_journal(self._current.database, MOST_CHANGES * 2)
        of_model = [
            NewRevision(x.revision, x.at, x.who, x.what)
            for x in lines
            if x.revision and x.revision > last.revision
        ]
        shown = of_model[:MOST_CHANGES]
        return shown, revision - last.revision - len(shown)
