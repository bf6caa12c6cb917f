"""What follows from a change, in a line or two: who gained or lost what, or that nobody did."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from drawknife.core.access_changes import AccessChange
from drawknife.core.consequences import Consequences, SettingChange

#: More names than these are counted.
FEW = 3
MOST_LINES = 6


def several(names: Iterable[str], few: int = FEW) -> str:
    """The first names, and how many more there are."""
    every = list(dict.fromkeys(names))
    more = len(every) - few
    return ", ".join(every[:few]) + (f" and {more} more" if more > 0 else "")


def summary(f: Consequences) -> list[str]:
    """Sentences for people; where nothing is different for anybody, that is said, and what became of findings."""
    said: list[str] = []
    if f.come:
        said.append(f"new: {several(f.come)}")
    if f.gone:
        said.append(f"gone: {several(f.gone)}")
    for may, word in ((False, "can no longer sign in"), (True, "can now sign in")):
        by_endpoint = [s for s in f.sign_in if s.may is may]
        if by_endpoint:
            who = several(a for s in by_endpoint for a in s.accounts)
            said.append(f"{who} {word} at {several(s.endpoint for s in by_endpoint)}")
    said += _access([a for a in f.access if a.endpoint is None], "")
    other = [a for a in f.access if a.endpoint is not None]
    signing = {(account, s.endpoint) for s in f.sign_in for account in s.accounts}
    # Who comes in no more has nothing there: that is said already.
    other = [a for a in other if any((account, a.endpoint) not in signing for account in a.accounts)]
    said += _access(other, " through " + several(a.endpoint or "" for a in other) if other else "")
    if f.leads:
        moved = several(f"{x.location} leads to {x.after or 'nothing'}" for x in f.leads)
        said.append(f"for {several(a for x in f.leads for a in x.accounts)}: {moved}")
    said += _settings(f.settings)
    if f.room:
        said.append(
            f"{several(a for r in f.room for a in r.accounts)} has other room at {several(r.location for r in f.room)}"
        )
    if f.for_nobody:
        said.append("nobody gains or loses anything")
    for word, found in (("new finding", f.new_findings), ("mended", f.mended)):
        if found:
            said.append(f"{word}: {found[0].text}" + (f" (and {len(found) - 1} more)" if len(found) > 1 else ""))
    if len(said) > MOST_LINES:
        said = [*said[: MOST_LINES - 1], f"and {len(said) - MOST_LINES + 1} more consequences"]
    return said


def _settings(changes: Sequence[SettingChange]) -> list[str]:
    said = []
    taken = [s for s in changes if s.before_from and s.after_from and s.before_from != s.after_from]
    for s in taken[:2]:
        where = f"for {' and '.join(s.after_from)} takes the place of that for {' and '.join(s.before_from)}"
        said.append(f"{several(s.accounts)}: {s.name} set {where}")
    rest = [s for s in changes if s not in taken[:2]]
    if rest:
        names = list(dict.fromkeys(s.name for s in rest))
        verb = "changes" if len(names) == 1 else "change"
        said.append(f"{several(names)} of {several(a for s in rest for a in s.accounts)} {verb}")
    return said


def _access(changes: Sequence[AccessChange], through: str) -> list[str]:
    said = []
    for word, first, second in (("gains", "gained", "widened"), ("loses", "lost", "narrowed")):
        some = [a for a in changes if getattr(a, first) or getattr(a, second)]
        if some:
            accounts = list(dict.fromkeys(x for a in some for x in a.accounts))
            rights = several((r for a in some for r in (*getattr(a, first), *getattr(a, second))), 4)
            places = several(x for a in some for x in a.locations)
            verb = word if len(accounts) == 1 else word.rstrip("s")
            said.append(f"{several(accounts)} {verb} {rights} at {places}{through}")
    return said
