"""Patterns: what is set up again and again, as a few questions."""

from __future__ import annotations

from collections.abc import Mapping
from urllib.parse import quote

from drawknife import messages as msg

from .connection import Connection


class PatternCalls(Connection):
    """The part of :class:`drawknife.client.Client` that is about patterns."""

    def patterns(self) -> msg.PatternList:
        """The patterns, with their questions. ``GET /patterns``."""
        return self._get(msg.PatternList, "/patterns")

    def pattern(self, name: str) -> msg.PatternMessage:
        """One pattern. ``GET /patterns/{name}``. :class:`Refused` if there is none."""
        return self._get(msg.PatternMessage, f"/patterns/{quote(name, safe='')}")

    def pattern_changes(
        self, name: str, answers: Mapping[str, str], step: int | None = None
    ) -> msg.PatternChanges:
        """The changes that a pattern, or one of its steps, makes with some answers; nothing is
        done.

        ``POST /patterns/{name}/changes``.

        :class:`Refused` for an answer that is missing or is none.
        """
        path = f"/patterns/{quote(name, safe='')}/changes"
        query = {} if step is None else {"step": step}
        return self._read(
            msg.PatternChanges,
            self._request("POST", path, json={"answers": dict(answers)}, params=query),
        )
