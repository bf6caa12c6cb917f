"""The past and the promises, on the large model: against reading today's model whole, and against
the whole map.
"""

from __future__ import annotations

from datetime import UTC, datetime
from random import Random

from drawknife.answers.when import turns
from drawknife.changing import apply
from drawknife.core.everybody.access_map import AccessMap
from drawknife.core.everybody.promises import broken_promises
from drawknife.core.model import items as m
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.names import Place
from drawknife.core.words.rights import BIT
from drawknife.formats.questions import read_question
from drawknife.records import history
from drawknife.records.changes import change_model, replace_model
from drawknife.records.database import Database, bring_up_to_date
from drawknife.records.snapshots import read_snapshot

from .http import cluster_of_its_own
from .large import large_model
from .timing import against

#: Revisions of one change each.
REVISIONS = 1000
PROMISES = 100


def _past(model: m.Model) -> list[tuple[str, str, str, bool | None]]:
    rng = Random(5)
    folders = [f"{s.name}:{f.path}" for s in model.stores for f in s.folders]
    with cluster_of_its_own() as cluster:
        address = cluster.create_database("past")
        bring_up_to_date(address)
        database = Database(address)
        database.open()
        first = kept = replace_model(database, model, "benchmark", "load")
        for number in range(REVISIONS):
            change = rng.choice(
                [
                    {
                        "op": "change",
                        "kind": "folder",
                        "name": rng.choice(folders),
                        "add": {"entries": ["allow account:a000005 read"]},
                    },
                    {
                        "op": "change",
                        "kind": "account",
                        "name": f"a{rng.randrange(10_000):06}",
                        "set": {"display": f"d{number}"},
                    },
                    {
                        "op": "change",
                        "kind": "group",
                        "name": f"g{rng.randrange(2000):04}",
                        "add": {"members": ["account:a000009"]},
                    },
                ]
            )
            after = apply(kept.model, [change]).model
            kept = change_model(
                database, lambda _, __, after=after: after, "benchmark", "edit", None, at_hand=kept
            )  # type: ignore[misc]
        ratio, took, whole = against(
            lambda: history.model_at(database, kept, first.revision),
            lambda: read_snapshot(database),
            3,
        )
        assert history.model_at(database, kept, first.revision) == first.model
        question, _ = read_question(
            {"account": "a000005", "action": "download", "path": "/survey/d000001/x"}
        )
        now = datetime.now(UTC)
        looked_at: list[int] = []

        def when() -> None:
            steps, *among = history.steps_for(database, kept, question)
            looked_at[:] = [len(steps)]
            turns(kept.model, question, steps, *among, now, now)

        turned, since, _ = against(when, lambda: read_snapshot(database), 3)
        database.close()
    since_when = (
        f"`when`, over {REVISIONS:,} revisions / reading the model whole",
        f"{turned:.2f} ({since:.2f} s; {looked_at[0]} of them touch what counts)",
        "told",
        None,
    )
    said = f"{ratio:.2f} ({took:.2f} s, {whole:.2f} s; {kept.revision - first.revision} revisions)"
    return [
        ("the model as of 1,000 revisions ago / reading it whole", said, "under 1", ratio < 1),
        since_when,
    ]


def _promises(model: m.Model) -> list[tuple[str, str, str, bool | None]]:
    rng = Random(7)
    prepared = prepare(model)
    whole = AccessMap(prepared)
    places = [Place(s.name, f.path) for s in model.stores for f in s.folders if f.entries]
    virtual = [v.path for v in model.virtual_paths]
    promises = tuple(
        m.Promise(
            f"p{i}",
            m.Says(
                rng.choice(["nobody", "only", "everybody"]),
                (m.Subject("group", f"g{rng.randrange(2000):04}"),),
                BIT[rng.choice(["download", "upload", "list"])],
                rng.choice([rng.choice(places), rng.choice(virtual)]),
                rng.choice(["here", "here", "tree", "children"]),
            ),
        )
        for i in range(PROMISES)
    )
    today = datetime.now(UTC).date()

    def map_all() -> None:
        for _ in whole.cells():
            pass

    def look() -> None:
        prepared.derived.pop(
            "promises", None
        )  # what was found is kept, and would be all that is measured
        broken_promises(prepared, today, promises)

    broken_promises(prepared, today, promises[:1])
    ratio, took, mapped = against(look, map_all, 3)
    return [
        (
            f"{PROMISES} promises / the whole map",
            f"{ratio:.2f} ({took:.2f} s, {mapped:.2f} s)",
            "under 1",
            ratio < 1,
        )
    ]


def measure() -> list[tuple[str, str, str, bool | None]]:
    model = large_model()
    return [*_promises(model), *_past(model)]
