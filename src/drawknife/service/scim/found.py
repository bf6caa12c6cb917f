"""What a directory has, as its client is told."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from flask import request
from psycopg import Connection
from psycopg.rows import TupleRow
from scim2_models import GroupMembership, Meta, NotFoundException, SearchRequest
from scim2_models.path import Comparison

from drawknife.core.words.names import BadValue, fold
from drawknife.directory.sent import name_of
from drawknife.directory.sync import options_of
from drawknife.records import provisioned as records
from drawknife.records.database import Database
from drawknife.records.directories import Directory

from ..security import PROVISIONING
from .resources import KINDS, Group, Kind, Member, User


class Reading:
    """Reading one directory."""

    def __init__(self, database: Database, directory: Directory) -> None:
        self._database, self._directory = database, directory

    def one(self, kind: Kind, id_: str) -> User | Group:
        """One; NotFoundException if there is none."""
        with self._database.connection() as connection:
            found = records.find(connection, self._directory.name, kind.__name__, id_)
            if found is None:
                raise NotFoundException(detail=f"there is no {kind.__name__} {id_}")
            groups = (
                records.groups_of(connection, self._directory.name, id_) if kind is User else ()
            )
        return _as_resource(found, groups)

    def some(self, kind: Kind, wish: SearchRequest[Any]) -> list[User | Group]:
        """Those that a search may be about: by its filter, where that names one by what it is
        called.
        """
        name = self._directory.name
        with self._database.connection() as connection:
            named = self._named(connection, kind, wish)
            found = records.read(connection, name, kind.__name__) if named is None else named
            groups = records.read(connection, name, "Group") if found and kind is User else []
        groups_of: dict[str, list[records.Resource]] = {}
        for group in groups:
            for member in group.body.get("members") or ():
                groups_of.setdefault(member["value"], []).append(group)
        return [_as_resource(r, groups_of.get(r.id, ())) for r in found]

    def _named(
        self, connection: Connection[TupleRow], kind: Kind, wish: SearchRequest[Any]
    ) -> list[records.Resource] | None:
        """What ``userName eq "ines"``, or the like, is about, looked up; None for every other
        filter.
        """
        tree = wish.filter.ast if wish.filter is not None else None
        if (
            not isinstance(tree, Comparison)
            or tree.op.lower() != "eq"
            or not isinstance(tree.value, str)
        ):
            return None
        attribute = tree.attr_path.attr.lower()
        if attribute == "externalid":
            return records.with_external_id(
                connection, self._directory.name, kind.__name__, tree.value
            )
        if attribute != ("username" if kind is User else "displayname"):
            return None
        options = options_of(self._directory)
        if kind is User and options.login_name is not None:
            return records.with_user_name(connection, self._directory.name, tree.value)
        try:
            body = {"userName": tree.value, "displayName": tree.value}
            called = name_of(kind.__name__, body, options)
        except BadValue:
            return []
        return records.with_name(connection, self._directory.name, kind.__name__, fold(called))


def _as_resource(r: records.Resource, groups: Sequence[records.Resource]) -> User | Group:
    """A resource with what is known of it beside what was sent."""
    kind = KINDS[f"{r.kind}s"]
    made: Any = kind.model_validate(r.body)
    made.id = r.id
    made.meta = meta_of(r.kind, f"{r.kind}s", r.id, created=r.made, last_modified=r.changed)
    if isinstance(made, Group):
        made.members = [
            Member(value=m["value"], ref=location_of(f"{m['type']}s", m["value"]), type=m["type"])
            for m in r.body.get("members") or ()
        ] or None
    else:
        made.groups = [
            GroupMembership(
                value=x.id,
                ref=location_of("Groups", x.id),
                display=x.body["displayName"],
                type="direct",
            )
            for x in groups
        ] or None
    return made  # type: ignore[no-any-return]


def location_of(kind: str, id_: str) -> Any:
    """Where a resource is had, as whoever asks sees it."""
    return f"{request.host_url.rstrip('/')}{PROVISIONING}{kind}/{id_}"


def meta_of(kind: str, where: str, id_: str, **more: Any) -> Meta:
    return Meta(resource_type=kind, location=location_of(where, id_), **more)
