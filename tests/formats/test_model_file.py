"""The model file: read, written, and every mistake told with its place."""

import json
import re
from random import Random

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from drawknife.core.words.quantities import read_duration, read_size, write_duration, write_size
from drawknife.core.words.sizes import show_size
from drawknife.formats.document import BadDocument
from drawknife.formats.model_file import (
    json_schema,
    model_data,
    model_from,
    read_model,
    write_model,
)

from ..conftest import DEMO
from ..core.models import random_model


def mistakes(text):
    with pytest.raises(BadDocument) as caught:
        read_model(text)
    return [str(m) for m in caught.value.mistakes]


def test_the_demo_is_in_canonical_form():
    assert write_model(read_model(DEMO.read_bytes())) == DEMO.read_text()


@given(st.integers(0, 2**32), st.booleans())
@settings(max_examples=60)
def test_what_is_written_is_read_back(seed, as_json):
    model = random_model(seed)
    text = write_model(model, as_json)
    assert read_model(text) == model
    assert write_model(read_model(text), as_json) == text


def test_order_case_and_repetition_do_not_matter():
    one = """drawknife: 1
accounts: [{name: Ada}, {name: bo}]
groups: [{name: G, members: [account:ada, account:bo, account:ADA]}]
stores:
  - name: s
    folders:
      - {path: /b/}
      - {path: /, entries: [allow group:g read, "allow group:G list,download,enter"]}
"""
    other = """drawknife: 1
stores: [{folders: [{path: /, entries: [allow group:G read]}, {path: /b}], name: s}]
groups: [{name: G, members: [account:bo, account:Ada]}]
accounts: [{name: bo}, {name: Ada}]
"""
    assert write_model(read_model(one)) == write_model(read_model(other))


#: Where names stand in a document: in lines, alone, and before the colon of a place.
IN_LINES = {
    "line",
    "entries",
    "grants",
    "members",
    "member",
    "subject",
    "shared_by",
    "never",
    "only",
    "says",
}
ALONE, IN_PLACES = {"owner", "uploads_owner", "unit"}, {"home", "leads_to", "folder"}


def in_other_cases(rng, data, key=None):
    """A document in which whatever is named, but not defined, is written in another case; subjects
    that are gone, too.
    """

    def other(text):
        return "".join(rng.choice([c.upper(), c.lower()]) for c in text)

    if isinstance(data, dict):
        return {k: v if k == "gone" else in_other_cases(rng, v, k) for k, v in data.items()}
    if isinstance(data, list):
        return [in_other_cases(rng, x, key) for x in data]
    if key in IN_LINES:
        return re.sub(r"\b(account|group|unit):([^\s,]+)", lambda x: f"{x[1]}:{other(x[2])}", data)
    if key in ALONE and isinstance(data, str):
        return other(data)
    return re.sub(r"^\w+:", lambda x: other(x[0]), data) if key in IN_PLACES else data


@given(st.integers(0, 2**32), st.randoms())
@example(3, Random(3))  # with lines of what a directory has no more
def test_whatever_case_a_name_is_written_in_it_means_the_same(seed, rng):
    model = random_model(seed)
    assert model_from(in_other_cases(rng, model_data(model))) == model


def test_all_mistakes_are_told_at_once_with_line_key_path_and_nearest():
    found = mistakes("""drawknife: 1
units: [fleet/inshore]
accounts:
  - name: ada
    unit: fleet/inshor
    emial: a@tidewrack.example
  - name: bo bo
  - {name: ADA, enabled: yes, expires: 2031-02-30}
groups:
  - {name: g, members: [account:adda, group:h]}
  - {name: h, members: [group:g]}
stores:
  - name: s
    capacity: many
    folders:
      - path: a/b
      - {path: /a/../b}
      - {path: /c, owner: nobody, entries: [alow anyone read, "allow account:ada raed", allow unit:fleet all beneath]}
virtual_paths:
  - {path: /v, leads_to: "s:/{user}", grants: ["owner read", "anyone read"]}
  - {path: /w, leads_to: "t:/x", grants: []}
endpoints:
  - {name: e, protocol: ftp, port: 70000, passive_ports: 5-3}
""")  # noqa: E501 - lines are counted
    for expected in (
        "line 6: accounts[0].emial: unknown key 'emial'",
        (
            "line 5: accounts[0].unit: there is no unit 'fleet/inshor'; expected the name of a"
            " unit; did you mean 'fleet/inshore'?"
        ),
        "line 7: accounts[1].name: the name holds ' '",
        "line 8: accounts[2].enabled: yes is neither true nor false",
        "line 8: accounts[2].expires: 2031-02-30 is no day",
        "line 8: accounts[2].name: account 'ADA' is there already: accounts[0]",
        (
            "line 10: groups[0].members[0]: there is no account 'adda'; expected the name of an"
            " account; did you mean 'ada'?"
        ),
        "line 10: groups[0].members: the groups form a loop: g > h > g",
        "line 14: stores[0].capacity: 'many' is no size",
        "line 16: stores[0].folders[0].path: the path does not begin with /",
        "line 17: stores[0].folders[1].path: the path has a segment '..'",
        "line 18: stores[0].folders[2].owner: there is no account 'nobody'",
        (
            "line 18: stores[0].folders[2].entries[0]: 'alow' is no effect; expected allow, deny or"
            " forbid"
        ),
        "line 18: stores[0].folders[2].entries[1]: 'raed' is no right and no bundle",
        "line 18: stores[0].folders[2].entries[2]: 'beneath' is no reach",
        "line 20: virtual_paths[0].leads_to: {user} is no placeholder",
        "line 20: virtual_paths[0].grants[0]: 'owner' is no subject",
        "line 21: virtual_paths[1].leads_to: there is no store 't'",
        "line 23: endpoints[0].port: 70000 is out of place",
        "line 23: endpoints[0].passive_ports: 5-3 is no range of ports",
    ):
        assert any(line.startswith(expected) for line in found), (expected, found)
    assert len(found) == 20


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "the document is nothing"),
        ("[]", "the document is a list"),
        ("units: []\ndrawknife: 1", "the first key is 'units'"),
        ("drawknife: 2", "version 2 of the format is not known"),
        ("drawknife: true", "version true of the format is not known"),
        ("drawknife: 1\nunits: 5", "line 2: units: 5 is no list"),
        ("drawknife: 1\nstores: [{name: s}, 7]", "stores[1]: 7 is no mapping"),
        (
            "drawknife: 1\naccounts: [{kind: person}]",
            "line 2: accounts[0]: the key 'name' is missing",
        ),
        ("drawknife: 1\naccounts: [{name: a\nb: 2}", "line"),
        (
            "drawknife: 1\nunits: [a, a: 1, a]",
            "line 2: units[1].a: unknown key 'a'; expected one of path, source",
        ),
        ('{"drawknife": 1, "units": ["a"], "units": []}', "the key 'units' is there twice"),
        ("drawknife: 1\nunits: &x [a]\ngroups: *x", "line 3: aliases are not used here"),
        ("drawknife: 1\nx: !!python/name:os.system y", "line 2: the tag"),
        ("[" * 100_000, "too deep"),
        ("- " * 100_000, "too deep"),
        (b"drawknife: 1\nunits: [\xff]", "line 2: the document is not UTF-8"),
        ("drawknife: 1\naccounts: [{name: anonymous}]", "account 'anonymous' is of kind person"),
        ("drawknife: 1\ngroups: [{name: owner}]", "'owner' is the name of a built-in subject"),
        ('{"drawknife": 1, "accounts": [{"name": "a\\ud800"}]}', "cannot be kept"),
        ("drawknife: 1\nquotas: [{name: q}]", "a quota is either shared or on a folder"),
    ],
)
def test_documents_that_are_no_model(text, said):
    assert any(said in line for line in mistakes(text)), mistakes(text)


def test_a_name_lost_to_a_mistake_is_not_told_as_missing():
    found = mistakes(
        "drawknife: 1\naccounts: [{name: a, kind: 5}]\ngroups: [{name: g, members: [account:a]}]\n"
    )
    assert len(found) == 1 and "kind" in found[0]


def test_the_schema_knows_every_key_of_the_demo():
    def check(data, schema):
        for way in schema.get("anyOf", ()):
            if isinstance(data, dict) == ("properties" in way):
                schema = way
        if isinstance(data, dict):
            for key, value in data.items():
                check(value, schema["properties"][key])
        elif isinstance(data, list):
            for item in data:
                check(item, schema["items"])

    check(json.loads(write_model(read_model(DEMO.read_bytes()), as_json=True)), json_schema())


@given(st.integers(0, 2**63 - 1))
@example(1_023_488)  # 999.5 KiB: three figures of it are a thousand
def test_sizes_are_written_as_they_are_read(size):
    assert "e" not in show_size(size)
    assert read_size(write_size(size)) == size
    assert read_duration(write_duration(size % 10**9)) == size % 10**9


def test_sizes_as_people_write_them():
    assert [read_size(x) for x in ("40 GiB", "40 GB", "7", 7, "1 B", "2KiB")] == [
        40 << 30,
        40 * 10**9,
        7,
        7,
        1,
        2048,
    ]
    assert [write_size(x) for x in (0, 1, 1024, 1000, 1024**4, 40 * 10**9)] == [
        0,
        1,
        "1 KiB",
        "1 KB",
        "1 TiB",
        "40 GB",
    ]
    assert [show_size(x) for x in (0, 1023, 1536, 1000 << 30, 5 << 40)] == [
        "0 B",
        "1023 B",
        "1.5 KiB",
        "1000 GiB",
        "5 TiB",
    ]
