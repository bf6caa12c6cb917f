"""A real directory server: who is renamed there is followed, and administrators sign in with the
password they have there.
"""

import ssl

import httpx
import ldap3
import pytest
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

from ..conftest import DEMO, apart, run, serving

HERS = "thora's own, in the directory"
TREE = ROOT + "".join(
    [
        unit("people"),
        unit("groups"),
        person("thora", userPassword=HERS),
        person("two", userPassword="x"),
        person("two", "groups", userPassword="x"),
        person("ines"),
        group("shift", uid("thora")),
    ]
)


@pytest.fixture(scope="module")
def staff(cluster, tmp_path_factory):
    """A directory server, whoever may write to it, and a service with it as the
    directory `staff`.
    """
    folder = tmp_path_factory.mktemp("people")
    certificates(folder)
    with (
        directory_server(folder / "slapd", TREE.encode(), authority=folder) as server,
        apart() as own,
        serving(
            cluster.create_database("people"),
            own,
            "--load",
            DEMO,
            "--files",
            folder,
            "--key-file",
            own / "key",
        ) as service,
        service.client() as client,
    ):
        tls = ldap3.Tls(validate=ssl.CERT_REQUIRED, ca_certs_file=str(folder / "ca.pem"))
        there = ldap3.Connection(
            ldap3.Server("localhost", server.tls_port, use_ssl=True, tls=tls),
            ADMIN,
            PASSWORD,
            auto_bind=True,
        )
        options = {
            "address": server.tls_address,
            "ca_file": str(folder / "ca.pem"),
            "bind_name": ADMIN,
            "people_base": f"ou=people,{SUFFIX}",
            "groups_base": f"ou=groups,{SUFFIX}",
        }
        client.add_directory("staff", options, PASSWORD)
        assert client.sync("staff").state == "done"
        yield service, client, there, server


def test_who_is_renamed_in_the_directory_keeps_what_is_theirs_here(staff):
    _, client, there, _ = staff
    line = "allow account:thora list"
    client.change(
        [{"op": "change", "kind": "folder", "name": "survey:/inbox", "add": {"entries": [line]}}]
    )
    client.add_key("thora", (DEMO.parent / "kittiwake.pub").read_text())
    there.modify_dn(uid("thora"), "uid=thora.m")
    assert there.result["description"] == "success"
    there.modify(cn("shift"), {"member": [(ldap3.MODIFY_REPLACE, [uid("thora.m")])]})
    shown = client.preview_sync("staff")
    assert (
        shown.report.named == {"accounts renamed": ["thora → thora.m"]} and shown.changes.item_count
    )
    report = client.sync("staff")
    assert report.counts == shown.report.counts and client.sync("staff").state == "nothing-to-do"
    assert "allow account:thora.m list" in client.dump() and line not in client.dump()
    assert client.credentials("thora.m").keys and [
        m.line for m in client.subject("group:shift").members
    ] == ["account:thora.m"]
    there.modify_dn(uid("thora.m"), "uid=thora")
    there.modify(cn("shift"), {"member": [(ldap3.MODIFY_REPLACE, [uid("thora")])]})
    assert client.sync("staff").named == {"accounts renamed": ["thora.m → thora"]}


def test_an_account_of_here_is_handed_over_after_somebody_looked(staff):
    service, client, _, _ = staff
    assert "account ines" in client.sync("staff").left_alone
    shown = run(
        "sync", "staff", "--adopt", "account:ines", "--preview", environment=service.environment
    )
    assert shown.returncode == 0 and "1 account adopted: ines" in shown.stdout, shown.stdout
    assert (
        client.account_detail("ines").source == "local" and "no way to sign in" not in shown.stdout
    )
    assert (
        run("sync", "staff", "--adopt", "account:ines", environment=service.environment).returncode
        == 0
    )
    found = client.account_detail("ines")
    assert (found.source, found.methods) == ("staff", ["directory", "key"]) and not client.sync(
        "staff"
    ).left_alone
    refused = run("sync", "staff", "--adopt", "account:yuki", environment=service.environment)
    assert refused.returncode == 1 and "the directory has no account:yuki" in refused.stdout


def sign_in(service, name, password):
    return httpx.post(service.url + "/api/v1/sessions", json={"name": name, "password": password})


def test_an_administrator_signs_in_with_the_password_of_the_directory(staff):
    service, client, there, _ = staff
    added = run(
        "administrator",
        "add",
        "thora",
        "--role",
        "editor",
        "--directory",
        "staff",
        environment=service.environment,
    )
    assert (
        added.returncode == 0
        and "signs in with the password of the directory staff" in added.stderr
    )
    listed = run("administrator", "list", environment=service.environment).stdout
    assert "of staff" in listed
    done = sign_in(service, "THORA", HERS)
    assert (
        done.status_code == 200
        and done.json()["name"] == "thora"
        and done.json()["role"] == "editor"
    )
    for wrong in ("", "wrong", HERS + " "):
        assert sign_in(service, "thora", wrong).status_code in (400, 401)
    client.add_administrator("two", "reader", directory="staff")
    client.add_administrator("x)(uid=thora", "reader", directory="staff")
    assert (
        sign_in(service, "two", "x").status_code == 200
    )  # only one of the name is below its people_base
    assert sign_in(service, "x)(uid=thora", HERS).status_code == 401  # a name is no pattern
    with pytest.raises(Refused, match="password of the directory"):
        client.set_administrator_password("thora", "something long enough")
    with pytest.raises(Refused, match="no way to sign in"):
        client.remove_directory("staff", keep=True)
    there.modify(uid("thora"), {"userPassword": [(ldap3.MODIFY_REPLACE, ["another one"])]})
    assert (
        sign_in(service, "thora", HERS).status_code == 401
        and sign_in(service, "thora", "another one").status_code == 200
    )
    for name in ("two", "x)(uid=thora"):
        client.remove_administrator(name)
    assert client.change_administrator("thora", directory="").directory is None
    assert sign_in(service, "thora", "another one").status_code == 401
    assert HERS not in "".join(service.said) and HERS not in client.journal().model_dump_json()


def test_who_has_a_login_name_that_is_made_signs_in_with_it(staff):
    service, client, _, _ = staff
    assert (
        "account two → two-x" in client.try_directory("staff", {"login_name": "{uid}-{sn}"}).renamed
    )
    client.change_directory("staff", {"login_name": "{uid}-{sn}"}, PASSWORD)
    assert "two → two-x" in client.sync("staff").named["accounts renamed"]
    for name in ("two-x", "nobody-x"):
        client.add_administrator(name, "reader", directory="staff")
    assert (
        sign_in(service, "two-x", "x").status_code == 200
        and sign_in(service, "two-x", "y").status_code == 401
    )
    assert sign_in(service, "nobody-x", "x").status_code == 401
    for name in ("two-x", "nobody-x"):
        client.remove_administrator(name)
    client.change_directory("staff", {"login_name": None}, PASSWORD)
    assert "two-x → two" in client.sync("staff").named["accounts renamed"]


def test_through_what_passwords_would_be_read_by_others_nobody_signs_in(staff):
    _, client, _, server = staff
    client.add_directory(
        "plain",
        {"address": server.address, "start_tls": False, "people_base": SUFFIX, "suffix": "@p"},
    )
    client.add_directory("sent", {"address": "scim:"})
    for directory, said in (
        ("plain", "unprotected"),
        ("sent", "no server"),
        ("nowhere", "there is no directory"),
    ):
        with pytest.raises(Refused, match=said):
            client.add_administrator("somebody", "reader", directory=directory)


def test_a_directory_that_is_away_is_told_and_lets_nobody_in(staff):
    service, client, _, server = staff
    client.add_administrator("late", "reader", directory="staff")
    server.kill()
    answer = sign_in(service, "late", "another one")
    assert (
        answer.status_code == 502
        and answer.json()["type"] == "urn:drawknife:problem:directory-failed"
    )
