"""What somebody reads: everything, or where their area bounds it what touches that (docs/rules.md,
"Roles and areas").
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import UTC, datetime

from drawknife import messages as msg
from drawknife.answers import Answering
from drawknife.core.everybody.shown import part_shown
from drawknife.core.model.areas import Area, parse_area
from drawknife.core.model.items import Account
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.words.errors import NotAllowed, NotFound
from drawknife.core.words.names import fold
from drawknife.records import history, journal
from drawknife.records.tokens import Holder

from .current import Current

#: What is said of a change that reaches beyond the area of who asks.
NOT_SHOWN = "a change outside your area"


class Reading:
    """What a holder reads. `area` is None where nothing bounds it."""

    def __init__(self, state: Current, holder: Holder) -> None:
        self._state, self._holder = state, holder
        self.area: Area | None = None if holder.shown is None else parse_area(holder.shown)

    def part(self, prepared: Prepared) -> Prepared:
        """What is shown of a model; itself where nothing bounds it."""
        return (
            prepared
            if self.area is None
            else part_shown(prepared.full, self.area, datetime.now(UTC).date())
        )

    def of(self, answering: Answering) -> Answering:
        """Answers about what is shown of the model that they are about."""
        return answering if self.area is None else answering.bounded(self.area)

    def accounts(self) -> frozenset[str] | None:
        """The accounts of the area, in the form in which names are compared; None: all are read."""
        if self.area is None:
            return None
        return frozenset(fold(a.name) for a in self.part(self._state.prepared()[1]).model.accounts)

    def beyond(self) -> NotAllowed:
        """That something reaches farther than what is shown, which is not told of."""
        return NotAllowed(
            f"this affects something outside your area ({', '.join(self._holder.shown or ())}). Ask"
            " an owner."
        )

    # --- the journal -----------------------------------------------------------------------------

    def check_revision(self, number: int) -> None:
        """:class:`NotFound` for a revision that is not shown, as for one that there is not."""
        if self.area is not None and not self.shows_revision(number):
            raise NotFound("revision", str(number), [], "revision", history.KNOWN)

    def shows_revision(self, number: int) -> bool:
        line = journal.read_line(self._state.database, number, 1)
        return line is not None and self._shows(line)

    def of_turns(self, found: msg.WhenAnswer) -> msg.WhenAnswer:
        """Since when something is so; of a change that is not shown there is only when it was."""
        if self.area is None:
            return found
        turns = [
            (
                turn
                if turn.revision is None or self.shows_revision(turn.revision)
                else turn.model_copy(update={"who": None, "what": NOT_SHOWN, "items": []})
            )
            for turn in found.turns
        ]
        return found.model_copy(update={"turns": turns})

    def told(self, by: history.Revision) -> str:
        """What a revision did, in the journal's words, if it is shown."""
        return by.what if self.area is None or self.shows_revision(by.number) else NOT_SHOWN

    def lines(
        self, limit: int, offset: int, wanted: journal.LinesWanted
    ) -> tuple[int, list[journal.JournalRow]]:
        """How many lines of the journal there are of those wanted, and some, the newest first."""
        database = self._state.database
        if self.area is None:
            return journal.read_journal(database, limit, offset, wanted)
        shown = [line for line in self._every_line(wanted) if self._shows(line)]
        return len(shown), [self.of_line(line) for line in shown[offset : offset + limit]]

    def of_line(self, line: journal.JournalRow) -> journal.JournalRow:
        """A line without what followed from it, which names everybody."""
        return line if self.area is None else line._replace(followed=None)

    def _every_line(
        self, wanted: journal.LinesWanted, some: int = 1000
    ) -> Iterator[journal.JournalRow]:
        offset = 0
        while True:
            _, lines = journal.read_journal(self._state.database, some, offset, wanted)
            yield from lines
            if len(lines) < some:
                return
            offset += some

    def _shows(self, line: journal.JournalRow) -> bool:
        """Is a line shown: what they did themselves beside the model, and changes of which every
        item lies in the area?
        """
        if not line.item_count:
            return line.who in (self._holder.name, self._holder.by)
        items = line.items
        if line.item_count > len(items) and self._hold(items):
            items = list(journal.every_item(self._state.database, line.id))
        return self._hold(items)

    def _hold(self, items: Iterable[journal.Item]) -> bool:
        assert self.area is not None
        accounts = {fold(a.name): a for a in self._state.snapshot().model.accounts}
        return all(
            history.is_of_model(section)
            and before != "counted"
            and all(
                self._holds_side(section, name, side, accounts)
                for side in (before, after)
                if side is not None
            )
            for section, name, before, after in items
        )

    def _holds_side(
        self, section: str, name: str, side: object, accounts: dict[str, Account]
    ) -> bool:
        assert self.area is not None
        return self.area.holds_item(section, name, history.item_from(section, side), accounts)
