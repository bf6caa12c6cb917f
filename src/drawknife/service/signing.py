"""Signing a report: its decisions are kept, and a draft gets the changes that remove access."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from datetime import UTC, datetime
from itertools import chain, count
from typing import Any, NamedTuple

from psycopg import Connection
from psycopg.rows import TupleRow

from drawknife import messages as msg
from drawknife.answers import Answering
from drawknife.answers.drafting import says
from drawknife.core.words.errors import BadInput
from drawknife.core.words.sizes import several
from drawknife.records import administrators, drafts, reports
from drawknife.records.database import Database
from drawknife.records.journal import write_line
from drawknife.records.reports import KeptReport, Link
from drawknife.records.tokens import Holder

from .bounded_reading import Reading
from .current import Current
from .drafting import Drafting


class Signer(NamedTuple):
    """Who signs: the administrator `holder`, or `address`, to which the holder sent a link.

    A signature through a link can change what the holder could change at that time.
    """

    holder: Holder
    address: str | None = None

    @classmethod
    def by_link(cls, current: Current, link: Link) -> Signer:
        """The signer of a link. :class:`NotFound` if its sender is no longer an administrator."""
        sender = administrators.find(current.database, link.administrator)
        holder = Holder(
            sender.name, sender.role, sender.area, sender.name, session=True, reads=sender.reads
        )
        return cls(holder, link.address)

    @property
    def name(self) -> str:
        return self.address or self.holder.name

    @property
    def sent_by(self) -> str | None:
        """The administrator who sent the link, if the report is signed through one."""
        return None if self.address is None else self.holder.name

    def answers(self, current: Current) -> Answering:
        """Answers about the part of the model that the holder reads."""
        return Reading(current, self.holder).of(current.answering())


class Signature(NamedTuple):
    """What a signed report leads to: `changes` of its draft in words, and `left`, the access that
    these changes do not remove.
    """

    changes: list[str]
    left: list[str]


def sign(
    current: Current,
    kept: KeptReport,
    decided: Sequence[msg.Decided],
    signer: Signer,
    returned: bytes,
    draft: str | None = None,
) -> Signature:
    """Sign a report once: decisions, draft and journal line are written in one transaction.

    `returned` is the document that came back, kept as it is. :class:`BadInput` for a row without a
    decision to take, :class:`Refused` if the report is signed already.
    """
    if kept.signed is not None:
        raise reports.already_signed(kept.number)
    rows = [msg.ReportRow(**row) for row in kept.document["rows"]]
    to_decide = {r.number for r in rows if r.to_decide}
    for decision in decided:
        if decision.row not in to_decide:
            raise BadInput(
                "document",
                f"there is nothing to decide of row {decision.row}",
                "a row of the report",
            )
    removed = sorted(d.row for d in decided if d.decision == "take away")
    changes, left = signer.answers(current).taking_away(rows, removed) if removed else ([], [])
    name = (draft or _free_name(current.database, kept.number)) if changes else None
    summary = msg.Signed(
        at=datetime.now(UTC).replace(microsecond=0),
        by=signer.name,
        sent_by=signer.sent_by,
        kept=sum(d.decision == "keep" for d in decided),
        taken_away=removed,
        undecided=sorted(to_decide - {d.row for d in decided}),
        draft=name,
    )
    document = {
        "summary": summary.model_dump(mode="json"),
        "decided": [d.model_dump() for d in decided],
    }

    def keep(connection: Connection[TupleRow]) -> None:
        reports.sign(connection, kept.number, document, returned)
        write_line(connection, signer.holder.name, _journal_line(kept, signer))

    if name is None:
        with current.database.transaction() as connection:
            keep(connection)
    else:
        reasons = _reasons(changes, kept.number, rows, decided, signer.name)
        Drafting(current, signer.holder).add(name, changes, reasons, first=keep)
    return Signature([says(change) for change in changes], left)


def _free_name(database: Database, number: int) -> str:
    """A name for the draft of a report: nobody's draft stands in the way of a signature."""
    first = f"report-{number}"
    names = chain([first], (f"{first}-{n}" for n in count(2)))
    return next(name for name in names if drafts.find(database, name) is None)


def _journal_line(kept: KeptReport, signer: Signer) -> str:
    line = f"{signer.name} signed report {kept.number} about {kept.about}"
    return line if signer.sent_by is None else f"{line} through a link from {signer.sent_by}"


def _reasons(
    changes: Sequence[dict[str, Any]],
    number: int,
    rows: Sequence[msg.ReportRow],
    decided: Sequence[msg.Decided],
    by: str,
) -> list[str]:
    """The reason of each change: the removed rows of its place, who decided, and the remarks."""
    remarks = {d.row: d.remark for d in decided if d.decision == "take away"}
    rows_of: dict[str, list[int]] = defaultdict(list)
    for row in rows:
        if row.number in remarks:
            rows_of[row.place.removeprefix("group:")].append(row.number)
    reasons = []
    for change in changes:
        numbers = rows_of[change["name"]]
        label = "row" if len(numbers) == 1 else "rows"
        reason = f"report {number}, {label} {several(map(str, numbers), 6)}: removed by {by}"
        reasons.append("; ".join([reason, *(remarks[n] or "" for n in numbers if remarks[n])]))
    return reasons
