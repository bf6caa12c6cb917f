"""Accounts, what they count as, and their settings."""

from __future__ import annotations

from datetime import date
from typing import Any

from pydantic import ConfigDict, Field

from .base import Message


class AccountLine(Message):
    """An account in a list."""

    name: str
    kind: str
    display: str | None
    mail: str | None
    unit: str | None
    enabled: bool
    expires: date | None
    expired: bool
    source: str
    credential: bool | None = Field(
        None, description="Has it anything to sign in with? null: not known"
    )
    locked: bool | None = Field(None, description="Is it locked out now? null: not looked at")
    note: str | None = Field(None, description="Why it is there")


class AccountList(Message):
    revision: int
    total: int
    accounts: list[AccountLine]


class HostUsers(Message):
    """The users on the host that accounts act as (the setting `acts_as`), each with its
    accounts.
    """

    revision: int
    users: dict[str, list[str]]


class AccountDetail(AccountLine):
    """An account with all its fields."""

    home: str | None
    methods: list[str]
    groups: list[str] = Field(description="The groups that hold it directly")


class Counted(Message):
    """A subject that an account counts as."""

    subject: str
    class_: int = Field(
        alias="class", description="0 account, 1 group, 2 unit, 3 signed-in or anonymous, 4 anyone"
    )
    distance: int
    chain: list[str] = Field(description="From the account to the subject, both included")
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


class SettingCame(Message):
    """A setting as it reaches an account, and where it came from."""

    name: str
    value: Any
    subjects: list[str] = Field(description="Who it is set for; empty: nobody, it is the default")
    chains: list[list[str]]
    overruled: list[str] = Field(description="Farther subjects that it is set for, too")
    undecided: bool


class StandingAnswer(Message):
    revision: int
    account: AccountDetail
    standing: list[Counted]
    settings: list[SettingCame]
