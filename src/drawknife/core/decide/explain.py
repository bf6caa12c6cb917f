"""Why: every gate evaluated, and every obstacle that is ahead, seen at once."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import NamedTuple

from ..prepared.namespace import Location, Served, expand
from ..prepared.needs import Demand, demands
from ..prepared.prepared import Prepared
from ..prepared.question import Question, Refusal, Verdict
from ..words.names import BadValue, Place, ancestors, join, rest_below
from ..words.rights import ALL
from .disk_gate import disk_notes, taken_on
from .ended import ended_notes, with_ended
from .folder_decision import Judgement, judge
from .folders import on_the_way
from .gates import ALL_GATES, MOST_ON_THE_WAY, Case, gate_obstacles, open_case, verdict_of


class Passing(NamedTuple):
    """One folder on the way, and whether the account may enter it; `alike` more below it are the
    same.
    """

    place: Place
    allowed: bool
    alike: int = 0


class Check(NamedTuple):
    """What the folder gate looked at for one right."""

    passing: tuple[Passing, ...]
    judgement: Judgement
    blocked: tuple[Judgement, ...]


class GateReport(NamedTuple):
    """One gate.

    `asked`: was it asked; `obstacles`: all that it refuses; `notes`: what was not known.
    """

    gate: str
    asked: bool
    obstacles: tuple[Refusal, ...]
    notes: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Explanation:
    """The verdict with every gate, every obstacle, and every entry's part."""

    case: Case
    verdict: Verdict
    gates: tuple[GateReport, ...]
    checks: tuple[Check, ...]

    @property
    def obstacles(self) -> tuple[Refusal, ...]:
        """All that stands in the way, in the order of the gates."""
        return tuple(r for g in self.gates for r in g.obstacles)


def explain(prepared: Prepared, question: Question, now: datetime) -> Explanation:
    """Explain the verdict on a question. Raises as :func:`drawknife.core.decide.gates.verdict`."""
    prepared = prepared.on((question.at or now).date())
    case = open_case(prepared, question, now)
    gates = tuple(
        _report(prepared, case, gate)
        for gate in ALL_GATES
        if gate != "disk" or _disk_is_known(prepared, case)
    )
    first = next((r for g in gates for r in g.obstacles), None)
    verdict = verdict_of(case, first)
    checks: tuple[Check, ...] = ()
    if question.action != "sign-in":
        sites = supposed(prepared, case).sites
        checks = tuple(
            _check(prepared, case, d) for d in demands(prepared, case.account, question, sites)
        )
    return Explanation(case, verdict, gates, checks)


def supposed(prepared: Prepared, case: Case) -> Case:
    """The case as it would be if the virtual path that holds its location were served to the
    account.

    So the folder gate can be told of, too: who gets the path served should not meet it only then.
    Unchanged where the location resolves, or where nobody's virtual path holds it.
    """
    here = case.sites.here
    if here.served is not None or here.synthetic:
        return case
    for at in ancestors(here.location):
        for candidate in prepared.virtual_paths.by_path.get(at, ()):
            try:
                top = expand(candidate.vpath, case.account.account)
            except BadValue:
                continue
            served = Served(at, top, ALL, candidate.vpath.listing, ())
            place = Place(top.store, join(top.path, rest_below(here.location, at) or ""))
            sites = case.sites._replace(
                here=Location(here.location, served, place, False, here.unserved)
            )
            return case._replace(sites=sites)
    return case


def _report(prepared: Prepared, case: Case, gate: str) -> GateReport:
    question = case.question
    asked = _is_asked(case, gate)
    notes: list[str] = []
    at = case
    if gate in ("folder", "disk", "limits") and asked:
        at = supposed(prepared, case)
        served = at.sites.here.served
        if at is not case and served is not None:
            notes.append(
                f"as it would be if {served.path} led {case.account.name} to {served.place}"
            )
    obstacles = tuple(gate_obstacles(prepared, at, gate)) if asked else ()
    if gate == "disk" and asked:
        notes += _of_disk(prepared, at)
    if obstacles:
        notes += ended_notes(prepared, case, gate)
    facts = (
        {"door": ("address",), "sign-in": ("address", "TLS", "method")}.get(gate, ())
        if asked
        else ()
    )
    given = {"address": question.client, "TLS": question.tls, "method": question.method}
    missing = [fact for fact in facts if given[fact] is None]
    if missing:
        notes.append(f"not given, so not asked: {', '.join(missing)}")
    if (
        gate == "sign-in"
        and asked
        and question.credentials is None
        and case.account.account.kind != "anonymous"
    ):
        notes.append(
            "its methods are taken as written: whether it has the credentials is not known here"
        )
    if (
        gate in ("folder", "disk", "limits")
        and asked
        and not demands(prepared, case.account, question, at.sites)
    ):
        here = case.sites.here
        notes.append(
            "nothing to ask"
            if here.synthetic
            else "cannot be evaluated: the location is in no folder"
        )
    return GateReport(gate, asked, obstacles, tuple(notes))


def _disk_is_known(prepared: Prepared, case: Case) -> bool:
    """Was the disk of the store read that the question is about?

    Else nothing is told of that gate.
    """
    place = supposed(prepared, case).sites.here.place if prepared.disks else None
    return place is not None and place.store in prepared.disks


def _of_disk(prepared: Prepared, case: Case) -> list[str]:
    """What is not known of the disk, and what is not so for each file."""
    place = case.sites.here.place
    if place is None:
        return []
    if taken_on(prepared, case.account, place.store) is None:
        return [
            f"nothing to ask: whom a server takes on for {case.account.name} is not set (acts_as)"
        ]
    return disk_notes(prepared, case.account, case.question, case.sites)


def _is_asked(case: Case, gate: str) -> bool:
    action = case.question.action
    if gate in ("door", "sign-in"):
        return case.endpoint is not None
    if gate == "endpoint":
        return case.endpoint is not None and action != "sign-in"
    if gate == "limits":
        return action in ("upload", "overwrite", "append", "rename")
    return action != "sign-in"


def _check(prepared: Prepared, case: Case, demand: Demand) -> Check:
    store = prepared.stores[demand.folder.store]
    account = case.account
    passing: tuple[Passing, ...] = ()
    own_last = demand.own if demand.right in ("enter", "list") else None
    if demand.through is not None:
        passing = tuple(
            Passing(Place(store.name, way.path), way.enters, way.alike)
            for way in on_the_way(store, demand.top, demand.through, account, own_last)
        )
    blocked = tuple(
        judge(store, p.place.path, "enter", account, None)
        for p in [p for p in passing if not p.allowed][:MOST_ON_THE_WAY]
        if not (demand.right == "enter" and p.place == demand.folder)
    )
    judgement = with_ended(
        judge(store, demand.folder.path, demand.right, account, demand.own),
        prepared,
        case.at.date(),
    )
    return Check(passing, judgement, blocked)
