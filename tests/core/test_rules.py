"""Single rules, each at its edge; docs/rules.md says them in words."""

from datetime import UTC, date, datetime
from ipaddress import ip_address, ip_network

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drawknife.core.decide.gates import verdict
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.endpoints import clashes
from drawknife.core.model.standing import groups_holding, loops, standing
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.prepared.settings import admits
from drawknife.core.words.names import BadValue, check_name, check_path, check_unit, parse_place
from drawknife.core.words.rights import ALL, BIT, BUNDLES, format_rights, parse_rights, perm_word

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


def model(
    *folders,
    account="ada",
    groups=(),
    grants=("signed-in all",),
    baseline="closed",
    paths=None,
    **more,
):
    """A sound model with one store `s`, one account, and a virtual path from / to it."""
    made = [
        m.Folder(path, owner, sealed, tuple(map(m.parse_entry, entries)))
        for path, owner, sealed, entries in folders
    ]
    paths = paths or [("/", "s:/")]
    return sound(
        m.Model(
            accounts=(m.Account(account), m.Account("bo"), *more.pop("accounts", ())),
            groups=tuple(
                m.Group(name, tuple(map(m.parse_member, members))) for name, members in groups
            ),
            stores=(
                m.Store("s", baseline=baseline, folders=tuple(made)),
                m.Store("t", baseline="open"),
            ),
            virtual_paths=tuple(
                m.VirtualPath(p, to, grants=tuple(map(m.parse_grant, grants))) for p, to in paths
            ),
            **more,
        )
    )


def ask(made, action, path, account="ada", **facts):
    return verdict(prepare(made), Question(account, action, path, **facts), NOW)


def test_an_allow_on_a_folder_beats_a_deny_from_above():
    made = model(
        ("/", None, False, ["deny group:g all"]),
        ("/a", None, False, ["allow group:g all"]),
        groups=[("g", ["account:ada"])],
    )
    assert not ask(made, "list", "/").allowed
    # Passing asks the folders from where the virtual path leads: with one that leads to /a it is
    # let in.
    inside = model(
        ("/", None, False, ["deny group:g all"]),
        ("/a", None, False, ["allow group:g all"]),
        groups=[("g", ["account:ada"])],
        paths=[("/in", "s:/a")],
    )
    assert ask(inside, "list", "/in").allowed


def test_a_forbid_at_the_top_cannot_be_undone_below():
    made = model(
        ("/", None, False, ["allow anyone all", "forbid account:ada upload"]),
        ("/a", None, True, ["allow account:ada all"]),
    )
    answer = ask(made, "upload", "/a/x")
    assert (answer.gate, answer.reason) == ("folder", "forbidden")
    assert (
        ask(made, "upload", "/a/x", account="bo").gate == "folder"
    )  # the seal keeps anyone's allow out


def test_a_seal_stops_the_walk_and_the_baseline_with_it():
    made = model(("/a", None, True, []), baseline="open")
    assert ask(made, "list", "/").allowed
    assert ask(made, "list", "/a").reason == "cannot-pass"


@pytest.mark.parametrize(
    ("reach", "depths"),
    [("tree", (1, 1, 1)), ("here", (1, 0, 0)), ("below", (0, 1, 1)), ("children", (0, 1, 0))],
)
def test_reach(reach, depths):
    made = model(
        ("/", None, False, ["allow anyone all"]),
        ("/a", None, False, [f"deny account:ada download {reach}"]),
    )
    for path, reached in zip(("/a/x", "/a/b/x", "/a/b/c/x"), depths, strict=True):
        assert ask(made, "download", path).allowed is not bool(reached)


def test_owner_is_the_owner_of_the_thing_acted_on():
    made = model(
        ("/", "bo", False, ["allow anyone look", "allow owner delete-file,delete-folder"]),
        ("/mine", "ada", False, []),
    )
    assert ask(made, "delete-file", "/x", owner="ADA").allowed
    assert not ask(made, "delete-file", "/x", owner="bo").allowed
    assert not ask(
        made, "delete-file", "/x"
    ).allowed  # an owner that is not given is not the account
    assert ask(made, "delete-folder", "/mine").allowed
    assert not ask(made, "delete-folder", "/mine", account="bo").allowed


def test_only_the_longest_virtual_path_counts():
    made = model(
        ("/", None, False, ["allow anyone all"]),
        paths=[("/a", "s:/"), ("/a/b", "s:/x"), ("/a/b", "s:/y")],
    )
    assert ask(made, "list", "/a/c").allowed
    # /a/b leads two ways: it fails closed, and what /a has in its place is not shown instead.
    assert ask(made, "list", "/a/b").reason == "path-ambiguous"
    assert ask(made, "list", "/a/b/c").reason == "path-ambiguous"


def test_fixed_points_go_by_location():
    made = model(
        ("/", None, False, ["allow anyone all"]),
        paths=[("/", "s:/"), ("/a/in", "s:/z"), ("/also", "s:/a")],
    )
    assert ask(made, "delete-folder", "/a").reason == "fixed-point"
    assert ask(made, "rename", "/a", to="/b", thing="folder").reason == "fixed-point"
    assert ask(made, "delete-folder", "/a/in").reason == "fixed-point"
    assert ask(made, "download", "/a/in").reason == "fixed-point"
    assert ask(made, "make-folder", "/a").allowed
    assert ask(made, "delete-folder", "/also/sub").allowed


def test_a_rename_needs_its_destination_too():
    made = model(
        ("/", None, False, ["allow anyone enter,rename"]),
        ("/to", None, False, ["allow anyone upload"]),
        ("/full", None, False, ["deny anyone upload", "allow anyone overwrite"]),
        paths=[("/", "s:/"), ("/t", "t:/")],
    )
    assert ask(made, "rename", "/x", to="/y").allowed
    assert not ask(made, "rename", "/x", to="/y", replaces=True).allowed
    assert ask(made, "rename", "/x", to="/to/x").allowed
    assert not ask(made, "rename", "/x", to="/to/x", replaces=True).allowed
    assert not ask(made, "rename", "/x", to="/full/x").allowed
    assert ask(made, "rename", "/x", to="/full/x", replaces=True).allowed
    assert ask(made, "rename", "/x", to="/t/x").reason == "between-stores"
    assert ask(made, "rename", "/to", to="/to/in", thing="folder").reason == "into-itself"
    assert ask(made, "rename", "/new", to="/to", thing="folder").reason == "destination-exists"
    for onto in ("/to", "/unknown"):  # recorded, or what holds the thing
        for thing in ("file", "folder"):
            assert (
                ask(made, "rename", "/unknown/x", to=onto, thing=thing).reason
                == "destination-exists"
            )
            assert (
                ask(made, "rename", "/unknown/x", to=onto, thing=thing, replaces=True).reason
                == "destination-exists"
            )
    assert ask(made, "rename", "/unknown", to="/other").allowed


def test_placeholders_without_a_value_fail_closed():
    made = model(
        ("/", None, False, ["allow anyone all"]),
        accounts=(m.Account("cy", unit="fleet/in", home=parse_place("s:/h")),),
        units=("fleet/in",),
        paths=[
            ("/u", "s:/{unit}"),
            ("/p", "s:/x/{unit-path}/y"),
            ("/h", "{home}"),
            ("/n", "s:/n-{account}"),
        ],
    )
    assert ask(made, "list", "/u").reason == "path-unusable"
    assert ask(made, "list", "/h").reason == "path-unusable"
    prepared = prepare(made)
    space = prepared.namespace(prepared.account("CY"))
    assert {p: str(s.place) for p, s in space.served.items()} == {
        "/u": "s:/in",
        "/p": "s:/x/fleet/in/y",
        "/h": "s:/h",
        "/n": "s:/n-cy",
    }


def test_standing_goes_by_the_smallest_number_of_steps():
    groups = (
        m.Group("near", (m.parse_member("unit:fleet"),)),
        m.Group("far", (m.parse_member("group:near"), m.parse_member("account:bo"))),
    )
    found = standing(m.Account("ada", unit="fleet/in"), groups_holding(groups))
    assert {str(s): tuple(r) for s, r in found.ranks.items()} == {
        "account:ada": (0, 0),
        "unit:fleet/in": (2, 1),
        "unit:fleet": (2, 2),
        "group:near": (1, 1),
        "group:far": (1, 2),
        "signed-in": (3, 0),
        "anyone": (4, 0),
    }
    assert [str(s) for s in found.chain(m.parse_subject("group:far"))] == [
        "account:ada",
        "unit:fleet/in",
        "unit:fleet",
        "group:near",
        "group:far",
    ]


def test_a_loop_of_groups_is_named_whole_and_tolerated():
    groups = [
        m.Group(a, (m.Member(m.Subject("group", b)),))
        for a, b in (("x", "y"), ("y", "z"), ("z", "x"))
    ]
    groups[0] = m.Group(
        "x", (m.Member(m.Subject("group", "y")), m.Member(m.Subject("account", "ada")))
    )
    assert loops(groups) == [("x", "y", "z", "x")]
    ranks = standing(m.Account("ada"), groups_holding(groups)).ranks
    assert [ranks[m.Subject("group", g)].distance for g in "xyz"] == [1, 3, 2]
    prepared = prepare(m.Model(accounts=(m.Account("ada"),), groups=tuple(groups)))
    members = prepared.people.members()
    assert all(members[prepared.people.number(m.Subject("group", g))] == 1 for g in "xyz")


@pytest.mark.parametrize("day", [date(2026, 11, 22), date(2026, 11, 23)])
def test_an_account_works_until_the_end_of_its_last_day(day):
    made = model(
        ("/", None, False, ["allow anyone all"]),
        accounts=(m.Account("cy", expires=day),),
        endpoints=(m.Endpoint("e", "sftp", 22),),
    )
    answer = ask(made, "sign-in", "/", account="cy", endpoint="e")
    assert answer.allowed is (day >= NOW.date())
    assert ask(made, "list", "/", account="cy").allowed  # without an endpoint it is not asked


@pytest.mark.parametrize(
    ("a", "b", "clash"),
    [
        ({}, {}, True),
        ({"address": "192.0.2.1"}, {"address": "192.0.2.2"}, False),
        ({"address": "192.0.2.1"}, {}, True),
        ({"address": "::"}, {}, False),
        ({"host_names": ("a.example",)}, {"host_names": ("b.example",)}, False),
        ({"host_names": ("a.example",)}, {"host_names": ("a.example", "b.example")}, True),
        ({"host_names": ("a.example",)}, {}, True),
        ({"port": 2122, "passive_ports": (2000, 2200)}, {}, True),
        ({"port": 2122, "passive_ports": (4000, 4100)}, {"passive_ports": (4100, 4200)}, True),
        ({"port": 2122, "enabled": False, "passive_ports": (2000, 2200)}, {}, False),
    ],
)
def test_endpoints_clash(a, b, clash):
    one, other = (
        m.Endpoint(**{"name": "b", "protocol": "ftp", "port": 2121, **a}),
        m.Endpoint(**{"name": "A", "protocol": "ftp", "port": 2121, **b}),
    )
    found = clashes((one, other))
    assert bool(found) is clash
    assert all((c.loser, c.winner) == ("b", "A") for c in found)


rights = st.integers(1, ALL)


@given(rights)
def test_rights_are_written_as_they_are_read(mask):
    text = format_rights(mask)
    words = text.split(",")
    assert parse_rights(text) == mask
    for i, word in enumerate(words):
        before = parse_rights(",".join(words[:i])) if i else 0
        assert (BUNDLES.get(word) or BIT[word]) & ~before, "each word adds something"


def test_rights_are_written_largest_bundle_first():
    assert format_rights(parse_rights("upload,list,enter")) == "look,drop"
    assert format_rights(parse_rights("set-attributes,change")) == "all"
    assert format_rights(parse_rights("append,read")) == "read,append"


def test_the_perm_word_tells_folder_and_files():
    states = dict.fromkeys(BIT, "no") | {
        "enter": "yes",
        "list": "yes",
        "upload": "yes",
        "delete-file": "own",
        "download": "yes",
    }
    assert perm_word(tuple(states.values())) == "cel(p)/r(d)"
    assert perm_word(("no",) * 11) == "-"


@pytest.mark.parametrize(
    "path", ["", "a", "/a//b", "/a/./b", "/..", "/a\tb", "//", "/e\u0301", "/a\ud800"]
)
def test_paths_that_break_the_rules_are_refused(path):
    with pytest.raises(BadValue):
        check_path(path)


@pytest.mark.parametrize(
    "name",
    [
        "",
        " ",
        "a b",
        "a/b",
        "a\\b",
        "a:b",
        "{a}",
        "a,b",
        "*",
        ".",
        "..",
        "x" * 65,
        "e\u0301",
        "a\x00",
    ],
)
def test_names_that_break_the_rules_are_refused(name):
    with pytest.raises(BadValue):
        check_name(name)


def test_odd_names_are_kept_as_they_are():
    assert check_path("/a/Ünï ~'\"%/") == "/a/Ünï ~'\"%"
    assert check_name("x" * 64) and check_unit("a/b/c")
    with pytest.raises(BadValue):
        check_unit("fleet/Owner")


networks = st.one_of(
    st.builds(
        lambda a, p: ip_network((a, p), strict=False), st.integers(0, 2**32 - 1), st.integers(0, 32)
    ),
    st.builds(
        lambda a, p: ip_network((a, p), strict=False),
        st.just(0x20010DB8 << 96),
        st.integers(30, 34),
    ),
)


@given(
    st.lists(st.tuples(st.sampled_from(["allow", "deny"]), networks), max_size=6),
    st.integers(0, 2**32 - 1),
    st.booleans(),
)
def test_address_lines_decide_by_the_longest_prefix(lines, number, six):
    client = ip_address(0x20010DB8 << 96 | number) if six else ip_address(number)
    holding = [
        (n.prefixlen, effect == "allow")
        for effect, n in lines
        if n.version == client.version and client in n
    ]
    longest = max((p for p, _ in holding), default=None)
    expected = (
        all(a for p, a in holding if p == longest)
        if holding
        else "allow" not in [e for e, _ in lines]
    )
    assert admits(tuple(f"{e} {n}" for e, n in lines), client) is expected
