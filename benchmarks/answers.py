"""What people wait for on the large model: folded answers against whole ones, and what goes through
a service against its bare answer.
"""

from __future__ import annotations

import csv
import io
import subprocess
import sys
import threading
from datetime import UTC, datetime
from http.client import HTTPConnection
from typing import Any

from drawknife.answers import Answering
from drawknife.answers.map_window import MapWindow, all_locations, map_cells
from drawknife.core.model.items import Model
from drawknife.core.prepared.prepared import prepare

from .http import cluster_of_its_own, served
from .large import large_model
from .timing import against, seconds

Figures = list[tuple[str, str, str, bool | None]]
ROWS = 40


def measure() -> Figures:
    model = large_model()
    answering = Answering(prepare(model), 1, datetime.now(UTC))
    return [
        *_folded(answering, model),
        *_map_as_csv(answering),
        *_explained(answering),
        *_through_a_service(model),
    ]


def _folded(answering: Answering, model: Model) -> Figures:
    name = model.accounts[4321].name
    sizes: dict[bool, int] = {}

    def access(folded: bool) -> None:
        sizes[folded] = len(answering.access(name, folded=folded).model_dump_json())

    access(True)
    ratio, short, long = against(lambda: access(True), lambda: access(False), 3)
    size = sizes[True] / sizes[False]
    return [
        (
            "access of one account, folded / whole, time",
            f"{ratio:.2f} ({short:.2f} s, {long:.2f} s)",
            "under 0.2",
            ratio < 0.2,
        ),
        (
            "the same, bytes",
            f"{size:.3f} ({sizes[True]:,}, {sizes[False]:,})",
            "under 0.2",
            size < 0.2,
        ),
    ]


def _map_as_csv(answering: Answering) -> Figures:
    prepared = answering.prepared
    locations = all_locations(prepared)
    rows = list(range(ROWS))
    names = [prepared.people.accounts[i].name for i in rows]

    def written(cells: Any) -> None:
        out = csv.writer(io.StringIO())
        for name, row in zip(names, cells, strict=True):
            out.writerow([name, *("" if c is None else c for c in row)])

    def bare() -> None:
        written(map_cells(prepared, rows, locations, None))

    def answered() -> None:
        window = MapWindow(account_limit=ROWS, location_limit=len(locations))
        written(answering.map(window).cells)

    bare()
    ratio, short, long = against(answered, bare, 3)
    return [
        (
            f"map of {ROWS} accounts at all locations as CSV / the core's map and its bytes",
            f"{ratio:.2f} ({short:.1f} s, {long:.1f} s)",
            "under 2",
            ratio < 2,
        )
    ]


def _explained(answering: Answering) -> Figures:
    def took(depth: int, explain: bool) -> float:
        question = {
            "account": "a000005",
            "action": "download",
            "path": "/survey" + "/x" * depth,
            "explain": explain,
        }

        def first() -> None:
            """As it is for a folder that was not asked about before."""
            answering.prepared.decided.clear()
            answering.prepared.sentences.clear()
            answering.decide(question)

        return min(seconds(lambda: [first() for _ in range(50)]) for _ in range(5)) / 50

    took(12, True)
    found = {
        (depth, explain): took(depth, explain) for depth in (12, 120) for explain in (True, False)
    }
    ratio = found[12, True] / found[12, False]
    grows, verdict = found[120, True] / found[12, True], found[120, False] / found[12, False]
    return [
        (
            "explanation / verdict, at a depth of 12",
            f"{ratio:.1f} ({found[12, True] * 1e6:.0f} µs)",
            "under 20",
            ratio < 20,
        ),
        (
            "explanation at a depth of 120 / of 12; and the verdict",
            f"{grows:.1f}; {verdict:.1f}",
            "no faster than the verdict, or 10",
            grows <= max(verdict, 10),
        ),
    ]


def _through_a_service(model: Model) -> Figures:
    with cluster_of_its_own() as cluster:
        address = cluster.create_database("bench")
        with (
            served(address, model, 2) as (port, token),
            served(address, None) as (other, its_token),
        ):

            def get(path: str, port: int = port, token: str = token) -> bytes:
                connection = HTTPConnection("127.0.0.1", port)
                connection.request(
                    "GET", f"/api/v1/{path}", headers={"Authorization": f"Bearer {token}"}
                )
                found = connection.getresponse().read()
                connection.close()
                return found

            def listed() -> None:
                command = [
                    sys.executable,
                    "-c",
                    "from drawknife.cli.main import main; main()",
                    "account",
                    "list",
                ]
                url = f"http://127.0.0.1:{port}"
                subprocess.run(
                    [*command, "--url", url, "--token", token],
                    stdout=subprocess.DEVNULL,
                    check=True,
                )

            def some(start: int, count: int, *service: Any) -> None:
                get(
                    f"map?right=download&account_offset={start}&account_limit={count}&location_limit=100000",
                    *service,
                )

            def at_once(*second: Any) -> None:
                halves = [threading.Thread(target=some, args=(0, ROWS // 2))]
                halves.append(threading.Thread(target=some, args=(ROWS // 2, ROWS // 2, *second)))
                for half in halves:
                    half.start()
                for half in halves:
                    half.join()

            for _ in range(4):  # each process makes ready what it answers from
                some(0, 1)
                some(0, 1, other, its_token)
            listing, whole, bare = against(listed, lambda: get("accounts?limit=200000"), 5)
            split, halves, one = against(at_once, lambda: some(0, ROWS), 3)
            apart, by_two, _ = against(lambda: at_once(other, its_token), lambda: some(0, ROWS), 3)
    return [
        (
            "`account list` of 10,000 / the HTTP answer alone",
            f"{listing:.1f} ({whole:.2f} s, {bare:.2f} s)",
            "under 2",
            listing < 2,
        ),
        (
            f"map of {ROWS} accounts by two processes at once / by one",
            f"{split:.2f} ({halves:.1f} s, {one:.1f} s)",
            "told",
            None,
        ),
        ("the same by two services on one database", f"{apart:.2f} ({by_two:.1f} s)", "told", None),
    ]
