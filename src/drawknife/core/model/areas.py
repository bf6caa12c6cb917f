"""Areas of administrators: a list of stores, store folders, units and groups (docs/rules.md,
"Areas").
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from ..words.names import (
    BadValue,
    Place,
    check_name,
    check_subject_name,
    check_unit,
    fold,
    parse_place,
    rest_below,
)
from .difference import Differs
from .items import Account, Folder, Group, Quota, Setting, Store, Subject, Usage, VirtualPath

_SHAPE = "store:NAME, STORE:/folder, unit:PATH or group:NAME"


class Area(NamedTuple):
    """What an administrator may change.

    A store is its root folder; names are in the form in which they are compared.
    """

    places: tuple[Place, ...] = ()
    units: tuple[str, ...] = ()
    groups: frozenset[str] = frozenset()

    def holds_place(self, place: Place) -> bool:
        """Is a folder in one of the stores or folders?"""
        return any(
            fold(place.store) == fold(x.store)
            and (place.path == x.path or rest_below(place.path, x.path) is not None)
            for x in self.places
        )

    def holds_unit(self, unit: str | None) -> bool:
        """Is it one of the units, or below one?"""
        return unit is not None and any(
            fold(unit) == x or fold(unit).startswith(x + "/") for x in self.units
        )

    def holds_account(self, account: Account | None) -> bool:
        """Is it in one of the units?"""
        return account is not None and self.holds_unit(account.unit)

    def holds_item(
        self, section: str, name: str, item: Any, accounts: Mapping[str, Account]
    ) -> bool:
        """Does one side of an item that differs lie within it?

        What is of nobody and nowhere does not.

        `accounts` are those that it may name, by their names in the form in which they are
        compared.
        """
        match item:
            case Folder():
                return self.holds_place(parse_place(name))
            case Store():
                return self.holds_place(Place(item.name, "/"))
            case Account():
                return self.holds_account(item)
            case Group():
                return fold(item.name) in self.groups
            case VirtualPath():
                return self._holds_target(item.leads_to)
            case Quota() if item.folder is not None:
                return self.holds_place(item.folder)
            case Quota():
                return bool(item.shared_by) and all(
                    self._holds_subject(s, accounts) for s in item.shared_by
                )
            case Setting():
                return self._holds_subject(item.subject, accounts)
            case Usage():
                return self.holds_place(item.folder)
        return section == "units" and self.holds_unit(name)

    def _holds_subject(self, subject: Subject, accounts: Mapping[str, Account]) -> bool:
        match subject.kind:
            case "unit":
                return self.holds_unit(subject.name)
            case "group":
                return fold(subject.name) in self.groups
            case "account":
                return self.holds_account(accounts.get(fold(subject.name)))
        return False

    def _holds_target(self, leads_to: str) -> bool:
        """A placeholder may stand for anything: only what is before it counts."""
        store, _, path = leads_to.partition(":")
        if "{" in store:
            return False
        before, placeholder, _ = path.partition("{")
        return self.holds_place(
            Place(store, before.rpartition("/")[0] or "/" if placeholder else path)
        )


def parse_area(lines: Iterable[str]) -> Area:
    """Read an area; :class:`BadValue` with what would be right."""
    places: list[Place] = []
    units: list[str] = []
    groups: set[str] = set()
    for line in lines:
        kind, colon, name = line.strip().partition(":")
        if not colon:
            raise BadValue(f"{line!r} is no part of an area", _SHAPE)
        if name.startswith("/"):
            places.append(parse_place(line.strip()))
        elif kind == "store":
            places.append(Place(check_name(name), "/"))
        elif kind == "unit":
            units.append(fold(check_unit(name)))
        elif kind == "group":
            groups.add(fold(check_subject_name(name)))
        else:
            raise BadValue(f"{line!r} is no part of an area", _SHAPE)
    return Area(tuple(places), tuple(units), frozenset(groups))


def items_outside(
    area: Area, items: Iterable[Differs], accounts: Iterable[Account] = ()
) -> list[str]:
    """What a change touches that does not lie within the area, as it was and as it is, in words.

    `accounts` are those of the model before and after. One that a line of the area only names need
    not lie within it; what it gains by that is asked elsewhere.
    """
    by_name = {fold(a.name): a for a in accounts}
    return [
        f"{d.section.replace('_', ' ')} {d.name}"
        for d in items
        if not all(
            side is None or area.holds_item(d.section, d.name, side, by_name)
            for side in (d.before, d.after)
        )
    ]
