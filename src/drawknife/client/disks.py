"""What was read of disks, and drift."""

from __future__ import annotations

from urllib.parse import quote

from drawknife import messages as msg

from .connection import Connection


class DiskCalls(Connection):
    """The part of :class:`drawknife.client.Client` that is about disks."""

    def disks(self) -> msg.DiskList:
        """What was read of the disks of stores. ``GET /disks``."""
        return self._get(msg.DiskList, "/disks")

    def drift(self, store: str, account: str | None = None, most: int | None = None) -> msg.DriftAnswer:
        """Where the server and the disk of a store do not say the same. ``GET /disks/{store}/drift``."""
        return self._get(msg.DriftAnswer, f"/disks/{quote(store, safe='')}/drift", account=account, most=most)
