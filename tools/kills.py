"""Kills the service, or the database, while changes, drafts and ways back are made: python -m tools.kills [TIMES].

After each kill all is started again and looked at: every revision is whole or not there, what was answered as done is
there, the model of each revision can be had back, and nothing is half applied. Ends with a line for each kind of kill.
"""

from __future__ import annotations

import os
import random
import signal
import sys
import threading
import time
from collections import Counter
from contextlib import suppress
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import psycopg

from drawknife.client import Client, ClientError
from drawknife.core.model.canonical import sound
from drawknife.records.database import Database
from drawknife.records.history import model_at
from drawknife.records.snapshots import read_snapshot

from .cluster import Cluster
from .serving import Service, serving

ROOT = Path(__file__).resolve().parent.parent
DEMO = ROOT / "demo" / "tidewrack.yaml"


class Doing:
    """Changes things, one after the other, until it is told to stop; notes what was answered as done."""

    def __init__(self, service: Service, number: int, rng: random.Random) -> None:
        self.service, self.number, self.rng = service, number, rng
        #: The name of what was added, once it was answered that it is.
        self.added: list[str] = []
        self.stop = threading.Event()
        self.what: Counter[str] = Counter()
        self.odd: Exception | None = None

    def run(self) -> None:
        with self.service.client() as client:
            step = 0
            while not self.stop.is_set():
                step += 1
                with suppress(
                    ClientError
                ):  # refused, or the service is gone: what was not answered may be there, or not
                    self._one(client, f"k{self.number}-{threading.get_ident() % 997}-{step}")

    def _one(self, client: Client, name: str) -> None:
        kind = self.rng.choice(["change", "draft", "back", "load"])
        if kind == "change":
            # One change of three items: all of them, or none.
            client.change([_group(f"{name}{part}") for part in "abc"])
            self.added.append(name)
        elif kind == "draft":
            client.add_to_draft(name, [_group(f"{name}{part}") for part in "ab"])
            client.add_to_draft(name, [_group(f"{name}c")])
            client.apply_draft(name)
            self.added.append(name)
        elif kind == "back":
            client.change([_group(f"{name}{part}") for part in "abc"])
            revision = next(line.revision for line in client.journal(about=f"group:{name}a").lines if line.revision)
            client.back(revision)
        else:
            revision = client.stores().revision
            client.load(
                client.as_of(str(revision)).dump().encode(), revision=revision
            )  # nobody else's change goes with it
        self.what[kind] += 1


def _group(name: str) -> dict[str, Any]:
    return {"op": "add", "kind": "group", "item": {"name": name}}


def once(cluster: Cluster, address: str, folder: Path, number: int, rng: random.Random) -> tuple[str, Counter[str]]:
    """One kill in the middle of it, and what it was of; AssertionError where something is not as it must be."""
    of = rng.choice(["service", "database"])
    with serving(address, folder) as service:
        doing = [Doing(service, number, random.Random(rng.random())) for _ in range(2)]
        threads = [threading.Thread(target=one.run) for one in doing]
        for thread in threads:
            thread.start()
        time.sleep(rng.uniform(0.05, 0.9))
        if of == "service":
            service.process.send_signal(signal.SIGKILL)
        else:
            kill_database(cluster)
        for one in doing:
            one.stop.set()
        for thread in threads:
            thread.join()
    if of == "database":
        cluster.start()
    for one in doing:
        if one.odd is not None:
            raise one.odd
    _look(address, [name for one in doing for name in one.added])
    return of, sum((one.what for one in doing), Counter())


def kill_database(cluster: Cluster) -> None:
    """SIGKILL to the database's server, and to each of its processes."""
    pid = (cluster.data / "postmaster.pid").read_text().split()[0]
    children = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    for one in (pid, *children):
        with suppress(ProcessLookupError):
            os.kill(int(one), signal.SIGKILL)


def _look(address: str, added: list[str]) -> None:
    database = Database(address)
    database.open()
    try:
        newest = read_snapshot(database)
        names = {g.name for g in newest.model.groups}
        assert sound(newest.model) == newest.model
        for name in added:
            assert {f"{name}{part}" for part in "abc"} <= names, f"{name} was answered as done, and is not there"
        for name in {n[:-1] for n in names if n.startswith("k")}:
            assert {f"{name}{part}" for part in "abc"} <= names, f"{name} is there in part"
        for revision in range(max(1, newest.revision - 12), newest.revision + 1):
            past = model_at(database, newest, revision)
            assert sound(past) == past, f"revision {revision} is not whole"
        with psycopg.connect(address) as connection:
            row = connection.execute(
                "SELECT (SELECT count(*) FROM revisions), (SELECT count(revision) FROM journal), (SELECT max(number) FROM revisions)"
            ).fetchone()
    finally:
        database.close()
    assert row is not None and row[0] == row[1] == row[2] == newest.revision, "a revision without its line"


def main() -> int:
    times = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else random.randrange(10**6)
    rng = random.Random(seed)
    killed: Counter[str] = Counter()
    done: Counter[str] = Counter()
    with TemporaryDirectory() as folder:
        cluster = Cluster(Path(folder) / "cluster")
        cluster.start()
        try:
            address = cluster.create_database("kills")
            with serving(address, Path(folder), "--load", DEMO):
                pass
            for number in range(times):
                if number % 25 == 24:  # not too large a model
                    address = cluster.create_database(f"kills_{number}")
                    with serving(address, Path(folder), "--load", DEMO):
                        pass
                of, what = once(cluster, address, Path(folder), number, rng)
                killed[of] += 1
                done += what
                print(f"{number + 1}: killed the {of}; answered as done: {dict(what)}", flush=True)
        finally:
            cluster.throw_away()
    print(f"seed {seed}: killed {dict(killed)} while {dict(done)} were made; nothing is half done and nothing lost")
    return 0


if __name__ == "__main__":
    sys.exit(main())
