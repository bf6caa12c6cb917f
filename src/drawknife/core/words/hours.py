"""Hours in which an account may sign in: lines such as ``mon-fri 06:00-20:00``, in UTC
(docs/rules.md, "Settings").
"""

from __future__ import annotations

import re
from datetime import datetime

from .names import BadValue

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_LINE = re.compile(r"(\w{3})(?:-(\w{3}))? (\d\d):(\d\d)-(\d\d):(\d\d)")


def read_hours(text: str) -> str:
    """A line of hours as it is kept; :class:`BadValue` if it is none."""
    days, (begin, end) = _parse(text)
    if not days or begin == end:
        raise BadValue(
            f"{text!r} is no line of hours",
            "such as `mon-fri 06:00-20:00` or `sat 22:00-04:00` (UTC)",
        )
    return " ".join(text.lower().split())


def _parse(text: str) -> tuple[frozenset[int], tuple[int, int]]:
    found = _LINE.fullmatch(" ".join(text.lower().split()))
    if found is None or found[1] not in DAYS or (found[2] or "mon") not in DAYS:
        return frozenset(), (0, 0)
    first, last = DAYS.index(found[1]), DAYS.index(found[2] or found[1])
    hours = [int(found[i]) for i in (3, 4, 5, 6)]
    begin, end = hours[0] * 60 + hours[1], hours[2] * 60 + hours[3]
    if hours[1] > 59 or hours[3] > 59 or begin >= 24 * 60 or end > 24 * 60:
        return frozenset(), (0, 0)
    return frozenset((first + i) % 7 for i in range((last - first) % 7 + 1)), (begin, end)


def within(lines: tuple[str, ...], at: datetime) -> bool:
    """Does any line hold this moment (UTC)? Hours that end before they begin run over midnight."""
    day, minute = at.weekday(), at.hour * 60 + at.minute
    for line in lines:
        days, (begin, end) = _parse(line)
        if begin < end:
            if day in days and begin <= minute < end:
                return True
        elif (day in days and minute >= begin) or ((day - 1) % 7 in days and minute < end):
            return True
    return False
