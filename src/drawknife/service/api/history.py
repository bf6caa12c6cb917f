"""The way back: a revision undone, or the whole model as it was."""

from __future__ import annotations

from typing import Annotated

from flask import Response, request
from pydantic import Field

from drawknife import messages as msg
from drawknife.messages import Location

from .common import (
    Query,
    answer,
    ask,
    blueprint,
    check_no_second_person,
    current,
    if_match,
    problems,
    reading,
    write,
)

api = blueprint("history", "Since when, and the way back")


class WhenQuery(Query):
    account: Annotated[str, Field(min_length=1, max_length=64)]
    action: Annotated[str, Field(max_length=20)]
    path: Location
    to: Location | None = None
    owner: (
        Annotated[
            str, Field(min_length=1, max_length=64, description="Who owns the thing acted on")
        ]
        | None
    ) = None
    endpoint: Annotated[str, Field(min_length=1, max_length=64)] | None = None


@api.get(
    "/when",
    summary="Since when an account can do a thing, or cannot: each turn, with what made it",
    responses={200: msg.WhenAnswer},
)
def when(query: WhenQuery) -> Response:
    asked = query.model_dump(exclude_none=True)
    if (what_is_read := reading()).area is not None:
        ask().decide(asked)  # is all that it names there, for who asks?
    found = what_is_read.of_turns(current().when(asked))
    return answer(found, found.revision)


_CHANGES = problems(409, 412, 415)
_ONE = (
    "`revision` is undone on the model of today; refused where something later touched what it"
    " changed."
)
_ALL = "The whole model becomes what it was as of a revision or a time."


@api.post(
    "/back/preview",
    summary="What undoing one revision would do",
    responses={200: msg.Preview, **_CHANGES},
)
def preview_back(body: msg.Back) -> Response:
    found = write().preview_back(body.revision)
    return answer(found, found.revision)


@api.post(
    "/back", summary="Undo one revision", description=_ONE, responses={200: msg.Changed, **_CHANGES}
)
def back(body: msg.Back) -> Response:
    check_no_second_person()
    done = write().back(body.revision, if_match(request.headers.get("If-Match")))
    return answer(done, done.revision)


@api.post(
    "/back-to/preview",
    summary="What taking the whole model back would do",
    responses={200: msg.Preview, **_CHANGES},
)
def preview_back_to(body: msg.BackTo) -> Response:
    found = write().preview_back_to(body.as_of)
    return answer(found, found.revision)


@api.post(
    "/back-to",
    summary="Take the whole model back",
    description=_ALL,
    responses={200: msg.Changed, **_CHANGES},
)
def back_to(body: msg.BackTo) -> Response:
    check_no_second_person()
    done = write().back_to(body.as_of, if_match(request.headers.get("If-Match")))
    return answer(done, done.revision)
