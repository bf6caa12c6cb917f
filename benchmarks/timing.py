"""Timing two things against each other."""

from __future__ import annotations

from collections.abc import Callable
from statistics import median
from time import perf_counter


def seconds(action: Callable[[], object]) -> float:
    """How long one call takes."""
    began = perf_counter()
    action()
    return perf_counter() - began


def against(
    action: Callable[[], object], other: Callable[[], object], rounds: int = 5
) -> tuple[float, float, float]:
    """(ratio, seconds of `action`, seconds of `other`): medians over rounds, the two in turn."""
    pairs = [(seconds(action), seconds(other)) for _ in range(rounds)]
    return median(a / b for a, b in pairs), median(a for a, _ in pairs), median(b for _, b in pairs)
