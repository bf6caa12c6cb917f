"""Ways to stop what is allowed: a deny or less of what allows it, a grant that goes, a group that
is left, a door that shuts.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import pairwise

from drawknife.core.decide.folder_decision import decider
from drawknife.core.decide.gates import Case
from drawknife.core.model.items import Subject
from drawknife.core.prepared.needs import demands
from drawknife.core.prepared.people import PreparedAccount
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.words.names import Place, ancestors, rest_below
from drawknife.core.words.rights import BIT

from .steps import Way, at_endpoint, at_folder, in_group, on_path, set_to, without_rights


def ways(prepared: Prepared, case: Case) -> Iterator[Way]:
    """Each thing that could be taken away, or refused."""
    account = case.account
    if case.question.action == "sign-in":
        yield from _out(prepared, case)
        return
    used: set[Subject] = set()
    yield from _at_folders(prepared, case, used)
    yield from _on_paths(prepared, case, used)
    if case.sites.here.synthetic:
        yield _paths_below(prepared, case, used)
    yield from _leaving(prepared, account, used)
    if case.endpoint is not None:
        refused = f"deny account:{account.name} {case.question.action}"
        yield (at_endpoint(case.endpoint.name, [refused]),)
        yield from _out(prepared, case)


def _at_folders(prepared: Prepared, case: Case, used: set[Subject]) -> Iterator[Way]:
    """A deny, or less of the entry that allows each right; `used` receives its subject."""
    account = case.account
    for right, place, own, _, _ in demands(prepared, account, case.question, case.sites):
        store = prepared.stores[place.store]
        if own is None:
            node, depth = store.nearest(place.path)
            own = depth == 0 and node is not None and node.owner == account.index
        who = account.who_owning if own else account.who
        decision, _ = decider(store, place.path, BIT[right], who)
        yield (at_folder(place, [f"deny account:{account.name} {right} here"]),)
        recorded = next((at for at in ancestors(place.path) if store.folder(at) is not None), None)
        if recorded is not None:
            denied = f"deny account:{account.name} {right}"
            yield (at_folder(Place(place.store, recorded), [denied]),)
        if decision is not None and decision.entry.effect == "allow":
            at, entry = Place(place.store, decision.at), decision.entry
            used.add(entry.subject)
            yield (at_folder(at, drop=[entry.says()]),)
            narrower = without_rights(entry, right)
            if narrower is not None:
                yield (at_folder(at, [narrower], [entry.says()]),)
        if store.store.baseline != "closed":
            yield (set_to("store", store.name, baseline="closed"),)


def _on_paths(prepared: Prepared, case: Case, used: set[Subject]) -> Iterator[Way]:
    """Less of the grants of the virtual paths that lead here; `used` receives their subjects."""
    served = case.sites.here.served
    for path in served.sources if served is not None else ():
        for grant in path.grants:
            if prepared.people.number(grant.subject) not in case.account.who:
                continue
            used.add(grant.subject)
            yield (on_path(path, drop=[grant.says()]),)
            narrower = without_rights(grant, case.question.action)
            if narrower is not None:
                yield (on_path(path, [narrower], [grant.says()]),)


def _paths_below(prepared: Prepared, case: Case, used: set[Subject]) -> Way:
    """The grants of all virtual paths below a location that is there only for these."""
    changes = []
    for path in prepared.model.virtual_paths:
        if rest_below(path.path, case.sites.here.location) is None:
            continue
        held = [g for g in path.grants if prepared.people.number(g.subject) in case.account.who]
        used.update(g.subject for g in held)
        if held:
            changes.append(on_path(path, drop=[g.says() for g in held]))
    return tuple(changes)


def _leaving(prepared: Prepared, account: PreparedAccount, used: set[Subject]) -> Iterator[Way]:
    """The account taken out of the groups that bring it what allows it: out of the one that it is a
    member of.
    """
    seen: set[str] = set()
    for subject in sorted(used):
        if subject.kind != "group" or subject not in account.standing.ranks:
            continue
        for inner, outer in pairwise(account.standing.chain(subject)):
            change = in_group(outer.name, drop=[str(inner)])
            if outer.kind == "group" and str(change) not in seen:
                seen.add(str(change))
                yield (change,)


def _out(prepared: Prepared, case: Case) -> Iterator[Way]:
    """Not let in any more: here, or anywhere."""
    account, endpoint = case.account, case.endpoint
    if endpoint is None:
        return
    yield (at_endpoint(endpoint.name, [f"account:{account.name}"], field="never"),)
    yield (set_to("account", account.name, enabled=False),)
    if endpoint.only is not None:
        named = [str(s) for s in endpoint.only if prepared.people.number(s) in account.who]
        yield (at_endpoint(endpoint.name, drop=named, field="only"),)
