"""The way in and the limits: reach, certificates, lockout, usage, headroom, censuses, growth."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from .base import Message, Name

Count = Annotated[int, Field(ge=0, lt=2**63)]


class ReachAnswer(Message):
    """Whether control and data connections of a client would both come through, and what is
    missing.
    """

    revision: int
    endpoint: str
    client: str
    inside: bool | None = Field(description="null: nothing is stated of networks")
    control: bool
    data: bool
    way: str = Field(description="Where the client connects to: ADDRESS:PORT")
    missing: list[str]


class CertificateAnswer(Message):
    """An endpoint's certificate, as its file says."""

    endpoint: str
    file: str
    looked_at: datetime | None = Field(description="When; null: not yet, so nothing is known")
    problem: str | None = Field(description="Why it cannot be read, if it cannot")
    names: list[str]
    valid_from: datetime | None
    valid_until: datetime | None
    days_left: int | None
    key_matches: bool | None = Field(description="null: no key is named, or it cannot be read")
    warnings: list[str]


class CountingMessage(Message):
    """What counts against an account or an address, and until when it is locked, if it is."""

    of: str
    name: str
    failures: list[datetime]
    most: int
    locked_until: datetime | None


class LockoutList(Message):
    revision: int
    counting: list[CountingMessage]


class SignInEvent(Message):
    """What a transfer server reports: a sign-in that failed, a session that began, or one that
    ended.
    """

    what: Literal["failed", "began", "ended"]
    account: Name
    address: Annotated[str, Field(max_length=45)]
    at: datetime | None = None
    endpoint: str | None = None
    session: Annotated[str, Field(max_length=200)] | None = None


class SignInEvents(Message):
    events: Annotated[list[SignInEvent], Field(min_length=1, max_length=10_000)]


class Taken(Message):
    count: int


class LimitMessage(Message):
    """A limit, what counts against it, and the room that it leaves (null: as much as one likes)."""

    kind: str
    name: str
    called: str
    place: str = ""
    hard_bytes: int | None
    soft_bytes: int | None
    hard_files: int | None
    soft_files: int | None
    used_bytes: int
    used_files: int
    room_bytes: int | None
    room_files: int | None
    grace_ends: datetime | None = Field(
        description="When the grace period above a soft limit runs out, or ran out"
    )

    @property
    def fullness(self) -> float:
        """By what is fuller, bytes or files: 1 is the hard limit (the soft one, if there is no
        hard).
        """
        pairs = (
            (self.used_bytes, self.hard_bytes if self.hard_bytes is not None else self.soft_bytes),
            (self.used_files, self.hard_files if self.hard_files is not None else self.soft_files),
        )
        shares = [
            used / limit if limit else float(used > 0) for used, limit in pairs if limit is not None
        ]
        return max(shares, default=0.0)


class HeadroomAnswer(Message):
    revision: int
    account: str
    owner: str = Field(description="The account that will own what is uploaded")
    location: str
    place: str
    bytes: int | None
    bytes_bound_by: str | None
    files: int | None
    files_bound_by: str | None
    upload_limit: int | None = Field(description="The largest single file")
    limits: list[LimitMessage]


class UsedLine(Message):
    name: str
    bytes: int
    files: int


class UsageAnswer(Message):
    revision: int
    by: str
    total_bytes: int
    total_files: int
    total: int
    lines: list[UsedLine]


class GrowthMessage(Message):
    """A straight line through what censuses found; `reached` is when the hard limit is at that
    rate.
    """

    what: str
    per_day: float
    reached: datetime | None
    soonest: datetime | None
    latest: datetime | None
    measurements: int


class LevelPoint(Message):
    at: datetime
    bytes: int
    files: int


class FilledLimit(LimitMessage):
    accounts: list[UsedLine] = Field(description="Who fills it, the most first")
    folders: list[UsedLine] = Field(description="Where, the most first")
    history: list[LevelPoint] = []
    growth: list[GrowthMessage] = []


class PromisedLine(Message):
    """What limits give away in sum against the capacity; `store` empty: all stores together."""

    store: str
    given: int
    capacity: int
    unlimited_accounts: int


class LimitList(Message):
    revision: int
    limits: list[FilledLimit]
    promised: list[PromisedLine]


class CensusRow(Message):
    folder: Annotated[str, Field(max_length=4096, description="The path in the store")]
    owner: str | None = None
    bytes: Count
    files: Count


class NewCensus(Message):
    """What a census found in a store. It takes the place of the usage that the store had."""

    store: Name
    at: datetime | None = None
    measured: Literal["length", "disk"] = "length"
    rows: Annotated[list[CensusRow], Field(max_length=5_000_000)]
    unknown_owners: dict[str, list[int]] = Field(
        default={}, description="OS users without an account: bytes, files"
    )
    unreadable: list[str] = []
    notes: list[str] = []
    new_folders: Annotated[list[str], Field(max_length=1_000_000)] = []


class CensusDone(Message):
    revision: int
    changed: bool
    store: str
    bytes: int
    files: int
    new_folders: int


class CensusLine(Message):
    store: str
    at: datetime
    who: str
    measured: str
    bytes: int
    files: int
    unknown_owners: dict[str, list[int]]
    unreadable: list[str]
    notes: list[str]


class CensusList(Message):
    censuses: list[CensusLine]


class HandoverAnswer(Message):
    """A short sheet for the user of an account. No secrets are in it."""

    account: str
    format: str
    text: str
