"""What a session asks the core before it acts, and the lines of the log about that."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

from drawknife.core.decide.gates import gate_obstacles, open_case, verdict
from drawknife.core.prepared.people import PreparedAccount
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.prepared.question import Question, Verdict
from drawknife.core.prepared.settings import resolve
from drawknife.core.words.names import fold

from .log import ActionLine
from .refusals import Denied, LimitReached
from .writing import Scene


class SessionQuestions:
    """What one account that has signed in may do, by the core, each question and answer in the log.

    The facts of the session (endpoint, address, method, encryption) are part of each question. A
    line of what was allowed waits until it is known whether it was done, see :func:`written_down`.
    """

    def __init__(self, scene: Scene, number: int, account: str, asked: Question) -> None:
        self.scene, self.number, self.account = scene, number, account
        #: The facts of the session, which each question has.
        self.facts = asked
        self.directory = "/"
        #: What was allowed last, and is not written down yet.
        self._waiting: ActionLine | None = None

    @property
    def _prepared(self) -> Prepared:
        return self.scene.model(self._now().date())

    def _now(self) -> datetime:
        return datetime.now(UTC)

    def _account(self) -> PreparedAccount:
        found = self._prepared.account(self.account)
        if found is None:  # it was removed meanwhile
            raise Denied(f"there is no account {self.account} any more")
        return found

    def _endpoint(self) -> None:
        name = self.facts.endpoint
        if name is not None and fold(name) not in self._prepared.endpoints:
            raise Denied(f"there is no endpoint {name} any more")

    def ask(self, action: str, path: str, **more: Any) -> Verdict:
        """The verdict on an action, which is written down nowhere."""
        self._account()
        self._endpoint()
        owner = more.pop("owner", None)
        if owner is not None and self._prepared.account(owner) is None:
            owner = None
        question = replace(
            self.facts, action=action, path=path, owner=owner, at=self._now(), **more
        )
        return verdict(self._prepared, question, self._now())

    def need(self, action: str, path: str, **more: Any) -> None:
        """Ask, and write it down; :class:`Denied` or :class:`LimitReached` where it is refused.

        What is allowed is only written down when it is known whether it was done: see
        :func:`written_down`.
        """
        found = self.ask(action, path, **more)
        line = self._line(action, path, found, more)
        if not found.allowed:
            self.scene.log.write(line)
            raise LimitReached(found.text) if found.gate == "limits" else Denied(found.text)
        self.write_down()
        self._waiting = line

    def take_line(self) -> ActionLine | None:
        """The line of what was allowed last, which whoever takes it writes down."""
        line, self._waiting = self._waiting, None
        return line

    def write_down(self, note: str | None = None, done: bool = True) -> None:
        """Write down what was allowed last, if it is not yet."""
        line = self.take_line()
        if line is not None:
            self.scene.log.write(replace(line, note=note, done=done))

    def _line(
        self, action: str, path: str | None, found: Verdict, more: dict[str, Any]
    ) -> ActionLine:
        f = self.facts
        facts = [("--tls" if f.tls else "--no-tls", "")] if f.tls is not None else []
        facts += [("--method", f.method)] if f.method else []
        facts += [("--thing", "folder")] if more.get("thing") == "folder" else []
        facts += [("--replaces", "")] if more.get("replaces") else []
        facts += (
            [("--replaced-size", str(more["replaced_size"]))]
            if more.get("replaced_size") is not None
            else []
        )
        facts += [("--files", str(more["files"]))] if more.get("files") is not None else []
        return ActionLine(
            self._now(),
            self.number,
            self.account,
            f.endpoint or "",
            f.client or "",
            action,
            path,
            more.get("to"),
            found.allowed,
            found.gate,
            found.reason,
            found.text,
            more.get("owner"),
            None,
            more.get("size"),
            facts=tuple(facts),
        )

    def tell(
        self, action: str, path: str | None, found: Verdict, note: str | None = None, **more: Any
    ) -> None:
        """Write a verdict down at once."""
        self.scene.log.write(replace(self._line(action, path, found, more), note=note))

    def refused_name(self, verb: str, given: str) -> None:
        """Write down that a client gave a name that no file or folder can have."""
        shown = given.encode("utf-8", "backslashreplace").decode()
        found = Verdict(
            "virtual path", lambda: ("bad-name", f"no file or folder can be named {shown!r}")
        )
        self.tell(verb, None, found)

    def at_a_limit(
        self, action: str, path: str, owner: str | None, length: int, more: int
    ) -> LimitReached:
        """What is raised where `more` bytes of a file of `length` do not come in, which is written
        down with the limit.
        """
        asked = replace(
            self.facts,
            action="append",
            path=path,
            owner=owner,
            at=self._now(),
            size=more,
            replaced_size=length,
        )
        case = open_case(self._prepared, asked, self._now())
        limit = next(gate_obstacles(self._prepared, case, "limits"), None)
        text = limit.text if limit is not None else f"no more of {path} fits: a limit is reached"
        found = Verdict("limits", lambda: ("no-room", text))
        self.tell(
            action,
            path,
            found,
            owner=owner if action != "upload" else None,
            size=more if action == "append" else length + more,
            note="while it came",
        )
        return LimitReached(text)

    def setting(self, name: str) -> Any:
        """A setting as it reaches the account."""
        return resolve(self._prepared, self._account(), name).value
