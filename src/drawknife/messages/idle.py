"""What has no effect."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from .base import Message
from .changes import Change

IdleKind = Literal["group", "entry", "grant", "endpoint entry", "membership", "setting", "quota"]


class IdleMessage(Message):
    """One part of the model without which nothing is different for anybody, now or when a line
    ends.
    """

    number: int
    kind: IdleKind
    at: str = Field(description="Where it stands")
    says: str
    reasons: list[str]
    guards: bool = Field(
        description="Does it refuse something? It may be there against what is still to come"
    )
    change: Change = Field(description="The change that takes it away")


class IdleAnswer(Message):
    """All that has no effect, each part alone and all of them together, in the order in which they
    can be taken away.
    """

    revision: int
    idle: list[IdleMessage]
    left_out: list[str] = Field(description="What was not looked at")
