"""How one right was decided at one folder, told level by level and entry by entry.

This is the slow, literal side of :mod:`folders`: it says of each entry which part it had.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

from .identity import Standing
from .model import Entry, Subject
from .names import Place, ancestors
from .prepared import SPEAKS_AT, PreparedAccount, PreparedStore
from .rights import BIT

#: What can become of an entry.
DECIDES, AGREES, OVERRULED = "decides", "agrees", "overruled"
OTHER_SUBJECT, OTHER_RIGHTS = "other subject", "other rights"
OUT_OF_REACH, BEHIND_SEAL = "reach does not come here", "behind a seal"


class EntryPart(NamedTuple):
    """One entry and what became of it. `by` says what overruled it; `chain` how its subject matched."""

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
    ``no-entry-allows``; `text` says the same as half a sentence, with the remedy where it is refused.
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
    """Decide `right` at `path` of `store` level by level. `own`: None where the folder is acted on."""
    standing = account.standing
    bit = BIT[right]
    folders = [(up, at, store.folder(at)) for up, at in enumerate(ancestors(path))]
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

    # What decides: a forbid anywhere; else the nearest level in sight that has something to say.
    forbid: tuple[int, Entry] | None = None
    nearest: tuple[int, Entry] | None = None
    seal: int | None = None
    for up, _, folder in folders:
        speaking = [e for e in folder.entries if pre_fate(e, up) is None] if folder else []
        forbid = forbid or next(((up, e) for e in speaking if e.effect == "forbid"), None)
        if nearest is None and seal is None:
            denies = [e for e in speaking if e.effect == "deny"]
            allows = [e for e in speaking if e.effect == "allow"]
            if denies or allows:
                nearest = (up, (denies or allows)[0])
        if seal is None and folder is not None and folder.sealed:
            seal = up
    decision = forbid or nearest

    levels = []
    for up, at, folder in folders:
        parts = []
        for entry in folder.entries if folder else ():
            fate, by = pre_fate(entry, up), None
            chain: tuple[Subject, ...] = ()
            if fate is None:
                chain = standing.chain(entry.subject) if entry.subject in standing.ranks else ()
                fate, by = _fate(entry, up, decision, seal)
            parts.append(EntryPart(entry, fate, by, chain))
        levels.append(
            Level(
                Place(store.name, at), up, folder is not None and folder.sealed, folder is not None,
                folder.owner if folder else None, tuple(parts),
            )
        )  # fmt: skip

    decided_at = Place(store.name, folders[decision[0]][1]) if decision else None
    seal_at = folders[seal][1] if seal is not None else None
    allowed, reason, text = _conclude(store, path, right, account, standing, decision, decided_at, seal_at)
    return Judgement(
        right, Place(store.name, path), own, allowed, reason, text, tuple(levels), decided_at,
        decision[1] if decision else None,
    )  # fmt: skip


def _fate(
    entry: Entry, up: int, decision: tuple[int, Entry] | None, seal: int | None
) -> tuple[str, str | None]:
    """What becomes of an entry that matches and speaks here."""
    if seal is not None and up > seal and entry.effect != "forbid":
        return BEHIND_SEAL, None
    assert decision is not None  # this entry itself would have decided
    at, decider = decision
    if (up, entry) == (at, decider):
        return DECIDES, None
    if (entry.effect == "allow") is (decider.effect == "allow"):
        return AGREES, None
    if decider.effect == "forbid":
        return OVERRULED, "a forbid"
    return OVERRULED, "a deny on its level" if up == at else "a nearer level"


def _conclude(
    store: PreparedStore,
    path: str,
    right: str,
    account: PreparedAccount,
    standing: Standing,
    decision: tuple[int, Entry] | None,
    decided_at: Place | None,
    seal_at: str | None,
) -> tuple[bool, str, str]:
    advice = f"`allow account:{account.name} {right}`"
    if decision is not None:
        entry = decision[1]
        said = f"`{entry}` on {decided_at}{_through(standing, entry)}"
        if entry.effect == "allow":
            return True, "entry-allows", f"{said} allows it"
        if entry.effect == "forbid":
            return (
                False,
                "forbidden",
                f"{said} forbids it, and nothing below can undo that: change or remove it",
            )
        if decision[0] > 0:
            remedy = f"an entry such as {advice} on {store.name}:{path} is nearer and would win"
        else:
            remedy = "change or remove it; an allow on the same folder does not help"
        return False, "denied", f"{said} denies it; {remedy}"
    if seal_at is not None:
        return (
            False,
            "sealed",
            f"{store.name}:{seal_at} is sealed, so nothing comes down into it, and no entry from there on allows it; "
            f"add {advice} on {store.name}:{path}",
        )
    if store.open:
        return True, "store-open", f"nothing decides it, and store {store.name} is open"
    return (
        False,
        "no-entry-allows",
        f"no entry there or above allows it, and store {store.name} is closed; add {advice} on {store.name}:{path}",
    )


def _through(standing: Standing, entry: Entry) -> str:
    """How the account comes under the entry, where that is not plain."""
    if entry.subject not in standing.ranks or entry.subject.kind not in ("group", "unit"):
        return ""
    steps = standing.chain(entry.subject)[1:]
    return f" ({standing.account.name} > {' > '.join(map(str, steps))})"
