"""Trial files: who does what, step by step, and whether it is to be let (docs/reference/trials.md)."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any, NamedTuple

import yaml

from drawknife.core.prepared.question import ACTIONS, GATES
from drawknife.core.words.errors import nearest
from drawknife.core.words.names import BadValue, check_name, check_path
from drawknife.core.words.quantities import read_size
from drawknife.formats.document import BadDocument, Mistake, Places, read_document
from drawknife.formats.questions import read_question

HEAD = "drawknife-trials"
#: The facts that all steps of a trial share, by their keys there and in a question.
FACTS = {"at": "endpoint", "from": "from", "tls": "tls", "method": "method", "when": "at"}
_STEP = re.compile(
    r"(?P<action>\S+)(?: (?P<path>/.*?))?(?: to (?P<to>/.*?))?(?: of (?P<owner>\S+))?(?: (?P<size>\d+(?:\.\d+)? ?[KMGTP]?i?B))?"
)


class Step(NamedTuple):
    """One thing that is done: how it is written, the question, and what is expected; `gate`: by which it is refused."""

    says: str
    question: dict[str, Any]
    allowed: bool
    gate: str | None = None


class Trial(NamedTuple):
    """Steps of one account, one after the other."""

    name: str
    account: str
    steps: tuple[Step, ...]


class _Reading:
    def __init__(self, text: str) -> None:
        self._places = Places(text)
        self.mistakes: list[Mistake] = []

    def wrong(self, where: tuple[str | int, ...], message: str, expected: str, near: str | None = None) -> None:
        line = self._places.line(where) if where else 1
        self.mistakes.append(Mistake(where, line, "", message, expected, near))

    def trial(self, number: int, data: Any) -> Trial | None:
        at: tuple[str | int, ...] = ("trials", number)
        if not isinstance(data, dict):
            self.wrong(at, "a trial is a mapping", "name, as, and steps")
            return None
        for key in data:
            if key not in ("name", "as", "steps", *FACTS):
                known = ("name", "as", "steps", *FACTS)
                self.wrong((*at, key), f"unknown key {key!r}", "one of " + ", ".join(known), nearest(key, known))
        named = data.get("as")
        try:
            account = check_name(named if isinstance(named, str) else "")
        except BadValue as bad:
            self.wrong((*at, "as"), str(bad), "the account that does it")
            return None
        facts = {asked: data[key] for key, asked in FACTS.items() if data.get(key) is not None}
        steps = data.get("steps")
        if not isinstance(steps, list) or not steps:
            self.wrong((*at, "steps"), "there is nothing to do", "a list such as `upload /inbox/a.xyz: yes`")
            return None
        read = [self._step((*at, "steps", i), step, {"account": account, **facts}) for i, step in enumerate(steps)]
        return Trial(str(data.get("name") or f"trial {number + 1}"), account, tuple(s for s in read if s is not None))

    def _step(self, at: tuple[str | int, ...], data: Any, facts: dict[str, Any]) -> Step | None:
        if not isinstance(data, dict) or len(data) != 1:
            self.wrong(at, "a step is one line", "such as `upload /inbox/a.xyz: yes`")
            return None
        ((says, expected),) = data.items()
        found = _STEP.fullmatch(says)
        if found is None or found["action"] not in ACTIONS:
            word = says.split(" ")[0]
            self.wrong(
                at, f"{says!r} is no step", "ACTION LOCATION [to LOCATION] [of OWNER] [SIZE]", nearest(word, ACTIONS)
            )
            return None
        wanted = _expected(expected)
        if wanted is None:
            self.wrong(at, f"{expected!r} is no expectation", "yes, no, or `no, by` one of " + ", ".join(GATES))
            return None
        question = {**facts, "action": found["action"]}
        try:
            if found["path"]:
                question["path"] = check_path(found["path"])
            if found["to"]:
                question["to"] = check_path(found["to"])
            if found["size"]:
                question["size"] = read_size(found["size"])
            if found["owner"]:
                question["owner"] = found["owner"]
            read_question(question)
        except BadValue as bad:
            self.wrong(at, str(bad), bad.expected)
            return None
        except Exception as bad:
            places = getattr(bad, "places", None)
            if not places:
                raise
            self.wrong(at, str(bad), places[0].expected)
            return None
        return Step(says, question, *wanted)


def _expected(value: Any) -> tuple[bool, str | None] | None:
    if value is True or value == "yes":
        return True, None
    if value is False or value == "no":
        return False, None
    by = value.removeprefix("no, by ") if isinstance(value, str) else ""
    return (False, by) if by in GATES and by != value else None


def read_trials(raw: bytes) -> list[Trial]:
    """The trials of a file. :class:`BadDocument` with every mistake and its place."""
    data, text = read_document(raw)
    reading = _Reading(text)
    if not isinstance(data, dict) or data.get(HEAD) != 1:
        reading.wrong((), "this is no file of trials", f"`{HEAD}: 1`, the version of the format")
        raise BadDocument(reading.mistakes)
    trials = data.get("trials")
    if not isinstance(trials, list):
        reading.wrong(("trials",), "there are no trials", "a list of trials")
        raise BadDocument(reading.mistakes)
    found = [reading.trial(i, trial) for i, trial in enumerate(trials)]
    if reading.mistakes:
        raise BadDocument(reading.mistakes)
    return [t for t in found if t is not None]


def write_trials(trials: Iterable[Trial]) -> str:
    """Trials as a file."""
    written = []
    for t in trials:
        facts = {
            key: t.steps[0].question[asked] for key, asked in FACTS.items() if t.steps and asked in t.steps[0].question
        }
        steps = [{s.says: "yes" if s.allowed else f"no, by {s.gate}" if s.gate else "no"} for s in t.steps]
        written.append({"name": t.name, "as": t.account, **facts, "steps": steps})
    made: str = yaml.safe_dump({HEAD: 1, "trials": written}, sort_keys=False, allow_unicode=True, width=120)
    return made.replace(": 'yes'\n", ": yes\n").replace(": 'no'\n", ": no\n")
