"""Sizes and durations as people write them."""

import re

from .names import BadValue
from .sizes import show_size

_SIZE = re.compile(r"(\d{1,20})(?:\.(\d{1,20}))?(?: ?(B|[KMGTP]i?B))?", re.ASCII)
_FACTOR = {"B": 1}
for _power, _letter in enumerate("KMGTP", 1):
    _FACTOR[f"{_letter}iB"] = 1024**_power
    _FACTOR[f"{_letter}B"] = 1000**_power
_SECONDS = {"day": 86400, "hour": 3600, "minute": 60, "second": 1}
_DURATION = re.compile(r"(\d{1,20}) ?(day|hour|minute|second)s?", re.ASCII)
#: Beyond this a number is no size: PostgreSQL's bigint ends here.
MAX = 2**63 - 1


def read_size(value: object) -> int:
    """Bytes from ``40 GiB`` (1024), ``1.5 GB`` (1000) or a number.

    What is less than a byte is dropped.
    """
    found = _SIZE.fullmatch(value) if isinstance(value, str) else None
    if found is not None:
        decimals = found[2] or ""
        size: int = int(found[1] + decimals) * _FACTOR[found[3] or "B"] // 10 ** len(decimals)
    elif isinstance(value, int) and not isinstance(value, bool):
        size = value
    else:
        raise BadValue(f"{value!r} is no size", "a number of bytes, or such as 40 GiB or 1.5 GB")
    if not 0 <= size <= MAX:
        raise BadValue(f"{value!r} is out of range", f"0 to {MAX} bytes")
    return size


def write_size(size: int) -> str | int:
    """A size in the unit that gives the smallest whole number, or with a decimal point where that
    is the very size.
    """
    whole = [
        (size // factor, unit)
        for unit, factor in _FACTOR.items()
        if unit != "B" and size % factor == 0
    ]
    if not whole:
        near = show_size(size) if 1024 <= size <= MAX // 2 else size
        return near if read_size(near) == size else size
    if not size:
        return size
    count, unit = min(whole)
    return f"{count} {unit}"


def read_duration(value: object) -> int:
    """Seconds from ``7 days``, ``12 hours``, ``30 minutes`` or a number."""
    found = _DURATION.fullmatch(value) if isinstance(value, str) else None
    if found is not None:
        seconds = int(found[1]) * _SECONDS[found[2]]
    elif isinstance(value, int) and not isinstance(value, bool) and value >= 0:
        seconds = value
    else:
        raise BadValue(
            f"{value!r} is no duration", "a number of seconds, or such as 7 days or 12 hours"
        )
    if seconds > 10**10:
        raise BadValue(f"{value!r} is out of range", "at most 300 years")
    return seconds


def write_duration(seconds: int) -> str | int:
    """Seconds in the largest unit that gives a whole number."""
    for unit, factor in _SECONDS.items():
        if seconds and seconds % factor == 0:
            count = seconds // factor
            return f"{count} {unit}{'' if count == 1 else 's'}"
    return seconds
