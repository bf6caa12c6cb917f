"""What the routes share."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from datetime import UTC, datetime, timedelta
from functools import cache
from typing import Annotated, Any

from flask import Response, current_app, g, request
from flask_openapi3 import APIBlueprint, OpenAPI, Tag
from pydantic import BaseModel, ConfigDict, Field

from drawknife.answers import Answering
from drawknife.answers.changing import Changing
from drawknife.core.model.items import Model
from drawknife.core.words.errors import BadInput, NotAllowed
from drawknife.formats.model_file import read_model
from drawknife.formats.rows import CSV, JSON, LINES, rows_text
from drawknife.messages import Message, Problem

from .. import openapi
from ..bodies import PREFIX
from ..bounded_reading import Reading
from ..current import Current
from ..drafting import Drafting
from ..keeping import changing
from ..problems import MEDIA_TYPE

#: Seconds in which a model file that is sent has to be read.
READ_WITHIN = 60.0


class ProblemResponse(Problem):
    """Described as application/problem+json; :func:`describe_problems` takes the other
    type away.
    """

    model_config = ConfigDict(
        openapi_extra={
            "content": {MEDIA_TYPE: {"schema": {"$ref": "#/components/schemas/ProblemResponse"}}}
        }  # type: ignore[typeddict-unknown-key]
    )


def describe_problems(app: OpenAPI) -> None:
    """Let the description say that problems come as problems, and not as plain JSON."""
    for path in app.paths.values():
        for method in ("get", "put", "post", "patch", "delete"):
            operation = getattr(path, method)
            for response in (operation.responses or {}).values() if operation else ():
                content = getattr(response, "content", None) or {}
                if MEDIA_TYPE in content:
                    content.pop("application/json", None)


def problems(*more: int) -> dict[Any, Any]:
    """The problems that a route can answer with, besides those that all can."""
    return dict.fromkeys((*more, 503), ProblemResponse)


def blueprint(
    name: str, description: str, *, part: str = "", open_to_all: bool = False
) -> APIBlueprint:
    """The routes of one subject, or of a part of it."""
    return APIBlueprint(
        part or name,
        __name__,
        url_prefix=PREFIX,
        abp_tags=[Tag(name=name, description=description)],
        abp_security=[] if open_to_all else [{"token": []}],
        abp_responses=problems(400) if open_to_all else problems(400, 401, 403, 404, 429),
        doc_ui=openapi.wanted,
    )


#: How far the clock of another machine may be ahead.
AHEAD = timedelta(minutes=5)


def not_ahead(at: datetime, now: datetime, where: str) -> datetime:
    """A time in UTC that has come, but for the differences of clocks; :class:`BadInput` if it is
    none.
    """
    try:
        found = at.astimezone(UTC) if at.tzinfo else at.replace(tzinfo=UTC)
    except OverflowError:
        raise BadInput(where, f"{at.isoformat()} is out of range", "a time that has come") from None
    if found - now > AHEAD:
        raise BadInput(
            where,
            f"{found.isoformat()} lies ahead",
            "a time that has come, in UTC or with its offset",
        )
    if found.year < 1970:
        raise BadInput(where, f"{found.isoformat()} is too long ago", "a time since 1970")
    return found


def current() -> Current:
    """The model in force, as this service has it."""
    found: Current = current_app.extensions["drawknife"]
    return found


def answer(
    message: Message | BaseModel, revision: int | None = None, status: int = 200
) -> Response:
    """A message as a response, with the revision that it is about as its ETag."""
    response = Response(message.model_dump_json(by_alias=True), status, mimetype="application/json")
    if revision is not None:
        response.headers["ETag"] = f'"{revision}"'
    return response


def also_as_rows(kind: type[BaseModel]) -> type[BaseModel]:
    """The same message, described as to be had as JSON lines and as CSV, too."""
    text = {"schema": {"type": "string"}}
    config = ConfigDict(openapi_extra={"content": {LINES: text, CSV: text}})  # type: ignore[typeddict-unknown-key]
    return type(
        kind.__name__,
        (kind,),
        {"model_config": config, "__doc__": kind.__doc__, "__module__": __name__},
    )


def rows_answer(message: BaseModel, items: str, revision: int | None = None) -> Response:
    """A message that is a list; as JSON lines or CSV, only its items, if the client likes that
    better.
    """
    kind = wanted_type(JSON, LINES, CSV)
    if kind == JSON:
        return answer(message, revision)
    rows = message.model_dump(mode="json", by_alias=True)[items]
    return rows_response(rows, kind)


def rows_response(
    rows: Iterable[Mapping[str, Any]], kind: str, revision: int | None = None
) -> Response:
    """Rows as JSON lines or CSV, sent as they are made."""
    response = Response(rows_text(rows, kind), mimetype=kind)
    if revision is not None:
        response.headers["ETag"] = f'"{revision}"'
    return response


def ask(query: Asking | None = None) -> Answering:
    """Answers about the model in force; or as of a revision or a time that has been; or as it would
    be with a draft.
    """
    found = reading().of(_asked_of(query or Asking()))
    return found.without_disks() if query is not None and query.without_disk else found


def _asked_of(query: Asking) -> Answering:
    if query.as_of is None and query.draft is None:
        return current().answering()
    if query.draft is None:
        return current().answering_as_of(query.as_of or "")
    if query.as_of is not None:
        raise BadInput("draft", "a draft is of today, and as_of asks of the past", "one of them")
    return drafting().answering(query.draft)


def reading() -> Reading:
    """What who asks reads."""
    return Reading(current(), g.holder)


def write() -> Changing:
    """Changes of the model in force, by who asks."""
    return changing(current(), g.holder)


def sent_model() -> Model:
    """The model that the body of the request is, as a model file."""
    return read_model(request.get_data(cache=False), READ_WITHIN)


def check_no_second_person() -> None:
    """:class:`NotAllowed` where every change is a draft, which somebody else applies."""
    if current().second_person:
        raise NotAllowed(
            "here every change is a draft that a second person applies: put it in one (--draft"
            " NAME), and ask somebody to"
        )


def drafting() -> Drafting:
    """Drafts, by who asks."""
    return Drafting(current(), g.holder)


def wanted_type(*types: str) -> str:
    """Which of these media types the client likes best; the first if it does not say."""
    return request.accept_mimetypes.best_match(types, default=types[0]) or types[0]


def if_match(value: str | None) -> int | None:
    """The revision that a change was made for; None if any will do."""
    if value is None or value.strip() == "*":
        return None
    found = re.fullmatch(r'\s*"(\d{1,18})"\s*', value)
    if found is None:
        raise BadInput(
            "If-Match", f"{value!r} is no revision", 'a revision in quotation marks, such as "12"'
        )
    return int(found[1])


class Query(BaseModel):
    model_config = ConfigDict(extra="forbid")

    @classmethod
    def model_json_schema(cls, *arguments: Any, **options: Any) -> dict[str, Any]:
        """The schema; it is made once, as flask-openapi3 asks for it at each request, and only
        reads it.
        """
        return (
            super().model_json_schema(*arguments, **options)
            if arguments or options
            else _schema_of(cls)
        )


@cache
def _schema_of(query: type[Query]) -> dict[str, Any]:
    return BaseModel.model_json_schema.__func__(query)  # type: ignore[attr-defined,no-any-return]


class Asking(Query):
    """Of which model it is asked."""

    as_of: (
        Annotated[
            str,
            Field(max_length=64, description="A revision, or a time that has been; left out: now"),
        ]
        | None
    ) = None
    draft: (
        Annotated[str, Field(max_length=64, description="As it would be with this draft applied")]
        | None
    ) = None
    without_disk: Annotated[bool, Field(description="As if no disk had been read")] = False


#: The keys of :class:`Asking`, which are no part of the question itself.
OF_WHICH_MODEL = frozenset(Asking.model_fields)


class Page(Query):
    """Which part of a list."""

    offset: Annotated[int, Field(ge=0, le=10**9, description="How many to leave out")] = 0
    limit: Annotated[int, Field(ge=1, le=10_000, description="How many to tell at most")] = 200


class AskingPage(Page, Asking):
    """Which part of a list, of which model."""


class NamePath(BaseModel):
    name: Annotated[str, Field(description="The account's name")]
