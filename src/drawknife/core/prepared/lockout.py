"""Lockout after failed sign-ins (docs/rules.md, "Sign-in"): what counts, and until when.

So many failures within so long lock an account, or an address, for so long. Failures while it is
locked do not count; when the lock ends, and when an account signs in, counting begins anew.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import NamedTuple

from ..model.items import Lockout, Model
from ..words.names import fold


class Attempt(NamedTuple):
    """One attempt to sign in, as the server reported it."""

    at: datetime
    account: str
    address: str
    ok: bool


class Counting(NamedTuple):
    """What counts against an account or an address now, and until when it is locked, if it is."""

    of: str
    name: str
    failures: tuple[datetime, ...]
    most: int
    until: datetime | None


def counting(policy: Lockout, name: str, attempts: Iterable[Attempt], at: datetime) -> Counting:
    """How it stands with one account or address at a moment; `attempts` are its own, in order of
    time.
    """
    window, lasting = timedelta(seconds=policy.within), timedelta(seconds=policy.lasts)
    counted: list[datetime] = []
    until: datetime | None = None
    for attempt in attempts:
        if attempt.at > at:
            break
        if until is not None and attempt.at < until:
            continue
        if until is not None:
            counted, until = [], None
        if attempt.ok:
            if policy.of == "account":
                counted = []
            continue
        counted = [t for t in counted if attempt.at - t < window] + [attempt.at]
        if len(counted) >= policy.failures:
            until = attempt.at + lasting
    if until is not None and at >= until:
        counted, until = [], None
    if until is None:
        counted = [t for t in counted if at - t < window]
    return Counting(policy.of, name, tuple(counted), policy.failures, until)


def standing_now(model: Model, attempts: Iterable[Attempt], at: datetime) -> list[Counting]:
    """Every account and address that something counts against now, the locked ones first."""
    by_name: dict[tuple[str, str], list[Attempt]] = {}
    for attempt in sorted(attempts, key=lambda a: a.at):
        by_name.setdefault(("account", fold(attempt.account)), []).append(attempt)
        by_name.setdefault(("address", attempt.address), []).append(attempt)
    policies = {p.of: p for p in model.lockouts}
    found = [
        counting(policies[of], name, own, at)
        for (of, name), own in by_name.items()
        if of in policies
    ]
    return sorted(
        (c for c in found if c.failures or c.until), key=lambda c: (c.until is None, c.of, c.name)
    )
