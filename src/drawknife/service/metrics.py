"""What is counted and measured while it serves, for whoever watches it: OpenMetrics, at /metrics.

Each process counts for itself, in files that all of them can read (PROMETHEUS_MULTIPROC_DIR, set
before they part); what the model and its limits are like is looked at when it is asked for.
"""

from __future__ import annotations

import os
from collections import Counter as Counted
from collections.abc import Iterable, Iterator
from time import monotonic
from typing import TYPE_CHECKING, Any

from prometheus_client import CollectorRegistry, Counter, Histogram
from prometheus_client.core import GaugeMetricFamily
from prometheus_client.metrics_core import Metric
from prometheus_client.multiprocess import MultiProcessCollector
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector

from drawknife import __version__
from drawknife.answers import Answering
from drawknife.records import administrators
from drawknife.records.directories import sync_states

if TYPE_CHECKING:
    from .current import Current

__all__ = [
    "CONTENT_TYPE_LATEST",
    "REQUESTS",
    "SECONDS",
    "SIGN_INS",
    "SYNCS",
    "VERDICTS",
    "count_verdicts",
    "exposed",
]

_COUNTED = CollectorRegistry()
#: The environment variable that names the folder of the counters, where there are several
#: processes.
FOLDER = "PROMETHEUS_MULTIPROC_DIR"

#: Seconds for which what was found of the model is told again, while it is the same.
LOOKED_AT_EVERY = 60.0

REQUESTS = Counter(
    "drawknife_requests",
    "Requests that were answered",
    ["method", "route", "status"],
    registry=_COUNTED,
)
SECONDS = Histogram(
    "drawknife_request_seconds", "How long answers took", ["route"], registry=_COUNTED,
    buckets=(0.001, 0.005, 0.02, 0.1, 0.5, 2, 10, 60),
)  # fmt: skip
VERDICTS = Counter(
    "drawknife_verdicts",
    "Verdicts, by the gate that refused; `allowed` where none did",
    ["gate"],
    registry=_COUNTED,
)
SIGN_INS = Counter(
    "drawknife_sign_ins", "Sign-ins of administrators", ["result"], registry=_COUNTED
)
SYNCS = Counter(
    "drawknife_syncs", "Syncs of directories", ["directory", "state"], registry=_COUNTED
)


class _OfTheModel(Collector):
    """What is looked at: the model in force, what wants attention in it, how full its
    limits are.
    """

    #: What was found last, for which revision, and when: a large model is not looked through at
    #: each question.
    _last: tuple[int, float, list[Metric]] = (-1, 0.0, [])

    def __init__(self, current: Current) -> None:
        self._current = current

    def collect(self) -> Iterable[Metric]:
        answering = self._current.answering()
        revision, at, found = _OfTheModel._last
        if revision != answering.revision or monotonic() - at > LOOKED_AT_EVERY:
            found = list(self._look(answering))
            _OfTheModel._last = answering.revision, monotonic(), found
        return found

    def _look(self, answering: Answering) -> Iterator[Metric]:
        overview = answering.overview()
        yield GaugeMetricFamily(
            "drawknife_revision", "The revision in force", value=answering.revision
        )
        info = GaugeMetricFamily("drawknife_build", "The version that answers", labels=["version"])
        info.add_metric([__version__], 1)
        yield info
        items = GaugeMetricFamily("drawknife_items", "Items of the model", labels=["kind"])
        for kind, count in overview.counts.items():
            items.add_metric([kind], count)
        yield items
        findings = GaugeMetricFamily(
            "drawknife_findings", "Findings that are shown", labels=["kind", "severity"]
        )
        for (kind, severity), count in sorted(
            Counted((f.kind, f.severity) for f in overview.findings).items()
        ):
            findings.add_metric([kind, severity], count)
        yield findings
        yield GaugeMetricFamily(
            "drawknife_findings_accepted",
            "Findings that are accepted",
            value=len(overview.accepted),
        )
        yield from _limits(answering)
        good = GaugeMetricFamily(
            "drawknife_sync_last_good_timestamp_seconds",
            "When a directory was synchronised last",
            labels=["directory"],
        )
        for state in sync_states(self._current.database):
            if state.last_good is not None:
                good.add_metric([state.directory], state.last_good.timestamp())
        yield good
        ends = GaugeMetricFamily(
            "drawknife_certificate_end_timestamp_seconds",
            "When an endpoint's certificate ends",
            labels=["endpoint"],
        )
        for endpoint in self._current.snapshot().model.endpoints:
            seen = self._current.certificates.seen(endpoint)
            if seen is not None and seen.valid_until is not None:
                ends.add_metric([endpoint.name], seen.valid_until.timestamp())
        yield ends
        people = GaugeMetricFamily(
            "drawknife_administrators", "Administrators, by role", labels=["role"]
        )
        roles = [a.role for a in administrators.each(self._current.database)]
        for role in sorted(set(roles)):
            people.add_metric([role], roles.count(role))
        yield people


def _limits(answering: Answering) -> Iterator[Metric]:
    full = GaugeMetricFamily(
        "drawknife_limit_fill_ratio", "How full a limit is, of 1", labels=["kind", "name", "of"]
    )
    for limit in answering.limits().limits:
        for of, used, hard, soft in (
            ("bytes", limit.used_bytes, limit.hard_bytes, limit.soft_bytes),
            ("files", limit.used_files, limit.hard_files, limit.soft_files),
        ):
            most = hard if hard is not None else soft
            if most:
                full.add_metric([limit.kind, limit.name, of], used / most)
    yield full


def exposed(current: Current) -> bytes:
    """All of it, as OpenMetrics. :class:`Unavailable` while the database is away."""
    registry = CollectorRegistry()
    if os.environ.get(FOLDER):
        MultiProcessCollector(registry)  # type: ignore[no-untyped-call]
    else:
        registry.register(_Passed(_COUNTED))
    registry.register(_OfTheModel(current))
    found: bytes = generate_latest(registry)  # type: ignore[no-untyped-call]
    return found


class _Passed(Collector):
    """What another registry has."""

    def __init__(self, of: CollectorRegistry) -> None:
        self._of = of

    def collect(self) -> Iterable[Metric]:
        return self._of.collect()


def count_verdicts(answers: Iterable[dict[str, Any]]) -> None:
    """Count what was decided, by the gate that refused."""
    gates = Counted(
        "allowed" if a["allowed"] else str(a.get("gate")) for a in answers if "allowed" in a
    )
    for gate, count in gates.items():
        VERDICTS.labels(gate).inc(count)
