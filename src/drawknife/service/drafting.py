"""Drafts: filled, looked at against the model of today, and applied as one change of it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from itertools import groupby
from typing import Any

from psycopg import Connection
from psycopg.rows import TupleRow

from drawknife import messages as msg
from drawknife.answers import Answering
from drawknife.answers.changing import Changing, followed_as_shown
from drawknife.answers.drafting import BACK, BACK_TO, LOAD, Laid, lay, misfits, names_in, says
from drawknife.answers.previews import item_changes
from drawknife.core.follows.pairing import Renames
from drawknife.core.model import values
from drawknife.core.model.difference import differing
from drawknife.core.model.items import Model
from drawknife.core.prepared.prepared import Prepared, prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.errors import BadInput, DrawknifeError, NotAllowed, NotFound, Refused
from drawknife.core.words.names import BadValue, check_name, fold
from drawknife.core.words.roles import OWNER, covers
from drawknife.core.words.sizes import number_of
from drawknife.formats.model_file import model_data
from drawknife.records import drafts, history, journal
from drawknife.records.tokens import Holder

from .bounded_reading import NOT_SHOWN, Reading
from .current import Current
from .draft_models import ApplyingDraft, WithinDraft, credentials_with, returning_with
from .keeping import KeptModel


class Drafting:
    """Drafts, as somebody has to do with them."""

    def __init__(self, state: Current, holder: Holder) -> None:
        self._state, self._holder = state, holder
        self._database = state.database
        self._keeper = KeptModel(state, holder)
        self._reading = Reading(state, holder)

    # --- looking ---------------------------------------------------------------------------------

    def every(self) -> msg.DraftList:
        """All drafts, the newest first."""
        return msg.DraftList(
            drafts=[_line(s) for s in drafts.each(self._database) if self._shows(s.begun_by)]
        )

    def show(self, name: str) -> msg.DraftAnswer:
        """A draft, and what would follow from it today; or which of its steps fit no
        more, and why.
        """
        draft = self._read(name)
        revision, prepared = self._keeper.newest()
        steps = [s.step for s in draft.steps]
        preview, unfit = None, dict[int, DrawknifeError]()
        try:
            laid = self._laid(prepared.model, steps)
            applying = Changing(
                ApplyingDraft(self._state, self._holder, self._why_not_apply(draft), laid),
                datetime.now(UTC),
            )
            preview = applying.preview_edit(lambda _: (laid.model, laid.renames), laid.notes)
        except DrawknifeError:
            unfit = self._unfit(prepared, steps)
            if not unfit:
                raise
        return msg.DraftAnswer(
            revision=revision,
            draft=_line(drafts.summary(self._database, draft.name)),
            steps=[
                msg.DraftStep(
                    number=s.number,
                    at=s.at,
                    who=s.who,
                    revision=s.revision,
                    step=_without_model(s.step) if self._may_read(s) else {},
                    says=says(s.step) if self._may_read(s) else NOT_SHOWN,
                    why=s.why if self._may_read(s) else None,
                    misfit=self._misfit(s, unfit[i]) if i in unfit else None,
                )
                for i, s in enumerate(draft.steps)
            ],
            comments=[
                msg.Comment(at=at, who=who, says=x)
                for at, who, x in drafts.comments(self._database, draft.name)
            ],
            preview=preview,
            changed_since=[] if unfit else self._changed_since(prepared.model, draft),
        )

    def _misfit(self, step: drafts.StoredStep, error: DrawknifeError) -> msg.Misfit:
        """Why a step fits no more, with the last revision after it that changed
        something it names.
        """
        said = "; ".join(
            dict.fromkeys(
                [str(error), *(p.message for p in error.places if p.message not in str(error))]
            )
        )
        touched = list(history.touched_since(self._database, step.revision, names_in(step.step)))
        if not touched:
            return msg.Misfit(says=said)
        by = history.read_revision(self._database, max(number for *_, number in touched))
        return msg.Misfit(says=said, revision=by.number, who=by.who, what=self._reading.told(by))

    def _unfit(
        self, prepared: Prepared, steps: Sequence[dict[str, Any]]
    ) -> dict[int, DrawknifeError]:
        """The steps that fit no more, with why not, as far as who asks reads the model."""
        unfit = misfits(prepared.model, steps, self._keeper)
        part = self._reading.part(prepared)
        if part is prepared:
            return unfit
        of_part = misfits(part.model, steps, self._keeper)
        return {i: of_part.get(i, self._reading.beyond()) for i in sorted({*unfit, *of_part})}

    # --- who reads which -------------------------------------------------------------------------

    def _read(self, name: str) -> drafts.Draft:
        """A draft with its steps; :class:`NotFound`, also for one that is not shown."""
        draft = drafts.find(self._database, name)
        found = None if draft is None else drafts.read(self._database, draft[0])
        if found is None or not self._shows(found.begun_by):
            raise NotFound("draft", name, (line.name for line in self.every().drafts), "draft")
        return found

    def _shows(self, begun_by: str) -> bool:
        """Where an area bounds reading, only the drafts are shown that who asks has begun."""
        return self._reading.area is None or self._is_own(begun_by)

    def _may_read(self, step: drafts.StoredStep) -> bool:
        return self._reading.area is None or step.administrator == self._holder.by

    def _is_own(self, begun_by: str) -> bool:
        return begun_by in (self._holder.name, self._holder.by)

    def _changed_since(self, model: Model, draft: drafts.Draft) -> list[str]:
        """What it touches that was changed after it was written, with who changed it last."""
        said: dict[str, None] = {}
        for revision, some in groupby(draft.steps, lambda s: s.revision):
            after = lay(model, [s.step for s in some], self._keeper).model
            touched = [(d.section, d.name) for d in differing(model, after)]
            for section, name, number in (
                history.touched_since(self._database, revision, touched) if touched else ()
            ):
                by = history.read_revision(self._database, number)
                told = self._reading.told(by)
                said[
                    f"{section.replace('_', ' ')} {name}, by {by.who} in revision {number}: {told}"
                ] = None
            model = after
        return list(said)

    # --- writing ---------------------------------------------------------------------------------

    def begin(self, name: str, about: str | None) -> msg.DraftLine:
        """A new, empty draft."""
        _check_shown("about", about or "")
        drafts.begin(self._database, _checked(name), about, self._holder.name)
        journal.note(self._database, self._holder.name, f"begin draft {name}")
        return _line(drafts.summary(self._database, name))

    def add(
        self,
        name: str,
        steps: Sequence[dict[str, Any]],
        why: Sequence[str] = (),
        first: Callable[[Connection[TupleRow]], None] | None = None,
    ) -> msg.DraftWritten:
        """Put steps into a draft, each with `why`; it is begun if there is none.

        No step is put in that cannot be done. `first` is called at the beginning of the
        transaction that writes the draft.
        """
        there = drafts.find(self._database, name)
        draft = drafts.read(self._database, name) if there is not None else None
        if draft is not None and not self._shows(draft.begun_by):
            raise BadInput("draft", f"the name {name} is taken", "another name")
        if draft is not None:
            self._check_own(draft.begun_by, draft.name, "write on")
        else:
            _checked(name)
        before = [s.step for s in draft.steps] if draft else []
        revision, prepared = self._keeper.newest()
        try:
            was = self._laid(prepared.model, before)
        except DrawknifeError as error:
            raise Refused(
                f"draft {name} fits no more on the model of today, so nothing can be put in it:"
                f" {error}; `drawknife draft show {name}` tells which of its steps, and `draft"
                " leave-out` takes them out"
            ) from None
        laid = self._laid(was.model, steps)
        begun = drafts.add(
            self._database,
            draft.name if draft else name,
            steps,
            revision,
            self._holder.name,
            administrator=self._holder.by,
            expected=draft.version if draft else None,
            why=why,
            first=first,
        )
        if begun:
            journal.note(self._database, self._holder.name, f"begin draft {name}")
        whole = was.then(laid)
        held = returning_with(self._keeper, prepared.model, whole)
        both = prepared, self._state.prepared_for(whole.model)
        would = followed_as_shown(self._keeper, both, datetime.now(UTC), whole.renames, held)
        old, new = was.model, laid.model
        if self._keeper.bounded:
            old, new = (
                self._keeper.shown(self._state.prepared_for(model)).model for model in (old, new)
            )
        count, items = item_changes(old, new, laid.renames)
        return msg.DraftWritten(
            draft=draft.name if draft else name,
            begun=begun,
            steps=len(before) + len(steps),
            revision=revision,
            items=items,
            item_count=count,
            would=would,
            notes=list(laid.notes),
        )

    def add_model(self, name: str, model: Model) -> msg.DraftWritten:
        """Put a whole model in a draft, in the place of the one in force."""
        return self.add(name, [{"op": LOAD, "model": model_data(model)}])

    def add_back(self, name: str, revision: int | None, as_of: str | None) -> msg.DraftWritten:
        """Put a way back in a draft."""
        if (revision is None) == (as_of is None):
            raise BadInput(
                "revision",
                "one way back is wanted",
                "a revision to undo, or as_of, which the model goes back to",
            )
        step = (
            {"op": BACK, "revision": revision} if as_of is None else {"op": BACK_TO, "as_of": as_of}
        )
        return self.add(name, [step])

    def leave_out(self, name: str, number: int) -> None:
        """Take one step out of a draft."""
        draft = self._read(name)
        self._check_own(draft.begun_by, draft.name, "write on")
        drafts.leave_out(self._database, draft.name, number)

    def comment(self, name: str, text: str) -> None:
        """Say something of a draft, in one or more lines; anybody may who may write drafts."""
        _check_shown("says", text, lines=True)
        drafts.comment(self._database, self._read(name).name, self._holder.name, text)

    def drop(self, name: str) -> None:
        """Take a draft away; the journal keeps what was in it."""
        draft = self._read(name)
        self._check_own(draft.begun_by, draft.name, "drop")
        drafts.drop(self._database, draft.name)
        steps = [
            ("steps of the draft", says(s.step), None, _without_model(s.step)) for s in draft.steps
        ]
        journal.note(self._database, self._holder.name, f"drop draft {draft.name}", steps)

    def _check_own(self, begun_by: str, name: str, what: str) -> None:
        if begun_by not in (self._holder.name, self._holder.by) and not covers(
            self._holder.role, OWNER
        ):
            raise NotAllowed(
                f"draft {name} is {begun_by}'s: to {what} it takes to be {begun_by}, or the role"
                f" {OWNER}; comment on it, or begin one of your own"
            )

    # --- applying --------------------------------------------------------------------------------

    def apply(self, name: str, expected: int | None) -> msg.Changed:
        """Do all of a draft as one change, and take it away; only of revision `expected`, if that
        is given.

        Without it, it is refused where what it touches was changed by others after it was written.
        """
        draft = self._read(name)
        if not draft.steps:
            raise Refused(f"draft {draft.name} is empty: there is nothing to apply")
        refused = self._why_not_apply(draft)
        if refused is not None:
            raise refused
        revision, prepared = self._keeper.newest()
        steps = [s.step for s in draft.steps]
        back = self._lay(draft, prepared.model).back_from
        if expected is None:
            since = self._changed_since(prepared.model, draft)
            if since:
                raise Refused(
                    f"what draft {draft.name} touches was changed after it was written: {since[0]};"
                    f" look at it, and apply it as of revision {revision}"
                )

        def take(connection: Connection[TupleRow]) -> None:
            if not drafts.took(connection, draft.name, draft.version):
                raise Refused(
                    f"draft {draft.name} was applied, dropped or written on meanwhile: look at it"
                    " again"
                )

        def edit(model: Model) -> tuple[Model, Renames]:
            laid = lay(model, steps, self._keeper)
            return laid.model, laid.renames

        changing = Changing(KeptModel(self._state, self._holder, take), datetime.now(UTC))
        writers = sorted({s.who for s in draft.steps} - {self._holder.name})
        by = f", written by {' and '.join(writers)}" if writers else ""
        done = changing.change_edit(edit, f"apply draft {draft.name}{by}", expected, back)
        if not done.changed:  # it was so already: there is no transaction that took it away
            drafts.drop(self._database, draft.name)
        return done

    def _why_not_apply(self, draft: drafts.Draft) -> NotAllowed | None:
        """Why whoever asks may not apply it; None if they may, as far as can be told before it is
        looked at.
        """
        if self._state.second_person and any(
            s.administrator == self._holder.by for s in draft.steps
        ):
            return NotAllowed(
                f"a second person applies a draft here, one who wrote none of it; {self._holder.by}"
                f" wrote some of {draft.name}"
            )
        if any(s.step["op"] in (LOAD, BACK_TO) for s in draft.steps) and not covers(
            self._holder.role, OWNER
        ):
            return NotAllowed(
                f"draft {draft.name} puts a whole model in force: applying it takes the role"
                f" {OWNER}; yours is {self._holder.role}"
            )
        return None

    # --- asking ----------------------------------------------------------------------------------

    def changing(self, name: str) -> Changing:
        """Changes of the model as it would be with a draft, to look at them; one that there is none
        of yet is empty.
        """
        there = drafts.find(self._database, name)
        shown = there is not None and self._shows(drafts.summary(self._database, there[0]).begun_by)
        if there is None or not shown:
            return Changing(self._keeper, datetime.now(UTC))
        keeper = WithinDraft(self._state, self._holder, *self._drafted(*there))
        return Changing(keeper, datetime.now(UTC))

    def answering(self, name: str) -> Answering:
        """Answers about the model as it would be with a draft.

        :class:`Refused` where that fits no more.
        """
        draft = self._read(name)
        revision, laid, prepared = self._drafted(draft.name, draft.version)
        held = credentials_with(self._keeper, self._state.snapshot().model, laid)
        origin = laid.renames.origins(
            "account", (a.name for a in self._state.snapshot().model.accounts)
        )

        def known(question: Question, at: datetime) -> Question:
            was = origin.get(fold(question.account), question.account)
            mine = None if held is None else held.get(question.account, frozenset())
            return self._state.with_facts(question, at, laid.model, was, mine)

        return Answering(
            prepared,
            revision,
            datetime.now(UTC),
            known,
            credentials=held,
            seen=self._state.certificates.seen,
        )

    def _drafted(self, name: str, version: int) -> tuple[int, Laid, Prepared]:
        """The revision in force, what a draft makes of it, and that made ready; kept as long as
        neither changes.
        """
        revision, today = self._keeper.newest()

        def make() -> tuple[int, Laid, Prepared]:
            laid = self._lay(drafts.read(self._database, name), today.model)
            return revision, laid, prepare(laid.model, today)

        return self._state.kept_apart((name, version, revision), make)

    def _laid(self, model: Model, steps: Sequence[dict[str, Any]]) -> Laid:
        """What steps make of a model; what is wrong with them is told as it is in what who asks
        reads of it.
        """
        laid: list[Laid] = []

        def edit(model: Model) -> tuple[Model, Renames]:
            laid.append(lay(model, steps, self._keeper))
            return laid[-1].model, laid[-1].renames

        self._keeper.tried(edit, model)
        # The notes are of what is read, the model is the whole one.
        return laid[0]._replace(notes=laid[-1].notes)

    def _lay(self, draft: drafts.Draft, model: Model) -> Laid:
        try:
            return self._laid(model, [s.step for s in draft.steps])
        except DrawknifeError as error:
            raise Refused(
                f"draft {draft.name} fits no more on the model of today: {error};"
                f" `drawknife draft show {draft.name}` tells which of its steps"
            ) from None


def _line(s: drafts.Summary) -> msg.DraftLine:
    return msg.DraftLine(**s._asdict())


def _without_model(step: dict[str, Any]) -> dict[str, Any]:
    """A step as it is told: of a whole model only how much there is of everything."""
    if step["op"] != LOAD:
        return step
    counts = {
        section: number_of(len(items), "item")
        for section, items in step["model"].items()
        if isinstance(items, list)
    }
    return {"op": LOAD, "model": counts}


def _checked(name: str) -> str:
    try:
        return check_name(name)
    except BadValue as bad:
        raise BadInput("name", str(bad), bad.expected) from None


def _check_shown(where: str, text: str, lines: bool = False) -> None:
    """:class:`BadInput` for a text that would not show what it says."""
    try:
        values.text(text, lines)
    except BadValue as bad:
        raise BadInput(where, str(bad), bad.expected) from None
