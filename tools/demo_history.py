"""The demo's last two months: censuses, changes by several people, one that broke something, a
draft that waits.

All of it is done to a running service as people would, one after the other; then the database is
told when it was.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
import psycopg

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.model.items import Model
from drawknife.core.model.kinds import DISK
from drawknife.disk import reading_from, users_from
from drawknife.formats.model_file import read_model

ROOT = Path(__file__).resolve().parent.parent
WEEKS = 8
#: Days before today.
Ago = float


def change(kind: str, name: str, **what: Any) -> dict[str, Any]:
    return {"op": "change", "kind": kind, "name": name, **what}


NEVER = change("endpoint", "lab-sftp", add={"never": ["group:night-watch"]})
JOIN = change("group", "night-watch", add={"members": ["account:tomasz"]})
LEAVE = change("group", "night-watch", drop={"members": ["account:tomasz"]})
KEEPS = change("folder", "survey:/charts", add={"entries": ["deny group:night-watch delete-file"]})


ACTS = change("setting", "account:refa", set={"acts_as": "{account}"})


def _reading(store: str) -> dict[str, Any]:
    """What was read of a store's disk, from the text of getfacl."""
    folder = ROOT / "demo" / "disk"
    users, groups = users_from(
        (folder / "passwd").read_text().splitlines(), (folder / "group").read_text().splitlines()
    )
    root = f"/srv/tidewrack/{store}"
    found = reading_from(
        (folder / f"{store}.getfacl").read_bytes(),
        store,
        root,
        users,
        groups,
        folders=[f"{root}/teams/partners".encode()],
    )
    return {"op": "add", "kind": "disk-reading", "item": DISK.data(found)}


def add_history(url: str, token: str, database: str, now: datetime) -> None:
    """What has happened up to `now`, which a demo that was started before has already."""
    with Client(url, token) as client, psycopg.connect(database, autocommit=True) as connection:
        if client.censuses().censuses:
            return
        now = now.replace(microsecond=0, second=0)
        model = read_model((ROOT / "demo/tidewrack.yaml").read_bytes())
        marks = [(_newest(connection), now - timedelta(days=7 * WEEKS + 3))]
        for ago, happens in sorted(_events(client, url, model, now), key=lambda event: -event[0]):
            happens()
            marks.append((_newest(connection), now - timedelta(days=ago)))
        _date(connection, marks, now)


#: The last revision and the last line of the journal.
Newest = tuple[int, int]


def _newest(connection: psycopg.Connection) -> Newest:
    row = connection.execute(
        "SELECT (SELECT max(number) FROM revisions), (SELECT max(id) FROM journal)"
    ).fetchone()
    assert row is not None
    return row[0], row[1]


def _events(
    client: Client, url: str, model: Model, now: datetime
) -> Iterator[tuple[Ago, Callable[[], None]]]:
    """What happens, and how long ago."""
    rng = random.Random(7)
    for week in range(WEEKS + 1):
        for i, store in enumerate(model.stores):
            share = 1.0 if week == 0 else 1 - 0.012 * week - rng.uniform(0, 0.004)
            ago = 7 * week + (len(model.stores) - i) / 1440
            yield ago, _census(client, model, store.name, share, now - timedelta(days=ago))
    yield 40.1, _as("olga", client, url, "/changes", changes=[JOIN])
    yield 26.2, _as("olga", client, url, "/changes", changes=[LEAVE])
    yield 15.0, lambda: client.make_token("night-report", "reader", "2031-12-31") and None
    # What was meant to close the lab's endpoint to boats shuts the night watch out, and is taken
    # back in the morning.
    yield 11.7, _as("olga", client, url, "/changes", changes=[NEVER])
    yield 11.1, lambda: client.back(client.health().revision) and None
    # The office works on a machine of its own, whose server takes on a user for each; its team's
    # folder was made by hand.
    yield 9.3, _as("olga", client, url, "/changes", changes=[ACTS, _reading("homes")])
    yield 3.2, _as("pim", client, url, "/drafts/watch-keeps-charts/changes", changes=[KEEPS])
    yield (
        2.0,
        lambda: client.comment_on_draft(
            "watch-keeps-charts", "odile is in the watch, and of the chart desk: is that meant?"
        ),
    )


def _census(
    client: Client, model: Model, store: str, share: float, at: datetime
) -> Callable[[], None]:
    # What is above a soft limit was so all the time: since when, the model says itself.
    soft = {q.folder: q.soft_bytes for q in model.quotas if q.bytes_over_since and q.soft_bytes}
    rows = []
    for u in (u for u in model.usage if u.folder.store == store):
        least = soft.get(u.folder, 0) / u.bytes
        part = least + (1 - least) * max(0, 10 * share - 9) if least else share
        rows.append(
            {
                "folder": u.folder.path,
                "owner": u.owner,
                "bytes": int(u.bytes * part) >> 20 << 20,
                "files": int(u.files * part),
            }
        )
    taken = msg.NewCensus.model_validate({"store": store, "at": at, "rows": rows})
    return lambda: client.take_census(taken) and None


def _as(name: str, owner: Client, url: str, route: str, **body: Any) -> Callable[[], None]:
    def happens() -> None:
        with signed_in(name, owner, url) as browser:
            browser.post(route, json=body).raise_for_status()

    return happens


@contextmanager
def signed_in(name: str, owner: Client, url: str) -> Iterator[httpx.Client]:
    """A browser in which somebody has signed in by a link, and signs out at the end."""
    code = owner.sign_in_link(name).path.partition("#")[2]
    with httpx.Client(base_url=url + "/api/v1", headers={"X-Drawknife-Console": "1"}) as browser:
        browser.post("/sessions", json={"token": code}).raise_for_status()
        yield browser
        browser.delete("/sessions")


def _date(
    connection: psycopg.Connection, marks: list[tuple[Newest, datetime]], now: datetime
) -> None:
    """Tell the database when each revision and line was made, up to each mark, and what was written
    into the draft.
    """
    written, said = now - timedelta(days=3.2), now - timedelta(days=2)
    revision, line = 0, 0
    with connection.transaction():
        for newest, at in marks:
            connection.execute(
                "UPDATE revisions SET at = %s WHERE number > %s AND number <= %s",
                (at, revision, newest[0]),
            )
            connection.execute(
                "UPDATE journal SET at = %s WHERE id > %s AND id <= %s", (at, line, newest[1])
            )
            revision, line = newest
        connection.execute("UPDATE drafts SET begun = %s", (written,))
        connection.execute("UPDATE draft_steps SET at = %s", (written,))
        connection.execute("UPDATE draft_comments SET at = %s", (said,))
