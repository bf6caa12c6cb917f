"""Who keeps a port that two endpoints want: the one that runs.

By the rules the endpoint whose name sorts first starts. So a new endpoint could stop one that
works. It is kept switched off instead, and a change of an endpoint that would stop one that works
is refused, unless it says that it may.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

from drawknife.core.follows.pairing import Renames
from drawknife.core.model.edits import refuse
from drawknife.core.model.endpoints import Clash, stopped_by
from drawknife.core.model.items import Endpoint, Model
from drawknife.core.words.names import fold


def keep_ports(
    before: Model, after: Model, renames: Renames, changes: Sequence[dict[str, Any]]
) -> tuple[Model, list[str]]:
    """Return the model after some changes with every endpoint that ran still running, and what was
    done for that.

    Raises :class:`~drawknife.core.model.edits.ChangeRefused` where a change of an endpoint that was
    there stops one.
    """
    notes: list[str] = []
    if before.endpoints == after.endpoints:
        return after, notes
    allowed = {
        fold(str(name))
        for change in changes
        if change.get("kind") == "endpoint" and change.get("stops")
        for name in (change.get("name"), change.get("to"), (change.get("item") or {}).get("name"))
        if name
    }
    known = {fold(renames.name("endpoint", e.name)) for e in before.endpoints}
    for clash in _newly_stopped(before, after, renames):
        if {fold(clash.loser), fold(clash.winner)} & allowed:
            continue
        if fold(clash.winner) in known:
            raise refuse(
                f"endpoint {clash.loser} would stop: {clash.text}",
                "other ports, or `stops` (on the command line --yes) if it is to stop",
            )
        after = replace(
            after, endpoints=tuple(_switched_off(e, clash.winner) for e in after.endpoints)
        )
        notes.append(
            f"{clash.winner} is switched off, as {clash.loser} runs there: {clash.text}; "
            f"give {clash.winner} other ports and enable it"
        )
    return after, notes


def _newly_stopped(before: Model, after: Model, renames: Renames) -> Iterator[Clash]:
    """Each clash that stops an endpoint which ran before; again after each that was settled."""
    stopped = stopped_by(before.endpoints)
    ran = {
        fold(renames.name("endpoint", e.name))
        for e in before.endpoints
        if e.enabled and e.name not in stopped
    }
    new = {e.name for e in after.endpoints} - {
        renames.name("endpoint", e.name) for e in before.endpoints
    }
    endpoints = after.endpoints
    while True:
        found = next((c for c in stopped_by(endpoints).values() if fold(c.loser) in ran), None)
        if found is None:
            return
        yield found
        # Looked at further as it will be: the new one off, or the old one stopped as was agreed.
        out = found.winner if found.winner in new else found.loser
        if out == found.loser:
            ran.discard(fold(out))
        endpoints = tuple(_switched_off(e, out) for e in endpoints)


def _switched_off(endpoint: Endpoint, name: str) -> Endpoint:
    return replace(endpoint, enabled=False) if endpoint.name == name else endpoint
