"""The past over HTTP, by the client and by the command line: every question can be asked of it, and
nothing changed in it.
"""

import json

import pytest

from drawknife.client import ClientError, Refused
from drawknife.formats.model_file import read_model, write_model

from ..conftest import DEMO, run, serving

CHANGES = [
    [
        {
            "op": "change",
            "kind": "folder",
            "name": "survey:/charts",
            "add": {"entries": ["deny group:partners download"]},
        }
    ],
    [{"op": "remove", "kind": "account", "name": "tomasz", "everywhere": True}],
    [
        {"op": "rename", "kind": "account", "name": "yuki", "to": "yoko"},
        {"op": "add", "kind": "unit", "name": "shore/jetty"},
        {
            "op": "change",
            "kind": "virtual-path",
            "name": "/charts",
            "add": {"grants": ["account:odile read"]},
        },
        {
            "op": "change",
            "kind": "promise",
            "name": "soundings-stay-inside",
            "set": {"kept": "watched", "note": "asked for"},
        },
        {"op": "change", "kind": "network", "set": {"inside": ["192.0.2.0/24", "203.0.113.0/24"]}},
    ],
]


@pytest.fixture(scope="module")
def own(cluster, tmp_path_factory):
    with serving(
        cluster.create_database("past"), tmp_path_factory.mktemp("past"), "--load", str(DEMO)
    ) as service:
        with service.client() as client:
            client.set_password("tomasz", "secret of tomasz")
            for changes in CHANGES:
                client.change(changes)
        yield service


@pytest.fixture
def client(own):
    with own.client() as client:
        yield client


#: Questions of every kind, of what there was at first; each gives a message.
QUESTIONS = {
    "access": lambda x: x.access("yuki"),
    "access by an endpoint": lambda x: x.access("tomasz", endpoint="lab-sftp"),
    "standing": lambda x: x.standing("tomasz"),
    "account": lambda x: x.account_detail("yuki"),
    "accounts": lambda x: x.accounts(),
    "listing": lambda x: x.listing("tomasz", "/charts"),
    "decision": lambda x: x.decide(
        {"account": "tomasz", "action": "download", "path": "/charts/a", "explain": True}
    ),
    "who": lambda x: x.who("download", "survey:/charts"),
    "who but for": lambda x: x.who("upload", "/charts", but_for="folder"),
    "map": lambda x: x.map(right="download"),
    "compare": lambda x: x.compare("yuki", "tomasz"),
    "groups": lambda x: x.groups(),
    "units": lambda x: x.units(),
    "subject": lambda x: x.subject("group:sonar-lab"),
    "ways": lambda x: x.ways("tomasz"),
    "without": lambda x: x.without("tomasz", "group:sonar-lab"),
    "items": lambda x: x.items("folder"),
    "item": lambda x: x.item("group", "night-watch"),
    "stores": lambda x: x.stores(),
    "folder": lambda x: x.folder("survey:/charts"),
    "virtual paths": lambda x: x.virtual_paths(),
    "endpoints": lambda x: x.endpoints(),
    "reach": lambda x: x.reach("harbour", "203.0.113.9"),
    "headroom": lambda x: x.headroom("tomasz", "/charts"),
    "usage": lambda x: x.usage(),
    "limits": lambda x: x.limits(),
    "handover": lambda x: x.handover("yuki"),
    "promises": lambda x: x.promises(),
    "findings": lambda x: x.findings(),
    "overview": lambda x: x.overview(),
}


@pytest.mark.parametrize("ask", QUESTIONS.values(), ids=QUESTIONS)
def test_every_question_can_be_asked_of_the_past(client, ask, asking):
    past = ask(client.as_of("1"))
    here = ask(asking) if ask is not QUESTIONS["map"] else None
    assert getattr(past, "revision", 1) == 1
    # The same as of the model file that was loaded then; only what is known of certificates is not
    # of the past.
    if here is not None and ask not in (
        QUESTIONS["findings"],
        QUESTIONS["overview"],
        QUESTIONS["handover"],
    ):
        assert _bare(past) == _bare(here)
    assert _bare(past) != _bare(_today(client, ask))


def _today(client, ask):
    """What is answered now: another answer, or none, as a name is gone."""
    try:
        return ask(client)
    except Refused as refused:
        return {"refused": str(refused)}


def _bare(data):
    """Plain data, without what differs with the place and time of asking: revisions, credentials,
    locks.
    """
    if hasattr(data, "model_dump"):
        data = json.loads(data.model_dump_json(by_alias=True))
    if isinstance(data, dict):
        elsewhere = ("revision", "credential", "locked", "notes")
        return {k: _bare(v) for k, v in data.items() if k not in elsewhere and v is not None}
    return [_bare(x) for x in data] if isinstance(data, list) else data


def test_the_dump_of_each_revision_is_the_model_then(client, own):
    demo = read_model(DEMO.read_text())
    assert read_model(client.as_of("1").dump()) == demo
    newest = client.overview().revision
    assert client.as_of(str(newest)).dump() == client.dump()
    at = client.journal_line(newest - 1).at
    assert client.as_of(at.isoformat()).dump() == client.as_of(str(newest - 1)).dump()
    with own.http() as http:
        first = http.get("/model", params={"as_of": "1"})
        assert first.headers["ETag"] == '"1"'
        assert (
            http.get("/model", params={"as_of": "1"}, headers={"If-None-Match": '"1"'}).status_code
            == 304
        )


def test_nothing_can_be_changed_in_the_past(client):
    with pytest.raises(ClientError, match="the past can be asked of, and not changed"):
        client.as_of("1").change(CHANGES[0])
    with pytest.raises(Refused):
        client.as_of("1").journal()


@pytest.mark.parametrize(
    ("as_of", "status", "told"),
    [
        ("99", 404, "there is no revision '99'"),
        ("last week", 400, "is no revision and no time"),
        ("2001-01-01", 400, "is before the first revision"),
        ("2999-01-01T00:00", 400, "lies ahead"),
    ],
)
def test_a_past_that_was_not_is_told_with_the_remedy(own, as_of, status, told):
    with own.http() as http:
        for path in ("/accounts", "/model", "/overview"):
            response = http.get(path, params={"as_of": as_of})
            assert response.status_code == status and told in response.json()["detail"]
        assert http.post("/back-to", json={"as_of": as_of}).status_code == status
        assert http.post("/back", json={"revision": 99}).status_code == 404


def test_the_journal_by_who_by_what_and_by_time(client, own):
    about = client.journal(about="account:tomasz")
    assert {line.what for line in about.lines} >= {"remove account tomasz", "load"}
    # A line that names it counts as well, and a name that only begins alike does not.
    assert any(
        x.name == "survey:/charts"
        for line in client.journal(about="group:partners").lines
        for x in line.items
    )
    assert client.journal(about="account:tom").total == 0
    assert client.journal(who="nobody").total == 0
    assert client.journal(who=about.lines[0].who).total > 3
    at = client.journal_line(2).at.isoformat()
    assert (
        client.journal(until=at).total + client.journal(since=at).total
        == client.journal().total + 1
    )
    with own.http() as http:
        for key, value in (("about", "tomasz"), ("since", "soon")):
            response = http.get("/journal", params={key: value})
            assert response.status_code == 400 and response.json()["places"][0]["where"] == key


def test_findings_tell_what_of_the_past_was_not_looked_at(client, own):
    assert "passwords and keys" not in client.findings().not_looked_at
    assert not any(f.kind == "no-credential" for f in client.as_of("1").findings().findings)
    unknown = ["passwords and keys", "the certificate of harbour"]
    assert (
        client.as_of("1").findings().not_looked_at
        == unknown
        == client.as_of("1").overview().not_looked_at
    )
    told = run(
        "findings",
        "--as-of",
        "1",
        environment={"DRAWKNIFE_URL": own.url, "DRAWKNIFE_TOKEN": own.token},
    )
    assert told.stderr == "not looked at: passwords and keys; the certificate of harbour\n"


def test_since_when(client, own):
    found = client.when("harrow-dredging", "download", "/charts/issued/sheet.pdf")
    lines = client.journal(about="survey:/charts").lines
    deny = next(
        line.revision for line in lines if any(x.name == "survey:/charts" for x in line.items)
    )
    assert [(t.allowed, t.revision) for t in found.turns] == [
        (False, deny),
        (True, 1),
        (None, None),
    ]
    assert found.allowed is False and found.turns[0].items == ["folders survey:/charts"]
    assert found.looked_at < found.revision
    assert client.when("yoko", "list", "/soundings").turns[0].revision == 1, (
        "under the name that it had"
    )
    with own.http() as http:
        assert http.get(
            "/when", params={"account": "nobody", "action": "list", "path": "/"}
        ).status_code in (400, 404)


def test_the_command_line(own):
    environment = {"DRAWKNIFE_URL": own.url, "DRAWKNIFE_TOKEN": own.token}

    def drawknife(*arguments):
        return run(*arguments, environment=environment)

    assert "tomasz" in drawknife("who", "download", "/charts", "--as-of", "1").stdout
    assert "tomasz" not in drawknife("who", "download", "/charts").stdout
    assert drawknife("dump", "--as-of", "1").stdout == write_model(read_model(DEMO.read_text()))
    assert drawknife("access", "ines", "--as-of", "99").returncode == 2
    refused = drawknife("access", "ines", "--as-of", "1", "--model", str(DEMO))
    assert refused.returncode == 2 and "a model file has no history" in refused.stderr
    told = drawknife("when", "harrow-dredging", "download", "/charts/issued/a.pdf")
    assert "cannot download" in told.stdout and "change folder survey:/charts" in told.stdout
    assert (
        json.loads(drawknife("when", "ines", "list", "/charts", "--json").stdout)["allowed"] is True
    )
    assert "remove account tomasz" in drawknife("journal", "--about", "account:tomasz").stdout
    nothing = drawknife("journal", "--who", "nobody")
    assert (nothing.stdout, nothing.stderr) == ("", "no line is like that\n")


def test_back_is_shown_first_and_not_done_unasked(own, client):
    environment = {"DRAWKNIFE_URL": own.url, "DRAWKNIFE_TOKEN": own.token}
    revision = next(x.revision for x in client.journal().lines if x.what == "remove account tomasz")
    before = client.dump()
    shown = run("back", str(revision), "--preview", environment=environment)
    assert shown.returncode == 0 and "+ accounts tomasz" in shown.stdout and client.dump() == before
    unasked = run("back", str(revision), environment=environment)
    assert unasked.returncode == 2 and "say --yes" in unasked.stderr and client.dump() == before
    done = run("back", str(revision), "--yes", environment=environment)
    assert (
        done.returncode == 0
        and "added accounts tomasz" in done.stderr
        and "new: tomasz" in done.stderr
    )
    assert client.password_is_right("tomasz", "secret of tomasz")
    touched = run("back", "1", "--yes", environment=environment)
    assert touched.returncode == 2 and "was touched later, by revision" in touched.stderr
    whole = run("back-to", "1", "--yes", environment=environment)
    assert whole.returncode == 0
    assert read_model(client.dump()) == read_model(DEMO.read_text())
    assert client.journal().lines[0].what == "back to revision 1"
    stale = run("back-to", "3", "--yes", "--if-revision", "2", environment=environment)
    assert stale.returncode == 1 and "the model is at revision" in stale.stderr
