"""Usage: who has how much where, what fills a limit, clocks of grace, and what is promised
(docs/rules.md, "Limits").
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from datetime import datetime, timedelta
from typing import NamedTuple

from ..model.items import UNLIMITED, Model, Quota, Usage
from ..prepared.prepared import Prepared
from ..prepared.settings import resolve
from ..words.names import Place, depth, rest_below, unit_ancestors
from .quotas import Limit, folder_limit, quota_limit, usage_by_limit


class Used(NamedTuple):
    """Bytes and files of one account, group, unit, folder, or store; of nobody known, the name is
    empty.
    """

    name: str
    bytes: int
    files: int


BY = ("account", "group", "unit", "folder", "store")


def used_by(prepared: Prepared, by: str, rows: Iterable[Usage] | None = None) -> list[Used]:
    """Usage summed by accounts, groups, units, folders, or stores, the most first.

    A group or unit has what all its members own; a folder what lies in it and below it.
    """
    sums: dict[str, list[int]] = {}
    names = {
        "account": _account,
        "group": _groups,
        "unit": _units,
        "folder": _folders,
        "store": _store,
    }[by]
    for u in prepared.model.usage if rows is None else rows:
        for name in names(prepared, u):
            total = sums.setdefault(name, [0, 0])
            total[0] += u.bytes
            total[1] += u.files
    return sorted(
        (Used(n, b, f) for n, (b, f) in sums.items()), key=lambda x: (-x.bytes, -x.files, x.name)
    )


def _account(_: Prepared, u: Usage) -> Iterable[str]:
    return (u.owner or "",)


def _store(_: Prepared, u: Usage) -> Iterable[str]:
    return (u.folder.store,)


def _folders(_: Prepared, u: Usage) -> Iterable[str]:
    at = u.folder.path
    while True:
        yield f"{u.folder.store}:{at}"
        if at == "/":
            return
        at = at[: at.rindex("/")] or "/"


def _groups(prepared: Prepared, u: Usage) -> Iterable[str]:
    account = prepared.account(u.owner) if u.owner else None
    return (s.name for s in account.standing.ranks if s.kind == "group") if account else ()


def _units(prepared: Prepared, u: Usage) -> Iterable[str]:
    account = prepared.account(u.owner) if u.owner else None
    return unit_ancestors(account.account.unit) if account and account.account.unit else ()


class Filled(NamedTuple):
    """A limit with what counts against it: whose it is, and where."""

    limit: Limit
    place: str
    rows: tuple[Usage, ...]


def every_limit(prepared: Prepared) -> list[Filled]:
    """Every limit there is: personal ones that are set, quotas, and capacities, with what counts
    against each.
    """
    counts = usage_by_limit(prepared)
    found: list[Filled] = []
    for index in range(len(prepared.people.accounts)):
        account = prepared.people.prepared(index)
        values = [resolve(prepared, account, name).value for name in ("quota_bytes", "quota_files")]
        if values != [UNLIMITED, UNLIMITED]:
            rows = counts.personal(account.name)
            bytes_, files = (v if v != UNLIMITED else None for v in values)
            found.append(
                Filled(
                    Limit("personal", account.name, bytes_, files, *_total(rows)), "", tuple(rows)
                )
            )
    for quota in prepared.model.quotas:
        rows = counts.quota(quota)
        if quota.folder is not None:
            found.append(Filled(folder_limit(prepared, quota), str(quota.folder), tuple(rows)))
        else:
            found.append(Filled(quota_limit("shared", quota, _total(rows)), "", tuple(rows)))
    for store in prepared.model.stores:
        if store.capacity is not None:
            rows = counts.store(store.name)
            limit = Limit("capacity", store.name, store.capacity, None, *_total(rows))
            found.append(Filled(limit, store.root or "", tuple(rows)))
    return found


def _in(place: Place, folder: Place) -> bool:
    return place.store == folder.store and rest_below(place.path, folder.path) is not None


def _total(rows: Iterable[Usage]) -> tuple[int, int]:
    bytes_ = files = 0
    for u in rows:
        bytes_ += u.bytes
        files += u.files
    return bytes_, files


class Promised(NamedTuple):
    """What limits give away in sum, against the capacity there is (bytes).

    `open` are accounts without a limit.

    Personal and shared quotas may be used in any store, so they stand against all stores together;
    a folder quota stands against its own store. Of folder quotas within each other only the
    outermost count.
    """

    store: str  # empty: all stores together
    given: int
    capacity: int
    open: int


def promised(prepared: Prepared) -> list[Promised]:
    """What is given away, for all stores together, and for each store with folder quotas and a
    capacity.
    """
    personal = [
        resolve(prepared, prepared.people.prepared(i), "quota_bytes").value
        for i in range(len(prepared.people.accounts))
    ]
    shared = [
        q.hard_bytes for q in prepared.model.quotas if q.folder is None and q.hard_bytes is not None
    ]
    capacities = {s.name: s.capacity for s in prepared.model.stores}
    out = []
    if all(c is not None for c in capacities.values()) and capacities:
        given = sum(v for v in personal if v != UNLIMITED) + sum(shared)
        out.append(
            Promised("", given, sum(c or 0 for c in capacities.values()), personal.count(UNLIMITED))
        )
    for name, capacity in capacities.items():
        outermost: list[Quota] = []
        on_it = [
            q
            for q in prepared.model.quotas
            if q.folder and q.folder.store == name and q.hard_bytes is not None
        ]
        for quota in sorted(on_it, key=lambda q: depth(q.folder.path) if q.folder else 0):
            if not any(
                quota.folder and o.folder and _in(quota.folder, o.folder) for o in outermost
            ):
                outermost.append(quota)
        if capacity is not None and outermost:
            out.append(Promised(name, sum(q.hard_bytes or 0 for q in outermost), capacity, 0))
    return out


# --- the clocks of grace ------------------------------------------------------------------------


def with_clocks(
    model: Model, before: Model, at: datetime, prepared: Prepared | None = None
) -> Model:
    """The model with the moments at which quotas went above their soft limits, kept or begun or
    ended.

    A clock that `model` states is taken; else that of `before` goes on; else it begins now.
    `prepared` is the model made ready, if that is at hand.
    """
    if not any(q.soft_bytes is not None or q.soft_files is not None for q in model.quotas):
        return model
    same = all(
        getattr(model, part) is getattr(before, part)
        for part in ("usage", "quotas", "groups", "units")
    )
    people, known = model.accounts, before.accounts
    if same and (
        people is known or [(a.name, a.unit) for a in people] == [(a.name, a.unit) for a in known]
    ):
        return model  # nothing that counts has changed
    counts = usage_by_limit((prepared or Prepared(model)).on(at.date()))
    quotas_before = {q.name: q for q in before.quotas}
    quotas = tuple(
        _with_clock(q, _total(counts.quota(q)), quotas_before.get(q.name), at) for q in model.quotas
    )
    return model if quotas == model.quotas else replace(model, quotas=quotas)


def _with_clock(quota: Quota, used: tuple[int, int], before: Quota | None, at: datetime) -> Quota:
    def since(
        used: int, soft: int | None, stated: datetime | None, was: datetime | None
    ) -> datetime | None:
        return (stated or was or at) if soft is not None and used > soft else None

    was = before or quota
    bytes_since = since(used[0], quota.soft_bytes, quota.bytes_over_since, was.bytes_over_since)
    files_since = since(used[1], quota.soft_files, quota.files_over_since, was.files_over_since)
    if (bytes_since, files_since) == (quota.bytes_over_since, quota.files_over_since):
        return quota
    return replace(quota, bytes_over_since=bytes_since, files_over_since=files_since)


# --- growth -------------------------------------------------------------------------------------


class Growth(NamedTuple):
    """A straight line through what was measured: amount a second, and when a limit is reached at
    that rate.

    `reached` is None where it does not grow, or nothing limits it; `soonest` and `latest` (two
    standard errors of the slope) where three measurements or more allow to tell how sure it is.
    """

    slope: float
    reached: datetime | None
    soonest: datetime | None
    latest: datetime | None


def growth(points: list[tuple[datetime, int]], limit: int | None) -> Growth | None:
    """Least squares through (moment, amount); None with fewer than two moments.

    `limit` in the same unit.
    """
    if len({at for at, _ in points}) < 2:
        return None
    last_at, last = max(points)
    xs = [(at - last_at).total_seconds() for at, _ in points]
    ys = [amount for _, amount in points]
    mean_x, mean_y = sum(xs) / len(xs), sum(ys) / len(ys)
    spread = sum((x - mean_x) ** 2 for x in xs)
    slope = sum((x - mean_x) * (y - mean_y) for x, y in zip(xs, ys, strict=True)) / spread
    error: float | None = None
    if len(points) > 2:
        residual = sum(
            (y - mean_y - slope * (x - mean_x)) ** 2 for x, y in zip(xs, ys, strict=True)
        )
        error = (residual / (len(points) - 2) / spread) ** 0.5

    def when(rate: float) -> datetime | None:
        if limit is None or rate <= 0:
            return None
        seconds = max(0.0, (limit - last) / rate)
        return _after(last_at, seconds)

    if error is None:
        return Growth(slope, when(slope), None, None)
    return Growth(slope, when(slope), when(slope + 2 * error), when(slope - 2 * error))


def _after(at: datetime, seconds: float) -> datetime | None:
    """A moment, or None where it is farther than a hundred years: nobody plans for that."""
    return at + timedelta(seconds=seconds) if seconds < 100 * 365.25 * 86400 else None
