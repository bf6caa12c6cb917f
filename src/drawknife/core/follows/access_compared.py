"""Which accounts and which folders have to be compared, so that nothing is missed, and little
looked at in vain.

What an account can do where comes from what it counts as, from its virtual paths, and from the
folders. Where only its standing is another, only folders at and below such that name what it counts
as now or did before can differ; where only folders differ, only they and what lies below them.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from ..model.items import Subject, VirtualPath
from ..model.soundness import new_items
from ..prepared.people import bits_of
from ..prepared.prepared import Prepared
from ..words.names import fold, tree_key
from ..words.sizes import number_of
from .access_changes import PartCompared, Side, access_changes
from .access_differences import AccessChange
from .branches_compared import changes_in_branches
from .pairing import Pairing
from .sign_in_changes import SigningIn

#: Folders by store.
Branches = dict[str, set[str]]
#: Where more folders differ, the whole map is compared.
FEW_FOLDERS = 2000
#: Accounts times folders: what comes or goes as a whole, with an account or with signing in, is
#: told place by place up to so many.
WITH_ACCOUNTS, WITH_SIGNING_IN = 1_000_000, 50_000


def compare_access(
    pairing: Pairing, affected: set[int], with_paths: set[int], signing: SigningIn
) -> tuple[list[AccessChange], list[str]]:
    """Everything that somebody gains or loses, without and through endpoints; and what is not told
    place by place.

    `affected` are positions of the accounts whose own lines or standing may differ, `with_paths` of
    those that have a virtual path which differs.
    """
    out: list[AccessChange] = []
    left_out: list[str] = []
    everybody = range(len(pairing.common))
    branches = _changed_branches(pairing)
    if branches is None:
        out += _whole(pairing, list(everybody))
    else:
        elsewhere, standing, paths = _divided(pairing, affected | with_paths)
        if paths:
            under = frozenset().union(*paths.values())
            naming = _naming(pairing, {i: standing[i] for i in paths.keys() & standing.keys()})
            out += access_changes(
                *_sides(pairing, sorted(paths)),
                _names(pairing, sorted(paths)),
                under=PartCompared(under, _below(pairing, _joined(branches, naming))),
            )
        out += _whole(pairing, sorted(elsewhere - paths.keys()))
        for i in elsewhere:
            standing.pop(i, None)
        some = _joined(branches, _naming(pairing, standing))
        out += _in_branches(pairing, sorted(standing), some)
        looked_at = elsewhere | standing.keys()
        out += _in_branches(pairing, [i for i in everybody if i not in looked_at], branches)
    for accounts, prepared, come in (
        (pairing.gone, pairing.before, False),
        (pairing.come, pairing.after, True),
    ):
        if _too_many(prepared, accounts, WITH_ACCOUNTS):
            word = (
                f"new {_accounts(accounts)} can do"
                if come
                else f"{_accounts(accounts)} that went could do"
            )
            left_out.append(f"what {word} is not listed place by place")
        else:
            out += _alone(pairing, prepared, accounts, come)
    for was, now in pairing.endpoints:
        out += _through(pairing, signing, was, now, left_out)
    return out, left_out


def _too_many(prepared: Prepared, accounts: Sequence[int], most: int) -> bool:
    return len(accounts) * sum(len(s.folders) for s in prepared.model.stores) > most


def _accounts(accounts: Sequence[int]) -> str:
    return number_of(len(accounts), "account")


def _alone(
    pairing: Pairing, prepared: Prepared, accounts: list[int], come: bool
) -> list[AccessChange]:
    """All that accounts of one model only have, as gained or as lost."""
    if not accounts:
        return []
    side = Side(prepared, accounts)
    names = [prepared.model.accounts[i].name for i in accounts]
    return access_changes(None if come else side, side if come else None, names, pairing.renames)


def _whole(pairing: Pairing, positions: list[int]) -> list[AccessChange]:
    if not positions:
        return []
    return access_changes(*_sides(pairing, positions), _names(pairing, positions), pairing.renames)


def _in_branches(pairing: Pairing, positions: list[int], branches: Branches) -> list[AccessChange]:
    """Accounts that are led to the same folders in both, compared in some folders and
    below them.
    """
    wanted = _below(pairing, branches)
    if not positions or not wanted:
        return []
    if pairing.aligned and len(positions) > len(pairing.common) // 2:
        every = len(positions) == len(pairing.common)
        kept = None if every else bits_of(positions, len(pairing.common))
        sides = Side(pairing.before, None), Side(pairing.after, None)
        return changes_in_branches(
            *sides, [a.name for a in pairing.after.model.accounts], wanted, kept
        )
    return changes_in_branches(*_sides(pairing, positions), _names(pairing, positions), wanted)


def _below(pairing: Pairing, branches: Branches) -> dict[str, list[str]]:
    return {
        name: sorted(_with_below(pairing, name, tops), key=tree_key)
        for name, tops in branches.items()
        if tops
    }


def _with_below(pairing: Pairing, store: str, tops: set[str]) -> set[str]:
    """Folders and what is recorded below them in either model."""
    paths = set(tops)
    for prepared in (pairing.before, pairing.after):
        ready = prepared.stores.get(store)
        if ready is not None:
            for path in tops:
                paths.update(f.path for f in ready.recorded_below(path))
    return paths


def _sides(pairing: Pairing, positions: list[int]) -> tuple[Side, Side]:
    pairs = [pairing.common[i] for i in positions]
    return Side(pairing.before, [was for was, _ in pairs]), Side(
        pairing.after, [now for _, now in pairs]
    )


def _names(pairing: Pairing, positions: list[int]) -> list[str]:
    return [pairing.after.model.accounts[pairing.common[i][1]].name for i in positions]


# --- what differs -------------------------------------------------------------------------------


def _divided(
    pairing: Pairing, positions: Iterable[int]
) -> tuple[set[int], dict[int, frozenset[Subject]], dict[int, frozenset[str]]]:
    """Who is led elsewhere, or let do other things there; what each counts as in one model only;
    and, where nothing is
    renamed, the virtual paths at which somebody is led elsewhere.
    """
    elsewhere: set[int] = set()
    standing: dict[int, frozenset[Subject]] = {}
    paths: dict[int, frozenset[str]] = {}
    for i in positions:
        was, now = pairing.common[i]
        one, other = pairing.before.people.prepared(was), pairing.after.people.prepared(now)
        old, new = pairing.before.namespace(one), pairing.after.namespace(other)
        was_led = {
            path: (pairing.renames.place(s.place), s.ceiling) for path, s in old.served.items()
        }
        now_led = {path: (s.place, s.ceiling) for path, s in new.served.items()}
        if differ := one.standing.ranks.keys() ^ other.standing.ranks.keys():
            standing[i] = frozenset(differ)
        if was_led != now_led or old.unserved.keys() != new.unserved.keys() or pairing.renames:
            elsewhere.add(i)
            if not pairing.renames:
                changed = {path for path, _ in was_led.items() ^ now_led.items()}
                paths[i] = frozenset(changed | (old.unserved.keys() ^ new.unserved.keys()))
    return elsewhere, standing, paths


def _naming(pairing: Pairing, standing: dict[int, frozenset[Subject]]) -> Branches:
    """The folders of either model whose entries name what somebody counts as in one model only."""
    differ = frozenset().union(*standing.values()) if standing else frozenset()
    found: Branches = {}
    for prepared in (pairing.before, pairing.after) if differ else ():
        sids = {prepared.people.number(s) for s in differ} - {-1}
        for name, store in prepared.stores.items():
            tops = {path for path, node in store.marked.items() if not sids.isdisjoint(node.sids)}
            found.setdefault(name, set()).update(tops)
    return found


def _joined(a: Branches, b: Branches) -> Branches:
    return {name: a.get(name, set()) | b.get(name, set()) for name in {*a, *b}}


def _changed_branches(pairing: Pairing) -> Branches | None:
    """The folders that differ, by store; None: look everywhere."""
    a, b = pairing.before.model, pairing.after.model
    if pairing.renames.moves:
        return None
    found: Branches = {}
    stores = {s.name: s for s in a.stores}
    for store in b.stores:
        was = stores.pop(store.name, None)
        if was is store or was is None:
            continue  # nobody is led to a store that is new, but by a new virtual path or home
        if was.baseline != store.baseline:
            return None
        if was.folders is store.folders:
            continue
        gone = {f.path: f for _, f in new_items(store.folders, was.folders)}
        come = {f.path: f for _, f in new_items(was.folders, store.folders)}
        found[store.name] = {p for p in {*gone, *come} if gone.get(p) != come.get(p)}
    return found if sum(map(len, found.values())) <= FEW_FOLDERS else None


def with_changed_paths(pairing: Pairing) -> set[int]:
    """Positions of the accounts that have a virtual path which is not the same in both models."""
    a, b = pairing.before.model.virtual_paths, pairing.after.model.virtual_paths
    if a is b or a == b:
        return set()
    old, new = _by_what_they_are(a), _by_what_they_are(b)
    was: set[object] = set()
    now: set[object] = set()
    for key in old.keys() | new.keys():
        before, after = old.get(key, set()), new.get(key, set())
        # Whom no grant names that is in one of them only, has the same grants in both.
        was.update(subject for subject, _ in before - after)
        now.update(subject for subject, _ in after - before)
    return pairing.positions(was, now)


#: What a grant gives, and to whom.
Given = tuple[Subject, int]


def _by_what_they_are(vpaths: Sequence[VirtualPath]) -> dict[tuple[str, str, str], set[Given]]:
    """The grants of each virtual path, by what else it is."""
    found: dict[tuple[str, str, str], set[Given]] = {}
    for v in vpaths:
        found.setdefault((v.path, v.leads_to, v.listing), set()).update(
            (g.subject, g.rights) for g in v.grants
        )
    return found


# --- through endpoints --------------------------------------------------------------------------


def _through(
    pairing: Pairing, signing: SigningIn, was: str | None, now: str | None, left_out: list[str]
) -> list[AccessChange]:
    """What changes through one endpoint, for the accounts that are let have other rights there."""
    before, after = pairing.before, pairing.after
    one = before.endpoints[fold(was)] if was is not None else None
    other = after.endpoints[fold(now)] if now is not None else None
    called = now or was or ""
    both: list[int] = []
    lost: list[int] = []  # positions of those who are let have something in one of the models only
    gained: list[int] = []
    for i in signing.candidates(was, now):
        old, new = pairing.common[i]
        had, has = signing.rights(before, old, one), signing.rights(after, new, other)
        if had != has:
            (both if had and has else gained if has else lost).append(i)
    out: list[AccessChange] = []
    if both:
        sides = _sides(pairing, both)
        here, there = sides[0]._replace(through=one), sides[1]._replace(through=other)
        out += access_changes(here, there, _names(pairing, both), pairing.renames, called)
    gone = [i for i in pairing.gone if signing.rights(before, i, one)]
    come = [i for i in pairing.come if signing.rights(after, i, other)]
    for ours, alone, side, word in ((lost, gone, 0, "lose"), (gained, come, 1, "gain")):
        prepared = (before, after)[side]
        accounts = [*(pairing.common[i][side] for i in ours), *alone]
        if _too_many(prepared, accounts, WITH_SIGNING_IN):
            left_out.append(
                f"all that {_accounts(accounts)} {word} through {called} is not listed place by"
                " place"
            )
            continue
        if ours:
            here, there = _sides(pairing, ours)
            here = here._replace(through=one, shut=side == 1)
            there = there._replace(through=other, shut=side == 0)
            out += access_changes(here, there, _names(pairing, ours), pairing.renames, called)
        if alone:
            names = [prepared.model.accounts[i].name for i in alone]
            seen = Side(prepared, alone, (one, other)[side])
            was_, now_ = (None, seen) if side else (seen, None)
            out += access_changes(was_, now_, names, pairing.renames, called)
    return out
