"""What still holds back a right that a change allows in a folder."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date

from ..decide.sign_in import endpoint_allows
from ..everybody.effective import right_obstacles
from ..model.lines import has_ended
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..words.names import Place
from ..words.rights import BIT, RIGHTS
from ..words.sizes import several
from .added_lines import Added
from .no_effect import ACCOUNTS, named_by, spoken_for


def held_back(after: Prepared, lines: Sequence[Added], day: date) -> list[str]:
    """Where a right that a change allows in a folder is still held back by the grants or by an
    endpoint, in words.
    """
    after = after.on(day)
    found: dict[str, list[str]] = {}
    for added in lines:
        entry = added.line
        if added.kind != "folder" or entry.effect != "allow" or has_ended(entry, day):
            continue
        store, _, path = added.name.partition(":")
        for account in named_by(after, entry.subject)[:ACCOUNTS]:
            for location, _place in spoken_for(after, account, Place(store, path), entry.reach):
                for right in RIGHTS:
                    if entry.rights & BIT[right]:
                        for what in _holding_back(after, account, location, right):
                            found.setdefault(what, []).append(account.name)
    return [f"{several(names)}: {what}" for what, names in found.items()]


def _holding_back(
    prepared: Prepared, account: PreparedAccount, location: str, right: str
) -> Iterator[str]:
    """What keeps from an account a right that the folder allows it."""
    obstacles = list(right_obstacles(prepared, account, location, right, own=False))
    served = prepared.namespace(account).resolve(location).served
    if (
        served is not None
        and obstacles
        and all(o.reason == "ceiling-lacks-right" for o in obstacles)
    ):
        yield f"the grants on {served.path} still hold back {right}"
    if not obstacles:
        for endpoint in prepared.model.endpoints:
            enters = endpoint.enabled and endpoint_allows(prepared, account, endpoint, BIT["enter"])
            if enters and not endpoint_allows(prepared, account, endpoint, BIT[right]):
                yield f"the entries of {endpoint.name} still hold back {right} there"
