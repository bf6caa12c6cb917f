"""Ways past the gate `virtual path`: grants, more rights in one, fewer where two lead elsewhere,
memberships, later days.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date

from drawknife.core.decide.gates import Case
from drawknife.core.model.items import VirtualPath
from drawknife.core.model.lines import has_ended
from drawknife.core.prepared.namespace import Location
from drawknife.core.prepared.needs import needed_rights
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.words.names import rest_below
from drawknife.core.words.rights import BIT

from .steps import Way, lasting, new_grant, on_path, subjects_of, with_rights
from .ways_folder import joins, members_again

#: Refusals that say what can be nowhere, whatever the model.
HOPELESS = frozenset({"fixed-point", "between-stores", "into-itself", "destination-exists"})


def ways(prepared: Prepared, case: Case, day: date, later: date) -> Iterator[Way]:
    """Ways past what stands in the way first: at the location, and for a rename at its
    destination.
    """
    rights_here, rights_there = needed_rights(case.question, case.sites)
    for at, rights in ((case.sites.here, rights_here), (case.sites.there, rights_there)):
        if at is None:
            continue
        lacking = [r for r in rights if at.served is None or not at.served.ceiling & BIT[r]]
        if at.served is not None and at.served.ceiling & BIT["enter"] and not lacking:
            continue
        yield from _for(prepared, case, at, rights, day, later)
        return


def _for(
    prepared: Prepared, case: Case, at: Location, rights: tuple[str, ...], day: date, later: date
) -> Iterator[Way]:
    account, standing = case.account, case.account.standing.ranks
    holding = [
        v for v in prepared.model.virtual_paths if rest_below(at.location, v.path) is not None
    ]
    if at.served is not None:
        holding = [v for v in holding if v.path == at.served.path]
    elif at.unserved is not None:
        holding = [v for v in holding if v.path == at.unserved.path]
    for v in sorted(holding, key=lambda v: -len(v.path)):
        for subject in subjects_of(account):
            yield (on_path(v, [new_grant(subject, rights)]),)
        for grant in v.grants:
            if grant.subject in standing:
                if at.unserved is None:
                    yield (on_path(v, [with_rights(grant, rights)], [grant.says()]),)
                else:  # led two ways, or to nothing: one of them goes
                    yield (on_path(v, drop=[grant.says()]),)
            elif grant.subject.kind == "group" and all(
                grant.rights & BIT[r] for r in (*rights, "enter")
            ):
                yield (joins(account, grant.subject),)
        yield from _again(prepared, case, v, day, later)
    yield from members_again(prepared.full, account, day, later)


def _again(
    prepared: Prepared, case: Case, vpath: VirtualPath, day: date, later: date
) -> Iterator[Way]:
    """Grants on a path, or on one of its name, that have ended."""
    for v in prepared.full.model.virtual_paths:
        if (v.path, v.leads_to) == (vpath.path, vpath.leads_to):
            for grant in v.grants:
                if has_ended(grant, day) and grant.subject in case.account.standing.ranks:
                    yield (on_path(v, [lasting(grant, later)]),)
