"""The part of a model that an area shows: about its accounts all is as in the whole, and of the
others there are names.
"""

from dataclasses import replace
from datetime import UTC, datetime
from random import Random

from hypothesis import assume, given, settings
from hypothesis import strategies as st

from drawknife.answers import Answering
from drawknife.core.decide.gates import verdict
from drawknife.core.everybody.shown import shown
from drawknife.core.model.areas import parse_area
from drawknife.core.model.canonical import sound
from drawknife.core.model.soundness import flaws
from drawknife.core.prepared.prepared import prepare
from drawknife.formats.model_file import read_model

from ..disk.test_everybody import random_model as random_disks
from .models import random_model, random_questions
from .test_areas import PARTS, in_places, in_units

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
seeds = st.integers(0, 2**32)


def parted(seed):
    """A random model, an area, the accounts of the area, and what it shows."""
    model = random_model(seed)
    rng = Random(f"area {seed}")
    area = sorted(rng.sample(PARTS, rng.randint(1, 3)))
    inside = [a.name for a in model.accounts if in_units(area, a.unit)]
    return model, area, inside, shown(prepare(model), parse_area(area), NOW.date())


@given(seeds)
@settings(max_examples=200)
def test_part_is_a_sound_model_and_shows_itself(seed):
    _, area, inside, part = parted(seed)
    assert not flaws(part)
    assert sound(part) == part
    assert set(inside) <= {a.name for a in part.accounts}
    assert shown(prepare(part), parse_area(area), NOW.date()) == part


@given(seeds)
@settings(max_examples=200)
def test_every_decision_about_an_account_of_the_area_is_the_same(seed):
    model, _, inside, part = parted(seed)
    assume(inside)
    whole, seen, known = prepare(model), prepare(part), {a.name for a in part.accounts}
    endpoints = {e.name.casefold() for e in part.endpoints}
    for question in random_questions(seed, model, 60):
        question = replace(question, account=inside[seed % len(inside)], at=NOW)
        if question.owner is not None and question.owner not in known:
            question = replace(question, owner=None)
        if question.endpoint is not None and question.endpoint.casefold() not in endpoints:
            # Nothing of that endpoint matches the account: it cannot come in there.
            assert not verdict(whole, question, NOW).allowed
            continue
        one, other = verdict(whole, question, NOW), verdict(seen, question, NOW)
        assert (one.allowed, one.gate, one.reason) == (other.allowed, other.gate, other.reason), (
            question
        )


@given(seeds)
@settings(max_examples=200)
def test_access_of_an_account_of_the_area_is_the_same(seed):
    model, _, inside, part = parted(seed)
    whole, seen = Answering(prepare(model), 1, NOW), Answering(prepare(part), 1, NOW)
    for name in inside:
        every = {row.location: row for row in whole.access(name).rows}
        told = {row.location: row for row in seen.access(name).rows}
        assert told.items() <= every.items()
        assert all(set(every[at].rights.values()) == {"no"} for at in every.keys() - told.keys())
        assert seen.standing(name) == whole.standing(name)
        assert [w.group for w in seen.ways(name).groups] == [
            w.group for w in whole.ways(name).groups
        ]
        for location in told:
            try:
                room = whole.headroom(name, location)
            except Exception as error:
                assert type(error).__name__ == "BadInput"
                continue
            assert seen.headroom(name, location) == room


@given(seeds)
@settings(max_examples=300)
def test_of_other_accounts_there_are_the_names_that_stand_in_lines_of_the_area(seed):
    model, area, inside, part = parted(seed)
    owners = {dict(s.values).get("uploads_owner") for s in part.settings}
    for account in model.accounts:
        if account.name in inside or account.name in owners:
            continue
        assert account.name not in {a.name for a in part.accounts}
        if any(s.kind == "account" and s.name == account.name for s in part.gone):
            assert stands_in_a_line(model, area, account.name), (area, account.name)


def stands_in_a_line(model, area, name):
    """Does a line of the area, or one that comes down to it, name an account?"""
    called = f"account:{name}"
    tops = [x.replace("store:", "") + (":/" if x.startswith("store:") else "") for x in area]
    for store in model.stores:
        for folder in store.folders:
            here = f"{store.name}:{folder.path.rstrip('/')}/"
            counts = in_places(area, store.name, folder.path) or any(
                f"{top}/".startswith(here) for top in tops
            )
            if counts and (
                name == folder.owner or called in [str(e.subject) for e in folder.entries]
            ):
                return True
    places = [(v, v.leads_to.partition(":")) for v in model.virtual_paths]
    lines = [
        g.subject
        for v, (store, _, path) in places
        if "{" in path or in_places(area, store, path)
        for g in v.grants
    ]
    lines += [m.subject for g in model.groups if f"group:{g.name}" in area for m in g.members]
    lines += [s for q in model.quotas if q.folder is not None for s in q.shared_by]
    if called in map(str, lines):
        return True
    return any(
        u.owner == name and in_places(area, u.folder.store, u.folder.path) for u in model.usage
    )


@given(seeds)
@settings(max_examples=60)
def test_what_a_disk_lets_an_account_of_the_area_is_the_same(seed):
    rng = Random(seed)
    model = random_disks(rng)
    inside = {a.name for a in model.accounts if rng.random() < 0.4}
    model = sound(
        replace(
            model,
            units=("fleet", "shore"),
            accounts=tuple(
                replace(a, unit="fleet" if a.name in inside else "shore") for a in model.accounts
            ),
        )
    )
    part = shown(
        prepare(model), parse_area(["unit:fleet", rng.choice(["s:/d", "s:/a/b"])]), NOW.date()
    )
    assert sound(part) == part
    whole, seen = (Answering(prepare(m), 1, NOW, seen=lambda _: None) for m in (model, part))
    for name in inside:
        assert {r.location: r.rights for r in seen.access(name).rows}.items() <= {
            r.location: r.rights for r in whole.access(name).rows
        }.items()
        for location in ("/", "/a", "/a/b", "/d/e", "/in/x", "/f"):
            for action in ("enter", "list", "download", "upload", "make-folder"):
                path = location if action in ("enter", "list") else location.rstrip("/") + "/z"
                asked = {"account": name, "action": action, "path": path, "explain": True}
                assert decided(seen, asked) == decided(whole, asked)


def decided(asked, question):
    found = asked.decide(question)
    return found["allowed"], found["gate"], found["reason"]


def test_what_is_outside_is_not_there():
    model = read_model("""drawknife: 1
units: [fleet, hidden-unit]
accounts:
- {name: ines, unit: fleet}
- {name: hidden-one, unit: hidden-unit, mail: hidden@example.org}
- {name: odile, unit: hidden-unit}
groups:
- {name: crew, members: ['account:ines', 'account:hidden-one', 'group:hidden-group']}
- {name: hidden-group, members: ['account:hidden-one']}
stores:
- name: survey
  folders:
  - {path: /, entries: [allow unit:fleet look here, allow account:hidden-one all here]}
  - {path: /hidden-folder, entries: [allow account:hidden-one all]}
  - {path: /inbox, owner: odile, entries: [allow group:crew change]}
- {name: hidden-store}
virtual_paths:
- {path: /survey, leads_to: 'survey:/', grants: [signed-in all, account:hidden-one all]}
- {path: /hidden-path, leads_to: 'hidden-store:/', grants: [account:hidden-one all]}
endpoints:
- {name: front, protocol: sftp, port: 22, never: ['account:hidden-one']}
- {name: hidden-door, protocol: sftp, port: 2222, entries: [allow account:hidden-one all]}
settings:
- {for: 'account:hidden-one', sessions: 2}
quotas:
- {name: hidden-quota, shared_by: ['account:hidden-one'], hard_bytes: 1 GiB}
- {name: of-all, shared_by: [signed-in], hard_bytes: 100}
usage:
- {folder: 'survey:/hidden-folder', owner: hidden-one, bytes: 60, files: 1}
promises:
- {name: hidden-promise, says: nobody in account:hidden-one may read at survey:/inbox}
- {name: for-all, says: only unit:fleet may read at survey:/inbox}
- {name: for-fleet, says: nobody in unit:fleet may delete-file at survey:/inbox}
""")
    part = shown(prepare(model), parse_area(["unit:fleet", "survey:/inbox"]), NOW.date())
    assert "hidden" not in repr(part)
    assert [str(s) for s in part.gone] == ["account:odile"]
    assert [p.name for p in part.promises] == ["for-fleet"]
    assert [str(m) for m in part.groups[0].members] == ["account:ines"]
    room = Answering(prepare(part), 1, NOW).headroom("ines", "/survey/inbox")
    assert room.bytes == 40
