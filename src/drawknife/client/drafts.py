"""Drafts: changes that are not in force."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any
from urllib.parse import quote

from drawknife import messages as msg

from .connection import Connection


def _path(name: str, *more: str) -> str:
    return "/".join(("/drafts", quote(name, safe=""), *more))


class DraftCalls(Connection):
    """The part of :class:`drawknife.client.Client` that is about drafts.

    :meth:`in_draft` asks what would be.
    """

    def drafts(self) -> msg.DraftList:
        """The drafts, the newest first. ``GET /drafts``."""
        return self._get(msg.DraftList, "/drafts")

    def draft(self, name: str) -> msg.DraftAnswer:
        """A draft, and what would follow from it today. ``GET /drafts/{name}``."""
        return self._get(msg.DraftAnswer, _path(name))

    def begin_draft(self, name: str, about: str | None = None) -> msg.DraftLine:
        """Begin an empty draft. ``POST /drafts``. :class:`Refused` if there is one of the name."""
        return self._read(
            msg.DraftLine, self._request("POST", "/drafts", json={"name": name, "about": about})
        )

    def add_to_draft(self, name: str, changes: Sequence[dict[str, Any]]) -> msg.DraftWritten:
        """Put changes into a draft, which is begun if there is none.

        ``POST /drafts/{name}/changes``.

        :class:`Refused` where they cannot be done after what is in it.
        """
        body = {"changes": list(changes)}
        return self._read(
            msg.DraftWritten, self._request("POST", _path(name, "changes"), json=body)
        )

    def add_model_to_draft(self, name: str, document: bytes) -> msg.DraftWritten:
        """Put a whole model file into a draft. ``POST /drafts/{name}/model``."""
        return self._read(msg.DraftWritten, self._send(_path(name, "model"), document))

    def add_back_to_draft(
        self, name: str, revision: int | None = None, as_of: str | None = None
    ) -> msg.DraftWritten:
        """Put a way back into a draft: one revision undone, or the whole model as of a revision or
        a time.

        ``POST /drafts/{name}/back``.
        """
        body = {"revision": revision, "as_of": as_of}
        return self._read(msg.DraftWritten, self._request("POST", _path(name, "back"), json=body))

    def leave_out_of_draft(self, name: str, number: int) -> None:
        """Take a step out of a draft. ``DELETE /drafts/{name}/steps/{number}``."""
        self._request("DELETE", _path(name, "steps", str(number)))

    def comment_on_draft(self, name: str, says: str) -> None:
        """Say something of a draft. ``POST /drafts/{name}/comments``."""
        self._request("POST", _path(name, "comments"), json={"says": says})

    def apply_draft(self, name: str, only_at: int | None = None) -> msg.Changed:
        """Put a draft in force, as one change; only if revision `only_at` is in force, where it is
        given.

        ``POST /drafts/{name}/apply``. :class:`Refused` where it fits no more, or is somebody else's
        to apply.
        """
        headers = {} if only_at is None else {"If-Match": f'"{only_at}"'}
        return self._read(msg.Changed, self._request("POST", _path(name, "apply"), headers=headers))

    def drop_draft(self, name: str) -> None:
        """Take a draft away; the journal keeps what was in it. ``DELETE /drafts/{name}``."""
        self._request("DELETE", _path(name))
