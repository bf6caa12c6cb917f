"""Questions: decisions with their reasons, who, the map, and comparisons."""

from __future__ import annotations

import json
from typing import Annotated, Any

from flask import Response, request
from pydantic import Field

from drawknife import messages as msg
from drawknife.answers import decide_lines
from drawknife.answers.map_window import MapWindow
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import BadInput
from drawknife.formats.model_file import read_model

from ..metrics import count_verdicts
from ..single_decisions import decision
from .common import (
    CSV,
    JSON,
    LINES,
    OF_WHICH_MODEL,
    READ_WITHIN,
    Asking,
    AskingPage,
    also_as_rows,
    answer,
    ask,
    blueprint,
    problems,
    rows_answer,
    rows_response,
    wanted_type,
)

api = blueprint("questions", "Decisions and why, who, the map, comparisons")


@api.post(
    "/decisions",
    summary="May an account do something? With `explain`, why",
    responses={200: msg.Answer, **problems(413, 415)},
)
def decide(body: msg.QuestionMessage, query: Asking) -> Response:
    asked = ask(query)
    response = Response(decision(asked, body), mimetype=JSON)
    response.headers["ETag"] = f'"{asked.revision}"'
    return response


@api.post(
    "/decisions/batch",
    summary="Many questions at once; an error stands in the place of its answer",
    responses={200: msg.Answers, **problems(413, 415)},
)
def decide_many(body: msg.Questions, query: Asking) -> Response:
    asked = ask(query)
    given = request.get_json()["questions"]
    answers = list(decide_lines(asked, given))
    count_verdicts(answers)
    found = {"revision": asked.revision, "answers": answers}
    return Response(json.dumps(found, ensure_ascii=False), mimetype=JSON)


@api.post(
    "/mends",
    summary="Ways to mend a refusal, or to stop what is allowed, each with what else follows",
    responses={200: msg.MendsAnswer, **problems(413, 415)},
)
def mend(body: msg.MendQuestion, query: Asking) -> Response:
    asked = ask(query)
    question = body.model_dump(
        by_alias=True, exclude_none=True, exclude={"stop", "most", "until", "note"}
    )
    return answer(asked.mend(question, body.stop, body.most, body.until, body.note), asked.revision)


class WhoQuery(AskingPage):
    right: Annotated[str, Field(description="One of the eleven rights")]
    at: Annotated[
        str,
        Field(min_length=1, max_length=4200, description="A virtual location, or STORE:/folder"),
    ]
    endpoint: str | None = None
    but_for: Annotated[
        str | None,
        Field(description="Who lacks it only by this gate: endpoint, virtual path, folder"),
    ] = None


@api.get(
    "/who",
    summary="Everybody who has a right at a place, and through what",
    responses={200: also_as_rows(msg.WhoAnswer)},
)
def who(query: WhoQuery) -> Response:
    asked = ask(query)
    found = asked.who(
        query.right, query.at, query.endpoint, query.but_for, offset=query.offset, limit=query.limit
    )
    return rows_answer(found, "almost" if query.but_for else "holders", asked.revision)


#: So many cells of the map are told at once.
MOST_CELLS = 4_000_000


class MapQuery(Asking):
    right: Annotated[str | None, Field(description="Left out: the perm word of RFC 3659")] = None
    endpoint: str | None = None
    matching: Annotated[str, Field(max_length=200, description="Part of an account's name")] = ""
    group: str | None = None
    unit: str | None = None
    store: str | None = None
    under: msg.Location = "/"
    deepest: Annotated[int | None, Field(ge=0, le=1000, description="Levels below `under`")] = None
    account_offset: Annotated[int, Field(ge=0, le=10**9)] = 0
    account_limit: Annotated[int, Field(ge=1, le=100_000)] = 100
    location_offset: Annotated[int, Field(ge=0, le=10**9)] = 0
    location_limit: Annotated[int, Field(ge=1, le=1_000_000)] = 100


@api.get(
    "/map",
    summary="Accounts by places: a window of the map",
    responses={200: also_as_rows(msg.MapAnswer)},
)
def map_(query: MapQuery) -> Response:
    if query.account_limit * query.location_limit > MOST_CELLS:
        raise BadInput(
            "location_limit",
            f"{query.account_limit:,} accounts by {query.location_limit:,} locations are too many"
            " at once",
            f"{MOST_CELLS:,} cells at most; window by window, it is the whole",
        )
    asked = ask(query)
    found = asked.map(MapWindow(**query.model_dump(exclude=set(OF_WHICH_MODEL))))
    kind = wanted_type(JSON, LINES, CSV)
    if kind == JSON:
        return answer(found, asked.revision)
    if kind == LINES:
        return rows_response(map_cells_one_by_one(found), LINES)
    rows = [
        {"account": account, **dict(zip(found.locations, row, strict=True))}
        for account, row in zip(found.accounts, found.cells, strict=True)
    ]
    return rows_response(rows, CSV)


def map_cells_one_by_one(found: msg.MapAnswer) -> list[dict[str, Any]]:
    """The cells of a window that are there, one after the other."""
    return [
        {"account": account, "location": location, "access": cell}
        for account, row in zip(found.accounts, found.cells, strict=True)
        for location, cell in zip(found.locations, row, strict=True)
        if cell is not None
    ]


class CompareQuery(AskingPage):
    one: msg.Name
    other: msg.Name
    under: msg.Location = "/"
    endpoint: str | None = None
    folded: Annotated[
        bool, Field(description="Only count what differs as the location above it")
    ] = False


@api.get(
    "/comparisons",
    summary="Where two accounts differ, with the reason on each side",
    description="As JSON lines or CSV all of it is sent as it is made, unless a limit is given.",
    responses={200: also_as_rows(msg.CompareAnswer)},
)
def compare(query: CompareQuery) -> Response:
    asked = ask(query)
    kind = wanted_type(JSON, LINES, CSV)
    if kind != JSON and "limit" not in query.model_fields_set:
        rows = asked.compare_rows(query.one, query.other, query.under, query.endpoint, query.folded)
        return rows_response(rows, kind, asked.revision)
    found = asked.compare(
        query.one,
        query.other,
        query.under,
        query.endpoint,
        offset=query.offset,
        limit=query.limit,
        other_model=None,
        folded=query.folded,
    )
    return rows_answer(found, "differences", asked.revision)


@api.post(
    "/comparisons",
    summary="Where an account in force differs from itself in a model file",
    responses={200: msg.CompareAnswer, **problems(413, 415)},
)
def compare_models(body: msg.ModelComparison, query: Asking) -> Response:
    asked = ask(query)
    other = prepare(read_model(body.model, READ_WITHIN))
    found = asked.compare(body.account, body.account, body.under, body.endpoint, other_model=other)
    return answer(found, asked.revision)


class FindQuery(Asking):
    text: Annotated[
        str, Field(min_length=1, max_length=256, description="A part of a name, case aside")
    ]
    most: Annotated[int, Field(ge=1, le=1000, description="How many to tell at most")] = 20


@api.get(
    "/find",
    summary="What has a text in its name, the likeliest first",
    responses={200: msg.NamedAnswer},
)
def find(query: FindQuery) -> Response:
    asked = ask(query)
    return answer(asked.find(query.text, query.most), asked.revision)


@api.get("/promises", summary="The promises, and who breaks each", responses={200: msg.PromiseList})
def promises(query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.promises(), asked.revision)


@api.get("/trials", summary="The trials that are kept, each done", responses={200: msg.TrialList})
def trials(query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.trials(), asked.revision)
