"""The steps of a plan."""

from __future__ import annotations

from typing import NamedTuple

from ..model.disk import ThingOnDisk


class PlanStep(NamedTuple):
    """Some things of a disk that are alike, and what they become.

    `what`: a ``folder``; the ``files`` of a folder, of which there are `number`; or folders in it
    (``children``), further down (``deeper``), or both (``below``), of which each is as that folder
    made it. Those in `but`, with all below them, have steps of their own, or none. `perhaps`: the
    model records the folder, and whether it is there the reading does not tell.
    """

    path: str
    what: str
    now: ThingOnDisk
    planned: ThingOnDisk
    number: int = 0
    but: tuple[str, ...] = ()
    perhaps: bool = False
