"""What a sync makes of the model, and what it never does; LDIF and its filters; a
second service.
"""

import base64
import json
import threading
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zlib import crc32

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drawknife.core.everybody.findings import findings
from drawknife.core.model import items as m
from drawknife.core.model.soundness import flaws
from drawknife.core.prepared.prepared import prepare
from drawknife.directory.dn import is_below, normal, parent_dn
from drawknife.directory.losses import TooFew
from drawknife.directory.plan import plan
from drawknife.directory.reading import DirectoryContents, Person, read
from drawknife.directory.source import DirectoryFailed, compile_filter, open_source
from drawknife.formats.document import BadDocument
from drawknife.formats.ldif import read_ldif
from drawknife.formats.model_file import read_model, write_model
from drawknife.messages import DirectoryOptions
from drawknife.records.directories import Directory, Secrets, record_sync, save_directory
from drawknife.service.current import Current
from drawknife.service.files import ReadableFolders
from drawknife.service.shared import Shared
from drawknife.service.syncing import _LOCKS, due, sync_alone, sync_within

from ..conftest import DEMO
from ..core.models import random_model

BUREAU = DirectoryOptions(
    address=str(DEMO.parent / "bureau.ldif"),
    people_base="ou=harbour-bureau,dc=tidewrack,dc=example",
    groups_base="dc=tidewrack,dc=example",
    units_base="ou=harbour-bureau,dc=tidewrack,dc=example",
)


def found_in(options=BUREAU):
    return read(open_source(options, None, lambda name: Path(name).read_bytes()), options)


NAMES = ("ada", "bo", "x1", "x2", "x3", "x4")
GROUPS = ("g1", "d1", "d2", "d3")
UNITS = ("fleet", "u", "u/v", "w")


@st.composite
def directories(draw):
    found = DirectoryContents()
    found.units = set(draw(st.sets(st.sampled_from(UNITS))))
    if "u/v" in found.units:
        found.units.add("u")
    subjects = [m.Subject("account", n) for n in NAMES] + [m.Subject("group", g) for g in GROUPS]
    for name in draw(st.sets(st.sampled_from(NAMES))):
        unit = draw(st.sampled_from([None, *sorted(found.units)]))
        found.people[name] = Person(name, draw(st.sampled_from([None, "X"])), None, unit, None)
    for group in draw(st.sets(st.sampled_from(GROUPS))):
        found.groups[group] = set(draw(st.lists(st.sampled_from(subjects), max_size=4))) - {
            m.Subject("group", group)
        }
    return found


def local_part(model):
    return (
        [a for a in model.accounts if a.source != "dir"],
        [g for g in model.groups if g.source != "dir"],
        model.stores,
        model.virtual_paths,
        model.endpoints,
        model.settings,
        model.quotas,
    )


@given(st.integers(0, 10**9), st.lists(directories(), min_size=1, max_size=4))
def test_syncs_leave_what_is_local_and_remove_nobody(seed, states):
    model = random_model(seed)
    for i, found in enumerate(states):
        before = model
        model = plan(before, "dir", found, 100).model
        assert not flaws(model) and local_part(model) == local_part(before)
        assert {a.name for a in before.accounts} <= {a.name for a in model.accounts}
        for account in model.accounts:
            if account.source == "dir":
                assert account.enabled == (account.name in found.people)
        own = {g.name for g in model.groups if g.source == "dir"}
        assert own == found.groups.keys() - {g.name for g in model.groups if g.source != "dir"}
        # Nothing of the directory's groups is local: who bears the name of one of its people is not
        # that one.
        theirs = {a.name for a in model.accounts if a.source == "dir"}
        assert all(
            s.name in theirs
            for g in model.groups
            if g.source == "dir"
            for x in g.members
            if (s := x.subject).kind == "account"
        )
        assert (
            not plan(model, "dir", found, 100).changes
            and plan(model, "dir", found, 100).model == model
        )
        assert read_model(write_model(model)) == model
        if i == 0 and own:
            # Something here comes to name what the directory has; it is kept when that goes.
            named = m.Entry("allow", m.Subject("group", min(own)), 1)
            store = model.stores[0]
            model = model.with_folder(store.name, m.Folder("/named", None, False, (named,)))
        findings(prepare(model))


def test_a_group_that_is_gone_is_kept_by_name_matches_nobody_and_is_a_finding(demo):
    found = found_in()
    synced = plan(demo, "bureau", found, 100).model
    del found.groups["bank-survey"]
    gone = plan(synced, "bureau", found, 100).model
    assert gone.gone == (m.Subject("group", "bank-survey"),)
    assert (
        m.Member(m.Subject("group", "bank-survey"))
        in next(g for g in gone.groups if g.name == "soundings-readers").members
    )
    prepared = prepare(gone)
    assert not any(s.name == "soundings-readers" for s in prepared.account("petra").standing.ranks)
    assert any(f.kind == "dangling-name" and "bank-survey" in f.text for f in findings(prepared))
    back = plan(gone, "bureau", found_in(), 100).model
    assert back == synced
    # One that comes back spelled otherwise is meant by what still names it.
    found.groups["Bank-Survey"] = found_in().groups["bank-survey"]
    other = plan(gone, "bureau", found, 100).model
    assert not other.gone and any(
        s.name == "soundings-readers" for s in prepare(other).account("petra").standing.ranks
    )


def test_too_many_leavers_are_refused_and_can_be_allowed_once(demo):
    found = found_in()
    for name in ("petra", "wanda"):
        del found.people[name]
    with pytest.raises(TooFew, match="3 of 5 people are missing"):
        plan(demo, "bureau", found, 20)
    assert plan(demo, "bureau", found, 60).changes["accounts switched off"] == [
        "jonas",
        "petra",
        "wanda",
    ]
    found = found_in()
    found.groups.clear()
    with pytest.raises(TooFew, match="2 of 2 groups"):
        plan(demo, "bureau", found, 20)


def test_a_unit_that_somebody_here_is_in_stays_as_a_local_one(demo):
    synced = plan(demo, "bureau", found_in(), 100).model
    moved = replace(
        synced,
        accounts=tuple(
            replace(a, unit="harbour-bureau/records") if a.name == "refa" else a
            for a in synced.accounts
        ),
    )
    found = found_in()
    found.units.discard("harbour-bureau/records")
    for name, person in list(found.people.items()):
        found.people[name] = replace(person, unit=None)
    after = plan(moved, "bureau", found, 100)
    assert after.changes["units made local"] == ["harbour-bureau/records"]
    assert (
        next(a for a in after.model.accounts if a.name == "refa").unit == "harbour-bureau/records"
    )


# --- names, filters, LDIF -----------------------------------------------------------------------


@pytest.mark.parametrize(
    ("one", "other"),
    [
        ("UID=Ada, OU=People,dc=x", "uid=ada,ou=people,dc=x"),
        ("cn=a\\, b,dc=x", "cn=a\\2C b,dc=x"),
        ("cn=\\C3\\86gir,dc=x", "cn=ægir,dc=x"),
        ('cn=\\"q\\"\\+,dc=x', "cn=\\22q\\22\\2b,dc=x"),
    ],
)
def test_names_that_are_written_differently_are_the_same(one, other):
    assert normal(one) == normal(other) and parent_dn(normal(one)).endswith("dc=x")
    assert is_below(normal(one), "dc=x") and not is_below(normal(one), "dc=y")


ATTRIBUTES = {
    "uid": [b"Ada"],
    "objectclass": [b"person", b"inetOrgPerson"],
    "mail": [b"ada@tidewrack.example"],
}


@pytest.mark.parametrize(
    ("text", "holds"),
    [
        ("(uid=ADA)", True),
        ("(uid=ad)", False),
        ("(uid=a*a)", True),
        ("(mail=*@tidewrack*)", True),
        ("(mail=*x*y*)", False),
        ("(&(objectClass=person)(!(uid=bo)))", True),
        ("(|(uid=bo)(telephoneNumber=*))", False),
        ("(mail=*)", True),
        ("(uid=\\41da)", True),
    ],
)
def test_filters_on_a_file(text, holds):
    assert compile_filter(text)(ATTRIBUTES) is holds


@pytest.mark.parametrize("text", ["", "uid=ada)", "(&(uid=ada)", "(uid)", "(uid>=1)"])
def test_filters_that_are_none_are_told(text):
    with pytest.raises(DirectoryFailed):
        compile_filter(text)(ATTRIBUTES)


@given(
    st.lists(
        st.tuples(st.sampled_from(["cn", "mail", "x-y"]), st.binary(max_size=120)), max_size=6
    ),
    st.integers(20, 90),
)
def test_ldif_is_read_as_it_was_written(values, width):
    text = "version: 1\r\n# a comment\r\n that goes on\r\ndn: uid=ada,dc=x\n"
    expected = {}
    for name, value in values:
        line = f"{name}:: {base64.b64encode(value).decode()}"
        text += (
            line[:width]
            + "".join("\n " + line[i : i + width] for i in range(width, len(line), width))
            + "\n"
        )
        expected.setdefault(name, []).append(value)
    (record,) = read_ldif(text.encode().splitlines(keepends=True))
    assert record.dn == "uid=ada,dc=x" and record.attributes == expected


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("version: 2\n", "line 1: this version of LDIF"),
        ("dn: a=b\nnonsense\n", "line 2"),
        ("cn: x\n", "a record does not begin with its name"),
        ("dn: a=b\nchangetype: delete\n", "changes"),
        ("dn: a=b\njpegPhoto:< file:///etc/passwd\n", "are not read"),
        ("dn: a=b\ncn:: %%%\n", "no base64"),
        (" x\n", "continuation of nothing"),
    ],
)
def test_what_is_no_ldif_is_told_with_its_line(text, said):
    with pytest.raises(BadDocument) as bad:
        list(read_ldif(text.encode().splitlines(keepends=True)))
    assert said in str(bad.value)


# --- intervals ----------------------------------------------------------------------------------


def test_of_several_services_one_syncs_what_is_due(database, tmp_path):
    options = {**BUREAU.model_dump(), "interval": 3600}
    with database.transaction() as connection:
        save_directory(connection, Directory("bureau", options, None))
        save_directory(connection, Directory("by-hand", BUREAU.model_dump(), None))
    one, other = (
        Current(database, Secrets(None), ReadableFolders((Path("/"),)), Shared()) for _ in range(2)
    )
    directory = Directory("bureau", options, None)
    assert not due(one) and not sync_alone(one, directory)  # the first waits for a person
    assert sync_within(one, directory, "ada", None).state == "done"
    hour_ago = datetime.now(UTC) - timedelta(hours=1)
    with database.connection() as connection:
        connection.execute("UPDATE syncs SET at = %s", (hour_ago,))
    assert [d.name for d in due(one)] == ["bureau"]
    with database.connection() as connection:
        # While another is at it, it is left alone.
        lock = (_LOCKS, crc32(b"bureau") - 2**31)
        connection.execute("SELECT pg_advisory_lock(%s, %s::int)", lock)
        assert not sync_alone(other, directory)
        connection.execute("SELECT pg_advisory_unlock(%s, %s::int)", lock)
    assert sync_alone(other, directory) and len(other.snapshot().model.accounts) == 6
    assert not due(one) and not sync_alone(one, directory)
    # When the hour is over, it is due again.
    with database.connection() as connection:
        connection.execute("UPDATE syncs SET at = at - interval '1 hour'")
    assert [d.name for d in due(one)] == ["bureau"]
    record_sync(database, "bureau", "x", False, None, json.dumps({}))
    assert not due(one)


def test_of_several_processes_that_begin_at_once_one_makes_the_key_for_all(tmp_path):
    key_file = tmp_path / "deep" / "key"
    began = threading.Barrier(8)

    def begin(_):
        began.wait()
        return Secrets(key_file)

    with ThreadPoolExecutor(8) as pool:
        made = list(pool.map(begin, range(8)))
    kept = made[0].encrypt("keel")
    assert [x.decrypt(kept) for x in made] == ["keel"] * 8
    assert [f.name for f in key_file.parent.iterdir()] == [
        "key"
    ] and key_file.stat().st_mode & 0o777 == 0o600
