"""How time and memory grow: accounts times ten, folders times ten, and both."""

from __future__ import annotations

import json
import resource
import subprocess
import sys
from time import perf_counter

SIZES = {
    "10,000 x 100,000": (1, 1),
    "accounts x 10": (10, 1),
    "folders x 10": (1, 10),
    "both x 10": (10, 10),
}


def _one(size: float, places: float) -> dict[str, float]:
    from drawknife.core.everybody.access_map import access_of_all
    from drawknife.core.prepared.prepared import prepare

    from .large import large_model

    model = large_model(size=size, places=places)
    began = perf_counter()
    prepared = prepare(model)
    map_ = access_of_all(prepared)
    ready = perf_counter()
    cells = sum(cell.members.bit_count() for cell in map_.cells()) * 11
    done = perf_counter()
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return {"prepare": ready - began, "map": done - ready, "memory": memory, "cells": cells}


def measure() -> list[tuple[str, str, str, bool | None]]:
    figures: list[tuple[str, str, str, bool | None]] = []
    first: dict[str, float] = {}
    for name, (size, places) in SIZES.items():
        command = [sys.executable, "-m", "benchmarks.growth", str(size), str(places)]
        told = subprocess.run(command, capture_output=True, text=True, check=True).stdout
        found: dict[str, float] = json.loads(told)
        first = first or found
        factors = (
            f"time x {found['map'] / first['map']:.1f}, memory x"
            f" {found['memory'] / first['memory']:.1f}"
        )
        shown = (
            f"prepare {found['prepare']:.1f} s, map {found['map']:.1f} s, {found['memory']:,.0f}"
            f" MiB; {factors}"
        )
        figures.append((f"growth: {name} ({found['cells']:,.0f} cells)", shown, "told", None))
    return figures


if __name__ == "__main__":
    print(json.dumps(_one(float(sys.argv[1]), float(sys.argv[2]))))
