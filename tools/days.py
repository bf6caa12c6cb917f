"""Days of operation, in minutes: python -m tools.days [DAYS] [CHANGES_A_DAY].

Two services on one database, one of them started again half way; changes, syncs, censuses, findings
told to a receiver, backups restored into databases of their own. After each day everything in the
database is a day older, and what is older than it is kept is removed. Then it is looked at: nothing
is lost, each past that is kept is what it was, and what is not kept is refused; each finding was
told once, and memory and tables have grown by what there is more of. Ends with a table of it.
"""

from __future__ import annotations

import json
import random
import subprocess
import sys
import threading
from contextlib import ExitStack, suppress
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import psycopg

from drawknife.client import Client, Refused
from drawknife.messages import NewCensus
from drawknife.records.telling import ToldFinding

from .cluster import Cluster
from .demo import BUREAU
from .serving import DRAWKNIFE, Service, serving

ROOT = Path(__file__).resolve().parent.parent
DEMO = ROOT / "demo" / "tidewrack.yaml"


class Receiver:
    """Takes what is told, and keeps what is told and not mended, as whoever reads it would."""

    def __init__(self) -> None:
        self.open: set[tuple[str, str, str]] = set()
        self.twice: list[ToldFinding] = []
        self.letters = 0
        receiver = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                receiver.take(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
                self.send_response(204)
                self.end_headers()

            def log_message(self, *given: Any) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()
        self.url = f"http://127.0.0.1:{self.server.server_address[1]}/"

    def take(self, told: dict[str, Any]) -> None:
        self.letters += 1
        self.open -= {ToldFinding(**one).key for one in told["mended"]}
        for one in (ToldFinding(**one) for one in told["new"]):
            if one.key in self.open:
                self.twice.append(one)
            self.open.add(one.key)


def memory(service: Service) -> int:
    """Bytes that the processes of a service have for themselves."""
    pid = service.process.pid
    children = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    status = [Path(f"/proc/{one}/status").read_text() for one in children]
    return sum(
        int(line.split()[1]) * 1024
        for text in status
        for line in text.splitlines()
        if line.startswith("RssAnon")
    )


class Days:
    """The days, one after the other.

    `noted` is the whole model at some revisions, as it was answered then.
    """

    def __init__(self, rng: random.Random, folder: Path, cluster: Cluster) -> None:
        self.rng, self.folder, self.cluster = rng, folder, cluster
        self.noted: dict[str, str] = {}
        self.made = 0
        self.people: list[str] = []

    def one_change(self, client: Client) -> None:
        """Something small that an administrator does."""
        self.made += 1
        kind = self.rng.choice(["come", "entry", "setting", "go", "change"])
        if kind == "come" or not self.people:
            name = f"person-{self.made}"
            client.change(
                [{"op": "add", "kind": "account", "item": {"name": name, "unit": "shore/lab"}}]
            )
            self.people.append(name)
        elif kind == "entry":
            place = f"survey:/soundings/day-{self.made % 40}"
            line = (
                f"{self.rng.choice(['allow', 'deny'])} account:{self.rng.choice(self.people)} read"
            )
            client.change(
                [{"op": "change", "kind": "folder", "name": place, "add": {"entries": [line]}}]
            )
        elif kind == "setting":
            name = self.rng.choice(self.people)
            client.change(
                [
                    {
                        "op": "change",
                        "kind": "setting",
                        "name": f"account:{name}",
                        "set": {"sessions": self.rng.randint(1, 9)},
                    }
                ]
            )
        elif kind == "go":
            name = self.people.pop(self.rng.randrange(len(self.people)))
            client.change([{"op": "remove", "kind": "account", "name": name, "everywhere": True}])
        else:
            name = self.rng.choice(self.people)
            client.change(
                [
                    {
                        "op": "change",
                        "kind": "account",
                        "name": name,
                        "set": {"display": f"Day {self.made}"},
                    }
                ]
            )

    def day(self, number: int, changes: int, services: list[Service]) -> None:
        with ExitStack() as stack:
            clients = [stack.enter_context(s.client()) for s in services]
            for _ in range(changes):
                self.one_change(self.rng.choice(clients))
            self.sync(number, clients[0])
            self.census(number, clients[-1])
            revision = str(max(c.health().revision for c in clients))
            self.noted[revision] = clients[0].as_of(revision).dump()

    def sync(self, number: int, client: Client) -> None:
        """Somebody in the directory gets another name to be shown by."""
        text = (ROOT / "demo" / "bureau.ldif").read_text()
        (self.folder / "files" / "bureau.ldif").write_text(
            text.replace("cn: Petra Lund", f"cn: Petra Lund the {number}")
        )
        if number == 0:
            client.add_directory(
                "bureau", {"address": str(self.folder / "files" / "bureau.ldif"), **BUREAU}
            )
        report = client.sync("bureau")
        assert report.state in ("done", "nothing-to-do"), report

    def census(self, number: int, client: Client) -> None:
        at = datetime.now(UTC).isoformat()
        for store, row in (
            (
                "survey",
                {
                    "folder": "/soundings",
                    "owner": "ines",
                    "bytes": (number + 1) * 10**9,
                    "files": 100 + number,
                },
            ),
            ("public", {"folder": "/tides", "owner": "odile", "bytes": 10**8, "files": 2000}),
        ):
            client.take_census(NewCensus.model_validate({"store": store, "at": at, "rows": [row]}))

    def back_up(self, number: int, address: str, client: Client) -> None:
        """A backup while it serves, restored, and held against the model of its revision."""
        file = self.folder / f"day-{number}.dump"
        subprocess.run(
            [DRAWKNIFE, "database", "backup", file, "--database", address],
            check=True,
            capture_output=True,
        )
        other = self.cluster.create_database(f"restored_{number}")
        subprocess.run(
            [DRAWKNIFE, "database", "restore", file, "--database", other],
            check=True,
            capture_output=True,
        )
        with serving(other, self.folder) as service, service.client() as there:
            revision = there.health().revision
            assert there.dump() == client.as_of(str(revision)).dump(), (
                f"the backup of day {number} is another model"
            )


def look(
    days: Days,
    client: Client,
    address: str,
    receiver: Receiver,
    before: tuple[int, int],
    after: tuple[int, int],
) -> list[str]:
    """AssertionError where something is not as it must be; what is to be told, in lines."""
    with psycopg.connect(address) as connection:
        row = connection.execute("SELECT count(*), max(number) FROM revisions").fetchone()
        begins = connection.execute("SELECT coalesce(max(revision), 0) FROM shortened").fetchone()
        lines = connection.execute("SELECT count(revision), min(at) FROM journal").fetchone()
        old = connection.execute(
            "SELECT count(*) FROM censuses WHERE at < now() - interval '61 days'"
        ).fetchone()
    assert row is not None and lines is not None and begins is not None and old is not None
    assert row[0] == row[1] == lines[0] + begins[0], "a revision without its line"
    assert old[0] <= 2, "censuses that are too old"
    kept = {revision: dump for revision, dump in days.noted.items() if int(revision) >= begins[0]}
    for revision, dump in kept.items():
        assert client.as_of(revision).dump() == dump, f"revision {revision} is not what it was"
    for revision in set(days.noted) - set(kept):
        with suppress(Refused):
            client.as_of(revision).dump()
            raise AssertionError(f"revision {revision} is not kept, and was answered")
    found = {ToldFinding(f.kind, f.about, f.text).key for f in client.findings().findings}
    assert receiver.open == found, f"told and there are not the same: {receiver.open ^ found}"
    assert not receiver.twice, f"told twice: {receiver.twice}"
    (rss, size), (rss_now, size_now) = before, after
    each = (size_now - size) / max(row[0], 1)
    assert each < 20_000, f"{each:.0f} bytes a revision are kept"
    assert rss_now < rss * 1.6 + 40 * 2**20, (
        f"the processes grew from {rss / 2**20:.0f} to {rss_now / 2**20:.0f} MiB"
    )
    return [
        (
            f"{row[0]} revisions, each with its line from {begins[0]} on; {len(kept)} of"
            f" {len(days.noted)} pasts as they were"
        ),
        f"{receiver.letters} letters; {len(found)} findings are open, and were told once",
        f"the database grew by {(size_now - size) / 2**20:.1f} MiB, {each:,.0f} bytes a revision",
        (
            f"the processes had {rss / 2**20:.0f} MiB on the second day, and {rss_now / 2**20:.0f}"
            " MiB at the end"
        ),
    ]


#: Days between two backups.
BACKED_UP = 30
#: How long things are kept, in days.
KEPT = ("--keep", "journal=60", "--keep", "censuses=60")
#: The times that say how old something is, and not until when it is good.
_AGES = (
    ("revisions", "at"),
    ("journal", "at"),
    ("censuses", "at"),
    ("fill_levels", "at"),
    ("syncs", "at"),
    ("sign_ins", "at"),
    ("kept_credentials", "at"),
    ("reports", "made"),
    ("draft_steps", "at"),
)


def a_day_later(address: str) -> None:
    """Let everything be a day older, and remove what is older than it is kept."""
    with psycopg.connect(address) as connection:
        for table, column in _AGES:
            connection.execute(f"UPDATE {table} SET {column} = {column} - interval '1 day'")  # type: ignore[arg-type]
    command = [DRAWKNIFE, "database", "trim", "--yes", "--database", address, *KEPT]
    subprocess.run(command, check=True, capture_output=True)


def size_of(address: str) -> int:
    with psycopg.connect(address) as connection:
        row = connection.execute("SELECT pg_database_size(current_database())").fetchone()
    assert row is not None
    return int(row[0])


def run(number: int, changes: int, seed: int = 7) -> list[str]:
    """So many days; what is to be told of them."""
    with TemporaryDirectory(prefix="drawknife-days-") as name, ExitStack() as stack:
        folder = Path(name)
        cluster = Cluster(folder / "cluster")
        cluster.start()
        stack.callback(cluster.throw_away)
        address = cluster.create_database("days")
        receiver, days = Receiver(), Days(random.Random(seed), folder, cluster)
        options = ("--webhook", receiver.url, "--files", folder / "files", *KEPT)
        (folder / "files").mkdir()
        one = stack.enter_context(serving(address, folder, "--load", DEMO, *options))
        with ExitStack() as others:
            other = others.enter_context(serving(address, folder, *options))
            before = (0, 0)
            for day in range(number):
                if day == number // 2:  # an upgrade of one of the two; the other goes on
                    others.close()
                    other = stack.enter_context(serving(address, folder, *options))
                days.day(day, changes, [one, other])
                a_day_later(address)
                if day == 1:
                    before = (memory(one), size_of(address))
                if day % BACKED_UP == BACKED_UP - 1 or day == number - 1:
                    with one.client() as client:
                        days.back_up(day, address, client)
                print(
                    f"day {day + 1}: {days.made} changes, {receiver.letters} letters",
                    file=sys.stderr,
                    flush=True,
                )
        with one.client() as client:
            found = {ToldFinding(f.kind, f.about, f.text).key for f in client.findings().findings}
            for _ in range(20_000):  # what was found last is told within seconds
                if receiver.open == found or client.health().status != "ok":
                    break
            return look(days, client, address, receiver, before, (memory(one), size_of(address)))


if __name__ == "__main__":
    for line in run(
        int(sys.argv[1]) if len(sys.argv) > 1 else 400,
        int(sys.argv[2]) if len(sys.argv) > 2 else 10,
    ):
        print(line)
