"""Directories of people, groups and units, and their syncs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any

from drawknife import messages as msg

from .connection import Connection, segment


class DirectoryCalls(Connection):
    """The part of :class:`drawknife.client.Client` that is about directories."""

    def directories(self) -> msg.DirectoryList:
        """The directories, each with its last sync. ``GET /directories``."""
        return self._get(msg.DirectoryList, "/directories")

    def directory(self, name: str) -> msg.DirectoryLine:
        """One directory, with its last sync. ``GET /directories/{name}``."""
        return self._get(msg.DirectoryLine, f"/directories/{segment(name)}")

    def add_directory(
        self, name: str, options: dict[str, Any], bind_password: str | None = None
    ) -> msg.DirectoryLine:
        """Add a directory. ``POST /directories``."""
        body = {"name": name, "options": options, "bind_password": bind_password}
        return self._read(msg.DirectoryLine, self._request("POST", "/directories", json=body))

    def change_directory(
        self, name: str, options: dict[str, Any], bind_password: str | None = None
    ) -> msg.DirectoryLine:
        """Change a directory's options. ``PATCH /directories/{name}``."""
        body = {"options": options, "bind_password": bind_password}
        return self._read(
            msg.DirectoryLine, self._request("PATCH", f"/directories/{segment(name)}", json=body)
        )

    def remove_directory(self, name: str, keep: bool = False) -> None:
        """Remove a directory; with `keep`, what came from it becomes local.

        ``DELETE /directories/{name}``.
        """
        self._request("DELETE", f"/directories/{segment(name)}", params={"keep": keep})

    def try_directory(self, name: str, options: Mapping[str, object] | None = None) -> msg.Tried:
        """Read it, and tell the first few of what it has; with other options than it has.

        ``POST /directories/{name}/try``.
        """
        body = {"options": dict(options or {})}
        return self._read(
            msg.Tried, self._request("POST", f"/directories/{segment(name)}/try", json=body)
        )

    def preview_sync(
        self, name: str, most_leavers: int | None = None, adopt: Sequence[str] = ()
    ) -> msg.SyncPreview:
        """What a sync would change, counted and named, and what follows.

        ``POST /directories/{name}/sync/preview``.
        """
        body = {"most_leavers": most_leavers, "adopt": list(adopt)}
        return self._read(
            msg.SyncPreview,
            self._request("POST", f"/directories/{segment(name)}/sync/preview", json=body),
        )

    def sync(
        self, name: str, most_leavers: int | None = None, adopt: Sequence[str] = ()
    ) -> msg.SyncReport:
        """Sync now.

        The report says whether it was done; a failure changes nothing. `adopt` is handed over to
        it.

        ``POST /directories/{name}/sync``.
        """
        body = {"most_leavers": most_leavers, "adopt": list(adopt)}
        return self._read(
            msg.SyncReport, self._request("POST", f"/directories/{segment(name)}/sync", json=body)
        )

    def findings(self) -> msg.FindingList:
        """What wants attention though no rule is broken. ``GET /findings``."""
        return self._get(msg.FindingList, "/findings")

    def accept_finding(self, kind: str, about: str, until: date, note: str) -> None:
        """Accept a finding up to the end of a day: it is counted then, and not shown.

        ``PUT /findings/accepted``.
        """
        body = {"kind": kind, "about": about, "until": str(until), "note": note}
        self._request("PUT", "/findings/accepted", json=body)

    def reopen_finding(self, kind: str, about: str) -> None:
        """Show a finding again that was accepted. ``DELETE /findings/accepted``."""
        self._request("DELETE", "/findings/accepted", params={"kind": kind, "about": about})

    def idle(self) -> msg.IdleAnswer:
        """What has no effect, each with the change that takes it away. ``GET /idle``."""
        return self._get(msg.IdleAnswer, "/idle")

    def overview(self) -> msg.Overview:
        """How much there is, and what wants attention. ``GET /overview``."""
        return self._get(msg.Overview, "/overview")

    def stores(self) -> msg.StoreList:
        """The stores. ``GET /stores``."""
        return self._get(msg.StoreList, "/stores")

    def folder(self, place: str) -> msg.FolderAnswer:
        """One folder, what it carries and what is in it. ``GET /folders``."""
        return self._get(msg.FolderAnswer, "/folders", place=place)

    def inside(self, place: str) -> msg.InsideAnswer:
        """Who can do what in a folder, those together that can do the same.

        ``GET /folders/inside``.
        """
        return self._get(msg.InsideAnswer, "/folders/inside", place=place)

    def virtual_paths(self) -> msg.VirtualPathList:
        """The virtual paths. ``GET /virtual-paths``."""
        return self._get(msg.VirtualPathList, "/virtual-paths")

    def endpoints(self) -> msg.EndpointList:
        """The endpoints, and which do not start. ``GET /endpoints``."""
        return self._get(msg.EndpointList, "/endpoints")
