"""Changes of the model: shown first, then done, together or not at all."""

from __future__ import annotations

from typing import Annotated

from flask import Response, request
from pydantic import Field

from drawknife import messages as msg
from drawknife.core.model.kinds import KINDS

from .common import (
    Asking,
    AskingPage,
    Query,
    also_as_rows,
    answer,
    ask,
    blueprint,
    check_no_second_person,
    drafting,
    if_match,
    problems,
    rows_answer,
    sent_model,
    write,
)
from .model import ModelFile

api = blueprint("changes", "Changes of the model, piece by piece")
Kind = Annotated[str, Field(max_length=20, description=", ".join(KINDS))]


class ItemsQuery(AskingPage):
    kind: Kind
    limit: Annotated[int, Field(ge=1, le=200_000, description="How many to tell at most")] = 200


class ItemQuery(Asking):
    kind: Kind
    name: Annotated[
        str, Field(min_length=1, max_length=8192, description="Its name; a folder's is STORE:/path")
    ]


@api.get(
    "/items",
    summary="All items of one kind, as the model file has them",
    responses={200: also_as_rows(msg.ItemList)},
)
def items(query: ItemsQuery) -> Response:
    asked = ask(query)
    return rows_answer(asked.items(query.kind, query.offset, query.limit), "items", asked.revision)


@api.get(
    "/item",
    summary="One item as the model file has it, and what names it",
    responses={200: msg.ItemMessage},
)
def item(query: ItemQuery) -> Response:
    asked = ask(query)
    return answer(asked.item(query.kind, query.name), asked.revision)


class InDraft(Query):
    draft: (
        Annotated[
            str,
            Field(max_length=64, description="Laid upon this draft; left out: on what is in force"),
        ]
        | None
    ) = None


@api.post(
    "/changes/preview",
    summary="What changes would do: the items that differ, and what follows for whom",
    responses={200: msg.Preview, **problems(409, 413, 415)},
)
def preview_changes(body: msg.Changes, query: InDraft) -> Response:
    found = (write() if query.draft is None else drafting().changing(query.draft)).preview(
        [c.plain() for c in body.changes]
    )
    return answer(found, found.revision)


@api.post(
    "/changes/check",
    summary=(
        "Could the changes be done, and do they look like slips? Nothing is changed, nor looked at"
        " what follows"
    ),
    responses={200: msg.Checked, **problems(409, 413, 415)},
)
def check_changes(body: msg.Changes, query: InDraft) -> Response:
    found = (write() if query.draft is None else drafting().changing(query.draft)).check(
        [c.plain() for c in body.changes]
    )
    return answer(found, found.revision)


@api.post(
    "/changes",
    summary="Change the model; all of the changes are done, or none",
    description=(
        'One revision and one line in the journal. With `If-Match: "REVISION"` only if that'
        " revision is in force."
    ),
    responses={200: msg.Changed, **problems(409, 412, 413, 415, 507)},
)
def change(body: msg.Changes) -> Response:
    check_no_second_person()
    done = write().change(
        [c.plain() for c in body.changes], if_match(request.headers.get("If-Match"))
    )
    return answer(done, done.revision)


@api.post(
    "/model/preview",
    summary="What putting a model file in force would change, and what follows",
    responses={200: msg.Preview, **problems(413)},
)
def preview_model(raw: ModelFile) -> Response:
    found = write().preview_model(sent_model())
    return answer(found, found.revision)
