"""Looks for what has no effect: each part alone, and all that are found together.

A part is told only if nothing that a change is compared by (docs/rules.md, "What follows") differs
without it, now or on a day on which a line ends; and without it and all the others that are told.
Of two that say the same one stays.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import NamedTuple

from drawknife.changing import apply
from drawknife.core.follows.days import is_same
from drawknife.core.follows.sign_in_changes import Credentials
from drawknife.core.model.items import Model, Quota, Subject
from drawknife.core.prepared.prepared import Prepared, prepare
from drawknife.core.words.errors import DrawknifeError
from drawknife.core.words.sizes import number_of

from . import parts as p
from .proofs import entry_has_effect, is_felt
from .reasons import certain, no_longer_binds, reasons

#: In a model of more accounts times folders, where each comparison takes a second, only so many are
#: made; in others, so many.
LARGE, FEW, MANY = 20_000_000, 8, 600
#: And so many parts are taken away for each, in a large model.
AT_ONCE = 16


class Idle(NamedTuple):
    """A part without effect, and the reasons."""

    part: p.Part
    reasons: tuple[str, ...]


class IdleParts(NamedTuple):
    """What has no effect, in the order in which it can be taken away; and what was not looked at,
    in words.
    """

    found: list[Idle]
    left_out: list[str]


def idle(prepared: Prepared, at: datetime, credentials: Credentials = None) -> IdleParts:
    """All parts of a model without effect, as of a moment."""
    return _Search(prepared.full, at, credentials).run()


class _Search:
    def __init__(self, whole: Prepared, at: datetime, credentials: Credentials) -> None:
        self.whole, self.at, self.credentials = whole, at, credentials
        folders = sum(len(s.folders) for s in whole.model.stores)
        self.large = folders * len(whole.model.accounts) > LARGE
        self.runs = FEW if self.large else MANY
        #: The model without what was found, and what that is.
        self.now = whole
        self.found: list[Idle] = []
        self.not_looked_at: dict[str, int] = {}

    def run(self) -> IdleParts:
        today = self.whole.on(self.at.date())
        self._take(list(p.groups_unnamed(self.whole.model)))
        gone = {x.part.what.name for x in self.found if x.part.kind == "group"}
        lines = [
            x
            for x in p.lines(self.whole.model)
            if not (x.kind == "membership" and x.what.name in gone)
        ]
        sure = [x for x in lines if certain(today, x.what, self.at.date())]
        self._take(sure, sure=True)
        others = set(map(id, sure))
        self._take([x for x in lines if id(x) not in others and self._may_be(today, x)])
        self._take([x for x in p.settings(self.whole.model) if not self._felt(today, x, x.what[0])])
        for part in p.quotas(self.whole.model):
            if no_longer_binds(self.now.on(self.at.date()), _quota(part), self.at.date()):
                self._take([part])
        # A group that only lines without effect name goes with them, and could not go alone.
        self._take(
            [x for x in p.groups_unnamed(self.now.model) if x.what.name not in gone], sure=True
        )
        left = [
            f"{number_of(n, what)} that may have no effect"
            for what, n in self.not_looked_at.items()
        ]
        return IdleParts(
            self.found,
            [f"not looked at, as it takes long in a model of this size: {x}" for x in left],
        )

    def _may_be(self, today: Prepared, part: p.Part) -> bool:
        if self.large and part.kind in ("membership", "endpoint entry"):
            self.not_looked_at[part.kind] = self.not_looked_at.get(part.kind, 0) + 1
            return False
        if part.kind == "entry":
            return not entry_has_effect(today, part.what)
        return not self._felt(today, part, part.what.line.subject)

    def _felt(self, today: Prepared, part: p.Part, subject: Subject) -> bool:
        without = _without(self.whole.model, [part])
        if without is None:
            return True
        other = prepare(without, self.whole)
        return is_felt(today, other.on(self.at.date()) if self.whole.ends else other, subject)

    def _take(self, parts: Sequence[p.Part], sure: bool = False) -> None:
        """Adds those of the parts without which, and without what was found already, nothing
        differs; half by half.

        `sure`: of each alone it is known that it does nothing.
        """
        if not parts:
            return
        if sure and self.large:  # it is certain, and comparing would take minutes
            if (without := _without(self.now.model, parts)) is not None:
                self.now = prepare(without, self.now)
                self.found += [Idle(x, self._reasons(x)) for x in parts]
            return
        if self.large and len(parts) > AT_ONCE:
            for start in range(0, len(parts), AT_ONCE):
                self._take(parts[start : start + AT_ONCE])
            return
        if not self._may_compare(parts):
            return
        without = _without(self.now.model, parts)
        if without is not None and self._same(self.now, after := prepare(without, self.now)):
            alone = (
                list(parts)
                if sure or (len(parts) == 1 and self.now is self.whole)
                else [x for x in parts if self._alone(x)]
            )
            if len(alone) == len(parts):
                self.now = after
                self.found += [Idle(x, self._reasons(x)) for x in alone]
            else:
                self._take(alone)
            return
        if len(parts) > 1:
            half = len(parts) // 2
            self._take(parts[:half], sure)
            self._take(parts[half:], sure)

    def _alone(self, part: p.Part) -> bool:
        without = _without(self.whole.model, [part])
        return (
            self._may_compare([part])
            and without is not None
            and self._same(self.whole, prepare(without, self.whole))
        )

    def _may_compare(self, parts: Sequence[p.Part]) -> bool:
        if self.runs <= 0:
            for x in parts:
                self.not_looked_at[x.kind] = self.not_looked_at.get(x.kind, 0) + 1
            return False
        self.runs -= 1
        return True

    def _same(self, before: Prepared, after: Prepared) -> bool:
        """Is nothing different for anybody, and no finding new?"""
        return is_same(before, after, self.at, self.credentials)

    def _reasons(self, part: p.Part) -> tuple[str, ...]:
        without = _without(self.whole.model, [part])
        return reasons(
            self.whole,
            prepare(without, self.whole) if without is not None else self.now,
            part,
            self.at,
        )


def _quota(part: p.Part) -> Quota:
    assert isinstance(part.what, Quota)
    return part.what


def _without(model: Model, parts: Iterable[p.Part]) -> Model | None:
    """The model without some parts; None where it cannot be without them."""
    try:
        return apply(model, [x.change for x in parts]).model
    except DrawknifeError:
        return None
