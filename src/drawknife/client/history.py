"""What was changed, when and by whom; since when somebody can do a thing; and the way back."""

from __future__ import annotations

from collections.abc import Iterator

import httpx

from drawknife import messages as msg

from .connection import Connection


def _only_at(revision: int | None) -> dict[str, str]:
    return {} if revision is None else {"If-Match": f'"{revision}"'}


class HistoryCalls(Connection):
    """The part of :class:`drawknife.client.Client` that is about history."""

    def journal(
        self,
        offset: int = 0,
        limit: int = 200,
        who: str | None = None,
        about: str | None = None,
        *,
        since: str | None = None,
        until: str | None = None,
        kind: str | None = None,
    ) -> msg.JournalPage:
        """Who changed what, when; the newest first. ``GET /journal``.

        `about` is ``group:NAME``, ``STORE:/path`` and the like, and finds also the lines that name
        it; `since` and `until` are times; `kind` is ``change``, ``census``, ``other`` or
        ``sign-in``, or ``done``: all but the sign-ins.
        """
        return self._get(
            msg.JournalPage,
            "/journal",
            offset=offset,
            limit=limit,
            who=who,
            about=about,
            since=since,
            until=until,
            kind=kind,
        )

    def each_journal_line(self, page: int = 200) -> Iterator[msg.JournalLine]:
        """All lines of the journal, the newest first, `page` at a time. ``GET /journal``."""
        return self._each(lambda offset: self.journal(offset, page), "lines")

    def journal_line(self, revision: int, offset: int = 0, limit: int = 10_000) -> msg.JournalLine:
        """One revision with the items that it changed. ``GET /journal/{revision}``."""
        return self._get(msg.JournalLine, f"/journal/{revision}", offset=offset, limit=limit)

    def when(
        self,
        account: str,
        action: str,
        path: str,
        to: str | None = None,
        *,
        endpoint: str | None = None,
        owner: str | None = None,
    ) -> msg.WhenAnswer:
        """Since when an account can do a thing, or cannot; each turn with the change that made it.

        ``GET /when``.
        """
        return self._get(
            msg.WhenAnswer,
            "/when",
            account=account,
            action=action,
            path=path,
            to=to,
            endpoint=endpoint,
            owner=owner,
        )

    def preview_back(self, revision: int) -> msg.Preview:
        """What undoing a revision would do. ``POST /back/preview``. Raises as :meth:`back`."""
        return self._read(msg.Preview, self._back("/back/preview", {"revision": revision}))

    def back(self, revision: int, only_at: int | None = None) -> msg.Changed:
        """Undo a revision on the model of today. ``POST /back``.

        :class:`Refused` where something later touched what it changed, with the revisions that did.
        `only_at`: only if that revision is in force.
        """
        return self._read(msg.Changed, self._back("/back", {"revision": revision}, only_at))

    def preview_back_to(self, as_of: str) -> msg.Preview:
        """What taking the whole model back to a revision or a time would do.

        ``POST /back-to/preview``.
        """
        return self._read(msg.Preview, self._back("/back-to/preview", {"as_of": as_of}))

    def back_to(self, as_of: str, only_at: int | None = None) -> msg.Changed:
        """Take the whole model back to what it was as of a revision or a time.

        ``POST /back-to``.
        """
        return self._read(msg.Changed, self._back("/back-to", {"as_of": as_of}, only_at))

    def _back(
        self, path: str, body: dict[str, int] | dict[str, str], only_at: int | None = None
    ) -> httpx.Response:
        return self._request("POST", path, json=body, headers=_only_at(only_at))
