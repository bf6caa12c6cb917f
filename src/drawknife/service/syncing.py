"""Syncs at their intervals. Of several services on one database one does each of them."""

from __future__ import annotations

import threading
from datetime import UTC, datetime

import structlog

from drawknife.directory.reading import Found
from drawknife.directory.source import DirectoryFailed
from drawknife.directory.sync import fetch, options_of, sync
from drawknife.messages import SyncReport
from drawknife.records.database import Unavailable, alone
from drawknife.records.directories import Directory, last_syncs, read_directories

from .busy import Busy
from .current import Current
from .files import NotReadable
from .keeping import note_what_followed
from .metrics import SYNCS

log = structlog.get_logger()
#: Seconds between two looks at what is due.
LOOK_EVERY = 1.0
_LOCKS = 0x73796E63


def start_syncing(current: Current) -> None:
    """Sync what is due in a thread of its own, as long as the process lives."""
    threading.Thread(target=_run, args=(current, threading.Event()), name="syncs", daemon=True).start()


def _run(current: Current, never: threading.Event) -> None:
    while not never.wait(LOOK_EVERY):
        try:
            for directory in due(current):
                sync_alone(current, directory)
        except (Unavailable, Busy):
            continue  # the thread that listens for revisions says so
        except Exception:
            log.exception("a sync failed unexpectedly")


def fetch_within(current: Current, directory: Directory) -> Found:
    """Everything that a directory has, asked in a thread of its own; :class:`DirectoryFailed` after a minute."""
    try:
        return current.directories.run(lambda: fetch(directory, current.secrets, current.files.read))
    except (TimeoutError, NotReadable) as error:
        raise DirectoryFailed(f"{directory.name}: {error}") from None


def sync_within(current: Current, directory: Directory, who: str, most_leavers: int | None) -> SyncReport:
    """Sync a directory now, and tell and keep what followed."""
    before = current.snapshot()
    held = current.credentials(before)
    report, was, after = sync(
        current.database, lambda d: fetch_within(current, d), directory, who, most_leavers, before
    )  # fmt: skip
    SYNCS.labels(directory.name, report.state).inc()
    if was is not None and after is not None:
        current.took(after)
        note_what_followed(current, was, after, held)
    return report


def due(current: Current) -> list[Directory]:
    """The directories with an interval that has passed since they were synced last, however that went."""
    every = [(d, options_of(d).interval) for d in read_directories(current.database)]
    if not any(interval for _, interval in every):
        return []
    last, now = last_syncs(current.database), datetime.now(UTC)
    return [
        d for d, interval in every
        if interval and (d.name not in last or (now - last[d.name][0]).total_seconds() >= interval)
    ]  # fmt: skip


def sync_alone(current: Current, directory: Directory) -> bool:
    """Sync it, unless another service is at it; false then. It is looked once more whether it still is due."""
    with alone(current.database, _LOCKS, directory.name) as mine:
        if not mine or not any(d.name == directory.name for d in due(current)):
            return False
        report = sync_within(current, directory, "drawknife serve", None)
        say = log.info if report.state in ("done", "nothing-to-do") else log.warning
        say("sync", directory=directory.name, state=report.state, text=report.text)
        return True
