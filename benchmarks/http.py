"""Decisions over HTTP, single and in batches, against an empty route of the same server."""

from __future__ import annotations

import json
import random
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from http.client import HTTPConnection
from pathlib import Path
from statistics import median
from tempfile import mkdtemp

from tools.cluster import Cluster, free_port

from drawknife.core.model.items import Model
from drawknife.core.words.rights import RIGHTS
from drawknife.records import administrators, tokens
from drawknife.records.changes import replace_model
from drawknife.records.database import Database, bring_up_to_date

from .large import large_model
from .timing import against, seconds

SINGLES, BATCH = 400, 1000


@contextmanager
def cluster_of_its_own() -> Iterator[Cluster]:
    cluster = Cluster(Path(mkdtemp(prefix="drawknife-bench-")))
    cluster.start()
    try:
        yield cluster
    finally:
        cluster.throw_away()


@contextmanager
def served(address: str, model: Model | None, processes: int = 1) -> Iterator[tuple[int, str]]:
    """A service on the model, in so many processes: its port and a token."""
    bring_up_to_date(address)
    database = Database(address)
    database.open()
    if model is not None:
        replace_model(database, model, "bench", "load")
    administrators.ensure_owner(database, "bench")
    token = tokens.make_token(database, "bench", role="owner")
    database.close()
    port = free_port()
    command = [sys.executable, "-m", "benchmarks.served", address, str(port), str(processes)]
    process = subprocess.Popen(command, stdout=subprocess.PIPE)
    assert process.stdout is not None
    process.stdout.readline()
    try:
        yield port, token
    finally:
        process.terminate()
        process.wait()


def rate_of_four(port: int, token: str) -> float:
    """Decisions a second of four clients at once."""
    command = [sys.executable, "-m", "benchmarks.asking", str(port), token, str(SINGLES), "4"]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) as clients:
        assert clients.stdin is not None and clients.stdout is not None
        clients.stdout.readline()

        def go() -> None:
            clients.stdin.write(b"go\n")
            clients.stdin.flush()
            assert clients.wait() == 0

        return 4 * SINGLES / seconds(go)


def _by_one_and_two(model: Model) -> list[tuple[float, float]]:
    """Decisions a second of four clients, answered by one process and by two."""
    with cluster_of_its_own() as cluster:
        address = cluster.create_database("bench")
        with served(address, model) as one, served(address, None, 2) as two:
            # The first time each process still makes ready what it answers from.
            return [(rate_of_four(*one), rate_of_four(*two)) for _ in range(8)][1:]


def measure() -> list[tuple[str, str, str, bool | None]]:
    model = large_model()
    rng = random.Random(11)
    folders = [f.path for f in model.stores[1].folders]
    names = [a.name for a in rng.sample(model.accounts, 200)]

    def question() -> dict[str, str]:
        path = f"/survey{rng.choice(folders)}/x"
        return {"account": rng.choice(names), "action": rng.choice(RIGHTS[:6]), "path": path}

    pairs = _by_one_and_two(model)
    more = median(b / a for a, b in pairs)
    with (
        cluster_of_its_own() as cluster,
        served(cluster.create_database("bench"), model) as (port, token),
    ):
        connection = HTTPConnection("127.0.0.1", port)
        headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/json"}
        single = [json.dumps(question()).encode() for _ in range(SINGLES)]
        batch = json.dumps({"questions": [question() for _ in range(BATCH)]}).encode()

        def post(path: str, body: bytes) -> None:
            connection.request("POST", path, body, headers)
            answer = connection.getresponse()
            text = answer.read()
            assert answer.status == 200, text[:300]

        def empties() -> None:
            for _ in range(SINGLES):
                connection.request("GET", "/empty", headers=headers)
                connection.getresponse().read()

        def singles() -> None:
            for body in single:
                post("/api/v1/decisions", body)

        singles()
        empties()
        ratio, empty_took, single_took = against(empties, singles, 7)
        post("/api/v1/decisions/batch", batch)
        in_batch = min(seconds(lambda: post("/api/v1/decisions/batch", batch)) for _ in range(7))
        times = single_took / SINGLES / (in_batch / BATCH)
        connection.close()
    return [
        (
            "single decisions over HTTP / empty route, request rate",
            f"{ratio:.2f} ({SINGLES / single_took:,.0f} and {SINGLES / empty_took:,.0f} a second)",
            "at least 0.85",
            ratio >= 0.85,
        ),
        (
            "decisions a second, batches of 1,000 / single",
            f"{times:.0f} ({BATCH / in_batch:,.0f} a second)",
            "at least 20",
            times >= 20,
        ),
        (
            "single decisions of four clients, two processes / one",
            (
                f"{more:.2f} ({median(b for _, b in pairs):,.0f} and"
                f" {median(a for a, _ in pairs):,.0f} a second)"
            ),
            "at least 1.6",
            more >= 1.6,
        ),
    ]
