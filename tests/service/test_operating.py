"""What whoever runs the service needs: is it alive and ready, what it counts, and what its log
tells of a request.
"""

import json
import re
from importlib.resources import files

import httpx
import psycopg
import pytest
import yaml
from cryptography import x509
from prometheus_client.openmetrics.parser import text_string_to_metric_families
from tools.cluster import Cluster

from drawknife.core.everybody.severity import SEVERITIES, SEVERITY

from ..conftest import DEMO, ROOT, run, serving, until
from .test_installed import certificate


def samples(service):
    """What is exposed: {(name, its labels): value}, as another package reads it."""
    with service.http() as http:
        answer = http.get(service.url + "/metrics")
    assert answer.status_code == 200 and "openmetrics-text" in answer.headers["Content-Type"]
    families = text_string_to_metric_families(answer.text)
    return {(s.name, *sorted(s.labels.items())): s.value for f in families for s in f.samples}


@pytest.fixture
def own(address, tmp_path):
    with serving(address, tmp_path, "--load", DEMO, "--processes", "2") as found:
        yield found


def test_health_is_open_and_metrics_take_a_token_that_may_be_a_programs(own):
    for path in ("/health/live", "/health/ready"):
        assert httpx.get(own.url + path).json() == {"status": "ok"}
    assert httpx.get(own.url + "/metrics").status_code == 401
    assert (
        httpx.get(own.url + "/metrics", headers={"Authorization": "Bearer dk_wrong"}).status_code
        == 401
    )
    with own.client() as client:
        made = client.make_token("watcher", "reader")
    answer = httpx.get(own.url + "/metrics", headers={"Authorization": f"Bearer {made.token}"})
    assert (
        answer.status_code == 200 and own.token not in answer.text and made.token not in answer.text
    )


def test_what_all_processes_did_is_counted_together(own):
    decided = ("drawknife_verdicts_total", ("gate", "allowed"))
    refused = ("drawknife_verdicts_total", ("gate", "folder"))
    before = samples(own)
    questions = [
        {"account": "ines", "action": "download", "path": "/soundings/x"},
        {"account": "ines", "action": "upload", "path": "/charts/issued/x"},
        {"account": "nobody", "action": "download", "path": "/"},
    ]
    for _ in range(12):  # each on a connection of its own, and so with either process
        with own.http() as http:
            assert [
                a["allowed"]
                for a in (http.post("/decisions", json=q).json() for q in questions[:2])
            ] == [True, False]
    with own.http() as http:
        http.post("/decisions/batch", json={"questions": questions})
    after = samples(own)
    assert (
        after[decided] - before.get(decided, 0) == 13
        and after[refused] - before.get(refused, 0) == 13
    )
    asked = (
        "drawknife_requests_total",
        ("method", "POST"),
        ("route", "/api/v1/decisions"),
        ("status", "200"),
    )
    assert after[asked] - before.get(asked, 0) == 24


def test_what_the_model_is_like_is_told(own):
    found = samples(own)
    assert (
        found[("drawknife_revision",)] == 1
        and found[("drawknife_items", ("kind", "accounts"))] == 19
    )
    [(labels, count)] = [
        (dict(key[1:]), n)
        for key, n in found.items()
        if ("kind", "endpoint-clash") in key and "drawknife_findings" in key
    ]
    assert count == 1 and labels["severity"] == "stops-people"
    assert found[("drawknife_findings_accepted",)] == 0
    filled = [
        (dict(key[1:]), value)
        for key, value in found.items()
        if key[0] == "drawknife_limit_fill_ratio"
    ]
    full = {labels["name"]: value for labels, value in filled if labels["of"] == "bytes"}
    with own.client() as client:
        limits = {
            x.name: x.used_bytes / x.hard_bytes for x in client.limits().limits if x.hard_bytes
        }
        assert {name: full[name] for name in limits} == pytest.approx(limits)
        client.change([{"op": "add", "kind": "account", "item": {"name": "newcomer"}}])
    assert samples(own)[("drawknife_items", ("kind", "accounts"))] == 20


def test_each_metric_is_described_and_alerts_ask_for_what_there_is(own):
    with own.http() as http:
        families = {
            f.name for f in text_string_to_metric_families(http.get(own.url + "/metrics").text)
        }
    # What is counted comes with the first that is.
    families |= {
        f"drawknife_{name}"
        for name in ("requests", "request_seconds", "verdicts", "sign_ins", "syncs")
    }
    page = (ROOT / "docs" / "reference" / "metrics.md").read_text()
    assert set(re.findall(r"^\| `(drawknife_\w+)`", page, re.M)) == families
    assert set(re.findall(r"`([a-z-]+)`", page)) >= SEVERITIES.keys()
    (group,) = yaml.safe_load(
        (files("drawknife.host_files") / "drawknife.alerts.yaml").read_text()
    )["groups"]
    assert len({rule["alert"] for rule in group["rules"]}) == len(group["rules"]) > 5
    for rule in group["rules"]:
        assert (
            rule["labels"]["severity"] in ("critical", "warning")
            and {"summary", "description"} <= rule["annotations"].keys()
        )
        assert {
            name.removesuffix("_total") for name in re.findall(r"drawknife_\w+", rule["expr"])
        } <= families
        assert set(re.findall(r'kind="([\w-]+)"', rule["expr"])) <= SEVERITY.keys()
        assert set(re.findall(r'severity="([\w-]+)"', rule["expr"])) <= SEVERITIES.keys()
        for command in re.findall(r"`drawknife ([a-z ]+)", rule["annotations"]["description"]):
            assert run(*command.split(), "--help").returncode == 0


def test_when_a_certificate_ends_is_exposed(address, tmp_path):
    (tmp_path / "certificates").mkdir()
    pem, _ = certificate(tmp_path / "certificates", 20)
    model = tmp_path / "model.yaml"
    model.write_text(
        f"drawknife: 1\nendpoints: [{{name: quay, protocol: ftps, port: 990, certificate: {pem},"
        " host_names: [localhost]}]\n"
    )
    with serving(
        address, tmp_path, "--load", model, "--files", tmp_path / "certificates"
    ) as service:
        asked = ("drawknife_certificate_end_timestamp_seconds", ("endpoint", "quay"))
        end = x509.load_pem_x509_certificate(pem.read_bytes()).not_valid_after_utc
        until(lambda: samples(service).get(asked) == end.timestamp())


def test_sign_ins_are_counted(own):
    for token, result in ((own.token, "done"), ("dk_wrong", "refused"), (own.token, "done")):
        httpx.post(own.url + "/api/v1/sessions", json={"token": token})
        assert ("drawknife_sign_ins_total", ("result", result)) in samples(own)
    found = samples(own)
    assert found[("drawknife_sign_ins_total", ("result", "done"))] == 2
    assert found[("drawknife_sign_ins_total", ("result", "refused"))] == 1


def test_it_is_alive_and_not_ready_while_the_database_is_away(tmp_path_factory):
    cluster = Cluster(tmp_path_factory.mktemp("away"))
    cluster.start()
    try:
        with serving(
            cluster.create_database(), tmp_path_factory.mktemp("service"), "--load", DEMO
        ) as service:
            cluster.stop()
            answer = until(
                lambda: (a := httpx.get(service.url + "/health/ready")).status_code == 503 and a
            )
            assert (
                answer.json()["type"] == "urn:drawknife:problem:unavailable"
                and answer.headers["Retry-After"]
            )
            assert httpx.get(service.url + "/health/live").status_code == 200
            cluster.start()
            until(lambda: httpx.get(service.url + "/health/ready").status_code == 200)
    finally:
        cluster.throw_away()


def test_a_request_has_a_number_that_its_line_in_the_log_has_too(address, tmp_path):
    with serving(address, tmp_path, "--load", DEMO, "--log-requests") as service:
        with service.http() as http:
            fine, wrong = http.get("/accounts"), http.get("/accounts/nobody")
        numbers = [a.headers["X-Request-Id"] for a in (fine, wrong)]
        assert len(set(numbers)) == 2
        lines = [json.loads(line) for line in service.stop().splitlines() if line.startswith("{")]
    told = {
        line["request"]: line["status"] for line in lines if line.get("event") == "request answered"
    }
    assert [told[n] for n in numbers] == [200, 404]
    assert service.token not in json.dumps(lines)


def test_a_service_that_stops_finishes_what_is_under_way(address, tmp_path):
    """Two services on one database; one is told to stop while both are asked: nobody who goes on to
    the other is refused.
    """
    with serving(address, tmp_path, "--load", DEMO) as one, serving(address, tmp_path) as other:
        asked = {"account": "ines", "action": "download", "path": "/soundings/x"}
        token, answered = one.token, []

        def ask():
            for service in (one, other):
                try:
                    answer = httpx.post(
                        service.url + "/api/v1/decisions",
                        json=asked,
                        headers={"Authorization": f"Bearer {token}"},
                    )
                except httpx.ConnectError:
                    continue
                if answer.status_code == 503 and service is one:
                    continue
                answered.append((service is one, answer.status_code, answer.json().get("allowed")))
                return

        for n in range(60):
            if n == 20:
                one.process.terminate()
            ask()
        assert len(answered) == 60 and {a[1:] for a in answered} == {(200, True)}
        assert answered[0][0] and not answered[-1][0]
    with psycopg.connect(address) as connection:
        assert connection.execute("SELECT max(number) FROM revisions").fetchone()[0] == 1
