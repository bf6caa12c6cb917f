"""The application: its routes, who may use them, and the console's files."""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from functools import cache
from pathlib import Path
from time import perf_counter
from typing import TYPE_CHECKING

import structlog
from flask import Flask, Response, g, request, send_from_directory
from flask_openapi3 import Info, OpenAPI
from werkzeug.routing import PathConverter

from drawknife import __version__
from drawknife.records.database import Database
from drawknife.records.directories import Secrets
from drawknife.records.retention import DEFAULT, Retention

from . import openapi, operating, review_page
from .api import (
    accounts,
    administrators,
    censuses,
    changes,
    directories,
    disks,
    drafts,
    history,
    limits,
    model,
    patterns,
    people,
    places,
    questions,
    rehearsals,
    reports,
    reviews,
    sessions,
)
from .api.common import describe_problems
from .bodies import LARGEST_BODY, PREFIX, largest_body
from .current import Current
from .files import ReadableFolders
from .metrics import REQUESTS, SECONDS
from .problems import bad_fields, register
from .requests import Request, check_text
from .security import PROVISIONING, asker, check_role, refused, route_of, with_headers
from .shared import Shared
from .single_decisions import with_single_decisions
from .syncing import start_syncing
from .trimming import start_trimming

if TYPE_CHECKING:
    from _typeshed.wsgi import StartResponse, WSGIApplication, WSGIEnvironment

log = structlog.get_logger()

#: The routes, subject by subject.
SUBJECTS = (
    sessions,
    model,
    accounts,
    people,
    changes,
    directories,
    disks,
    limits,
    censuses,
    places,
    questions,
    history,
    drafts,
    patterns,
    rehearsals,
    administrators,
    reports,
    reviews,
)
OPEN = {f"{PREFIX}/health", f"{PREFIX}/sessions", f"{PREFIX}/reviews", f"{PREFIX}/reviews/signed"}


def create_app(
    database: Database,
    console: Path | None = None,
    key_file: Path | None = None,
    files: ReadableFolders | None = None,
    shared: Shared | None = None,
    *,
    start: bool = True,
    second_person: bool = False,
    pattern_folders: tuple[Path, ...] = (),
    public_url: str | None = None,
    retention: Retention = DEFAULT,
) -> OpenAPI:
    """The application on one database; `console` is the folder of the console's built files.

    `key_file` holds the key that bind passwords are encrypted with; `files` are those that may be
    read; `shared` is what this process tells others of the same service. `start` false makes it
    without connecting, to describe it. With `second_person` every change is a draft, applied by
    another than who wrote it. `pattern_folders` hold patterns. `public_url` is where people reach
    the console. `retention` is how long data is kept that answers about today do not need.
    """
    app = OpenAPI(
        "drawknife",
        info=Info(
            title="Drawknife",
            version=__version__,
            description="What each account can really do, and why.",
        ),
        security_schemes={"token": {"type": "http", "scheme": "bearer"}},
        doc_ui=openapi.wanted,
        doc_prefix=PREFIX,
        doc_url="/openapi.json",
        validation_error_status=400,
        validation_error_callback=bad_fields,
        static_folder=None,
    )
    app.request_class = Request
    app.json.sort_keys = False  # type: ignore[attr-defined]
    app.config["MAX_CONTENT_LENGTH"] = LARGEST_BODY
    current = Current(
        database, Secrets(key_file), files or ReadableFolders(), shared or Shared(), second_person
    )
    current.pattern_folders, current.public_url = pattern_folders, public_url
    current.retention = retention
    app.extensions["drawknife"] = current
    register(app)

    _look_at_each_request(app, current)
    for subject in SUBJECTS:
        app.register_api(subject.api)
    if openapi.wanted:
        describe_problems(app)
    else:
        app.add_url_rule(f"{PREFIX}/openapi.json", "openapi", _described)
    operating.add_to(app, current)
    review_page.add_to(app)
    if console is not None:
        _serve_console(app, console)
    beside = _with_provisioning(app.wsgi_app, current)
    before = with_single_decisions(beside, current, PREFIX)
    app.wsgi_app = with_headers(before, (PREFIX + "/", PROVISIONING))  # type: ignore[assignment]
    if start:
        database.open()
        current.start()
        start_syncing(current)
        start_trimming(current)
        current.certificates.start()
    return app


def _described() -> Response:
    """The API's description."""
    return Response(openapi.text(), mimetype="application/json")


def _look_at_each_request(app: Flask, current: Current) -> None:
    """Sign-in is required for everything but what is open to all; each request has a number, is
    counted and logged.
    """

    @app.before_request
    def sign_in_required() -> Response | None:
        g.began = perf_counter()
        g.number = secrets.token_hex(8)
        structlog.contextvars.bind_contextvars(request=g.number)
        check_text(request.full_path)
        if not request.path.startswith(PREFIX + "/") or request.path in OPEN:
            return None
        g.holder = asker(request, current)
        if g.holder is None:
            return refused(request, current)
        g.who = g.holder.name
        check_role(request, g.holder, PREFIX)
        request.max_content_length = largest_body(request.path, g.holder)
        return None

    @app.after_request
    def finish(response: Response) -> Response:
        took = perf_counter() - g.get("began", perf_counter())
        response.headers["X-Request-Id"] = g.get("number", "")
        route = route_of(request.url_rule.rule) if request.url_rule is not None else "none"
        REQUESTS.labels(request.method, route, response.status_code).inc()
        SECONDS.labels(route).observe(took)
        log.info(
            "request answered",
            method=request.method,
            path=request.path,
            status=response.status_code,
            ms=round(took * 1000, 1),
            who=g.get("who"),
        )
        structlog.contextvars.unbind_contextvars("request")
        return response


def _with_provisioning(app: WSGIApplication, current: Current) -> WSGIApplication:
    """The same application with SCIM beside it, which is loaded when the first asks: few do, and it
    takes a while.
    """

    @cache
    def scim() -> WSGIApplication:
        from .scim.routes import make_app

        return make_app(current, _look_at_each_request)

    def answering(environ: WSGIEnvironment, start_response: StartResponse) -> Iterable[bytes]:
        provisioning = str(environ["PATH_INFO"]).startswith(PROVISIONING)
        return (scim() if provisioning else app)(environ, start_response)

    return answering


class _Page(PathConverter):
    """Any path but those of the API, whose own answers say what there is and how it is asked."""

    regex = "(?!api/)[^/].*?"


def _serve_console(app: OpenAPI, folder: Path) -> None:
    there = {str(p.relative_to(folder)) for p in folder.rglob("*") if p.is_file()}

    def page(path: str = "") -> Response:
        if path in there and not path.startswith("."):
            response = send_from_directory(folder, path)
            if path.startswith("assets/"):
                response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
            return response
        response = send_from_directory(folder, "index.html")
        response.headers["Cache-Control"] = "no-cache"
        return response

    app.url_map.converters["page"] = _Page
    app.add_url_rule("/", "console_root", page)
    app.add_url_rule("/<page:path>", "console", page)
