"""Patterns in the words of :mod:`messages`."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path

from drawknife import messages as msg
from drawknife.answers.asked import Asked
from drawknife.answers.drafting import says
from drawknife.patterns import ANSWER_KINDS, Pattern, all_patterns, changes_of, find_pattern


def patterns(folders: Iterable[Path] = ()) -> msg.PatternList:
    """Every pattern, those in the folders too."""
    return msg.PatternList(patterns=[_message(p) for p in all_patterns(folders)])


def pattern(name: str, folders: Iterable[Path] = ()) -> msg.PatternMessage:
    """One of them. :class:`NotFound` with the nearest."""
    return _message(find_pattern(name, folders))


def _message(p: Pattern) -> msg.PatternMessage:
    trials = p.trials[0] if p.trials else None
    asks = [
        msg.PatternAsk(
            key=a.key,
            asks=a.asks,
            kind=a.kind,
            example=ANSWER_KINDS[a.kind].example,
            default=a.default,
            optional=a.optional,
        )
        for a in p.asks
    ]
    return msg.PatternMessage(
        name=p.name,
        about=p.about,
        asks=asks,
        steps=[msg.PatternStep(does=s.does, asks=s.asks) for s in p.steps],
        given=trials.given if trials else {},
        can=trials.can if trials else [],
        cannot=trials.cannot if trials else [],
    )


class PatternAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that is about patterns."""

    def pattern_changes(
        self,
        name: str,
        answers: Mapping[str, str],
        folders: Iterable[Path] = (),
        step: int | None = None,
    ) -> msg.PatternChanges:
        """What a pattern, or one of its steps, would change with these answers.

        Raises :class:`BadInput` for an answer that is missing or is none, and for a step that there
        is not.
        """
        used = find_pattern(name, folders)
        found = changes_of(used if step is None else used.step(step), answers, self.prepared)
        return msg.PatternChanges(
            revision=self.revision,
            says=[says(c) for c in found],
            changes=[msg.Change(**c) for c in found],
        )
