"""Promises, and who breaks them."""

from __future__ import annotations

from pydantic import Field

from .base import Message


class BreachMessage(Message):
    """One account that breaks a promise: where, by which right, and by which line."""

    account: str
    where: str
    right: str
    line: str


class PromiseLine(Message):
    name: str
    says: str
    kept: str = Field(
        description="always: no change may break it; watched: that it is broken is a finding"
    )
    note: str | None = None
    broken: bool
    accounts: int = Field(description="How many accounts break it")
    breaches: list[BreachMessage] = Field(description="The first of them, each with one place")


class PromiseList(Message):
    revision: int
    promises: list[PromiseLine]
