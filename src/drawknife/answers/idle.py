"""What has no effect, in the words of :mod:`messages`."""

from __future__ import annotations

from drawknife import messages as msg
from drawknife.answers.asked import Asked
from drawknife.idle import Part, idle


class IdleAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that is about what has no effect."""

    def idle(self) -> msg.IdleAnswer:
        """All that could be taken away, with the reason, and nothing would be different."""
        sought = idle(self.full, self.now, self.credentials)
        found = [
            msg.IdleMessage(
                number=i, kind=x.part.kind, at=x.part.name, says=x.part.says, reasons=list(x.reasons),
                guards=_guards(x.part), change=msg.Change(**x.part.change),
            )
            for i, x in enumerate(sought.found, 1)
        ]  # fmt: skip
        return msg.IdleAnswer(revision=self.revision, idle=found, left_out=sought.left_out)


def _guards(part: Part) -> bool:
    return part.kind in ("entry", "endpoint entry") and part.what.line.effect != "allow"
