"""Units as a directory has them now: one that is renamed or moved there is followed, with what is
below it.

A unit is known by its ``entryUUID`` (RFC 4530), or what the directory has in its place; one that
has none by its path. It is never moved to a path that another unit has, or that lines of a unit
that is gone still name: whoever is in it would get what was meant for others.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import NamedTuple

from drawknife.core.model import edits
from drawknife.core.model.items import Model, Subject, UnitFacts
from drawknife.core.model.removal import lines_naming
from drawknife.core.words.names import fold

from .reading import DirectoryContents
from .sync_notes import Notes


class FollowedUnits(NamedTuple):
    """`model` with the units that are renamed; `here`: the path in it of each unit, by its path
    there, folded.

    Those that are new are in `added`, those that made room for a renamed one in `removed`, those
    that are not to be taken over in `left_alone`, and `renames` has (old path, new path) in their
    order.
    """

    model: Model
    here: dict[str, str]
    added: list[str]
    removed: list[str]
    left_alone: list[str]
    renames: list[tuple[str, str]]


def follow_units(
    model: Model, directory: str, found: DirectoryContents, notes: Notes
) -> FollowedUnits:
    """Find for each unit of a directory where it is here, and rename what is called otherwise.

    A unit that was renamed may have made room for one that was looked at before it. So all are
    looked at again, until none is renamed.
    """
    renames: list[tuple[str, str]] = []
    added: list[str] = []
    removed: list[str] = []
    for _ in range(len(found.units) + 1):
        said = Notes()
        following = _Following(model, directory, found, said, added)
        _settle_all(following, found.units)
        model, added = following.model, following.added
        renames += following.renames
        removed += following.removed
        if not following.renames:
            break
    notes.take(said)
    return FollowedUnits(model, following.here, added, removed, following.left_alone, renames)


def _settle_all(following: _Following, units: Iterable[str]) -> None:
    """Decide on all units, each after those that it waits for."""
    waiting = sorted(units, key=lambda u: (u.count("/"), fold(u)))
    while waiting:
        still = [unit for unit in waiting if not following.settle(unit)]
        if len(still) == len(waiting):  # they wait for each other
            following.is_last = True
        waiting = still


class _Following:
    """What is done so far. With `is_last`, what waits for another unit to go waits no longer."""

    def __init__(
        self,
        model: Model,
        directory: str,
        found: DirectoryContents,
        notes: Notes,
        added: Iterable[str],
    ) -> None:
        """`added` are the new units that were found so far: a rename may have created one."""
        self._new = {fold(unit) for unit in added}
        self.model, self.directory, self.found, self.notes = model, directory, found, notes
        self.here: dict[str, str] = {}
        self.added: list[str] = []
        self.removed: list[str] = []
        self.left_alone: list[str] = []
        self.renames: list[tuple[str, str]] = []
        self.is_last = False
        self._ids = set(found.unit_ids.values())
        self._gone = {fold(s.name) for s in model.gone if s.kind == "unit"}
        self._refused: dict[str, str] = {}
        self._look()

    def _look(self) -> None:
        """See which units there are in the model."""
        facts = self.model.facts_of_units()
        self._there = {fold(unit): facts.get(unit, UnitFacts(unit)) for unit in self.model.units}
        own = (
            x
            for x in self._there.values()
            if x.source == self.directory and x.source_id is not None
        )
        self._known = {x.source_id: x.path for x in own}

    def settle(self, unit: str) -> bool:
        """Decide on one unit; false if another has to be decided on before."""
        above, _, segment = unit.rpartition("/")
        known_by = self.found.unit_ids.get(fold(unit))
        at = self._known.get(known_by)
        if (why := self._refused.get(fold(above))) is not None:
            if at is None:
                self._refuse(unit, why)
            else:
                self._keep(unit, at, unit, why)
            return True
        if above and fold(above) not in self.here:
            return False
        to = f"{self.here[fold(above)]}/{segment}" if above else segment
        if at is not None and fold(at) != fold(to):
            return self._move(unit, at, to)
        return self._take(unit, to, known_by)

    def _move(self, unit: str, at: str, to: str) -> bool:
        other = self._there.get(fold(to))
        if other is not None and self._goes(other) and not self.is_last:
            return False
        if other is not None and self._removes(other):
            other = None
        is_named = any(_is_at(gone, fold(to)) for gone in self._gone)
        if other is not None or is_named or fold(to).startswith(fold(at) + "/"):
            why = f"{to} already exists here"
            if is_named:
                why = f"entries of a removed unit still name {to}"
            if fold(to).startswith(fold(at) + "/"):
                why = f"{to} is below it"
            self._keep(unit, at, to, why)
            return True
        self.model = edits.rename(self.model, "unit", [(at, to)])
        self.renames.append((at, to))
        self.here = {
            key: to + path[len(at) :] if _is_at(path, at) else path
            for key, path in self.here.items()
        }
        self.added = [to + x[len(at) :] if _is_at(x, at) else x for x in self.added]
        self.here[fold(unit)] = to
        self._look()
        return True

    def _goes(self, other: UnitFacts) -> bool:
        """Is a unit one of this directory's that is still to be decided on, and may make room?"""
        return (
            other.source == self.directory
            and other.source_id in self._ids
            and other.path not in self.here.values()
        )

    def _removes(self, other: UnitFacts) -> bool:
        """Remove a unit that the directory has no more, with those below it, if nobody here is in
        them or names them.
        """
        going = {x.path: x for x in self._there.values() if _is_at(fold(x.path), fold(other.path))}
        if any(
            x.source != self.directory or x.source_id in (None, *self._ids) for x in going.values()
        ):
            return False
        inside = [a for a in self.model.accounts if a.unit in going]
        without = replace(
            self.model,
            units=tuple(u for u in self.model.units if u not in going),
            unit_facts=tuple(x for x in self.model.unit_facts if x.path not in going),
            accounts=tuple(
                replace(a, unit=None) if a.unit in going else a for a in self.model.accounts
            ),
        )
        named = any(lines_naming(without, {Subject("unit", path) for path in going}))
        if named or any(a.source != self.directory for a in inside):
            return False
        self.model = without
        self.removed += going
        self._look()
        return True

    def _take(self, unit: str, to: str, known_by: str | None) -> bool:
        """A unit that is here at its path already, or comes there."""
        other = self._there.get(fold(to))
        if fold(to) in self._gone and fold(to) != fold(unit):  # the one above keeps another name
            self._refuse(unit, f"entries of a removed unit still name {to}")
        elif other is None or fold(to) in self._new:
            self.added.append(to)
            self.here[fold(unit)] = to
        elif other.source == self.directory and other.source_id == known_by:
            self.here[fold(unit)] = to
        elif other.source != self.directory:
            self.left_alone.append(f"unit {unit}")
            self._refused[fold(unit)] = f"{other.path} already exists here"
        elif None in (other.source_id, known_by) or other.source_id not in self._ids:
            if fold(to) != fold(unit):  # the unit above it keeps another name here
                if not self._removes(other):
                    self._refuse(unit, f"{other.path} is still the name of another unit")
                    return True
                self.added.append(to)
                self.here[fold(unit)] = to
                return True
            if other.source_id is not None and known_by is not None:
                self.notes.say(
                    "another-one",
                    f"unit {to} is a different entry in the directory now. Entries and settings of"
                    " the previous one apply to its people: check them",
                )
            self.here[fold(unit)] = to
        elif self._goes(other) and not self.is_last:
            return False
        else:
            self._refuse(unit, f"{other.path} is still the name of another unit")
        return True

    def _keep(self, unit: str, at: str, to: str, why: str) -> None:
        self.notes.say(
            "kept-name", f"unit {at} keeps its name: the directory calls it {to}, but {why}"
        )
        self.here[fold(unit)] = at

    def _refuse(self, unit: str, why: str) -> None:
        self._refused[fold(unit)] = why
        self.notes.say("unit-left-out", f"unit {unit} was skipped: {why}")


def _is_at(path: str, top: str) -> bool:
    return path == top or path.startswith(top + "/")
