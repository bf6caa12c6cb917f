"""A directory that is provisioned by SCIM: a conformance tester of others, and what real clients
do.
"""

import itertools
import json
import re

import httpx2 as httpx
import pytest
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from scim2_client.engines.httpx2 import SyncSCIMClient
from scim2_tester import Status, check_server

from drawknife.client import Refused

from ..conftest import DEMO, serving

USER, GROUP = (f"urn:ietf:params:scim:schemas:core:2.0:{kind}" for kind in ("User", "Group"))
PATCH = "urn:ietf:params:scim:api:messages:2.0:PatchOp"


@pytest.fixture(scope="module")
def own(cluster, tmp_path_factory):
    with serving(cluster.create_database("scim"), tmp_path_factory.mktemp("scim")) as service:
        yield service


#: A name is a program's for good.
_NUMBERS = itertools.count()


@pytest.fixture
def client(own):
    """A service with the demo and a directory `corp` that is provisioned."""
    with own.client() as made:
        made.load(DEMO.read_bytes())
        for found in made.directories().directories:
            made.remove_directory(found.name)
        made.add_directory("corp", {"address": "scim:"})
        yield made


def provisioner(own, client, directory="corp", **more):
    for token in client.tokens().tokens:
        if token.directory:
            client.end_token(token.id)
    made = client.make_token(f"corp-sync-{next(_NUMBERS)}", directory=directory)
    return httpx.Client(
        base_url=f"{own.url}/scim/v2",
        headers={"Authorization": f"Bearer {made.token}"},
        timeout=30,
        **more,
    )


@pytest.fixture
def scim(own, client):
    with provisioner(own, client) as made:
        yield made


def sent(response, status):
    assert response.status_code == status, response.text
    assert status == 204 or response.headers["Content-Type"] == "application/scim+json"
    return response.json() if response.content else None


def user(scim, called, **more):
    return sent(scim.post("/Users", json={"schemas": [USER], "userName": called, **more}), 201)


def patch(scim, where, *operations):
    return scim.patch(where, json={"schemas": [PATCH], "Operations": list(operations)})


def account(client, name):
    return next((a for a in client.accounts(source="corp").accounts if a.name == name), None)


def checked(http):
    found = check_server(SyncSCIMClient(http))
    assert len(found) > 60
    return [(r.title, r.reason) for r in found if r.status not in (Status.SUCCESS, Status.SKIPPED)]


def test_the_tester_of_others_finds_nothing(scim):
    assert checked(scim) == []


@pytest.mark.parametrize("fault", ["swallowed DELETE", "ignored PATCH"])
def test_the_tester_of_others_finds_a_fault_that_is_put_in(own, client, fault):
    """Through a way between that does one thing wrong: what finds nothing there would find nothing
    anywhere.
    """

    class Between(httpx.HTTPTransport):
        def handle_request(self, request):
            if (
                fault == "swallowed DELETE"
                and request.method == "DELETE"
                and re.search("/(Users|Groups)/", request.url.path)
            ):
                return httpx.Response(204)
            if fault == "ignored PATCH" and request.method == "PATCH":
                request = httpx.Request("GET", request.url, headers=request.headers)
                request.headers.pop("Content-Length", None)
            return super().handle_request(request)

    with provisioner(own, client, transport=Between()) as http:
        assert checked(http)


def test_who_is_sent_comes_as_from_a_directory_and_leavers_are_switched_off(scim, client):
    made = user(
        scim,
        "Nadia",
        externalId="e-1",
        name={"givenName": "Nadia", "familyName": "Roth"},
        emails=[{"value": "nadia@tidewrack.example", "type": "work", "primary": True}],
    )
    group = sent(
        scim.post(
            "/Groups",
            json={
                "schemas": [GROUP],
                "displayName": "late shift",
                "members": [{"value": made["id"]}],
            },
        ),
        201,
    )
    found = account(client, "Nadia")
    assert (found.display, found.mail, found.enabled) == (
        "Nadia Roth",
        "nadia@tidewrack.example",
        True,
    )
    assert [m.line for m in client.subject("group:late-shift").members] == ["account:Nadia"]
    assert sent(scim.get(f"/Users/{made['id']}"), 200)["groups"][0]["value"] == group["id"]
    # What she is given here stays hers when she is renamed there.
    client.change(
        [
            {
                "op": "change",
                "kind": "folder",
                "name": "survey:/inbox",
                "add": {"entries": ["allow account:nadia list"]},
            }
        ]
    )
    assert sent(
        patch(
            scim,
            f"/Users/{made['id']}",
            {"op": "Replace", "path": "userName", "value": "nadia.roth"},
        ),
        200,
    )
    assert account(client, "Nadia") is None and account(client, "nadia.roth").enabled
    assert b"allow account:nadia.roth list" in client.dump().encode()
    assert any("nadia.roth" in line.what or "SCIM" in line.what for line in client.journal().lines)
    sent(scim.delete(f"/Users/{made['id']}"), 204)
    assert account(client, "nadia.roth").enabled is False
    sent(scim.get(f"/Users/{made['id']}"), 404)
    assert sent(scim.get(f"/Groups/{group['id']}"), 200).get("members") is None


def test_what_two_widespread_clients_really_send(scim, client):
    """Booleans as text, capitals in operations, values that select what is removed, filters that
    nothing matches yet.
    """
    one, other = user(scim, "one"), user(scim, "other", active=True)
    assert (
        sent(scim.get("/Users", params={"filter": 'userName eq "ONE"'}), 200)["totalResults"] == 1
    )
    assert (
        sent(scim.get("/Users", params={"filter": 'externalId eq "none"'}), 200)["totalResults"]
        == 0
    )
    sent(
        patch(scim, f"/Users/{one['id']}", {"op": "Replace", "path": "active", "value": "False"}),
        200,
    )
    assert account(client, "one").enabled is False
    where = {"op": "Add", "path": 'emails[type eq "work"].value', "value": "one@tidewrack.example"}
    sent(
        patch(scim, f"/Users/{one['id']}", where, {"op": "replace", "value": {"active": True}}), 200
    )
    assert (account(client, "one").mail, account(client, "one").enabled) == (
        "one@tidewrack.example",
        True,
    )
    group = sent(
        scim.post("/Groups", json={"displayName": "g", "schemas": [GROUP], "members": []}), 201
    )["id"]
    sent(
        patch(
            scim,
            f"/Groups/{group}",
            {
                "op": "Add",
                "path": "members",
                "value": [{"value": one["id"]}, {"value": other["id"]}],
            },
        ),
        200,
    )
    sent(
        patch(
            scim,
            f"/Groups/{group}",
            {"op": "Remove", "path": "members", "value": [{"value": one["id"]}]},
        ),
        200,
    )
    sent(
        patch(
            scim, f"/Groups/{group}", {"op": "remove", "path": f'members[value eq "{one["id"]}"]'}
        ),
        200,
    )
    assert [m.line for m in client.subject("group:g").members] == ["account:other"]
    sent(
        scim.post(
            "/Users",
            json={
                "schemas": [USER, "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"],
                "userName": "third",
                "title": "Pilot",
                "phoneNumbers": [{"value": "1"}],
            },
        ),
        201,
    )
    page = sent(
        scim.get(
            "/Users",
            params={"sortBy": "userName", "startIndex": 2, "count": 1, "attributes": "userName"},
        ),
        200,
    )
    assert (page["totalResults"], page["itemsPerPage"], page["Resources"][0]["userName"]) == (
        3,
        1,
        "other",
    )
    assert "emails" not in page["Resources"][0]


def test_a_put_that_does_not_say_whether_somebody_is_active_switches_nobody_on(scim, client):
    """Also where it says null: a leaver stays one until the client says otherwise."""
    where = f"/Users/{user(scim, 'leaver', active=False)['id']}"
    for body in ({}, {"active": None}, {"displayName": "A Leaver"}):
        assert (
            sent(scim.put(where, json={"schemas": [USER], "userName": "leaver", **body}), 200)[
                "active"
            ]
            is False
        )
        assert account(client, "leaver").enabled is False
    assert sent(
        scim.put(where, json={"schemas": [USER], "userName": "leaver", "active": True}), 200
    )["active"]
    assert account(client, "leaver").enabled


@pytest.mark.parametrize(
    ("operation", "expected"),
    [
        ({"op": "replace", "value": {"active": "False"}}, {"enabled": False}),
        ({"op": "Replace", "path": "Active", "value": "false"}, {"enabled": False}),
        ({"op": "replace", "path": f"{USER}:active", "value": False}, {"enabled": False}),
        ({"op": "ADD", "value": {"DisplayName": "Oda Ness"}}, {"display": "Oda Ness"}),
        (
            {"op": "add", "value": {"name.givenName": "Oda", "name.familyName": "Ness"}},
            {"display": "Oda Ness"},
        ),
        (
            {"op": "replace", "path": 'emails[type eq "work"].value', "value": "oda@files"},
            {"mail": "oda@files"},
        ),
        (
            {"op": "replace", "path": "emails[primary eq true].value", "value": "oda@files"},
            {"mail": "oda@files"},
        ),
        (
            {
                "op": "add",
                "path": "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department",
                "value": "x",
            },
            {},
        ),
        (
            {"op": "replace", "value": {"schemas": [USER], "id": "OWN", "active": False}},
            {"enabled": False},
        ),
    ],
)
def test_forms_of_patch_that_identity_providers_send(scim, client, operation, expected):
    made = user(scim, "oda", active=True)
    value = operation.get("value")
    if isinstance(value, dict) and value.get("id") == "OWN":
        operation = {**operation, "value": {**value, "id": made["id"]}}
    sent(patch(scim, f"/Users/{made['id']}", operation), 200)
    found = account(client, "oda")
    before = {"enabled": True, "display": None, "mail": None}
    assert {name: getattr(found, name) for name in before} == {**before, **expected}
    # Another's id is no repetition of its own.
    other = {"op": "replace", "value": {"id": "11111111-2222-3333-4444-555555555555"}}
    assert sent(patch(scim, f"/Users/{made['id']}", other), 400)["scimType"] == "mutability"


def test_who_is_deleted_and_sent_again_is_the_same_person_and_a_second_one_is_refused(scim, client):
    first = user(scim, "nadia", emails=[{"value": "nadia@files"}])
    taken = sent(scim.post("/Users", json={"schemas": [USER], "userName": "Nadia"}), 409)
    assert (
        taken["scimType"] == "uniqueness"
        and first["id"] in taken["detail"]
        and "adopt" not in taken["detail"]
    )
    line = "allow account:nadia list"
    client.change(
        [{"op": "change", "kind": "folder", "name": "survey:/inbox", "add": {"entries": [line]}}]
    )
    sent(scim.delete(f"/Users/{first['id']}"), 204)
    assert account(client, "nadia").enabled is False
    again = user(scim, "nadia")
    assert again["id"] == first["id"] and account(client, "nadia").enabled and line in client.dump()
    assert client.directory("corp").last.counts == {"accounts switched on again": 1}
    # Somebody else in the place of who is still there gets an id of their own.
    sent(
        patch(
            scim,
            f"/Users/{first['id']}",
            {"op": "replace", "path": "userName", "value": "nadia.roth"},
        ),
        200,
    )
    assert user(scim, "nadia")["id"] != first["id"]


def test_what_is_here_is_never_harmed_and_handed_over_only_by_somebody_who_looked(scim, client):
    before = client.dump()
    for kind, body, hint in (
        ("Users", {"userName": "INES", "schemas": [USER]}, "--adopt account:ines"),
        ("Groups", {"displayName": "boats", "schemas": [GROUP]}, "--adopt group:boats"),
    ):
        problem = sent(scim.post(f"/{kind}", json=body), 409)
        assert (
            problem["scimType"] == "uniqueness"
            and hint in problem["detail"]
            and client.dump() == before
        )
    told = client.preview_sync("corp", adopt=["account:ines"])
    assert (
        told.report.counts == {"accounts adopted": 1, "accounts changed": 1}
        and client.dump() == before
    )
    assert client.sync("corp", adopt=["account:ines"]).state == "done"
    found = sent(scim.get("/Users", params={"filter": 'userName eq "ines"'}), 200)["Resources"][0]
    assert found["displayName"] == account(client, "ines").display
    sent(
        patch(scim, f"/Users/{found['id']}", {"op": "replace", "path": "active", "value": False}),
        200,
    )
    assert account(client, "ines").enabled is False and client.sync("corp").state == "nothing-to-do"
    with pytest.raises(Refused, match="nobody"):
        client.preview_sync("corp", adopt=["account:nobody-knows"])


def test_what_is_sent_waits_to_be_looked_at_where_that_is_asked_for(scim, client):
    client.change_directory("corp", {"shown_first": True})
    before = client.dump()
    made = user(scim, "later")
    assert (
        client.dump() == before
        and sent(scim.get(f"/Users/{made['id']}"), 200)["userName"] == "later"
    )
    told = client.preview_sync("corp")
    assert told.report.named == {"accounts added": ["later"]} and client.dump() == before
    assert client.sync("corp").state == "done" and account(client, "later").enabled
    for id_ in (user(scim, f"x{n}")["id"] for n in range(3)):
        assert sent(scim.get(f"/Users/{id_}"), 200)
    client.sync("corp")
    for found in sent(scim.get("/Users"), 200)["Resources"]:
        sent(scim.delete(f"/Users/{found['id']}"), 204)
    assert (
        client.sync("corp").state == "refused" and account(client, "later").enabled
    )  # all at once: somebody looks
    assert client.sync("corp", 100).state == "done" and not account(client, "later").enabled


def test_a_promise_that_would_be_broken_refuses_what_is_sent_and_nothing_is_kept(scim, client):
    group = sent(scim.post("/Groups", json={"displayName": "g", "schemas": [GROUP]}), 201)["id"]
    who = user(scim, "newcomer")["id"]
    says = "nobody in account:newcomer may list at survey:/inbox"
    view = {"path": "/for-g", "leads_to": "survey:/inbox", "grants": ["group:g all"]}
    client.change(
        [
            {
                "op": "add",
                "kind": "promise",
                "item": {"name": "closed", "says": says, "kept": "always"},
            },
            {"op": "add", "kind": "virtual-path", "item": view},
            {
                "op": "change",
                "kind": "folder",
                "name": "survey:/inbox",
                "add": {"entries": ["allow group:g all"]},
            },
        ]
    )
    before = client.dump()
    problem = sent(
        patch(
            scim, f"/Groups/{group}", {"op": "add", "path": "members", "value": [{"value": who}]}
        ),
        409,
    )
    assert "closed" in problem["detail"] and client.dump() == before
    assert sent(scim.get(f"/Groups/{group}"), 200).get("members") is None


def test_its_token_opens_nothing_else_and_no_other_token_opens_it(own, scim, client):
    token = scim.headers["Authorization"]
    for path in ("/api/v1/accounts", "/api/v1/sessions", "/metrics"):
        assert httpx.get(own.url + path, headers={"Authorization": token}).status_code == 403
    assert (
        sent(scim.get("/Users", headers={"Authorization": f"Bearer {own.token}"}), 403)["status"]
        == "403"
    )
    bare = httpx.get(own.url + "/scim/v2/Users")
    assert (
        sent(bare, 401)["schemas"][0].endswith(":Error")
        and bare.headers["WWW-Authenticate"] == "Bearer"
    )
    with pytest.raises(Refused, match="there is no directory"):
        client.make_token("other", directory="nowhere")
    client.remove_directory("corp", keep=True)  # and the token with it
    assert scim.get("/Users").status_code == 401


def named(kind, name, **more):
    key = {"User": "userName", "Group": "displayName"}[kind]
    return json.dumps(
        {"schemas": [f"urn:ietf:params:scim:schemas:core:2.0:{kind}"], key: name, **more}
    )


@pytest.mark.parametrize(
    ("method", "path", "body", "status"),
    [
        ("POST", "/Users", "{", 400),
        ("POST", "/Users", '{"schemas": []}', 400),
        ("POST", "/Users", "[]", 400),
        ("POST", "/Users", named("User", "a/b"), 400),
        ("POST", "/Users", named("User", "anonymous"), 400),
        ("POST", "/Users", named("User", "nul", displayName="a\0b"), 400),
        ("POST", "/Users", named("User", "half", displayName="x").replace('"x"', '"\\ud800"'), 400),
        ("POST", "/Groups", named("Group", "g", members=[{"value": "x"}]), 400),
        ("GET", "/Users?filter=nonsense", None, 400),
        ("GET", "/Users?filter=salary gt 3", None, 400),
        ("GET", "/Users/not-an-id", None, 404),
        ("GET", "/Nothing", None, 404),
        ("PUT", "/Users", "{}", 405),
        ("POST", "/Bulk", "{}", 501),
        ("GET", "/Me", None, 501),
        ("GET", "/Schemas?filter=a pr", None, 403),
    ],
)
def test_what_cannot_be_done_is_told_as_the_standard_has_it(
    scim, client, method, path, body, status
):
    before = client.dump()
    answer = sent(scim.request(method, path, content=body), status)
    assert answer["status"] == str(status) and answer["detail"] and client.dump() == before


STEPS = st.lists(
    st.tuples(
        st.sampled_from(["add", "rename", "off", "on", "delete", "join", "leave"]),
        st.integers(0, 3),
        st.integers(0, 5),
    ),
    max_size=8,
)


@settings(
    max_examples=8,
    deadline=None,
    phases=[Phase.explicit, Phase.reuse, Phase.generate],
    suppress_health_check=[HealthCheck.function_scoped_fixture],
)
@given(STEPS)
def test_whatever_is_sent_the_accounts_are_as_its_client_knows_them(own, client, steps):
    """Against a plain account of what was sent: who is there and on, under which name, and in the
    group.
    """
    for a in client.accounts(source="corp").accounts:
        (
            client.change([{"op": "remove", "kind": "account", "name": a.name, "everywhere": True}])
            if not a.enabled
            else None
        )
    client.remove_directory("corp", keep=True)
    client.load(DEMO.read_bytes())
    client.add_directory("corp", {"address": "scim:"})
    with provisioner(own, client) as scim:
        group = sent(scim.post("/Groups", json={"schemas": [GROUP], "displayName": "g"}), 201)["id"]
        there, gone, members = {}, set(), set()
        for what, who, name in steps:
            ids = sorted(there)
            taken = {n for n, _ in there.values()} | gone
            if what == "add":
                body = {"schemas": [USER], "userName": f"n{name}"}
                answer = scim.post("/Users", json=body)
                assert answer.status_code == (409 if f"n{name}" in taken else 201), answer.text
                if answer.status_code == 201:
                    there[answer.json()["id"]] = f"n{name}", True
                continue
            if not ids:
                continue
            id_ = ids[who % len(ids)]
            called, on = there[id_]
            if what == "delete":
                sent(scim.delete(f"/Users/{id_}"), 204)
                del there[id_]
                gone.add(called)
                members.discard(id_)
            elif what in ("join", "leave"):
                value = {"op": "add", "path": "members", "value": [{"value": id_}]}
                sent(
                    patch(
                        scim,
                        f"/Groups/{group}",
                        (
                            value
                            if what == "join"
                            else {"op": "remove", "path": f'members[value eq "{id_}"]'}
                        ),
                    ),
                    200,
                )
                (members.add if what == "join" else members.discard)(id_)
            elif what == "rename":
                answer = patch(
                    scim,
                    f"/Users/{id_}",
                    {"op": "replace", "path": "userName", "value": f"n{name}"},
                )
                free = f"n{name}" == called or f"n{name}" not in taken
                assert answer.status_code == (200 if free else 409), answer.text
                there[id_] = (f"n{name}", on) if free else there[id_]
            else:
                sent(
                    patch(
                        scim,
                        f"/Users/{id_}",
                        {"op": "replace", "path": "active", "value": what == "on"},
                    ),
                    200,
                )
                there[id_] = called, what == "on"
        known = {a.name: a.enabled for a in client.accounts(source="corp").accounts}
        assert known == {**dict.fromkeys(gone, False), **dict(there.values())}
        assert {m.line for m in client.subject("group:g").members} == {
            f"account:{there[m][0]}" for m in members
        }


def test_what_cannot_be_seen_in_a_name_is_left_out_of_the_model_and_kept_as_it_was_sent(
    scim, client
):
    made = user(
        scim, "odd", displayName="One\nline \u200bonly", emails=[{"value": "odd@tidewrack.example"}]
    )
    assert (
        account(client, "odd").display == "One line only"
        and made["displayName"] == "One\nline \u200bonly"
    )
    assert not client.load(client.dump().encode()).changed


# --- login names that are made ------------------------------------------------------------------


def test_login_names_are_made_as_it_is_said_and_tried_before_that_is_kept(scim, client):
    ann = user(scim, "ann.lee@firm.example", name={"givenName": "Ann", "familyName": "Lee"})
    user(scim, "bo@firm.example", name={"givenName": "Bo", "familyName": "Berg"})
    tried = client.try_directory("corp", {"login_name": "{userName up to @}"})
    assert tried.renamed == [
        "account ann.lee@firm.example → ann.lee",
        "account bo@firm.example → bo",
    ]
    assert (
        account(client, "ann.lee") is None and client.directory("corp").options.login_name is None
    )
    client.change_directory("corp", {"login_name": "{userName up to @}"})
    assert client.sync("corp").counts == {"accounts renamed": 2}
    assert account(client, "ann.lee") and account(client, "bo")
    found = sent(scim.get("/Users", params={"filter": 'userName eq "ANN.LEE@firm.example"'}), 200)
    assert [r["id"] for r in found["Resources"]] == [ann["id"]]
    # Two that would be called alike are refused, one by one and all at once; nothing is half done.
    refused = sent(
        scim.post("/Users", json={"schemas": [USER], "userName": "BO@other.example"}), 409
    )
    assert "here 'BO', already exists" in refused["detail"]
    user(scim, "cy@other.example", name={"givenName": "Ann", "familyName": "Lee"})
    with pytest.raises(Refused, match=r"would both be called ann\.lee"):
        client.change_directory("corp", {"login_name": "{name.givenName}.{name.familyName}"})
    assert client.directory("corp").options.login_name == "{userName up to @}" and account(
        client, "cy"
    )
    user(scim, "ann.other@firm.example", active=True)
    with pytest.raises(
        Refused, match=r"ann\.other@firm\.example would have no name: attribute name\.familyName"
    ):
        client.change_directory("corp", {"login_name": "{name.familyName}{userName}"})
    # Who was deleted and comes back is the same person, by the name that is made.
    scim.delete(f"/Users/{ann['id']}")
    assert not account(client, "ann.lee").enabled
    assert (
        user(scim, "ann.lee@new.example")["id"] == ann["id"] and account(client, "ann.lee").enabled
    )


@pytest.mark.parametrize(
    "template", ["", "ann", "{userName", "{userName up to }", "{}", "{a}}", "{user name}"]
)
def test_what_is_no_template_of_login_names_is_refused_with_an_example(client, template):
    with pytest.raises(Refused, match=r"such as \{userName up to @\}"):
        client.change_directory("corp", {"login_name": template})
