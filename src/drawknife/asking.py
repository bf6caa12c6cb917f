"""What is wrong with what was asked, told so that it can be mended."""

from __future__ import annotations

from drawknife.core.words.errors import BadInput, BadValue
from drawknife.core.words.names import check_path
from drawknife.core.words.rights import INDEX, RIGHTS


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
