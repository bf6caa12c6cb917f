"""What has no effect, in the words of :mod:`messages`."""

from __future__ import annotations

from drawknife import messages as msg
from drawknife.answers.asked import Asked
from drawknife.answers.previews import reasons_within
from drawknife.idle import Part, idle


class IdleAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that is about what has no effect."""

    def idle(self) -> msg.IdleAnswer:
        """All that could be taken away, with the reason, and nothing would be different."""
        sought = idle(self.full, self.now, self.credentials)
        parts = [(x.part, list(x.reasons)) for x in sought.found]
        if self.whole is not None:
            # Something may have an effect for those who are not told of: only what has none in the
            # whole model has none.
            so = {(x.kind, x.at, x.says): x.reasons for x in self.whole.idle().idle}
            called = [((part.kind, part.name, part.says), part, reasons) for part, reasons in parts]
            parts = [
                (part, list(reasons_within(reasons, so[key])))
                for key, part, reasons in called
                if key in so
            ]
        found = [
            msg.IdleMessage(
                number=i,
                kind=part.kind,
                at=part.name,
                says=part.says,
                reasons=reasons,
                guards=_guards(part),
                change=msg.Change(**part.change),
            )
            for i, (part, reasons) in enumerate(parts, 1)
        ]
        return msg.IdleAnswer(revision=self.revision, idle=found, left_out=sought.left_out)


def _guards(part: Part) -> bool:
    return part.kind in ("entry", "endpoint entry") and part.what.line.effect != "allow"
