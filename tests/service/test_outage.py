"""The database goes away while the service runs, and comes back."""

import httpx
from tools.cluster import Cluster

from ..conftest import DEMO, serving, until


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
            answer = httpx.get(service.url + "/api/v1/accounts", headers={"Authorization": f"Bearer {service.token}"})
            assert answer.status_code == 503
            assert answer.json()["type"] == "urn:drawknife:problem:unavailable" and answer.headers["Retry-After"]
            cluster.start()
            assert until(lambda: client.access("ines")) == before
            assert client.load(b"drawknife: 1").revision == 2  # and it can write again
    finally:
        cluster.throw_away()


def test_a_service_that_is_killed_in_a_load_leaves_the_old_revision(cluster, tmp_path):
    import threading

    address = cluster.create_database("killed")
    document = b"drawknife: 1\naccounts:\n" + b"".join(b"- name: a%d\n" % i for i in range(60_000))
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
        # Killed before it committed: the old model, whole; or after: the new one, whole. Nothing between.
        revision, dumped = client.health().revision, client.dump()
        assert (revision, client.accounts().total) in ((1, 19), (2, 60_000))
        assert (dumped == DEMO.read_text()) is (revision == 1)
        assert revision == 2 or isinstance(outcome[0], Exception), "it was told that it is in force"
