"""Findings about directories: their syncs fail, or the first one waits for a person."""

from __future__ import annotations

from datetime import UTC, datetime

from drawknife.directory.sync import options_of
from drawknife.messages import FindingMessage, SyncReport
from drawknife.records.database import Database
from drawknife.records.directories import read_directories, sync_states


def sync_findings(database: Database) -> list[FindingMessage]:
    """The directories whose syncs fail, and those whose first sync waits for a person."""
    waiting = {d.name for d in read_directories(database) if options_of(d).interval}
    found = []
    for state in sync_states(database):
        name = state.directory
        if state.failing_since is not None and state.report is not None:
            report = SyncReport.model_validate_json(state.report)
            how = "was refused" if report.state == "refused" else "failed"
            good = (
                f"the last good one was at {_at(state.last_good)}"
                if state.last_good
                else "none has succeeded"
            )
            text = (
                f"The synchronisation of {name} {how}: {report.text}. It fails since"
                f" {_at(state.failing_since)}; {good}."
            )
            found.append(FindingMessage(kind="sync-failed", about=name, severity="risk", text=text))
        elif name in waiting and not state.confirmed:
            text = (
                f"{name} waits for its first synchronisation: nothing is read at its interval"
                f" before somebody has reviewed it. Review it with `drawknife sync {name}`."
            )
            found.append(
                FindingMessage(kind="sync-waits", about=name, severity="tidy-up", text=text)
            )
    return found


def _at(moment: datetime) -> str:
    return f"{moment.astimezone(UTC):%Y-%m-%d %H:%M} UTC"
