"""What follows from a change, in a line or two: who gained or lost what, or that nobody did."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from drawknife.core.everybody.findings import Finding
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
    lines = [
        *_come_and_gone(f),
        *_sign_in(f),
        *_all_access(f),
        *_leads(f),
        *_settings(f.settings),
        *_room(f),
        *_on_disk(f.on_disk, nobody),
        *_for_everybody(f),
        *([f"{nobody} gains or loses anything"] if f.for_nobody else []),
        *_new_trials(f),
        *_later(f, nobody),
        *_findings("new finding", f.new_findings, "no more as expected"),
        *_findings("mended", f.mended, "as expected again"),
    ]
    if len(lines) > MOST_LINES:
        lines = [*lines[: MOST_LINES - 1], f"and {len(lines) - MOST_LINES + 1} more consequences"]
    return lines


def _come_and_gone(f: Consequences) -> Iterator[str]:
    if f.come:
        yield f"new: {several(f.come)}"
    if f.gone:
        yield f"gone: {several(f.gone)}"


def _sign_in(f: Consequences) -> Iterator[str]:
    for may, word in ((False, "can no longer sign in"), (True, "can now sign in")):
        changes = [s for s in f.sign_in if s.may is may]
        if changes:
            endpoints = _some_of(_unlike(_whom(changes)), (s.endpoint for s in changes))
            yield f"{_who(changes)} {word} at {endpoints}"


def _all_access(f: Consequences) -> list[str]:
    """Changes of access, but for those that follow from sign-in, which is reported already."""
    signing = {(account, s.endpoint) for s in f.sign_in for account in s.accounts}

    def says_more(change: AccessChange) -> bool:
        return any((name, change.endpoint) not in signing for name in change.accounts)

    everywhere = [a for a in f.access if a.endpoint is None]
    at_endpoints = [a for a in f.access if a.endpoint is not None and says_more(a)]
    return _access(everywhere) + _access(at_endpoints)


def _leads(f: Consequences) -> Iterator[str]:
    for x in f.leads[:2]:
        yield f"for {several(x.accounts)}: {x.location} leads to {x.after or 'nothing'}"
    if len(f.leads) > 2:
        yield f"{number_of(len(f.leads) - 2, 'more change')} of where virtual paths lead"


def _room(f: Consequences) -> Iterator[str]:
    if f.room:
        differ = len({r.accounts for r in f.room}) > 1
        locations = _some_of(differ, (r.location for r in f.room))
        yield f"{_who(f.room, 'has', 'have')} other room at {locations}"


def _for_everybody(f: Consequences) -> Iterator[str]:
    yield from f.for_everybody[:2]
    if len(f.for_everybody) > 2:
        yield f"and {len(f.for_everybody) - 2} more that hold for everybody"


def _new_trials(f: Consequences) -> Iterator[str]:
    trials = [x.about for x in f.new_findings if x.kind == NEW]
    if trials:
        yield f"{number_of(len(trials), 'new trial')} not as expected: {several(trials)}"


def _later(f: Consequences, nobody: str) -> Iterator[str]:
    for day, then in f.later[:2]:
        first = 1 if then.for_nobody else 0
        yield f"from {day} on: " + "; ".join(summary(then, nobody)[first:][:2])
    if len(f.later) > 2:
        yield f"and more from {number_of(len(f.later) - 2, 'later day')} on"


def _findings(word: str, findings: Sequence[Finding], how: str) -> Iterator[str]:
    """The trials that a change turns, and its other findings; `how` the trials are then."""
    trials = [x.about for x in findings if x.kind == TURNED]
    if trials:
        yield f"turns {number_of(len(trials), 'trial')}, {how}: {several(trials)}"
    others = [x for x in findings if x.kind not in (TURNED, NEW)]
    if others:
        more = f" (and {len(others) - 1} more)" if len(others) > 1 else ""
        yield f"{word}: {others[0].text}{more}"


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
