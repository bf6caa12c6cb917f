"""Doing trials: each step is asked, and what the ones before it have made, moved and taken away counts."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from .over import Done
from .trial_file import Step, Trial

#: Asks one question, and gives allowed, gate and text.
Decide = Callable[[dict[str, Any]], tuple[bool, str | None, str]]


class Outcome(NamedTuple):
    """What came of a step."""

    step: Step
    allowed: bool
    gate: str | None
    text: str
    #: What a server did with it, where one was asked.
    server: Done | None = None

    @property
    def is_allowed_as_expected(self) -> bool:
        """Does the model say what the trial expects?"""
        if self.allowed is not self.step.allowed:
            return False
        return self.step.gate is None or self.step.gate == self.gate

    @property
    def is_so_at_server(self) -> bool:
        """Does the server do what the model says, as far as it was tried?"""
        return self.server is None or self.server.allowed is None or self.server.allowed is self.allowed

    @property
    def as_expected(self) -> bool:
        return self.is_allowed_as_expected and self.is_so_at_server


def run_trial(trial: Trial, decide: Decide) -> list[Outcome]:
    """What comes of each step. What was put by the account is its own; what is not known is somebody else's."""
    owners: dict[str, str] = {}
    found = []
    for step in trial.steps:
        question = dict(step.question)
        path = question.get("path")
        if path in owners and "owner" not in question:
            question["owner"] = owners[path]
        allowed, gate, text = decide(question)
        found.append(Outcome(step, allowed, gate, text))
        if allowed and path is not None:
            _remember(owners, question, path, trial.account)
    return found


def _remember(owners: dict[str, str], question: dict[str, Any], path: str, account: str) -> None:
    action = question["action"]
    if action in ("upload", "make-folder"):
        owners[path] = account
    elif action in ("delete-file", "delete-folder"):
        owners.pop(path, None)
    elif action == "rename" and path in owners:
        owners[question["to"]] = owners.pop(path)
