"""What a sync would remove, and when that is too much to be intended.

A directory that is read in part, or with a changed filter, looks like one that people have left.
Counted are people, groups, units, memberships of people who stay, and people who stay and would
lose access.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from datetime import UTC, datetime
from typing import NamedTuple, Protocol

from drawknife.core.follows.losing import losing
from drawknife.core.model.items import Model, Subject
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import Refused
from drawknife.core.words.sizes import several

#: This many may always lose memberships or access: among few people each is a large share.
FEW = 5


class TooFew(Refused):
    """A sync would remove too much. Nothing is changed."""


class Planned(Protocol):
    """Who and what is missing from the directory: see
    :class:`~drawknife.directory.plan.SyncPlan`.
    """

    leavers: list[str]
    gone: list[str]
    units_gone: list[str]


class Loss(NamedTuple):
    """Some of what there was goes: `text` says what is with them."""

    text: str
    names: Sequence[str]
    had: int
    always: int = 0

    def is_beyond(self, most: int) -> bool:
        """Is it more than `most` per cent?"""
        return len(self.names) > self.always and len(self.names) * 100 > most * self.had


def check_losses(before: Model, after: Model, directory: str, made: Planned, most: int) -> None:
    """:class:`TooFew`, with each loss of more than `most` per cent.

    `before` has names as they are afterwards.
    """
    if most >= 100:
        return
    beyond = [loss for loss in _losses(before, after, directory, made) if loss.is_beyond(most)]
    if beyond:
        said = "; ".join(
            f"{len(loss.names)} of {loss.had} {loss.text} ({several(loss.names, 5)})"
            for loss in beyond
        )
        raise TooFew(
            f"{said}. One sync may remove at most {most} %, so nothing was changed. If this is"
            " intended, repeat it with a higher --most-leavers"
        )


def _losses(before: Model, after: Model, directory: str, made: Planned) -> Iterator[Loss]:
    had = sum(a.source == directory and a.enabled for a in before.accounts)
    yield Loss("people are missing from the directory", made.leavers, had)
    yield Loss(
        "groups are missing from the directory",
        made.gone,
        sum(g.source == directory for g in before.groups),
    )
    yield Loss(
        "units are missing from the directory",
        made.units_gone,
        sum(x.source == directory for x in before.unit_facts),
    )
    old = _memberships(before, directory, made.leavers)
    ended = sorted(old - _memberships(after, directory, made.leavers))
    yield Loss(
        "memberships would end",
        [f"{member.name} in {where.name}" for where, member in ended],
        len(old),
        FEW,
    )
    if had:
        yield Loss("people would lose access", _losing(before, after, directory, made), had, FEW)


def _memberships(
    model: Model, directory: str, leavers: Collection[str]
) -> set[tuple[Subject, Subject]]:
    """Who is in which group or unit of a directory, but for those who leave: (group or
    unit, who).
    """
    gone = set(leavers)
    in_groups = {
        (Subject("group", g.name), member.subject)
        for g in model.groups
        if g.source == directory
        for member in g.members
        if member.subject.kind != "account" or member.subject.name not in gone
    }
    theirs = (
        a
        for a in model.accounts
        if a.source == directory and a.unit is not None and a.name not in gone
    )
    return in_groups | {
        (Subject("unit", a.unit), Subject("account", a.name)) for a in theirs if a.unit is not None
    }


def _losing(before: Model, after: Model, directory: str, made: Planned) -> list[str]:
    """Those who stay and can do less."""
    stay = {a.name for a in before.accounts if a.source == directory and a.enabled}.difference(
        made.leavers
    )
    was = prepare(before)
    return sorted(losing(was, prepare(after, was), datetime.now(UTC)) & stay)
