"""What clients do at a stand-in, line by line."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from pydantic import Field

from .base import Message, Name

Text = Annotated[str, Field(max_length=8192)]


class RehearsalLine(Message):
    """One action of a client, and what came of it."""

    at: datetime
    session: int = Field(
        description="The session's number in its rehearsal; 0: nobody had signed in"
    )
    account: Name
    endpoint: Annotated[str, Field(max_length=64)]
    client: Annotated[str, Field(max_length=45)] = Field(
        description="The address that it was taken to come from"
    )
    action: Annotated[str, Field(max_length=32)]
    path: Text | None = None
    to: Text | None = None
    owner: Name | None = None
    allowed: bool
    gate: Annotated[str, Field(max_length=32)] | None = None
    reason: Annotated[str, Field(max_length=64)]
    text: Text
    note: Text | None = None
    size: Annotated[int, Field(ge=0)] | None = Field(
        None, description="Bytes, where it was asked for so many"
    )
    done: bool = Field(
        True, description="False: it was allowed, and not done, for what `note` says"
    )
    why: Text = Field(
        description="The command that asks the same again; empty where no question is about it"
    )


class RehearsalLines(Message):
    draft: str | None = Field(
        None, description="The draft that is rehearsed; null: the model in force"
    )
    lines: Annotated[list[RehearsalLine], Field(min_length=1, max_length=1000)]


class KeptRehearsalLine(RehearsalLine):
    id: int
    draft: str | None = None


class RehearsalLog(Message):
    """The newest lines, the newest first."""

    lines: list[KeptRehearsalLine]
    kept: int | None = Field(
        description="So many lines are kept in all, and older ones removed; null: all of them"
    )
