"""The model as a service keeps it: changes of it go into the database, and what followed into the journal."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime

import structlog
from psycopg import Connection
from psycopg.rows import TupleRow

from drawknife.answers.changing import Changing, Done, Edit
from drawknife.core.follows.pairing import Renames
from drawknife.core.follows.sign_in_changes import Credentials
from drawknife.core.model.items import Model
from drawknife.core.prepared.prepared import Prepared
from drawknife.records import credentials
from drawknife.records.changes import change_model
from drawknife.records.database import Unavailable
from drawknife.records.journal import note_followed
from drawknife.records.snapshots import Snapshot

from .current import Current

log = structlog.get_logger()


class Kept:
    """A :class:`~drawknife.answers.changing.Keeper`; `who` makes the changes."""

    def __init__(self, state: Current, who: str) -> None:
        self._state, self._who = state, who

    def newest(self) -> tuple[int, Prepared]:
        snapshot, prepared = self._state.prepared()
        return snapshot.revision, prepared

    def prepared_for(self, model: Model) -> Prepared:
        return self._state.prepared_for(model)

    def credentials(self) -> Credentials:
        return self._state.credentials(self._state.snapshot())

    def change(self, edit: Edit, what: str, expected: int | None) -> Done:
        """One transaction, one revision; credentials are carried along with renamed accounts."""
        was: list[Model] = []

        def within(model: Model, connection: Connection[TupleRow]) -> Model:
            after, renames = edit(model)
            for r in renames.each:
                if r.kind == "account":
                    credentials.carry_renamed(connection, r.old, r.new)
            was.append(model)
            return after

        after = change_model(self._state.database, within, self._who, what, expected, self._state.snapshot())
        self._state.took(after)
        return Done(was[-1], after.model, after.revision)

    def followed(self, done: Done, said: Sequence[str]) -> None:
        try:
            note_followed(self._state.database, done.revision, said)
        except Unavailable as error:
            log.warning("what followed was not kept", revision=done.revision, error=str(error))

    def credential_counts(self, names: Sequence[str]) -> tuple[int, int]:
        return credentials.counts_of(self._state.database, list(names))


def changing(state: Current, who: str) -> Changing:
    """Changes of the model in force, by somebody, as of now."""
    return Changing(Kept(state, who), datetime.now(UTC))


def note_what_followed(state: Current, before: Model, after: Snapshot, held: Credentials) -> None:
    """Keep what followed from a change that was made in another way: by a sync, or a census."""
    changing(state, "").followed(Done(before, after.model, after.revision), Renames(), held)
