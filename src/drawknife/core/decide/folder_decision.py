"""How one right was decided at one folder, told level by level and entry by entry.

This is the slow, literal side of :mod:`folders`: it says of each entry which part it had.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from ..model.items import Entry, Subject
from ..prepared.people import PreparedAccount
from ..prepared.stores import SPEAKS_AT, PreparedStore
from ..words.names import Place, ancestors
from ..words.rights import BIT

#: What can become of an entry.
DECIDES, AGREES, OVERRULED = "decides", "agrees", "overruled"
OTHER_SUBJECT, OTHER_RIGHTS = "other subject", "other rights"
OUT_OF_REACH, BEHIND_SEAL, ENDED = "reach does not come here", "behind a seal", "has ended"


class EntryPart(NamedTuple):
    """One entry and what became of it.

    `by` says what overruled it; `chain` how its subject matched.
    """

    entry: Entry
    fate: str
    by: str | None
    chain: tuple[Subject, ...]


class Level(NamedTuple):
    """One folder of the walk, `up` levels above the one asked about."""

    place: Place
    up: int
    sealed: bool
    recorded: bool
    owner: str | None
    entries: tuple[EntryPart, ...]


@dataclass(frozen=True, slots=True)
class Judgement:
    """How one right was decided at one folder.

    `reason` is ``entry-allows``, ``store-open``, ``forbidden``, ``denied``, ``sealed`` or
    ``no-entry-allows``; `text` says the same as half a sentence, with the remedy where it is
    refused.
    """

    right: str
    place: Place
    own: bool | None
    allowed: bool
    reason: str
    text: str
    levels: tuple[Level, ...]
    decided_at: Place | None
    decided_by: Entry | None


def judge(
    store: PreparedStore, path: str, right: str, account: PreparedAccount, own: bool | None
) -> Judgement:
    """Decide `right` at `path` of `store` level by level.

    `own`: None where the folder is acted on.
    """
    standing = account.standing
    bit = BIT[right]
    every = ((up, at, store.folder(at)) for up, at in enumerate(ancestors(path)))
    # Of what is not recorded, only the folder itself and the root are told: a path can be very
    # deep.
    folders = [x for x in every if x[2] is not None or x[0] == 0 or x[1] == "/"]
    first = folders[0][2]
    owning = (first is not None and first.owner == account.name) if own is None else own

    def pre_fate(entry: Entry, up: int) -> str | None:
        """Why an entry has no part in it; None if it matches and speaks here."""
        matches = entry.subject in standing.ranks or (entry.subject.kind == "owner" and owning)
        if not matches:
            return OTHER_SUBJECT
        if not entry.rights & bit:
            return OTHER_RIGHTS
        return None if entry.reach in SPEAKS_AT[min(up, 2)] else OUT_OF_REACH

    bit_, who = BIT[right], account.who_owning if owning else account.who
    decision, seal = decider(store, path, bit_, who)
    # The decider stops looking where it knows enough; what is behind a seal is told in any case.
    sealed = next(
        ((up, at) for up, at, folder in folders if folder is not None and folder.sealed), None
    )

    levels = []
    for up, at, folder in folders:
        parts = []
        for entry in folder.entries if folder else ():
            fate, by = pre_fate(entry, up), None
            chain: tuple[Subject, ...] = ()
            if fate is None:
                chain = standing.chain(entry.subject) if entry.subject in standing.ranks else ()
                fate, by = _fate(entry, up, decision, sealed)
            parts.append(EntryPart(entry, fate, by, chain))
        levels.append(
            Level(
                Place(store.name, at),
                up,
                folder is not None and folder.sealed,
                folder is not None,
                folder.owner if folder else None,
                tuple(parts),
            )
        )

    found = _conclude(store, path, right, account, decision, seal)
    return Judgement(
        right,
        Place(store.name, path),
        own,
        found.allowed,
        found.reason,
        found.text,
        tuple(levels),
        Place(store.name, decision.at) if decision else None,
        decision.entry if decision else None,
    )


class Decider(NamedTuple):
    """The entry that decides, the folder that carries it, and how many levels up that is."""

    up: int
    at: str
    entry: Entry


class Conclusion(NamedTuple):
    """How a right is decided, without the telling of each entry."""

    allowed: bool
    reason: str
    text: str


def conclude(
    store: PreparedStore, path: str, right: str, account: PreparedAccount, own: bool | None
) -> Conclusion:
    """Decide `right` at `path` and say why, in short: what :func:`judge` says, without
    its levels.
    """
    return _conclude(store, path, right, account, *_decider(store, path, right, account, own))


def deciding_entry(
    store: PreparedStore, path: str, right: str, account: PreparedAccount, own: bool | None
) -> Decider | None:
    """The entry that decides `right` at `path` as :func:`judge` does; None where none does."""
    return _decider(store, path, right, account, own)[0]


def _decider(
    store: PreparedStore, path: str, right: str, account: PreparedAccount, own: bool | None
) -> tuple[Decider | None, tuple[int, str] | None]:
    node, depth = store.nearest(path)
    owning = (
        (depth == 0 and node is not None and node.owner == account.index) if own is None else own
    )
    return decider(store, path, BIT[right], account.who_owning if owning else account.who)


def decider(
    store: PreparedStore, path: str, bit: int, who: frozenset[int]
) -> tuple[Decider | None, tuple[int, str] | None]:
    """What decides: a forbid anywhere, else the nearest level in sight that has something to say.

    Returns it, and the nearest seal (levels up, folder), if there is one.
    """
    node, up = store.nearest(path)
    nearest: Decider | None = None
    seal: tuple[int, str] | None = None
    while node is not None:
        reaches = SPEAKS_AT[min(up, 2)]
        allow: Entry | None = None
        deny: Entry | None = None
        for entry, sid in zip(node.folder.entries, node.sids, strict=True):
            if entry.rights & bit and sid in who and entry.reach in reaches:
                if entry.effect == "forbid":
                    return Decider(up, node.path, entry), seal
                if entry.effect == "deny":
                    deny = deny or entry
                else:
                    allow = allow or entry
        if nearest is None and seal is None:
            speaking = deny or allow
            if speaking is not None:
                nearest = Decider(up, node.path, speaking)
        if seal is None and node.sealed:
            seal = up, node.path
        if not node.forbids_above & bit and (nearest is not None or seal is not None):
            break
        up += node.gap
        node = node.up
    return nearest, seal


def _fate(
    entry: Entry, up: int, decision: Decider | None, seal: tuple[int, str] | None
) -> tuple[str, str | None]:
    """What becomes of an entry that matches and speaks here."""
    if seal is not None and up > seal[0] and entry.effect != "forbid":
        return BEHIND_SEAL, None
    assert decision is not None  # this entry itself would have decided
    at, _, deciding = decision
    if (up, entry) == (at, deciding):
        return DECIDES, None
    if (entry.effect == "allow") is (deciding.effect == "allow"):
        return AGREES, None
    if deciding.effect == "forbid":
        return OVERRULED, "a forbid"
    return OVERRULED, "a deny on its level" if up == at else "a nearer level"


def _conclude(
    store: PreparedStore,
    path: str,
    right: str,
    account: PreparedAccount,
    decision: Decider | None,
    seal: tuple[int, str] | None,
) -> Conclusion:
    here = f"{store.name}:{path}"
    advice = f"`allow account:{account.name} {right}`"
    if decision is not None:
        up, at, entry = decision
        said = f"`{entry}` on {store.name}:{at}{_through(account, entry)}"
        if entry.effect == "allow":
            return Conclusion(True, "entry-allows", f"{said} allows it")
        if entry.effect == "forbid":
            text = f"{said} forbids it, and nothing below can undo that: change or remove it"
            return Conclusion(False, "forbidden", text)
        if up > 0:
            remedy = f"an entry such as {advice} on {here} is nearer and would win"
        else:
            remedy = "change or remove it; an allow on the same folder does not help"
        return Conclusion(False, "denied", f"{said} denies it; {remedy}")
    if seal is not None:
        text = (
            f"{store.name}:{seal[1]} is sealed, so nothing comes down into it, "
            f"and no entry from there on allows it; add {advice} on {here}"
        )
        return Conclusion(False, "sealed", text)
    if store.open:
        return Conclusion(True, "store-open", f"nothing decides it, and store {store.name} is open")
    text = (
        f"no entry there or above allows it, and store {store.name} is closed; add {advice} on"
        f" {here}"
    )
    return Conclusion(False, "no-entry-allows", text)


def _through(account: PreparedAccount, entry: Entry) -> str:
    """How the account comes under the entry, where that is not plain."""
    if entry.subject.kind not in ("group", "unit"):
        return ""
    steps = account.standing.chain(entry.subject)[1:]
    return f" ({account.name} > {' > '.join(map(str, steps))})"
