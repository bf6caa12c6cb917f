"""All that changes a model, answered in the words of :mod:`messages`; as :mod:`answering` is for
questions.

The service changes its model with this, and so does the command line a model file: what is checked,
refused, and told to follow is the same.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from typing import Any, NamedTuple, Protocol

from drawknife import messages as msg
from drawknife.answers.previews import (
    NOBODY_IN_AREA,
    WhatFollows,
    follow,
    item_changes,
    preview,
    within,
)
from drawknife.answers.summaries import summary
from drawknife.changing import Applied, apply
from drawknife.core.follows.pairing import Renames
from drawknife.core.follows.promises_held import hold
from drawknife.core.follows.sign_in_changes import Credentials
from drawknife.core.model.items import Model
from drawknife.core.prepared.prepared import Prepared, prepare
from drawknife.core.words.collecting import many_objects
from drawknife.core.words.errors import DrawknifeError, Refused
from drawknife.core.words.names import fold


class InForce(NamedTuple):
    """A change that is in force: the models before and after it, and the revision that it made."""

    before: Model
    after: Model
    revision: int


#: Makes a new model of the one in force, and tells what it renames.
Edit = Callable[[Model], tuple[Model, Renames]]


class Keeper(Protocol):
    """Where a model is kept: a service's database, or a file."""

    def newest(self) -> tuple[int, Prepared]:
        """The revision in force, and its model prepared."""

    def prepared_for(self, model: Model) -> Prepared:
        """A model prepared, with the help of the newest."""

    @property
    def bounded(self) -> bool:
        """Does whoever asks read only the part of a model that their area shows?"""

    def shown(self, prepared: Prepared) -> Prepared:
        """What whoever asks reads of a model: itself, or the part that their area shows."""

    def tried(self, edit: Edit, model: Model) -> tuple[Model, Renames]:
        """What an edit makes of a model.

        An error is the one that the edit makes in what whoever asks reads.
        """

    def credentials(self) -> Credentials:
        """What each account has to sign in with; None where that is not known."""

    def change(
        self, edit: Edit, what: str, expected: int | None, back_from: int | None = None
    ) -> InForce:
        """Put in force what `edit` makes of the model in force; only of revision `expected`, if
        that is given.

        Accounts that come back get the credentials that they had when they went after the revision
        `back_from`.
        """

    def coming_back(
        self, model: Model, after: Model, renames: Renames, back_from: int
    ) -> dict[str, frozenset[str]]:
        """For the accounts that come back, the methods that they will have a credential for."""

    def undoing(self, revision: int) -> Edit:
        """What takes a revision back. :class:`Refused` where no history is kept."""

    def returning(self, as_of: str) -> tuple[int, Edit]:
        """What takes the whole model back to what it was, and the revision that this was."""

    def may_not(self, before: Model, after: Model, renames: Renames) -> DrawknifeError | None:
        """Why whoever asks may not make this change; None if they may."""

    def followed(self, done: InForce, said: Sequence[str]) -> None:
        """Keep what followed from a change."""

    def credential_counts(self, names: Sequence[str]) -> tuple[int, int]:
        """How many passwords and keys these accounts have."""


class Changing:
    """Changes of one kept model. `now` is the time as of which it is told what follows."""

    def __init__(self, keeper: Keeper, now: datetime) -> None:
        self.keeper, self.now = keeper, now

    def account_names(self) -> set[str]:
        """The names of the accounts that there are."""
        return {a.name for a in self.keeper.newest()[1].model.accounts}

    # --- change by change ------------------------------------------------------------------------

    def preview(self, changes: Sequence[dict[str, Any]]) -> msg.Preview:
        """What changes would do, and what follows. Raises as :func:`drawknife.changing.apply`."""
        notes: list[str] = []

        def edit(model: Model) -> tuple[Model, Renames]:
            applied = apply(model, changes)
            notes[:] = [*applied.doubts, *applied.notes]
            return applied.model, applied.renames

        return self.preview_edit(edit, notes)

    def _shown(
        self,
        before: Prepared,
        after: Model,
        revision: int,
        renames: Renames,
        *,
        held: Credentials,
        notes: Sequence[str] = (),
    ) -> msg.Preview:
        """A preview; that whoever asks may not make the change is told in it, as they may put it in
        a draft.
        """
        refused = self.keeper.may_not(before.model, after, renames)
        notes = (
            *([f"you may not do it yourself: {refused}"] if refused is not None else []),
            *notes,
        )
        if not self.keeper.bounded:
            return preview(
                before, after, revision, self.now, renames, credentials=held, notes=notes
            )
        whole = before, self.keeper.prepared_for(after)
        was, now = map(self.keeper.shown, whole)
        return preview(
            was, now.model, revision, self.now, renames, credentials=held, notes=notes, whole=whole
        )

    def check(self, changes: Sequence[dict[str, Any]]) -> msg.Checked:
        """Could they be done, and do they look like slips? Raises as :meth:`preview`."""
        applied: list[Applied] = []

        def edit(model: Model) -> tuple[Model, Renames]:
            applied.append(apply(model, changes))
            return applied[-1].model, applied[-1].renames

        revision, prepared = self.keeper.newest()
        self.keeper.tried(edit, prepared.model)
        return msg.Checked(
            revision=revision, doubts=list(applied[-1].doubts), notes=list(applied[-1].notes)
        )

    def change(self, changes: Sequence[dict[str, Any]], expected: int | None = None) -> msg.Changed:
        """Do all of the changes, or none. Raises as :meth:`preview`, and what the keeper raises."""
        applied: list[Applied] = []

        def edit(model: Model) -> tuple[Model, Renames]:
            applied.append(apply(model, changes))
            return applied[-1].model, applied[-1].renames

        done = self.change_edit(edit, _in_few_words(changes), expected)
        return done.model_copy(update={"notes": [*applied[-1].doubts, *applied[-1].notes]})

    # --- the whole model -------------------------------------------------------------------------

    def preview_model(self, model: Model) -> msg.Preview:
        """What putting another model in force would do."""
        revision, prepared = self.keeper.newest()
        return self._shown(prepared, model, revision, Renames(), held=self.keeper.credentials())

    def losses(self, model: Model) -> msg.LoadLosses:
        """How much would go if another model were put in force."""
        revision, prepared = self.keeper.newest()
        left = {fold(a.name) for a in model.accounts}
        gone = [a.name for a in prepared.model.accounts if fold(a.name) not in left]
        folders = {(fold(s.name), f.path) for s in model.stores for f in s.folders}
        missing = sum(
            (fold(s.name), f.path) not in folders for s in prepared.model.stores for f in s.folders
        )
        passwords, keys = self.keeper.credential_counts(gone)
        return msg.LoadLosses(
            revision=revision,
            accounts=len(gone),
            folders=missing,
            passwords=passwords,
            keys=keys,
            named=gone[:10],
        )

    def load(self, model: Model, expected: int | None = None) -> msg.Loaded:
        """Put another model in force."""
        held = self.keeper.credentials()
        done = self.keeper.change(lambda _: (model, Renames()), "load", expected)
        counts = {
            name: len(getattr(model, name))
            for name in model.__dataclass_fields__
            if name != "beside"
        }
        counts["folders"] = sum(len(s.folders) for s in model.stores)
        changed = done.before != done.after
        return msg.Loaded(
            revision=done.revision,
            changed=changed,
            counts=counts,
            followed=self.followed(done, Renames(), held),
        )

    # --- the way back ----------------------------------------------------------------------------

    def preview_back(self, revision: int) -> msg.Preview:
        """What undoing a revision on the model of today would do. Raises as :meth:`back`."""
        return self.preview_edit(self.keeper.undoing(revision), back_from=revision - 1)

    def back(self, revision: int, expected: int | None = None) -> msg.Changed:
        """Undo a revision on the model of today.

        Raises :class:`ChangeRefused` where something later touched what it changed,
        :class:`NotFound` where there is no such revision, and :class:`Refused` where it cannot be
        had back.
        """
        return self.change_edit(
            self.keeper.undoing(revision), f"back {revision}", expected, revision - 1
        )

    def preview_back_to(self, as_of: str) -> msg.Preview:
        """What taking the whole model back to a revision or a time would do.

        Raises as :meth:`back_to`.
        """
        revision, edit = self.keeper.returning(as_of)
        return self.preview_edit(edit, back_from=revision)

    def back_to(self, as_of: str, expected: int | None = None) -> msg.Changed:
        """Put in force the whole model as it was.

        Raises as :func:`drawknife.records.history.as_of`.
        """
        revision, edit = self.keeper.returning(as_of)
        return self.change_edit(edit, f"back to revision {revision}", expected, revision)

    # --- any edit --------------------------------------------------------------------------------

    def preview_edit(
        self, edit: Edit, notes: Sequence[str] = (), back_from: int | None = None
    ) -> msg.Preview:
        """What an edit would do.

        Accounts that come back are taken to have what they went with after `back_from`.
        """
        revision, prepared = self.keeper.newest()
        after, renames = self.keeper.tried(edit, prepared.model)
        held = self._held(self.keeper.credentials(), prepared.model, after, renames, back_from)
        return self._shown(prepared, after, revision, renames, held=held, notes=notes)

    def _held(
        self,
        known: Credentials,
        model: Model,
        after: Model,
        renames: Renames,
        back_from: int | None,
    ) -> Credentials:
        """What there is to sign in with, what comes back with an account included."""
        if known is None or back_from is None:
            return known
        return {**known, **self.keeper.coming_back(model, after, renames, back_from)}

    def change_edit(
        self, edit: Edit, what: str, expected: int | None = None, back_from: int | None = None
    ) -> msg.Changed:
        """Put in force what an edit makes of the model.

        Raises what the edit and the keeper raise.
        """
        known = self.keeper.credentials()
        renamed: list[Renames] = []
        held: list[Credentials] = []

        def noting(model: Model) -> tuple[Model, Renames]:
            after, renames = edit(model)
            renamed.append(renames)
            held.append(self._held(known, model, after, renames, back_from))
            return after, renames

        done = self.keeper.change(noting, what, expected, back_from)
        followed = self.followed(done, renamed[-1], held[-1])
        before, after = done.before, done.after
        if self.keeper.bounded and before != after:
            was, now = (self.keeper.prepared_for(model) for model in (before, after))
            followed = followed_as_shown(self.keeper, (was, now), self.now, renamed[-1], held[-1])
            before, after = (self.keeper.shown(prepared).model for prepared in (was, now))
        count, items = item_changes(before, after, renamed[-1])
        return msg.Changed(
            revision=done.revision,
            changed=count > 0,
            item_count=count,
            items=items,
            followed=followed,
        )

    def followed(self, done: InForce, renames: Renames, held: Credentials) -> list[str]:
        """What followed from a change that is in force, in a line or two."""
        if done.before == done.after:
            return []
        with many_objects():
            was = self.keeper.prepared_for(done.before)
            said = followed_in_words(
                follow(was, self.keeper.prepared_for(done.after), self.now, renames, held)
            )
        self.keeper.followed(done, said)
        return said


def followed_as_shown(
    keeper: Keeper,
    whole: tuple[Prepared, Prepared],
    now: datetime,
    renames: Renames,
    held: Credentials,
) -> list[str]:
    """The effects of a change, in a line or two, as far as whoever asks reads the models before and
    after it.
    """
    outcome = follow(*whole, now, renames, held)
    if not keeper.bounded:
        return followed_in_words(outcome)
    before, after = map(keeper.shown, whole)
    return followed_in_words(
        within(follow(before, after, now, renames, held), outcome), NOBODY_IN_AREA
    )


def followed_in_words(outcome: WhatFollows, nobody: str = "nobody") -> list[str]:
    """What followed from a change, in a line or two; of lines without effect the first.

    `nobody` as in a summary.
    """
    said = summary(outcome.follows, nobody)
    said += [
        f"{x.line} has no effect: {x.reasons[0]}" for x in outcome.without_effect[:2] if x.reasons
    ]
    if not outcome.without_effect:
        said += [f"still, {x}" for x in outcome.held_back[:2]]
    return said


def _in_few_words(changes: Sequence[dict[str, Any]]) -> str:
    """What the journal says: the first change, and how many more."""
    first = changes[0]
    item = first.get("item") or {}
    called = first.get("name") or str(item.get("name") or item.get("path") or item.get("for") or "")
    text = f"{first['op']} {first['kind'].replace('-', ' ')} {called}"
    text += f" to {first['to']}" if first.get("to") else ""
    return text + (f" and {len(changes) - 1} more" if len(changes) > 1 else "")


class InMemory:
    """Keeps a model in memory, as one of a file; what becomes of it is up to who made it."""

    def __init__(self, model: Model, keep: Callable[[Model, Renames], None]) -> None:
        self._prepared = prepare(model)
        self._keep = keep

    def newest(self) -> tuple[int, Prepared]:
        return 0, self._prepared

    def prepared_for(self, model: Model) -> Prepared:
        return self._prepared if model is self._prepared.model else prepare(model, self._prepared)

    @property
    def bounded(self) -> bool:
        return False

    def shown(self, prepared: Prepared) -> Prepared:
        return prepared

    def tried(self, edit: Edit, model: Model) -> tuple[Model, Renames]:
        return edit(model)

    def credentials(self) -> Credentials:
        return None

    def change(
        self, edit: Edit, what: str, expected: int | None, back_from: int | None = None
    ) -> InForce:
        before = self._prepared.model
        after, renames = edit(before)
        hold(self._prepared, self.prepared_for(after), datetime.now(UTC).date(), renames)
        if after != before:
            self._keep(after, renames)
        return InForce(before, after, 0)

    def coming_back(
        self, model: Model, after: Model, renames: Renames, back_from: int
    ) -> dict[str, frozenset[str]]:
        return {}

    def undoing(self, revision: int) -> Edit:
        raise Refused("a model file has no history: a service keeps one")

    def returning(self, as_of: str) -> tuple[int, Edit]:
        raise Refused("a model file has no history: a service keeps one")

    def may_not(self, before: Model, after: Model, renames: Renames) -> DrawknifeError | None:
        return None

    def followed(self, done: InForce, said: Sequence[str]) -> None:
        pass

    def credential_counts(self, names: Sequence[str]) -> tuple[int, int]:
        return 0, 0
