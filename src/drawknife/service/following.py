"""What followed from a change that was made: told to who made it, and kept in the journal."""

from __future__ import annotations

from datetime import UTC, datetime

import structlog

from drawknife.answers.previews import follow
from drawknife.answers.summaries import summary
from drawknife.core.follows.pairing import Renames
from drawknife.core.follows.sign_in_changes import Credentials
from drawknife.core.model.items import Model
from drawknife.records.database import Unavailable
from drawknife.records.journal import note_followed
from drawknife.records.snapshots import Snapshot

from .current import Current

log = structlog.get_logger()


def followed_by(
    state: Current, before: Model, after: Snapshot, renames: Renames | None = None, credentials: Credentials = None
) -> list[str]:
    """What followed from a change that is in force, in a line or two, and kept with its line of the journal."""
    if before == after.model:
        return []
    was, now = state.prepared_for(before), state.prepared_for(after.model)
    told = follow(was, now, datetime.now(UTC), renames, credentials)
    said = summary(told.follows)
    said += [f"{x.line} has no effect: {x.reasons[0]}" for x in told.without_effect[:2] if x.reasons]
    if not told.without_effect:
        said += [f"still, {x}" for x in told.held_back[:2]]
    try:
        note_followed(state.database, after.revision, said)
    except Unavailable as error:
        log.warning("what followed was not kept", revision=after.revision, error=str(error))
    return said
