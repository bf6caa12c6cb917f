"""The whole model, in and out; its findings and its journal."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated, Any, Literal

from flask import Response, g, request
from flask_openapi3 import RawModel
from pydantic import BaseModel, Field

from drawknife.answers.things import thing_of
from drawknife.core.model.values import moment
from drawknife.core.words.errors import BadInput, NotAllowed, NotFound
from drawknife.core.words.names import BadValue
from drawknife.formats.model_file import json_schema, write_model
from drawknife.messages import (
    AcceptFinding,
    FindingList,
    IdleAnswer,
    ItemChange,
    JournalLine,
    JournalPage,
    Loaded,
    LoadLosses,
)
from drawknife.records import accepted, history, journal
from drawknife.records.history import KNOWN

from .common import (
    Asking,
    Page,
    Query,
    also_as_rows,
    answer,
    ask,
    blueprint,
    check_no_second_person,
    current,
    if_match,
    problems,
    reading,
    rows_answer,
    sent_model,
    wanted_type,
    write,
)

api = blueprint("model", "The whole model, its findings and its journal")
YAML, JSON = "application/yaml", "application/json"


class ModelFile(RawModel):
    mimetypes: list[str] = [YAML, JSON]


class AnyObject(BaseModel):
    """An object described elsewhere."""


_FILE: dict[Any, Any] = {
    "200": {
        "description": "A model file",
        "content": {YAML: {"schema": {"type": "object"}}, JSON: {"schema": {"type": "object"}}},
    }
}


@api.get("/model", summary="The model in force, as a model file", responses=_FILE)
def read(query: Asking) -> Response:
    asked = ask(query)
    kind = wanted_type(YAML, JSON)
    response = Response(write_model(asked.full.model, as_json=kind == JSON), mimetype=kind)
    if query.draft is None:
        response.headers["ETag"] = f'"{asked.revision}"'
        # A model file is what the revision is, and nothing else: whoever has it need not be sent it
        # again.
        response.make_conditional(request)
    return response


@api.put(
    "/model",
    summary="Put a model file in force in place of the model there is",
    description='With `If-Match: "REVISION"` only if that revision is in force.',
    responses={200: Loaded, **problems(412, 413)},
)
def load(raw: ModelFile) -> Response:
    expected = if_match(request.headers.get("If-Match"))
    check_no_second_person()
    done = write().load(sent_model(), expected)
    return answer(done, done.revision)


@api.post(
    "/model/losses",
    summary="How many accounts, folders and credentials would go if a model file were put in force",
    responses={200: LoadLosses, **problems(413)},
)
def losses(raw: ModelFile) -> Response:
    found = write().losses(sent_model())
    return answer(found, found.revision)


@api.get("/model/schema", summary="The JSON Schema of model files", responses={200: AnyObject})
def schema() -> Response:
    from flask import jsonify

    return jsonify(json_schema())


@api.get(
    "/findings",
    summary="What wants attention though no rule is broken",
    responses={200: FindingList},
)
def findings(query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.findings(), asked.revision)


@api.put(
    "/findings/accepted",
    summary="Accept a finding up to a day: it is counted then, and not shown",
    responses={204: None, **problems(413, 415)},
)
def accept_finding(body: AcceptFinding) -> Response:
    _without_area()
    today = datetime.now(UTC).date()
    if body.until < today:
        raise BadInput("until", f"{body.until} is over", f"{today} or a later day")
    found = current().answering().overview()
    known = [(f.kind, f.about) for f in (*found.findings, *found.accepted)]
    if (body.kind, body.about) not in known:
        raise NotFound(
            "finding",
            f"{body.kind} {body.about}",
            [f"{kind} {about}" for kind, about in known],
            "about",
        )
    accepted.accept(current().database, body.kind, body.about, body.until, body.note, g.who)
    return Response(status=204)


class AcceptedQuery(Query):
    kind: Annotated[str, Field(max_length=64)]
    about: Annotated[str, Field(max_length=8192)]


@api.delete(
    "/findings/accepted",
    summary="Show a finding again that was accepted",
    responses={204: None, **problems()},
)
def reopen_finding(query: AcceptedQuery) -> Response:
    _without_area()
    if not accepted.reopen(current().database, query.kind, query.about):
        raise NotFound("accepted finding", f"{query.kind} {query.about}", [], "about")
    return Response(status=204)


def _without_area() -> None:
    """A finding may be about anybody: who changes an area only hides none from the others."""
    if g.holder.area is not None:
        raise NotAllowed("findings are accepted by somebody who has no area")


@api.get(
    "/idle",
    summary="What has no effect, why, and the change that takes it away",
    responses={200: IdleAnswer},
)
def idle(query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.idle(), asked.revision)


class LinePath(Query):
    revision: Annotated[int, Field(ge=0, lt=2**63, description="The revision that the change made")]


#: The sorts of lines that can be asked for.
JournalKind = journal.LineKind | Literal["done"]


class JournalQuery(Page):
    who: Annotated[str, Field(max_length=200, description="Only what this one did")] | None = None
    about: (
        Annotated[
            str,
            Field(
                max_length=8192,
                description=(
                    "Only what changed this, or a line that names it: group:NAME, STORE:/path, …"
                ),
            ),
        ]
        | None
    ) = None
    since: Annotated[str, Field(max_length=64, description="From this time on")] | None = None
    until: Annotated[str, Field(max_length=64, description="Up to this time")] | None = None
    kind: (
        Annotated[
            JournalKind, Field(description="Only lines of this sort; done: all but the sign-ins")
        ]
        | None
    ) = None


def _moment(key: str, text: str | None) -> datetime | None:
    try:
        return None if text is None else moment(text)
    except BadValue as bad:
        raise BadInput(key, str(bad), bad.expected) from None


def _line(line: journal.JournalRow) -> JournalLine:
    items = [ItemChange(section=s, name=n, before=b, after=a) for s, n, b, a in line.items]
    return JournalLine.model_validate({**line._asdict(), "items": items})


@api.get(
    "/journal",
    summary="Who changed what, when; the newest first",
    responses={200: also_as_rows(JournalPage)},
)
def read_lines(query: JournalQuery) -> Response:
    wanted = journal.LinesWanted(
        query.who,
        thing_of(query.about) if query.about else None,
        _moment("since", query.since),
        _moment("until", query.until),
        query.kind,
    )
    total, lines = reading().lines(query.limit, query.offset, wanted)
    return rows_answer(JournalPage(total=total, lines=[_line(x) for x in lines]), "lines")


@api.get(
    "/journal/<int:revision>",
    summary="One revision, with every item that it changed",
    responses={200: JournalLine},
)
def read_line(path: LinePath, query: Page) -> Response:
    reading().check_revision(path.revision)
    found = journal.read_line(current().database, path.revision, query.limit, query.offset)
    if found is None:
        history.check_not_removed(current().database, path.revision)
    if found is None:
        raise NotFound("revision", str(path.revision), [], "revision", KNOWN)
    return answer(_line(reading().of_line(found)))
