"""Every error as a problem (RFC 9457): what is wrong, where, and what would be right."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from time import monotonic
from typing import NamedTuple

import structlog
from flask import Flask, Response, request
from pydantic import ValidationError
from werkzeug.exceptions import HTTPException
from werkzeug.exceptions import NotFound as RoutingNotFound

from drawknife.core.words.errors import (
    BadInput,
    Conflict,
    DrawknifeError,
    Mistaken,
    NotAllowed,
    NotFound,
    Refused,
)
from drawknife.directory.source import DirectoryFailed
from drawknife.formats.document import BadDocument
from drawknife.messages import Fault, Problem
from drawknife.records.database import NoRoom, Outdated, ReadOnly, Unavailable, Uncertain, Unusable

from .busy import Busy
from .files import NotReadable
from .tidings import MailRefused

log = structlog.get_logger()

TYPE = "urn:drawknife:problem:"
MEDIA_TYPE = "application/problem+json"
#: More mistakes than this are counted, not listed.
MANY = 200


def problem(
    kind: str, title: str, status: int, detail: str, places: Sequence[Fault] = (), **headers: str
) -> Response:
    """A problem as a response."""
    body = Problem(
        type=TYPE + kind, title=title, status=status, detail=detail, places=list(places[:MANY])
    )
    response = Response(body.model_dump_json(exclude_none=True), status, mimetype=MEDIA_TYPE)
    for name, value in headers.items():
        response.headers[name.replace("_", "-")] = value
    return response


def unauthorized() -> Response:
    """The answer to a request without a token that is valid."""
    return problem(
        "sign-in-required",
        "Sign-in required",
        401,
        "send a valid token in the header `Authorization: Bearer TOKEN`",
        WWW_Authenticate="Bearer",
    )


def bad_fields(error: ValidationError) -> Response:
    """The answer to parameters or a body that are not of the right shape."""
    places = []
    for one in error.errors(include_url=False, include_context=False):
        where = ".".join(str(step) for step in one["loc"])
        shown = repr(one.get("input"))
        places.append(Fault(where=where, message=one["msg"], found=shown[:80]))
    detail = f"{len(places)} mistakes in the input; places tells each"
    if len(places) == 1:
        detail = f"{places[0].where}: {places[0].message}" if places[0].where else places[0].message
    return problem("bad-input", "The input has mistakes", 400, detail, places)


class ProblemKind(NamedTuple):
    """How a kind of error is told: the problem's type and title, its status, and a sentence if it
    has none of its own.
    """

    kind: str
    title: str
    status: int
    detail: str = ""
    retry_after: int | None = None


#: How each family of errors is told; the nearest in its line of descent counts.
TOLD: dict[type[Exception], ProblemKind] = {
    Mistaken: ProblemKind("bad-input", "The input has mistakes", 400),
    BadDocument: ProblemKind("bad-document", "The document has mistakes", 400),
    NotFound: ProblemKind("not-found", "There is no such thing", 404),
    Refused: ProblemKind("change-refused", "The change cannot be done", 409),
    NotAllowed: ProblemKind("not-allowed", "That is not yours to do", 403),
    Conflict: ProblemKind("changed-meanwhile", "The model has changed meanwhile", 412),
    DirectoryFailed: ProblemKind(
        "directory-failed", "The directory did not answer as it should", 502
    ),
    MailRefused: ProblemKind("mail-refused", "The mail was not sent", 502),
    NotReadable: ProblemKind("file-not-read", "The file is not read", 400),
    Busy: ProblemKind("busy", "Too much at once", 503, retry_after=5),
    Unavailable: ProblemKind(
        "unavailable",
        "The database is away",
        503,
        "the database cannot be reached; the service goes on by itself when it is back",
        1,
    ),
    Unusable: ProblemKind("unavailable", "Database not usable", 503, retry_after=30),
    ReadOnly: ProblemKind(
        "unavailable",
        "Database read-only",
        503,
        "the database is read-only; questions are answered, changes are not",
        30,
    ),
    Outdated: ProblemKind("outdated", "Service outdated", 503, retry_after=5),
    Uncertain: ProblemKind(
        "uncertain",
        "The change may have been done",
        503,
        "the database went away while the change was made: it was done whole, or not at all; "
        "the journal says which, when it is back",
        1,
    ),
    NoRoom: ProblemKind("no-room", "The database has no room", 507),
    UnicodeEncodeError: ProblemKind(
        "bad-input",
        "The input has mistakes",
        400,
        "the text holds half of a surrogate pair, which cannot be kept",
    ),
    RecursionError: ProblemKind(
        "bad-input", "The input has mistakes", 400, "the input is nested too deep"
    ),
}
#: What whoever runs the service should know.
LOGGED = (NoRoom, Unavailable)
#: Seconds in which one title is logged once.
LOGGED_EVERY = 60


def problem_for(error: Exception) -> Response:
    """An expected error as a problem."""
    how = next(TOLD[c] for c in type(error).__mro__ if c in TOLD)
    if isinstance(error, LOGGED):
        _log_seldom(how.title, error)
    places = (
        [Fault(**p._asdict()) for p in error.places] if isinstance(error, DrawknifeError) else []
    )
    headers = {} if how.retry_after is None else {"Retry_After": str(how.retry_after)}
    if isinstance(error, Conflict):
        headers["ETag"] = f'"{error.found}"'
    return problem(how.kind, how.title, how.status, _detail(error, how), places, **headers)


_logged: dict[str, tuple[float, int]] = {}


def _log_seldom(title: str, error: Exception) -> None:
    """A line in the log, once a minute for each title, with how many there were since
    the last one.
    """
    at, more = _logged.get(title, (-LOGGED_EVERY, 0))
    if monotonic() - at < LOGGED_EVERY:
        _logged[title] = at, more + 1
        return
    _logged[title] = monotonic(), 0
    log.error(
        title.lower(), error=str(error), path=request.path, **({"not_logged": more} if more else {})
    )


def _detail(error: Exception, how: ProblemKind) -> str:
    if isinstance(error, BadDocument):
        return error.sentence("the change" if "/changes" in request.path else "the document", MANY)
    if isinstance(error, BadInput):
        return f"{error}; expected {error.expected}" if error.expected else str(error)
    if isinstance(error, Conflict):
        return f"{error}; read the model again, and repeat the change on it"
    if isinstance(error, NoRoom):
        return (
            f"the database has no room left, and nothing was changed: {error}; free some, and try"
            " again"
        )
    return how.detail or str(error)


def register(app: Flask) -> None:
    """Answer every exception with a problem."""
    for kind in TOLD:
        app.register_error_handler(kind, problem_for)

    @app.errorhandler(HTTPException)
    def _(error: HTTPException) -> Response:
        status = error.code or 500
        detail = error.description or error.name
        if isinstance(error, RoutingNotFound):
            detail = f"there is nothing at {request.path}; /api/v1/openapi.json tells what there is"
        response = problem("http-" + str(status), error.name, status, detail)
        if error.get_response().headers.get("Allow"):
            response.headers["Allow"] = error.get_response().headers["Allow"]
        return response

    @app.errorhandler(Exception)
    def _(error: Exception) -> Response:
        number = secrets.token_hex(4)
        log.exception("unexpected", number=number, method=request.method, path=request.path)
        detail = (
            "something went wrong that should not have; the service's log tells more under"
            f" {number}"
        )
        return problem("unexpected", "Unexpected", 500, detail)
