"""Ways to mend a refusal or to stop what is allowed, in the words of :mod:`messages`, the least
harm first.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import date
from typing import Any, NamedTuple

from drawknife import messages as msg
from drawknife.answers.asked import Asked
from drawknife.answers.drafting import says
from drawknife.answers.summaries import summary
from drawknife.changing import apply
from drawknife.core.decide.disk_gate import disk_mends
from drawknife.core.decide.explain import supposed
from drawknife.core.decide.gates import UnknownName, gate_obstacles, open_case, verdict
from drawknife.core.everybody.access_map import AccessMap
from drawknife.core.follows.consequences import Consequences
from drawknife.core.follows.days import consequences
from drawknife.core.follows.promises_held import broken_by
from drawknife.core.follows.some_names import each_once
from drawknife.core.follows.trials_turned import KIND as TURNED
from drawknife.core.model.items import parse_entry, parse_grant
from drawknife.core.prepared.prepared import Prepared, prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.collecting import many_objects
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import UNRECORDED
from drawknife.core.words.sizes import number_of
from drawknife.formats.questions import read_question
from drawknife.mending import mends, stops
from drawknife.mending.search import Changes
from drawknife.mending.steps import with_end

#: Of so many ways what follows is looked at: in a model where accounts times folders are not more
#: than `LARGE`, and in a larger one, where each takes its time.
LOOKED_AT, LOOKED_AT_IN_LARGE, LARGE = 16, 5, 20_000_000
NAMES = 20


class _Way(NamedTuple):
    """A way with what follows from it."""

    changes: Changes
    follows: Consequences
    others: list[str]
    breaks: list[str]
    also: int
    rights: int
    ends: bool

    @property
    def rank(self) -> tuple[bool, int, int, int, int]:
        return bool(self.breaks), len(self.others), self.also, len(self.changes), self.rights


class MendAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that is about mending."""

    def mend(
        self,
        data: Any,
        stop: bool = False,
        most: int = 5,
        until: date | None = None,
        note: str | None = None,
    ) -> msg.MendsAnswer:
        """Find ways after which a refused question is allowed; with `stop`, an allowed one refused.

        `until` and `note` are given to the lines that a way adds. Raises :class:`BadInput`, as a
        decision does.
        """
        if until is not None and until < self.now.date():
            raise BadInput("until", f"{until} is over", f"{self.now.date()} or a later day")
        question, _ = read_question(data)
        if self.known is not None and question.endpoint is not None:
            question = self.known(question, question.at or self.now)
        try:
            now = verdict(self.prepared, question, self.now)
        except UnknownName as unknown:
            raise BadInput(unknown.key, str(unknown), f"the name of an {unknown.kind}") from None
        found = (stops if stop else mends)(self.full, question, self.now)
        folders = sum(len(s.folders) for s in self.full.model.stores)
        large = folders * len(self.full.model.accounts) > LARGE
        looked_at = LOOKED_AT_IN_LARGE if large else LOOKED_AT
        lasting = [with_end(changes, until, note) for changes in found.found[:looked_at]]
        tried = (self._way(changes, question, not stop, ends) for changes, ends in lasting)
        with many_objects():
            ways = _folded(sorted((way for way in tried if way is not None), key=lambda w: w.rank))
        left = self.area_notes()
        if len(found.found) > looked_at:
            left.append(
                f"{number_of(len(found.found) - looked_at, 'more way')}, of which what follows was"
                " not looked at; those with the fewest changes, about the fewest accounts, were"
            )
        if not found.all_looked_at:
            left.append("there may be more ways: not all sets of changes were tried")
        if len(ways) > most:
            left.append(f"{number_of(len(ways) - most, 'more way')}, which do more")
        return msg.MendsAnswer(
            revision=self.revision,
            allowed=now.allowed,
            text=now.text,
            mends=[_message(i, *some) for i, some in enumerate(ways[:most], 1)],
            left_out=left,
            only_area=self.whole is not None,
            on_disk=[] if stop else self._on_disk(question),
        )

    def _on_disk(self, question: Question) -> list[str]:
        """What has to be done on the disk, whatever becomes of the model: what it refuses, then
        each command.
        """
        case = supposed(self.prepared, open_case(self.prepared, question, self.now))
        refused = [x.text for x in gate_obstacles(self.prepared, case, "disk")]
        commands = dict.fromkeys(disk_mends(self.prepared, case.account, question, case.sites))
        return [*refused, *(f"as its owner or as user 0: {command}" for command in commands)]

    def _way(self, changes: Changes, question: Question, wanted: bool, ends: bool) -> _Way | None:
        """A way with what follows from it; None where it turns out on the whole model that it is
        none.
        """
        asker = self.account(question.account).name
        after = prepare(apply(self.full.model, list(changes)).model, self.full)
        then = verdict(after, question, self.now)
        if then.allowed is not wanted and not (wanted and then.gate == "disk"):
            return None
        follows = consequences(self.full, after, self.now, None, self.credentials)
        breaks = [b.text() for b in broken_by(self.full, after, self.now.date(), None)]
        breaks += [f.text for f in follows.new_findings if f.kind in ("promise-broken", TURNED)]
        others = _others(follows, asker)
        also = _also(
            self.full.on(self.now.date()), after.on(self.now.date()), follows, asker, wanted
        )
        return _Way(
            changes, follows, others, list(dict.fromkeys(breaks)), also, _rights(changes), ends
        )


def _others(follows: Consequences, asker: str) -> list[str]:
    """The other accounts for which sign-in, access, settings or room are different, on any day."""
    every: list[Sequence[str]] = []
    for f in (follows, *(then for _, then in follows.later)):
        for some in (f.sign_in, f.access, f.settings, f.room, f.leads):
            every += [change.accounts for change in some]
        every += [f.come, f.gone]
    return [name for name in each_once(every) if name != asker]


def _also(before: Prepared, after: Prepared, follows: Consequences, asker: str, gains: bool) -> int:
    """Count what the asker gains, or where something is stopped loses: each right at each location,
    and each sign-in.

    Locations are those of either model, and at each also a folder in it that is not recorded.
    """
    told = (c for c in follows.access if asker in c.accounts and c.endpoint is None)
    locations = {
        location.partition(f"/{UNRECORDED}")[0] or "/" for c in told for location in c.locations
    }
    was, now = (_rights_at(prepared, asker, locations) for prepared in (before, after))
    more, less = (now, was) if gains else (was, now)
    cells = sum(
        len({(depth, right) for _, depth, right in rights - less.get(location, frozenset())})
        for location, rights in more.items()
    )
    return cells + sum(s.may is gains for s in follows.sign_in if asker in s.accounts)


def _rights_at(
    prepared: Prepared, name: str, locations: Iterable[str]
) -> dict[str, frozenset[tuple[str, int, int]]]:
    """By location what an account can do there and in a folder in it: (whose things, the depth, the
    right).
    """
    found: dict[str, frozenset[tuple[str, int, int]]] = {}
    for cell in AccessMap(prepared, [prepared.people.index[name]]).at(locations):
        levels = enumerate(((cell.plain, cell.owning), cell.below(1)))
        found[cell.location] = frozenset(
            (whose, depth, right)
            for depth, sides in levels
            for whose, sets in zip(("others", "own"), sides, strict=True)
            for right, members in enumerate(sets)
            if members
        )
    return found


def _rights(changes: Changes) -> int:
    """How wide what is added is: the rights that it lets, and more for what speaks below the
    folder, too.
    """
    wide = 0
    for change in changes:
        for line in (change.get("add") or {}).get("entries", ()):
            entry = parse_entry(_text(line))
            wide += (
                entry.rights.bit_count() + (entry.reach != "here") if entry.effect == "allow" else 0
            )
        for line in (change.get("add") or {}).get("grants", ()):
            wide += parse_grant(_text(line)).rights.bit_count()
    return wide


def _text(line: Any) -> str:
    return line if isinstance(line, str) else str(line["line"])


def _folded(ways: Iterable[_Way]) -> list[list[_Way]]:
    """Ways in their order; those that change the same items, and from which the same follows, with
    the first of them.
    """
    found: list[list[_Way]] = []
    for way in ways:
        for some in found:
            if some[0].follows == way.follows and _items(some[0].changes) == _items(way.changes):
                some.append(way)
                break
        else:
            found.append([way])
    return found


def _items(changes: Changes) -> set[tuple[str, str]]:
    return {(c["kind"], c.get("name", "")) for c in changes}


def _message(number: int, way: _Way, *alike: _Way) -> msg.MendMessage:
    return msg.MendMessage(
        alike=[
            msg.AlikeWay(
                says=[says(c) for c in w.changes], changes=[msg.Change(**c) for c in w.changes]
            )
            for w in alike
        ],
        number=number,
        says=[says(c) for c in way.changes],
        changes=[msg.Change(**c) for c in way.changes],
        others=way.others[:NAMES],
        other_count=len(way.others),
        breaks=way.breaks,
        follows=summary(way.follows),
        ends=way.ends,
    )
