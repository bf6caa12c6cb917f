"""A single decision that is answered before the framework is the one that the route gives."""

import json

import pytest

from drawknife.core.words.rights import RIGHTS
from drawknife.records import administrators, tokens
from drawknife.records.changes import replace_model
from drawknife.service.app import create_app

#: As any query is, this one is for the route; it changes nothing of the answer.
LONG_WAY = "?without_disk=false"


@pytest.fixture
def app(database, demo):
    replace_model(database, demo, "test", "load")
    administrators.ensure_owner(database, "test")
    return create_app(database)


@pytest.fixture
def framework(app, monkeypatch):
    """What comes to the framework: the addresses, in order."""
    came, route = [], app.full_dispatch_request

    def noting(*given):
        from flask import request

        came.append(request.full_path)
        return route(*given)

    monkeypatch.setattr(app, "full_dispatch_request", noting)
    return came


def posted(app, body, token, query="", **headers):
    """The status, the headers that are not another each time, and the body."""
    sent = {"Authorization": f"Bearer {token}", "Content-Type": "application/json", **headers}
    with app.test_client() as client:
        found = client.post(f"/api/v1/decisions{query}", data=body, headers=sent)
    assert len(found.headers["X-Request-Id"]) == 16
    return found.status, sorted(h for h in found.headers if h[0] != "X-Request-Id"), found.data


def test_it_is_answered_before_and_just_so(app, framework, database, demo):
    token = tokens.make_token(database, "test", role="reader")
    for account in demo.accounts[:8]:
        for right in RIGHTS:
            for more in ({}, {"explain": True}, {"endpoint": "harbour", "from": "198.51.100.7"}):
                path = "/soundings/x" if right != "rename" else "/charts/x"
                to = {"to": "/charts/y"} if right == "rename" else {}
                body = json.dumps(
                    {"account": account.name, "action": right, "path": path, **to, **more}
                )
                assert posted(app, body, token) == posted(app, body, token, LONG_WAY)
    assert framework and all("without_disk" in path for path in framework)


WRONG = [
    b"",
    b"no json",
    b"[" * 100_000,
    b"\xff\xfe",
    b'{"account": "ines", "account": "bram", "action": "list", "path": "/"}',
    b'{"account": "in\\u0000es", "action": "list", "path": "/"}',
    b'{"account": "ine", "action": "list", "path": "/"}',
    b'{"account": "ines", "action": "lst", "path": "/"}',
    b'{"account": "ines", "action": "list", "path": "relative"}',
    b'{"account": "ines", "action": "list", "path": "/", "colour": "red"}',
    b'{"account": "ines", "action": "rename", "path": "/"}',
]


@pytest.mark.parametrize("body", WRONG, ids=range(len(WRONG)))
def test_what_is_wrong_is_told_by_the_route(app, framework, database, body):
    token = tokens.make_token(database, "test", role="reader")
    status, headers, text = posted(app, body, token)
    assert framework == ["/api/v1/decisions?"] and status.startswith("400"), text
    assert (status, headers, text) == posted(app, body, token, LONG_WAY)


def test_who_may_not_ask_is_told_by_the_route(app, framework, database):
    body = json.dumps({"account": "ines", "action": "list", "path": "/"})
    mine = tokens.make_token(database, "test", role="reader")
    assert posted(app, body, "dk_unknown")[0].startswith("401")
    assert posted(app, body, mine, Authorization="Basic abc")[0].startswith("401")
    assert len(framework) == 2
    assert posted(app, body, mine)[0].startswith("200") and len(framework) == 2
    with database.transaction() as connection:
        connection.execute("DELETE FROM tokens")
    app.extensions["drawknife"].forget_tokens()
    assert posted(app, body, mine)[0].startswith("401"), "a token that ended is good for nothing"
