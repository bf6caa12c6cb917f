"""What came of the steps of trials: what the model says, and what a server did, where one was
asked.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from drawknife.core.decide.trying import StepResult, run_trial
from drawknife.core.model.trials import Step, Trial
from drawknife.core.prepared.question import Question
from drawknife.formats.questions import write_question

from .over import ServerDid


class GateAnswer(NamedTuple):
    """What was answered to a question."""

    allowed: bool
    gate: str | None
    text: str


class Outcome(NamedTuple):
    """What came of a step."""

    came: StepResult[GateAnswer]
    #: What a server did with it, where one was asked.
    server: ServerDid | None = None

    @property
    def step(self) -> Step:
        return self.came.step

    @property
    def answer(self) -> GateAnswer:
        return self.came.answer

    @property
    def is_allowed_as_expected(self) -> bool:
        """Does the model say what the trial expects?"""
        return self.came.as_expected

    @property
    def is_so_at_server(self) -> bool:
        """Does the server do what the model says, as far as it was tried?"""
        return (
            self.server is None
            or self.server.allowed is None
            or self.server.allowed is self.answer.allowed
        )

    @property
    def as_expected(self) -> bool:
        return self.is_allowed_as_expected and self.is_so_at_server


def outcomes_of(trial: Trial, decide: Callable[[dict[str, Any]], GateAnswer]) -> list[Outcome]:
    """What comes of each step, where questions are asked as in docs/reference/questions.md."""

    def asked(question: Question) -> GateAnswer:
        return decide(write_question(question))

    return [Outcome(came) for came in run_trial(trial, asked)]
