"""What has ended and would otherwise have a part in the answer: lines, and memberships
(docs/rules.md, "Until").
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from datetime import date
from itertools import islice, pairwise

from ..model.items import Subject
from ..model.lines import has_ended
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..words.names import ancestors
from .folder_decision import ENDED, EntryPart, Judgement
from .gates import Case

#: So many are told at a gate.
MOST = 5


def with_ended(judgement: Judgement, prepared: Prepared, day: date) -> Judgement:
    """How a right was decided, with the entries at each level that have ended; `prepared` is as of
    the day.
    """
    full = prepared.full
    if full is prepared:
        return judgement
    levels = []
    for level in judgement.levels:
        folder = full.stores[level.place.store].folder(level.place.path)
        ended = [
            EntryPart(e, ENDED, None, ())
            for e in (folder.entries if folder else ())
            if has_ended(e, day)
        ]
        levels.append(level._replace(entries=(*level.entries, *ended)) if ended else level)
    return replace(judgement, levels=tuple(levels))


def ended_notes(prepared: Prepared, case: Case, gate: str) -> list[str]:
    """For a gate that refuses, what has ended that the account had there; `prepared` is as of the
    case's day.
    """
    full, day = prepared.full, case.at.date()
    account = full.account(case.account.name)
    if full is prepared or account is None:
        return []
    found = list(islice(_memberships(full, account, case.account, day), MOST))
    standing = account.standing.ranks
    if gate in ("sign-in", "endpoint") and case.endpoint is not None:
        lines = next(e.entries for e in full.model.endpoints if e.name == case.endpoint.name)
        found += [f"`{x}` has ended" for x in lines if has_ended(x, day) and x.subject in standing]
    if gate == "virtual path":
        above = set(ancestors(case.sites.here.location))
        found += [
            f"the grant `{x}` on {v.path} has ended"
            for v in full.model.virtual_paths
            if v.path in above
            for x in v.grants
            if has_ended(x, day) and x.subject in standing
        ]
    return found[:MOST]


def _memberships(
    full: Prepared, was: PreparedAccount, now: PreparedAccount, day: date
) -> Iterator[str]:
    """Memberships by which the account counted as a group that it does not count as any more."""
    named: set[tuple[Subject, Subject]] = set()
    for subject in was.standing.ranks:
        if subject in now.standing.ranks or subject.kind != "group":
            continue
        for inner, outer in pairwise(was.standing.chain(subject)):
            members = next(
                (g.members for g in full.model.groups if Subject("group", g.name) == outer), ()
            )
            for x in members:
                if x.subject == inner and has_ended(x, day) and (inner, outer) not in named:
                    named.add((inner, outer))
                    yield f"{inner} was in {outer} until {x.until}"
