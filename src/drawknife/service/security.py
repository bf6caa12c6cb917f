"""Who may ask: a token in the Authorization header, or the console's session cookie."""

from __future__ import annotations

import re
import threading
from collections.abc import Iterable, Mapping
from functools import cache
from time import monotonic
from typing import TYPE_CHECKING, Any

import structlog
from flask import Request, Response
from werkzeug.http import parse_cookie

from drawknife.core.words.errors import NotAllowed
from drawknife.records.tokens import Holder

from .current import Current
from .problems import problem, unauthorized
from .routes_and_roles import FOR_PEOPLE, OF_ALL, OF_EVERYBODY, ROLE_OF, what_it_takes

if TYPE_CHECKING:
    from _typeshed.wsgi import StartResponse, WSGIApplication, WSGIEnvironment

log = structlog.get_logger()

COOKIE = "drawknife_session"
#: Below this a token provisions the directory that it was made for, and it does nothing elsewhere.
PROVISIONING = "/scim/v2/"
#: Under TLS browsers ask for nothing here without it, for a year (RFC 6797).
STRICT_TRANSPORT = ("Strict-Transport-Security", "max-age=31536000")
UNSAFE = {"POST", "PUT", "PATCH", "DELETE"}

#: The console loads nothing from elsewhere, and nobody may frame it.
HEADERS = {
    "Content-Security-Policy": (
        "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
        "frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
    ),
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Opener-Policy": "same-origin",
}


def token_in(authorization: str) -> str:
    """The token of an Authorization header (RFC 6750); empty if it has none."""
    scheme, _, token = authorization.partition(" ")
    return token.strip() if scheme.lower() == "bearer" else ""


def asker(request: Request, current: Current) -> Holder | None:
    """Who sends the request; None if nobody known.

    A cookie is only good for a change if the request says itself that it comes from the console:
    another site's form cannot.
    """
    token = token_in(request.headers.get("Authorization", ""))
    if token:
        found = current.holder(token)
        if (
            found is not None
            and found.directory is not None
            and not request.path.startswith(PROVISIONING)
        ):
            raise NotAllowed(
                f"this token provisions the directory {found.directory} by SCIM, and does nothing"
                " else"
            )
        return found
    cookie = request.cookies.get(COOKIE)
    if cookie and (
        request.method not in UNSAFE or request.headers.get("X-Drawknife-Console") == "1"
    ):
        return current.holder(cookie)
    return None


def known_by(headers: Mapping[str, str], current: Current) -> Holder | None:
    """Whose token or session stands in the head of a request, with WSGI's names of headers; None:
    nobody's.
    """
    token = token_in(headers.get("AUTHORIZATION", ""))
    if not token:
        cookies = parse_cookie(headers.get("COOKIE", ""))
        token = cookies.get(COOKIE, "")
    return current.holder(token) if token else None


def check_role(request: Request, holder: Holder, prefix: str) -> None:
    """:class:`NotAllowed` where the route takes a role that is wider than the asker's."""
    if request.url_rule is None:
        return  # there is no such route, and the answer says so
    route = route_of(request.url_rule.rule).removeprefix(prefix)
    method = (
        "GET" if request.method == "HEAD" else request.method
    )  # its answer is that of GET, without the body
    needed = ROLE_OF.get((method, route))
    if needed is None:
        if method == "OPTIONS" or route.startswith("/openapi"):
            return
        raise NotAllowed("this is for nobody: the route stands in no line of the table of roles")
    wanted = what_it_takes(holder.role, needed)
    if wanted is not None:
        raise NotAllowed(wanted)
    if (method, route) in OF_ALL and holder.shown is not None:
        raise NotAllowed(OF_EVERYBODY)
    if (method, route) in FOR_PEOPLE and not holder.person:
        raise NotAllowed(
            f"only people do this, and {holder.name} is a program of {holder.by}: sign in with a"
            " name and a password, by a link, or with a token of your own"
        )


@cache
def route_of(rule: str) -> str:
    """A rule as the table of roles and the API's description have it: ``/drafts/{name}``."""
    return re.sub(r"<(?:\w+:)?(\w+)>", r"{\1}", rule)


#: So many refused sign-ins of one address within so many seconds, and the next are not looked at.
MOST_REFUSED, WITHIN = 20, 60.0


class Refusals:
    """Refused sign-ins to the service, by the client's address or by the name that was tried, in
    this process.
    """

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._by_address: dict[str, list[float]] = {}

    def note(self, address: str) -> None:
        """One more."""
        now = monotonic()
        with self._lock:
            if len(self._by_address) > 10_000:
                self._by_address = {
                    a: times for a, times in self._by_address.items() if now - times[-1] < WITHIN
                }
            kept = [t for t in self._by_address.get(address, []) if now - t < WITHIN]
            self._by_address[address] = [*kept, now][-MOST_REFUSED:]

    def wait(self, address: str) -> int:
        """Seconds until the address may try again; 0: now."""
        with self._lock:
            times = self._by_address.get(address, [])
        if len(times) < MOST_REFUSED:
            return 0
        return max(0, int(times[0] + WITHIN - monotonic() + 1))


REFUSALS = Refusals()


def refused(request: Request, current: Current) -> Response:
    """The answer to who is not known.

    One who showed something that is not valid is noted, with the address.
    """
    address = request.remote_addr or ""
    shown = request.headers.get("Authorization") or request.cookies.get(COOKIE)
    if not shown:
        return unauthorized()
    wait = REFUSALS.wait(address)
    if wait:
        return too_many(wait)
    REFUSALS.note(address)
    log.warning("sign-in refused", address=address, path=request.path)
    return unauthorized()


def too_many(wait: int) -> Response:
    """The answer to an address that was refused too often."""
    detail = f"too many sign-ins from this address were refused; try again in {wait} seconds"
    return problem(
        "too-many-refused", "Too many refused sign-ins", 429, detail, Retry_After=str(wait)
    )


def with_headers(app: WSGIApplication, prefixes: tuple[str, ...]) -> WSGIApplication:
    """The same application with the headers that every answer has; those below `prefixes` are kept
    by nobody on the way.
    """
    always = list(HEADERS.items())
    not_kept = [*always, ("Cache-Control", "no-store")]

    def answering(environ: WSGIEnvironment, start_response: StartResponse) -> Iterable[bytes]:
        more = not_kept if environ["PATH_INFO"].startswith(prefixes) else always
        if environ["wsgi.url_scheme"] == "https":
            more = [*more, STRICT_TRANSPORT]

        def start(status: str, headers: list[tuple[str, str]], error: Any = None) -> Any:
            return start_response(status, [*headers, *more], error)

        return app(environ, start)

    return answering
