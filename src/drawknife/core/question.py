"""What is asked, and what is answered."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import NamedTuple

from .rights import RIGHTS

ACTIONS = (*RIGHTS, "sign-in")
GATES = ("door", "sign-in", "endpoint", "virtual path", "folder", "limits")
#: Actions on a file; `rename` and `set-attributes` besides, where the thing is a file.
FILE_ACTIONS = frozenset({"download", "upload", "overwrite", "append", "delete-file"})


@dataclass(frozen=True, slots=True)
class Question:
    """May `account` do `action` at the virtual location `path`? See docs/reference/questions.md.

    `path` is the file, or for make-folder the folder to be made, or the folder itself. `client` is
    an IP address. Sizes are bytes. What is None is not known and not held against the account.
    """

    account: str
    action: str
    path: str = "/"
    to: str | None = None
    thing: str = "file"
    replaces: bool = False
    owner: str | None = None
    endpoint: str | None = None
    client: str | None = None
    tls: bool | None = None
    method: str | None = None
    size: int | None = None
    replaced_size: int | None = None
    files: int | None = None
    at: datetime | None = None

    @property
    def on_file(self) -> bool:
        """Is it a file that is acted on?"""
        return self.action in FILE_ACTIONS or (self.action in ("rename", "set-attributes") and self.thing == "file")


class Refusal(NamedTuple):
    """An obstacle: the gate, a short stable code, and one sentence that a person can act on."""

    gate: str
    reason: str
    text: str


class Verdict(NamedTuple):
    """The answer. `gate` is None when allowed; `reason` is then ``allowed``."""

    allowed: bool
    gate: str | None
    reason: str
    text: str
