"""Quotas: what fills them, and how much more fits (docs/rules.md, "Limits")."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple

from .model import UNLIMITED, Quota, Usage
from .names import Place, parent, rest_below
from .question import Question, Refusal
from .settings import resolve

if TYPE_CHECKING:
    from .demands import Sites
    from .prepared import Prepared, PreparedAccount


class Limit(NamedTuple):
    """One limit that counts an upload. Bytes and files; None: not limited."""

    kind: str  # personal, shared, folder, capacity
    name: str
    bytes: int | None
    files: int | None
    used_bytes: int
    used_files: int

    @property
    def room_bytes(self) -> int | None:
        return None if self.bytes is None else max(0, self.bytes - self.used_bytes)

    @property
    def room_files(self) -> int | None:
        return None if self.files is None else max(0, self.files - self.used_files)


class Headroom(NamedTuple):
    """How much more fits, and the limit that binds; None: unlimited."""

    bytes: int | None
    bytes_bound_by: Limit | None
    files: int | None
    files_bound_by: Limit | None


def _sum(rows: list[Usage]) -> tuple[int, int]:
    return sum(u.bytes for u in rows), sum(u.files for u in rows)


def limits_on(prepared: Prepared, owner: PreparedAccount, place: Place) -> list[Limit]:
    """Every limit that counts a file of `owner` at `place`, in the order in which they bind on a tie."""
    model = prepared.model
    out: list[Limit] = []
    own_bytes = resolve(prepared, owner, "quota_bytes").value
    own_files = resolve(prepared, owner, "quota_files").value
    if own_bytes != UNLIMITED or own_files != UNLIMITED:
        used = _sum([u for u in model.usage if u.owner == owner.name])
        out.append(Limit("personal", owner.name, _number(own_bytes), _number(own_files), *used))
    for quota in model.quotas:
        covers = {prepared.people.number(s) for s in quota.shared_by}
        if not covers.isdisjoint(owner.who):
            used = _sum([u for u in model.usage if _covered(prepared, u.owner, covers)])
            out.append(Limit("shared", quota.name, quota.hard_bytes, quota.hard_files, *used))
    out += folder_limits(prepared, place)
    store = prepared.stores[place.store].store
    if store.capacity is not None:
        used = _sum([u for u in model.usage if u.folder.store == place.store])
        out.append(Limit("capacity", place.store, store.capacity, None, *used))
    return out


def folder_limits(prepared: Prepared, place: Place) -> list[Limit]:
    """The folder quotas that hold `place`, nearest first."""
    found = [q for q in prepared.model.quotas if q.folder is not None and _holds(q.folder, place)]
    found.sort(key=lambda q: -len(q.folder.path) if q.folder else 0)
    return [_folder_limit(prepared, q) for q in found]


def _folder_limit(prepared: Prepared, quota: Quota) -> Limit:
    assert quota.folder is not None
    used = _sum([u for u in prepared.model.usage if _holds(quota.folder, u.folder)])
    return Limit("folder", quota.name, quota.hard_bytes, quota.hard_files, *used)


def _holds(folder: Place, place: Place) -> bool:
    return folder.store == place.store and rest_below(place.path, folder.path) is not None


def _number(value: object) -> int | None:
    return value if isinstance(value, int) else None


def _covered(prepared: Prepared, owner: str | None, covers: set[int]) -> bool:
    if owner is None:
        return False
    account = prepared.account(owner)
    return account is not None and not covers.isdisjoint(account.who)


def headroom(prepared: Prepared, owner: PreparedAccount, place: Place) -> Headroom:
    """How much more `owner` can put at `place`, by every limit that counts it."""
    limits = limits_on(prepared, owner, place)
    by_bytes = min((x for x in limits if x.bytes is not None), key=lambda x: x.room_bytes or 0, default=None)
    by_files = min((x for x in limits if x.files is not None), key=lambda x: x.room_files or 0, default=None)
    return Headroom(
        by_bytes and by_bytes.room_bytes, by_bytes, by_files and by_files.room_files, by_files
    )  # fmt: skip


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
        yield from _moving(prepared, question, sites, size)
        return
    limit = resolve(prepared, account, "upload_limit")
    if limit.value != UNLIMITED and size > limit.value:
        subjects = " and ".join(map(str, limit.subjects))
        yield Refusal(
            "limits", "file-too-large", f"the file has {size} bytes; {subjects} may send {limit.value} at most"
        )
    if question.action == "upload":
        owner, asked, files = uploads_owner(prepared, account), size, 1
    else:
        owner = (prepared.account(question.owner) if question.owner else None) or account
        asked = size - (question.replaced_size or 0) if question.action == "overwrite" else size
        files = 0
    yield from _room(limits_on(prepared, owner, Place(place.store, parent(place.path))), asked, files)


def _moving(prepared: Prepared, question: Question, sites: Sites, size: int) -> Iterator[Refusal]:
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
    yield from _room(new, size, files)


def _room(limits: list[Limit], asked: int, files: int) -> Iterator[Refusal]:
    for x in limits:
        if asked > 0 and x.bytes is not None and x.used_bytes + asked > x.bytes:
            yield Refusal(
                "limits",
                f"{x.kind}-bytes",
                f"the {_called(x)} has room for {x.room_bytes} more bytes, and {asked} are asked for",
            )
        if files > 0 and x.files is not None and x.used_files + files > x.files:
            yield Refusal(
                "limits",
                f"{x.kind}-files",
                f"the {_called(x)} has room for {x.room_files} more files, and {files} are asked for",
            )


def _called(limit: Limit) -> str:
    return {
        "personal": f"personal quota of {limit.name}",
        "shared": f"shared quota {limit.name}",
        "folder": f"folder quota {limit.name}",
        "capacity": f"capacity of store {limit.name}",
    }[limit.kind]
