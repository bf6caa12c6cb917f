"""Kills the service, or the database, while changes, drafts and ways back are made: python -m
tools.kills [TIMES].

Meanwhile the service's certificate is turned over and over, and backups are taken. After each kill
all is started again and looked at: every revision is whole or not there, what was answered as done
is there, the model of each revision can be had back, nothing is half applied, and the last whole
backup can be restored. Ends with a line for each kind of kill.
"""

from __future__ import annotations

import os
import random
import shutil
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
from drawknife.core.words.errors import DrawknifeError
from drawknife.records.backup import restore, take
from drawknife.records.database import Database
from drawknife.records.history import model_at
from drawknife.records.snapshots import read_snapshot

from .cluster import Cluster
from .serving import Service, serving
from .slapd import certificates, renew

ROOT = Path(__file__).resolve().parent.parent
DEMO = ROOT / "demo" / "tidewrack.yaml"


class Doing:
    """Changes things, one after the other, until it is told to stop; notes what was answered as
    done.
    """

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
            revision = next(
                line.revision
                for line in client.journal(about=f"group:{name}a").lines
                if line.revision
            )
            client.back(revision)
        else:
            revision = client.stores().revision
            client.load(
                client.as_of(str(revision)).dump().encode(), revision=revision
            )  # nobody else's change goes with it
        self.what[kind] += 1


class Certificates:
    """An authority that the clients trust, and two certificates of it, of which one after the other
    is shown.
    """

    def __init__(self, folder: Path) -> None:
        certificates(folder)
        shutil.copy(folder / "right.pem", folder / "first.pem")
        shutil.copy(folder / "right.key", folder / "first.key")
        renew(folder)
        shutil.copy(folder / "right.pem", folder / "second.pem")
        shutil.copy(folder / "right.key", folder / "second.key")
        self.folder, self.turned = folder, 0
        self.turn()
        os.environ["SSL_CERT_FILE"] = str(folder / "ca.pem")

    @property
    def options(self) -> list[str]:
        return [
            "--tls-cert",
            str(self.folder / "shown.pem"),
            "--tls-key",
            str(self.folder / "shown.key"),
        ]

    def turn(self) -> None:
        """Show the other one."""
        self.turned += 1
        name = ("first", "second")[self.turned % 2]
        for kind in ("key", "pem"):
            new = self.folder / f"new.{kind}"
            shutil.copy(self.folder / f"{name}.{kind}", new)
            new.chmod(0o600)
            new.replace(self.folder / f"shown.{kind}")


class Beside:
    """What goes on beside the changes until it is told to stop: certificates are turned, backups
    are taken.
    """

    def __init__(self, shown: Certificates, address: str, folder: Path) -> None:
        self.shown, self.address, self.folder = shown, address, folder
        self.stop = threading.Event()
        #: The last backup that was taken whole, and how many were.
        self.last: Path | None = None
        self.backups = 0
        self._threads = [threading.Thread(target=one) for one in (self._turn, self._back_up)]

    def __enter__(self) -> Beside:
        for thread in self._threads:
            thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self.stop.set()
        for thread in self._threads:
            thread.join()

    def _turn(self) -> None:
        while not self.stop.wait(0.1):
            self.shown.turn()

    def _back_up(self) -> None:
        while not self.stop.is_set():
            file = self.folder / f"{time.monotonic_ns()}.dump"
            try:
                take(self.address, file)
            except DrawknifeError:
                continue  # the database is gone: there is no file then
            if self.last is not None:
                self.last.unlink()
            self.last = file
            self.backups += 1


def _group(name: str) -> dict[str, Any]:
    return {"op": "add", "kind": "group", "item": {"name": name}}


def once(
    cluster: Cluster,
    address: str,
    folder: Path,
    number: int,
    rng: random.Random,
    shown: Certificates,
) -> tuple[str, Counter[str]]:
    """One kill in the middle of it, and what it was of; AssertionError where something is not as it
    must be.
    """
    of = rng.choice(["service", "database"])
    with (
        serving(address, folder, *shown.options) as service,
        Beside(shown, address, folder) as beside,
    ):
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
        beside.stop.set()
    if of == "database":
        cluster.start()
    if beside.last is not None:
        if number % 5 == 0:
            copy = cluster.create_database(f"copy_{number}")
            restore(copy, beside.last)
            _look(copy, [])
        beside.last.unlink()
    for one in doing:
        if one.odd is not None:
            raise one.odd
    _look(address, [name for one in doing for name in one.added])
    done = sum((one.what for one in doing), Counter({"backup": beside.backups}))
    return of, done


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
            assert {f"{name}{part}" for part in "abc"} <= names, (
                f"{name} was answered as done, and is not there"
            )
        for name in {n[:-1] for n in names if n.startswith("k")}:
            assert {f"{name}{part}" for part in "abc"} <= names, f"{name} is there in part"
        for revision in range(max(1, newest.revision - 12), newest.revision + 1):
            past = model_at(database, newest, revision)
            assert sound(past) == past, f"revision {revision} is not whole"
        with psycopg.connect(address) as connection:
            row = connection.execute(
                "SELECT (SELECT count(*) FROM revisions), (SELECT count(revision) FROM journal),"
                " (SELECT max(number) FROM revisions)"
            ).fetchone()
    finally:
        database.close()
    assert row is not None and row[0] == row[1] == row[2] == newest.revision, (
        "a revision without its line"
    )


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
            shown = Certificates(Path(folder))
            address = cluster.create_database("kills")
            with serving(address, Path(folder), "--load", DEMO):
                pass
            for number in range(times):
                if number % 25 == 24:  # not too large a model
                    address = cluster.create_database(f"kills_{number}")
                    with serving(address, Path(folder), "--load", DEMO):
                        pass
                of, what = once(cluster, address, Path(folder), number, rng, shown)
                killed[of] += 1
                done += what
                print(f"{number + 1}: killed the {of}; answered as done: {dict(what)}", flush=True)
        finally:
            cluster.throw_away()
    print(
        f"seed {seed}: killed {dict(killed)} while {dict(done)} were made; nothing is half done and"
        " nothing lost"
    )
    return 0


if __name__ == "__main__":
    sys.exit(main())
