"""What was read of disks, and where the model and a disk say different things."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from pydantic import Field

from .base import Message


class DiskLine(Message):
    """What was read of the disk of a store."""

    store: str
    taken: datetime | None
    confined: bool
    folders: int = Field(
        description=(
            "How many folders have permissions of their own, other than the folder above gives"
            " them; these are listed"
        )
    )
    files: int = Field(description="So many files were read")
    users: int
    odd: int = Field(description="So many names were met that no model can hold")
    windows: bool = Field(
        description="It has security descriptors or NFSv4 lists instead of modes and POSIX lists"
    )
    form: str = Field(default="", description="With `windows`: Windows tree, or NFSv4 lists")
    notes: list[str]


class DiskList(Message):
    revision: int
    disks: list[DiskLine]


class PartlyMessage(Message):
    """A right that the server allows on the files of a folder, and that the disk refuses on some of
    them.
    """

    right: str
    refused: int = Field(description="So many files refuse it")
    files: int = Field(description="Of so many")


class DriftLine(Message):
    """One folder for one account; so many folders below are the same, or cannot be come
    to by it.
    """

    account: str
    acts_as: str
    location: str
    place: str
    refused: list[str] = Field(description="What the server lets, and the disk refuses")
    wider: list[str] = Field(description="What the disk lets, and the server refuses")
    reason: str | None = Field(description="What the disk says of the first right that it refuses")
    server: str | None = Field(
        description="What the server says of the first right that only the disk lets"
    )
    below: int
    partly: list[PartlyMessage] = Field(
        default=[], description="What the disk refuses on some of the files only"
    )


class DriftAnswer(Message):
    revision: int
    store: str
    taken: datetime | None
    accounts: int = Field(
        description="So many accounts act as somebody on that disk, and were compared"
    )
    folders: int = Field(description="So many folders of theirs were compared")
    total: int
    rows: list[DriftLine]
    owners: list[str] = Field(description="Owners that no account acts as, with how much is theirs")
    left_out: list[str] = Field(description="What was not compared, and why")


class PlanStepMessage(Message):
    """Some things of a disk that are alike, and what they become.

    `now` and `planned` are as the lines of a reading.
    """

    path: str
    what: str = Field(
        description=(
            "folder; files (of a folder); or folders in it that are as it made them: children,"
            " deeper, below"
        )
    )
    number: int = Field(description="So many files")
    perhaps: bool = Field(
        description="The model records it; whether it is there, the reading does not tell"
    )
    now: str
    planned: str
    but: list[str] = Field(description="Folders below that have steps of their own, or none")
    lines: list[str] = Field(description="What becomes otherwise, line by line, by names")


class NotSaid(Message):
    """What the disk will not say as the model does, for one account in one folder, with the
    reasons.
    """

    account: str
    acts_as: str
    location: str
    place: str
    refused: list[str]
    wider: list[str]
    reasons: list[str]
    below: int
    partly: list[PartlyMessage] = Field(
        default=[], description="What stays refused on some of the files only"
    )


class MadeMessage(Message):
    """A folder in which new files are let more than the model says."""

    place: str
    text: str


class OpenedMessage(Message):
    """Files of a folder that are alike, and the users of accounts who can read or write them only
    with it.
    """

    place: str
    number: int
    thing: str = Field(description="Owner, group, mode and list, by names")
    read: list[str]
    write: list[str]


class PlanAnswer(Message):
    """What makes a disk say what the model says."""

    revision: int
    store: str
    root: str | None
    taken: datetime | None
    steps: list[PlanStepMessage]
    not_said: list[NotSaid] = Field(description="What access control lists cannot say")
    made: list[MadeMessage]
    opened: list[OpenedMessage] = Field(
        default=[], description="Files that are opened to somebody, as the model says"
    )
    private: list[OpenedMessage] = Field(
        default=[],
        description=(
            "Files that stay closed though the model says so: others in their folder are open to"
            " somebody"
        ),
    )
    notes: list[str]


class AdoptAnswer(Message):
    """What a disk says, as changes of the model."""

    revision: int
    store: str
    folders: int = Field(description="So many folders get lines of their own")
    changes: list[dict[str, Any]] = Field(
        description="As a list of changes, for a preview, a draft, or the model"
    )
    not_said: list[NotSaid] = Field(
        description="Where the model would not say what the disk says, after them"
    )
    notes: list[str]


class DescriptorLine(Message):
    """A folder and the security descriptor that says what the model says."""

    path: str
    owner: str | None
    descriptor: str = Field(description="SDDL")


class DescriptorsAnswer(Message):
    """A store's folders as security descriptors."""

    revision: int
    store: str
    rows: list[DescriptorLine]
    not_said: list[NotSaid] = Field(
        description="Where the tree would not say what the model says, with them"
    )
    notes: list[str]
