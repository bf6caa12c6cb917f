"""Stores, folders, virtual paths, endpoints, and the overview."""

from __future__ import annotations

from pydantic import Field

from .base import LineMessage, Message, State
from .questions import FindingMessage, LevelMessage


class StoreLine(Message):
    name: str
    root: str | None
    baseline: str
    capacity: int | None
    folders: int
    entries: int


class StoreList(Message):
    revision: int
    stores: list[StoreLine]


class FolderLine(Message):
    """A folder directly below another: recorded, or above one that is."""

    name: str
    place: str
    recorded: bool
    sealed: bool
    owner: str | None
    entries: int


class FolderAnswer(Message):
    """A folder: what it carries, what comes down to it from above, and what is in it."""

    revision: int
    place: str
    recorded: bool
    sealed: bool
    owner: str | None
    entries: list[LineMessage]
    note: str | None = Field(None, description="Why it is recorded")
    above: list[LevelMessage] = Field(
        description="The folders above, nearest first; fates are left open"
    )
    locations: list[str] = Field(
        description="Virtual paths that lead to it or above it, as written"
    )
    folders: list[FolderLine]


class InsideLine(Message):
    """Accounts that can do the same in a folder, however they come to it."""

    accounts: list[str] = Field(description="The first of them")
    account_count: int
    locations: list[str] = Field(
        description="The locations at which they have it, the first of them"
    )
    rights: dict[str, State]
    by: list[str] = Field(description="The lines that give it to the first of them")


class InsideAnswer(Message):
    """Everybody who can do something in a folder, those together that can do the same; the most
    accounts first.
    """

    revision: int
    place: str
    rows: list[InsideLine]
    seeing: int = Field(description="So many more accounts are led there, and can do nothing")
    notes: list[str]


class VirtualPathLine(Message):
    path: str
    leads_to: str
    listing: str
    grants: list[LineMessage]
    note: str | None = None


class VirtualPathList(Message):
    revision: int
    virtual_paths: list[VirtualPathLine]


class EndpointLine(Message):
    name: str
    protocol: str
    address: str
    port: int
    passive_ports: str | None
    tls: str | None
    host_names: list[str]
    enabled: bool
    entries: list[LineMessage]
    note: str | None = None
    never: list[str] = Field(default=[], description="Who is never admitted")
    only: list[str] | None = Field(
        default=None, description="Only these are admitted; null: there is no such list"
    )
    sessions_allowed: int | None = Field(
        default=None,
        description="How many sessions its accounts may have at once; null: as many as they like",
    )
    starts: bool
    clash: str | None
    certificate: bool = Field(
        description="Has it a certificate's file? What that says is asked by itself"
    )


class EndpointList(Message):
    revision: int
    endpoints: list[EndpointLine]


class Overview(Message):
    """How much there is of everything, and what wants attention."""

    revision: int
    counts: dict[str, int]
    findings: list[FindingMessage] = Field(description="The most pressing first")
    accepted: list[FindingMessage] = Field([], description="Those that somebody accepts for now")
    not_looked_at: list[str] = Field(description="As in the list of findings")
