"""Times that have not come, and a database that has no room or whose answer is lost."""

import json
from datetime import UTC, datetime, timedelta

import psycopg
import pytest

from drawknife.client import Client, ClientError, Refused, ServiceUnavailable
from drawknife.records.database import NoRoom, Uncertain

from ..conftest import DEMO, run, serving
from .test_doors import listener


@pytest.fixture(scope="module")
def own(cluster, tmp_path_factory):
    """A service whose model may be changed."""
    folder = tmp_path_factory.mktemp("doors")
    database = cluster.create_database("doors_database")
    with serving(database, folder, "--key-file", folder / "key", "--load", DEMO) as service:
        yield service


@pytest.fixture
def client(own):
    with own.client() as client:
        yield client


# --- times --------------------------------------------------------------------------------------

FAR = "9999-12-31T23:59:59-14:00"


@pytest.mark.parametrize(
    "at", [FAR, "2036-01-01T00:00:00+00:00", "0001-01-01T00:00:00+14:00", "1850-01-01T00:00:00Z"]
)
def test_times_that_have_not_come_are_refused(client, own, at):
    with own.http() as http:
        event = {"what": "failed", "account": "ines", "address": "192.0.2.1", "at": at}
        assert http.post("/sign-ins", json={"events": [event]}).status_code == 400
        assert (
            http.post("/censuses", json={"store": "public", "at": at, "rows": []}).status_code
            == 400
        )
    assert client.lockouts() and client.limits() and client.censuses()


def test_a_clock_that_is_a_little_ahead_is_taken_and_a_census_can_be_forgotten(client, own):
    soon = datetime.now(UTC) + timedelta(minutes=4)
    with own.http() as http:
        census = {
            "store": "public",
            "at": soon.isoformat(),
            "rows": [{"folder": "/tides", "bytes": 5, "files": 1}],
        }
        assert http.post("/censuses", json=census).status_code == 200
    (line,) = client.censuses().censuses
    client.forget_census("public", line.at.isoformat())
    assert not client.censuses().censuses
    assert not any(h for x in client.limits().limits for h in x.history if h.at == line.at)
    with pytest.raises(Refused, match="there is no census of public"):
        client.forget_census("public", line.at.isoformat())


# --- the database -------------------------------------------------------------------------------


def test_a_database_without_room_is_no_database_that_is_away(database):
    with pytest.raises(NoRoom, match="temp_file_limit"), database.transaction() as connection:
        connection.execute("SET LOCAL work_mem = '64kB'")
        connection.execute("SET LOCAL temp_file_limit = '64kB'")
        connection.execute(
            "SELECT count(*) FROM (SELECT i FROM generate_series(1, 500000) i ORDER BY -i OFFSET"
            " 1) x"
        )


def test_a_change_whose_end_was_not_confirmed_may_have_been_done_and_that_is_said(
    database, address
):
    with pytest.raises(Uncertain), database.transaction() as connection:
        connection.execute("SELECT 1")
        with psycopg.connect(address, autocommit=True) as other:
            other.execute("SELECT pg_terminate_backend(%s)", (connection.info.backend_pid,))
    with pytest.raises(Exception, match="reason of its own"), database.transaction():
        raise RuntimeError("a reason of its own")


def test_a_client_whose_answer_is_lost_is_told_that_it_may_have_been_done():
    with listener(b"HTTP/1.1 200 OK\r\nContent-Length: 99\r\n\r\n{") as cut:
        client = Client(f"http://127.0.0.1:{cut.getsockname()[1]}", "x", timeout=0.3)
        with pytest.raises(
            (ClientError, ServiceUnavailable), match="may have been done all the same"
        ):
            client.change([{"op": "add", "kind": "unit", "name": "x"}])
        with pytest.raises((ClientError, ServiceUnavailable)) as asked:
            client.health()
        client.close()
    assert "may have been done" not in str(asked.value)


def test_answers_are_kept_by_nobody_on_the_way(own):
    with own.http() as http:
        for path in ("/accounts", "/model", "/nothing", "/health"):
            assert http.get(path).headers["Cache-Control"] == "no-store"


def test_csv_for_spreadsheets_computes_nothing_and_is_taken_back(client, own, tmp_path):
    odd = {"name": "=sum", "display": "+1 and @you"}
    client.change([{"op": "add", "kind": "account", "item": odd}])
    with own.http() as http:
        text = http.get(
            "/accounts", params={"matching": "=sum"}, headers={"Accept": "text/csv"}
        ).text
        assert "'=sum" in text and "'+1 and @you" in text
        lines = http.get(
            "/accounts", params={"matching": "=sum"}, headers={"Accept": "application/x-ndjson"}
        ).text
        assert json.loads(lines)["name"] == "=sum"
    environment = own.environment
    guarded = run("usage", "--csv", environment=environment).stdout
    raw_ = run("usage", "--csv", "--raw", environment=environment).stdout
    assert guarded == raw_ or "'" in guarded
    file = tmp_path / "people.csv"
    file.write_text("name,display\n'=sum,'-2 of them\n")
    done = run("account", "import", file, "--yes", environment=environment)
    assert done.returncode == 0 and client.item("account", "=sum").item["display"] == "-2 of them"


def test_each_process_answers_with_the_change_that_another_one_made(address, tmp_path):
    """What one process has confirmed is what every one of them says from then on."""
    with (
        serving(address, tmp_path, "--processes", "3", "--load", DEMO) as found,
        found.client() as client,
    ):
        for enabled in (False, True, False):
            done = client.change(
                [{"op": "change", "kind": "account", "name": "ines", "set": {"enabled": enabled}}]
            )
            for _ in range(12):  # each on a connection of its own, and so by whichever process
                with found.client() as another:
                    assert another.health().revision == done.revision
                    said = another.decide(
                        {"account": "ines", "action": "sign-in", "endpoint": "harbour"}
                    ).text
                    assert ("ines is switched off" in said) is not enabled
