"""Changes of the model, and what follows from them."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from .base import Message
from .questions import FindingMessage

Kind = Literal[
    "account", "group", "unit", "store", "folder", "virtual-path", "endpoint", "setting", "quota", "lockout", "network"
]
Values = dict[str, Any]


class Change(Message):
    """One change. Items have the keys of the model file; a folder's name is STORE:/path."""

    op: Literal["add", "change", "rename", "remove"]
    kind: Kind
    name: Annotated[str, Field(max_length=8192)] | None = None
    item: Values | None = Field(None, description="add: the new item")
    set: Values | None = Field(None, description="change: new values; null takes a key back to its default")
    add: dict[str, list[str]] | None = Field(None, description="change: lines added to lists")
    drop: dict[str, list[str]] | None = Field(None, description="change: lines taken from lists")
    to: Annotated[str, Field(max_length=8192)] | None = Field(None, description="rename: the new name")
    everywhere: bool | None = Field(None, description="remove: strike out the lines that name it, too")


class Changes(Message):
    """Changes that are done together or not at all."""

    changes: Annotated[list[Change], Field(min_length=1, max_length=100_000)]


class ItemChange(Message):
    """One item that differs. `section` as in the model file, or folders; null: it is not there."""

    section: str
    name: str
    before: Any
    after: Any


class AccessChangeMessage(Message):
    """What some accounts gain and lose at some locations; long lists are cut, and counted."""

    accounts: list[str]
    account_count: int
    locations: list[str]
    location_count: int
    gained: list[str]
    lost: list[str]
    widened: list[str] = Field(description="Rights that now hold for more files: one's own, or others'")
    narrowed: list[str]


class SettingChangeMessage(Message):
    accounts: list[str]
    account_count: int
    name: str
    before: Any
    after: Any


class Preview(Message):
    """What a change would do: the items that differ, and what follows from it."""

    revision: int
    item_count: int
    items: list[ItemChange]
    access: list[AccessChangeMessage]
    settings: list[SettingChangeMessage]
    new_findings: list[FindingMessage]
    mended: list[FindingMessage]


class Changed(Message):
    """The change is in force. `changed` is false where nothing differed."""

    revision: int
    changed: bool
    item_count: int
    items: list[ItemChange]
