"""What a plan of a disk says: its steps, what the lists cannot say, and whom it opens files to."""

from __future__ import annotations

from typing import NamedTuple

from ..disk.plan_steps import PlanStep
from ..model.disk import ThingOnDisk
from .drift import Drift


class Opened(NamedTuple):
    """Files of a folder that are alike, and the users of accounts to whom they are opened: to read,
    or to write.
    """

    path: str
    thing: ThingOnDisk
    number: int
    read: tuple[str, ...]
    write: tuple[str, ...]


class Plan(NamedTuple):
    """What is to become of a store's disk.

    `steps` are in tree order. `not_said` is what the lists cannot say, as drift of the disk as it
    would be, where ``…`` stands for folders in one that are as that made them; `made` are the
    folders in which what will be made is let more than the model says, with what; `lost` how many
    users that no account acts as had something as others, by folder, and lose it. `owners` are the
    users of accounts that own something there: its attributes and its list are theirs to change,
    and nobody else's. `opened` are the files that are opened to somebody, as the model says;
    `private` those that stay closed though it says so: other files in their folder are open to
    somebody to whom they are not.
    """

    steps: tuple[PlanStep, ...]
    not_said: tuple[Drift, ...]
    made: tuple[tuple[str, str], ...]
    lost: tuple[tuple[str, int], ...]
    owners: tuple[str, ...]
    left_out: tuple[str, ...]
    opened: tuple[Opened, ...] = ()
    private: tuple[Opened, ...] = ()
