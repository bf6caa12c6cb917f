"""The way in and the limits, and the sheet for an account's user."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from drawknife import messages as msg

from .connection import Connection, segment


class LimitCalls(Connection):
    """The part of :class:`drawknife.client.Client` that is about endpoints, lockouts, usage and
    limits.
    """

    def reach(self, endpoint: str, client: str) -> msg.ReachAnswer:
        """Can a client at an address come to it? ``GET /endpoints/{name}/reach``."""
        return self._get(
            msg.ReachAnswer, f"/endpoints/{segment(endpoint)}/reach", **{"from": client}
        )

    def certificate(self, endpoint: str) -> msg.CertificateAnswer:
        """What its certificate says, and what is wrong with it.

        ``GET /endpoints/{name}/certificate``.
        """
        return self._get(msg.CertificateAnswer, f"/endpoints/{segment(endpoint)}/certificate")

    def report_sign_ins(self, events: Sequence[dict[str, Any]]) -> int:
        """Report failed sign-ins and sessions, as :class:`drawknife.messages.SignInEvent` has them.

        ``POST /sign-ins``.
        """
        return self._read(
            msg.Taken, self._request("POST", "/sign-ins", json={"events": list(events)})
        ).count

    def lockouts(self) -> msg.LockoutList:
        """What counts against whom, and until when who is locked. ``GET /lockouts``."""
        return self._get(msg.LockoutList, "/lockouts")

    def lift(self, of: str, name: str) -> None:
        """Lift the lock of an ``account`` or an ``address``. ``DELETE /lockouts/{of}/{name}``."""
        self._request("DELETE", f"/lockouts/{segment(of)}/{segment(name)}")

    def headroom(self, name: str, location: str, at: str | None = None) -> msg.HeadroomAnswer:
        """How much more fits at a location, and which limit binds.

        ``GET /accounts/{name}/headroom``.
        """
        return self._get(
            msg.HeadroomAnswer, f"/accounts/{segment(name)}/headroom", location=location, at=at
        )

    def usage(
        self, by: str = "account", offset: int = 0, limit: int | None = None
    ) -> msg.UsageAnswer:
        """Usage by accounts, groups, units, folders, or stores. ``GET /usage``."""
        return self._get(msg.UsageAnswer, "/usage", by=by, offset=offset, limit=limit or 10_000)

    def limits(self, at: str | None = None) -> msg.LimitList:
        """Every limit, who and what fills it, how it grows, and what is given away in sum.

        ``GET /limits``.
        """
        return self._get(msg.LimitList, "/limits", at=at)

    def censuses(self, limit: int = 200) -> msg.CensusList:
        """The censuses, the newest first. ``GET /censuses``."""
        return self._get(msg.CensusList, "/censuses", limit=limit)

    def take_census(self, census: msg.NewCensus) -> msg.CensusDone:
        """Send what a census found: it takes the place of the usage that the store had.

        ``POST /censuses``.
        """
        headers = {"Content-Type": "application/json"}
        response = self._request(
            "POST", "/censuses", content=census.model_dump_json().encode(), headers=headers
        )
        return self._read(msg.CensusDone, response)

    def forget_census(self, store: str, at: str) -> None:
        """Forget a census of a store, by its time as :meth:`censuses` tells it.

        ``DELETE /censuses``.
        """
        self._request("DELETE", "/censuses", params={"store": store, "at": at})

    def handover(
        self, name: str, endpoint: str | None = None, format: str = "text"
    ) -> msg.HandoverAnswer:
        """A short sheet for the account's user, without secrets.

        ``GET /accounts/{name}/handover``.
        """
        return self._get(
            msg.HandoverAnswer,
            f"/accounts/{segment(name)}/handover",
            endpoint=endpoint,
            format=format,
        )

    def handover_document(self, name: str, endpoint: str | None = None) -> bytes:
        """The same sheet as a PDF. ``GET /accounts/{name}/handover/document``."""
        params = {} if endpoint is None else {"endpoint": endpoint}
        return self._request(
            "GET", f"/accounts/{segment(name)}/handover/document", params=params
        ).content
