"""Ways past the gate `limits`: more for the one that binds."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from drawknife.core.decide.gates import Case
from drawknife.core.limits.quotas import Limit, limits_on, uploads_owner
from drawknife.core.prepared.needs import Sites
from drawknife.core.prepared.people import PreparedAccount
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.words.names import Place, parent
from drawknife.core.words.quantities import write_size

from .steps import Way, set_to


def ways(prepared: Prepared, case: Case, reason: str) -> Iterator[Way]:
    """Ways past one refusal."""
    question, who = case.question, f"account:{case.account.name}"
    size = question.size or 0
    if reason == "file-too-large":
        whole = size + (question.replaced_size or 0) if question.action == "append" else size
        yield (set_to("setting", who, upload_limit=_size(whole)),)
        return
    kind, what = reason.split("-")[:2]
    place = _counted_at(case.sites)
    if place is None:
        return
    for limit in limits_on(prepared, _owner(prepared, case), place):
        if (
            limit.kind == kind
            and (way := _more(prepared, limit, what, size, reason.endswith("grace-over")))
            is not None
        ):
            yield way


def _size(size: int) -> str | int:
    """A size as it is written, rounded up to whole mebibytes where it is larger."""
    return write_size(-(-size // 2**20) * 2**20 if size > 2**20 else size)


def _counted_at(sites: Sites) -> Place | None:
    at = sites.there if sites.there is not None else sites.here
    return None if at.place is None else Place(at.place.store, parent(at.place.path))


def _owner(prepared: Prepared, case: Case) -> PreparedAccount:
    if case.question.action == "upload":
        return uploads_owner(prepared, case.account)
    return (prepared.account(case.question.owner) if case.question.owner else None) or case.account


def _more(prepared: Prepared, limit: Limit, what: str, size: int, grace_over: bool) -> Way | None:
    """As much more as is asked for, of what the limit counts."""
    used, asked = (limit.used_bytes, size) if what == "bytes" else (limit.used_files, 1)
    wanted = used + asked
    limit_wanted = _size(wanted) if what == "bytes" else wanted
    if limit.kind == "personal":
        return (set_to("setting", f"account:{limit.name}", **{f"quota_{what}": limit_wanted}),)
    if limit.kind == "capacity":
        return (set_to("store", limit.name, capacity=limit_wanted),)
    quota = next(q for q in prepared.model.quotas if q.name == limit.name)
    hard, soft = getattr(quota, f"hard_{what}"), getattr(quota, f"soft_{what}")
    values: dict[str, Any] = {}
    if hard is not None and hard < wanted:
        values[f"hard_{what}"] = limit_wanted
    if soft is not None and soft < wanted and (grace_over or not quota.grace):
        values[f"soft_{what}"] = limit_wanted
    return (set_to("quota", quota.name, **values),) if values else None
