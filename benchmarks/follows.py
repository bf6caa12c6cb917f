"""What follows from a change, on the large model, against its whole map."""

from __future__ import annotations

import random
from collections.abc import Callable
from datetime import UTC, datetime
from statistics import median
from typing import Any

from drawknife.answers import Answering
from drawknife.answers.previews import follow
from drawknife.changing import apply
from drawknife.core.everybody.access_map import AccessMap
from drawknife.core.model import items as m
from drawknife.core.prepared.prepared import Prepared, prepare

from .large import large_model
from .timing import against, seconds

CHANGES, REFUSALS = 100, 9


def measure() -> list[tuple[str, str, str, bool | None]]:
    model = large_model()
    before = prepare(model)
    now = datetime.now(UTC)
    whole = AccessMap(before)
    folder = next(f for f in model.stores[1].folders if f.entries and f.path != "/")
    path, few = model.virtual_paths[0], model.virtual_paths[10]
    kinds: dict[str, dict[str, Any]] = {
        "entry": {
            "op": "change",
            "kind": "folder",
            "name": f"{model.stores[1].name}:{folder.path}",
            "add": {"entries": ["deny account:a000005 upload"]},
        },
        "membership": {
            "op": "change",
            "kind": "group",
            "name": "g0100",
            "add": {"members": ["account:a000005"]},
        },
        "grant": {
            "op": "change",
            "kind": "virtual-path",
            "name": f"{path.path}>{path.leads_to}",
            "add": {"grants": ["account:a000005 read"]},
        },
        "account switched off": {
            "op": "change",
            "kind": "account",
            "name": "a000005",
            "set": {"enabled": False},
        },
    }
    every: dict[str, Any] = {
        "grant to everybody": {
            "op": "change",
            "kind": "virtual-path",
            "name": f"{few.path}>{few.leads_to}",
            "add": {"grants": ["signed-in read"]},
        },
        "entry at the root, for everybody": {
            "op": "change",
            "kind": "folder",
            "name": f"{model.stores[1].name}:/",
            "add": {"entries": ["allow signed-in read"]},
        },
    }

    def preview(*changes: dict[str, Any]) -> None:
        applied = apply(model, list(changes))
        follow(before, prepare(applied.model, before), now, applied.renames)

    def map_all() -> None:
        for _ in whole.cells():
            pass

    preview(kinds["entry"])
    out: list[tuple[str, str, str, bool | None]] = []

    def held(name: str, do: Callable[[], object], most: float | None, rounds: int = 3) -> None:
        ratio, took, mapped = against(do, map_all, rounds)
        must_be, good = ("told", None) if most is None else (f"under {most:g}", ratio < most)
        out.append(
            (
                f"{name} / the whole map",
                f"{ratio:.2f} ({took:.2f} s, {mapped:.2f} s)",
                must_be,
                good,
            )
        )

    for name, change in kinds.items():
        held(f"preview of one {name}", lambda change=change: preview(change), 1)  # type: ignore[misc]
    for name, change in every.items():
        held(f"preview of one {name}", lambda change=change: preview(change), None, 1)  # type: ignore[misc]
    held(f"preview of {CHANGES} changes", lambda: preview(*_changes(model)), 3)
    return [*out, *_mends(before, now)]


def _changes(model: m.Model) -> list[dict[str, Any]]:
    """A morning's work: entries, memberships and accounts that come."""
    rng = random.Random(3)
    folders = [f.path for f in model.stores[1].folders if f.entries and f.path != "/"]
    out: list[dict[str, Any]] = []
    for i in range(CHANGES):
        account = f"account:a{rng.randrange(len(model.accounts)):06}"
        out.append(
            [
                {
                    "op": "change",
                    "kind": "folder",
                    "name": f"survey:{rng.choice(folders)}",
                    "add": {"entries": [f"deny {account} upload"]},
                },
                {
                    "op": "change",
                    "kind": "group",
                    "name": f"g{rng.randrange(len(model.groups)):04}",
                    "add": {"members": [account]},
                },
                {
                    "op": "add",
                    "kind": "account",
                    "item": {"name": f"new{i}", "unit": "fleet1/boat2"},
                },
            ][i % 3]
        )
    return out


def _mends(before: Prepared, now: datetime) -> list[tuple[str, str, str, bool | None]]:
    """The best five ways to mend each of some refusals."""
    answering = Answering(before, 1, now)
    rng = random.Random(9)
    folders = [f.path for f in before.model.stores[1].folders if f.entries]
    took = []
    while len(took) < REFUSALS:
        question = {
            "account": f"a{rng.randrange(10_000):06}",
            "action": "upload",
            "path": f"/survey{rng.choice(folders)}/x",
        }
        if not answering.decide(question)["allowed"]:
            took.append(seconds(lambda question=question: answering.mend(question, False, 5)))  # type: ignore[misc]
    said = f"{median(took):.2f} s, the longest {max(took):.2f} s"
    return [(f"five mends, of each of {REFUSALS} refusals", said, "under 3 s", max(took) < 3)]
