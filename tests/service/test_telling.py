"""Findings and broken promises are told outside: each once, and once more when it is mended;
nothing is lost on the way.
"""

import contextlib
import json
import threading
from datetime import UTC, datetime, time, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest

from drawknife import messages as msg
from drawknife.formats.model_file import read_model
from drawknife.records.changes import replace_model
from drawknife.records.database import Database, bring_up_to_date
from drawknife.records.directories import Secrets
from drawknife.records.telling import ToldFinding
from drawknife.service.current import Current
from drawknife.service.files import ReadableFolders
from drawknife.service.shared import Shared
from drawknife.service.telling import FIRST_WAIT, Telling, When
from drawknife.service.tidings import Mail, NotTaken, Tidings, Webhook, signature, text

from ..conftest import DEMO, run, serving, until
from ..mail_server import PASSWORD, USER, mail_server

NOW = datetime(2026, 11, 27, 12, tzinfo=UTC)


class Receiver:
    """A receiver of webhooks on loopback: what came, and what it answers."""

    def __init__(self):
        self.came, self.status = [], 204
        receiver = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self):
                body = self.rfile.read(int(self.headers["Content-Length"]))
                receiver.came.append((dict(self.headers), body))
                self.send_response(receiver.status)
                self.end_headers()

            def log_message(self, *given):
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.url = f"http://127.0.0.1:{self.server.server_address[1]}/hooks/s3cret-path"


@pytest.fixture
def receiver():
    made = Receiver()
    yield made
    made.server.shutdown()


def heard(client, receiver, number):
    """What comes as that, headers and body; the service is asked meanwhile, which takes
    its time.
    """
    return until(lambda: client.health() and len(receiver.came) > number and receiver.came[number])


def test_a_service_tells_what_is_new_signed_and_once_and_what_is_mended(
    address, tmp_path, receiver
):
    secret = tmp_path / "secret"
    secret.write_text("between us\n")
    secret.chmod(0o600)
    options = ("--load", DEMO, "--webhook", receiver.url, "--webhook-secret-file", secret)
    with serving(address, tmp_path, *options) as service, service.client() as client:
        headers, body = heard(client, receiver, 0)
        told = json.loads(body)
        found = {f.text for f in client.findings().findings}
        assert (
            {t["text"] for t in told["new"]} == found
            and told["mended"] == []
            and told["revision"] == 1
        )
        assert headers["Drawknife-Signature"] == signature(
            b"between us", headers["Drawknife-Time"], body
        )
        assert (
            signature(b"another", headers["Drawknife-Time"], body) != headers["Drawknife-Signature"]
        )
        client.change(
            [{"op": "change", "kind": "account", "name": "ines", "set": {"display": "Inês"}}]
        )
        client.change(
            [{"op": "remove", "kind": "endpoint", "name": "old-quay"}]
        )  # one finding less
        told = json.loads(heard(client, receiver, 1)[1])
        assert [t["kind"] for t in told["mended"]] == ["endpoint-clash"] and told["new"] == []
        # What was changed since, the newest first; with it, for who reads it.
        assert [c["revision"] for c in told["changes"]] == [3, 2] and told["changes"][0][
            "who"
        ] == "administrator"
    with (
        serving(address, tmp_path, *options) as service,
        service.client() as client,
    ):  # a service that is started again
        client.change(
            [
                {
                    "op": "add",
                    "kind": "endpoint",
                    "item": {"name": "old-quay", "protocol": "ftp", "port": 2121},
                }
            ]
        )
        told = json.loads(heard(client, receiver, 2)[1])
        assert {t["kind"] for t in told["new"]} == {
            "endpoint-clash",
            "no-certificate",
        }  # and what was told is not again
    assert b"between us" not in b"".join(body for _, body in receiver.came)


class Collected:
    """A way of telling that keeps what it was told, and takes only what it is to take."""

    name = "collected"

    def __init__(self):
        self.told, self.takes = [], True

    def tell(self, tidings):
        if not self.takes:
            raise NotTaken("not now")
        self.told.append(tidings)


@pytest.fixture
def current(address):
    bring_up_to_date(address)
    database = Database(address)
    database.open()
    replace_model(database, read_model(DEMO.read_bytes()), "test", "load")
    made = Current(database, Secrets(None), ReadableFolders((DEMO.parent,)), Shared())
    yield made
    database.close()


def loaded(current, text):
    made = replace_model(current.database, read_model(text.encode()), "test", "load")
    current.took(made)


def test_what_is_not_taken_is_told_later_ever_less_often_and_then_whole(current):
    way = Collected()
    telling = Telling(current, (way,), When())
    way.takes = False
    tried, at = [], NOW
    for _ in range(8):
        before = at
        while telling.look(way, at) is False and telling._waits[way.name][1] <= at:
            at += timedelta(seconds=1)
        at = telling._waits[way.name][1]
        tried.append((at - before).total_seconds())
    assert tried == [FIRST_WAIT * 2**n for n in range(8)]
    way.takes = True
    assert not telling.look(way, at - timedelta(seconds=1)) and way.told == []
    assert telling.look(way, at) and len(way.told) == 1 and len(way.told[0].new) > 5
    assert not telling.look(way, at + timedelta(seconds=3))  # and then it is told


def test_once_a_day_what_came_and_went_meanwhile_is_not_told_and_the_rest_in_one(current):
    way, when = Collected(), When(time(7))
    telling = Telling(current, (way,), when)
    assert telling.look(way, NOW)
    clean = "drawknife: 1\naccounts: [{name: ines}]\n"
    loaded(current, clean)
    assert (
        not telling.look(way, NOW + timedelta(hours=5)) and len(way.told) == 1
    )  # not before tomorrow at seven
    assert telling.look(way, NOW + timedelta(hours=19, minutes=1))
    assert way.told[1].new == [] or {t.kind for t in way.told[1].new} <= {"no-credential"}
    assert {t.key for t in way.told[1].mended} <= {t.key for t in way.told[0].new}
    assert [c.revision for c in way.told[1].changes] == [2]
    assert not telling.look(way, NOW + timedelta(hours=30))
    assert [When(time(7)).due(None, NOW), When().due(None, NOW)] == [True, True]


def test_a_limit_that_fills_further_is_the_same_finding():
    assert (
        ToldFinding("limit-nearly-full", "q", "q is 98% full").key
        == ToldFinding("limit-nearly-full", "q", "q is 99% full").key
    )
    assert (
        ToldFinding("limit-nearly-full", "q", "q is full").key
        != ToldFinding("limit-nearly-full", "q", "q is 99% full").key
    )
    assert (
        ToldFinding("x", "a", "until 2026-10-15").key
        != ToldFinding("x", "b", "until 2026-10-15").key
    )


def test_only_one_of_two_services_tells(current, address):
    other = Database(address)
    other.open()
    second = Current(other, Secrets(None), ReadableFolders((DEMO.parent,)), Shared())
    one, two = Collected(), Collected()

    class Meanwhile(Collected):
        def tell(self, tidings):
            super().tell(tidings)
            assert not Telling(second, (two,), When()).look(two, NOW)

    one = Meanwhile()
    assert Telling(current, (one,), When()).look(one, NOW)
    assert not Telling(second, (two,), When()).look(two, NOW) and two.told == []
    other.close()


TIDINGS = Tidings(
    7,
    NOW,
    [ToldFinding("promise-broken", "p", "promise p is broken: jonas at /soundings")],
    [ToldFinding("x", "y", "it was")],
    [],
)


def test_mail_goes_under_tls_with_a_name_and_a_password_and_says_it_in_words(tmp_path):
    with mail_server(tmp_path) as there:
        to = ("edda@tidewrack.example",)
        mail = Mail(
            there.address, "drawknife@tidewrack.example", to, USER, PASSWORD, there.certificate
        )
        mail.tell(TIDINGS)
        (letter,) = there.letters
        assert there.came[0].rcpt_tos == ["edda@tidewrack.example"]
        assert (
            letter["Subject"] == "Drawknife: 1 new finding, 1 mended"
            and letter["Auto-Submitted"] == "auto-generated"
        )
        said = letter.get_content().replace("\r\n", "\n")
        assert said == text(TIDINGS) and "promise p is broken: jonas at /soundings" in said
        for wrong in (
            mail._replace(password="another"),
            mail._replace(ca_file=None),
            mail._replace(server="127.0.0.1:1"),
        ):
            with pytest.raises(NotTaken):
                wrong.tell(TIDINGS)
            assert wrong.why_not_reached().startswith("127.0.0.1:")
        assert len(there.came) == 1 and mail.why_not_reached() == ""
        mail._replace(console="https://drawknife.tidewrack.example").tell(TIDINGS)
        assert (
            there.letters[1].get_content().splitlines()[-1] == "https://drawknife.tidewrack.example"
        )


def test_a_webhook_that_refuses_or_is_not_there_is_not_taken_and_its_path_is_not_logged(receiver):
    receiver.status = 500
    with pytest.raises(NotTaken, match=r"127\.0\.0\.1 answers 500"):
        Webhook(receiver.url).tell(TIDINGS)
    receiver.status = 302  # who redirects has not taken it
    with pytest.raises(NotTaken):
        Webhook(receiver.url).tell(TIDINGS)
    with pytest.raises(NotTaken) as away:
        Webhook("http://127.0.0.1:1/hooks/s3cret-path").tell(TIDINGS)
    assert "s3cret-path" not in str(away.value)


def test_a_letter_shows_control_characters_and_does_not_hold_them():
    told = TIDINGS.new[0]._replace(text="x\x1b[8m\u202e")
    said = text(TIDINGS._replace(new=[told]))
    assert "x\\u001b[8m\\u202e" in said and "\x1b" not in said


class _Endless(BaseHTTPRequestHandler):
    """Answers a POST, and never stops."""

    def do_POST(self):
        self.rfile.read(int(self.headers["Content-Length"]))
        self.send_response(200)
        self.end_headers()
        with contextlib.suppress(OSError):
            while True:
                self.server.sent += self.wfile.write(b"x" * 65536)

    def log_message(self, *_):
        pass


def test_a_webhook_that_answers_without_an_end_is_not_read_to_it():
    with ThreadingHTTPServer(("127.0.0.1", 0), _Endless) as server:
        server.sent = 0
        threading.Thread(target=server.serve_forever, daemon=True).start()
        Webhook(f"http://127.0.0.1:{server.server_port}/").tell(TIDINGS)
        server.shutdown()
    assert server.sent < 64 * 2**20


@pytest.mark.parametrize(
    ("said", "told"),
    [
        ('webhook = "ftp://x"', "--webhook"),
        ('mail_to = ["a@b"]', "go together"),
        ('tell = "soon"', "07:00"),
        ('webhook = "https://x"\nwebhook_secret_file = "{folder}/open"', "chmod 600"),
        ('mail_to = ["a@b"]\nmail_from = "c@d"\nmail_server = "smtp"', "HOST:PORT"),
    ],
)
def test_options_that_cannot_be_told_by_are_told(said, told, tmp_path):
    (tmp_path / "open").write_text("x")
    (tmp_path / "open").chmod(0o644)
    (tmp_path / "c.toml").write_text(
        'database = "dbname=x"\n' + said.replace("{folder}", str(tmp_path)) + "\n"
    )
    done = run("config", "check", tmp_path / "c.toml")
    assert done.returncode == 1 and told in done.stderr


def test_what_could_not_be_looked_at_is_not_told_as_mended(current):
    way = Collected()
    telling = Telling(current, (way,), When())
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(
            Current,
            "answering",
            lambda self: _with(
                self, [("certificate", "harbour", "the certificate of harbour: it expired")], []
            ),
        )
        assert telling.look(way, NOW)
        patch.setattr(
            Current, "answering", lambda self: _with(self, [], ["the certificate of harbour"])
        )
        assert not telling.look(way, NOW + timedelta(minutes=2))
        patch.setattr(Current, "answering", lambda self: _with(self, [], []))
        assert telling.look(way, NOW + timedelta(minutes=4))
    assert [[t.kind for t in x.mended] for x in way.told] == [[], ["certificate"]]


class _Findings:
    def __init__(self, findings, unknown):
        self.findings, self.not_looked_at = (
            [msg.FindingMessage(kind=k, about=a, text=t) for k, a, t in findings],
            unknown,
        )
        self.accepted = []


def _with(current, findings, unknown):
    return type(
        "Answers", (), {"revision": 1, "findings": lambda self: _Findings(findings, unknown)}
    )()
