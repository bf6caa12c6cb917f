"""Trials: what an account does, step by step, and whether it is to be let
(docs/reference/trials.md).
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple

from ..words.actions import ACTIONS, GATES
from ..words.errors import nearest
from ..words.names import BadValue, check_name, check_path
from ..words.quantities import read_size, write_size

_DONE = re.compile(
    r"(?P<action>\S+)(?: (?P<path>/.*?))?(?: to (?P<to>/.*?))?(?: of (?P<owner>\S+))?(?:"
    r" (?P<size>\d+(?:\.\d+)? ?(?:[KMGTP]i)?B))?"
)
_SHAPE = "ACTION LOCATION [to LOCATION] [of OWNER] [SIZE]: yes, no, or `no, by GATE`"
SIGN_IN = "sign-in"


class Step(NamedTuple):
    """One thing that is done, whether it is to be let, and by which gate it is to be refused, if
    that is said.

    `size` in bytes.
    """

    action: str
    path: str | None = None
    to: str | None = None
    owner: str | None = None
    size: int | None = None
    allowed: bool = True
    gate: str | None = None

    @property
    def says(self) -> str:
        """What is done."""
        words = [
            self.action,
            self.path,
            self.to and f"to {self.to}",
            self.owner and f"of {self.owner}",
        ]
        if self.size is not None:
            size = write_size(self.size)
            words.append(f"{size} B" if isinstance(size, int) else size)
        return " ".join(word for word in words if word)

    @property
    def expects(self) -> str:
        """What is to come of it: ``yes``, ``no``, or ``no, by GATE``."""
        return "yes" if self.allowed else f"no, by {self.gate}" if self.gate else "no"

    def __str__(self) -> str:
        return f"{self.says}: {self.expects}"


@dataclass(frozen=True, slots=True)
class Trial:
    """Steps that an account does one after the other, and the facts that they share; None: not held
    against it.
    """

    name: str
    account: str
    steps: tuple[Step, ...] = ()
    endpoint: str | None = None
    client: str | None = None
    tls: bool | None = None
    method: str | None = None
    moment: datetime | None = None
    note: str | None = None


def read_step(value: Any) -> Step:
    """A step from a line, or from a mapping of what is done to what is to come of it, as YAML reads
    such a line.
    """
    if isinstance(value, dict) and len(value) == 1:
        ((says, expected),) = value.items()
    elif isinstance(value, str):
        says, _, expected = value.rpartition(": ")
    else:
        raise BadValue("a step is one line", "such as `upload /inbox/a.xyz: yes`")
    found = _DONE.fullmatch(says.strip()) if isinstance(says, str) else None
    if found is None or found["action"] not in ACTIONS:
        word = str(says).split(" ")[0]
        near = nearest(word, ACTIONS)
        raise BadValue(
            f"{says!r} is no step",
            _SHAPE + (f"; the action nearest to {word!r} is {near}" if near else ""),
        )
    action, path, to = found["action"], found["path"], found["to"]
    if path is None and action != SIGN_IN:
        raise BadValue(
            f"{says!r} is no step: it says not where",
            "a location such as /inbox/line-07.xyz after the action",
        )
    if (action == "rename") != (to is not None):
        why = (
            "a rename needs a destination"
            if action == "rename"
            else "only a rename has a destination"
        )
        raise BadValue(why, _SHAPE)
    return Step(
        action,
        path and check_path(path),
        to and check_path(to),
        found["owner"] and check_name(found["owner"]),
        read_size(found["size"]) if found["size"] else None,
        *_expected(expected),
    )


def _expected(value: Any) -> tuple[bool, str | None]:
    if value is True or value == "yes":
        return True, None
    if value is False or value == "no":
        return False, None
    by = value.strip().removeprefix("no, by ") if isinstance(value, str) else ""
    if by not in GATES or by == value:
        raise BadValue(
            f"{value!r} is no expectation", "yes, no, or `no, by` one of " + ", ".join(GATES)
        )
    return False, by


def mistakes_of(trial: Trial) -> Iterator[tuple[tuple[str | int, ...], str, str]]:
    """What a trial cannot be: where, what is wrong, and what would be right."""
    if not trial.steps:
        yield ("steps",), "there is nothing to do", "a list such as `upload /inbox/a.xyz: yes`"
    for i, step in enumerate(trial.steps):
        if step.action == SIGN_IN and trial.endpoint is None:
            yield ("steps", i), "signing in is somewhere", "`at`, the endpoint to sign in at"
