"""Syncing: read all of a directory first, then change the model in one transaction, or not at all."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime

from drawknife import messages as msg
from drawknife.core.follows.promises_held import hold
from drawknife.core.model.edits import ChangeRefused
from drawknife.core.model.items import Model
from drawknife.core.prepared.prepared import prepare
from drawknife.records.changes import change_model
from drawknife.records.database import Database
from drawknife.records.directories import Directory, Secrets, record_sync
from drawknife.records.snapshots import Snapshot

from .plan import NAMED, Plan, TooFew, plan
from .reading import Found, read
from .source import DirectoryFailed, ReadFile, open_source


def options_of(directory: Directory) -> msg.DirectoryOptions:
    return msg.DirectoryOptions.model_validate(directory.options)


def fetch(directory: Directory, secrets: Secrets, read_file: ReadFile) -> Found:
    """Everything that the directory has; :class:`DirectoryFailed` if it cannot all be had.

    `read_file` gives the bytes of a file that may be read.
    """
    options = options_of(directory)
    source = open_source(options, _password(directory, options, secrets, read_file), read_file)
    try:
        return read(source, options)
    finally:
        source.close()


def _password(directory: Directory, options: msg.DirectoryOptions, secrets: Secrets, read_file: ReadFile) -> str | None:
    if options.bind_password_file:
        try:
            return read_file(options.bind_password_file).decode().rstrip("\r\n")
        except UnicodeDecodeError:
            raise DirectoryFailed("the bind password's file holds no text") from None
    if directory.secret is None:
        return None
    found = secrets.decrypt(directory.secret)
    if found is None:
        raise DirectoryFailed("the bind password was encrypted with another key; set it again")
    return found


def planned(model: Model, directory: Directory, found: Found, most_leavers: int | None) -> Plan:
    """What a sync would make of the model; TooFew if too much would go."""
    allowed = options_of(directory).most_leavers if most_leavers is None else most_leavers
    if not found.people and any(a.source == directory.name and a.enabled for a in model.accounts) and allowed < 100:
        raise TooFew("the directory has no people at all; nothing was changed")
    return plan(model, directory.name, found, allowed)


def report_of(
    directory: str, who: str, state: str, text: str, found: Found | None, made: Plan | None
) -> msg.SyncReport:
    """A report, with lists cut to the first few."""
    changes = made.changes if made else {}
    return msg.SyncReport(
        directory=directory, at=datetime.now(UTC), who=who, state=state, text=text,
        people=len(found.people) if found else 0, groups=len(found.groups) if found else 0,
        units=len(found.units) if found else 0,
        counts={what: len(names) for what, names in changes.items()},
        named={what: sorted(names)[:NAMED] for what, names in changes.items()},
        left_alone=_some(made.left_alone if made else []), left_out=_some(found.left_out if found else []),
        notes=_some([*(found.notes if found else []), *(made.notes if made else [])]),
    )  # fmt: skip


def _some(lines: list[str]) -> list[str]:
    return lines if len(lines) <= NAMED else [*lines[:NAMED], f"and {len(lines) - NAMED} more"]


def counted(made: Plan) -> str:
    """A plan in a few words."""
    count = sum(map(len, made.changes.values()))
    return f"{count} change{'' if count == 1 else 's'}" if count else "all is as the directory has it"


def sync(
    database: Database,
    fetched: Callable[[Directory], Found],
    directory: Directory,
    who: str,
    most_leavers: int | None,
    at_hand: Snapshot,
) -> tuple[msg.SyncReport, Model | None, Snapshot | None]:
    """Sync a directory now. Whatever happens is in the report, which is kept; a failure changes nothing.

    Besides, the model before and the snapshot after it, if it went well. `fetched` reads the directory.
    """
    was: list[Model] = []
    found: Found | None = None
    made: Plan | None = None
    snapshot: Snapshot | None = None
    try:
        found = fetched(directory)
        plans: list[Plan] = []

        def edit(model: Model, _: object) -> Model:
            was.append(model)
            plans.append(planned(model, directory, found, most_leavers))
            after = plans[-1].model
            if model.promises:
                before = prepare(model)
                hold(before, prepare(after, before), datetime.now(UTC).date())
            return after

        snapshot = change_model(database, edit, who, f"sync {directory.name}", None, at_hand)
        made = plans[-1]
        state = "done" if made.changes else "nothing-to-do"
        report = report_of(directory.name, who, state, counted(made), found, made)
        report = report.model_copy(update={"revision": snapshot.revision})
    except TooFew as error:
        report = report_of(directory.name, who, "refused", str(error), found, None)
    except (DirectoryFailed, ChangeRefused) as error:
        report = report_of(directory.name, who, "failed", str(error), found, None)
    record_sync(database, directory.name, who, snapshot is not None, report.revision, report.model_dump_json())
    return report, was[-1] if snapshot is not None else None, snapshot
