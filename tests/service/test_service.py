"""The service over HTTP, as a process on loopback."""

import json
import os
import stat

import httpx
import pytest

from drawknife import __version__
from drawknife.client import Client, ClientError, Refused, ServiceUnavailable
from drawknife.formats.model_file import read_model, write_model

from ..conftest import DEMO, serving, until
from ..core.models import random_model
from ..records.test_records import without_clocks

JSON = {"Content-Type": "application/json"}


@pytest.fixture
def own(address, tmp_path):
    """A service of the test's own, on an empty database."""
    with serving(address, tmp_path) as found:
        yield found


def problem(response, status, kind):
    assert response.status_code == status, response.text
    assert response.headers["Content-Type"] == "application/problem+json"
    body = response.json()
    assert body["type"] == f"urn:drawknife:problem:{kind}" and body["status"] == status
    assert "Traceback" not in response.text
    return body


def test_everything_but_health_needs_a_token(own):
    bare = httpx.Client(base_url=own.url + "/api/v1")
    assert bare.get("/health").json() == {"status": "ok", "version": __version__, "revision": 0}
    described = own.http().get("/openapi.json").json()["paths"]
    for path, methods in described.items():
        for method in methods:
            local = path.removeprefix("/api/v1").replace("{name}", "ines")
            if local in (
                "/health",
                "/sessions",
                "/reviews",
                "/reviews/signed",
            ):  # the last two are for the code of a link
                continue
            problem(bare.request(method, local), 401, "sign-in-required")
            for shown in ("Bearer dk_wrong", f"Basic {own.token}"):
                # After twenty that were not valid, those of this address are not looked at any more
                # for a while.
                answer = bare.request(method, local, headers={"Authorization": shown})
                assert (
                    answer.status_code in (401, 429)
                    and answer.headers["Cache-Control"] == "no-store"
                )
    problem(bare.get("/openapi.json"), 401, "sign-in-required")


def test_the_token_file_is_for_its_owner_only(address, tmp_path):
    with serving(address, tmp_path) as found:
        file = tmp_path / "token"
        assert stat.S_IMODE(file.stat().st_mode) == 0o600
        assert file.read_text().strip() not in "".join(found.said)


def test_load_and_dump(own):
    with own.client() as client:
        sent = []
        done = client.load(DEMO.read_bytes(), lambda *progress: sent.append(progress))
        assert (done.revision, done.changed, done.counts["accounts"]) == (1, True, 19)
        assert sent[-1][0] == sent[-1][1] == len(DEMO.read_bytes())
        assert client.dump() == DEMO.read_text()
        assert read_model(client.dump(as_json=True)) == read_model(DEMO.read_bytes())
        assert not client.load(client.dump(as_json=True).encode()).changed
        with pytest.raises(Refused) as caught:
            client.load(b"drawknife: 1\nunits: [a//b]\ngroups: [{name: g, members: [account:x]}]")
        assert [(p.line, p.where) for p in caught.value.problem.places] == [
            (2, "units[0]"),
            (3, "groups[0].members[0]"),
        ]
        assert client.health().revision == 1


def test_if_match_guards_against_overwriting_unseen(own):
    with own.client() as client:
        first = client.load(DEMO.read_bytes(), revision=0)
        with pytest.raises(Refused) as caught:
            client.load(b"drawknife: 1", revision=0)
        assert caught.value.problem.status == 412
        assert client.load(b"drawknife: 1", revision=first.revision).revision == 2
    with own.http() as http:
        problem(
            http.put("/model", content=b"drawknife: 1", headers={"If-Match": "2"}), 400, "bad-input"
        )


def test_several_services_share_one_database(address, tmp_path):
    with (
        serving(address, tmp_path) as one,
        serving(address, tmp_path) as other,
        one.client() as a,
        other.client() as b,
    ):
        for seed in range(6):
            a.load(write_model(random_model(seed)).encode())
            text = a.dump()
            assert without_clocks(read_model(text)) == without_clocks(
                random_model(seed)
            )  # at once where it was written
            for _ in range(10_000):
                if b.health().revision == seed + 1:
                    break
            assert b.dump() == text
            a, b = b, a


def test_bad_input_is_told_with_its_place(service):
    with service.http() as http:
        body = problem(http.post("/decisions", content=b"{bad", headers=JSON), 400, "bad-document")
        assert body["places"][0]["line"] == 1
        question = {"account": "ines", "action": "fly", "path": "/"}
        assert (
            problem(http.post("/decisions", json=question), 400, "bad-input")["places"][0]["where"]
            == "action"
        )
        question = {"account": "inez", "action": "list", "path": "/"}
        assert (
            problem(http.post("/decisions", json=question), 400, "bad-input")["places"][0][
                "nearest"
            ]
            == "ines"
        )
        question = {"account": "ines", "action": "list", "path": "/a/../b", "extra": 1}
        assert (
            problem(http.post("/decisions", json=question), 400, "bad-input")["places"][0]["where"]
            == "extra"
        )
        problem(
            http.post("/decisions", content=b"x", headers={"Content-Type": "text/plain"}),
            400,
            "bad-input",
        )
        assert (
            problem(http.get("/accounts/inez"), 404, "not-found")["places"][0]["nearest"] == "ines"
        )
        problem(http.get("/accounts", params={"limit": "many"}), 400, "bad-input")
        problem(http.get("/accounts", params={"colour": "red"}), 400, "bad-input")
        problem(
            http.get("/who", params={"right": "download", "at": "nowhere:/x"}), 404, "not-found"
        )
        problem(http.get("/map", params={"under": "a//b"}), 400, "bad-input")
        problem(http.get("/nothing"), 404, "http-404")
        assert problem(http.patch("/accounts"), 405, "http-405")
        problem(http.post("/decisions", content=b" " * (17 * 2**20), headers=JSON), 413, "http-413")
        problem(http.put("/model", content=b"[" * 200_000), 400, "bad-document")


def test_a_batch_goes_on_past_a_bad_question(service):
    questions = [
        {"account": "ines", "action": "list", "path": "/inbox"},
        {"account": "nobody", "action": "list", "path": "/inbox"},
        {"account": "fulmar", "action": "upload", "path": "/charts/x", "explain": True},
    ]
    with service.client() as client:
        answers = client.decide_many(questions)
    assert answers[0] == {
        "allowed": True,
        "gate": None,
        "reason": "allowed",
        "text": "ines may list /inbox",
    }
    assert answers[1]["error"]["where"] == "account"
    assert answers[2]["gate"] == "virtual path" and answers[2]["explanation"]["obstacles"]


def test_the_service_answers_as_the_core_does(service, asking):
    with service.client() as client:
        assert client.access("ines").rows == asking.access("ines").rows
        assert client.standing("yuki").standing == asking.standing("yuki").standing
        detail = client.account_detail("KITTIWAKE")
        assert detail.credential is True and detail.model_copy(
            update={"credential": None}
        ) == asking.account_detail("kittiwake")
        assert client.who("upload", "survey:/inbox/fulmar") == asking.who(
            "upload", "survey:/inbox/fulmar"
        )
        assert (
            client.who("upload", "/inbox", but_for="folder").almost
            == asking.who("upload", "/inbox", but_for="folder").almost
        )
        assert client.compare("ines", "yuki") == asking.compare("ines", "yuki")
        assert client.listing("harrow-dredging", "/charts") == asking.listing(
            "harrow-dredging", "/charts"
        )
        assert client.folder("survey:/charts/exchange") == asking.folder("survey:/charts/exchange")
        until(
            lambda: not client.findings().not_looked_at
        )  # certificates are looked at beside the answering
        assert client.findings().findings == asking.findings().findings
        assert client.overview().counts == asking.overview().counts
        assert client.overview().findings == client.findings().findings
        assert asking.findings().not_looked_at == ["passwords and keys"]
        assert client.stores() == asking.stores() and client.endpoints() == asking.endpoints()
        assert client.virtual_paths() == asking.virtual_paths()
        assert client.accounts("fleet").total == 4
        assert client.journal().lines[-1].what == "load"
        same = client.compare_model("bram", DEMO.read_text())
        assert same.total == 0
        changed = client.compare_model(
            "bram",
            DEMO.read_text().replace(
                "  - group:chart-desk read\n- path: /archive",
                "  - group:chart-desk look\n- path: /archive",
            ),
        )
        assert changed.total == 0  # /archive is not served to bram on either side


def test_the_map_as_lines_and_csv(service):
    with service.http() as http:
        window = {"right": "upload", "under": "/inbox", "matching": "fulmar"}
        csv = http.get("/map", params=window, headers={"Accept": "text/csv"})
        assert (
            csv.text
            == "account,/inbox,/inbox/fulmar,/inbox/kittiwake,/inbox/razorbill,/inbox/turnstone\r\n"
            "fulmar,yes,,,,\r\n"
        )
        lines = http.get("/map", params=window, headers={"Accept": "application/x-ndjson"})
        assert json.loads(lines.text) == {
            "account": "fulmar",
            "location": "/inbox",
            "access": "yes",
        }
        assert http.get("/map", params=window).json()["cells"] == [["yes", None, None, None, None]]


def test_the_console_signs_in_by_cookie_and_out_again(service):
    with httpx.Client(base_url=service.url + "/api/v1") as browser:
        problem(browser.post("/sessions", json={"token": "dk_no"}), 401, "sign-in-refused")
        signed = browser.post("/sessions", json={"token": service.token})
        cookie = signed.headers["Set-Cookie"]
        assert "HttpOnly" in cookie and "SameSite=Strict" in cookie and service.token not in cookie
        assert browser.get("/accounts").status_code == 200
        question = {"account": "ines", "action": "list", "path": "/"}
        # A form of another site carries the cookie, but cannot say that it is the console.
        problem(browser.post("/decisions", json=question), 401, "sign-in-required")
        assert (
            browser.post(
                "/decisions", json=question, headers={"X-Drawknife-Console": "1"}
            ).status_code
            == 200
        )
        kept = dict(browser.cookies)
        browser.delete("/sessions", headers={"X-Drawknife-Console": "1"})
        problem(browser.get("/accounts", cookies=kept), 401, "sign-in-required")


def test_every_answer_has_the_protecting_headers(service):
    page = httpx.get(service.url + "/api/v1/health")
    assert "frame-ancestors 'none'" in page.headers["Content-Security-Policy"]
    assert page.headers["X-Content-Type-Options"] == "nosniff"


def test_a_client_tells_what_is_wrong_with_the_service(service, tmp_path):
    with (
        Client("http://127.0.0.1:1", "x") as nowhere,
        pytest.raises(ServiceUnavailable, match="no service answers"),
    ):
        nowhere.health()
    with Client(service.url + "/elsewhere", service.token) as other, pytest.raises(ClientError):
        other.accounts()
    with Client(service.url, "dk_wrong") as stranger, pytest.raises(Refused) as caught:
        stranger.accounts()
    assert caught.value.problem.status == 401


@pytest.mark.parametrize(
    "loud", [("--log-requests",), ("--log-level", "info"), ("-v",)], ids=" ".join
)
def test_no_secret_comes_into_the_log(address, tmp_path, loud):
    with serving(address, tmp_path, *loud) as found:
        with found.http() as http:
            http.post("/sessions", json={"token": found.token})
            http.get("/accounts", params={"matching": "x"})
        log = found.stop()
    assert '"path": "/api/v1/accounts"' in log and "administrator" in log
    assert found.token not in log and os.path.basename(address).split("@")[0] not in log


def test_a_log_level_leaves_out_what_is_below_it(address, tmp_path):
    said = {}
    for level in ("warning", "error"):
        with serving(address, tmp_path, "--log-level", level) as found:
            with found.http(Authorization="Bearer dk_wrong") as http:
                assert http.get("/accounts").status_code == 401
            said[level] = found.stop()
    assert "sign-in refused" in said["warning"] and "request answered" not in said["warning"]
    assert "sign-in refused" not in said["error"]
