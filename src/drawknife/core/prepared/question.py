"""What is asked, and what is answered."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple

from .lockout import Counting

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
    #: The methods that the account has a credential for: a password, a key, its directory. None:
    #: not known.
    credentials: frozenset[str] | None = None
    #: Sessions that the account has open, and what locks it or the client's address now, where that
    #: is known.
    sessions: int | None = None
    locks: tuple[Counting, ...] = ()
    #: How the file is on disk, as a reading writes it; None: any that the folder has.
    combination: str | None = None

    @property
    def on_file(self) -> bool:
        """Is it a file that is acted on?"""
        return self.action in FILE_ACTIONS or (
            self.action in ("rename", "set-attributes") and self.thing == "file"
        )

    @property
    def moves_folder(self) -> bool:
        """Does a folder leave its place: is it deleted, renamed or moved?"""
        return self.action == "delete-folder" or (
            self.action == "rename" and self.thing == "folder"
        )


class Refusal(NamedTuple):
    """An obstacle: the gate, a short stable code, and one sentence that a person can act on."""

    gate: str
    reason: str
    text: str


class Verdict:
    """The answer. `gate` is None when allowed; `reason` is then ``allowed``.

    Reason and text are worked out when they are first asked for.
    """

    __slots__ = ("_said", "_tell", "allowed", "gate")

    def __init__(self, gate: str | None, tell: Callable[[], tuple[str, str]]) -> None:
        self.allowed = gate is None
        self.gate = gate
        self._tell = tell
        self._said: tuple[str, str] | None = None

    def _words(self) -> tuple[str, str]:
        if self._said is None:
            self._said = self._tell()
        return self._said

    @property
    def reason(self) -> str:
        return self._words()[0]

    @property
    def text(self) -> str:
        return self._words()[1]

    def as_data(self) -> dict[str, Any]:
        """The answer as plain data: allowed, gate, reason, text."""
        reason, text = self._words()
        return {"allowed": self.allowed, "gate": self.gate, "reason": reason, "text": text}

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Verdict) and self.as_data() == other.as_data()

    def __repr__(self) -> str:
        return f"Verdict({self.as_data()})"
