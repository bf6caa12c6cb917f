"""The database goes away while the service runs, and comes back."""

import httpx
import psycopg
import pytest
from psycopg.conninfo import conninfo_to_dict
from tools.cluster import Cluster

from drawknife.client import Client, ServiceUnavailable

from ..conftest import DEMO, run, serving, until


def test_a_clear_503_and_recovery_by_itself(tmp_path_factory):
    cluster = Cluster(tmp_path_factory.mktemp("outage"))
    cluster.start()
    address = cluster.create_database()
    try:
        with (
            serving(address, tmp_path_factory.mktemp("service"), "--load", DEMO) as service,
            service.client() as client,
        ):
            before = client.access("ines")
            cluster.stop()
            until(lambda: httpx.get(service.url + "/api/v1/health").status_code == 503)
            answer = httpx.get(
                service.url + "/api/v1/accounts",
                headers={"Authorization": f"Bearer {service.token}"},
            )
            assert answer.status_code == 503
            assert (
                answer.json()["type"] == "urn:drawknife:problem:unavailable"
                and answer.headers["Retry-After"]
            )
            cluster.start()
            assert until(lambda: client.access("ines")) == before
            assert client.load(b"drawknife: 1").revision == 2  # and it can write again
    finally:
        cluster.throw_away()


def test_a_service_that_would_misread_a_newer_schema_answers_nothing(cluster, tmp_path):
    """A step that older services may go on after changes nothing for them; any other ends their
    answers at once.
    """
    address = cluster.create_database("newer_schema")
    with (
        serving(address, tmp_path, "--load", DEMO) as service,
        service.client() as client,
        psycopg.connect(address, autocommit=True) as database,
    ):
        add = "INSERT INTO schema_steps (name, digest, older_may_answer) VALUES (%s, 'x', %s)"
        database.execute(add, ("998_harmless.sql", True))
        database.execute("NOTIFY drawknife_revision")
        assert client.access("ines") and httpx.get(service.url + "/health/ready").status_code == 200
        database.execute(add, ("999_misread.sql", False))
        database.execute("NOTIFY drawknife_revision")
        ready = until(
            lambda: (x := httpx.get(service.url + "/health/ready")).status_code == 503 and x
        )
        assert (
            ready.json()["type"].endswith(":outdated")
            and "999_misread.sql" in ready.json()["detail"]
        )
        asked = {"account": "ines", "action": "list", "path": "/"}
        for send in (
            lambda: client.decide(asked),
            lambda: client.access("ines"),
            lambda: client.load(b"drawknife: 1"),
        ):
            with pytest.raises(ServiceUnavailable, match=r"999_misread\.sql"):
                send()
        assert sum("outdated" in line for line in service.said) <= 4 and not [
            x for x in service.said if "Traceback" in x
        ]
        database.execute("DELETE FROM schema_steps WHERE name = '999_misread.sql'")
        until(lambda: httpx.get(service.url + "/health/ready").status_code == 200)
        assert client.health().revision == 1


def test_a_read_only_database_answers_questions_and_takes_no_changes(cluster, tmp_path):
    address = cluster.create_database("read_only")
    name = conninfo_to_dict(address)["dbname"]

    def read_only(is_so):
        with psycopg.connect(cluster.address("postgres"), autocommit=True) as database:
            database.execute(
                f"ALTER DATABASE {name} SET default_transaction_read_only ="
                f" {'on' if is_so else 'off'}"
            )
            database.execute(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = %s", (name,)
            )

    with serving(address, tmp_path, "--load", DEMO) as service, service.client() as client:

        def status():
            answer = httpx.get(service.url + "/health/ready")
            return answer.status_code == 200 and answer.json()["status"]

        other = client.make_token("watcher", "reader").token
        read_only(True)
        until(lambda: status() == "read-only")
        assert until(lambda: client.access("ines")).rows
        with Client(service.url, other) as never_used:
            assert until(lambda: never_used.access("ines")).rows
        for _ in range(20):
            with pytest.raises(ServiceUnavailable, match="the database is read-only"):
                client.load(b"drawknife: 1")
        refused = [line for line in service.said if "database read-only" in line]
        assert len(refused) <= 4 and not [
            x for x in service.said if "Traceback" in x
        ]  # once for each process
        # Another one starts beside it and answers, and a command that would change something says
        # why it cannot.
        with serving(address, tmp_path) as beside, beside.client() as asking:
            assert (
                asking.access("ines").rows
                and "read-only" in httpx.get(beside.url + "/health/ready").text
            )
        without = run(
            "serve", "--database", address, "--port", "0", "--token-file", tmp_path / "another"
        )
        assert (without.returncode, "Traceback" in without.stderr) == (3, False)
        assert "the database is read-only" in without.stderr and not (tmp_path / "another").exists()
        assert (
            run("database", "migrate", "--database", address).returncode == 0
        )  # nothing is missing
        read_only(False)
        until(lambda: status() == "ok")
        assert until(lambda: client.load(b"drawknife: 1")).revision == 2


def test_a_database_that_was_dropped_is_reported_and_taken_again_when_it_is_restored(
    cluster, tmp_path
):
    address = cluster.create_database("dropped")
    name = conninfo_to_dict(address)["dbname"]
    backup = tmp_path / "before.dump"
    with serving(address, tmp_path, "--load", DEMO) as service, service.client() as client:
        assert run("database", "backup", backup, "--database", address).returncode == 0
        with psycopg.connect(cluster.address("postgres"), autocommit=True) as database:
            database.execute(f"DROP DATABASE {name} WITH (FORCE)")
            ready = until(
                lambda: (x := httpx.get(service.url + "/health/ready")).status_code == 503 and x
            )
            assert (
                f'database "{name}" does not exist' in ready.json()["detail"]
                or "cannot be reached" in ready.json()["detail"]
            )
            database.execute(f"CREATE DATABASE {name}")
        # It is there and empty: nothing is answered from memory.
        with pytest.raises(ServiceUnavailable):
            client.access("ines")
        assert run("database", "restore", backup, "--database", address).returncode == 0
        until(lambda: httpx.get(service.url + "/health/ready").status_code == 200)
        assert client.access("ines").rows
        assert not [x for x in service.said if "Traceback" in x] and len(service.said) < 60


def test_a_service_that_is_killed_in_a_load_leaves_the_old_revision(cluster, tmp_path):
    import threading

    address = cluster.create_database("killed")
    document = b"drawknife: 1\naccounts:\n" + b"".join(b"- name: a%d\n" % i for i in range(20_000))
    with serving(address, tmp_path, "--load", DEMO) as service:
        outcome = []

        def load():
            try:
                with service.client() as client:
                    outcome.append(client.load(document))
            except Exception as error:
                outcome.append(error)

        loading = threading.Thread(target=load)
        loading.start()
        import psycopg

        with psycopg.connect(address, autocommit=True) as watching:
            # Killed while it holds the lock of changes, which is while it writes.
            waiting = "SELECT count(*) FROM pg_locks WHERE locktype = 'advisory' AND granted"
            while not watching.execute(waiting).fetchone()[0] and loading.is_alive():
                pass
            service.process.kill()
            loading.join()
    with serving(address, tmp_path) as service, service.client() as client:
        # Killed before it committed: the old model, whole; or after: the new one, whole. Nothing
        # between.
        revision, dumped = client.health().revision, client.dump()
        assert (revision, client.accounts().total) in ((1, 19), (2, 20_000))
        assert (dumped == DEMO.read_text()) is (revision == 1)
        assert revision == 2 or isinstance(outcome[0], Exception), "it was told that it is in force"
