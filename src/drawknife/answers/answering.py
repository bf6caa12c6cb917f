"""Every question that can be asked of a model, answered in the words of :mod:`messages`.

The service answers with this, and so does the command line on a model file: the answers are the
same.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from drawknife import messages as msg
from drawknife.answers.access import AccessAnswers
from drawknife.answers.accounts import AccountAnswers
from drawknife.answers.attention import attention
from drawknife.answers.disk import DiskAnswers
from drawknife.answers.idle import IdleAnswers
from drawknife.answers.limits import LimitAnswers
from drawknife.answers.mending import MendAnswers
from drawknife.answers.named import NameAnswers
from drawknife.answers.patterns import PatternAnswers
from drawknife.answers.people import PeopleAnswers
from drawknife.answers.places import PlaceAnswers
from drawknife.answers.previews import finding_messages
from drawknife.answers.reports import ReportAnswers
from drawknife.core.everybody.findings import findings
from drawknife.core.everybody.severity import SEVERITIES
from drawknife.core.model.kinds import EVERY
from drawknife.core.words.errors import BadInput


class Answering(
    AccountAnswers,
    AccessAnswers,
    PlaceAnswers,
    PeopleAnswers,
    LimitAnswers,
    MendAnswers,
    IdleAnswers,
    PatternAnswers,
    DiskAnswers,
    NameAnswers,
    ReportAnswers,
):
    """Answers about one model: each subject has a file of its own."""

    def overview(self) -> msg.Overview:
        """How much there is of everything, and what wants attention."""
        model = self.full.model
        counts = {kind.section: len(getattr(model, kind.section, ())) for kind in EVERY}
        counts["folders"] = sum(len(s.folders) for s in model.stores)
        counts["entries"] = sum(len(f.entries) for s in model.stores for f in s.folders)
        found = self.findings()
        return msg.Overview(
            revision=self.revision,
            counts=counts,
            findings=found.findings,
            accepted=found.accepted,
            not_looked_at=found.not_looked_at,
        )

    def findings(self) -> msg.FindingList:
        """What wants attention though no rule is broken."""
        lasting = finding_messages(findings(self.prepared))
        now, unknown = attention(self.prepared, self.now, self.certificate_of, self.credentials)
        every = [*lasting, *now]
        if (
            self.beside is not None and self.whole is None
        ):  # what lies beside the model lies in no area
            every += self.beside()
        if self.whole is not None:
            # What the part alone would say, as that nobody is in a group whose members it leaves
            # out, is not so.
            whole = self.whole.findings()
            so = {(f.kind, f.about) for f in (*whole.findings, *whole.accepted)}
            every = [f for f in every if (f.kind, f.about) in so]
            unknown = ["accounts outside your area", *unknown]
        shown, accepted = self.part_accepted(every)
        return msg.FindingList(
            revision=self.revision, findings=shown, accepted=accepted, not_looked_at=unknown
        )

    def part_accepted(
        self, found: Iterable[msg.FindingMessage]
    ) -> tuple[list[msg.FindingMessage], list[msg.FindingMessage]]:
        """Part findings into those to be shown, the most pressing first, and those that somebody
        accepts.
        """
        known = self.accepted() if self.accepted is not None else {}
        shown, accepted = [], []
        for finding in sorted(found, key=lambda f: list(SEVERITIES).index(f.severity)):
            by = known.get((finding.kind, finding.about))
            if by is None:
                shown.append(finding)
            else:
                accepted.append(finding.model_copy(update={"accepted": by}))
        return shown, accepted


def decide_lines(answering: Answering, lines: Iterable[Any]) -> Iterator[dict[str, Any]]:
    """The answer to each question, or the error that stands in its place."""
    for data in lines:
        try:
            yield answering.decide(data)
        except BadInput as bad:
            yield bad.as_data()
