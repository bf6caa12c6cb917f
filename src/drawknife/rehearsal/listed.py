"""What is told of a name in a folder."""

from __future__ import annotations

from typing import Any, NamedTuple

from drawknife.core.words.names import child, parent

from .tree import FileOrFolder


class Listed(NamedTuple):
    """A name in a folder."""

    name: str
    location: str
    thing: FileOrFolder
    owner: str | None


def asked_of(seen: Listed, account: str) -> list[tuple[str, str, str, dict[str, Any]]]:
    """What the `perm` fact says of it (RFC 3659, 7.5.5): each letter, with the action and the
    location that are asked.
    """
    at, owner = seen.location, seen.owner
    to = child(parent(at), "~") if at != "/" else "/~"
    return (
        [
            ("c", "upload", child(at, "~"), {}),
            ("d", "delete-folder", at, {"thing": "folder", "owner": owner}),
            ("e", "enter", at, {}),
            ("f", "rename", at, {"thing": "folder", "to": to, "owner": owner}),
            ("l", "list", at, {}),
            ("m", "make-folder", child(at, "~"), {}),
            ("p", "delete-file", child(at, "~"), {"owner": account}),
        ]
        if seen.thing.folder
        else [
            ("a", "append", at, {"owner": owner}),
            ("d", "delete-file", at, {"owner": owner}),
            ("f", "rename", at, {"owner": owner, "to": to}),
            ("r", "download", at, {"owner": owner}),
            ("w", "overwrite", at, {"owner": owner}),
        ]
    )
