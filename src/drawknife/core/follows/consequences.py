"""What follows from a change, told by comparing two models (docs/rules.md, "What follows").

For every account of either model: may it sign in at each endpoint, what it can do where (without an
endpoint, and through each one at which it is let have other rights than before), the folder that
each location leads to, its settings, and its room. By sets, so that the work does not grow with
accounts times folders.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, datetime
from typing import Any, NamedTuple

from ..everybody.findings import Finding, findings
from ..everybody.promises import Broken, broken_promises
from ..prepared.namespace import Location
from ..prepared.prepared import Prepared
from ..prepared.settings import resolve_all
from ..words.names import Place, tree_key
from ..words.sizes import several
from .access_changes import Side, access_changes
from .access_compared import compare_access, with_changed_paths
from .access_differences import AccessChange
from .disk_changes import OnDisk, on_disks
from .for_everybody import for_everybody
from .pairing import Pairing, Renames, changed_settings
from .renamed_paths import renamed_paths
from .room_changes import RoomChange, room_changes
from .sign_in_changes import Credentials, SignInChange, SigningIn
from .trials_turned import turned


class LeadsChange(NamedTuple):
    """For some accounts a location leads to another folder; None: to none."""

    accounts: tuple[str, ...]
    location: str
    before: Place | None
    after: Place | None


class SettingChange(NamedTuple):
    """Some accounts have another value of a setting; `_from` are those for whom the
    values are set.
    """

    accounts: tuple[str, ...]
    name: str
    before: object
    after: object
    before_from: tuple[str, ...] = ()
    after_from: tuple[str, ...] = ()


class Consequences(NamedTuple):
    """All that section "What follows" compares. `come` and `gone` are accounts of one model only.

    `left_out` says what is not told place by place, as it would be too much: all that somebody has
    goes or comes then. `later` is what is different only on days to come, as a line ends.
    """

    come: tuple[str, ...] = ()
    gone: tuple[str, ...] = ()
    sign_in: tuple[SignInChange, ...] = ()
    access: tuple[AccessChange, ...] = ()
    leads: tuple[LeadsChange, ...] = ()
    settings: tuple[SettingChange, ...] = ()
    room: tuple[RoomChange, ...] = ()
    #: What is different for whoever comes, in sentences.
    for_everybody: tuple[str, ...] = ()
    new_findings: tuple[Finding, ...] = ()
    mended: tuple[Finding, ...] = ()
    left_out: tuple[str, ...] = ()
    later: tuple[tuple[date, Consequences], ...] = ()
    #: What is so with what disks let through.
    on_disk: OnDisk = OnDisk()

    @property
    def nothing(self) -> bool:
        """Is nothing different for anybody on any day, and no finding?"""
        return (
            not any(self[:10])
            and not self.disks
            and all(follows.nothing for _, follows in self.later)
        )

    @property
    def disks(self) -> bool:
        """Does a disk let something else through, or may it, which was not compared?"""
        return bool(self.on_disk.access or self.on_disk.not_compared)

    @property
    def for_nobody(self) -> bool:
        """Is nothing different for anybody on any day, whatever findings come or go?"""
        return (
            not any(self[:8])
            and not self.disks
            and all(follows.for_nobody for _, follows in self.later)
        )


def consequences_on(
    before: Prepared,
    after: Prepared,
    at: datetime,
    renames: Renames | None = None,
    credentials: Credentials = None,
) -> Consequences:
    """What follows from having `after` in the place of `before`, as of a moment: by the lines that
    count then.

    `credentials` are what accounts have to sign in with, by their names before.
    """
    return Consequences(**dict(_compared(before, after, at, renames, credentials)))


def same_on(
    before: Prepared, after: Prepared, at: datetime, credentials: Credentials = None
) -> bool:
    """Is nothing different for anybody as of a moment, no finding new, and nothing left out?

    Ends with the first difference.
    """
    return not any(
        found for name, found in _compared(before, after, at, None, credentials) if name != "mended"
    )


def _compared(
    before: Prepared,
    after: Prepared,
    at: datetime,
    renames: Renames | None,
    credentials: Credentials,
) -> Iterator[tuple[str, Any]]:
    """Each part of :class:`Consequences` by its name, what is quick to compare first."""
    before, after = before.on(at.date()), after.on(at.date())
    pairing = Pairing(before, after, renames)
    yield "come", tuple(after.model.accounts[i].name for i in pairing.come)
    yield "gone", tuple(before.model.accounts[i].name for i in pairing.gone)
    affected, set_otherwise = pairing.affected(), changed_settings(pairing)
    signing = SigningIn(pairing, at, credentials, affected | set_otherwise)
    paths = with_changed_paths(pairing)
    yield "settings", (*_settings(pairing, affected), *_listings(pairing, affected | paths))
    yield "for_everybody", tuple(for_everybody(pairing))
    # A folder that is renamed may be one to which a placeholder leads anybody.
    led = set(range(len(pairing.common))) if pairing.renames.moves else affected | paths
    yield "leads", tuple(_leads(pairing, led))
    access, left_out = compare_access(pairing, affected, paths, signing)
    yield "access", tuple(access)
    yield "left_out", tuple(left_out)
    on_disk = on_disks(pairing, access)
    if on_disk != OnDisk():
        yield "on_disk", on_disk
    yield "sign_in", tuple(signing.changes())
    yield "room", tuple(room_changes(pairing, at, affected | paths | set_otherwise))
    old_findings, new_findings = findings(before), findings(after)
    old_promises, new_promises = (broken_promises(x, at.date()) for x in (before, after))
    fail, hold = turned(before, after, at, pairing.renames, credentials)
    new = _otherwise_broken(new_promises, old_promises, pairing.renames)
    yield (
        "new_findings",
        (
            *renamed_paths(pairing),
            *new,
            *fail,
            *_unlike(new_findings, old_findings, pairing.renames),
        ),
    )
    mended = _otherwise_broken(old_promises, new_promises, pairing.renames, back=True)
    yield "mended", (*mended, *hold, *_unlike(old_findings, new_findings, pairing.renames))


def _otherwise_broken(
    some: list[Broken], others: list[Broken], renames: Renames, back: bool = False
) -> list[Finding]:
    """The promises that only some of these are broken, and those that more accounts break; `others`
    are of the model
    before, or where it is looked `back` at, of the one afterwards.
    """

    def called(kind: str, name: str) -> str:
        return renames.name(kind, name)

    known = {
        (b.promise.name if back else called("promise", b.promise.name)): {
            n if back else called("account", n) for n in b.who
        }
        for b in others
    }
    found = []
    for b in some:
        name = called("promise", b.promise.name) if back else b.promise.name
        if name not in known:
            found.append(Finding("promise-broken", b.promise.name, b.text()))
        elif more := [n for n in b.who if (called("account", n) if back else n) not in known[name]]:
            text = f"promise {b.promise.name} ({b.promise.says}) is broken by {several(more)}"
            found.append(Finding("promise-broken", b.promise.name, text))
    return found


def access_lost(before: Prepared, after: Prepared, name: str) -> tuple[AccessChange, ...]:
    """What one account, which is in both models, gains and loses, without an endpoint."""
    was, now = (Side(p, [p.people.index[name]]) for p in (before, after))
    return tuple(access_changes(was, now, [name]))


def settings_of(before: Prepared, after: Prepared, name: str) -> tuple[SettingChange, ...]:
    """The settings of one account, which is in both models, that are others."""
    pairing = Pairing(before, after)
    at = next(
        i for i, (_, now) in enumerate(pairing.common) if after.model.accounts[now].name == name
    )
    return tuple(_settings(pairing, {at}, only=True))


# --- where locations lead, settings -------------------------------------------------------------


def _leads(pairing: Pairing, affected: set[int]) -> list[LeadsChange]:
    """Virtual paths of either model that lead somebody elsewhere, or to nowhere; below them all
    goes along.
    """
    found: dict[tuple[str, Place | None, Place | None], list[str]] = {}
    before, after, renames = pairing.before, pairing.after, pairing.renames
    for i in sorted(affected):
        was, now = pairing.common[i]
        one, other = before.people.prepared(was), after.people.prepared(now)
        old, new = before.namespace(one), after.namespace(other)
        for path in sorted({*old.served, *old.unserved, *new.served, *new.unserved}, key=tree_key):
            led, leads = old.resolve(path), new.resolve(path)
            place = renames.place(led.place) if led.place is not None else None
            if place != leads.place and (
                _holds_locations(before, led) or _holds_locations(after, leads)
            ):
                found.setdefault((path, place, leads.place), []).append(other.name)
    return [LeadsChange(tuple(names), *key) for key, names in found.items()]


def _holds_locations(prepared: Prepared, at: Location) -> bool:
    """Is it a location, or is one below it: a virtual path, or something recorded?"""
    if at.served is None or at.place is None:
        return False
    if at.location == at.served.path:
        return True
    return bool(prepared.stores[at.place.store].recorded_below(at.place.path))


def _settings(pairing: Pairing, affected: set[int], only: bool = False) -> list[SettingChange]:
    before, after = pairing.before, pairing.after
    asked = affected if only else affected | changed_settings(pairing)
    found: dict[tuple[str, Any, Any, tuple[str, ...], tuple[str, ...]], list[str]] = {}
    for i in sorted(asked):
        one, other = (
            p.people.prepared(index)
            for p, index in zip((before, after), pairing.common[i], strict=True)
        )
        if not (before.settings.keys() & one.who or after.settings.keys() & other.who):
            continue
        for x, y in zip(resolve_all(before, one), resolve_all(after, other), strict=True):
            value = (
                pairing.renames.account(x.value)
                if x.name == "uploads_owner" and x.value
                else x.value
            )
            if _unordered(x.name, value) != _unordered(y.name, y.value):
                came = [tuple(map(str, c.subjects)) for c in (x, y)]
                found.setdefault((x.name, value, y.value, *came), []).append(other.name)
    return [SettingChange(tuple(names), *key) for key, names in found.items()]


def _listings(pairing: Pairing, affected: set[int]) -> list[SettingChange]:
    """Where listings show every folder, or only such as one may enter, and it was the other way
    before.
    """
    found: dict[tuple[str, str, str], list[str]] = {}
    for i in sorted(affected):
        one, other = (
            p.people.prepared(j)
            for p, j in zip((pairing.before, pairing.after), pairing.common[i], strict=True)
        )
        old, new = pairing.before.namespace(one).served, pairing.after.namespace(other).served
        for path in sorted(old.keys() & new.keys(), key=tree_key):
            was, now = (f"{served[path].listing} folders" for served in (old, new))
            if was != now:
                found.setdefault((f"listing at {path}", was, now), []).append(other.name)
    return [SettingChange(tuple(names), *key) for key, names in found.items()]


def _unordered(name: str, value: Any) -> Any:
    """Of several lists that all must admit, the order says nothing."""
    return sorted(value) if name in ("addresses", "hours") else value


def _unlike(
    some: tuple[Finding, ...] | list[Finding], others: list[Finding], renames: Renames
) -> list[Finding]:
    """The findings that the others do not have; where something was renamed, they are told apart
    without names.
    """
    if not renames:
        return [f for f in some if f not in others]
    names = sorted({n for r in renames.each for n in (r.old, r.new)}, key=len, reverse=True)

    def said(f: Finding) -> tuple[str, str, str]:
        about, text = f.about, f.text
        for name in names:
            about, text = about.replace(name, "*"), text.replace(name, "*")
        return f.kind, about, text

    there = {said(f) for f in others}
    return [f for f in some if said(f) not in there]
