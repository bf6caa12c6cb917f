"""Syncs at their intervals. Of several services on one database one does each of them."""

from __future__ import annotations

import threading
from collections.abc import Collection
from datetime import UTC, datetime

import structlog
from psycopg import Connection
from psycopg.rows import TupleRow

from drawknife.core.follows.sign_in_changes import Credentials
from drawknife.core.model.items import Subject
from drawknife.directory.reading import DirectoryContents
from drawknife.directory.sent import as_resources, found_in
from drawknife.directory.source import DirectoryFailed, Wanted, password_is
from drawknife.directory.sync import TakenOver, bind_password, fetch, options_of, sync
from drawknife.messages import SyncReport
from drawknife.records import provisioned
from drawknife.records.database import Unavailable, alone
from drawknife.records.directories import Directory, read_directories, sync_states
from drawknife.records.provisioned import Resource

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
    threading.Thread(
        target=_run, args=(current, threading.Event()), name="syncs", daemon=True
    ).start()


def _run(current: Current, never: threading.Event) -> None:
    while not never.wait(LOOK_EVERY):
        try:
            for directory in due(current):
                sync_alone(current, directory)
        except (Unavailable, Busy):
            continue  # the thread that listens for revisions says so
        except Exception:
            log.exception("a sync failed unexpectedly")


def fetch_within(current: Current, directory: Directory) -> DirectoryContents:
    """Everything that a directory has, asked in a thread of its own; :class:`DirectoryFailed` after
    a minute.
    """
    if options_of(directory).is_provisioned:
        with current.database.connection() as connection:
            return found_in(provisioned.read(connection, directory.name), options_of(directory))
    try:
        return current.directories.run(
            lambda: fetch(directory, current.secrets, current.files.read)
        )
    except (TimeoutError, NotReadable) as error:
        raise DirectoryFailed(f"{directory.name}: {error}") from None


def bound_as(current: Current, directory: str, name: str, password: str) -> bool:
    """Is it the password that somebody has in a directory?

    :class:`DirectoryFailed` where it does not answer in time.
    """
    found = next((d for d in read_directories(current.database) if d.name == directory), None)
    if found is None:
        return False
    options, read = options_of(found), current.files.read
    account = current.prepared()[1].account(name)
    theirs = account is not None and account.account.source == directory
    who = Wanted(name, account.account.source_id if account is not None and theirs else None)
    try:
        own = bind_password(found, options, current.secrets, read)
        return current.binding.run(lambda: password_is(options, own, read, who, password))
    except (TimeoutError, NotReadable) as error:
        raise DirectoryFailed(f"{directory}: {error}") from None


def with_adopted(
    current: Current, directory: Directory, adopt: Collection[Subject]
) -> tuple[DirectoryContents, list[Resource]]:
    """What a directory has; and what has to be put into one that is provisioned, so that it has
    what is handed over to it.
    """
    options = options_of(directory)
    if not adopt or not options.is_provisioned:
        return fetch_within(current, directory), []
    with current.database.connection() as connection:
        there = provisioned.read(connection, directory.name)
    more = as_resources(current.snapshot().model, directory.name, adopt, there, options)
    return found_in([*there, *more], options), more


def sync_within(
    current: Current,
    directory: Directory,
    who: str,
    most_leavers: int | None,
    adopt: Collection[Subject] = (),
) -> SyncReport:
    """Sync a directory now, and tell and keep what followed."""
    before = current.snapshot()
    held = current.credentials(before)
    more: list[Resource] = []

    def fetched(directory: Directory) -> DirectoryContents:
        found, more[:] = with_adopted(current, directory, adopt)
        return found

    def within(connection: Connection[TupleRow]) -> None:
        for resource in more:
            provisioned.put(connection, directory.name, resource)

    report, done = sync(
        current.database,
        fetched,
        directory,
        who,
        most_leavers,
        at_hand=before,
        adopt=adopt,
        within=within,
    )
    SYNCS.labels(directory.name, report.state).inc()
    if done is not None:
        took_over(current, done, held)
    return report


def took_over(current: Current, done: TakenOver, held: Credentials) -> None:
    """A plan is in force: answer from it, and keep what followed."""
    current.took(done.after)
    note_what_followed(current, done.before, done.after, held, done.renames)


def due(current: Current) -> list[Directory]:
    """The directories with an interval that has passed since they were synced last, however that
    went.

    The first sync of each waits for a person, who has seen what it would change.
    """
    every = [(d, options_of(d).interval) for d in read_directories(current.database)]
    if not any(interval for _, interval in every):
        return []
    now = datetime.now(UTC)
    states = {state.directory: state for state in sync_states(current.database) if state.confirmed}
    found = []
    for directory, interval in every:
        state = states.get(directory.name)
        last = state.last if state is not None else None
        if interval and last is not None and (now - last).total_seconds() >= interval:
            found.append(directory)
    return found


def sync_alone(current: Current, directory: Directory) -> bool:
    """Sync it, unless another service is at it; false then.

    It is looked once more whether it still is due.
    """
    with alone(current.database, _LOCKS, directory.name) as mine:
        if not mine or not any(d.name == directory.name for d in due(current)):
            return False
        report = sync_within(current, directory, "drawknife serve", None)
        say = log.info if report.state in ("done", "nothing-to-do") else log.warning
        say("sync", directory=directory.name, state=report.state, text=report.text)
        return True
