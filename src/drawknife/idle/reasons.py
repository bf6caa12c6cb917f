"""Why a part of a model has no effect."""

from __future__ import annotations

from datetime import date, datetime

from drawknife.core.everybody.promises import broken_promises
from drawknife.core.follows.added_lines import Added
from drawknife.core.follows.no_effect import named_by, why_no_effect
from drawknife.core.follows.pairing import members_of
from drawknife.core.limits.quotas import bounds
from drawknife.core.model.items import Promise, Quota, Subject, parse_says
from drawknife.core.model.lines import has_ended
from drawknife.core.model.removal import lines_naming
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.prepared.settings import resolve
from drawknife.core.words.names import rest_below
from drawknife.core.words.sizes import several

from .parts import Part

#: So many of the accounts for whom something is set are told why it makes no difference.
ASKED = 50


def certain(prepared: Prepared, added: Added, day: date) -> bool:
    """Is it certain, whatever the rest says, that a line has no effect: it has ended, or stands for
    nobody?
    """
    subject = added.line.subject
    if has_ended(added.line, day):
        return True
    return (
        subject.kind != "owner" and not members_of(prepared, [subject]) and added.line.until is None
    )


def reasons(whole: Prepared, without: Prepared, part: Part, at: datetime) -> tuple[str, ...]:
    """The reasons for one part; `without` is the model without it."""
    day = at.date()
    if part.kind == "group":
        named = next(lines_naming(whole.model, {Subject("group", part.what.name)}), None)
        return ("nothing names it" + (", but for what is told above" if named is not None else ""),)
    if part.kind == "setting":
        return _of_setting(whole.on(day), without.on(day), *part.what)
    if part.kind == "quota":
        return (no_longer_binds(without.on(day), part.what, day) or "",)
    return why_no_effect(without.on(day), whole.on(day), part.what, day).reasons


def _of_setting(now: Prepared, without: Prepared, subject: object, name: str) -> tuple[str, ...]:
    accounts = named_by(now, subject)  # type: ignore[arg-type]
    if not accounts:
        return (f"no account counts as {subject}",)
    found: dict[str, list[str]] = {}
    for account in accounts[:ASKED]:
        came = resolve(now, account, name)
        if subject not in came.subjects:
            text = f"what is set for {several(map(str, came.subjects))} is nearer to {{who}}"
        elif other := resolve(without, account, name).subjects:
            text = f"it is so without it for {{who}}: {several(map(str, other))} has it so, too"
        else:
            text = "it is so without it for {who}: that is what holds where nothing is set"
        found.setdefault(text, []).append(account.name)
    return tuple(text.replace("{who}", several(names)) for text, names in found.items())


def no_longer_binds(prepared: Prepared, quota: Quota, day: date) -> str | None:
    """Why a quota can bind nobody, however full it becomes, in the model as it is on a day; None:
    it may.
    """
    if quota.folder is not None:
        says = f"nobody in anyone may upload, append, overwrite, rename at {quota.folder} tree"
        if not broken_promises(prepared, day, (Promise("idle", parse_says(says)),)):
            return f"nobody may put anything into {quota.folder} or below it"
    elif not members_of(prepared, quota.shared_by):
        return "no account counts as one of those who share it"
    for other in prepared.model.quotas:
        if (
            other.name != quota.name
            and _counts_all_of(prepared, other, quota)
            and _as_strict(other, quota)
        ):
            return f"quota {other.name} counts all that it counts, and is no wider"
    return None


def _counts_all_of(prepared: Prepared, other: Quota, quota: Quota) -> bool:
    if quota.folder is not None and other.folder is not None:
        return (
            other.folder.store == quota.folder.store
            and rest_below(quota.folder.path, other.folder.path) is not None
        )
    if quota.folder is not None or other.folder is not None:
        return False
    return not members_of(prepared, quota.shared_by) & ~members_of(prepared, other.shared_by)


def _as_strict(other: Quota, quota: Quota) -> bool:
    """Does another quota never let more through, whatever is used?"""
    own, others = bounds(quota), bounds(other)
    if own.soft_bytes is not None or own.soft_files is not None:
        return False
    pairs = ((own.bytes, others.bytes), (own.files, others.files))
    return all(mine is None or (theirs is not None and theirs <= mine) for mine, theirs in pairs)
