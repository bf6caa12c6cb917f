"""Signing a report: what was decided is kept, and what is to go is put into a draft."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any, NamedTuple

from drawknife import messages as msg
from drawknife.answers import Answering
from drawknife.answers.drafting import says
from drawknife.core.words.errors import BadInput
from drawknife.core.words.sizes import several
from drawknife.records import administrators, reports
from drawknife.records.journal import note
from drawknife.records.reports import KeptReport, Link
from drawknife.records.tokens import Holder

from .bounded_reading import Reading
from .current import Current
from .drafting import Drafting


class Signer(NamedTuple):
    """Who signs: an administrator, or whoever has the mail address that the holder sent a link to.

    What a link can change is what its sender can: `holder` is the sender then, under the mail
    address.
    """

    holder: Holder
    sent_by: str | None = None

    @classmethod
    def by_link(cls, current: Current, link: Link) -> Signer:
        """Who signs by a link. :class:`NotFound` where its sender is no administrator any more."""
        sender = administrators.find(current.database, link.administrator)
        return cls(
            Holder(
                link.address,
                sender.role,
                sender.area,
                sender.name,
                session=True,
                reads=sender.reads,
            ),
            sender.name,
        )

    def asked(self, current: Current) -> Answering:
        """Answers about what the holder reads."""
        return Reading(current, self.holder).of(current.answering())


def sign(
    current: Current,
    kept: KeptReport,
    decided: Sequence[msg.Decided],
    signer: Signer,
    returned: bytes,
    draft: str | None = None,
) -> tuple[list[str], list[str]]:
    """Sign a report, once: the changes that its draft was given, in words, and what is to go and
    does not go by them.

    :class:`BadInput` for a row of which there is nothing to decide, :class:`Refused` if it is
    signed already.
    """
    if kept.signed is not None:
        raise reports.already_signed(kept.number)
    rows = [msg.ReportRow(**row) for row in kept.document["rows"]]
    to_decide = {r.number for r in rows if r.to_decide}
    for d in decided:
        if d.row not in to_decide:
            raise BadInput(
                "document", f"there is nothing to decide of row {d.row}", "a row of the report"
            )
    go = sorted(d.row for d in decided if d.decision == "take away")
    changes, left = signer.asked(current).taking_away(rows, go) if go else ([], [])
    name = (draft or f"report-{kept.number}") if changes else None
    summary = msg.Signed(
        at=datetime.now(UTC).replace(microsecond=0),
        by=signer.holder.name,
        sent_by=signer.sent_by,
        kept=sum(d.decision == "keep" for d in decided),
        taken_away=go,
        undecided=sorted(to_decide - {d.row for d in decided}),
        draft=name,
    )
    if name is not None:
        why = _reasons(changes, kept.number, rows, decided, signer.holder.name)
        Drafting(current, signer.holder).add(name, changes, why)
    told = {
        "summary": summary.model_dump(mode="json"),
        "decided": [d.model_dump() for d in decided],
    }
    reports.sign(current.database, kept.number, told, returned)
    through = "" if signer.sent_by is None else f", through a link that {signer.sent_by} sent"
    note(
        current.database,
        signer.holder.name,
        f"report {kept.number}, about {kept.about}, was signed by {signer.holder.name}{through}",
    )
    return [says(change) for change in changes], left


def _reasons(
    changes: Sequence[dict[str, Any]],
    number: int,
    rows: Sequence[msg.ReportRow],
    decided: Sequence[msg.Decided],
    by: str,
) -> list[str]:
    """Why each change is made: the rows of its place that are to go, who said so, and their
    remarks.
    """
    going = {d.row: d.remark for d in decided if d.decision == "take away"}
    at: dict[str, list[int]] = defaultdict(list)
    for row in rows:
        if row.number in going:
            at[row.place.removeprefix("group:")].append(row.number)
    reasons = []
    for change in changes:
        here = at[change["name"]]
        remarks = "".join(f"; {going[n]}" for n in here if going[n])
        called = "row" if len(here) == 1 else "rows"
        reasons.append(
            f"report {number}, {called} {several(map(str, here), 6)}: take away, said by"
            f" {by}{remarks}"
        )
    return reasons
