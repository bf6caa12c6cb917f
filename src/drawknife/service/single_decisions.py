"""Single decisions, which other programs ask for by the thousand: answered before the framework has
to do with them.

Only what is plain: a token, JSON, no query, and nothing wrong. All else, and whatever is to be told
of a mistake, is left to the route, which answers the very same.
"""

from __future__ import annotations

import json
import secrets
from collections.abc import Iterable
from io import BytesIO
from time import perf_counter
from typing import TYPE_CHECKING

import structlog

from drawknife import messages as msg
from drawknife.answers import Answering
from drawknife.core.words.roles import covers

from .bounded_reading import Reading
from .current import Current
from .metrics import REQUESTS, SECONDS, count_verdicts
from .requests import read_body
from .routes_and_roles import ROLE_OF
from .security import token_in

if TYPE_CHECKING:
    from _typeshed.wsgi import StartResponse, WSGIApplication, WSGIEnvironment

log = structlog.get_logger()
#: Bytes; no question is as long.
LONGEST = 65_536


def decision(asked: Answering, question: msg.QuestionMessage) -> str:
    """The answer to a question as JSON, counted. Raises as :meth:`Answering.decide`."""
    found = asked.decide(question.model_dump(by_alias=True, exclude_none=True))
    count_verdicts([found])
    return json.dumps(found, ensure_ascii=False)


def with_single_decisions(app: WSGIApplication, current: Current, prefix: str) -> WSGIApplication:
    """The same application, with plain single decisions answered before it."""
    path, role = f"{prefix}/decisions", ROLE_OF["POST", "/decisions"]

    def answering(environ: WSGIEnvironment, start_response: StartResponse) -> Iterable[bytes]:
        if (
            environ["PATH_INFO"] != path
            or environ["REQUEST_METHOD"] != "POST"
            or environ.get("QUERY_STRING")
        ):
            return app(environ, start_response)
        length = environ.get("CONTENT_LENGTH") or ""
        if (
            environ.get("CONTENT_TYPE") != "application/json"
            or not length.isdecimal()
            or int(length) > LONGEST
        ):
            return app(environ, start_response)
        token = token_in(environ.get("HTTP_AUTHORIZATION", ""))
        if not token:
            return app(environ, start_response)
        began = perf_counter()
        raw = environ["wsgi.input"].read(int(length))
        environ["wsgi.input"] = BytesIO(raw)  # for the route, where something is wrong
        try:
            holder = current.holder(token)
            if holder is None or holder.directory is not None or not covers(holder.role, role):
                return app(environ, start_response)
            question = msg.QuestionMessage.model_validate(read_body(raw))
            asked = Reading(current, holder).of(current.answering())
            body = decision(asked, question).encode()
        except Exception:  # whatever it is, the route comes to it, too, and tells it
            return app(environ, start_response)
        number, took = secrets.token_hex(8), perf_counter() - began
        REQUESTS.labels("POST", path, 200).inc()
        SECONDS.labels(path).observe(took)
        log.info(
            "request answered",
            request=number,
            method="POST",
            path=path,
            status=200,
            ms=round(took * 1000, 1),
            who=holder.name,
        )
        headers = [("Content-Type", "application/json"), ("Content-Length", str(len(body)))]
        start_response(
            "200 OK", [*headers, ("ETag", f'"{asked.revision}"'), ("X-Request-Id", number)]
        )
        return [body]

    return answering
