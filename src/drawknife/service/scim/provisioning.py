"""What is sent to a directory: kept, and taken over at once, as a sync would; or kept for a sync,
where that is asked for.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any
from uuid import uuid4

from psycopg import Connection
from psycopg.rows import TupleRow
from scim2_models import Context, InvalidValueException, NotFoundException, UniquenessException

from drawknife.core.model.edits import ChangeRefused
from drawknife.core.model.items import Model
from drawknife.core.words.names import BadValue, fold
from drawknife.directory.plan import SyncPlan, plan
from drawknife.directory.sent import check_free, found_in, name_of
from drawknife.directory.sync import counted, options_of, report_of, take_over
from drawknife.records import provisioned as records
from drawknife.records.changes import hold_changes
from drawknife.records.directories import Directory, record_sync

from ..current import Current
from ..syncing import took_over
from .resources import Group, Kind, User

#: Makes the resource as it is to be of the one there is.
Edit = Callable[[User | Group], User | Group]


class Provisioning:
    """Writing to one directory, by one program."""

    def __init__(self, current: Current, directory: Directory, who: str) -> None:
        self._current, self._directory, self._who = current, directory, who
        self._options = options_of(directory)

    def create(self, resource: User | Group) -> str:
        """Add one; its id.

        Who was deleted and comes back under the same name is the same person, with the id of
        before.
        """
        new = str(uuid4())
        taken: list[str] = []

        def write(connection: Connection[TupleRow], model: Model) -> str:
            taken[:] = [self._former_id(connection, model, resource) or new]
            return self._put(connection, model, taken[0], resource)

        self._write(write, "add")
        return taken[0]

    def _former_id(
        self, connection: Connection[TupleRow], model: Model, resource: User | Group
    ) -> str | None:
        """The id of an account of this directory of which it has nobody any more, if that is its
        name; None for all others.
        """
        if not isinstance(resource, User):
            return None
        try:
            body = resource.model_dump(scim_ctx=Context.RESOURCE_CREATION_REQUEST)
            called = fold(name_of("User", body, self._options))
        except BadValue:
            return None
        found = next(
            (
                a
                for a in model.accounts
                if fold(a.name) == called and a.source == self._directory.name
            ),
            None,
        )
        if found is None or found.source_id is None:
            return None
        return (
            None
            if records.each_of(connection, self._directory.name, [found.source_id])
            else found.source_id
        )

    def change(self, kind: Kind, id_: str, edit: Edit) -> None:
        """Change one; NotFoundException if it is not there."""

        def write(connection: Connection[TupleRow], model: Model) -> str:
            return self._put(connection, model, id_, edit(self._there(connection, kind, id_)))

        self._write(write, "change")

    def delete(self, kind: Kind, id_: str) -> None:
        """Take one away: an account is switched off."""

        def write(connection: Connection[TupleRow], _: Model) -> str:
            self._there(connection, kind, id_)
            found = records.find(connection, self._directory.name, kind.__name__, id_)
            assert found is not None
            records.delete(connection, self._directory.name, id_)
            return found.called

        self._write(write, "remove")

    def _there(self, connection: Connection[TupleRow], kind: Kind, id_: str) -> User | Group:
        found = records.find(connection, self._directory.name, kind.__name__, id_)
        if found is None:
            raise NotFoundException(detail=f"there is no {kind.__name__} {id_}")
        return kind.model_validate(found.body)

    def _put(
        self, connection: Connection[TupleRow], model: Model, id_: str, resource: User | Group
    ) -> str:
        """Keep one as it was sent, if it can be one of this directory; what it is called."""
        kind = type(resource).__name__
        body: dict[str, Any] = resource.model_dump(scim_ctx=Context.RESOURCE_CREATION_REQUEST)
        if "\\u0000" in json.dumps(body):
            raise InvalidValueException(
                detail="a value holds the character U+0000, which cannot be kept"
            )
        try:
            called = name_of(kind, body, self._options)
        except BadValue as bad:
            raise InvalidValueException(detail=f"{bad}; expected {bad.expected}") from None
        if isinstance(resource, Group):
            body["members"] = self._members(connection, id_, resource)
        made = records.Resource(id_, kind, fold(called), body)
        for other in records.with_name(connection, self._directory.name, kind, made.called):
            if other.id != id_:
                name = body.get("userName" if kind == "User" else "displayName")
                as_ = "" if self._options.login_name is None else f", here {called!r},"
                raise UniquenessException(
                    detail=f"the {kind} {name!r}{as_} already exists in this directory: {other.id}"
                )
        try:
            check_free(model, self._directory.name, made, called)
            records.put(connection, self._directory.name, made)
        except (ChangeRefused, records.NameTaken) as error:
            raise UniquenessException(detail=str(error)) from None
        return called

    def _members(
        self, connection: Connection[TupleRow], id_: str, group: Group
    ) -> list[dict[str, Any]]:
        """The members, each once and with its kind; only those that the directory has."""
        wanted = list(dict.fromkeys(m.value or "" for m in group.members or ()))
        kinds = {r.id: r.kind for r in records.each_of(connection, self._directory.name, wanted)}
        for value in wanted:
            if value not in kinds:
                raise InvalidValueException(
                    detail=f"there is no User and no Group with the id {value!r}"
                )
            if value == id_:
                raise InvalidValueException(detail="a group is no member of itself")
        return [{"value": value, "type": kinds[value]} for value in wanted]

    def _write(self, write: Callable[[Connection[TupleRow], Model], str], what: str) -> None:
        """Do it whole, or not at all."""
        current, name = self._current, self._directory.name
        before = current.snapshot()
        if self._options.shown_first:
            with current.database.transaction() as connection:
                hold_changes(connection)
                write(connection, before.model)
            return
        held = current.credentials(before)
        called: list[str] = []

        def plan_of(model: Model, connection: Connection[TupleRow]) -> SyncPlan:
            called[:] = [write(connection, model)]
            found = found_in(records.read(connection, name), self._options)
            return plan(model, name, found, 100)

        done = take_over(
            current.database, plan_of, self._who, f"SCIM, directory {name}: {what}", before
        )
        took_over(current, done, held)
        if done.plan.changes:
            report = report_of(
                name,
                self._who,
                "done",
                f"{what} {called[0]}: {counted(done.plan)}",
                None,
                done.plan,
            )
            report = report.model_copy(
                update={"revision": done.after.revision, "at": datetime.now(UTC)}
            )
            record_sync(
                current.database, name, self._who, True, report.revision, report.model_dump_json()
            )
