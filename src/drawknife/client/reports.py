"""Reports of who can get at what, for somebody to sign."""

from __future__ import annotations

from drawknife import messages as msg

from .connection import Connection


class ReportCalls(Connection):
    """The part of :class:`drawknife.client.Client` that is about reports."""

    def reports(self) -> msg.ReportList:
        """The reports, the newest first. ``GET /reports``."""
        return self._get(msg.ReportList, "/reports")

    def make_report(self, about: str) -> msg.Report:
        """Make one, about ``survey:/soundings``, ``store:survey`` or ``group:boats``.

        ``POST /reports``.
        """
        return self._read(msg.Report, self._request("POST", "/reports", json={"about": about}))

    def report(self, number: int) -> msg.Report:
        """One, by its number. ``GET /reports/{number}``."""
        return self._get(msg.Report, f"/reports/{number}")

    def report_document(self, number: int, kind: str = "pdf") -> bytes:
        """One as a document: pdf, xlsx or html. ``GET /reports/{number}/document``."""
        return self._request("GET", f"/reports/{number}/document", params={"kind": kind}).content

    def returned_document(self, number: int) -> bytes:
        """The document that one was signed with, as it came back.

        ``GET /reports/{number}/returned``.
        """
        return self._request("GET", f"/reports/{number}/returned").content

    def send_report(self, number: int, to: str, days: int = 14) -> msg.ReviewLink:
        """Mail somebody a link by which they sign one, good once.

        ``POST /reports/{number}/links``.
        """
        wanted = {"to": to, "days": days}
        return self._read(
            msg.ReviewLink, self._request("POST", f"/reports/{number}/links", json=wanted)
        )

    def sign_report(
        self, number: int, document: bytes, draft: str | None = None
    ) -> msg.SignedReport:
        """Sign a report with its document; what is to be removed is put into a draft.

        ``POST /reports/{number}/signed``.
        """
        params = {} if draft is None else {"draft": draft}
        headers = {"Content-Type": "application/octet-stream"}
        path = f"/reports/{number}/signed"
        return self._read(
            msg.SignedReport,
            self._request("POST", path, params=params, content=document, headers=headers),
        )
