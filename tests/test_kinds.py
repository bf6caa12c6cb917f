"""Every field of every kind of item goes everywhere: what is declared once is nowhere forgotten."""

import json
from dataclasses import fields as dataclass_fields
from dataclasses import replace

import pytest
from tools.description import kinds, openapi
from tools.reference import PAGE, page

from drawknife.changing import apply
from drawknife.cli.changing import options_of
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.difference import differing
from drawknife.core.model.fields import REQUIRED
from drawknife.core.model.kinds import EVERY, KINDS, NETWORK, OF_A_DIRECTORY, SECTIONS, SETTING
from drawknife.core.model.removal import references
from drawknife.formats.model_file import change_data, json_schema, read_model, write_model
from drawknife.records.changes import replace_model
from drawknife.records.database import Database, bring_up_to_date
from drawknife.records.journal import read_line
from drawknife.records.snapshots import read_snapshot

#: A value for every field that is not the one by default, as the model file has it.
VALUES = {
    "account": {
        "kind": "service",
        "display": "Ada",
        "mail": "ada@example.org",
        "unit": "fleet",
        "home": "s:/homes/ada",
        "enabled": False,
        "expires": "2031-04-30",
        "methods": ["key"],
        "source": "bureau",
        "source_id": "b-1",
        "note": "why",
    },
    "group": {
        "members": [{"member": "account:ida", "until": "2031-04-30", "note": "why"}],
        "source": "bureau",
        "source_id": "b-2",
        "note": "why",
    },
    "store": {
        "root": "/srv/x",
        "baseline": "open",
        "capacity": "8 TiB",
        "creation_mode": "0660 0770",
        "note": "why",
    },
    "folder": {
        "owner": "ida",
        "sealed": True,
        "entries": [{"line": "allow account:ida all here", "until": "2031-04-30", "note": "why"}],
        "note": "why",
    },
    "virtual-path": {
        "leads_to": "s:/x",
        "listing": "all",
        "grants": [{"line": "account:ida read", "until": "2031-04-30", "note": "why"}],
        "note": "why",
    },
    "endpoint": {
        "protocol": "ftp",
        "address": "192.0.2.9",
        "port": 2121,
        "passive_ports": "4000-4009",
        "tls": "required",
        "host_names": ["a.example"],
        "enabled": False,
        "entries": [{"line": "deny account:ida all", "until": "2031-04-30", "note": "why"}],
        "never": ["account:ida"],
        "only": ["group:crew"],
        "certificate": "c.pem",
        "certificate_key": "k.pem",
        "note": "why",
    },
    "setting": {
        "quota_bytes": "1 GiB",
        "quota_files": 9,
        "upload_limit": "2 GiB",
        "rate_up": 1000,
        "rate_down": "unlimited",
        "sessions": 3,
        "idle_timeout": 60,
        "require_tls": True,
        "methods": ["key"],
        "addresses": ["allow 192.0.2.0/24"],
        "hours": ["mon-fri 06:00-20:00"],
        "landing": "/x",
        "greeting": "Hello",
        "uploads_owner": "ida",
        "acts_as": "u-{account}",
        "note": "why",
    },
    "quota": {
        "shared_by": ["account:ida"],
        "hard_bytes": "1 GiB",
        "soft_bytes": 1,
        "hard_files": 9,
        "soft_files": 1,
        "grace": "7 days",
        "bytes_over_since": "2026-11-20T08:00:00+00:00",
        "files_over_since": "2026-11-20T08:00:00+00:00",
        "note": "why",
    },
    "lockout": {"failures": 5, "within": "10 minutes", "lasts": "30 minutes", "note": "why"},
    "promise": {
        "says": "only group:crew may read at s:/x tree through quay",
        "kept": "always",
        "note": "why",
    },
    "trial": {
        "as": "ida",
        "at": "quay",
        "from": "192.0.2.9",
        "tls": True,
        "method": "key",
        "when": "2026-11-20T08:00:00+00:00",
        "steps": ["upload /v/a: yes", "delete-file /v/a of ida: no, by folder"],
        "note": "why",
    },
    "disk-reading": {
        "taken": "2026-11-20T08:00:00+00:00",
        "confined": True,
        "above": ["0:0 0755 /"],
        "odd": 1,
        "notes": ["1 link"],
        "folders": [
            "0:7 2755 acl=u::rwx,u:9:r-x,g::r-x,m::r-x,o::--- default=u::rwx,g::r-x,o::--- /"
        ],
        "files": ["3 of 9:7 0640 in /"],
        "users": ["ada 9 7,8"],
        "groups": ["crew 7"],
        "absent": ["/x/gone"],
        "unknown": ["mount /x/other"],
        "empty": ["/x/bare"],
        "complete": True,
    },
    "descriptor-reading": {
        "taken": "2026-11-20T08:00:00+00:00",
        "folders": ["O:BAD:PAI(A;OICI;FA;;;WD) /"],
        "names": [{"line": "S-1-5-21-1-2-3-1101 account:ida", "note": "why"}],
        "notes": ["1 entry"],
    },
    "usage": {"folder": "s:/x", "owner": "ida", "bytes": "1 KiB", "files": 2},
}
KEYS = {
    "account": "ada",
    "group": "crew",
    "store": "s",
    "folder": "/x",
    "virtual-path": "/v",
    "endpoint": "quay",
    "setting": "account:ida",
    "quota": "pool",
    "lockout": "account",
    "promise": "inside",
    "trial": "a crew's day",
    "disk-reading": "s",
    "descriptor-reading": "s",
}


def document():
    data = {"drawknife": 1, "units": [{"path": "fleet", "note": "why"}]}
    for section, kind in SECTIONS.items():
        key = {kind.fields[0].name: KEYS[kind.name]} if kind.name in KEYS else {}
        data[section] = [{**key, **VALUES[kind.name]}]
    data["accounts"].append({"name": "ida"})
    data["stores"][0]["folders"] = [{"path": "/x", **VALUES["folder"]}]
    data["quotas"].append({"name": "shelf", "folder": "s:/x"})
    return data


@pytest.fixture(scope="module")
def model():
    return read_model(json.dumps(document()))


def test_every_field_has_a_value_here():
    for kind in EVERY:
        if kind.name != "unit":
            declared = {f.name for f in kind.fields} - (
                {kind.fields[0].name} if kind.name in KEYS else set()
            )
            # A quota is shared or on a folder: two of them have both.
            assert declared - VALUES[kind.name].keys() <= {"folder"}, kind.name


def test_what_is_declared_is_what_the_items_hold():
    for kind in EVERY:
        if kind.name not in ("unit", "setting"):
            held = {f.name for f in dataclass_fields(kind.make)} - (
                {"folders"} if kind.name == "store" else set()
            )
            assert held == {kind.attribute(f.name) for f in kind.fields}, kind.name
            defaults = {f.name: f.default for f in dataclass_fields(kind.make)}
            for field in kind.fields:
                if (
                    field.default is not REQUIRED and kind.name != "usage"
                ):  # whose owner is left out in the file alone
                    assert defaults[kind.attribute(field.name)] == field.default, (
                        kind.name,
                        field.name,
                    )


def test_the_file(model):
    written = json.loads(write_model(model, as_json=True))
    assert read_model(write_model(model)) == model
    for section, kind in SECTIONS.items():
        item = written[section][0]
        assert {f.name for f in kind.fields} - item.keys() <= {"folder"} and item.keys() >= VALUES[
            kind.name
        ].keys()
    described = json_schema()["properties"]
    for section, kind in SECTIONS.items():
        assert {f.name for f in kind.fields} <= described[section]["items"]["properties"].keys()


def test_the_database_and_the_journal(model, cluster):
    address = cluster.create_database("kinds")
    bring_up_to_date(address)
    database = Database(address)
    database.open()
    replace_model(database, model, "ada", "load")
    assert read_snapshot(database).model == model
    empty = sound(m.Model())
    before = read_snapshot(database)
    gone = replace_model(database, empty, "ada", "load", before=before)
    line = read_line(database, gone.revision, 1000)
    told = {(section, name): was for section, name, was, _ in line.items}
    for d in differing(model, empty):
        assert told[d.section, d.name] == json.loads(json.dumps(change_data(d.section, d.before)))
    for section, kind in SECTIONS.items():
        assert VALUES[kind.name].keys() <= set().union(
            *(told[s, n].keys() for s, n in told if s == section)
        ), section
    assert read_snapshot(database).model == empty
    database.close()


@pytest.mark.parametrize(
    ("kind", "old", "new"),
    [
        ("account", "ida", "ira"),
        ("group", "crew", "watch"),
        ("unit", "fleet", "boats"),
        ("store", "s", "z"),
    ],
)
def test_a_rename_carries_along_every_field_that_names_it(model, kind, old, new):
    local = sound(
        replace(
            model,
            accounts=tuple(replace(a, source="local", source_id=None) for a in model.accounts),
            groups=tuple(replace(g, source="local", source_id=None) for g in model.groups),
        )
    )
    after = apply(local, [{"op": "rename", "kind": kind, "name": old, "to": new}]).model
    assert list(references(local, kind, {old})) and not list(references(after, kind, {old}))
    told = write_model(local), write_model(after)
    colon = {"store": f"{old}:/", "unit": f"unit: {old}"}.get(kind, f"{kind}:{old}")
    assert colon in told[0] and colon not in told[1]


def test_a_removal_strikes_out_every_line_that_names_it(model):
    after = apply(
        model, [{"op": "remove", "kind": "account", "name": "ida", "everywhere": True}]
    ).model
    assert "ida" not in write_model(after)
    # A list that narrows stays, and what was there of others.
    assert [str(s) for s in after.endpoints[0].only] == ["group:crew"] and after.endpoints[
        0
    ].entries == ()
    assert [q.name for q in after.quotas] == ["pool", "shelf"] and after.settings == ()


def test_the_api_the_commands_and_the_consoles_forms():
    allowed = openapi()["components"]["schemas"]["Change"]["properties"]["kind"]["enum"]
    assert allowed == [*KINDS, NETWORK]
    forms = kinds()["kinds"]
    for kind in KINDS.values():
        assert [f["name"] for f in forms[kind.name]["fields"]] == [f.name for f in kind.fields]
        if kind.name != "unit":
            options = {
                p.name for p in options_of(kind.name, changing=True)(lambda: None).__click_params__
            }
            for field in kind.fields:
                if field.name not in ("name", *OF_A_DIRECTORY):
                    assert {field.name, f"add_{field.name}"} & options, (kind.name, field.name)
                assert field.word or not field.many, (
                    f"{field.name} has no word for one of its lines"
                )
    assert set(kinds()["units"]) <= {f.name for f in SETTING.fields}


def test_the_reference_page_is_current():
    assert PAGE.read_text() == page(), "write it anew with python -m tools.reference"
