"""The way in: reach, lists, hours, lockout, sessions; addresses against the standard library."""

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address, ip_network

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drawknife.changing import apply
from drawknife.core.decide.gates import verdict
from drawknife.core.decide.way_in import reach, without
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.edits import rename
from drawknife.core.model.endpoints import read_address
from drawknife.core.model.removal import remove
from drawknife.core.model.values import forwarding, opening
from drawknife.core.prepared.lockout import Attempt, counting
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.prepared.settings import admits
from drawknife.core.words.hours import read_hours, within
from drawknife.core.words.names import BadValue
from drawknife.formats.document import BadDocument
from drawknife.formats.model_file import read_model, write_model

NOW = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)  # a Monday
ports = st.integers(1, 40)
ranges = st.tuples(ports, ports).map(lambda p: (min(p), max(p)))


@given(ranges, st.lists(ranges, max_size=5))
def test_what_is_left_of_a_range_of_ports(wanted, covered):
    left = {p for a, b in without(wanted, covered) for p in range(a, b + 1)}
    assert left == {
        p for p in range(wanted[0], wanted[1] + 1) if not any(a <= p <= b for a, b in covered)
    }


def networks(version):
    bits = 32 if version == 4 else 128
    # Few distinct ones, so that they nest and meet: the top bits vary, and the prefix lengths.
    return st.tuples(st.integers(0, 15), st.integers(0, bits)).map(
        lambda t: ip_network(
            ((t[0] << (bits - 4)) >> (bits - t[1]) << (bits - t[1]) if t[1] else 0, t[1])
        )
    )


@pytest.mark.parametrize("version", [4, 6])
@given(st.data())
def test_address_lines_are_decided_as_by_a_plain_scan(version, data):
    both = networks(version) | networks(10 - version)
    lines = data.draw(st.lists(st.tuples(st.sampled_from(["allow", "deny"]), both), max_size=6))
    bits = 32 if version == 4 else 128
    top, rest = data.draw(st.integers(0, 15)), data.draw(st.integers(0, 3))
    client = ip_address((top << (bits - 4) | rest).to_bytes(bits // 8, "big"))
    holding = [
        (n.prefixlen, word) for word, n in lines if n.version == client.version and client in n
    ]
    if holding:
        longest = max(length for length, _ in holding)
        expected = all(word == "allow" for length, word in holding if length == longest)
    else:
        expected = not any(word == "allow" for word, _ in lines)
    assert admits(tuple(f"{word} {n}" for word, n in lines), client) is expected


def model(**more):
    endpoint = m.Endpoint(
        "e",
        "ftp",
        2121,
        "192.0.2.10",
        (40000, 40009),
        "optional",
        entries=(m.parse_entry("allow anyone all", at_endpoint=True),),
    )
    return m.Model(
        units=("u",),
        accounts=(m.Account("ada", unit="u"), m.Account("bo")),
        groups=(m.Group("g", (m.Member(m.Subject("account", "ada")),)),),
        endpoints=(replace(endpoint, **more.pop("endpoint", {})),),
        **more,
    )


OPEN = ("198.51.100.5 2121 from 0.0.0.0/0", "198.51.100.5 40000-40009 from 0.0.0.0/0")
FORWARD = (
    "198.51.100.5 2121 to 192.0.2.10 2121",
    "198.51.100.5 40000-40009 to 192.0.2.10 40000-40009",
)


@pytest.mark.parametrize(
    ("openings", "forwardings", "client", "expected", "said"),
    [
        (OPEN, FORWARD, "203.0.113.9", (False, True, True), ""),
        (
            OPEN,
            FORWARD[:1],
            "203.0.113.9",
            (False, True, False),
            "port 2121 leads to e, and the passive range 40000-40009 does not",
        ),
        (
            OPEN[:1],
            FORWARD,
            "203.0.113.9",
            (False, True, False),
            "no opening lets 203.0.113.9 come to the passive range 40000-40009 of 198.51.100.5",
        ),
        (OPEN, (), "203.0.113.9", (False, False, False), "nothing leads from outside to port 2121"),
        (
            (),
            FORWARD,
            "203.0.113.9",
            (False, False, False),
            "no opening lets 203.0.113.9 come to port 2121 of 198.51.100.5",
        ),
        (OPEN, FORWARD, "192.0.2.77", (True, True, True), ""),
        (OPEN, FORWARD, "2001:db8::1", (False, False, False), "no opening lets 2001:db8::1"),
        (
            OPEN,
            (FORWARD[0], "198.51.100.5 40000-40004 to 192.0.2.10 40000-40004"),
            "203.0.113.9",
            (False, True, False),
            "40005-40009",
        ),
        (
            OPEN,
            (FORWARD[0], "198.51.100.5 40000-40009 to 192.0.2.10 41000-41009"),
            "203.0.113.9",
            (False, True, False),
            "passive",
        ),
        (
            ("192.0.2.10 2121 from 203.0.113.0/24", "192.0.2.10 40000-40009 from 203.0.113.9/32"),
            (),
            "203.0.113.9",
            (False, True, True),
            "",
        ),
        (
            ("192.0.2.10 2121 from 203.0.113.0/24", "192.0.2.10 40000-40009 from 203.0.113.9/32"),
            (),
            "203.0.113.8",
            (False, True, False),
            "no opening lets 203.0.113.8 come to the passive range",
        ),
    ],
)
def test_reach(openings, forwardings, client, expected, said):
    made = model(
        inside=("192.0.2.0/24",),
        openings=tuple(map(opening, openings)),
        forwardings=tuple(map(forwarding, forwardings)),
    )
    found = reach(made, made.endpoints[0], ip_address(client))
    assert (found.inside, found.control, found.data) == expected and said in "; ".join(
        found.missing
    )
    assert bool(found.missing) == (not (found.control and found.data))


def refusal(made, account="ada", at=NOW, **facts):
    made = sound(made)
    answer = verdict(prepare(made), Question(account, "sign-in", endpoint="e", at=at, **facts), NOW)
    return answer.reason if not answer.allowed else None


def subjects(*texts):
    return tuple(map(m.parse_subject, texts))


@pytest.mark.parametrize(
    ("never", "only", "expected"),
    [
        ((), None, None),
        (("group:g",), None, "never-admitted"),
        ((), ("unit:u",), None),
        ((), ("account:bo",), "not-among-only"),
        (("anyone",), ("account:ada",), "never-admitted"),
        (("account:bo",), None, None),
        ((), (), "not-among-only"),
    ],
)
def test_lists_of_an_endpoint_deny_wins_and_an_empty_only_admits_nobody(never, only, expected):
    made = model(endpoint={"never": subjects(*never), "only": only and subjects(*only)})
    assert refusal(made if only != () else model(endpoint={"only": ()})) == expected


def test_removing_the_last_name_of_a_narrowing_list_lets_nobody_in():
    """An account removed everywhere leaves `only` empty, and so the endpoint shut; a rename carries
    the name along.
    """
    made = sound(
        model(
            endpoint={"only": subjects("account:bo")},
            quotas=(m.Quota("q", subjects("account:bo"), hard_bytes=5),),
        )
    )
    left = remove(made, "account", ["bo"], everywhere=True)
    assert left.endpoints[0].only == () and refusal(left) == "not-among-only"
    assert left.quotas[0].shared_by == ()
    assert read_model(write_model(left)) == left, "an empty list is written, and read as it was"
    renamed = rename(made, "account", [("bo", "bob")])
    assert renamed.endpoints[0].only == subjects("account:bob")
    emptied = apply(
        made, [{"op": "change", "kind": "endpoint", "name": "e", "drop": {"only": ["account:bo"]}}]
    )
    assert emptied.model.endpoints[0].only == () and "nobody is admitted" in emptied.notes[0]
    cleared = apply(
        made, [{"op": "change", "kind": "endpoint", "name": "e", "set": {"only": None}}]
    )
    assert cleared.model.endpoints[0].only is None and refusal(cleared.model) is None


def test_a_setting_whose_last_line_is_dropped_is_set_no_more_and_that_is_told():
    made = sound(
        model(
            settings=(m.Setting(m.Subject("account", "ada"), (("hours", ("mon 01:00-02:00",)),)),)
        )
    )
    assert refusal(made) == "outside-hours"
    left = apply(
        made,
        [
            {
                "op": "change",
                "kind": "setting",
                "name": "account:ada",
                "drop": {"hours": ["mon 01:00-02:00"]},
            }
        ],
    )
    assert left.model.settings == () and refusal(left.model) is None
    assert left.notes == (
        "hours of account:ada: no line is left, so it is set no more and narrows nothing",
    )
    for key in ("hours", "addresses", "methods"):
        with pytest.raises(BadDocument, match=f"an empty list of {key} cannot be written"):
            apply(
                made, [{"op": "change", "kind": "setting", "name": "account:ada", "set": {key: []}}]
            )


@pytest.mark.parametrize(
    ("endpoint", "openings", "forwardings", "client", "expected"),
    [
        # A forwarding of another port says nothing of this one.
        (
            {
                "protocol": "sftp",
                "port": 22,
                "address": "198.51.100.5",
                "passive_ports": None,
                "tls": None,
            },
            ("198.51.100.5 22 from 0.0.0.0/0",),
            ("198.51.100.5 80 to 192.0.2.9 80",),
            "203.0.113.9",
            (True, True),
        ),
        # The very port is forwarded elsewhere: it is not its own.
        (
            {
                "protocol": "sftp",
                "port": 22,
                "address": "198.51.100.5",
                "passive_ports": None,
                "tls": None,
            },
            ("198.51.100.5 22 from 0.0.0.0/0",),
            ("198.51.100.5 22 to 192.0.2.9 22",),
            "203.0.113.9",
            (False, False),
        ),
        # Without a passive range any port from 1024 up may be taken.
        (
            {"passive_ports": None},
            (OPEN[0], "198.51.100.5 1024-65535 from 0.0.0.0/0"),
            (FORWARD[0], "198.51.100.5 1024-65535 to 192.0.2.10 1024-65535"),
            "203.0.113.9",
            (True, True),
        ),
        (
            {"passive_ports": None},
            (OPEN[0], "198.51.100.5 1024-65535 from 0.0.0.0/0"),
            (FORWARD[0], "198.51.100.5 1025-65535 to 192.0.2.10 1025-65535"),
            "203.0.113.9",
            (True, False),
        ),
        ({"passive_ports": None}, OPEN, FORWARD, "192.0.2.77", (True, True)),
        # Data that goes to another address inside than control does not come through.
        (
            {"address": "0.0.0.0"},
            OPEN,
            (FORWARD[0], "198.51.100.5 40000-40009 to 192.0.2.11 40000-40009"),
            "203.0.113.9",
            (True, False),
        ),
        # Addresses and networks of IPv4 that are written as those of IPv6.
        (
            {},
            (
                "::ffff:198.51.100.5 2121 from ::ffff:203.0.113.0/120",
                "198.51.100.5 40000-40009 from ::ffff:0:0/96",
            ),
            ("::ffff:198.51.100.5 2121 to ::ffff:192.0.2.10 2121", FORWARD[1]),
            "::ffff:203.0.113.9",
            (True, True),
        ),
    ],
)
def test_ways_from_outside(endpoint, openings, forwardings, client, expected):
    made = sound(
        model(
            endpoint=endpoint,
            inside=("192.0.2.0/24",),
            openings=tuple(map(opening, openings)),
            forwardings=tuple(map(forwarding, forwardings)),
        )
    )
    found = reach(made, made.endpoints[0], read_address(client))
    assert (found.control, found.data) == expected
    # `reach` and the door never differ.
    prepared = prepare(made)
    for action, comes in (("sign-in", expected[0]), ("download", expected[1])):
        answer = verdict(prepared, Question("ada", action, "/x", endpoint="e", client=client), NOW)
        assert (answer.gate != "door") is comes


def test_without_any_statement_data_comes_through_too():
    made = sound(model(endpoint={"passive_ports": None}))
    found = reach(made, made.endpoints[0], read_address("203.0.113.9"))
    assert found == (None, True, True, "192.0.2.10:2121", ())


@pytest.mark.parametrize(
    ("read", "line"),
    [
        (opening, "198.51.100.5 22 from ::/0"),
        (opening, "2001:db8::5 22 from 0.0.0.0/0,2001:db8::/32"),
        (forwarding, "198.51.100.5 22 to 2001:db8::5 22"),
    ],
)
def test_a_line_that_mixes_families_is_a_mistake(read, line):
    with pytest.raises(BadValue, match="mixes IPv4 and IPv6"):
        read(line)
    assert read(line, mixed=True)  # what an older version has kept is read all the same


@pytest.mark.parametrize(
    ("line", "at", "expected"),
    [
        ("mon-fri 06:00-20:00", NOW, True),
        ("mon-fri 12:01-20:00", NOW, False),
        ("mon-fri 06:00-12:00", NOW, False),
        ("tue-sun 06:00-20:00", NOW, False),
        ("sat-mon 06:00-20:00", NOW, True),
        ("sun 22:00-13:00", NOW, True),
        ("sun 22:00-12:00", NOW, False),
        ("mon 22:00-04:00", NOW.replace(hour=23), True),
        ("mon 22:00-04:00", NOW.replace(hour=3), False),
        ("mon 22:00-04:00", NOW.replace(day=24, hour=3, minute=59), True),
        ("mon 00:00-24:00", NOW.replace(hour=23, minute=59), True),
    ],
)
def test_hours(line, at, expected):
    assert within((read_hours(line),), at) is expected
    made = model(settings=(m.Setting(m.parse_subject("group:g"), (("hours", (line,)),)),))
    assert (refusal(made, at=at) is None) is expected and refusal(made, "bo", at) is None


@pytest.mark.parametrize(
    "text",
    [
        "",
        "mon",
        "mon 6:00-7:00",
        "mon 06:00-06:00",
        "foo 06:00-07:00",
        "mon 25:00-26:00",
        "mon 06:61-07:00",
    ],
)
def test_what_are_no_hours(text):
    with pytest.raises(BadValue):
        read_hours(text)


def test_sessions_in_use_against_the_setting():
    made = model(settings=(m.Setting(m.parse_subject("group:g"), (("sessions", 2),)),))
    assert refusal(made, sessions=1) is None and refusal(made, sessions=2) == "sessions-used-up"
    assert refusal(made, "bo", sessions=99) is None and refusal(made) is None


POLICY = m.Lockout("account", 3, 60, 120)


def state(offsets, at, ok=()):
    attempts = [
        Attempt(NOW + timedelta(seconds=s), "ada", "203.0.113.9", s in ok)
        for s in sorted({*offsets, *ok})
    ]
    return counting(POLICY, "ada", attempts, NOW + timedelta(seconds=at))


@pytest.mark.parametrize(
    ("failures", "ok", "at", "counted", "locked_until"),
    [
        ([0, 10], (), 20, 2, None),
        ([0, 10, 20], (), 20, 3, 140),
        ([0, 10, 20], (), 139, 3, 140),
        ([0, 10, 20], (), 140, 0, None),
        ([0, 30, 60], (), 60, 2, None),  # the first is a minute old: it counts no more
        ([0, 10, 20, 30, 100], (), 150, 0, None),  # failures while locked do not count
        ([0, 10, 20, 141], (), 150, 1, None),
        ([0, 10, 30], (20,), 40, 1, None),
        ([0, 10], (), 69, 1, None),
        ([0, 10, 20], (), 15, 2, None),
    ],
)
def test_lockout(failures, ok, at, counted, locked_until):
    found = state(failures, at, ok)
    assert len(found.failures) == counted
    assert found.until == (None if locked_until is None else NOW + timedelta(seconds=locked_until))


@given(st.lists(st.integers(0, 600), max_size=12, unique=True), st.integers(0, 700))
def test_a_lock_is_three_failures_within_a_minute_and_lasts_two(failures, at):
    found = state(failures, at)
    known = [s for s in sorted(failures) if s <= at]
    locked, counted = None, []
    for s in known:
        if locked is not None and s < locked:
            continue
        if locked is not None:
            locked, counted = None, []
        counted = [c for c in counted if s - c < 60] + [s]
        if len(counted) == 3:
            locked = s + 120
    is_locked = locked is not None and at < locked
    assert (found.until is not None) == is_locked
    assert refusal(model(), locks=(found,) if found.until else ()) == (
        "locked-out" if is_locked else None
    )


def test_a_client_is_told_the_same_whatever_the_reason(asking):
    told = set()
    for account, facts in (
        ("uni-esk", {}),
        ("tide-press", {}),
        ("refa", {"from": "203.0.113.9"}),
        ("ines", {"tls": False}),
        ("ines", {"sessions": 99}),
    ):
        answer = asking.decide(
            {"account": account, "action": "sign-in", "endpoint": "harbour", **facts}
        )
        assert not answer["allowed"] and answer["gate"] == "sign-in"
        told.add(answer["told_to_client"])
    assert told == {"Sign-in refused."}
    assert "told_to_client" not in asking.decide(
        {"account": "ines", "action": "sign-in", "endpoint": "harbour"}
    )
