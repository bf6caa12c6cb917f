"""Patterns: what is set up again and again, as a few questions."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from .base import Message
from .changes import Change


class PatternAsk(Message):
    """One question of a pattern."""

    key: str
    asks: str
    kind: str = Field(description="What the answer is: an account, a folder, a size, and so on")
    example: str = Field(description="An answer of the kind; empty where any name or text will do")
    default: str | None = Field(description="It may name answers that stand before it, as /$group")
    optional: bool


class PatternStep(Message):
    """A part of a pattern that can be done by itself."""

    does: str
    asks: list[str] = Field(description="The keys of its questions")


class PatternMessage(Message):
    """A pattern: its questions, and what holds afterwards with some sample answers."""

    name: str
    about: str
    asks: list[PatternAsk]
    steps: list[PatternStep] = Field(
        description="The parts that can be done one by one; empty where it is done at once"
    )
    given: dict[str, str] = Field(description="The sample answers")
    can: list[str]
    cannot: list[str]


class PatternList(Message):
    patterns: list[PatternMessage]


class PatternAnswers(Message):
    """Answers to the questions of a pattern, by their keys; those with a default may be
    left out.
    """

    answers: Annotated[dict[str, Annotated[str, Field(max_length=4200)]], Field(max_length=100)]


class PatternChanges(Message):
    """The changes that a pattern makes with some answers; nothing is done yet."""

    revision: int
    says: list[str] = Field(description="Each change in a line")
    changes: list[Change]
