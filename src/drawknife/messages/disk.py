"""What was read of disks, and where the model and a disk say different things."""

from __future__ import annotations

from datetime import datetime

from pydantic import Field

from .base import Message


class DiskLine(Message):
    """What was read of the disk of a store."""

    store: str
    taken: datetime | None
    confined: bool
    folders: int = Field(description="So many folders are not as the one above would make them, and are listed")
    files: int = Field(description="So many files were read")
    users: int
    odd: int = Field(description="So many names were met that no model can hold")
    notes: list[str]


class DiskList(Message):
    revision: int
    disks: list[DiskLine]


class DriftLine(Message):
    """One folder for one account; so many folders below are the same, or cannot be come to by it."""

    account: str
    acts_as: str
    location: str
    place: str
    refused: list[str] = Field(description="What the server lets, and the disk refuses")
    wider: list[str] = Field(description="What the disk lets, and the server refuses")
    reason: str | None = Field(description="What the disk says of the first right that it refuses")
    below: int


class DriftAnswer(Message):
    revision: int
    store: str
    taken: datetime | None
    accounts: int = Field(description="So many accounts act as somebody on that disk, and were compared")
    folders: int = Field(description="So many folders of theirs were compared")
    total: int
    rows: list[DriftLine]
    left_out: list[str] = Field(description="What was not compared, and why")
