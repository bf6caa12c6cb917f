"""Names, unit paths, folder paths: what may be written and how it is compared.

Bad spelling is refused with :class:`BadValue`, never repaired in silence; the one thing dropped
is a trailing ``/`` of a path.
"""

import re
import unicodedata
from typing import NamedTuple

from .errors import BadValue as BadValue

MAX_NAME = 64
FORBIDDEN_IN_NAMES = frozenset("/\\:{},*")
RESERVED_SUBJECTS = frozenset({"anyone", "signed-in", "anonymous", "owner"})
ANONYMOUS = "anonymous"
#: What stands for a folder of which nothing is recorded, in a place that is told.
UNRECORDED = "…"


class Place(NamedTuple):
    """A folder of a store, written ``STORE:/a/b``."""

    store: str
    path: str

    def __str__(self) -> str:
        return f"{self.store}:{self.path}"


def fold(name: str) -> str:
    """The form in which names are compared: the casefold of NFC."""
    return name.casefold() if name.isascii() else unicodedata.normalize("NFC", name).casefold()


def _unwritable(text: str, categories: tuple[str, ...] = ("Cc", "Cs")) -> bool:
    """True where `text` holds control characters or halves of surrogate pairs."""
    if text.isascii():
        return not text.isprintable() and any(c < " " or c == "\x7f" for c in text)
    return any(unicodedata.category(c) in categories for c in text)


#: Control characters, format characters, halves of surrogate pairs.
_NOT_IN_NAMES = ("Cc", "Cf", "Cs")


#: What nearly all names are: printable ASCII without what is forbidden in names.
_PLAIN_NAME = re.compile(r"[!-)+\-.0-9;-\[\]-z|~]{1,64}")


def check_name(name: str) -> str:
    """Return `name` if it may name something; raise :class:`BadValue` if not."""
    if _PLAIN_NAME.fullmatch(name) and name not in (".", ".."):
        return name
    expected = (
        "1 to 64 characters, no white space, no control or format characters, none of / \\ : {"
        " } , *"
    )
    if not name:
        raise BadValue("a name may not be empty", expected)
    if len(name) > MAX_NAME:
        raise BadValue(f"the name has {len(name)} characters", expected)
    if name in (".", ".."):
        raise BadValue(f"{name!r} is not a name", expected)
    if not name.isascii() and not unicodedata.is_normalized("NFC", name):
        raise BadValue("the name is not in Unicode form NFC", "the same name in form NFC")
    if _unwritable(name, _NOT_IN_NAMES) or any(
        c in FORBIDDEN_IN_NAMES or c.isspace() for c in name
    ):
        bad = next(
            c
            for c in name
            if c in FORBIDDEN_IN_NAMES or c.isspace() or _unwritable(c, _NOT_IN_NAMES)
        )
        shown = repr(bad) if bad.isprintable() else f"the character U+{ord(bad):04X}"
        raise BadValue(f"the name holds {shown}", expected)
    return name


def check_subject_name(name: str) -> str:
    """Like :func:`check_name`, for groups and units, which may not take a built-in
    subject's name.
    """
    check_name(name)
    if fold(name) in RESERVED_SUBJECTS:
        raise BadValue(f"{name!r} is the name of a built-in subject", "another name")
    return name


def check_unit(path: str) -> str:
    """Return the unit path ``a/b`` if each of its segments may name a unit."""
    if not path:
        raise BadValue("a unit may not be empty", "a path such as fleet/inshore")
    for segment in path.split("/"):
        check_subject_name(segment)
    return path


def unit_ancestors(path: str) -> list[str]:
    """The unit itself and every unit above it, nearest first."""
    parts = path.split("/")
    return ["/".join(parts[:n]) for n in range(len(parts), 0, -1)]


#: What nearly all paths are: printable ASCII, nothing empty, no dot segments, no `/` at the end.
_PLAIN_PATH = re.compile(r"(?:/(?!\.{1,2}(?:/|$))[ -.0-~]+)+")


def check_path(path: str) -> str:
    """Return the absolute path without a trailing ``/``; raise :class:`BadValue` if it breaks a
    rule.
    """
    if _PLAIN_PATH.fullmatch(path):
        return path
    expected = "an absolute path such as /a/b"
    if not path.startswith("/"):
        raise BadValue("the path does not begin with /", expected)
    if path == "/":
        return path
    if "//" in path:
        raise BadValue("the path has an empty segment", expected)
    path = path.removesuffix("/")
    if not path.isascii() and not unicodedata.is_normalized("NFC", path):
        raise BadValue("the path is not in Unicode form NFC", "the same path in form NFC")
    if _unwritable(path):
        raise BadValue("the path holds a control character", expected)
    if "/." in path:
        for segment in path.split("/"):
            if segment in (".", ".."):
                raise BadValue(f"the path has a segment {segment!r}", "the path written out")
    return path


def parse_place(text: str) -> Place:
    """Read ``STORE:/path``."""
    store, colon, path = text.partition(":")
    if not colon:
        raise BadValue(f"{text!r} names no store", "a folder such as survey:/inbox")
    return Place(check_name(store), check_path(path))


def parent(path: str) -> str:
    """The folder above `path`; the root is above itself."""
    return path[: path.rindex("/")] or "/"


def base(path: str) -> str:
    """The last segment of `path`, empty for the root."""
    return path[path.rindex("/") + 1 :]


def join(folder: str, rest: str) -> str:
    """`rest` (empty, or beginning with ``/``) appended to `folder`."""
    if not rest:
        return folder
    return rest if folder == "/" else folder + rest


def child(folder: str, name: str) -> str:
    """The path of `name` directly in `folder`."""
    return f"/{name}" if folder == "/" else f"{folder}/{name}"


def ancestors(path: str) -> list[str]:
    """`path` itself and every path above it, nearest first, the root last."""
    out = [path]
    while path != "/":
        path = parent(path)
        out.append(path)
    return out


def rest_below(path: str, top: str) -> str | None:
    """What remains of `path` under `top` (empty, or beginning with ``/``); None if it
    is not there.
    """
    if path == top:
        return ""
    if top == "/":
        return path
    if path.startswith(top) and path[len(top)] == "/":
        return path[len(top) :]
    return None


def depth(path: str) -> int:
    """How many folders lie above `path`: 0 for the root."""
    return 0 if path == "/" else path.count("/")


def tree_key(path: str) -> str:
    """Sort key under which a folder is followed at once by everything below it."""
    return "" if path == "/" else path.replace("/", "\x00")
