"""What clients do at stand-ins, as these report it."""

from __future__ import annotations

from typing import Annotated, Literal

from flask import Response, g
from pydantic import Field

from drawknife import messages as msg
from drawknife.records import rehearsals
from drawknife.records.retention import REHEARSALS

from ..keeping import check_account_named
from .common import Query, answer, blueprint, current, problems, reading

api = blueprint("rehearsals", "What clients do at stand-ins.")

#: So many lines are told where nothing else is said.
TOLD = 500


class LogQuery(Query):
    account: str | None = Field(None, description="Only of this account")
    endpoint: str | None = Field(None, description="Only at this endpoint")
    verdict: Literal["allowed", "refused"] | None = Field(
        None, description="Only what was let, or refused"
    )
    after: Annotated[int, Field(ge=0)] = Field(
        0, description="Only lines after this one, by its id"
    )
    most: Annotated[int, Field(ge=1, le=5000)] = Field(
        TOLD, description="So many lines at most, the newest"
    )


@api.get(
    "/rehearsal/log",
    summary="What clients did at stand-ins, the newest first",
    responses={200: msg.RehearsalLog},
)
def rehearsal_log(query: LogQuery) -> Response:
    allowed = None if query.verdict is None else query.verdict == "allowed"
    found = rehearsals.kept_lines(
        current().database,
        query.most,
        query.after,
        query.account,
        query.endpoint,
        allowed=allowed,
        accounts=reading().accounts(),
    )
    # Which drafts there are is not told to those whose area bounds what they read.
    bounded = reading().area is not None
    lines = [
        msg.KeptRehearsalLine(id=x.id, draft=None if bounded else x.draft, **x.line) for x in found
    ]
    return answer(msg.RehearsalLog(lines=lines, kept=current().retention[REHEARSALS.name]))


@api.post(
    "/rehearsal/log",
    summary="Report what clients do at a stand-in",
    responses={200: msg.Taken, **problems(413, 415)},
)
def report_rehearsal(body: msg.RehearsalLines) -> Response:
    for line in body.lines:
        check_account_named(current(), g.holder, line.account)
    lines = [line.model_dump(mode="json") for line in body.lines]
    return answer(msg.Taken(count=rehearsals.add_lines(current().database, body.draft, lines)))
