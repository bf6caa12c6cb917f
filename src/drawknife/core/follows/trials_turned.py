"""Which of the trials that are kept come out otherwise after a change."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from ..decide.trying import Answered, StepResult, try_on
from ..everybody.findings import Finding
from ..model.trials import Trial
from ..prepared.prepared import Prepared
from ..words.sizes import number_of
from .pairing import Renames
from .sign_in_changes import Credentials, held_after

#: One that was there, and one that comes with a change.
KIND, NEW = "trial-turned", "trial-not-as-expected"


def trial_findings(
    prepared: Prepared, now: datetime, credentials: Credentials = None
) -> list[Finding]:
    """A finding for each trial of which a step is not as expected."""
    return [
        _finding(trial, wrong)
        for trial in prepared.model.trials
        if (wrong := [x for x in try_on(prepared, trial, now, credentials) if not x.as_expected])
    ]


def turned(
    before: Prepared,
    after: Prepared,
    now: datetime,
    renames: Renames,
    credentials: Credentials = None,
) -> tuple[list[Finding], list[Finding]]:
    """The trials with steps that are no more as expected, and those that are still there with steps
    that are again.

    `credentials` are what accounts have to sign in with, by their names before. A trial that is new
    is of kind NEW.
    """
    then = None if credentials is None else _held_then(before, after, renames, credentials)
    was = {t.name: (t, try_on(before, t, now, credentials)) for t in before.model.trials}
    came = {t.name: (t, try_on(after, t, now, then)) for t in after.model.trials}
    was = {renames.name("trial", name): found for name, found in was.items()}
    return _only_in(came, was), _only_in(
        {name: found for name, found in was.items() if name in came}, came
    )


def _held_then(
    before: Prepared, after: Prepared, renames: Renames, credentials: Mapping[str, frozenset[str]]
) -> dict[str, frozenset[str]]:
    was = {a.name: a.source for a in before.model.accounts}
    sources = {a.name: a.source for a in after.model.accounts}
    found = {}
    for name, held in credentials.items():
        called = renames.account(name)
        found[called] = held_after(
            held, was.get(name, "local"), sources.get(called, was.get(name, "local"))
        )
    return found


def _only_in(
    some: dict[str, tuple[Trial, list[StepResult[Answered]]]],
    others: dict[str, tuple[Trial, list[StepResult[Answered]]]],
) -> list[Finding]:
    """A finding for each trial of which more steps are wrong than were, with those."""
    found = []
    for name, (trial, came) in some.items():
        there = others[name][1] if name in others else []
        # A step is held against the one in its place, unless steps came or went: a name in it may
        # be another by now.
        alike = len(there) == len(came)
        wrong_there = {
            i if alike else str(x.step) for i, x in enumerate(there) if not x.as_expected
        }
        wrong = [
            x
            for i, x in enumerate(came)
            if not x.as_expected and (i if alike else str(x.step)) not in wrong_there
        ]
        if wrong:
            found.append(_finding(trial, wrong, KIND if name in others else NEW))
    return found


def _finding(trial: Trial, wrong: list[StepResult[Answered]], kind: str = KIND) -> Finding:
    first = wrong[0]
    more = f" (and {number_of(len(wrong) - 1, 'more step')})" if len(wrong) > 1 else ""
    said = f"`{first.step.says}` is expected to be {first.step.expects}: {first.answer.text}{more}"
    return Finding(kind, trial.name, f"trial {trial.name}, as {trial.account}: {said}")
