"""What follows from a change, in a line or two: who gained or lost what, or that nobody did."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from drawknife.core.follows.access_differences import AccessChange
from drawknife.core.follows.consequences import Consequences, SettingChange
from drawknife.core.follows.disk_changes import OnDisk, not_compared, of_disks
from drawknife.core.follows.some_names import each_once
from drawknife.core.follows.trials_turned import KIND as TURNED
from drawknife.core.follows.trials_turned import NEW
from drawknife.core.words.sizes import number_of, several

MOST_LINES = 6


def summary(f: Consequences, nobody: str = "nobody") -> list[str]:
    """Sentences for people; where nothing is different for anybody, that is said, and what became
    of findings.

    What is not the same for all that a sentence names is told as "some of". `nobody` is whom
    nothing concerns then: of a part of a model only those are told of who are in it.
    """
    said: list[str] = []
    if f.come:
        said.append(f"new: {several(f.come)}")
    if f.gone:
        said.append(f"gone: {several(f.gone)}")
    for may, word in ((False, "can no longer sign in"), (True, "can now sign in")):
        some = [s for s in f.sign_in if s.may is may]
        if some:
            said.append(
                f"{_who(some)} {word} at"
                f" {_some_of(_unlike(_whom(some)), (s.endpoint for s in some))}"
            )
    said += _access([a for a in f.access if a.endpoint is None])
    signing = {(account, s.endpoint) for s in f.sign_in for account in s.accounts}
    # Who comes in no more has nothing there: that is said already.
    said += _access(
        [
            a
            for a in f.access
            if a.endpoint is not None
            and any((name, a.endpoint) not in signing for name in a.accounts)
        ]
    )
    for x in f.leads[:2]:
        said.append(f"for {several(x.accounts)}: {x.location} leads to {x.after or 'nothing'}")
    if len(f.leads) > 2:
        said.append(f"{number_of(len(f.leads) - 2, 'more change')} of where virtual paths lead")
    said += _settings(f.settings)
    if f.room:
        differ = len({r.accounts for r in f.room}) > 1
        said.append(
            f"{_who(f.room, 'has', 'have')} other room at"
            f" {_some_of(differ, (r.location for r in f.room))}"
        )
    said += _on_disk(f.on_disk, nobody)
    said += f.for_everybody[:2]
    if len(f.for_everybody) > 2:
        said.append(f"and {len(f.for_everybody) - 2} more that hold for everybody")
    if f.for_nobody:
        said.append(f"{nobody} gains or loses anything")
    new = [x.about for x in f.new_findings if x.kind == NEW]
    if new:
        said.append(f"{number_of(len(new), 'new trial')} not as expected: {several(new)}")
    for day, then in f.later[:2]:
        said.append(
            f"from {day} on: " + "; ".join(summary(then, nobody)[1 if then.for_nobody else 0 :][:2])
        )
    if len(f.later) > 2:
        said.append(f"and more from {number_of(len(f.later) - 2, 'later day')} on")
    for word, every in (("new finding", f.new_findings), ("mended", f.mended)):
        trials = [x for x in every if x.kind == TURNED]
        if trials:
            how = "no more as expected" if every is f.new_findings else "as expected again"
            named = several([x.about for x in trials])
            said.append(f"turns {number_of(len(trials), 'trial')}, {how}: {named}")
        if found := [x for x in every if x.kind not in (TURNED, NEW)]:
            said.append(
                f"{word}: {found[0].text}"
                + (f" (and {len(found) - 1} more)" if len(found) > 1 else "")
            )
    if len(said) > MOST_LINES:
        said = [*said[: MOST_LINES - 1], f"and {len(said) - MOST_LINES + 1} more consequences"]
    return said


def _on_disk(found: OnDisk, nobody: str) -> list[str]:
    if found.not_compared:
        return [not_compared(found.not_compared)]
    if found.access is None:
        return []
    said = "; ".join(_access(found.access)) or f"{nobody} gains or loses anything"
    return [f"with what {of_disks(found.stores)} lets through: {said}"]


def _who(changes: Sequence[Any], one: str = "", more: str = "") -> str:
    """Everybody whom some changes are about, with a verb."""
    names = each_once(c.accounts for c in changes)
    return f"{several(names)} {one if len(names) == 1 else more}".rstrip()


def _some_of(differ: bool, names: Iterable[str], few: int = 3) -> str:
    return ("some of " if differ else "") + several(names, few)


def _unlike(every: Iterable[object]) -> bool:
    rest = iter(every)
    first = next(rest, None)
    return any(x != first for x in rest)


def _whom(changes: Sequence[Any]) -> list[frozenset[str]]:
    """For each of the endpoints that some changes are about, the accounts."""
    found: dict[str, list[Sequence[str]]] = {}
    for c in changes:
        found.setdefault(c.endpoint, []).append(c.accounts)
    return [frozenset(each_once(some)) for some in found.values()]


def _settings(changes: Sequence[SettingChange]) -> list[str]:
    said = []
    taken = [s for s in changes if s.before_from and s.after_from and s.before_from != s.after_from]
    for s in taken[:2]:
        where = (
            f"for {' and '.join(s.after_from)} takes the place of that for"
            f" {' and '.join(s.before_from)}"
        )
        said.append(f"{several(s.accounts)}: {s.name} set {where}")
    rest = [s for s in changes if s not in taken[:2]]
    if rest:
        names = dict.fromkeys(s.name for s in rest)
        verb = "changes" if len(names) == 1 else "change"
        said.append(f"{_some_of(_unlike(s.accounts for s in rest), names)} of {_who(rest)} {verb}")
    return said


def rights_in_words(rights: Sequence[str], own: Sequence[str], others: Sequence[str]) -> list[str]:
    """Each right, with whose files it is about where these are not all.

    >>> rights_in_words(["rename", "overwrite"], ["rename"], [])
    ['rename (own files only)', 'overwrite']
    """
    whose = dict.fromkeys(others, " (others' files only)") | dict.fromkeys(own, " (own files only)")
    return [right + whose.get(right, "") for right in rights]


def _access(changes: Sequence[AccessChange]) -> list[str]:
    said = []
    for which, one, more, how in (
        ("gained", "gains", "gain", ""),
        ("lost", "loses", "lose", ""),
        ("widened", "has", "have", " on more files"),
        ("narrowed", "has", "have", " on fewer files"),
    ):
        some = [a for a in changes if getattr(a, which)]
        if some:
            named = [tuple(rights_in_words(getattr(a, which), a.own, a.others)) for a in some]
            rights = _some_of(_unlike(named), (words for each in named for words in each), 4)
            unlike = _unlike((a.accounts, a.endpoint) for a in some)
            places = _some_of(
                unlike and _unlike(a.locations for a in some),
                (x for a in some for x in a.worth_a_line),
            )
            ways = [a.endpoint for a in some if a.endpoint is not None]
            through = f" through {_some_of(_unlike(_whom(some)), ways)}" if ways else ""
            folded = len(
                {x for a in some for x in a.locations} - {x for a in some for x in a.worth_a_line}
            )
            below = f", with {folded} below" if folded else ""
            said.append(f"{_who(some, one, more)} {rights}{how} at {places}{below}{through}")
    return said
