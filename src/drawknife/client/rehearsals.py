"""What clients do at a stand-in."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from drawknife import messages as msg

from .connection import Connection


class RehearsalCalls(Connection):
    """The part of :class:`drawknife.client.Client` that is about rehearsals."""

    def rehearsal_log(self, **only: Any) -> msg.RehearsalLog:
        """What clients did, the newest first; only of an ``account``, an ``endpoint``, a
        ``verdict`` (allowed, refused),
        ``after`` a line; at ``most`` so many. ``GET /rehearsal/log``.
        """
        return self._get(msg.RehearsalLog, "/rehearsal/log", **only)

    def report_rehearsal(self, lines: Sequence[dict[str, Any]], draft: str | None = None) -> int:
        """Report up to 1,000 lines, as :class:`drawknife.messages.RehearsalLine` has them.

        ``POST /rehearsal/log``.
        """
        body = {"lines": list(lines), "draft": draft}
        return self._read(msg.Taken, self._request("POST", "/rehearsal/log", json=body)).count
