"""Ways to mend a refusal, or to stop what is allowed."""

from __future__ import annotations

from datetime import date
from typing import Annotated

from pydantic import Field

from .base import Message
from .changes import Change
from .questions import QuestionMessage


class MendQuestion(QuestionMessage):
    """A question, and how many ways are wanted.

    With `stop` the ways to refuse it, where it is allowed.

    `until` and `note` go with each line that a way adds: its last day, and why it is there.
    """

    stop: bool = False
    most: Annotated[int, Field(ge=1, le=16)] = 5
    until: Annotated[date, Field(strict=False)] | None = None
    note: Annotated[str, Field(min_length=1, max_length=1000)] | None = None


class AlikeWay(Message):
    """A way that changes the same items, and from which the same follows today; it speaks of more
    people, or of more rights.
    """

    says: list[str]
    changes: list[Change]


class MendMessage(Message):
    """One way: what to do, and what else follows. None of its changes can be left out."""

    number: int
    says: list[str] = Field(description="Each change in a line")
    changes: list[Change]
    others: list[str] = Field(
        description="The first of the other accounts for which something is different"
    )
    other_count: int
    breaks: list[str] = Field(
        description="The promises that it breaks, and the trials that it turns"
    )
    follows: list[str] = Field(description="What follows from it, in a line or two")
    ends: bool = Field(
        True, description="With `until`: nothing of it stays in force after that day"
    )
    alike: list[AlikeWay] = Field(
        description="Wider ways with the same effect today, as for a group that it is in"
    )


class MendsAnswer(Message):
    """The ways, the least harm first: that break no promise, then by whom else they touch, and what
    else they give.
    """

    revision: int
    allowed: bool = Field(description="The answer to the question as it is")
    text: str
    mends: list[MendMessage]
    left_out: list[str] = Field(description="What was not looked at")
    only_area: bool = Field(False, description="Are only accounts in the area of who asks counted?")
    on_disk: list[str] = Field(
        [],
        description=(
            "What has to be done on the disk as well: no change of the model is past what it"
            " refuses"
        ),
    )
