"""Doing trials: each step is asked, and what the ones before it have made, moved and taken away
counts.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import datetime
from typing import Generic, NamedTuple, Protocol, TypeVar

from ..model.trials import SIGN_IN, Step, Trial
from ..prepared.prepared import Prepared
from ..prepared.question import Question
from .gates import verdict


class Answered(Protocol):
    """What was answered to a question."""

    @property
    def allowed(self) -> bool: ...
    @property
    def gate(self) -> str | None: ...
    @property
    def text(self) -> str: ...


Answer = TypeVar("Answer", bound=Answered)


class StepResult(NamedTuple, Generic[Answer]):
    """What came of a step."""

    step: Step
    question: Question
    answer: Answer

    @property
    def as_expected(self) -> bool:
        if self.answer.allowed is not self.step.allowed:
            return False
        return self.step.gate is None or self.step.gate == self.answer.gate


def run_trial(trial: Trial, decide: Callable[[Question], Answer]) -> list[StepResult[Answer]]:
    """What comes of each step.

    What was put by the account is its own; what is not known is somebody else's.
    """
    owners: dict[str, str] = {}
    found = []
    for step in trial.steps:
        question = Question(
            trial.account,
            step.action,
            step.path or "/",
            step.to,
            owner=step.owner or owners.get(step.path or ""),
            endpoint=trial.endpoint,
            client=trial.client,
            tls=trial.tls,
            method=trial.method,
            size=step.size,
            at=trial.moment,
        )
        answer = decide(question)
        found.append(StepResult(step, question, answer))
        if answer.allowed and step.action != SIGN_IN:
            _remember(owners, question)
    return found


def try_on(
    prepared: Prepared,
    trial: Trial,
    now: datetime,
    credentials: Mapping[str, frozenset[str]] | None = None,
) -> list[StepResult[Answered]]:
    """The same with the verdicts of a model; `now` counts where the trial gives no time.

    `credentials` are what accounts have to sign in with; None: not known. Sessions that are open
    and locks are of the moment, and not asked.
    """
    held = None if credentials is None else credentials.get(trial.account, frozenset())
    return run_trial(
        trial, lambda question: verdict(prepared, replace(question, credentials=held), now)
    )


def _remember(owners: dict[str, str], question: Question) -> None:
    if question.action in ("upload", "make-folder"):
        owners[question.path] = question.account
    elif question.action in ("delete-file", "delete-folder"):
        owners.pop(question.path, None)
    elif question.action == "rename" and question.to is not None and question.path in owners:
        owners[question.to] = owners.pop(question.path)
