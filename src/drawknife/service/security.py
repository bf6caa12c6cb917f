"""Who may ask: a token in the Authorization header, or the console's session cookie."""

from __future__ import annotations

from flask import Request, Response

from .current import Current

COOKIE = "drawknife_session"
UNSAFE = {"POST", "PUT", "PATCH", "DELETE"}

#: The console loads nothing from elsewhere, and nobody may frame it.
HEADERS = {
    "Content-Security-Policy": "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
    "frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "no-referrer",
    "Cross-Origin-Opener-Policy": "same-origin",
}


def asker(request: Request, current: Current) -> str | None:
    """Who sends the request; None if nobody known.

    A cookie is only good for a change if the request says itself that it comes from the console:
    another site's form cannot.
    """
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() == "bearer" and token:
        return current.holder(token.strip())
    cookie = request.cookies.get(COOKIE)
    if cookie and (request.method not in UNSAFE or request.headers.get("X-Drawknife-Console") == "1"):
        return current.holder(cookie)
    return None


def add_headers(response: Response) -> Response:
    """The headers that every answer has."""
    for name, value in HEADERS.items():
        response.headers.setdefault(name, value)
    return response
