"""Groups and units, and what comes down from them."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from .base import LineMessage, Message
from .changes import AccessChangeMessage, SettingChangeMessage


class GroupLine(Message):
    name: str
    source: str
    members: list[str] = Field(description="The direct members")
    accounts: int = Field(description="How many accounts are in it, by whatever way")
    held_by: list[str] = Field(description="The groups that hold it directly")


class GroupList(Message):
    revision: int
    total: int
    groups: list[GroupLine]


class UnitLine(Message):
    path: str
    source: str
    accounts: int = Field(description="How many accounts have it as their own unit")
    all_accounts: int = Field(description="How many are in it or below it")
    held_by: list[str]


class UnitList(Message):
    revision: int
    units: list[UnitLine]


class MemberMessage(Message):
    account: str
    display: str | None
    distance: int
    chain: list[str] = Field(description="From the account to the group or unit, both included")


class GivenMessage(Message):
    """A line that reaches the members: where it stands, what it says, and through which chain."""

    kind: str
    where: str
    line: str
    chain: list[str]


class NearerMessage(Message):
    account: str
    subjects: list[str]


class ReachMessage(Message):
    """A setting of a group or unit: whom it really reaches, and who has something nearer."""

    name: str
    value: Any
    reaches: list[str]
    nearer: list[NearerMessage]


class SubjectDetail(Message):
    """A group or a unit: who is in it, and what comes down from it."""

    revision: int
    subject: str
    source: str
    note: str | None = None
    members: list[LineMessage] = Field(description="The direct members")
    held_by: list[str]
    total: int
    accounts: list[MemberMessage]
    gives: list[GivenMessage]
    settings: list[ReachMessage]


class WayMessage(Message):
    group: str
    chains: list[list[str]] = Field(
        description="Each way from the account to the group, shortest first"
    )


class WaysAnswer(Message):
    revision: int
    account: str
    groups: list[WayMessage]


class LossAnswer(Message):
    """What an account would lose out of a group or unit."""

    revision: int
    account: str
    subject: str
    lines: list[GivenMessage]
    access: list[AccessChangeMessage]
    settings: list[SettingChangeMessage]


class ItemMessage(Message):
    """One item as the model file has it, and every place that names it."""

    revision: int
    kind: str
    name: str
    item: dict[str, Any]
    named_by: list[str]


class NamedItem(Message):
    name: str
    item: dict[str, Any]


class ItemList(Message):
    revision: int
    kind: str
    total: int
    items: list[NamedItem]


class KeyMessage(Message):
    """One line of a credential list: a public key."""

    fingerprint: str
    kind: str
    comment: str
    added: str
    added_by: str


class Credentials(Message):
    """What an account has to sign in with. A password is never shown again, nor its hash."""

    account: str
    password_set: str | None = Field(
        description="When it was set last; `set` to who may see no more"
    )
    password_set_by: str | None
    has_keys: bool
    keys: list[KeyMessage] = Field(description="None to who may see only whether there are any")
    followed: list[str] = Field(
        [], description="After a change: where the account can now sign in, or can no longer"
    )


class NewPassword(Message):
    """A password to be set; left out: one is generated."""

    password: str | None = Field(None, max_length=1024)
    length: int = Field(20, ge=8, le=200)
    alphabet: str = Field(
        "", max_length=200, description="The characters to generate from; empty: the usual ones"
    )


class PasswordSet(Message):
    """`password` is told once, where it was generated."""

    revision: int
    account: str
    password: str | None
    followed: list[str] = Field(
        [], description="Where the account can now sign in, or can no longer"
    )


class PasswordGuess(Message):
    password: str = Field(max_length=1024)


class PasswordRight(Message):
    right: bool


class NewKey(Message):
    """A public key in one line, as OpenSSH writes it: TYPE BASE64 COMMENT."""

    key: str = Field(max_length=20_000)
