"""A report that is signed by a link: mailed, opened, signed once; with what its sender may do, and
nothing more.
"""

import json
import re
from concurrent.futures import ThreadPoolExecutor

import httpx
import psycopg
import pytest

from drawknife.client import Client, ClientError, Refused

from ..conftest import DEMO, run, serving
from ..mail_server import PASSWORD, USER, mail_server
from .people import signed_in

PUBLIC = "https://drawknife.tidewrack.example"
EDDA = "edda@tidewrack.example"


@pytest.fixture(scope="module")
def own(cluster, tmp_path_factory):
    """A service that can send mail; `letters` are those that came."""
    folder = tmp_path_factory.mktemp("reviews")
    with mail_server(folder) as mail:
        secret = folder / "password"
        secret.write_text(PASSWORD)
        secret.chmod(0o600)
        options = (
            "--load",
            DEMO,
            "--public-url",
            PUBLIC,
            "--mail-server",
            mail.address,
            "--mail-from",
            "drawknife@tidewrack.example",
            "--mail-to",
            "admins@tidewrack.example",
            "--mail-user",
            USER,
            "--mail-password-file",
            secret,
            "--mail-ca",
            mail.certificate,
            "--tell",
            "23:59",
        )
        address = cluster.create_database("reviews")
        with serving(address, folder, *options) as service:
            service.mail, service.address = mail, address
            with service.client() as client:
                for name, role, area in (
                    ("dora", "drafter", None),
                    ("pim", "editor", ["survey:/inbox"]),
                ):
                    client.add_administrator(name, role, area)
            yield service


@pytest.fixture
def client(own):
    with own.client() as client:
        yield client


def code_of(letter):
    """The code in the link of a letter."""
    return re.search(rf"^{re.escape(PUBLIC)}/review#(\S+)\s*$", letter.get_content(), re.M)[1]


def as_holder_of(code):
    return {"Authorization": f"Bearer {code}"}


def opened(own, code):
    return httpx.get(f"{own.url}/api/v1/reviews", headers=as_holder_of(code))


def signed(own, code, decided):
    url = f"{own.url}/api/v1/reviews/signed"
    return httpx.post(url, headers=as_holder_of(code), json={"decided": decided})


def deciding(report, *going, remark=None):
    return [
        {
            "row": r.number,
            "decision": "take away" if r.number in going else "keep",
            "remark": remark,
        }
        for r in report.rows
        if r.to_decide
    ]


def test_a_report_is_signed_by_a_link_that_is_good_once(own, client):
    client.report_sign_ins(
        [
            {
                "at": "2026-11-30T08:00:00Z",
                "what": "began",
                "account": "Odile",
                "address": "192.0.2.1",
            }
        ]
    )
    report = client.make_report("survey:/inbox")
    odile = next(r.number for r in report.rows if r.accounts == ["odile"])
    assert {p.name: p for p in report.people}["odile"].display
    seen = {p.name: p.last_sign_in for p in report.people if p.last_sign_in}
    assert list(seen) == ["odile"]
    sent = client.send_report(report.number, EDDA)
    again = client.send_report(report.number, EDDA, days=1)
    assert (sent.address, sent.sent_by) == (EDDA, "administrator")
    assert [x.address for x in client.report(report.number).links] == [
        EDDA,
        EDDA,
    ] and again.expires < sent.expires
    letter, other = own.mail.to(EDDA)[-2:]
    assert letter["To"] == EDDA and report.title in letter["Subject"]
    code = code_of(letter)
    page = opened(own, code).json()
    assert page["number"] == report.number and "<script" not in page["html"]
    assert f'name="row-{odile}"' in page["html"]
    assert opened(own, code).status_code == 200, "it can be opened until it is used"
    done = signed(own, code, deciding(report, odile, remark="left in May")).json()
    assert (done["by"], done["taken_away"], done["draft"]) == (EDDA, [odile], None)
    for used in (code, code_of(other)):
        for refused in (opened(own, used), signed(own, used, [])):
            assert refused.status_code == 401 and "link was used" in refused.json()["detail"]
    kept = client.report(report.number)
    assert (kept.signed.by, kept.signed.sent_by, kept.links) == (EDDA, "administrator", [])
    assert {d.row: d.remark for d in kept.decided}[odile] == "left in May"
    assert json.loads(client.returned_document(report.number))["report"] == report.number
    with pytest.raises(Refused, match="is signed already"):
        client.send_report(report.number, EDDA)
    step = client.draft(kept.signed.draft).steps[0]
    assert step.why == f"report {report.number}, row {odile}: removed by {EDDA}; left in May"
    assert step.who == "administrator", "who sent the link answers for what it changes"
    lines = [line.what for line in client.journal(limit=8).lines]
    assert any(
        line.startswith(f"{EDDA} signed report") and line.endswith("a link from administrator")
        for line in lines
    )
    shown = run("report", "show", report.number, environment=own.environment).stdout
    assert "left in May" in shown and EDDA in shown
    out = run("draft", "show", kept.signed.draft, environment=own.environment).stdout
    assert f"removed by {EDDA}" in out
    # The draft was never applied: the next report tells of it.
    assert client.make_report("survey:/inbox").not_removed == [
        f"survey:/inbox: odile (row {odile} of report {report.number})"
    ]


def test_a_code_opens_one_report_only_and_stands_nowhere(own, client):
    report = client.make_report("group:boats")
    client.send_report(report.number, EDDA)
    code = code_of(own.mail.to(EDDA)[-1])
    for route in ("/reports", f"/reports/{report.number}", "/accounts", "/drafts"):
        answer = httpx.get(f"{own.url}/api/v1{route}", headers={"Authorization": f"Bearer {code}"})
        assert answer.status_code == 401
    with psycopg.connect(own.address) as connection:
        kept = connection.execute(
            "SELECT l::text FROM review_links l UNION ALL SELECT j::text FROM journal j"
        ).fetchall()
    assert kept and not any(code in text for (text,) in kept)
    assert not any(code in line for line in own.said)


def test_what_is_taken_away_by_a_link_is_what_its_sender_could(own, client):
    with Client(own.url, signed_in(own, "pim")) as pim:
        report = pim.make_report("survey:/inbox")
        pim.send_report(report.number, EDDA)
    code = code_of(own.mail.to(EDDA)[-1])
    client.change_administrator("pim", role="reader")
    assert opened(own, code).status_code == 401, "a reader sends no links"
    client.change_administrator("pim", role="editor")
    assert opened(own, code).status_code == 200
    client.remove_administrator("pim")
    assert signed(own, code, []).status_code == 401


def test_two_who_sign_at_once_leave_one_signature_and_one_draft(own, client):
    report = client.make_report("group:boats")
    row = next(r.number for r in report.rows if r.to_decide)
    for _ in range(6):
        client.send_report(report.number, EDDA)
    codes = [code_of(letter) for letter in own.mail.to(EDDA)[-6:]]
    with ThreadPoolExecutor(6) as threads:
        done = list(threads.map(lambda code: signed(own, code, deciding(report, row)), codes))
    assert sorted(d.status_code for d in done)[0] == 200
    assert [d.status_code for d in done].count(200) == 1
    kept = client.report(report.number).signed
    steps = client.draft(kept.draft).steps
    assert len({str(s.step) for s in steps}) == len(steps) >= 1


def test_what_a_links_sender_may_read_they_read_in_its_draft(own, client):
    client.add_administrator("olaf", "editor", ["survey:/inbox", "unit:shore/chart-desk"])
    with Client(own.url, signed_in(own, "olaf")) as olaf:
        report = olaf.make_report("survey:/inbox")
        row = next(r.number for r in report.rows if r.to_decide)
        olaf.send_report(report.number, EDDA)
        assert signed(own, code_of(own.mail.to(EDDA)[-1]), deciding(report, row)).is_success
        draft = olaf.draft(olaf.report(report.number).signed.draft)
        assert draft.draft.begun_by == "olaf" and "removed by edda" in draft.steps[0].why


def test_a_draft_of_somebody_else_is_not_in_the_way_of_a_signature(own, client):
    report = client.make_report("survey:/inbox")
    with Client(own.url, signed_in(own, "dora")) as dora:
        dora.begin_draft(f"report-{report.number}")
    row = next(r.number for r in report.rows if r.to_decide)
    client.send_report(report.number, EDDA)
    assert signed(own, code_of(own.mail.to(EDDA)[-1]), deciding(report, row)).is_success
    kept = client.report(report.number).signed
    assert kept.draft == f"report-{report.number}-2" and client.draft(kept.draft).steps
    assert client.draft(f"report-{report.number}").steps == []


def test_the_decisions_of_a_long_report_are_received_from_who_has_a_link(own, client):
    report = client.make_report("group:boats")
    client.send_report(report.number, EDDA)
    code = code_of(own.mail.to(EDDA)[-1])
    long = [{"row": n, "decision": "keep", "remark": "x" * 90} for n in range(1, 2000)]
    answer = signed(own, code, long)
    assert answer.status_code == 400 and "nothing to decide of row" in answer.json()["detail"]
    assert signed(own, "a-wrong-code", long).status_code == 401


def test_wrong_input_and_mail_that_is_not_taken(own, client):
    report = client.make_report("group:night-watch")
    for address in ("edda", "a@b c", "a@b\nBcc: x@y", "@", "", "a@b@c", "a@b\u202e"):
        with pytest.raises(ClientError, match=r"mail address|mistake"):
            client.send_report(report.number, address)
    with pytest.raises(ClientError, match="there is no report"):
        client.send_report(9_999, EDDA)
    client.send_report(report.number, EDDA)
    code = code_of(own.mail.to(EDDA)[-1])
    wrong = signed(own, code, [{"row": 99, "decision": "keep"}])
    assert wrong.status_code == 400 and "nothing to decide of row 99" in wrong.json()["detail"]
    twice = [{"row": 1, "decision": "keep"}, {"row": 1, "decision": "take away"}]
    assert signed(own, code, twice).status_code == 400
    hidden = [{"row": 1, "decision": "keep", "remark": "\u202e"}]
    assert signed(own, code, hidden).status_code == 400
    with psycopg.connect(own.address) as connection:
        connection.execute("UPDATE review_links SET expires = clock_timestamp()")
    assert opened(own, code).status_code == 401
    with pytest.raises(ClientError, match="mail server refused the mail"):
        client.send_report(report.number, "refused@tidewrack.example")
    assert (
        client.report(report.number).links == [] and own.mail.to("refused@tidewrack.example") == []
    )


def test_without_a_mail_server_no_link_is_sent(service):
    with service.client() as client:
        number = client.make_report("group:boats").number
        with pytest.raises(Refused, match="no mail can be sent"):
            client.send_report(number, EDDA)
