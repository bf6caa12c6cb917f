"""Health, and signing in to the console. Open to all."""

from __future__ import annotations

from datetime import timedelta

import structlog
from flask import Response, request

from drawknife import __version__
from drawknife.messages import Health, SignedIn, SignIn
from drawknife.records import tokens
from drawknife.records.journal import note

from ..problems import unauthorized
from ..security import COOKIE, REFUSALS, asker, too_many
from .common import answer, blueprint, current, problems

api = blueprint("sessions", "Health, and signing in to the console", open_to_all=True)
log = structlog.get_logger()
LASTS = timedelta(hours=12)


@api.get("/health", summary="Is the service well, and which revision does it have?", responses={200: Health})
def health() -> Response:
    snapshot = current().snapshot()
    return answer(Health(status="ok", version=__version__, revision=snapshot.revision))


@api.get(
    "/sessions", summary="Who is signed in with the cookie or token sent?", responses={200: SignedIn, **problems(401)}
)
def session() -> Response:
    name = asker(request, current())
    return unauthorized() if name is None else answer(SignedIn(name=name))


@api.post(
    "/sessions",
    summary="Sign in with a token or the code of a sign-in link",
    responses={200: SignedIn, **problems(400, 401, 413, 429)},
)
def sign_in(body: SignIn) -> Response:
    database = current().database
    address = request.remote_addr or ""
    wait = REFUSALS.wait(address)
    if wait:
        return too_many(wait)
    name = tokens.spend_code(database, body.token) or tokens.holder(database, body.token, "token")
    if name is None:
        REFUSALS.note(address)
        log.warning("sign-in refused", address=address, path=request.path)
        return unauthorized()
    note(database, name, f"signed in to the console, from {address}")
    session_token = tokens.make_token(database, name, "session", LASTS)
    response = answer(SignedIn(name=name))
    response.set_cookie(
        COOKIE, session_token, max_age=int(LASTS.total_seconds()), httponly=True, samesite="Strict",
        secure=request.is_secure,
    )  # fmt: skip
    return response


@api.delete("/sessions", summary="Sign out", responses={204: None})
def sign_out() -> Response:
    cookie = request.cookies.get(COOKIE)
    if cookie and request.headers.get("X-Drawknife-Console") == "1":
        state = current()
        name = tokens.holder(state.database, cookie, "session")
        tokens.revoke(state.database, cookie)
        state.forget_tokens()
        if name is not None:
            note(state.database, name, "signed out of the console")
    response = Response(status=204)
    response.delete_cookie(COOKIE)
    return response
