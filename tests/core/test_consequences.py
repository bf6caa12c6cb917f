"""What follows from a change is what comparing everything, one by one and by the plain rules,
finds.
"""

import json
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from itertools import product
from random import Random

import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from drawknife.changing import apply
from drawknife.core.follows.consequences import Consequences, consequences_on
from drawknife.core.follows.days import consequences
from drawknife.core.follows.pairing import Renames
from drawknife.core.limits.usage import with_clocks
from drawknife.core.model import items as m
from drawknife.core.model.edits import ChangeRefused
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.names import ancestors
from drawknife.formats.document import BadDocument
from drawknife.formats.model_file import read_model

from . import reference_room
from .changes import random_change
from .models import random_model
from .reference import ELEVEN, Reference

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
seeds = st.integers(0, 10**9)
NUMBERS = {
    "quota_bytes",
    "quota_files",
    "upload_limit",
    "rate_up",
    "rate_down",
    "sessions",
    "idle_timeout",
}
OWN = {"no": 0, "others": 1, "own": 2, "yes": 3}


def new_name(changes, kind, name):
    """What something is called after the changes."""
    for c in changes:
        if c["op"] == "rename" and c["kind"] == kind and name.casefold() == c["name"].casefold():
            name = c["to"]
    return name


def new_place(changes, place):
    if place is None:
        return None
    store, path = place
    for c in changes:
        if c["op"] == "rename" and c["kind"] == "store" and store == c["name"]:
            store = c["to"]
        if c["op"] == "rename" and c["kind"] == "folder":
            (old_store, old), (to_store, to) = c["name"].split(":"), c["to"].split(":")
            if store == old_store and (path == old or path.startswith(old + "/")):
                store, path = to_store, to + path[len(old) :]
    return store, path


class Brute:
    """Everything that section "What follows" compares, for every account of either model, as of a
    moment.
    """

    def __init__(self, before, after, changes, at):
        self.a, self.b, self.changes = (
            Reference(before).on(at.date()),
            Reference(after).on(at.date()),
            changes,
        )
        self.a.asks_hours = self.b.asks_hours = False
        self.at = at
        self.looked_at = {}  # by endpoints and account, its locations of either model
        origin = {name: name for name in self.a.accounts}
        for c in changes:
            if c["op"] == "rename" and c["kind"] == "account":
                was = next((n for n in origin if n.casefold() == c["name"].casefold()), None)
                if was is not None:
                    origin[c["to"]] = origin.pop(was)
        folded = {n.casefold(): o for n, o in origin.items()}
        self.pairs = [(folded.get(n.casefold()), n) for n in self.b.accounts]
        known = {o for o, _ in self.pairs}
        self.pairs += [(n, None) for n in self.a.accounts if n not in known]
        ends = {e.name: new_name(changes, "endpoint", e.name) for e in before.endpoints}
        there = {e.name for e in after.endpoints}
        self.endpoints = [(o, n if n in there else None) for o, n in ends.items()]
        self.endpoints += [(None, n) for n in there if n not in {e for _, e in self.endpoints}]

    def may(self, side, name, endpoint):
        if name is None or endpoint is None:
            return False
        return side.verdict(Question(name, "sign-in", endpoint=endpoint), self.at)[0]

    def sign_in(self):
        return {
            (new or old, e_new or e_old, now)
            for old, new in self.pairs
            for e_old, e_new in self.endpoints
            if self.may(self.a, old, e_old) is not (now := self.may(self.b, new, e_new))
        }

    def carried(self, name):
        """Each location of an account before, and where the same folder is seen afterwards (None:
        nowhere).
        """
        found = {}
        for location in self.a.locations(name):
            where = self.a.resolve(name, location)
            found[location] = location
            if where[0] == "real" and any(
                c["op"] == "rename" and c["kind"] == "folder" for c in self.changes
            ):
                _, store, path, at, top, _ = where
                to, to_top = (
                    new_place(self.changes, (store, path)),
                    new_place(self.changes, (store, top)),
                )
                inside = to[0] == to_top[0] and (
                    to[1] == to_top[1] or to[1].startswith(to_top[1].rstrip("/") + "/")
                )
                rest = to[1][len(to_top[1].rstrip("/")) :] if inside and to[1] != to_top[1] else ""
                found[location] = (at.rstrip("/") + rest) or "/" if inside else None
        return found

    def access(self, endpoints=None):
        """{(account, location, depth): (gained, lost, widened, narrowed)} where
        anything differs.
        """
        out = {}
        for old, new in self.pairs:
            e_old, e_new = endpoints or (None, None)
            if endpoints and self.let(self.a, old, e_old) == self.let(self.b, new, e_new):
                continue
            here = old is not None and (not endpoints or self.let(self.a, old, e_old))
            there = new is not None and (not endpoints or self.let(self.b, new, e_new))
            # Locations are those of either model, also where it may not sign in.
            before = self.carried(old) if old is not None else {}
            moved_to = {
                x
                for x in (self.b.locations(new) if new is not None else ())
                if (w := self.b.resolve(new, x))[0] == "real" and self.moved_in(w[1], w[2])
            }
            gone = {x: None for x, y in before.items() if y is None}
            back = {y: x for x, y in before.items() if y is not None}
            locations = set(back) | (self.b.locations(new) if new is not None else set())
            self.looked_at[endpoints, new or old] = locations | gone.keys()
            for location in locations:
                asks_before = here and not (location in moved_to and location not in back)
                self.compare(
                    out,
                    new or old,
                    location,
                    self.a if asks_before else None,
                    old,
                    back.get(location, location),
                    self.b if there else None,
                    new,
                    location,
                    e_old,
                    e_new,
                )
            for location in gone:
                if location not in locations:
                    self.compare(
                        out,
                        new or old,
                        location,
                        self.a if here else None,
                        old,
                        location,
                        None,
                        new,
                        location,
                        e_old,
                        e_new,
                    )
        return out

    def moved_in(self, store, path):
        for c in self.changes:
            if c["op"] == "rename" and c["kind"] == "folder":
                to_store, to = c["to"].split(":")
                if store == to_store and (path == to or path.startswith(to + "/")):
                    return True
        return False

    def compare(self, out, called, location, a, old, before_at, b, new, after_at, e_old, e_new):
        for depth, rest in enumerate(("", "/#", "/#/##", "/#/##/###")):
            sets = set(), set(), set(), set()
            for right in ELEVEN:
                was = now = "no"
                if a is not None:
                    was = a.state(
                        old,
                        (before_at.rstrip("/") + rest) or "/",
                        right,
                        e_old and a.endpoint(e_old),
                    )
                if b is not None:
                    now = b.state(
                        new,
                        (after_at.rstrip("/") + rest) or "/",
                        right,
                        e_new and b.endpoint(e_new),
                    )
                if was == now:
                    continue
                if was == "no":
                    sets[0].add(right)
                elif now == "no":
                    sets[1].add(right)
                else:
                    if OWN[now] & ~OWN[was]:
                        sets[2].add(right)
                    if OWN[was] & ~OWN[now]:
                        sets[3].add(right)
            if any(sets):
                out[called, location, depth] = sets

    def let(self, side, name, endpoint):
        if name is None or not self.may(side, name, endpoint):
            return frozenset()
        e = side.endpoint(endpoint)
        return frozenset(r for r in ELEVEN if side.endpoint_allows(e, name, r))

    def setting(self, side, name, key):
        values = side.setting(name, key)
        if values is None:
            return None
        if key in NUMBERS:
            numbers = [v for v in values if v != "unlimited"]
            return min(numbers) if numbers else None
        if key == "require_tls":
            return any(values) or None
        if key == "methods":
            found = set.intersection(*map(set, values))
            return found if len(found) < 3 else None
        if key in ("addresses", "hours"):
            return sorted(values)
        return None if (key, values[0]) == ("landing", "/") else values[0]

    def settings(self):
        keys = {k for side in (self.a, self.b) for s in side.model.settings for k, _ in s.values}
        out = set()
        for old, new in self.pairs:
            for key in keys if old and new else ():
                was, now = self.setting(self.a, old, key), self.setting(self.b, new, key)
                if key == "uploads_owner" and was is not None:
                    was = new_name(self.changes, "account", was)
                if was != now:
                    out.add((new, key))
            was, now = (
                side.namespace(name) if name else {}
                for side, name in ((self.a, old), (self.b, new))
            )
            both = [path for path in was.keys() & now.keys() if was[path] and now[path]]
            out |= {
                (new, f"listing at {path}")
                for path in both
                if old and new and was[path][2] != now[path][2]
            }
        return out

    def leads(self):
        out = set()
        for old, new in self.pairs:
            if old is None or new is None:
                continue
            moves = any(c["kind"] == "folder" and c["op"] == "rename" for c in self.changes)
            paths = {
                p for side, name in ((self.a, old), (self.b, new)) for p in side.namespace(name)
            }
            # Where a folder moves, what lies in it does; where virtual paths lead is then asked of
            # them alone.
            for location in paths if moves else self.a.locations(old) | self.b.locations(new):
                was, now = (
                    self.a.resolve(old, location)[1:3] or None,
                    self.b.resolve(new, location)[1:3] or None,
                )
                if new_place(self.changes, was) != now:
                    out.add(new)
        return out

    def room(self):
        out = set()
        for old, new in self.pairs:
            if (
                old is None
                or new is None
                or any(c["kind"] == "folder" and c["op"] == "rename" for c in self.changes)
            ):
                continue
            for location in self.a.locations(old) & self.b.locations(new):
                was = reference_room.headroom(self.a, old, location, self.at)
                now = reference_room.headroom(self.b, new, location, self.at)
                if was is not None and now is not None and was != now:
                    out.add((new, location))
        return out


def told_access(changes, endpoint):
    """The same form from what the product tells: a folder that is not recorded changes as what it
    lies in, unless told.
    """
    found = {}
    for c in (c for c in changes if c.endpoint == endpoint):
        sets = {*c.gained}, {*c.lost}, {*c.widened}, {*c.narrowed}
        of_own = {*c.own}, {*c.others}
        assert not of_own[0] & of_own[1] and of_own[0] | of_own[1] <= set().union(*sets)
        for account in c.accounts:
            for location in c.locations:
                depth = location.count("/…")
                bare = location.replace("/…", "") or "/"
                assert (account, bare, depth) not in found, "told twice"
                found[account, bare, depth] = sets
    return found


def check(before, after, changes=(), renames=None):
    """What is told for each day is what brute force finds then, and all of it is told on some day
    up to then.
    """
    before = with_clocks(before, m.Model(), NOW)
    after = with_clocks(after, before, NOW)
    one = prepare(before)
    other = prepare(after, one)
    told = consequences(one, other, NOW, renames)
    ends = {line.until for model in (before, after) for line in all_lines(model)} - {None}
    ends |= other_ends(before, after, changes)
    days = [
        NOW,
        *(NOW + (end - NOW.date()) + timedelta(1) for end in sorted(ends) if end >= NOW.date()),
    ]
    later = {NOW.date(): told, **dict(told.later)}
    assert later.keys() <= {x.date() for x in days}
    seen = set()
    for at in days:
        on_day = check_on(one, other, at, Brute(before, after, changes, at), changes, renames)
        new = differences(later.get(at.date(), Consequences()))
        assert not new & seen, "told again"
        seen |= new
        assert differences(on_day) <= seen
        assert new <= differences(on_day)
        assert on_day.nothing or not told.nothing
    assert told.nothing is all(x.nothing for x in later.values())
    return told


def other_ends(before, after, changes):
    """Where accounts of both models expire, and grace periods run out, on another day
    than before.
    """
    old = {new_name(changes, "account", a.name).casefold(): a.expires for a in before.accounts}
    pairs = [
        (old[a.name.casefold()], a.expires) for a in after.accounts if a.name.casefold() in old
    ]
    found = {day for pair in pairs if pair[0] != pair[1] for day in pair if day is not None}
    was, now = (
        {
            (q.name.casefold(), soft, since, q.grace)
            for q in model.quotas
            for soft, since in (
                (q.soft_bytes, q.bytes_over_since),
                (q.soft_files, q.files_over_since),
            )
            if soft is not None and since is not None and q.grace
        }
        for model in (before, after)
    )
    return found | {(since + timedelta(seconds=grace)).date() for _, _, since, grace in was ^ now}


def all_lines(model):
    """Everything that may have an end."""
    yield from (x for g in model.groups for x in g.members)
    yield from (x for v in model.virtual_paths for x in v.grants)
    yield from (x for e in model.endpoints for x in e.entries)
    yield from (x for s in model.stores for f in s.folders for x in f.entries)


def differences(told):
    """Every difference for every account by itself."""
    found = {("come", name) for name in told.come} | {("gone", name) for name in told.gone}
    for change in (*told.sign_in, *told.access, *told.leads, *told.settings, *told.room):
        rest = (
            change._replace(accounts=(), why="")
            if hasattr(change, "why")
            else change._replace(accounts=())
        )
        found |= {(type(change).__name__, str(rest), account) for account in change.accounts}
    found |= {("everybody", line) for line in told.for_everybody}
    return (
        found | {("finding", *f) for f in told.new_findings} | {("mended", *f) for f in told.mended}
    )


def check_on(one, other, moment, brute, changes, renames):
    told = consequences_on(one, other, moment, renames)
    assert {(a, s.endpoint, s.may) for s in told.sign_in for a in s.accounts} == brute.sign_in()
    assert {(a, s.name) for s in told.settings for a in s.accounts} == brute.settings()
    for pair in [None, *brute.endpoints]:
        expected = brute.access(pair)
        found = told_access(told.access, pair and (pair[1] or pair[0]))
        for key, sets in found.items():
            assert expected.get(key) == sets, (pair, key)
        for (account, location, depth), sets in expected.items():
            # What is not told is as what it lies in.
            at = next(d for d in range(depth, -1, -1) if (account, location, d) in found or d == 0)
            assert found.get((account, location, at)) == sets, (pair, account, location, depth)
        for change in (c for c in told.access if c.endpoint == (pair and (pair[1] or pair[0]))):
            for account, location in product(
                change.accounts, set(change.locations) - set(change.worth_a_line)
            ):
                above = next(
                    up
                    for up in list(ancestors(location))[1:]
                    if up in brute.looked_at[pair, account]
                )
                assert found[account, above, 0] == found[account, location, 0], (
                    "folded into what is otherwise"
                )
    if not any(c["kind"] == "folder" and c["op"] == "rename" for c in changes):
        assert brute.leads() == {a for x in told.leads for a in x.accounts}
        assert brute.room() <= {(a, r.location) for r in told.room for a in r.accounts} | {
            (a, location) for a, location in brute.room() if _told_above(told.room, a, location)
        }
        for r in told.room:
            for account in r.accounts:
                assert tuple(r.after) == reference_room.headroom(
                    brute.b, account, r.location, moment
                )
    if told.nothing:
        assert not (brute.sign_in() or brute.settings() or brute.leads() or brute.room())
        assert not any(brute.access(pair) for pair in [None, *brute.endpoints])
    return told


def _told_above(room, account, location):
    """Is the change of room told at a location above, below which it holds, too?"""
    at = location
    while True:
        if any(r.location == at and account in r.accounts for r in room):
            return True
        if at == "/":
            return False
        at = at.rsplit("/", 1)[0] or "/"


@given(seeds, st.integers(1, 3))
@example(1089, 3)  # an account is spelled otherwise, and then removed
@example(6177387, 2)  # a folder is moved, and one who had it goes
@example(
    527,
    2,
    # a folder is moved out of sight of one, where others have a location that only leads to virtual
    # paths
)
@settings(max_examples=110, deadline=None)
def test_changes_of_every_kind(seed, count):
    rng = Random(seed)
    before = random_model(seed)
    changes = [random_change(rng, before) for _ in range(count)]
    try:
        applied = apply(before, changes)
    except (ChangeRefused, NotFound, BadInput, BadDocument):
        assume(False)
    assume(not _entangled(changes))
    check(before, applied.model, changes, applied.renames)


def _entangled(changes):
    """Several renames of folders, or of a folder and its store: what lies where is told in the
    product's tests alone.
    """
    return sum(c["op"] == "rename" and c["kind"] in ("folder", "store") for c in changes) > 1


@given(seeds, seeds)
@settings(max_examples=40, deadline=None)
def test_another_model_altogether(one, other):
    check(random_model(one), random_model(other))


@given(seeds)
@settings(max_examples=20, deadline=None)
def test_nothing_follows_from_nothing(seed):
    model = random_model(seed)
    assert consequences(prepare(model), prepare(model), NOW, Renames()).nothing


def _folded(rows):
    return {tuple(x.casefold() if isinstance(x, str) else x for x in row) for row in rows}


@given(seeds, st.integers(0, 10**9))
@settings(max_examples=50, deadline=None)
def test_what_is_taken_back_is_the_same_turned_round(seed, other):
    """Whoever gains by a change loses it when it is undone: no side is looked at less than the
    other.
    """
    one, two = (
        random_model(seed),
        random_model(other) if other % 3 == 0 else _a_little_changed(seed, other),
    )
    there = consequences(prepare(one), prepare(two), NOW)
    back = consequences(prepare(two), prepare(one), NOW)
    assert (there.come, there.gone) == (back.gone, back.come)
    assert _folded((a, s.endpoint, s.may) for s in there.sign_in for a in s.accounts) == _folded(
        (a, s.endpoint, not s.may) for s in back.sign_in for a in s.accounts
    )
    assert _folded(
        (a, x.location, x.before, x.after) for x in there.leads for a in x.accounts
    ) == _folded((a, x.location, x.after, x.before) for x in back.leads for a in x.accounts)
    assert {(a, x.name) for x in there.settings for a in x.accounts} == {
        (a, x.name) for x in back.settings for a in x.accounts
    }
    assert (there.new_findings, there.mended) == (back.mended, back.new_findings)
    for endpoint in {None, *(c.endpoint for c in (*there.access, *back.access))}:
        gone, come = told_access(there.access, endpoint), told_access(back.access, endpoint)
        for key in {*gone, *come}:
            gained, lost, widened, narrowed = _told_at(gone, key)
            assert (lost, gained, narrowed, widened) == _told_at(come, key), (endpoint, key)


def _told_at(found, key):
    """What is told of a place: what is not told there is as what it lies in."""
    account, location, depth = key
    none = set(), set(), set(), set()
    return next(
        (
            found[account, location, d]
            for d in range(depth, -1, -1)
            if (account, location, d) in found
        ),
        none,
    )


def _a_little_changed(seed, other):
    rng, model = Random(other), random_model(seed)
    changes = [c for c in (random_change(rng, model) for _ in range(3)) if c["op"] != "rename"]
    try:
        return apply(model, changes).model
    except (ChangeRefused, NotFound, BadInput, BadDocument):
        assume(False)


# --- credentials --------------------------------------------------------------------------------

QUAY = {
    "endpoints": [{"name": "quay", "protocol": "sftp", "port": 22}],
    "accounts": [{"name": "ada"}, {"name": "bo"}],
}


@pytest.mark.parametrize(
    ("changes", "told"),
    [
        (
            [
                {"op": "rename", "kind": "account", "name": "ada", "to": "ida"},
                {"op": "rename", "kind": "account", "name": "ida", "to": "ola"},
            ],
            set(),
        ),
        (
            [
                {"op": "rename", "kind": "account", "name": "ada", "to": "ola"},
                {"op": "add", "kind": "account", "item": {"name": "ada"}},
            ],
            set(),
        ),
        (
            [
                {"op": "rename", "kind": "account", "name": "ada", "to": "bo2"},
                {"op": "rename", "kind": "account", "name": "bo", "to": "ada"},
            ],
            set(),
        ),
        ([{"op": "add", "kind": "account", "item": {"name": "ola"}}], set()),
        ([{"op": "remove", "kind": "account", "name": "bo", "everywhere": True}], set()),
        (
            [{"op": "remove", "kind": "account", "name": "ada", "everywhere": True}],
            {("ada", False)},
        ),
    ],
)
def test_credentials_go_with_the_account_that_has_them(changes, told):
    """Ada has a password, Bo nothing; whoever is new has nothing yet."""
    before = read_model(json.dumps({"drawknife": 1, **QUAY}).encode())
    applied = apply(before, changes)
    found = consequences(
        prepare(before),
        prepare(applied.model),
        NOW,
        applied.renames,
        {"ada": frozenset({"password"}), "bo": frozenset()},
    )
    assert {(a, s.may) for s in found.sign_in for a in s.accounts} == told


def test_somebody_new_from_a_directory_signs_in_with_it():
    before = read_model(json.dumps({"drawknife": 1, **QUAY}).encode())
    new = m.Account("thora", source="bureau", methods=("directory",))
    after = replace(before, accounts=(*before.accounts, new))
    found = consequences(
        prepare(before),
        prepare(after),
        NOW,
        None,
        {"ada": frozenset({"password"}), "bo": frozenset()},
    )
    assert {(a, s.may) for s in found.sign_in for a in s.accounts} == {("thora", True)}
