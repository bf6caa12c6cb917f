"""A model made ready for many questions.

Names become small numbers, folders that carry nothing drop out of the way, and what is derived of
one part of the model is kept apart from the rest, so that :func:`prepare` can take over from the
revision before whatever has not changed.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Mapping
from copy import copy
from dataclasses import replace
from datetime import date
from functools import cached_property
from typing import NamedTuple

from ..disk.read_folders import Disk
from ..model.disk import OsUser
from ..model.ending import ends, without_ended
from ..model.endpoints import stopped_by
from ..model.items import Endpoint, Model, Setting
from ..words.names import Place, fold
from .namespace import Namespace, VirtualPaths, namespace_of
from .people import People, PreparedAccount
from .stores import PreparedStore

#: So many days as of which a model was asked about are kept.
KEPT_DAYS = 4


class ActingOn(NamedTuple):
    """On which disk a question is decided, and as whom; `user` is None where the machine has none
    of the name.
    """

    disk: Disk
    name: str
    user: OsUser | None


class Prepared:
    """A model made ready. Immutable to its users; caches fill as questions are asked.

    All its lines count, also those that end some day: :meth:`on` gives it as it is on a day. `full`
    is the whole model that it was taken from, itself where nothing has ended.
    """

    def __init__(
        self, model: Model, before: Prepared | None = None, full: Prepared | None = None
    ) -> None:
        self.model = model
        self.full = full or self
        #: By how many of the ends have passed: as the model is then; and as the model before was,
        #: to begin with.
        self._passed: dict[int, Prepared] = {}
        self._passed_before: dict[int, Prepared] = {}
        if before is not None and full is None:
            self._passed_before, before.full._passed_before = dict(before.full._passed), {}
        old = before
        if old is not None and _same(old.model, model, "accounts", "groups", "units"):
            self.people: People = old.people
        else:
            self.people = People(model, old.people if old is not None else None)
            if not self.people.same_numbers:
                old = None
        self.stores: dict[str, PreparedStore] = {}
        for store in model.stores:
            was = old.stores.get(store.name) if old is not None else None
            if was is not None and was.store is store:
                self.stores[store.name] = was
            else:
                self.stores[store.name] = PreparedStore(store, self.people, was)
        if old is not None and _same(old.model, model, "virtual_paths"):
            self.virtual_paths: VirtualPaths = old.virtual_paths
        else:
            self.virtual_paths = VirtualPaths(model.virtual_paths, self.people.number)
        self.endpoints: dict[str, Endpoint] = {fold(e.name): e for e in model.endpoints}
        self.stopped_by = stopped_by(model.endpoints)
        self.settings: dict[int, Setting] = {
            self.people.number(s.subject): s for s in model.settings
        }
        #: Can the limits gate refuse anything at all?
        self.has_limits = bool(
            model.quotas
            or any(s.capacity is not None for s in model.stores)
            or any(
                key in ("upload_limit", "quota_bytes", "quota_files")
                for s in model.settings
                for key, _ in s.values
            )
        )
        #: What was read of the disks of stores, by the store's name.
        self.disks: dict[str, Disk] = {}
        for reading in model.disk_readings:
            seen = old.disks.get(reading.store) if old is not None else None
            self.disks[reading.store] = (
                seen if seen is not None and seen.reading is reading else Disk(reading)
            )
        #: By store and account, whom the server takes on there, as far as it was asked.
        self.taken_on: dict[str, dict[int, ActingOn | None]] = {name: {} for name in self.disks}
        #: What was found lately by an account (its index), a right (negative: on what is its own)
        #: and a location.
        self.decided: dict[tuple[int, int, str], str | None] = {}
        #: And what was said of refusals: account, action, owner, and location; reason and sentence.
        self.sentences: dict[tuple[str, str, str | None, str], tuple[str, str]] = {}
        #: Room for what other modules derive of the whole model, by their own keys.
        self.derived: dict[str, object] = {}

    @cached_property
    def ends(self) -> list[date]:
        """The days until which some line counts, in order."""
        return ends(self.model)

    def on(self, day: date) -> Prepared:
        """The model as it is on a day (UTC): without the lines that have ended by then."""
        full = self.full
        if not full.ends or day <= full.ends[0]:
            return full
        passed = bisect_left(full.ends, day)
        found = full._passed.get(passed)
        if found is None:
            if len(full._passed) >= KEPT_DAYS:
                full._passed.clear()
            found = full._passed[passed] = Prepared(
                without_ended(full.model, day), full._passed_before.pop(passed, full), full
            )
        return found

    def with_owned_folders(self, owners: Mapping[Place, str]) -> Prepared:
        """The model of this day, in which some folders that nobody recorded have owners, by their
        place.

        It stays as it is on every other day.
        """
        by_store: dict[str, dict[str, int]] = {}
        for place, name in owners.items():
            index = self.people.index.get(name)
            if index is not None and place.store in self.stores:
                by_store.setdefault(place.store, {})[place.path] = index
        found = copy(self)
        found.full, found.ends = found, []
        found.decided, found.sentences, found.derived = {}, {}, {}
        found.stores = {
            name: store.owned(by_store[name], self.people) if name in by_store else store
            for name, store in self.stores.items()
        }
        return found

    def without_disks(self) -> Prepared:
        """The same model as if no disk had been read."""
        if not self.model.disk_readings:
            return self
        found = self.derived.get("without disks")
        if not isinstance(found, Prepared):
            found = self.derived["without disks"] = Prepared(
                replace(self.model, disk_readings=()), self
            )
        return found

    def account(self, name: str) -> PreparedAccount | None:
        """The account of that name, whatever the case."""
        index = self.people.index.get(name)
        if index is None:
            index = self.people.by_fold.get(fold(name))
            if index is None:
                return None
        return self.people.prepared(index)

    def namespace(self, account: PreparedAccount) -> Namespace:
        """What the account sees, worked out on first use and kept."""
        for paths, found in account.namespaces:
            if paths is self.virtual_paths:
                return found
        made = namespace_of(account.account, account.ranks, self.virtual_paths)
        account.namespaces = ((self.virtual_paths, made), *account.namespaces[:1])
        return made


def _same(a: Model, b: Model, *sections: str) -> bool:
    return all(getattr(a, s) is getattr(b, s) or getattr(a, s) == getattr(b, s) for s in sections)


def prepare(model: Model, before: Prepared | None = None) -> Prepared:
    """Make `model` (in canonical form) ready, taking over from `before` what has not changed."""
    return Prepared(model, before)
