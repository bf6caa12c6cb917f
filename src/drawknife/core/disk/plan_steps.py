"""The steps of a plan, and what they make of any thing that lies on the disk."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple

from ..model.disk import ThingOnDisk
from ..words.names import parent
from .read_folders import Disk


class PlanStep(NamedTuple):
    """Some things of a disk that are alike, and what they become.

    `what`: a ``folder``; the ``files`` of a folder, of which there are `number`; or folders in it (``children``), further down
    (``deeper``), or both (``below``), of which each is as that folder made it. Those in `but`, with all below them, have
    steps of their own, or none. `perhaps`: the model records the folder, and whether it is there the reading does not tell.
    """

    path: str
    what: str
    now: ThingOnDisk
    planned: ThingOnDisk
    number: int = 0
    but: tuple[str, ...] = ()
    perhaps: bool = False


class PlanSteps:
    """Steps, asked for what a thing becomes; things are as `disk` has them."""

    def __init__(self, disk: Disk, steps: Iterable[PlanStep]) -> None:
        self.disk = disk
        self._folders: dict[str, ThingOnDisk] = {}
        self._files: dict[tuple[str, ThingOnDisk], ThingOnDisk] = {}
        self._below: dict[str, dict[str, ThingOnDisk]] = {}
        self._known = {"/"}
        for step in steps:
            self._known |= {step.path, *step.but}
            if step.what == "folder":
                self._folders[step.path] = step.planned
            elif step.what == "files":
                self._files[step.path, step.now] = step.planned
            else:
                self._below.setdefault(step.path, {})[step.what] = step.planned

    def folder(self, path: str, now: ThingOnDisk) -> ThingOnDisk:
        """What a folder that is so becomes."""
        at, level = path, 0
        while at not in self._known:
            at, level = parent(at), level + 1
        if not level:
            return self._folders.get(path, now)
        below = self._below.get(at, {})
        return below.get("below") or below.get("children" if level == 1 else "deeper") or now

    def file(self, folder: str, now: ThingOnDisk) -> ThingOnDisk:
        """What a file that is so becomes, in a folder."""
        return self._files.get((folder, now), now)
