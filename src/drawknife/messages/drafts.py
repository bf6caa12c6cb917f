"""Drafts: changes that are not in force."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from pydantic import Field

from .base import Message, Name
from .changes import Changes, ItemChange, Preview


class NewDraft(Message):
    name: Name
    about: Annotated[str, Field(max_length=1000)] | None = None


class DraftLine(Message):
    name: str
    about: str | None
    begun: datetime
    begun_by: str
    writers: list[str] = Field(description="Who wrote some of it")
    steps: int
    comments: int


class DraftList(Message):
    drafts: list[DraftLine]


class Misfit(Message):
    """Why a step can no longer be done, and the revision that took the ground away, where that is
    known.
    """

    says: str
    revision: int | None = None
    who: str | None = None
    what: str | None = None


class DraftStep(Message):
    """One change of a draft, a whole model, or a way back; who wrote it and when."""

    number: int
    at: datetime
    who: str
    revision: int = Field(description="The one in force when it was written")
    step: dict[str, Any] = Field(description="A change; or op `load`, `back` or `back-to`")
    says: str
    why: str | None = Field(None, description="Where it comes from, such as a signed report")
    misfit: Misfit | None = None


class Comment(Message):
    at: datetime
    who: str
    says: str


class DraftAnswer(Message):
    """A draft, and what would follow if it were applied to the model of today.

    `preview` is null where some step does not fit any more: then each of these says why.
    """

    revision: int
    draft: DraftLine
    steps: list[DraftStep]
    comments: list[Comment]
    preview: Preview | None
    changed_since: list[str] = Field(
        description="What it touches and others changed after it was written"
    )


class DraftSteps(Changes):
    """Changes to be put into a draft, which is begun if there is none of the name."""


class DraftBack(Message):
    """A way back to be put into a draft: one revision undone, or the whole model as of a revision
    or a time.
    """

    revision: Annotated[int, Field(ge=1, lt=2**63)] | None = None
    as_of: Annotated[str, Field(min_length=1, max_length=64)] | None = None


class DraftWritten(Message):
    """The draft as it is now. Nothing of it is in force."""

    draft: str
    begun: bool
    steps: int
    revision: int
    items: list[ItemChange]
    item_count: int
    would: list[str] = Field(
        description="What would follow if all of it were applied now, in a line or two"
    )
    notes: list[str] = []


class NewComment(Message):
    says: Annotated[str, Field(min_length=1, max_length=4000)]
