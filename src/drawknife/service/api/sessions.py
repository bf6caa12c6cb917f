"""Health, and signing in to the console. Open to all."""

from __future__ import annotations

from datetime import timedelta

import structlog
from flask import Response, request

from drawknife import __version__
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import fold
from drawknife.messages import Health, SignedIn, SignIn
from drawknife.records import administrators, tokens
from drawknife.records.journal import note

from ..metrics import SIGN_INS
from ..problems import problem, unauthorized
from ..security import COOKIE, REFUSALS, asker, too_many
from ..syncing import bound_as
from .common import answer, blueprint, current, problems

api = blueprint("sessions", "Health, and signing in to the console", open_to_all=True)
log = structlog.get_logger()
LASTS = timedelta(hours=12)


@api.get(
    "/health",
    summary="Is the service well, and which revision does it have?",
    responses={200: Health},
)
def health() -> Response:
    snapshot = current().snapshot()
    return answer(Health(status="ok", version=__version__, revision=snapshot.revision))


def _signed_in(holder: tokens.Holder) -> SignedIn:
    area = None if holder.area is None else list(holder.area)
    return SignedIn(
        name=holder.name,
        role=holder.role,
        area=area,
        reads="everything" if holder.shown is None else "area",
        second_person=current().second_person,
    )


@api.get(
    "/sessions",
    summary="Who is signed in with the cookie or token sent?",
    responses={200: SignedIn, **problems(401)},
)
def session() -> Response:
    found = asker(request, current())
    return unauthorized() if found is None else answer(_signed_in(found))


@api.post(
    "/sessions",
    summary="Sign in with a token, the code of a sign-in link, or a name and a password",
    description=(
        "After twenty refused tries of an address, or of a name, within a minute the next are not"
        " looked at."
    ),
    responses={200: SignedIn, **problems(400, 401, 413, 429, 502)},
)
def sign_in(body: SignIn) -> Response:
    database = current().database
    if (body.token is None) == (body.name is None or body.password is None):
        raise BadInput(
            "token", "one way of signing in is wanted", "a token, or a name and a password"
        )
    tried = [request.remote_addr or ""] + (
        [f"name {fold(body.name)}"] if body.name is not None else []
    )
    wait = max(REFUSALS.wait(by) for by in tried)
    if wait:
        return too_many(wait)
    name = _known(body)
    if name is None:
        for by in tried:
            REFUSALS.note(by)
        SIGN_INS.labels("refused").inc()
        log.warning("sign-in refused", address=tried[0], path=request.path)
        return problem(
            "sign-in-refused", "Sign-in refused", 401, _why_not(body), WWW_Authenticate="Bearer"
        )
    SIGN_INS.labels("done").inc()
    note(database, name, f"signed in to the console, from {tried[0]}", kind="sign-in")
    session_token = tokens.make_token(database, name, "session", LASTS)
    found = tokens.holder(database, session_token)
    if found is None:  # the administrator was taken away meanwhile
        return unauthorized()
    response = answer(_signed_in(found))
    response.set_cookie(
        COOKIE,
        session_token,
        max_age=int(LASTS.total_seconds()),
        httponly=True,
        samesite="Strict",
        secure=request.is_secure,
    )
    return response


def _known(body: SignIn) -> str | None:
    """The administrator who signs in. A program's token is not one's own: it opens no console."""
    database = current().database
    if body.token is None:
        through = administrators.signs_in_through(database, body.name or "")
        if through is None:
            return administrators.with_password(database, body.name or "", body.password or "")
        return (
            through[0] if bound_as(current(), through[1], through[0], body.password or "") else None
        )
    name = tokens.spend_code(database, body.token)
    if name is None:
        found = tokens.holder(database, body.token, "token")
        name = found.by if found is not None and found.name == found.by else None
    return name


def _why_not(body: SignIn) -> str:
    if body.token is None:
        return "there is no administrator of this name and password"
    found = tokens.holder(current().database, body.token, "token")
    if found is not None:
        return (
            f"this is the token of the program {found.name}: sign in with a name and a password, or"
            " by a link"
        )
    return (
        "this is no token that is good, nor the code of a link: a link signs in once, and only for"
        " a while; ask an owner for another"
    )


@api.delete("/sessions", summary="Sign out", responses={204: None})
def sign_out() -> Response:
    cookie = request.cookies.get(COOKIE)
    if cookie and request.headers.get("X-Drawknife-Console") == "1":
        state = current()
        found = tokens.holder(state.database, cookie, "session")
        tokens.revoke(state.database, cookie)
        state.forget_tokens()
        if found is not None:
            note(state.database, found.name, "signed out of the console", kind="sign-in")
    response = Response(status=204)
    response.delete_cookie(COOKIE)
    return response
