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

    def drift(
        self, store: str, account: str | None = None, most: int | None = None
    ) -> msg.DriftAnswer:
        """Where the server and the disk of a store do not say the same.

        ``GET /disks/{store}/drift``.
        """
        return self._get(
            msg.DriftAnswer, f"/disks/{quote(store, safe='')}/drift", account=account, most=most
        )

    def disk_plan(self, store: str) -> msg.PlanAnswer:
        """What makes the disk of a store say what the model says. ``GET /disks/{store}/plan``."""
        return self._get(msg.PlanAnswer, f"/disks/{quote(store, safe='')}/plan")

    def adopt(self, store: str) -> msg.AdoptAnswer:
        """What the disk of a store says, as changes of the model.

        ``GET /disks/{store}/adoption``.
        """
        return self._get(msg.AdoptAnswer, f"/disks/{quote(store, safe='')}/adoption")

    def descriptors(self, store: str) -> msg.DescriptorsAnswer:
        """The security descriptors that say what the model says of a store.

        ``GET /disks/{store}/descriptors``.
        """
        return self._get(msg.DescriptorsAnswer, f"/disks/{quote(store, safe='')}/descriptors")
