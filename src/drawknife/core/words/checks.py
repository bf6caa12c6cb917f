"""Rights and locations as they are named in what is asked."""

from __future__ import annotations

from .errors import BadInput, BadValue
from .names import check_path
from .rights import INDEX, RIGHTS


def check_right(right: str) -> str:
    """A right; :class:`BadInput` if it is none."""
    if right not in INDEX:
        raise BadInput("right", f"{right!r} is no right", "one of " + ", ".join(RIGHTS))
    return right


def check_location(text: str, where: str = "location") -> str:
    """A virtual location; :class:`BadInput` if it is none."""
    try:
        return check_path(text)
    except BadValue as bad:
        raise BadInput(where, str(bad), bad.expected) from None
