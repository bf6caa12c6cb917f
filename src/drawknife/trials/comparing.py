"""What a server shows an account, held against the model: folder by folder, reading only."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from typing import Any, NamedTuple

from drawknife.core.words.names import BadValue, check_path, child

from .over import RefusedByServer, Speaking

#: The letters of the `perm` fact of a folder (RFC 3659, 7.5.5) that do not depend on whose a thing
#: is, each with what it asks.
PERM = (("e", "enter", ""), ("l", "list", ""), ("c", "upload", "~"), ("m", "make-folder", "~"))


class ServerDiffers(NamedTuple):
    """Where a server does something else than the model says.

    `text` is the model's reason, or the server's words.
    """

    location: str
    what: str
    model: bool
    server: bool
    text: str


class Compared(NamedTuple):
    """All differences, how many folders were looked at, and how many more there are
    that were not.
    """

    differences: list[ServerDiffers]
    looked_at: int
    left_out: int
    #: Names that no model can hold, which are not looked at.
    odd: int
    #: Did the server tell the `perm` fact at all?
    perm: bool


class Listing(NamedTuple):
    """What the model says of a location: is it listed, why not, and the folders that are shown,
    with what they are.

    `shows` is ``reachable`` or ``all``: which subfolders are shown; None where it only leads to
    virtual paths.
    """

    allowed: bool
    text: str
    folders: dict[str, str]
    shows: str | None = None


def compare_server(
    speaking: Speaking,
    listing: Callable[[str], Listing],
    decide: Callable[[dict[str, Any]], tuple[bool, str]],
    most: int,
) -> Compared:
    """Walk what the server shows, from / on, through no more than `most` folders."""
    found: list[ServerDiffers] = []
    todo, looked_at, odd, perm_seen = deque(["/"]), 0, 0, False
    while todo and looked_at < most:
        location = todo.popleft()
        looked_at += 1
        model = listing(location)
        try:
            seen = speaking.seen(location)
        except RefusedByServer as refused:
            if model.allowed:
                found.append(ServerDiffers(location, "list", True, False, str(refused)))
            continue
        if not model.allowed:
            found.append(ServerDiffers(location, "list", False, True, model.text))
        folders = {x.name: x for x in seen if x.folder and _can_be(child(location, x.name))}
        odd += sum(x.folder for x in seen) - len(folders)
        found += _names(location, model, set(folders), decide)
        for name, entry in sorted(folders.items()):
            at = child(location, name)
            todo.append(at)
            if entry.perm is not None:
                perm_seen = True
                found += _letters(at, entry.perm, decide)
    return Compared(found, looked_at, len(todo), odd, perm_seen)


def _can_be(location: str) -> bool:
    try:
        return check_path(location) == location
    except BadValue:
        return False


def _names(
    location: str,
    model: Listing,
    shown: set[str],
    decide: Callable[[dict[str, Any]], tuple[bool, str]],
) -> list[ServerDiffers]:
    """Folders that only one of them shows.

    Where a location only leads to virtual paths, the model shows nothing else. Elsewhere it shows
    each folder, recorded or not, or each that can be entered.
    """
    if not model.allowed:
        return []
    missing = [
        ServerDiffers(child(location, name), "shown", True, False, f"the model has it as a {kind}")
        for name, kind in sorted(model.folders.items())
        if name not in shown
    ]
    hidden = []
    for name in sorted(shown - set(model.folders)):
        at = child(location, name)
        if model.shows is None:
            hidden.append(ServerDiffers(at, "shown", False, True, "no virtual path leads there"))
        elif model.shows == "reachable":
            enters, why = decide({"action": "enter", "path": at})
            if not enters:
                hidden.append(ServerDiffers(at, "shown", False, True, why))
    return missing + hidden


def _letters(
    at: str, perm: str, decide: Callable[[dict[str, Any]], tuple[bool, str]]
) -> list[ServerDiffers]:
    found = []
    for letter, action, below in PERM:
        allowed, text = decide({"action": action, "path": child(at, below) if below else at})
        if allowed is not (letter in perm):
            found.append(
                ServerDiffers(
                    at, action, allowed, letter in perm, text if not allowed else f"perm={perm}"
                )
            )
    return found
