"""Looks for sets of changes after which a question is answered otherwise, and of which none can be
left out.

What stands in the way is taken gate by gate: for the first obstacle each way past it is tried on a
narrowed model, and what is in the way then is looked at again. What is found is held against the
whole model at the end.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import NamedTuple

from drawknife.changing import apply
from drawknife.core.decide.gates import (
    ALL_GATES,
    Case,
    UnknownName,
    gate_obstacles,
    open_case,
    verdict,
)
from drawknife.core.follows.pairing import members_of
from drawknife.core.model.items import parse_subject
from drawknife.core.prepared.needs import demands
from drawknife.core.prepared.prepared import Prepared, prepare
from drawknife.core.prepared.question import Question, Refusal
from drawknife.core.words.errors import DrawknifeError
from drawknife.core.words.names import BadValue

from . import stopping, ways_endpoint, ways_folder, ways_limits, ways_paths
from .narrowed import narrowed
from .steps import Change, Way

#: Of what is still refused so many are gone on with at each step, and so many steps are taken at a
#: gate.
BROADEST, DEEPEST = 12, 5
#: So many sets are tried at one gate, from all that is past those before it.
TRIED = 220
#: Of the sets that are past one gate so many are gone on with to the next.
KEPT = 16
#: So many sets are told; more than a person reads.
MOST = 40
#: Days that an account or a line is given that has ended.
LATER = timedelta(days=365)

Changes = tuple[Change, ...]


class WaysFound(NamedTuple):
    """Sets of changes, the fewest first; and whether there may be more that were not looked at."""

    found: list[Changes]
    all_looked_at: bool


@dataclass(frozen=True, slots=True)
class _State:
    """Some changes, and the model after them, as of the day that is asked of."""

    changes: Changes
    prepared: Prepared


def mends(prepared: Prepared, question: Question, now: datetime) -> WaysFound:
    """Sets of changes after which a refused question is allowed.

    Empty where it is allowed, or nothing helps.
    """
    return _Search(prepared, question, now, wanted=True).run()


def stops(prepared: Prepared, question: Question, now: datetime) -> WaysFound:
    """Sets of changes after which an allowed question is refused."""
    return _Search(prepared, question, now, wanted=False).run()


class _Search:
    def __init__(self, prepared: Prepared, question: Question, now: datetime, wanted: bool) -> None:
        self.whole = prepared.full
        self.question, self.wanted = question, wanted
        self.at = (question.at or now).astimezone(UTC)
        self.later: date = min(self.at.date(), date(9998, 1, 1)) + LATER
        self.small = narrowed(self.whole.model, question)
        self.limits_apart = self.small.accounts is not self.whole.model.accounts
        self.first = prepare(self.small, self.whole if not self.limits_apart else None)
        self.gates = [g for g in ALL_GATES if g != "disk" or not wanted]
        self.cut = False
        self._known: dict[frozenset[str], _State | None] = {}
        self._left = 0

    def run(self) -> WaysFound:
        """All that was found, the fewest changes first.

        No change of the model is past what a disk refuses: that gate is left out where a question
        is to be allowed.
        """
        now = verdict(self.whole, self.question, self.at)
        if now.allowed is self.wanted or (self.wanted and now.gate == "disk"):
            return WaysFound([], True)
        states = self._past_all_gates() if self.wanted else self._stopped()
        found: list[Changes] = []
        seen: set[frozenset[str]] = set()
        for state in states:
            if not self._holds(state.changes):
                continue  # what is past one gate may be stopped by one before it
            changes = self._least(state.changes)
            key = _key(changes)
            if changes and key not in seen and not any(k < key for k in seen):
                seen.add(key)
                found.append(changes)
        found.sort(key=lambda c: (len(c), sum(self.breadth(x) for x in c)))
        if len(found) > MOST:
            self.cut = True
        return WaysFound(found[:MOST], not self.cut)

    # --- trying ----------------------------------------------------------------------------------

    def _state(self, changes: Changes) -> _State | None:
        """The narrowed model after some changes; None where they cannot be done."""
        key = _key(changes)
        if key not in self._known:
            if self._left <= 0 and changes:
                self.cut = True
                return None
            self._left -= 1
            self._known[key] = None
            try:
                model = apply(self.small, list(changes)).model
            except (DrawknifeError, BadValue):
                return None
            self._known[key] = _State(changes, prepare(model, self.first))
        return self._known[key]

    def _case(self, state: _State) -> tuple[Prepared, Case] | None:
        prepared = state.prepared.on(self.at.date())
        try:
            return prepared, open_case(prepared, self.question, self.at)
        except UnknownName:
            return None

    def _least(self, changes: Changes) -> Changes:
        """What is left of some changes when those are left out that can be, as far as the narrowed
        model tells.
        """
        for change in changes:
            fewer = tuple(c for c in changes if c is not change)
            if fewer and change["kind"] not in _OF_LIMITS and self._holds(fewer):
                # What could not be left out before may be now.
                return self._least(fewer)
        return changes

    def _holds(self, changes: Changes) -> bool:
        """Is the question answered as wanted after the changes, in the narrowed model?"""
        self._left = max(self._left, 1)
        state = self._state(changes)
        opened = self._case(state) if state is not None else None
        gates = [g for g in self.gates if g != "limits" or not self.limits_apart]
        return opened is not None and self.wanted is not any(
            next(gate_obstacles(*opened, g), None) for g in gates
        )

    def breadth(self, change: Change) -> int:
        """About how many accounts a change speaks of."""
        found = 0
        for text in (
            str(x)
            for way in ("add", "drop")
            for lines in (change.get(way) or {}).values()
            for x in lines
        ):
            subjects = [parse_subject(word) for word in _SUBJECT.findall(text)]
            found += members_of(self.whole, subjects).bit_count()
        wide = "set" in change and change["kind"] in ("folder", "endpoint", "store")
        return found + (len(self.whole.people.accounts) if wide else 0)

    # --- past the gates --------------------------------------------------------------------------

    def _past_all_gates(self) -> list[_State]:
        first = self._state(())
        states = [first] if first is not None else []
        for gate in self.gates:
            if gate == "limits" and self.limits_apart:
                break
            found: list[_State] = []
            self._left = TRIED
            for state in states:
                found += self._past(gate, state)
            states = self._cheapest(found, KEPT)
        if self.limits_apart and self.whole.has_limits:
            states = self._past_limits(states)
        return states

    def _cheapest(self, states: Iterable[_State], most: int) -> list[_State]:
        each = {_key(s.changes): s for s in states}
        ordered = sorted(
            each.values(), key=lambda s: (len(s.changes), sum(self.breadth(c) for c in s.changes))
        )
        self.cut = self.cut or len(ordered) > most
        return ordered[:most]

    def _past(self, gate: str, start: _State) -> list[_State]:
        """From one state all that are past a gate, by as few steps as each takes."""
        done: list[_State] = []
        front = [start]
        for step in range(DEEPEST + 1):
            further: list[_State] = []
            for state in front:
                opened = self._case(state)
                if opened is None:
                    continue
                refusal = next(gate_obstacles(*opened, gate), None)
                if refusal is None:
                    done.append(state)
                elif step < DEEPEST:
                    further += self._next(state, *opened, refusal)
                else:
                    self.cut = True
            if not further or len(done) >= KEPT:
                self.cut = self.cut or bool(further)
                break
            front = self._cheapest(further, BROADEST)
        return done

    def _next(
        self, state: _State, prepared: Prepared, case: Case, refusal: Refusal
    ) -> Iterator[_State]:
        """What comes of each way past a refusal, where something else is in the way then, or
        nothing.
        """
        for way in self._ways(prepared, case, refusal):
            changes = state.changes + tuple(c for c in way if c not in state.changes)
            new = self._state(changes) if len(changes) > len(state.changes) else None
            opened = self._case(new) if new is not None else None
            if new is None or opened is None:
                continue
            still = next(gate_obstacles(*opened, refusal.gate), None)
            if still is None or still.text != refusal.text:
                yield new

    def _ways(self, prepared: Prepared, case: Case, refusal: Refusal) -> Iterator[Way]:
        day, gate = self.at.date(), refusal.gate
        if gate in ("door", "sign-in"):
            yield from ways_endpoint.ways_in(prepared, case, refusal.reason, self.later)
        elif gate == "endpoint":
            yield from ways_endpoint.at_entries(prepared, case, self.later)
        elif gate == "virtual path":
            if refusal.reason not in ways_paths.HOPELESS:
                yield from ways_paths.ways(prepared, case, day, self.later)
        elif gate == "folder":
            wanted = demands(prepared, case.account, case.question, case.sites)
            yield from ways_folder.ways(prepared, case.account, wanted, day, self.later)
        else:
            yield from ways_limits.ways(prepared, case, refusal.reason)

    def _past_limits(self, states: list[_State]) -> list[_State]:
        """The gate of the limits, on the whole model: what counts against them is everybody's."""
        found = []
        for state in states:
            changes = state.changes
            for _ in range(DEEPEST):
                try:
                    after = prepare(apply(self.whole.model, list(changes)).model, self.whole).on(
                        self.at.date()
                    )
                except DrawknifeError:
                    break
                case = open_case(after, self.question, self.at)
                refusal = next(gate_obstacles(after, case, "limits"), None)
                if refusal is None:
                    found.append(_State(changes, state.prepared))
                    break
                way = next(ways_limits.ways(after, case, refusal.reason), None)
                if way is None or any(c in changes for c in way):
                    break
                changes += way
        return found

    # --- stopping --------------------------------------------------------------------------------

    def _stopped(self) -> list[_State]:
        """All states in which the question is refused, by as few steps as each takes."""
        done: list[_State] = []
        front = [s for s in [self._state(())] if s is not None]
        self._left = 2 * TRIED
        for _ in range(DEEPEST):
            further: list[_State] = []
            for state in front:
                opened = self._case(state)
                if opened is None:
                    continue
                for way in stopping.ways(*opened):
                    new = self._state(
                        state.changes + tuple(c for c in way if c not in state.changes)
                    )
                    after = (
                        self._case(new)
                        if new is not None and len(new.changes) > len(state.changes)
                        else None
                    )
                    if new is None or after is None:
                        continue
                    refused = any(next(gate_obstacles(*after, gate), None) for gate in ALL_GATES)
                    (done if refused else further).append(new)
            if not further or len(done) >= KEPT:
                break
            front = self._cheapest(further, BROADEST)
        return self._cheapest(done, KEPT)


#: What only the limits gate looks at, which a narrowed model has not.
_OF_LIMITS = frozenset({"quota", "store"})
#: Subjects in a line.
_SUBJECT = re.compile(r"(?:account|group|unit):[^\s,'\"{}]+|\b(?:anyone|signed-in|anonymous)\b")


def _key(changes: Iterable[Change]) -> frozenset[str]:
    return frozenset(json.dumps(c, sort_keys=True) for c in changes)
