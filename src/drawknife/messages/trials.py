"""Trials, and what comes of each step."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from .base import Message


class StepMessage(Message):
    """A step of a trial, and what comes of it."""

    says: str = Field(description="What is done")
    expected: str = Field(description="yes, no, or `no, by GATE`")
    allowed: bool
    gate: str | None = None
    text: str = Field(description="Why")
    as_expected: bool


class TrialLine(Message):
    name: str
    item: dict[str, Any] = Field(description="The trial as the model file has it")
    steps: list[StepMessage]
    as_expected: bool


class TrialList(Message):
    revision: int
    trials: list[TrialLine]
