"""Measure, and print a table with what each figure must be: python -m benchmarks [NAME ...]

Every figure is a ratio of two things measured in one run, one right after the other, the median of
several rounds: the machine's own speed cancels out.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import NamedTuple

from rich.console import Console
from rich.table import Table

from . import answers, census, core, disk, follows, growth, http, load, past, rehearsal, sync


class Figure(NamedTuple):
    """One line of the table. `good` says whether the measured value is what it must be."""

    name: str
    measured: str
    must_be: str
    good: bool | None


PARTS: dict[str, Callable[[], list[tuple[str, str, str, bool | None]]]] = {
    "core": core.measure,
    "follows": follows.measure,
    "answers": answers.measure,
    "past": past.measure,
    "http": http.measure,
    "load": load.measure,
    "sync": sync.measure,
    "census": census.measure,
    "disk": disk.measure,
    "rehearsal": rehearsal.measure,
    "growth": growth.measure,
}


def main() -> int:
    wanted = sys.argv[1:] or list(PARTS)
    table = Table("what", "measured", "must be", "", box=None, padding=(0, 2, 0, 0))
    bad = 0
    for name in wanted:
        print(f"· {name}", file=sys.stderr, flush=True)
        for figure in map(Figure._make, PARTS[name]()):
            bad += figure.good is False
            sign = "" if figure.good is None else "✓" if figure.good else "✗"
            table.add_row(figure.name, figure.measured, figure.must_be, sign)
    Console(width=None if sys.stdout.isatty() else 120).print(table)
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
