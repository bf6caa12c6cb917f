"""The way in and the limits through the service: censuses, lockout, certificates,
usage, the sheet.
"""

import json
import os
import pwd
from datetime import UTC, datetime, timedelta

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID
from tools.files import make_files

from drawknife import messages as msg
from drawknife.answers.certificates import covers
from drawknife.client import Refused

from ..conftest import DEMO, apart, run, serving

GIB = 2**30


@pytest.fixture(scope="module")
def own(cluster, tmp_path_factory):
    files = ["--files", tmp_path_factory.getbasetemp()]
    with apart() as folder, serving(cluster.create_database("limits"), folder, *files) as found:
        yield found


@pytest.fixture
def client(own):
    with own.client() as made:
        made.load(DEMO.read_bytes())
        yield made


def census(store, rows, **more):
    return msg.NewCensus.model_validate(
        {
            "store": store,
            "rows": [
                dict(zip(("folder", "owner", "bytes", "files"), r, strict=True)) for r in rows
            ],
            **more,
        }
    )


def test_a_census_takes_the_place_of_the_stores_usage_and_leaves_the_others(client):
    before = {(x.name, x.bytes) for x in client.usage("store").lines}
    rows = [("/tides", "ODILE", 5, 1), ("/tides", "odile", 6, 1), ("/new/deep", None, 7, 2)]
    done = client.take_census(census("Public", rows, new_folders=["/new/deep", "/tides"]))
    assert (done.changed, done.bytes, done.files, done.new_folders) == (True, 18, 4, 1)
    after = {(x.name, x.bytes) for x in client.usage("store").lines}
    assert after ^ before == {("public", 18), ("public", 1200 * 2**20)}
    assert {x.name: x.bytes for x in client.usage("folder").lines}["public:/new"] == 7
    assert {x.name: x.bytes for x in client.usage().lines}[""] == 7
    assert client.folder("public:/new/deep").recorded and client.censuses().censuses[0].bytes == 18
    # The decision follows: the shelf was full of files, and is not any more.
    assert client.decide(
        {"account": "ines", "action": "upload", "path": "/tides/x", "size": 1}
    ).allowed
    for wrong, said in (
        (("/a//b", None, 1, 1), "empty segment"),
        (("/a", "nobody", 1, 1), "there is no account 'nobody'"),
    ):
        dumped = client.dump()
        with pytest.raises(Refused, match=said):
            client.take_census(census("public", [wrong]))
        assert client.dump() == dumped


def test_history_gives_growth_and_an_older_census_changes_nothing(client):
    now = datetime.now(UTC)
    client.take_census(census("homes", [("/ines", "ines", 400 * GIB, 4)], at=now))
    dumped = client.dump()
    for days in (10, 20, 30):
        client.take_census(
            census(
                "homes",
                [("/ines", "ines", (400 - 5 * days) * GIB, 4)],
                at=now - timedelta(days=days),
            )
        )
    assert client.dump() == dumped
    homes = next(x for x in client.limits().limits if (x.kind, x.name) == ("capacity", "homes"))
    grown = next(g for g in homes.growth if g.what == "bytes")
    assert [round(p.bytes / GIB) for p in homes.history][-4:] == [250, 300, 350, 400] and abs(
        grown.per_day / GIB - 5
    ) < 0.01
    assert abs((grown.reached - now).total_seconds() / 86400 - 20) < 0.1
    assert homes.accounts[0].name == "ines" and homes.folders[0].name == "homes:/ines"


def test_the_clock_of_grace_begins_with_the_census_that_goes_above(client):
    client.change(
        [
            {
                "op": "add",
                "kind": "quota",
                "item": {
                    "name": "shelf",
                    "folder": "public:/",
                    "soft_bytes": 10,
                    "grace": "7 days",
                },
            }
        ]
    )
    client.take_census(census("public", [("/tides", "odile", 10, 1)]))
    assert "bytes_over_since" not in client.item("quota", "shelf").item
    client.take_census(census("public", [("/tides", "odile", 11, 1)]))
    since = datetime.fromisoformat(client.item("quota", "shelf").item["bytes_over_since"])
    assert abs((datetime.now(UTC) - since).total_seconds()) < 60
    client.take_census(census("public", [("/tides", "odile", 12, 1)]))
    assert datetime.fromisoformat(client.item("quota", "shelf").item["bytes_over_since"]) == since
    found = client.headroom("ines", "/tides", (since + timedelta(days=6)).isoformat())
    assert (
        next(x for x in found.limits if x.name == "shelf").grace_ends == since + timedelta(days=7)
        and found.bytes > 0
    )
    later = client.headroom("ines", "/tides", (since + timedelta(days=8)).isoformat())
    assert (later.bytes, later.bytes_bound_by) == (0, "folder quota shelf")
    client.take_census(census("public", [("/tides", "odile", 10, 1)]))
    assert "bytes_over_since" not in client.item("quota", "shelf").item


def test_the_command_walks_here_and_sends_there(client, own, tmp_path):
    make_files(tmp_path / "files")
    done = run(
        "census", "survey", "--root", tmp_path / "files" / "survey", environment=own.environment
    )
    assert (
        done.returncode == 0
        and "78 files" in done.stderr
        and "nobody known: OS user" in done.stderr
    )
    out = run(
        "census",
        "survey",
        "--root",
        tmp_path / "files" / "survey",
        "--csv",
        environment=own.environment,
    ).stdout
    rows = tmp_path / "rows.csv"
    rows.write_text(out.replace("/archive/lab,,", "/archive/lab,refa,"))
    before = client.health().revision
    again = run("census", "survey", "--from", rows, environment=own.environment)
    assert again.returncode == 0 and client.health().revision == before + 1
    assert {x.name for x in client.usage().lines} >= {"refa", ""}
    mapping = tmp_path / "map.csv"
    user = pwd.getpwuid(os.getuid()).pw_name
    mapping.write_text(f"{user},tide-press\n")
    mapped = run(
        "census",
        "survey",
        "--root",
        tmp_path / "files" / "survey",
        "--map",
        mapping,
        environment=own.environment,
    )
    assert "nobody known" not in mapped.stderr
    for arguments, said in (
        (["census", "nowhere"], "there is no store"),
        (["census", "survey", "--root", "/no/such"], "cannot be read"),
        (["census", "survey", "--from", DEMO], ":2:"),
    ):
        dumped = client.dump()
        refused = run(*arguments, environment=own.environment)
        assert (
            refused.returncode in (1, 2, 3) and said in refused.stderr and client.dump() == dumped
        ), refused.stderr


def test_failures_lock_and_can_be_lifted_and_sessions_count(client):
    def may(account="ines", **facts):
        answer = client.decide(
            {"account": account, "action": "sign-in", "endpoint": "harbour", "tls": True, **facts}
        )
        return answer.reason

    now = datetime.now(UTC)
    for account in ("ines", "yuki", "kittiwake"):
        client.set_password(account)
    client.report_sign_ins(
        [
            {
                "what": "failed",
                "account": "INES",
                "address": "203.0.113.7",
                "at": (now - timedelta(seconds=s)).isoformat(),
            }
            for s in range(5)
        ]
    )
    assert may() == "locked-out" and may("yuki") == "allowed"
    counting = {(c.of, c.name): c for c in client.lockouts().counting}
    assert (
        counting["account", "ines"].locked_until > now
        and len(counting["address", "203.0.113.7"].failures) == 5
    )
    client.lift("account", "Ines")
    assert may() == "allowed" and ("account", "ines") not in {
        (c.of, c.name) for c in client.lockouts().counting
    }
    client.report_sign_ins([{"what": "failed", "account": "x", "address": "203.0.113.8"}] * 20)
    assert (
        may(**{"from": "203.0.113.8"}) == "locked-out"
        and may(**{"from": "203.0.113.9"}) == "allowed"
    )
    assert may(**{"from": "::ffff:203.0.113.8"}) == "locked-out"
    began = [
        {"what": "began", "account": "kittiwake", "address": "192.0.2.1", "session": str(i)}
        for i in range(2)
    ]
    client.report_sign_ins(began)
    assert may("kittiwake") == "sessions-used-up"
    client.report_sign_ins([{**began[0], "what": "ended"}])
    assert may("kittiwake") == "allowed" and may("kittiwake", sessions=2) == "sessions-used-up"
    with pytest.raises(Refused, match="no address"):
        client.report_sign_ins([{"what": "failed", "account": "x", "address": "nowhere"}])


def make_certificate(folder, names, days):
    key = Ed25519PrivateKey.generate()
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "test")])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(7)
        .not_valid_before(now - timedelta(days=400))
        .not_valid_after(now + timedelta(days=days, hours=1))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(n) for n in names]), False)
        .sign(key, None)
    )
    (folder / "c.pem").write_bytes(made.public_bytes(Encoding.PEM))
    (folder / "k.pem").write_bytes(
        key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    )
    return str(folder / "c.pem"), str(folder / "k.pem")


@pytest.mark.parametrize(
    ("names", "days", "warning"),
    [
        (["files.tidewrack.example"], 90, None),
        (["*.tidewrack.example"], 90, None),
        (["files.tidewrack.example"], 12, "in 12 days"),
        (["files.tidewrack.example"], -3, "it expired on"),
        (["other.example"], 90, "it is not for files.tidewrack.example"),
    ],
)
def test_certificates(client, tmp_path, names, days, warning):
    certificate, key = make_certificate(tmp_path, names, days)
    change = {
        "op": "change",
        "kind": "endpoint",
        "name": "harbour",
        "set": {"certificate": certificate, "certificate_key": key},
    }
    client.change([change])
    found = client.certificate("harbour")
    assert (
        found.looked_at is not None
        and found.key_matches is True
        and found.names == names
        and found.problem is None
    )
    assert [w for w in found.warnings if warning and warning in w] == found.warnings and bool(
        warning
    ) == bool(found.warnings)
    told = [f.text for f in client.overview().findings if f.kind == "certificate"]
    assert bool(told) == bool(warning)


def test_a_wrong_key_and_files_that_are_none(client, tmp_path):
    (tmp_path / "one").mkdir()
    certificate, _ = make_certificate(tmp_path, ["files.tidewrack.example"], 90)
    _, other = make_certificate(tmp_path / "one", ["x.example"], 90)
    for files, said in (
        (
            {"certificate": certificate, "certificate_key": other},
            "is the key of another certificate",
        ),
        ({"certificate": str(DEMO)}, "holds no certificate"),
        ({"certificate": "/no/such"}, "outside of what the service may read"),
        ({"certificate": certificate, "certificate_key": str(DEMO)}, "holds no key"),
    ):
        client.change(
            [
                {
                    "op": "change",
                    "kind": "endpoint",
                    "name": "harbour",
                    "set": {"certificate_key": None, **files},
                }
            ]
        )
        found = client.certificate("harbour")
        assert (
            said in f"{found.problem} {found.warnings}" and "PRIVATE" not in found.model_dump_json()
        )
    assert (
        covers("*.a.example", "b.a.example")
        and not covers("*.a.example", "c.b.a.example")
        and not covers("*.a.example", "a.example")
    )


@pytest.mark.parametrize("kind", ["text", "markdown", "html"])
def test_the_sheet_says_what_one_has_to_know_and_no_secret(client, kind):
    client.change(
        [
            {
                "op": "change",
                "kind": "account",
                "name": "kittiwake",
                "set": {"display": "Boat <b>&</b> crew"},
            }
        ]
    )
    secret = client.set_password("kittiwake").password
    text = client.handover("kittiwake", "harbour", kind).text
    assert (
        "files.tidewrack.example, port 2121" in text
        and "/inbox" in text
        and secret not in text
        and "argon2" not in text
    )
    assert ("<b>&</b>" in text) is (kind == "text") and ("2100" not in text)
    assert "40 GiB" in text and "2 sessions" in text and "of your own" in text
    assert "You cannot sign in anywhere" in client.handover("uni-esk").text


def test_editing_networks_and_lockouts(client):
    line = "198.51.100.5 40000-40099 to 192.0.2.10 40000-40099"
    assert not client.reach("harbour", "203.0.113.9").data
    told = client.preview([{"op": "change", "kind": "network", "add": {"forwardings": [line]}}])
    assert [f.kind for f in told.mended] == ["data-out-of-reach"] and told.items[
        0
    ].section == "forwardings"
    client.change([{"op": "change", "kind": "network", "add": {"forwardings": [line]}}])
    assert (
        client.reach("harbour", "203.0.113.9").data
        and not client.load(client.dump().encode()).changed
    )
    client.change([{"op": "change", "kind": "network", "drop": {"forwardings": [line]}}])
    client.change([{"op": "change", "kind": "lockout", "name": "account", "set": {"failures": 3}}])
    assert client.item("lockout", "account").item["failures"] == 3
    with pytest.raises(Refused, match="is no forwarding"):
        client.change([{"op": "change", "kind": "network", "add": {"forwardings": ["anything"]}}])
    assert json.loads(client.dump(as_json=True))["lockouts"][0]["of"] == "account"
