"""The log of a rehearsal: each action with its verdict, the gate, the sentence, and the command to
look on with.
"""

from __future__ import annotations

import json
import shlex
from collections import deque
from collections.abc import Callable
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

#: Why something is refused that is no question to the rules.
NOT_ASKED = frozenset({"bad-name", "no-account", "no-tls", "wrong-credential"})
#: Options of `drawknife why` without a value.
FLAGS = frozenset({"--no-tls", "--replaces", "--tls"})
#: So many lines are kept in memory.
KEPT = 10_000


@dataclass(frozen=True, slots=True)
class ActionLine:
    """One action.

    `gate` and `reason` are None and ``allowed`` where the rules allow it; `note` says what else
    happened.

    `done` is false where the rules allow it and it was not done all the same: nothing is there,
    something is in the way, or the connection was cut.
    """

    at: datetime
    session: int
    account: str
    endpoint: str
    client: str
    action: str
    path: str | None
    to: str | None
    allowed: bool
    gate: str | None
    reason: str
    text: str
    owner: str | None = None
    note: str | None = None
    #: Bytes, where it was asked for so many.
    size: int | None = None
    done: bool = True
    #: What else was asked with it, as options of `drawknife why`.
    facts: tuple[tuple[str, str], ...] = ()

    def why(self) -> str:
        """The command that asks the same again; empty for what no question is about, such as a
        wrong password.
        """
        if self.reason in NOT_ASKED:
            return ""
        words = ["drawknife", "why", self.account, self.action]
        words += [] if self.action == "sign-in" else [self.path or "/"]
        options = [
            ("--endpoint", self.endpoint),
            ("--from", self.client),
            ("--to", self.to),
            ("--owner", self.owner),
            ("--size", None if self.size is None else str(self.size)),
            *self.facts,
        ]
        for option, value in options:
            words += (
                [option, value] if value else [option] if value == "" and option in FLAGS else []
            )
        return shlex.join(words)

    def as_data(self) -> dict[str, Any]:
        """The line as plain data, with the command that asks the same again."""
        data = asdict(self)
        del data["facts"]
        return {**data, "at": self.at.isoformat(), "why": self.why()}

    def as_json(self) -> str:
        return json.dumps(self.as_data(), ensure_ascii=False)


class Log:
    """Lines as they come, the newest kept; told to whoever listens."""

    def __init__(self) -> None:
        self.lines: deque[ActionLine] = deque(maxlen=KEPT)
        self._listeners: list[Callable[[ActionLine], None]] = []

    def listen(self, listener: Callable[[ActionLine], None]) -> None:
        self._listeners.append(listener)

    def write(self, line: ActionLine) -> None:
        self.lines.append(line)
        for listener in self._listeners:
            listener(line)


class BoundedFile:
    """A file of JSON lines that is turned over when it is as large as it may be, or at the end of a
    day (UTC).
    """

    def __init__(self, path: Path, largest: int, most: int) -> None:
        self.path, self._largest, self._most = path, largest, most
        self._file = path.open("a", encoding="utf-8")
        self._day = datetime.now(UTC).date()

    def write(self, line: ActionLine) -> None:
        text = line.as_json() + "\n"
        full = self._file.tell() > 0 and self._file.tell() + len(text.encode()) > self._largest
        if full or line.at.date() != self._day:
            self._turn_over()
            self._day = line.at.date()
        self._file.write(text)
        self._file.flush()

    def _turn_over(self) -> None:
        """The file becomes ``.1``, that ``.2``, and so on; the oldest goes."""
        self._file.close()
        for number in range(self._most - 1, 0, -1):
            older = Path(f"{self.path}.{number}")
            if older.exists():
                (
                    older.replace(f"{self.path}.{number + 1}")
                    if number + 1 < self._most
                    else older.unlink()
                )
        if self._most > 1:
            self.path.replace(f"{self.path}.1")
        self._file = self.path.open("w", encoding="utf-8")

    def close(self) -> None:
        self._file.close()
