"""The core on the large model: the map, decisions, who, windows."""

from __future__ import annotations

import json
import os
import random
import tempfile
from datetime import UTC, datetime
from pathlib import Path

from drawknife.answers import Answering
from drawknife.answers.map_window import all_locations, map_cells
from drawknife.core.decide.gates import verdict
from drawknife.core.everybody.access_map import access_of_all
from drawknife.core.everybody.division import bits_in
from drawknife.core.everybody.effective import right_state
from drawknife.core.prepared.prepared import Prepared, prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.names import ancestors
from drawknife.core.words.rights import BIT, RIGHTS

from .bare import bare_closed_form
from .large import large_model
from .timing import against, seconds

Figures = list[tuple[str, str, str, bool | None]]
NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


def measure() -> Figures:
    prepared = prepare(large_model())
    return [
        *_whole_map(prepared),
        *_decision(prepared),
        *_who(prepared),
        *_window(prepared),
        *_one_entry(prepared),
    ]


def run_map(prepared: Prepared) -> int:
    """The whole map; returns how many cells there are, rights counted one by one."""
    return sum(cell.members.bit_count() for cell in access_of_all(prepared).cells()) * len(RIGHTS)


def _whole_map(prepared: Prepared) -> Figures:
    map_ = access_of_all(prepared)
    cells = run_map(prepared)
    rng = random.Random(3)
    folders = [f.path for f in prepared.model.stores[1].folders]
    accounts = [
        prepared.people.prepared(i) for i in rng.sample(range(len(prepared.people.accounts)), 300)
    ]
    sample = [
        (rng.choice(accounts), "/survey" + rng.choice(folders).rstrip("/"), rng.choice(RIGHTS))
        for _ in range(5000)
    ]

    def singles() -> None:
        for account, location, right in sample:
            right_state(prepared, account, location, right)

    def whole() -> None:
        for _ in map_.cells():
            pass

    singles()
    ratio, single, took = against(singles, whole)
    faster = ratio / len(sample) * cells
    store = prepared.stores["survey"]
    times, _, bare = against(whole, lambda: bare_closed_form(prepared, store, map_.division.bits))
    return [
        ("cells of the whole map", f"{cells:,}, in {took:.2f} s", "", None),
        (
            "the same cells by single decisions",
            f"{single / len(sample) * 1e6:.1f} µs each",
            "",
            None,
        ),
        ("whole map, times faster", f"{faster:,.0f}", "at least 50,000", faster >= 50_000),
        (
            "whole map / bare closed form",
            f"{times:.1f} (bare: {bare:.2f} s)",
            "within 5",
            times <= 5,
        ),
    ]


def _decision(prepared: Prepared) -> Figures:
    rng = random.Random(5)
    store = prepared.model.stores[1]
    depth = 6
    deep = [f.path for f in store.folders if f.path.count("/") == depth]
    accounts = [prepared.people.accounts[i].name for i in rng.sample(range(10_000), 200)]
    questions = [
        Question(rng.choice(accounts), rng.choice(RIGHTS[:6]), f"/survey{rng.choice(deep)}/x")
        for _ in range(4000)
    ]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, *(f"d{i:06}" for i in range(depth + 1)))
        path.mkdir(parents=True)
        shown = str(path)

        def accesses() -> None:
            for _ in questions:
                os.access(shown, os.R_OK)

        def decisions() -> None:
            for question in questions:
                verdict(prepared, question, NOW)

        def first_ones() -> None:
            prepared.on(NOW.date()).decided.clear()
            decisions()

        decisions()
        ratio, decided, accessed = against(decisions, accesses, 9)
        first, decided_first, _ = against(first_ones, accesses, 9)
    count = len(questions)
    lines = [
        json.dumps({"account": q.account, "action": q.action, "path": q.path}) for q in questions
    ]
    asking = Answering(prepared, 1, NOW)
    encode = json.JSONEncoder(ensure_ascii=False).encode

    def line_by_line() -> None:
        for line in lines:
            encode(asking.decide(json.loads(line)))

    rate = count / min(seconds(line_by_line) for _ in range(5))
    return [
        (
            (
                "one decision / os.access at the same depth, of folders asked about before, as the"
                " kernel is"
            ),
            f"{ratio:.1f} ({decided / count * 1e6:.1f} µs, {accessed / count * 1e6:.1f} µs)",
            "within 5",
            ratio <= 5,
        ),
        (
            "the first decision of a folder / os.access",
            f"{first:.1f} ({decided_first / count * 1e6:.1f} µs)",
            "within 12",
            first <= 12,
        ),
        (
            "questions a second, as JSON lines in the core",
            f"{rate:,.0f}",
            "at least 20,000",
            rate >= 20_000,
        ),
    ]


def _who(prepared: Prepared) -> Figures:  # noqa: C901 - what it is held against is as bare as can be
    rng = random.Random(9)
    store = prepared.stores["survey"]
    map_ = access_of_all(prepared).restricted(BIT["download"])
    folders = [p for p, node in store.marked.items() if p.count("/") >= 4]
    chosen = rng.sample(folders, 300)
    bits, r = map_.form.bits, RIGHTS.index("download")
    everybody, accounts = map_.form.everybody, prepared.people.accounts

    def who() -> None:
        for path in chosen:
            members = 0
            for cell in map_.cells({"survey": [path]}):
                members |= cell.plain[r] | cell.owning[r]
            named(members)

    def named(members: int) -> list[str]:
        return [accounts[bit].name for bit in bits_in(members)]

    def one_pass() -> None:
        """Every level's entries once, as sets of accounts; no passing through, no virtual paths."""
        for path in chosen:
            decided, forbidden, undecided = 0, 0, everybody
            for up, at in enumerate(ancestors(path)):
                node = store.marked.get(at)
                if node is None:
                    continue
                allow = deny = 0
                for rights, sid, effect in node.rules[min(up, 2)]:
                    if rights >> r & 1:
                        if effect:
                            allow |= bits.get(sid, 0)
                        else:
                            deny |= bits.get(sid, 0)
                for rights, sid, _ in node.forbids[min(up, 2)]:
                    if rights >> r & 1:
                        forbidden |= bits.get(sid, 0)
                decided |= undecided & allow & ~deny
                undecided &= ~(allow | deny)
                if node.sealed:
                    undecided = 0
            named(decided & ~forbidden)

    who()
    times, one, _ = against(who, one_pass)
    return [
        (
            "who, one folder / one pass over its entries, both naming the accounts",
            f"{times:.1f} ({one / 300 * 1e6:.0f} µs)",
            "within 3",
            times <= 3,
        )
    ]


def _window(prepared: Prepared) -> Figures:
    whole = seconds(lambda: run_map(prepared))
    locations = all_locations(prepared)
    start = len(locations) // 3
    columns = locations[start : start + 200]
    rows = list(range(5000, 5200))

    def window() -> None:
        map_cells(prepared, rows, columns, None)

    window()
    part = min(seconds(window) for _ in range(3)) / whole
    return [("map window of 200 by 200 / whole map", f"{part:.3f}", "under 0.1", part < 0.1)]


def _one_entry(prepared: Prepared) -> Figures:
    from dataclasses import replace

    model = prepared.model
    folder = model.stores[1].folders[777]
    changed = model.with_folder("survey", replace(folder, sealed=not folder.sealed))
    ratio, short, _ = against(lambda: prepare(changed, prepared), lambda: prepare(changed), 3)
    return [
        (
            "prepare after one changed entry / from nothing",
            f"{ratio:.2f} ({short * 1000:.0f} ms)",
            "well under 1",
            ratio < 0.5,
        )
    ]
