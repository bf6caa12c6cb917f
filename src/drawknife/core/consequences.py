"""What follows from a change, told by comparing two models (docs/rules.md, "What follows").

For every account of either model: may it sign in at each endpoint, what it can do where (without an endpoint, and
through each one at which it is let have other rights than before), the folder that each location leads to, its
settings, and its room. By sets, so that the work does not grow with accounts times folders.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any, NamedTuple

from .access_changes import AccessChange, Side, access_changes
from .findings import Finding, findings
from .gates import verdict
from .model import Endpoint
from .names import Place, fold, tree_key
from .namespace import Location
from .pairing import Pairing, Renames, bits_at
from .prepared import Prepared
from .question import Question
from .rights import BIT, RIGHTS
from .room import RoomChange, room_changes
from .settings import resolve_all
from .signin import endpoint_allows
from .soundness import new_items

#: For each account the methods that it has a credential for; None: not known.
Credentials = Mapping[str, frozenset[str]] | None


class SignInChange(NamedTuple):
    """Some accounts may now sign in at an endpoint (`may`), or may no more; `why` tells what refuses the first."""

    accounts: tuple[str, ...]
    endpoint: str
    may: bool
    why: str


class LeadsChange(NamedTuple):
    """For some accounts a location leads to another folder; None: to none."""

    accounts: tuple[str, ...]
    location: str
    before: Place | None
    after: Place | None


class SettingChange(NamedTuple):
    """Some accounts have another value of a setting; `_from` are those for whom the values are set."""

    accounts: tuple[str, ...]
    name: str
    before: object
    after: object
    before_from: tuple[str, ...] = ()
    after_from: tuple[str, ...] = ()


class Consequences(NamedTuple):
    """All that section "What follows" compares. `come` and `gone` are accounts of one model only."""

    come: tuple[str, ...] = ()
    gone: tuple[str, ...] = ()
    sign_in: tuple[SignInChange, ...] = ()
    access: tuple[AccessChange, ...] = ()
    leads: tuple[LeadsChange, ...] = ()
    settings: tuple[SettingChange, ...] = ()
    room: tuple[RoomChange, ...] = ()
    new_findings: tuple[Finding, ...] = ()
    mended: tuple[Finding, ...] = ()

    @property
    def nothing(self) -> bool:
        """Is nothing different for anybody, and no finding?"""
        return not any(self)

    @property
    def for_nobody(self) -> bool:
        """Is nothing different for anybody, whatever findings come or go?"""
        return not any(self[:7])


def consequences(
    before: Prepared, after: Prepared, at: datetime, renames: Renames | None = None, credentials: Credentials = None
) -> Consequences:
    """What follows from having `after` in the place of `before`, as of a moment.

    `credentials` are what accounts have to sign in with, by their names before. Nothing is left out.
    """
    pairing = Pairing(before, after, renames)
    old_findings, new_findings = findings(before), findings(after)
    affected = pairing.affected()
    signing = _SigningIn(pairing, at, credentials, affected)
    return Consequences(
        tuple(after.model.accounts[i].name for i in pairing.come),
        tuple(before.model.accounts[i].name for i in pairing.gone),
        tuple(signing.changes()),
        tuple(_access(pairing, affected, signing)),
        tuple(_leads(pairing, affected)),
        tuple(_settings(pairing, affected)),
        tuple(room_changes(pairing, at, affected | _with_changed_paths(pairing) | changed_settings(pairing))),
        tuple(_unlike(new_findings, old_findings, pairing.renames)),
        tuple(_unlike(old_findings, new_findings, pairing.renames)),
    )


def access_lost(before: Prepared, after: Prepared, name: str) -> tuple[AccessChange, ...]:
    """What one account, which is in both models, gains and loses, without an endpoint."""
    was, now = (Side(p, [p.people.index[name]]) for p in (before, after))
    return tuple(access_changes(was, now, [name]))


def settings_of(before: Prepared, after: Prepared, name: str) -> tuple[SettingChange, ...]:
    """The settings of one account, which is in both models, that are others."""
    pairing = Pairing(before, after)
    at = next(i for i, (_, now) in enumerate(pairing.common) if after.model.accounts[now].name == name)
    return tuple(_settings(pairing, {at}, only=True))


# --- signing in -----------------------------------------------------------------------------------


class _SigningIn:
    """Who may sign in at each endpoint, before and afterwards, as far as it can have changed."""

    def __init__(self, pairing: Pairing, at: datetime, credentials: Credentials, affected: set[int]) -> None:
        self.pairing, self.at, self.credentials = pairing, at, credentials
        self.asked = affected | changed_settings(pairing)
        self._everybody = range(len(pairing.common))
        self._known: dict[tuple[bool, int, str], str | None] = {}

    def same_door(self, was: str | None, now: str | None) -> bool:
        """Is an endpoint the same in both, and does it start in both or in neither?"""
        if was is None or now is None:
            return False
        a, b = self.pairing.before, self.pairing.after
        one, other = a.endpoints[fold(was)], b.endpoints[fold(now)]
        same = one is other or one == other
        return same and (a.stopped_by.get(was) is None) is (b.stopped_by.get(now) is None)

    def candidates(self, was: str | None, now: str | None) -> Iterable[int]:
        """Positions of the accounts for which anything may differ at an endpoint."""
        return sorted(self.asked) if self.same_door(was, now) else self._everybody

    def may(self, prepared: Prepared, index: int, endpoint: str | None) -> bool:
        return self.refusal(prepared, index, endpoint) is None

    def refusal(self, prepared: Prepared, index: int, endpoint: str | None) -> str | None:
        """What keeps an account from signing in, in words; None if nothing does. A fact not given is not asked."""
        if endpoint is None:
            return "there is no such endpoint"
        key = (prepared is self.pairing.before, index, endpoint)
        if key not in self._known:
            self._known[key] = self._refusal(prepared, index, endpoint)
        return self._known[key]

    def _refusal(self, prepared: Prepared, index: int, endpoint: str) -> str | None:
        name = prepared.model.accounts[index].name
        known = None if self.credentials is None else self.credentials.get(self._before(prepared, name), frozenset())
        answer = verdict(prepared, Question(name, "sign-in", endpoint=endpoint, credentials=known), self.at)
        return None if answer.allowed else answer.text

    def _before(self, prepared: Prepared, name: str) -> str:
        """What an account was called when its credentials were looked up."""
        if prepared is self.pairing.before or not self.pairing.renames:
            return name
        return next((r.old for r in reversed(self.pairing.renames.each) if r.kind == "account" and r.new == name), name)

    def changes(self) -> list[SignInChange]:
        found: dict[tuple[str, bool, str], list[str]] = {}
        why: dict[tuple[str, bool, str], str] = {}
        before, after = self.pairing.before, self.pairing.after

        def note(name: str, endpoint: str, refusal: str | None, kind: str) -> None:
            key = (endpoint, refusal is None, kind)
            found.setdefault(key, []).append(name)
            why.setdefault(key, refusal or "")

        for was, now in self.pairing.endpoints:
            called = now or was or ""
            for i in self.candidates(was, now):
                old, new = self.pairing.common[i]
                had, refusal = self.may(before, old, was), self.refusal(after, new, now)
                if had is not (refusal is None):
                    name = after.model.accounts[new].name
                    note(name, called, refusal, (refusal or "").replace(name, ""))
            for i in self.pairing.come:
                if now is not None and self.may(after, i, now):
                    note(after.model.accounts[i].name, called, None, "")
            for i in self.pairing.gone:
                if was is not None and self.may(before, i, was):
                    note(before.model.accounts[i].name, called, "the account is there no more", "gone")
        return [SignInChange(tuple(names), key[0], key[1], why[key]) for key, names in found.items()]


# --- access ---------------------------------------------------------------------------------------

#: Where more folders differ, the whole map is compared.
FEW_FOLDERS = 100


def _access(pairing: Pairing, affected: set[int], signing: _SigningIn) -> list[AccessChange]:
    before, after, renames = pairing.before, pairing.after, pairing.renames
    out: list[AccessChange] = []
    branches = _changed_branches(pairing)
    if branches is None:
        whole = list(range(len(pairing.common)))
    else:
        whole = sorted(affected | _with_changed_paths(pairing))
    if whole:
        out += _compared(pairing, whole, renames)
    if branches:
        there = set(whole)
        rest = [i for i in range(len(pairing.common)) if i not in there]
        if rest and pairing.aligned:
            kept = bits_at(rest, len(pairing.common))
            sides = Side(before, None, None, kept), Side(after, None, None, kept)
            out += access_changes(*sides, [a.name for a in after.model.accounts], branches)
        elif rest:
            out += access_changes(*_sides(pairing, rest), _names(pairing, rest), branches)
    if pairing.gone:
        names = [before.model.accounts[i].name for i in pairing.gone]
        out += access_changes(Side(before, pairing.gone), None, names)
    if pairing.come:
        names = [after.model.accounts[i].name for i in pairing.come]
        out += access_changes(None, Side(after, pairing.come), names)
    for was, now in pairing.endpoints:
        out += _through(pairing, signing, was, now)
    return out


def _compared(pairing: Pairing, positions: list[int], renames: Renames) -> list[AccessChange]:
    return access_changes(*_sides(pairing, positions), _names(pairing, positions), None, renames)


def _sides(pairing: Pairing, positions: list[int]) -> tuple[Side, Side]:
    pairs = [pairing.common[i] for i in positions]
    return Side(pairing.before, [was for was, _ in pairs]), Side(pairing.after, [now for _, now in pairs])


def _names(pairing: Pairing, positions: list[int]) -> list[str]:
    return [pairing.after.model.accounts[pairing.common[i][1]].name for i in positions]


def _changed_branches(pairing: Pairing) -> dict[str, list[str]] | None:
    """The folders that differ and what is recorded below them in either model, by store; None: look everywhere."""
    a, b = pairing.before.model, pairing.after.model
    if pairing.renames.moves:
        return None
    found: dict[str, list[str]] = {}
    count = 0
    stores = {s.name: s for s in a.stores}
    for store in b.stores:
        was = stores.pop(store.name, None)
        if was is store or was is None:
            continue  # nobody is led to a store that is new, but by a new virtual path or home
        if was.baseline != store.baseline:
            return None
        if was.folders is store.folders:
            continue
        gone = {f.path: f for _, f in new_items(store.folders, was.folders)}
        come = {f.path: f for _, f in new_items(was.folders, store.folders)}
        changed = [p for p in {*gone, *come} if gone.get(p) != come.get(p)]
        count += len(changed)
        if count > FEW_FOLDERS:
            return None
        paths: set[str] = set(changed)
        for prepared in (pairing.before, pairing.after):
            ready = prepared.stores[store.name]
            for path in changed:
                paths.update(f.path for f in ready.recorded_below(path))
        if paths:
            found[store.name] = sorted(paths, key=tree_key)
    return found


def _with_changed_paths(pairing: Pairing) -> set[int]:
    """Positions of the accounts that have a virtual path which is not the same in both models."""
    a, b = pairing.before.model.virtual_paths, pairing.after.model.virtual_paths
    if a is b or a == b:
        return set()
    old, new = set(a), set(b)
    was: set[object] = {g.subject for v in old - new for g in v.grants}
    now: set[object] = {g.subject for v in new - old for g in v.grants}
    return pairing.positions(was, now)


def _through(pairing: Pairing, signing: _SigningIn, was: str | None, now: str | None) -> list[AccessChange]:
    """What changes through one endpoint, for the accounts that are let have other rights there."""
    before, after = pairing.before, pairing.after
    out: list[AccessChange] = []
    one = before.endpoints[fold(was)] if was is not None else None
    other = after.endpoints[fold(now)] if now is not None else None
    called = now or was or ""
    positions: list[int] = []
    had: list[int] = []  # places in `positions`
    has: list[int] = []
    for i in signing.candidates(was, now):
        old, new = pairing.common[i]
        rights = _let(signing, before, old, one), _let(signing, after, new, other)
        if rights[0] != rights[1]:
            had += [len(positions)] if rights[0] else []
            has += [len(positions)] if rights[1] else []
            positions.append(i)
    if positions:
        count = len(positions)
        sides = _sides(pairing, positions)
        here = sides[0]._replace(through=one, admitted=bits_at(had, count)) if had else None
        there = sides[1]._replace(through=other, admitted=bits_at(has, count)) if has else None
        out += access_changes(here, there, _names(pairing, positions), None, pairing.renames, called)
    if one is not None and (left := [i for i in pairing.gone if _let(signing, before, i, one)]):
        names = [before.model.accounts[i].name for i in left]
        out += access_changes(Side(before, left, one), None, names, endpoint=called)
    if other is not None and (new_ones := [i for i in pairing.come if _let(signing, after, i, other)]):
        names = [after.model.accounts[i].name for i in new_ones]
        out += access_changes(None, Side(after, new_ones, other), names, endpoint=called)
    return out


def _let(signing: _SigningIn, prepared: Prepared, index: int, endpoint: Endpoint | None) -> int:
    """The rights that an account is let have at an endpoint: none where it may not sign in."""
    if endpoint is None or not signing.may(prepared, index, endpoint.name):
        return 0
    account = prepared.people.prepared(index)
    return sum(BIT[r] for r in RIGHTS if endpoint_allows(prepared, account, endpoint, BIT[r]))


# --- where locations lead, settings ---------------------------------------------------------------


def _leads(pairing: Pairing, affected: set[int]) -> list[LeadsChange]:
    """Virtual paths of either model that lead somebody elsewhere, or to nowhere; below them all goes along."""
    found: dict[tuple[str, Place | None, Place | None], list[str]] = {}
    before, after, renames = pairing.before, pairing.after, pairing.renames
    for i in sorted(affected | _with_changed_paths(pairing)):
        was, now = pairing.common[i]
        one, other = before.people.prepared(was), after.people.prepared(now)
        old, new = before.namespace(one), after.namespace(other)
        for path in sorted({*old.served, *old.unserved, *new.served, *new.unserved}, key=tree_key):
            place, there = old.resolve(path).place, new.resolve(path).place
            was_there = _holds_locations(before, old.resolve(path)) or _holds_locations(after, new.resolve(path))
            place = renames.place(place) if place is not None else None
            if place != there and was_there:
                found.setdefault((path, place, there), []).append(other.name)
    return [LeadsChange(tuple(names), *key) for key, names in found.items()]


def _holds_locations(prepared: Prepared, at: Location) -> bool:
    """Is it a location, or is one below it: a virtual path, or something recorded?"""
    if at.served is None or at.place is None:
        return False
    if at.location == at.served.path:
        return True
    return bool(prepared.stores[at.place.store].recorded_below(at.place.path))


def changed_settings(pairing: Pairing) -> set[int]:
    """Positions of the accounts that count as somebody for whom other things are set than before."""
    a, b = pairing.before.model.settings, pairing.after.model.settings
    if a is b or a == b:
        return set()
    old, new = {s.subject: s for s in a}, {s.subject: s for s in b}
    return pairing.positions(
        {s for s, x in old.items() if new.get(s) != x}, {s for s, x in new.items() if old.get(s) != x}
    )


def _settings(pairing: Pairing, affected: set[int], only: bool = False) -> list[SettingChange]:
    before, after = pairing.before, pairing.after
    asked = affected if only else affected | changed_settings(pairing)
    found: dict[tuple[str, Any, Any, tuple[str, ...], tuple[str, ...]], list[str]] = {}
    for i in sorted(asked):
        one, other = (p.people.prepared(index) for p, index in zip((before, after), pairing.common[i], strict=True))
        if not (before.settings.keys() & one.who or after.settings.keys() & other.who):
            continue
        for x, y in zip(resolve_all(before, one), resolve_all(after, other), strict=True):
            value = pairing.renames.account(x.value) if x.name == "uploads_owner" and x.value else x.value
            if _unordered(x.name, value) != _unordered(y.name, y.value):
                came = [tuple(map(str, c.subjects)) for c in (x, y)]
                found.setdefault((x.name, value, y.value, *came), []).append(other.name)
    return [SettingChange(tuple(names), *key) for key, names in found.items()]


def _unordered(name: str, value: Any) -> Any:
    """Of several lists that all must admit, the order says nothing."""
    return sorted(value) if name in ("addresses", "hours") else value


def _unlike(some: tuple[Finding, ...] | list[Finding], others: list[Finding], renames: Renames) -> list[Finding]:
    """The findings that the others do not have; where something was renamed, they are told apart without names."""
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
