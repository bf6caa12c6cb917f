"""Does a change lie within an administrator's area: what it touches, and what anybody gains by it (docs/rules.md, "Areas")."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date

from ..model.areas import Area, items_outside
from ..model.difference import differing
from ..model.items import Subject
from ..prepared.prepared import Prepared
from ..words.names import UNRECORDED, fold
from ..words.sizes import several
from .consequences import Consequences
from .pairing import Renames, members_of


def outside(
    area: Area, before: Prepared, after: Prepared, follows: Consequences, renames: Renames, day: date
) -> list[str]:
    """What of a change does not lie within the area, in words; nothing: it does. `follows` is what follows from it on a day.

    A gain lies within it where its place does, or where the account that gains it is in one of its units, now and before.
    Settings may also be others for who is, or was, in one of its groups.
    """
    old, new = before.model, after.model
    items = list(differing(old, new))
    # Where an account is in both, what is set for it is judged by where it was.
    said = items_outside(area, items, (*new.accounts, *old.accounts))
    said += [
        f"the home of {d.name}, {d.after.home}"
        for d in items
        if d.section == "accounts" and d.after is not None and d.after.home is not None
        and (d.before is None or d.before.home != d.after.home) and not area.holds_place(d.after.home)
    ]  # fmt: skip
    origin = renames.origins("account", (a.name for a in old.accounts))
    was = {a.name: a for a in old.accounts}
    inside = set()
    for account in new.accounts:
        before_it = origin.get(fold(account.name))
        if area.holds_account(account) and (before_it is None or area.holds_account(was[before_it])):
            inside.add(account.name)
    for then, differs in ((day, follows), *follows.later):
        was_then, now_then = before.on(then), after.on(then)  # who is led where, and is in which group, ends by the day
        members = _members(area, was_then, now_then, origin) if differs.settings else set()
        said += _gains(area, now_then, differs, inside, members)
    return list(dict.fromkeys(said))


def _gains(area: Area, after: Prepared, follows: Consequences, inside: set[str], members: set[str]) -> Iterator[str]:
    """What is gained outside the area on one day, by the model of that day."""

    def others(names: Sequence[str]) -> list[str]:
        return [n for n in names if n not in inside]

    for change in follows.access:
        if not (change.gained or change.widened):
            continue
        names = others(change.accounts)
        for location in change.locations if names else ():
            here = location.split("/" + UNRECORDED)[0] or "/"
            elsewhere = [n for n in names if not _leads_inside(area, after, n, here)]
            if elsewhere:
                yield f"{several(elsewhere)} would gain {', '.join((*change.gained, *change.widened))} at {here}"
    for entered in follows.sign_in:
        if entered.may and (names := others(entered.accounts)):
            yield f"{several(names)} could sign in at {entered.endpoint}"
    for led in follows.leads:
        names = others(led.accounts)
        if led.after is not None and names and not area.holds_place(led.after):
            yield f"{led.location} would lead {several(names)} to {led.after}"
    for room in follows.room:
        names = [n for n in others(room.accounts) if not _leads_inside(area, after, n, room.location)]
        if names:
            yield f"{several(names)} would have other room at {room.location}"
    for setting in follows.settings:
        names = [n for n in others(setting.accounts) if n not in members]
        if names:
            yield f"{setting.name} of {several(names)} would be another"
    yield from follows.left_out


def _leads_inside(area: Area, after: Prepared, name: str, location: str) -> bool:
    account = after.account(name)
    if account is None:
        return True  # it is there no more
    place = after.namespace(account).resolve(location).place
    return place is not None and area.holds_place(place)


def _members(area: Area, before: Prepared, after: Prepared, origin: dict[str, str]) -> set[str]:
    """Who is in one of the area's groups, or was; `origin` has the name before of each name afterwards."""
    were, are = (
        members_of(p, [Subject("group", g.name) for g in p.model.groups if fold(g.name) in area.groups])
        for p in (before, after)
    )
    found = set()
    for i, account in enumerate(after.model.accounts):
        was = before.people.index.get(origin.get(fold(account.name), ""))
        if are >> i & 1 or (was is not None and were >> was & 1):
            found.add(account.name)
    return found
