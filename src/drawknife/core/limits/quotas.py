"""Quotas: what fills them, and how much more fits (docs/rules.md, "Limits")."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, NamedTuple

from ..model.items import UNLIMITED, Quota, Usage
from ..prepared.question import Question, Refusal
from ..prepared.settings import resolve
from ..words.names import Place, parent, rest_below
from ..words.sizes import show_size

if TYPE_CHECKING:
    from ..prepared.needs import Sites
    from ..prepared.people import PreparedAccount
    from ..prepared.prepared import Prepared


class Soft(NamedTuple):
    """A soft limit: above it there is room until the grace period (seconds, above 0)
    has run out.
    """

    limit: int
    grace: int
    over_since: datetime | None

    def ends(self) -> datetime | None:
        """When the grace period runs out, if its clock is known to run."""
        return None if self.over_since is None else self.over_since + timedelta(seconds=self.grace)

    def used_up(self, used: int, at: datetime) -> bool:
        """Is there no room any more?

        Where it is not known since when it is above, the grace period runs on.
        """
        ends = self.ends()
        return used > self.limit and ends is not None and at >= ends


class Limit(NamedTuple):
    """One limit that counts an upload. Bytes and files; None: not limited."""

    kind: str  # personal, shared, folder, capacity
    name: str
    bytes: int | None
    files: int | None
    used_bytes: int
    used_files: int
    soft_bytes: Soft | None = None
    soft_files: Soft | None = None

    def room_bytes(self, at: datetime) -> int | None:
        """How many more bytes it lets in; None: as many as one likes."""
        return _room_in(self.bytes, self.soft_bytes, self.used_bytes, at)

    def room_files(self, at: datetime) -> int | None:
        """How many more files it lets in; None: as many as one likes."""
        return _room_in(self.files, self.soft_files, self.used_files, at)


def _room_in(hard: int | None, soft: Soft | None, used: int, at: datetime) -> int | None:
    if soft is not None and soft.used_up(used, at):
        return 0
    return None if hard is None else max(0, hard - used)


class Headroom(NamedTuple):
    """How much more fits, the limit that binds (None: nothing does), and every limit
    that counts.
    """

    bytes: int | None
    bytes_bound_by: Limit | None
    files: int | None
    files_bound_by: Limit | None
    limits: tuple[Limit, ...]


#: Where files lie that count against a limit, and of which it is not told where they are.
ELSEWHERE = Place("", "/")


class UsageByLimit:
    """What counts against each limit: the rows of usage, gone through once for each limit, and
    kept.
    """

    def __init__(self, prepared: Prepared) -> None:
        self._prepared = prepared
        self._by_owner: dict[str | None, list[Usage]] = {}
        self._by_store: dict[str, list[Usage]] = {}
        for u in prepared.model.usage:
            self._by_owner.setdefault(u.owner, []).append(u)
            self._by_store.setdefault(u.folder.store, []).append(u)
        #: What else counts against a limit, by its kind and name, where only a part of a model is
        #: there.
        self._beside = {
            (kind, name): [Usage(ELSEWHERE, None, bytes_, files)]
            for kind, name, bytes_, files in prepared.model.beside
        }
        self._by_quota: dict[str, list[Usage]] = {}
        self._sums: dict[tuple[str, str], tuple[int, int]] = {}

    def personal(self, owner: str) -> list[Usage]:
        return self._by_owner.get(owner, [])

    def store(self, name: str) -> list[Usage]:
        return [*self._by_store.get(name, []), *self._beside.get(("capacity", name), ())]

    def quota(self, quota: Quota) -> list[Usage]:
        """The rows that a quota counts: in its folder and below, or owned by those who share it."""
        found = self._by_quota.get(quota.name)
        if found is None:
            if quota.folder is not None:
                folder = quota.folder
                found = [u for u in self._by_store.get(folder.store, ()) if holds(folder, u.folder)]
            else:
                covers = {self._prepared.people.number(s) for s in quota.shared_by}
                owners = [o for o in self._by_owner if covered(self._prepared, o, covers)]
                found = [u for o in owners for u in self._by_owner[o]]
            kind = "shared" if quota.folder is None else "folder"
            found = self._by_quota[quota.name] = [*found, *self._beside.get((kind, quota.name), ())]
        return found

    def sum(self, kind: str, name: str, rows: Callable[[], list[Usage]]) -> tuple[int, int]:
        """Bytes and files of the rows of one limit, summed once."""
        found = self._sums.get((kind, name))
        if found is None:
            these = rows()
            found = self._sums[kind, name] = (
                sum(u.bytes for u in these),
                sum(u.files for u in these),
            )
        return found


def usage_by_limit(prepared: Prepared) -> UsageByLimit:
    """What counts against the limits of a prepared model, gathered when it is first asked for."""
    found = prepared.derived.get("counted")
    if not isinstance(found, UsageByLimit):
        found = prepared.derived["counted"] = UsageByLimit(prepared)
    return found


class Bounds(NamedTuple):
    """What a quota limits. A soft limit without a grace period is a hard one."""

    bytes: int | None
    files: int | None
    soft_bytes: Soft | None
    soft_files: Soft | None


def bounds(quota: Quota) -> Bounds:
    """The hard and soft limits of a quota as they count."""
    if not quota.grace:
        return Bounds(
            _smaller(quota.hard_bytes, quota.soft_bytes),
            _smaller(quota.hard_files, quota.soft_files),
            None,
            None,
        )
    return Bounds(
        quota.hard_bytes,
        quota.hard_files,
        (
            None
            if quota.soft_bytes is None
            else Soft(quota.soft_bytes, quota.grace, quota.bytes_over_since)
        ),
        (
            None
            if quota.soft_files is None
            else Soft(quota.soft_files, quota.grace, quota.files_over_since)
        ),
    )


def _smaller(a: int | None, b: int | None) -> int | None:
    return min((x for x in (a, b) if x is not None), default=None)


def quota_limit(kind: str, quota: Quota, used: tuple[int, int]) -> Limit:
    """The limit that a quota is; `used` are the bytes and files that count against it."""
    b = bounds(quota)
    return Limit(kind, quota.name, b.bytes, b.files, *used, b.soft_bytes, b.soft_files)


def limits_on(prepared: Prepared, owner: PreparedAccount, place: Place) -> list[Limit]:
    """Every limit that counts a file of `owner` at `place`, in the order in which they bind on a
    tie.
    """
    model = prepared.model
    usage = usage_by_limit(prepared)
    out: list[Limit] = []
    own_bytes = resolve(prepared, owner, "quota_bytes").value
    own_files = resolve(prepared, owner, "quota_files").value
    if own_bytes != UNLIMITED or own_files != UNLIMITED:
        used = usage.sum("personal", owner.name, lambda: usage.personal(owner.name))
        out.append(Limit("personal", owner.name, _number(own_bytes), _number(own_files), *used))
    for quota in model.quotas:
        covers = {prepared.people.number(s) for s in quota.shared_by}
        if not covers.isdisjoint(owner.who):
            used = usage.sum("quota", quota.name, lambda quota=quota: usage.quota(quota))  # type: ignore[misc]
            out.append(quota_limit("shared", quota, used))
    out += folder_limits(prepared, place)
    store = prepared.stores[place.store].store
    if store.capacity is not None:
        used = usage.sum("capacity", place.store, lambda: usage.store(place.store))
        out.append(Limit("capacity", place.store, store.capacity, None, *used))
    return out


def folder_limits(prepared: Prepared, place: Place) -> list[Limit]:
    """The folder quotas that hold `place`, nearest first."""
    found = [q for q in prepared.model.quotas if q.folder is not None and holds(q.folder, place)]
    found.sort(key=lambda q: -len(q.folder.path) if q.folder else 0)
    return [folder_limit(prepared, q) for q in found]


def folder_limit(prepared: Prepared, quota: Quota) -> Limit:
    """The limit that a quota on a folder is."""
    assert quota.folder is not None
    usage = usage_by_limit(prepared)
    used = usage.sum("quota", quota.name, lambda: usage.quota(quota))
    return quota_limit("folder", quota, used)


def holds(folder: Place, place: Place) -> bool:
    """Is a place the folder, or within it?"""
    return folder.store == place.store and rest_below(place.path, folder.path) is not None


def _number(value: object) -> int | None:
    return value if isinstance(value, int) else None


def covered(prepared: Prepared, owner: str | None, covers: set[int]) -> bool:
    """Does an owner count as any of these subjects, given by their numbers?"""
    if owner is None:
        return False
    account = prepared.account(owner)
    return account is not None and not covers.isdisjoint(account.who)


def headroom(prepared: Prepared, owner: PreparedAccount, place: Place, at: datetime) -> Headroom:
    """How much more `owner` can put at `place`, by every limit that counts it."""
    limits = limits_on(prepared, owner, place)
    by_bytes = [(room, x) for x in limits if (room := x.room_bytes(at)) is not None]
    by_files = [(room, x) for x in limits if (room := x.room_files(at)) is not None]
    # Of equal ones the first binds: the order is that of ties.
    bytes_, bytes_by = min(by_bytes, key=lambda r: r[0], default=(None, None))
    files, files_by = min(by_files, key=lambda r: r[0], default=(None, None))
    return Headroom(bytes_, bytes_by, files, files_by, tuple(limits))


def uploads_owner(prepared: Prepared, account: PreparedAccount) -> PreparedAccount:
    """The account that owns what `account` creates."""
    name = resolve(prepared, account, "uploads_owner").value
    return (prepared.account(name) if name else None) or account


def limits_gate(
    prepared: Prepared, account: PreparedAccount, question: Question, sites: Sites, at: datetime
) -> Iterator[Refusal]:
    """Is there room for the bytes and files that the request adds?"""
    place = sites.here.place
    size = question.size or 0
    if place is None or question.action not in ("upload", "overwrite", "append", "rename"):
        return
    if question.action == "rename":
        yield from _moving(prepared, question, sites, size, at)
        return
    limit = resolve(prepared, account, "upload_limit")
    whole = size + (question.replaced_size or 0) if question.action == "append" else size
    if limit.value != UNLIMITED and whole > limit.value:
        subjects = " and ".join(map(str, limit.subjects))
        yield Refusal(
            "limits",
            "file-too-large",
            f"the file would have {shown(whole)}; {subjects} may send {shown(limit.value)} at most",
        )
    if question.action == "upload":
        owner, asked, files = uploads_owner(prepared, account), size, 1
    else:
        owner = (prepared.account(question.owner) if question.owner else None) or account
        asked = size - (question.replaced_size or 0) if question.action == "overwrite" else size
        files = 0
    yield from _room(
        limits_on(prepared, owner, Place(place.store, parent(place.path))), asked, files, at
    )


def _moving(
    prepared: Prepared, question: Question, sites: Sites, size: int, at: datetime
) -> Iterator[Refusal]:
    here, there = sites.here.place, sites.there.place if sites.there else None
    if here is None or there is None or sites.same_folder:
        return
    if question.thing == "folder":
        files = question.files or 0
    else:
        files = 0 if question.replaces else 1
        here, there = Place(here.store, parent(here.path)), Place(there.store, parent(there.path))
    before = {limit.name for limit in folder_limits(prepared, here)}
    new = [x for x in folder_limits(prepared, there) if x.name not in before]
    yield from _room(new, size, files, at)


def _room(
    limits: list[Limit], asked_bytes: int, asked_files: int, at: datetime
) -> Iterator[Refusal]:
    for x in limits:
        for what, asked, room, soft, used in (
            ("bytes", asked_bytes, x.room_bytes(at), x.soft_bytes, x.used_bytes),
            ("files", asked_files, x.room_files(at), x.soft_files, x.used_files),
        ):
            if asked <= 0 or room is None or asked <= room:
                continue
            if soft is not None and soft.used_up(used, at):
                since = f"its grace period ended {soft.ends():%Y-%m-%d %H:%M} UTC"
                yield Refusal(
                    "limits",
                    f"{x.kind}-{what}-grace-over",
                    f"the {called(x)} is above its soft limit of {shown(soft.limit, what)}, and"
                    f" {since}; bring {shown(used, what)} down to the limit",
                )
            else:
                yield Refusal(
                    "limits",
                    f"{x.kind}-{what}",
                    (
                        f"the {called(x)} has no room left, and {shown(asked, what)} more is"
                        " asked for"
                        if room == 0
                        else (
                            f"the {called(x)} has room for {shown(room, what)} more, and"
                            f" {shown(asked, what)} is asked for: {shown(asked - room, what)} too"
                            " much"
                        )
                    ),
                )


def shown(amount: int, what: str = "bytes") -> str:
    """An amount of bytes or files for people."""
    return f"{amount:,} file{'' if amount == 1 else 's'}" if what == "files" else show_size(amount)


def called(limit: Limit) -> str:
    """A limit as people call it."""
    return {
        "personal": f"personal quota of {limit.name}",
        "shared": f"shared quota {limit.name}",
        "folder": f"folder quota {limit.name}",
        "capacity": f"capacity of store {limit.name}",
    }[limit.kind]
