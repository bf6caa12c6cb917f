"""Carrying names along: every place of a model that names something, written anew."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import NamedTuple

from ..words.names import Place
from .items import Account, Endpoint, Folder, Model, Quota, Setting, Store, Subject, Usage, VirtualPath
from .soundness import WHOLE_HOME


class Rewriting(NamedTuple):
    """What becomes of each name. A subject that becomes None is struck out with the line it stands in."""

    subject: Callable[[Subject], Subject | None]
    account: Callable[[str], str | None]
    unit: Callable[[str], str | None]
    place: Callable[[Place], Place]

    def of(self, model: Model) -> Model:
        """The model with every reference written anew. Definitions stay as they are."""
        return replace(
            model,
            accounts=tuple(map(self._account, model.accounts)),
            groups=tuple(replace(g, members=self._subjects(g.members)) for g in model.groups),
            stores=tuple(map(self._store, model.stores)),
            virtual_paths=tuple(map(self._virtual_path, model.virtual_paths)),
            endpoints=tuple(map(self._endpoint, model.endpoints)),
            settings=tuple(s for s in map(self._setting, model.settings) if s is not None),
            quotas=tuple(map(self._quota, model.quotas)),
            usage=tuple(map(self._usage, model.usage)),
        )

    def _subjects(self, subjects: Iterable[Subject]) -> tuple[Subject, ...]:
        return tuple(s for s in map(self.subject, subjects) if s is not None)

    def _owner(self, name: str | None) -> str | None:
        return None if name is None else self.account(name)

    def _account(self, a: Account) -> Account:
        unit = a.unit and self.unit(a.unit)
        home = a.home and self.place(a.home)
        return a if unit == a.unit and home == a.home else replace(a, unit=unit, home=home)

    def _store(self, s: Store) -> Store:
        return replace(s, folders=tuple(map(self._folder, s.folders)))

    def _folder(self, f: Folder) -> Folder:
        if f.owner is None and not f.entries:
            return f
        entries = tuple(
            e if subject == e.subject else e._replace(subject=subject)
            for e in f.entries
            if (subject := self.subject(e.subject)) is not None
        )
        owner = self._owner(f.owner)
        return f if owner == f.owner and entries == f.entries else replace(f, owner=owner, entries=entries)

    def _virtual_path(self, v: VirtualPath) -> VirtualPath:
        leads_to = v.leads_to
        if leads_to != WHOLE_HOME:
            store, _, path = leads_to.partition(":")
            leads_to = str(self.place(Place(store, path)))
        grants = tuple(
            g._replace(subject=subject) for g in v.grants if (subject := self.subject(g.subject)) is not None
        )
        return replace(v, leads_to=leads_to, grants=grants)

    def _endpoint(self, e: Endpoint) -> Endpoint:
        entries = tuple(
            x._replace(subject=subject) for x in e.entries if (subject := self.subject(x.subject)) is not None
        )
        only = None if e.only is None else self._subjects(e.only)  # emptied, it still admits nobody
        return replace(e, entries=entries, never=self._subjects(e.never), only=only)

    def _setting(self, s: Setting) -> Setting | None:
        subject = self.subject(s.subject)
        values = tuple(
            (name, self.account(value) if name == "uploads_owner" else value)
            for name, value in s.values
            if name != "uploads_owner" or self.account(value) is not None
        )
        return None if subject is None else Setting(subject, values)

    def _quota(self, q: Quota) -> Quota:
        return replace(q, shared_by=self._subjects(q.shared_by), folder=q.folder and self.place(q.folder))

    def _usage(self, u: Usage) -> Usage:
        owner, place = self._owner(u.owner), self.place(u.folder)
        return u if owner == u.owner and place == u.folder else replace(u, owner=owner, folder=place)


def same_subject(subject: Subject) -> Subject | None:
    return subject


def same_name(name: str) -> str | None:
    return name


def same_place(place: Place) -> Place:
    return place
