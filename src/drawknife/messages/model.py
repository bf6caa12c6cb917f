"""The whole model, its journal, and signing in to the service."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from pydantic import Field

from .base import Message
from .questions import FindingMessage


class FindingList(Message):
    revision: int
    findings: list[FindingMessage]


class JournalLine(Message):
    revision: int
    at: datetime
    who: str
    what: str
    before: dict[str, Any]
    after: dict[str, Any]


class JournalPage(Message):
    total: int
    lines: list[JournalLine]


class Loaded(Message):
    """The model is in force. `changed` is false where it was in force already."""

    revision: int
    changed: bool
    counts: dict[str, int]


class Health(Message):
    status: str
    version: str
    revision: int


class SignIn(Message):
    """A token, or the code of a sign-in link."""

    token: Annotated[str, Field(max_length=200)]


class SignedIn(Message):
    name: str
