"""Syncing with a real directory server, through the service."""

import base64
import socket
import threading
from contextlib import suppress

import pytest
from tools.cluster import free_port
from tools.slapd import (
    ADMIN,
    PASSWORD,
    ROOT,
    SUFFIX,
    certificates,
    cn,
    directory_server,
    group,
    person,
    uid,
    unit,
)

from drawknife.client import Refused

from ..conftest import DEMO, apart, serving

ODD = 'Ægir, "the" + Tern'
ODD_DN = f"cn=Ægir\\, \\22the\\22 \\2B Tern,ou=people,{SUFFIX}"


def encoded(text):
    return base64.b64encode(text.encode()).decode()


TREE = ROOT + "".join(
    [
        unit("people"),
        unit("groups"),
        unit("fleet"),
        unit("deep", "ou=fleet,"),
        person(
            "petra", displayName="Petra Lund", homeDirectory="/home/petra", uidNumber=7, gidNumber=7
        ).replace(
            "objectClass: inetOrgPerson", "objectClass: inetOrgPerson\nobjectClass: posixAccount"
        ),
        person("sverre", "fleet"),
        person("edda", "deep,ou=fleet"),
        person("wanda"),
        person("ines"),
        person("thora").replace("cn: thora", f"cn:: {encoded('Þóra Mánadóttir')}"),
        (
            f"dn:: {encoded(ODD_DN)}\nobjectClass: inetOrgPerson\nuid: aegir\nsn: x\ncn::"
            f" {encoded(ODD)}\n\n"
        ),
        person("two words"),
        person("a,b").replace("uid=a,b", "uid=a\\2Cb"),
        group("liaison", uid("petra")),
        group("bank-survey", cn("liaison"), uid("thora"), uid("gone")),
        group("watch", f"ou=fleet,{SUFFIX}", uid("ines")).replace(
            "\n\n", f"\nmember:: {encoded(ODD_DN.replace('22the', '22THE'))}\n\n"
        ),
        group("one", cn("two"), uid("wanda")),
        group("two", cn("three")),
        group("three", cn("one")),
        (
            f"dn: cn=posix crew,ou=groups,{SUFFIX}\nobjectClass: posixGroup\ncn: posix"
            " crew\ngidNumber: 9\nmemberUid: edda\nmemberUid: nobody\n\n"
        ),
    ]
)


@pytest.fixture(scope="module")
def authority(tmp_path_factory):
    folder = tmp_path_factory.mktemp("authority")
    certificates(folder)
    return folder


@pytest.fixture(scope="module")
def server(tmp_path_factory, authority):
    with directory_server(
        tmp_path_factory.mktemp("slapd"), TREE.encode(), authority=authority
    ) as found:
        yield found


@pytest.fixture
def client(address, tmp_path):
    base = ["--files", tmp_path.parent.parent]
    with (
        apart() as own,
        serving(address, own, "--key-file", own / "key", *base, "--load", DEMO) as found,
        found.client() as made,
    ):
        made.secrets = found.said, own, address
        yield made


def options(server, authority, **more):
    return {
        "address": server.address,
        "ca_file": str(authority / "ca.pem"),
        "bind_name": ADMIN,
        "people_base": SUFFIX,
        "groups_base": f"ou=groups,{SUFFIX}",
        "units_base": SUFFIX,
        "units_filter": "(&(objectClass=organizationalUnit)(!(ou=people))(!(ou=groups)))",
        "page_size": 3,
        **more,
    }


def failed(client, name, said):
    before = client.dump()
    report = client.sync(name)
    assert report.state == "failed" and said in report.text, report
    assert client.dump() == before and PASSWORD not in report.model_dump_json()
    assert client.directory(name).last.state == "failed"


def test_people_groups_and_units_come_over_starttls(server, authority, client):
    wanted = options(
        server, authority, home_attribute="homeDirectory", home_store="homes", home_strip="/home/"
    )
    client.add_directory("staff", wanted, PASSWORD)
    shown = client.preview_sync("staff").report
    before = client.dump()
    report = client.sync("staff")
    assert report.state == "done" and report.counts == shown.counts and client.dump() != before
    assert (report.people, report.groups, report.units) == (7, 7, 2)
    # The local ines and petra, and what bears no name that could be one, are left as they are, and
    # told.
    local = {f"account {n}" for n in ("edda", "ines", "petra", "sverre", "wanda")} | {
        "group bank-survey",
        "group liaison",
        "unit fleet",
    }
    assert set(report.left_alone) == local
    assert any("two words" in line for line in report.left_out) and any(
        "holds ','" in line for line in report.left_out
    )
    assert "'posix crew' is spelled posix-crew" in " ".join(report.notes)
    thora = client.account_detail("thora")
    assert (thora.display, thora.source, thora.methods) == (
        "Þóra Mánadóttir",
        "staff",
        ["directory"],
    )


@pytest.fixture
def staff(server, authority, client):
    """The directory `staff` with a suffix, which keeps its names apart from those here."""
    wanted = options(server, authority, suffix="@tidewrack.example", address=server.tls_address)
    wanted |= {"home_attribute": "homeDirectory", "home_store": "homes", "home_strip": "/home/"}
    client.add_directory("staff", wanted, PASSWORD)
    assert client.sync("staff").state == "done"
    return client


def test_nested_groups_units_loops_and_homes_over_ldaps(staff):
    at = "@tidewrack.example"
    assert staff.account_detail(f"petra{at}").home == "homes:/petra"
    assert staff.account_detail(f"edda{at}").unit == f"fleet{at}/deep"
    ways = {w.group: w.chains for w in staff.ways(f"petra{at}").groups}
    assert ways[f"bank-survey{at}"] == [
        [f"account:petra{at}", f"group:liaison{at}", f"group:bank-survey{at}"]
    ]
    inside = staff.subject(f"group:watch{at}")
    assert {a.account for a in inside.accounts} == {
        f"sverre{at}",
        f"edda{at}",
        f"ines{at}",
        f"aegir{at}",
    }
    assert staff.account_detail(f"aegir{at}").display == ODD
    assert [x.line for x in staff.subject(f"group:posix-crew{at}").members] == [f"account:edda{at}"]
    # A loop of groups: each counts once, at its smallest distance, and a finding tells it.
    distances = {
        c.subject: c.distance for c in staff.standing(f"wanda{at}").standing if c.class_ == 1
    }
    assert distances == {f"group:one{at}": 1, f"group:three{at}": 2, f"group:two{at}": 3}
    assert any(f.kind == "group-loop" and "one" in f.text for f in staff.findings().findings)
    # What a sync brought can be dumped and loaded again; another sync has nothing to do.
    assert not staff.load(staff.dump().encode()).changed
    assert staff.sync("staff").state == "nothing-to-do"


def test_local_groups_entries_and_settings_may_name_what_comes_from_a_directory(staff):
    at = "@tidewrack.example"
    staff.change(
        [
            {
                "op": "change",
                "kind": "group",
                "name": "soundings-readers",
                "add": {"members": [f"group:bank-survey{at}"]},
            },
            {
                "op": "change",
                "kind": "folder",
                "name": "survey:/charts",
                "add": {"entries": [f"allow unit:fleet{at} read"]},
            },
            {"op": "change", "kind": "setting", "name": f"group:watch{at}", "set": {"sessions": 2}},
        ]
    )
    holders = {h.account for h in staff.who("download", "/soundings/north-bank").holders}
    assert {f"petra{at}", f"thora{at}"} <= holders
    assert staff.sync("staff").state == "nothing-to-do"
    with pytest.raises(Refused, match="comes from the directory staff"):
        staff.change(
            [
                {
                    "op": "change",
                    "kind": "account",
                    "name": f"petra{at}",
                    "set": {"mail": "x@y.example"},
                }
            ]
        )


@pytest.mark.parametrize(
    ("changes", "password", "said"),
    [
        ({"ca_file": "other-ca.pem"}, PASSWORD, "certificate verify failed"),
        (
            {"address": "wrong"},
            PASSWORD,
            "the certificate is for elsewhere.tidewrack.example, not for localhost",
        ),
        ({}, "not it", "refused the bind: invalidCredentials"),
        ({"people_base": "dc=nowhere"}, PASSWORD, "noSuchObject"),
        ({"address": "ldap://localhost:1"}, PASSWORD, "localhost:1"),
    ],
)
def test_a_directory_that_cannot_be_trusted_or_asked_changes_nothing(
    server, authority, client, tmp_path, changes, password, said
):
    if "ca_file" in changes:
        changes = {"ca_file": str(authority / changes["ca_file"])}
    if changes.get("address") == "wrong":
        with directory_server(tmp_path / "wrong", TREE.encode(), "wrong", authority) as other:
            client.add_directory("staff", options(other, authority), password)
            report = client.sync("staff")
        assert report.state == "failed" and said in report.text, report.text
        return
    client.add_directory("staff", options(server, authority) | changes, password)
    failed(client, "staff", said)


def test_a_server_that_answers_in_part_changes_nothing(authority, client, tmp_path):
    with directory_server(
        tmp_path / "part",
        TREE.encode(),
        authority=authority,
        limits="sizelimit size.soft=4 size.hard=4\n",
    ) as server:
        client.add_directory("staff", options(server, authority, bind_name=None))
        failed(client, "staff", "failed, or answered in part")


def test_a_server_that_dies_in_the_middle_changes_nothing(authority, client, tmp_path):
    """A go-between lets some of the answers through, and then cuts the connection."""
    people = "".join(person(f"p{i}") for i in range(200))
    with directory_server(
        tmp_path / "dying", (ROOT + unit("people") + unit("groups") + people).encode()
    ) as server:
        listener = socket.create_server(("127.0.0.1", 0))
        passed = []

        def pump(source, target, most):
            with suppress(OSError):
                while sum(passed) < most and (piece := source.recv(4096)):
                    target.sendall(piece)
                    passed.append(len(piece) if target is here else 0)
            server.kill()
            for end in (here, there):
                with suppress(OSError):
                    end.shutdown(socket.SHUT_RDWR)

        address = f"ldap://127.0.0.1:{listener.getsockname()[1]}"
        options = {
            "address": address,
            "start_tls": False,
            "people_base": SUFFIX,
            "page_size": 20,
            "timeout": 5,
        }
        client.add_directory("staff", options)
        reports = []
        syncing = threading.Thread(target=lambda: reports.append(client.sync("staff")))
        before = client.dump()
        syncing.start()
        here, _ = listener.accept()
        there = socket.create_connection(("localhost", server.port))
        threading.Thread(target=pump, args=(here, there, 10**9), daemon=True).start()
        with suppress(OSError):
            pump(there, here, 8000)
        syncing.join(timeout=60)
        listener.close()
        assert sum(passed) >= 8000 and reports[0].state == "failed" and client.dump() == before


def test_the_bind_password_is_kept_encrypted_and_never_shown(server, authority, client, tmp_path):
    client.add_directory("staff", options(server, authority), PASSWORD)
    assert client.directory("staff").has_password
    everything = (
        client.directories().model_dump_json() + client.journal().model_dump_json() + client.dump()
    )
    said, folder, address = client.secrets
    import psycopg

    with psycopg.connect(address) as connection:
        kept = bytes(connection.execute("SELECT secret FROM directories").fetchone()[0])
    assert PASSWORD not in everything + "".join(said) and PASSWORD.encode() not in kept
    assert (folder / "key").stat().st_mode & 0o777 == 0o600
    secret = tmp_path / "bind-password"
    secret.write_text(PASSWORD + "\n")
    client.add_directory(
        "other", options(server, authority, suffix="@o", bind_password_file=str(secret))
    )
    assert client.sync("other").state == "done"
    # Neither of the two goes to another server unasked: not when that is kept, and not when it is
    # only tried.
    elsewhere = {"address": "ldaps://elsewhere.tidewrack.example"}
    for name in ("staff", "other"):
        for send in (client.change_directory, client.try_directory):
            with pytest.raises(Refused, match="would send the bind password"):
                send(name, elsewhere)
    client.change_directory("other", {**elsewhere, "bind_password_file": str(secret)})


# --- referrals ----------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def referring(tmp_path_factory, authority):
    """A server whose branch is on another one, which in its turn refers back to the first, and on
    to nowhere.
    """

    def reference(name, url):
        return (
            f"dn: ou={name},{SUFFIX}\nobjectClass: referral\nobjectClass: extensibleObject\nou:"
            f" {name}\nref: {url}\n\n"
        )

    ports = free_port(), free_port()
    back = reference("back", f"ldaps://localhost:{ports[1]}/{SUFFIX}")
    away = reference("away", f"ldaps://localhost:1/{SUFFIX}").replace(
        "ou=away,", "ou=away,ou=branch,"
    )
    tree = ROOT + unit("branch") + person("branch-lead", "branch") + away + back
    with directory_server(
        tmp_path_factory.mktemp("second"), tree.encode(), authority=authority
    ) as second:
        tree = (
            ROOT
            + unit("people")
            + person("petra")
            + reference("branch", f"{second.tls_address}/{SUFFIX}")
        )
        folder = tmp_path_factory.mktemp("first")
        with directory_server(folder, tree.encode(), authority=authority, ports=ports) as first:
            yield first, second


def test_referrals_are_followed_where_that_is_said_and_else_counted_and_named(
    referring, authority, client
):
    first, second = referring
    wanted = {
        "address": first.tls_address,
        "ca_file": str(authority / "ca.pem"),
        "bind_name": ADMIN,
        "people_base": SUFFIX,
    }
    client.add_directory("firm", {**wanted, "suffix": "@firm"}, PASSWORD)
    report = client.preview_sync("firm").report
    assert (
        report.people == 1
        and second.tls_address in report.notes[0]
        and "referral_servers" in report.notes[0]
    )
    with pytest.raises(Refused, match="would send the bind password"):
        client.change_directory("firm", {"referral_servers": second.tls_address})
    servers = f"{second.tls_address}, {first.tls_address}"
    client.change_directory("firm", {"referral_servers": servers}, PASSWORD)
    report = client.sync("firm")
    assert (report.state, report.people) == ("done", 2) and client.account_detail(
        "branch-lead@firm"
    ).source == "firm"
    (note,) = (
        report.notes
        # of the one that leads away; the one back to where the search began is followed once, and
        # ends
    )
    assert "localhost:1/" in note
    with pytest.raises(Refused, match="no address of a directory server"):
        client.change_directory("firm", {"referral_servers": "http://localhost"}, PASSWORD)
