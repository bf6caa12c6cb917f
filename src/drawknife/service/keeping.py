"""The model as a service keeps it: changes of it go into the database, and what followed into the
journal.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import UTC, datetime

import structlog
from psycopg import Connection
from psycopg.rows import TupleRow

from drawknife.answers.changing import Changing, Edit, InForce
from drawknife.answers.taking_back import renamed_since, turned_round, undone
from drawknife.core.follows.days import consequences
from drawknife.core.follows.outside_area import outside
from drawknife.core.follows.pairing import Renames
from drawknife.core.follows.promises_held import hold
from drawknife.core.follows.sign_in_changes import Credentials
from drawknife.core.model.areas import parse_area
from drawknife.core.model.difference import Differs
from drawknife.core.model.edits import ChangeRefused
from drawknife.core.model.items import Account, Model
from drawknife.core.model.kinds import NETWORK_FIELDS
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.words.errors import DrawknifeError, NotAllowed, Refused
from drawknife.core.words.names import Place
from drawknife.core.words.roles import OWNER, covers
from drawknife.records import credentials, history
from drawknife.records.changes import change_model
from drawknife.records.database import Unavailable
from drawknife.records.journal import note_followed
from drawknife.records.snapshots import Snapshot
from drawknife.records.tokens import Holder

from .bounded_reading import Reading
from .current import Current

log = structlog.get_logger()


#: What is done within the transaction of a change, once it is known that it may be done.
Within = Callable[[Connection[TupleRow]], None]


class KeptModel:
    """A :class:`~drawknife.answers.changing.Keeper`; the holder makes the changes, as far as it
    may.

    `within` is done in the same transaction.
    """

    def __init__(self, state: Current, holder: Holder, within: Within | None = None) -> None:
        self._state, self._holder, self._within = state, holder, within
        self._reading = Reading(state, holder)

    def newest(self) -> tuple[int, Prepared]:
        snapshot, prepared = self._state.prepared()
        return snapshot.revision, prepared

    def prepared_for(self, model: Model) -> Prepared:
        return self._state.prepared_for(model)

    @property
    def bounded(self) -> bool:
        return self._reading.area is not None

    def shown(self, prepared: Prepared) -> Prepared:
        return self._reading.part(prepared)

    def tried(self, edit: Edit, model: Model) -> tuple[Model, Renames]:
        if not self.bounded:
            return edit(model)
        found = failed = None
        try:
            found = edit(model)
        except DrawknifeError as error:
            failed = error
        # An error in the part that is shown is reported as it is; any other obstacle without its
        # details.
        edit(self.shown(self._state.prepared_for(model)).model)
        if found is None:
            raise self._reading.beyond() from failed
        return found

    def credentials(self) -> Credentials:
        return self._state.credentials(self._state.snapshot())

    def change(
        self, edit: Edit, what: str, expected: int | None, back_from: int | None = None
    ) -> InForce:
        """One transaction, one revision; credentials are carried along with renamed accounts."""
        was: list[Model] = []
        renamed: list[tuple[str, str, str]] = []

        def within(model: Model, connection: Connection[TupleRow]) -> Model:
            after, renames = self.tried(edit, model)
            for r in renames.each:
                if r.kind == "account":
                    credentials.carry_renamed(connection, r.old, r.new)
            try:
                keep_promises(self._state, model, after, renames)
            except ChangeRefused:
                if not self.bounded:
                    raise
                raise self._reading.beyond() from None
            check_may(self._state, self._holder, model, after, renames)
            if self._within is not None:
                self._within(connection)
            was.append(model)
            renamed[:] = [(r.kind, r.old, r.new) for r in renames.each]
            if back_from is not None:
                for name, names in self._came_as(model, after, renames, back_from):
                    credentials.bring_back(connection, name, names, back_from)
            return after

        after = change_model(
            self._state.database,
            within,
            self._holder.name,
            what,
            expected,
            at_hand=self._state.snapshot(),
            renames=renamed,
        )
        self._state.took(after)
        return InForce(was[-1], after.model, after.revision)

    def _came_as(
        self, model: Model, after: Model, renames: Renames, back_from: int
    ) -> list[tuple[str, list[str]]]:
        """The accounts that come back, each with the names that it had since, of which it went
        under the last.
        """
        renamed = {r.new for r in renames.each if r.kind == "account"}
        known = {a.name for a in model.accounts}
        since = history.renames_since(self._state.database, back_from)
        found = []
        for account in after.accounts:
            if account.name not in known and account.name not in renamed:
                names = [account.name]
                names += [new for kind, old, new in since if kind == "account" and old == names[-1]]
                found.append((account.name, names))
        return found

    def coming_back(
        self, model: Model, after: Model, renames: Renames, back_from: int
    ) -> dict[str, frozenset[str]]:
        return {
            name: credentials.kept_methods(self._state.database, names, back_from)
            for name, names in self._came_as(model, after, renames, back_from)
        }

    def undoing(self, revision: int) -> Edit:
        database = self._state.database
        self._reading.check_revision(revision)
        then = history.read_revision(database, revision)
        items = [
            Differs(
                x.section,
                x.name,
                *(None if side is None else history.item_from(x.section, side) for side in x[3:]),
            )
            for x in history.items_of(database, revision)
        ]
        if not items:
            raise Refused(
                f"revision {revision} changed nothing of the model, so there is nothing to take"
                f" back: {then.what}"
            )

        def later(names: Sequence[tuple[str, str]]) -> dict[tuple[str, str], int]:
            return {
                (section, name): by
                for section, name, by in history.touched_since(database, revision, names)
            }

        return lambda model: (undone(model, revision, items, later), turned_round(then.renames))

    def returning(self, as_of: str) -> tuple[int, Edit]:
        if self.bounded:
            raise self._reading.beyond()
        snapshot, _ = self._state.past(as_of)
        since = history.renames_since(self._state.database, snapshot.revision)

        def edit(model: Model) -> tuple[Model, Renames]:
            return snapshot.model, renamed_since(snapshot.model, model, since)

        return snapshot.revision, edit

    def may_not(self, before: Model, after: Model, renames: Renames) -> DrawknifeError | None:
        return may_not(self._state, self._holder, before, after, renames)

    def followed(self, done: InForce, said: Sequence[str]) -> None:
        try:
            note_followed(self._state.database, done.revision, said)
        except Unavailable as error:
            log.warning("what followed was not kept", revision=done.revision, error=str(error))

    def credential_counts(self, names: Sequence[str]) -> tuple[int, int]:
        return credentials.counts_of(self._state.database, list(names))


def keep_promises(
    state: Current, before: Model, after: Model, renames: Renames | None = None
) -> None:
    """:class:`ChangeRefused` where a change would break a promise that is always to be kept."""
    if before.promises or after.promises:
        hold(
            state.prepared_for(before), state.prepared_for(after), datetime.now(UTC).date(), renames
        )


def check_may(
    state: Current, holder: Holder, before: Model, after: Model, renames: Renames
) -> None:
    """:class:`NotAllowed` where a change is not the holder's to make: what it touches, or what
    anybody gains by it.
    """
    refused = may_not(state, holder, before, after, renames)
    if refused is not None:
        raise refused


def may_not(
    state: Current, holder: Holder, before: Model, after: Model, renames: Renames
) -> NotAllowed | None:
    """Why a change is not the holder's to make; None if it is."""
    if before == after:
        return None
    if not covers(holder.role, OWNER) and any(
        getattr(before, x) != getattr(after, x) for x in _NETWORK
    ):
        return NotAllowed(f"the network takes the role owner; yours is {holder.role}: ask an owner")
    if holder.area is None:
        return None
    was, now = state.prepared_for(before), state.prepared_for(after)
    at = datetime.now(UTC)
    follows = consequences(was, now, at, renames, state.credentials(state.snapshot()))
    area = parse_area(holder.area)
    found = outside(area, was, now, follows, renames, at.date())
    if not found:
        return None
    reading = Reading(state, holder)
    if reading.area is not None:
        was, now = reading.part(was), reading.part(now)
        follows = consequences(was, now, at, renames, state.credentials(state.snapshot()))
        found = outside(area, was, now, follows, renames, at.date())
        if not found:
            return reading.beyond()
    more = f", and {len(found) - 1} more" if len(found) > 1 else ""
    return NotAllowed(
        f"that is not within your area ({', '.join(holder.area)}): {found[0]}{more}; put it in a"
        " draft for somebody else",
        found,
    )


def check_place(holder: Holder, place: Place) -> None:
    """:class:`NotAllowed` where a folder is not within the holder's area."""
    if holder.area is not None and not parse_area(holder.area).holds_place(place):
        raise NotAllowed(f"{place} is not within your area ({', '.join(holder.area)})")


def check_account(holder: Holder, account: Account | None, called: str) -> None:
    """:class:`NotAllowed` where an account is not within the holder's area."""
    if holder.area is not None and not parse_area(holder.area).holds_account(account):
        raise NotAllowed(f"{called} is not within your area ({', '.join(holder.area)})")


def check_account_named(state: Current, holder: Holder, name: str) -> None:
    """The same for an account by its name, which is outside where there is none of that name."""
    if holder.area is not None:
        found = state.prepared()[1].account(name)
        check_account(holder, None if found is None else found.account, f"account {name}")


_NETWORK = tuple(field.name for field in NETWORK_FIELDS)
#: Who makes the changes that the service makes by itself.
ITSELF = Holder("drawknife", OWNER, None, "drawknife", False)


def changing(state: Current, holder: Holder) -> Changing:
    """Changes of the model in force, by somebody, as of now."""
    return Changing(KeptModel(state, holder), datetime.now(UTC))


def note_what_followed(
    state: Current,
    before: Model,
    after: Snapshot,
    held: Credentials,
    renames: Renames | None = None,
) -> None:
    """Keep what followed from a change that was made in another way: by a sync, or a census."""
    changing(state, ITSELF).followed(
        InForce(before, after.model, after.revision), renames or Renames(), held
    )
