"""Syncing: read all of a directory first, then change the model in one transaction, or
not at all.
"""

from __future__ import annotations

from collections.abc import Callable, Collection
from datetime import UTC, datetime
from typing import NamedTuple

from psycopg import Connection
from psycopg.rows import TupleRow

from drawknife import messages as msg
from drawknife.core.follows.pairing import Renames, Renaming
from drawknife.core.follows.promises_held import hold
from drawknife.core.model.edits import ChangeRefused
from drawknife.core.model.items import Model, Subject
from drawknife.core.prepared.prepared import prepare
from drawknife.records import credentials
from drawknife.records.changes import change_model
from drawknife.records.database import Database
from drawknife.records.directories import Directory, Secrets, record_sync
from drawknife.records.snapshots import Snapshot

from .losses import TooFew
from .plan import NAMED, SyncPlan, plan
from .reading import DirectoryContents, read
from .source import DirectoryFailed, ReadFile, open_source
from .sync_notes import Notes


def options_of(directory: Directory) -> msg.DirectoryOptions:
    return msg.DirectoryOptions.model_validate(directory.options)


def fetch(directory: Directory, secrets: Secrets, read_file: ReadFile) -> DirectoryContents:
    """Everything that the directory has; :class:`DirectoryFailed` if it cannot all be had.

    `read_file` gives the bytes of a file that may be read.
    """
    options = options_of(directory)
    source = open_source(options, bind_password(directory, options, secrets, read_file), read_file)
    try:
        return read(source, options)
    finally:
        source.close()


def bind_password(
    directory: Directory, options: msg.DirectoryOptions, secrets: Secrets, read_file: ReadFile
) -> str | None:
    """The password that the service itself binds with; None if it has none."""
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


def planned(
    model: Model,
    directory: Directory,
    found: DirectoryContents,
    most_leavers: int | None,
    adopt: Collection[Subject] = (),
) -> SyncPlan:
    """What a sync would make of the model; TooFew if too much would go."""
    allowed = options_of(directory).most_leavers if most_leavers is None else most_leavers
    if (
        not found.people
        and any(a.source == directory.name and a.enabled for a in model.accounts)
        and allowed < 100
    ):
        raise TooFew("the directory has no people at all, so nothing was changed")
    return plan(model, directory.name, found, allowed, adopt)


def report_of(
    directory: str,
    who: str,
    state: str,
    text: str,
    found: DirectoryContents | None,
    made: SyncPlan | None,
) -> msg.SyncReport:
    """A report of a sync, or of one that would be."""
    changes = made.changes if made else {}
    notes = Notes()
    for some in (found, made):
        if some is not None:
            notes.take(some.notes)
    return msg.SyncReport(
        directory=directory,
        at=datetime.now(UTC),
        who=who,
        state=state,
        text=text,
        people=len(found.people) if found else 0,
        groups=len(found.groups) if found else 0,
        units=len(found.units) if found else 0,
        counts={what: len(names) for what, names in changes.items()},
        named={what: sorted(names)[:NAMED] for what, names in changes.items()},
        left_alone=made.left_alone if made else [],
        left_out=found.left_out if found else [],
        notes=notes.in_short(),
        noted=[msg.SyncNotes(kind=kind, notes=texts) for kind, texts in notes.ranked()],
    )


def counted(made: SyncPlan) -> str:
    """A plan in a few words."""
    count = sum(map(len, made.changes.values()))
    return (
        f"{count} change{'' if count == 1 else 's'}" if count else "all is as the directory has it"
    )


def sync(
    database: Database,
    fetched: Callable[[Directory], DirectoryContents],
    directory: Directory,
    who: str,
    most_leavers: int | None,
    *,
    at_hand: Snapshot,
    adopt: Collection[Subject] = (),
    within: Callable[[Connection[TupleRow]], None] = lambda _: None,
) -> tuple[msg.SyncReport, TakenOver | None]:
    """Sync a directory now.

    Whatever happens is in the report, which is kept; a failure changes nothing.

    Besides, what was taken over, if it went well. `fetched` reads the directory; `within` is done
    in the same transaction.
    """
    found: DirectoryContents | None = None
    done: TakenOver | None = None
    try:
        there = found = fetched(directory)

        def plan_of(model: Model, connection: Connection[TupleRow]) -> SyncPlan:
            within(connection)
            return planned(model, directory, there, most_leavers, adopt)

        done = take_over(database, plan_of, who, f"sync {directory.name}", at_hand)
        state = "done" if done.plan.changes else "nothing-to-do"
        report = report_of(directory.name, who, state, counted(done.plan), found, done.plan)
        report = report.model_copy(update={"revision": done.after.revision})
    except TooFew as error:
        report = report_of(directory.name, who, "refused", str(error), found, None)
    except (DirectoryFailed, ChangeRefused) as error:
        report = report_of(directory.name, who, "failed", str(error), found, None)
    record_sync(
        database, directory.name, who, done is not None, report.revision, report.model_dump_json()
    )
    return report, done


class TakenOver(NamedTuple):
    """What was taken over: the plan, the model before, and the snapshot after it."""

    plan: SyncPlan
    before: Model
    after: Snapshot

    @property
    def renames(self) -> Renames:
        return Renames(Renaming(*r) for r in self.plan.renames)


def take_over(
    database: Database,
    plan_of: Callable[[Model, Connection[TupleRow]], SyncPlan],
    who: str,
    what: str,
    at_hand: Snapshot,
) -> TakenOver:
    """Put a plan in force: one transaction, one revision.

    Promises hold, and credentials go with who is renamed.
    """
    made: list[tuple[SyncPlan, Model]] = []
    renames: list[tuple[str, str, str]] = []

    def edit(model: Model, connection: Connection[TupleRow]) -> Model:
        plan = plan_of(model, connection)
        made.append((plan, model))
        if model.promises:
            before = prepare(model)
            renamed = Renames(Renaming(*r) for r in plan.renames)
            hold(before, prepare(plan.model, before), datetime.now(UTC).date(), renamed)
        for kind, old, new in plan.renames:
            if kind == "account":
                credentials.carry_renamed(connection, old, new)
        renames[:] = plan.renames
        return plan.model

    after = change_model(database, edit, who, what, None, at_hand=at_hand, renames=renames)
    plan, before = made[-1]
    return TakenOver(plan, before, after)
