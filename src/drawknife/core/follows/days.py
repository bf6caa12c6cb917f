"""What follows from a change on the days to come, as lines, accounts and grace periods end
(docs/rules.md, "What follows").
"""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Sequence
from datetime import date, datetime, timedelta
from typing import Any

from ..limits.quotas import bounds
from ..limits.usage import with_clocks
from ..model.items import Model
from ..prepared.prepared import Prepared, prepare
from ..words.names import fold
from .consequences import Consequences, consequences_on, same_on
from .disk_changes import OnDisk
from .pairing import Renames
from .sign_in_changes import Credentials
from .some_names import each_once

#: On so many days to come two models are compared; on fewer, where there are more accounts times
#: folders than these.
DAYS, FEW_DAYS, LARGE = 12, 3, 50_000_000


def consequences(
    before: Prepared,
    after: Prepared,
    at: datetime,
    renames: Renames | None = None,
    credentials: Credentials = None,
) -> Consequences:
    """What follows from having `after` in the place of `before`, as of a moment and after each end
    that is ahead.

    `credentials` are what accounts have to sign in with, by their names before. What differs on a
    later day as it does now is told once. Days that are not looked at are named in `left_out`.
    """
    before, after = _with_clocks(before, after, at)
    now = consequences_on(before, after, at, renames, credentials)
    days = days_ahead(before, after, at.date(), renames)
    folders = sum(len(s.folders) for s in after.model.stores)
    some = days[: FEW_DAYS if len(after.model.accounts) * folders > LARGE else DAYS]
    known = _Known()
    known.new_in(now)
    later: list[tuple[date, Consequences]] = []
    for day in some:
        found = consequences_on(
            before, after, datetime.combine(day, at.timetz()), renames, credentials
        )
        new = known.new_in(found)
        if not new.nothing or new.left_out:
            later.append((day, new))
    left_out = now.left_out
    if len(days) > len(some):
        left_out += (
            (
                f"something ends on {len(days)} days to come; what differs after {some[-1]} was not"
                " looked at"
            ),
        )
    return now._replace(later=tuple(later), left_out=left_out)


def is_same(
    before: Prepared, after: Prepared, at: datetime, credentials: Credentials = None
) -> bool:
    """Is nothing different for anybody now and after each end that is ahead, and no finding new, in
    a model without renames?

    Ends with the first difference. Where something could not be looked at, it is not said.
    """
    before, after = _with_clocks(before, after, at)
    days = [
        at,
        *(datetime.combine(day, at.timetz()) for day in days_ahead(before, after, at.date())),
    ]
    return len(days) <= DAYS + 1 and all(same_on(before, after, day, credentials) for day in days)


def _with_clocks(before: Prepared, after: Prepared, at: datetime) -> tuple[Prepared, Prepared]:
    """Both with the clocks of grace periods that begin as the model after is put in force; in a
    file none has begun.
    """
    now = with_clocks(after.model, before.model, at, after)
    if now is after.model and before.model.quotas == after.model.quotas:
        return before, after
    was = with_clocks(before.model, Model(), at, before)
    return before if was is before.model else prepare(was, before), (
        after if now is after.model else prepare(now, after)
    )


def days_ahead(
    before: Prepared, after: Prepared, today: date, renames: Renames | None = None
) -> list[date]:
    """The day after each end in either model that is ahead: of lines, and of what ends at another
    time than before.
    """
    ends = {
        *before.full.ends,
        *after.full.ends,
        *_other_expiries(before, after, renames),
        *_other_graces(before, after),
    }
    return sorted(end + timedelta(days=1) for end in ends if today <= end < date.max)


def _other_expiries(before: Prepared, after: Prepared, renames: Renames | None) -> Iterator[date]:
    """The last days, in either model, of accounts that have another one than before."""
    if before.model.accounts is after.model.accounts:
        return
    called = renames.account if renames else str
    was = {fold(called(a.name)): a for a in before.model.accounts}
    for account in after.model.accounts:
        old = was.get(fold(account.name), account)
        if old.expires != account.expires:
            yield from (day for day in (old.expires, account.expires) if day is not None)


def _other_graces(before: Prepared, after: Prepared) -> Iterator[date]:
    """The days, in either model, on which the grace period of a soft limit runs out that is another
    in the other model.
    """
    if before.model.quotas == after.model.quotas:
        return
    was, now = (
        {(fold(q.name), i, soft) for q in p.model.quotas for i, soft in enumerate(bounds(q)[2:])}
        for p in (before, after)
    )
    ends = (soft.ends() for _, _, soft in was ^ now if soft is not None)
    yield from (end.date() for end in ends if end is not None)


class _Known:
    """What was told already: for each difference the accounts that have it."""

    def __init__(self) -> None:
        self._accounts: dict[Hashable, list[Sequence[str]]] = {}
        self._once: set[Hashable] = set()

    def new_in(self, found: Consequences) -> Consequences:
        """What was not told before; it is from then on."""
        return found._replace(
            come=self._others(found.come, "come"),
            gone=self._others(found.gone, "gone"),
            sign_in=self._changes(found.sign_in, lambda x: (x.endpoint, x.may)),
            access=self._changes(found.access, lambda x: x._replace(accounts=())),
            leads=self._changes(found.leads, lambda x: x._replace(accounts=())),
            settings=self._changes(found.settings, lambda x: ("setting", *map(str, x[1:]))),
            room=self._changes(found.room, lambda x: x._replace(accounts=())),
            for_everybody=self._others(found.for_everybody, "everybody"),
            new_findings=self._others(found.new_findings, "finding"),
            mended=self._others(found.mended, "mended"),
            left_out=self._others(found.left_out, "left out"),
            on_disk=found.on_disk if self._others((found.on_disk,), "on disk") else OnDisk(),
        )

    def _others(self, found: Sequence[Any], what: str) -> tuple[Any, ...]:
        new = tuple(x for x in found if (what, x) not in self._once)
        self._once.update((what, x) for x in new)
        return new

    def _changes(self, found: Sequence[Any], key: Any) -> tuple[Any, ...]:
        """The changes, each for those of its accounts of which it was not told."""
        out = []
        for change in found:
            alike = self._accounts.setdefault((type(change), key(change)), [])
            new = change.accounts
            if alike:
                known = set(each_once(alike))
                new = tuple(name for name in new if name not in known)
            if new:
                alike.append(new)
                out.append(change._replace(accounts=new))
        return tuple(out)
