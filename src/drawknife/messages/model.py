"""The whole model, its journal, and signing in to the service."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Literal

from pydantic import Field

from .base import Message
from .changes import ItemChange
from .questions import FindingMessage


class FindingList(Message):
    revision: int
    findings: list[FindingMessage] = Field(description="The most pressing first")
    accepted: list[FindingMessage] = Field([], description="Those that somebody accepts for now")
    not_looked_at: list[str] = Field(
        description=(
            "What nothing is known of here, and no finding tells of: of the past, and of a model"
            " file"
        )
    )


class AcceptFinding(Message):
    """Accept a finding up to the end of a day (UTC): it is counted then, and not shown."""

    kind: Annotated[str, Field(min_length=1, max_length=64)]
    about: Annotated[str, Field(min_length=1, max_length=8192)]
    until: Annotated[date, Field(strict=False)]
    note: Annotated[str, Field(min_length=1, max_length=1000, description="Why it is accepted")]


class JournalLine(Message):
    """Who did what, when.

    In a list only the first items are told; all are had with the revision by itself.
    """

    id: int
    revision: int | None = Field(description="null: the model was not changed by it")
    kind: Literal["change", "census", "other", "sign-in"] = Field(
        description=(
            "A change of the model; a census; what else was done; a sign-in to the console, or out"
            " of it"
        )
    )
    at: datetime
    who: str
    what: str
    followed: list[str] | None = Field(
        description="What followed, in a line or two; null: that was not looked at"
    )
    item_count: int
    items: list[ItemChange]


class JournalPage(Message):
    total: int
    lines: list[JournalLine]


class Loaded(Message):
    """The model is in force. `changed` is false where it was in force already."""

    revision: int
    changed: bool
    counts: dict[str, int]
    followed: list[str] = Field(default=[], description="What followed from it, in a line or two")


class LoadLosses(Message):
    """What would go if a model file were put in force: accounts, folders, and credentials kept
    beside the model.
    """

    revision: int
    accounts: int
    folders: int
    passwords: int
    keys: int
    named: list[str] = Field(description="The first accounts that would go")


class Health(Message):
    status: str
    version: str
    revision: int
