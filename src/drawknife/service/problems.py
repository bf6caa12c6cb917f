"""Every error as a problem (RFC 9457): what is wrong, where, and what would be right."""

from __future__ import annotations

import secrets
from collections.abc import Sequence

import structlog
from flask import Flask, Response, request
from pydantic import ValidationError
from werkzeug.exceptions import HTTPException

from drawknife.asking import BadInput, NoSuch
from drawknife.core.model.edits import EditRefused, NotThere
from drawknife.directory.source import DirectoryFailed
from drawknife.formats.document import BadDocument
from drawknife.formats.questions import BadQuestion
from drawknife.messages import Fault, Problem
from drawknife.records.changes import Conflict
from drawknife.records.database import NoRoom, Unavailable, Uncertain

from .busy import Busy
from .files import NotReadable

log = structlog.get_logger()

TYPE = "urn:drawknife:problem:"
MEDIA_TYPE = "application/problem+json"
#: More mistakes than this are counted, not listed.
MANY = 200


def problem(kind: str, title: str, status: int, detail: str, places: Sequence[Fault] = (), **headers: str) -> Response:
    """A problem as a response."""
    body = Problem(type=TYPE + kind, title=title, status=status, detail=detail, places=list(places[:MANY]))
    response = Response(body.model_dump_json(exclude_none=True), status, mimetype=MEDIA_TYPE)
    for name, value in headers.items():
        response.headers[name.replace("_", "-")] = value
    return response


def unauthorized() -> Response:
    """The answer to a request without a token that is valid."""
    return problem(
        "sign-in-required", "Sign-in required", 401,
        "send a valid token in the header `Authorization: Bearer TOKEN`", WWW_Authenticate="Bearer",
    )  # fmt: skip


def bad_document(error: BadDocument) -> Response:
    """The answer to a document with mistakes."""
    places = [
        Fault(
            where=m.key_path, message=m.message, expected=m.expected, line=m.line, found=m.found or None, nearest=m.nearest
        )
        for m in error.mistakes
    ]  # fmt: skip
    count = len(places)
    more = f"; the first {MANY} are listed" if count > MANY else "; there are more" if error.more else ""
    what = "the change" if "/changes" in request.path else "the document"
    detail = f"{what} has {count} mistake{'' if count == 1 else 's'}, and nothing of it was taken{more}"
    return problem("bad-document", "The document has mistakes", 400, detail, places)


def bad_fields(error: ValidationError) -> Response:
    """The answer to parameters or a body that are not of the right shape."""
    places = []
    for one in error.errors(include_url=False, include_context=False):
        where = ".".join(str(step) for step in one["loc"])
        shown = repr(one.get("input"))
        places.append(Fault(where=where, message=one["msg"], found=shown[:80]))
    return problem("bad-input", "The input has mistakes", 400, "see places for each mistake", places)


def _path(where: tuple[str | int, ...]) -> str:
    return "".join(f"[{step}]" if isinstance(step, int) else f".{step}" for step in where).lstrip(".")


def register(app: Flask) -> None:
    """Answer every exception with a problem."""

    @app.errorhandler(BadInput)
    def _(error: BadInput) -> Response:
        fault = Fault(where=error.where, message=error.message, expected=error.expected)
        return problem("bad-input", "The input has mistakes", 400, str(error), [fault])

    @app.errorhandler(BadQuestion)
    def _(error: BadQuestion) -> Response:
        fault = Fault(where=error.where, message=error.message, expected=error.expected, nearest=error.nearest)
        return problem("bad-input", "The question cannot be answered", 400, str(error), [fault])

    app.register_error_handler(BadDocument, bad_document)

    @app.errorhandler(NoSuch)
    def _(error: NoSuch) -> Response:
        fault = Fault(
            where=error.key,
            message=str(error),
            expected=f"the name of {'an' if error.kind[0] in 'aeiou' else 'a'} {error.kind}",
            nearest=error.near,
        )
        return problem("not-found", "There is no such thing", 404, str(error), [fault])

    @app.errorhandler(EditRefused)
    def _(error: EditRefused) -> Response:
        places = [
            Fault(where=_path(p.where), message=p.message, expected=p.expected, nearest=p.nearest)
            for p in error.problems
        ]
        return problem("change-refused", "The change cannot be done", 409, str(error), places)

    @app.errorhandler(NotThere)
    def _(error: NotThere) -> Response:
        fault = Fault(where="name", message=str(error), nearest=error.near)
        return problem("not-found", "There is no such thing", 404, str(error), [fault])

    @app.errorhandler(DirectoryFailed)
    def _(error: DirectoryFailed) -> Response:
        return problem("directory-failed", "The directory did not answer as it should", 502, str(error))

    @app.errorhandler(Conflict)
    def _(error: Conflict) -> Response:
        detail = f"{error}; read the model again, and repeat the change on it"
        return problem("changed-meanwhile", "The model has changed meanwhile", 412, detail, ETag=f'"{error.found}"')

    @app.errorhandler(Unavailable)
    def _(error: Unavailable) -> Response:
        detail = "the database cannot be reached; the service goes on by itself when it is back"
        return problem("unavailable", "The database is away", 503, detail, Retry_After="1")

    @app.errorhandler(NoRoom)
    def _(error: NoRoom) -> Response:
        log.error("the database has no room", error=str(error), path=request.path)
        detail = f"the database has no room left, and nothing was changed: {error}; free some, and try again"
        return problem("no-room", "The database has no room", 507, detail)

    @app.errorhandler(Uncertain)
    def _(error: Uncertain) -> Response:
        log.error("the database went away while a change was made", path=request.path)
        detail = (
            "the database went away while the change was made: it was done whole, or not at all; "
            "the journal says which, when it is back"
        )
        return problem("uncertain", "The change may have been done", 503, detail, Retry_After="1")

    @app.errorhandler(NotReadable)
    def _(error: NotReadable) -> Response:
        return problem("file-not-read", "The file is not read", 400, str(error))

    @app.errorhandler(Busy)
    def _(error: Busy) -> Response:
        return problem("busy", "Too much at once", 503, str(error), Retry_After="5")

    @app.errorhandler(UnicodeEncodeError)
    def _(error: UnicodeEncodeError) -> Response:
        detail = "the text holds half of a surrogate pair, which cannot be kept"
        return problem("bad-input", "The input has mistakes", 400, detail)

    @app.errorhandler(RecursionError)
    def _(error: RecursionError) -> Response:
        return problem("bad-input", "The input has mistakes", 400, "the input is nested too deep")

    @app.errorhandler(HTTPException)
    def _(error: HTTPException) -> Response:
        status = error.code or 500
        response = problem("http-" + str(status), error.name, status, error.description or error.name)
        if error.get_response().headers.get("Allow"):
            response.headers["Allow"] = error.get_response().headers["Allow"]
        return response

    @app.errorhandler(Exception)
    def _(error: Exception) -> Response:
        number = secrets.token_hex(4)
        log.exception("unexpected", number=number, method=request.method, path=request.path)
        detail = f"something went wrong that should not have; the service's log tells more under {number}"
        return problem("unexpected", "Unexpected", 500, detail)
