"""Does a change lie within an administrator's area: what it touches, and whom it concerns
(docs/rules.md, "Areas").
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import date
from typing import NamedTuple

from ..model.areas import Area, items_outside
from ..model.difference import Differs, differing
from ..model.items import Setting, Store, Usage
from ..prepared.prepared import Prepared
from ..words.names import UNRECORDED, Place, fold
from ..words.sizes import several
from .access_differences import AccessChange
from .consequences import Consequences
from .pairing import Renames

#: Fields of a store that reach beyond it: where its files are, with which modes, and how many may
#: be.
_BEYOND_A_STORE = ("root", "creation_mode", "capacity")


def outside(
    area: Area,
    before: Prepared,
    after: Prepared,
    follows: Consequences,
    renames: Renames,
    day: date,
) -> list[str]:
    """What of a change lies outside the area, in words; empty: nothing.

    `follows` are its effects on a day.

    Every item that the change touches has to lie within the area. Accounts outside gain and lose
    access at places within the area only. Their locations lead where they led, and their settings,
    sign-in and room stay the same. What was not compared counts as outside.
    """
    old, new = before.model, after.model
    items = list(differing(old, new))
    # Where an account is in both, what is set for it is judged by where it was.
    said = items_outside(area, items, (*new.accounts, *old.accounts))
    said += [
        f"the home of {d.name}, {d.after.home}"
        for d in items
        if d.section == "accounts"
        and d.after is not None
        and d.after.home is not None
        and (d.before is None or d.before.home != d.after.home)
        and not area.holds_place(d.after.home)
    ]
    origin = renames.origins("account", (a.name for a in old.accounts))
    was = {a.name: a for a in old.accounts}
    inside = {
        account.name
        for account in new.accounts
        if area.holds_account(account)
        and ((name := origin.get(fold(account.name))) is None or area.holds_account(was[name]))
    }
    folded = {fold(name) for name in inside}
    said += [x for d in items for x in _in_no_area(d, folded)]
    said += follows.for_everybody
    for then, differs in ((day, follows), *follows.later):
        # Where accounts are led ends with the day of a line.
        sides = _Sides(area, before.on(then), after.on(then), origin, inside)
        said += sides.concerned(differs)
    return list(dict.fromkeys(said))


def _in_no_area(item: Differs, inside: set[str]) -> Iterator[str]:
    """What differs and lies in no area, though the item may; `inside` are the accounts within the
    area, folded.
    """
    match item.before or item.after:
        case Store():
            for field in _BEYOND_A_STORE:
                if getattr(item.before, field, None) != getattr(item.after, field, None):
                    yield f"the {field} of store {item.name}"
        case Usage(owner=owner) if owner is not None and fold(owner) not in inside:
            yield f"what {owner} uses at {item.name}"
        case Setting():
            values = [
                {} if side is None else dict(side.values) for side in (item.before, item.after)
            ]
            acts_as, owners = (
                [v.get(field) for v in values] for field in ("acts_as", "uploads_owner")
            )
            if acts_as[0] != acts_as[1]:
                yield f"acts_as of {item.name}"
            if owners[0] != owners[1] and any(
                o is not None and fold(o) not in inside for o in owners
            ):
                yield f"uploads_owner of {item.name}, {owners[1] or owners[0]}"


class _Sides(NamedTuple):
    """A change on one day.

    `origin` has the earlier name of each later name, compared forms; `inside` later names.
    """

    area: Area
    before: Prepared
    after: Prepared
    origin: dict[str, str]
    inside: set[str]

    def concerned(self, follows: Consequences) -> Iterator[str]:
        """What concerns accounts outside the area, or was not compared."""
        for change in (*follows.access, *(follows.on_disk.access or ())):
            yield from self._access(change)
        for led in follows.leads:
            names = self._others(led.accounts)
            if names and (
                led.before is not None or led.after is None or not self.area.holds_place(led.after)
            ):
                yield f"{led.location} would lead {several(names)} to {led.after or 'nothing'}"
        for entered in follows.sign_in:
            if names := self._others(entered.accounts):
                can = "could" if entered.may else "could no longer"
                yield f"{several(names)} {can} sign in at {entered.endpoint}"
        for room in follows.room:
            if names := self._others(room.accounts):
                yield f"room of {several(names)} at {room.location}"
        for setting in follows.settings:
            if names := self._others(setting.accounts):
                yield f"{setting.name} of {several(names)}"
        yield from follows.left_out
        for store in follows.on_disk.not_compared:
            yield f"effects on the disk of {store}, which were not compared"

    def _access(self, change: AccessChange) -> Iterator[str]:
        names = self._others(change.accounts)
        for location in change.locations if names else ():
            here = location.split("/" + UNRECORDED)[0] or "/"
            elsewhere = [n for n in names if not self._within(n, here)]
            gained, lost = (*change.gained, *change.widened), (*change.lost, *change.narrowed)
            if elsewhere and gained:
                yield f"{several(elsewhere)} would gain {', '.join(gained)} at {here}"
            if elsewhere and lost:
                yield f"{several(elsewhere)} would lose {', '.join(lost)} at {here}"

    def _others(self, names: Iterable[str]) -> list[str]:
        return [n for n in names if n not in self.inside]

    def _within(self, name: str, location: str) -> bool:
        """Do the folders that a location leads an account to, before and after, lie within the
        area?
        """
        earlier = self.origin.get(fold(name), name)
        places = [_led(self.before, earlier, location), _led(self.after, name, location)]
        return any(places) and all(p is None or self.area.holds_place(p) for p in places)


def _led(prepared: Prepared, name: str, location: str) -> Place | None:
    account = prepared.account(name)
    return None if account is None else prepared.namespace(account).resolve(location).place
