"""What is wrong with what was asked, told so that it can be mended."""

from __future__ import annotations

from collections.abc import Iterable

from drawknife.core.model.soundness import nearest
from drawknife.core.words.names import BadValue, check_path
from drawknife.core.words.rights import INDEX, RIGHTS


class NoSuch(LookupError):
    """Something that was named does not exist. `near` is the nearest name that does."""

    def __init__(self, key: str, kind: str, name: str, names: Iterable[str]) -> None:
        self.key, self.kind, self.name = key, kind, name
        self.near = nearest(name, names)
        hint = f"; did you mean {self.near}?" if self.near else ""
        super().__init__(f"there is no {kind} {name!r}{hint}")


class BadInput(ValueError):
    """A value that cannot be understood: where, what stands there, what would be right."""

    def __init__(self, where: str, message: str, expected: str) -> None:
        super().__init__(f"{where}: {message}" + (f"; expected {expected}" if expected else ""))
        self.where, self.message, self.expected = where, message, expected


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
