"""Since when somebody can do a thing, or cannot: each turn, with the change or the day that made
it.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from datetime import UTC, datetime, time
from typing import Any, NamedTuple

from drawknife import messages as msg
from drawknife.core.decide.since import only_what_counts, turning_days, verdict_at, without_hours
from drawknife.core.model.difference import Differs
from drawknife.core.model.items import Model
from drawknife.core.model.putting import items_at, with_items
from drawknife.core.prepared.question import Question
from drawknife.core.words.names import fold


class CountingRevision(NamedTuple):
    """A revision that changed something that counts for a question: the items, before
    and after it.
    """

    revision: int
    at: datetime
    who: str
    what: str
    renames: tuple[tuple[str, str, str], ...]
    items: tuple[Differs, ...]


class Turn(NamedTuple):
    """From when on the verdict was this one: by a revision, or as something ended (`by` None).

    `allowed` is None where the account, or the endpoint, was not there.
    """

    at: datetime
    allowed: bool | None
    text: str
    by: CountingRevision | None


def undo(model: Model, items: Iterable[Differs]) -> Model:
    """The model with some items as they were before a change, whatever else there is."""
    some = list(items)
    there = items_at(model, {(x.section, x.name) for x in some})
    put: dict[str, dict[str, list[Any]]] = {}
    for x in some:
        now = put.setdefault(x.section, {}).setdefault(
            x.name, list(there.get((x.section, x.name), ()))
        )
        if x.after is not None and x.after in now:
            now.remove(x.after)
        if x.before is not None:
            now.append(x.before)
    return with_items(model, put)


def turns(
    model: Model,
    question: Question,
    steps: Sequence[CountingRevision],
    folders: dict[str, set[str]],
    groups: set[str],
    *,
    begins: datetime,
    now: datetime,
) -> list[Turn]:
    """The turns of the verdict on a question, the last first; `steps` are the newest first.

    `folders`, by store, and `groups` are those that can count, in the form in which names are
    compared; `begins` is when the first revision was made. Hours are left out, by which it turns
    every day, and so is how full limits are.
    """
    # Of the owner it only counts whether that is the account itself.
    owns = question.owner is not None and fold(question.owner) == fold(question.account)
    question = replace(question, owner=question.account if owns else None)
    model = only_what_counts(without_hours(model), [question.account], folders, groups)
    if question.endpoint is None:
        model = replace(model, endpoints=())  # without one of them the gates in front are not asked
    eras: list[tuple[datetime, CountingRevision | None, Model, Question]] = []
    for step in steps:
        eras.append((step.at, step, model, question))
        model = without_hours(undo(model, step.items))
        question = _named_before(question, step)
    eras.append((begins, None, model, question))
    found: list[Turn] = []
    ends = [*(at for at, *_ in eras[:-1]), now]
    for (at, by, then, asked), end in zip(reversed(eras), [*reversed(ends[:-1]), now], strict=True):
        days = (datetime.combine(d, time(), UTC) for d in turning_days(then, asked.account))
        for moment, made_by in [(at, by), *((day, None) for day in days if at < day < end)]:
            answer = verdict_at(then, asked, moment)
            allowed = None if answer is None else answer.allowed
            if not found or found[-1].allowed is not allowed:
                text = _not_there(then, asked, found) if answer is None else answer.text
                found.append(Turn(moment, allowed, text, made_by))
    return found[::-1]


def _named_before(question: Question, step: CountingRevision) -> Question:
    """Return the question with the names that its account, owner and endpoint had before a
    revision.
    """
    account = _name_before(step, "account", question.account)
    endpoint = (
        None if question.endpoint is None else _name_before(step, "endpoint", question.endpoint)
    )
    return replace(question, account=account, owner=question.owner and account, endpoint=endpoint)


def _name_before(step: CountingRevision, kind: str, name: str) -> str:
    for renamed, old, new in reversed(step.renames):
        if renamed == kind and fold(new) == fold(name):
            name = old
    return name


def _not_there(model: Model, question: Question, earlier: Sequence[Turn]) -> str:
    """Say what did not exist; with the state before it was removed, if there was one."""
    if any(fold(a.name) == fold(question.account) for a in model.accounts):
        what = f"endpoint {question.endpoint}"
    else:
        what = f"account {question.account}"
    if earlier and earlier[-1].allowed is not None:
        return f"{what} no longer exists; before that: {earlier[-1].text}"
    return f"{what} did not exist"


def when_message(
    found: Sequence[Turn],
    question: Question,
    revision: int,
    looked_at: int,
    history_start: int | None = None,
) -> msg.WhenAnswer:
    """The turns in the words of messages; `history_start` is the first revision that is kept, if
    earlier ones were removed.
    """
    notes = [
        f"{looked_at} of {revision} revisions changed something that counts for it; only these were"
        " looked at"
    ]
    notes.append("how full limits were was not asked")
    if question.endpoint is not None:
        notes.append("hours were not asked, nor credentials: methods are taken as written")
    if history_start is not None:
        notes.append(
            f"History before revision {history_start} was removed. Earlier verdicts are unknown."
        )
    return msg.WhenAnswer(
        history_start=history_start,
        revision=revision,
        account=question.account,
        action=question.action,
        path=question.path,
        allowed=found[0].allowed if found else None,
        looked_at=looked_at,
        notes=notes,
        turns=[
            msg.TurnMessage(
                at=t.at,
                allowed=t.allowed,
                text=t.text,
                revision=t.by.revision if t.by else None,
                who=t.by.who if t.by else None,
                what=t.by.what if t.by else None,
                items=(
                    [f"{x.section.replace('_', ' ')} {x.name}" for x in t.by.items[:20]]
                    if t.by
                    else []
                ),
            )
            for t in found
        ],
    )
