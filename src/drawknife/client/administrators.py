"""Who may use the service."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal
from urllib.parse import quote

from drawknife import messages as msg

from .connection import Connection


def _path(name: str, *more: str) -> str:
    return "/".join(("/administrators", quote(name, safe=""), *more))


class AdministratorCalls(Connection):
    """The part of :class:`drawknife.client.Client` that is about administrators and tokens."""

    def me(self) -> msg.SignedIn:
        """Whose token this is, and what it may do. ``GET /sessions``."""
        return self._get(msg.SignedIn, "/sessions")

    def administrators(self) -> msg.AdministratorList:
        """The administrators. ``GET /administrators``."""
        return self._get(msg.AdministratorList, "/administrators")

    def add_administrator(
        self,
        name: str,
        role: str,
        area: Sequence[str] | None = None,
        directory: str | None = None,
        reads: Literal["area", "everything"] | None = None,
    ) -> msg.AdministratorLine:
        """Add an administrator.

        ``POST /administrators``. `area`: store:NAME, STORE:/folder, unit:PATH, group:NAME; None:
        all.

        With `directory` it signs in through that one, with the password that it has there. With an
        area it reads only what touches that, unless it `reads` everything.
        """
        body = {
            "name": name,
            "role": role,
            "area": None if area is None else list(area),
            "reads": reads,
            "directory": directory,
        }
        return self._read(
            msg.AdministratorLine, self._request("POST", "/administrators", json=body)
        )

    def change_administrator(
        self,
        name: str,
        role: str | None = None,
        area: Sequence[str] | None = None,
        directory: str | None = None,
        reads: Literal["area", "everything"] | None = None,
    ) -> msg.AdministratorLine:
        """Another role, area, reading or way to sign in: an empty one is everything, or no
        directory; None leaves it.

        ``PATCH /administrators/{name}``.
        """
        area_lines = None if area is None else list(area)
        given = {"role": role, "area": area_lines, "reads": reads, "directory": directory}
        body = {k: v for k, v in given.items() if v is not None}
        return self._read(msg.AdministratorLine, self._request("PATCH", _path(name), json=body))

    def remove_administrator(self, name: str) -> int:
        """Remove an administrator; how many tokens and sessions ended with it.

        ``DELETE /administrators/{name}``.
        """
        return self._read(msg.Ended, self._request("DELETE", _path(name))).ended

    def set_administrator_password(
        self, name: str, password: str, current: str | None = None
    ) -> None:
        """Set an administrator's password; console sessions and links end.

        ``PUT /administrators/{name}/password``.

        To change your own, `current` is the present one.
        """
        self._request(
            "PUT", _path(name, "password"), json={"password": password, "current": current}
        )

    def sign_in_link(self, name: str) -> msg.SignInLink:
        """A link that signs an administrator in, good once.

        ``POST /administrators/{name}/link``.
        """
        return self._read(msg.SignInLink, self._request("POST", _path(name, "link")))

    def tokens(self) -> msg.TokenList:
        """Tokens of programs, sessions and links: one's own, for an owner everybody's.

        ``GET /tokens``.
        """
        return self._get(msg.TokenList, "/tokens")

    def make_token(
        self,
        called: str,
        role: str | None = None,
        last_day: str | None = None,
        directory: str | None = None,
    ) -> msg.TokenMade:
        """Make a token for a program, with a role no wider than one's own; it is told this once.

        ``POST /tokens``.

        With `directory` it provisions that one by SCIM, and does nothing else.
        """
        body = {"called": called, "role": role, "last_day": last_day, "directory": directory}
        return self._read(msg.TokenMade, self._request("POST", "/tokens", json=body))

    def end_token(self, number: int) -> None:
        """End a token, a session or a link, by its number in the list. ``DELETE /tokens/{id}``."""
        self._request("DELETE", f"/tokens/{number}")
