"""Censuses: what was found in stores, and what it makes of their usage."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime
from typing import Annotated

from flask import Response, g
from psycopg import Connection
from psycopg.rows import TupleRow
from pydantic import Field

from drawknife import messages as msg
from drawknife.core.follows.pairing import Renames
from drawknife.core.limits.usage import Filled, every_limit
from drawknife.core.model.edits import checked, find
from drawknife.core.model.items import Folder, Model, Usage
from drawknife.core.model.values import moment as read_moment
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.names import BadValue, Place, check_path, fold
from drawknife.core.words.sizes import number_of, show_sizes
from drawknife.records import censuses
from drawknife.records.changes import change_model
from drawknife.records.journal import note

from ..keeping import check_may, check_place, note_what_followed
from .common import (
    Page,
    Query,
    also_as_rows,
    answer,
    blueprint,
    current,
    not_ahead,
    problems,
    reading,
    rows_answer,
)

api = blueprint("limits", "The way in and the limits", part="censuses")


@api.get(
    "/censuses",
    summary="The censuses, the newest first",
    responses={200: also_as_rows(msg.CensusList)},
)
def list_censuses(query: Page) -> Response:
    found = censuses.read_censuses(current().database, query.limit)
    if (area := reading().area) is not None:
        found = [c for c in found if area.holds_place(Place(c.store, "/"))]
    lines = [
        msg.CensusLine.model_validate_json(c.report).model_copy(update={"at": c.at, "who": c.who})
        for c in found
    ]
    return rows_answer(msg.CensusList(censuses=lines), "censuses")


@api.post(
    "/censuses",
    summary="Send what a census found: it takes the place of the store's usage",
    description="With a time before the last census of the store, only the history is added to.",
    responses={200: msg.CensusDone, **problems(409, 413, 415)},
)
def take_census(body: msg.NewCensus) -> Response:
    state = current()
    now = datetime.now(UTC)
    at = now if body.at is None else not_ahead(body.at, now, "at")
    added: list[int] = []

    def edit(model: Model, connection: Connection[TupleRow]) -> Model:
        store = find(model, "store", body.store)
        after, new = _with_census(model, store.name, body, reading().accounts())
        total = sum(r.bytes for r in body.rows), sum(r.files for r in body.rows)
        line = msg.CensusLine(
            store=store.name,
            at=at,
            who=g.who,
            measured=body.measured,
            bytes=total[0],
            files=total[1],
            unknown_owners=body.unknown_owners,
            unreadable=body.unreadable,
            notes=body.notes,
        )
        last = censuses.last_census(connection, store.name)
        newest = last is None or at >= last
        levels = [
            (f.limit.kind, f.limit.name, f.limit.used_bytes, f.limit.used_files)
            for f in every_limit(prepare(after).on(at.date()))
            if _measured_by(f, store.name, newest)
        ]
        kept = censuses.Census(store.name, at, g.who, body.measured, *total, line.model_dump_json())
        censuses.record_census(connection, kept, levels)
        if not newest:
            return model
        added.append(new)
        return after

    check_place(g.holder, Place(body.store, "/"))
    before = state.snapshot()
    was: list[Model] = []

    def noting(model: Model, connection: Connection[TupleRow]) -> Model:
        was.append(model)
        after = edit(model, connection)
        check_may(state, g.holder, model, after, Renames())
        return after

    after = change_model(
        state.database, noting, g.who, _counted(body.store), None, at_hand=before, kind="census"
    )
    state.took(after)
    note_what_followed(state, was[-1], after, state.credentials(before))
    message = msg.CensusDone(
        revision=after.revision,
        changed=after.revision != before.revision,
        store=body.store,
        bytes=sum(r.bytes for r in body.rows),
        files=sum(r.files for r in body.rows),
        new_folders=sum(added),
    )
    return answer(message, after.revision)


def _counted(store: str) -> Callable[[Model, Model], str]:
    """What the journal says of a census: what was counted until then, and what now."""

    def said(before: Model, after: Model) -> str:
        was, now = (
            [u for u in model.usage if u.folder.store == store] for model in (before, after)
        )
        files = sum(u.files for u in now) - sum(u.files for u in was)
        return (
            f"census of {store}: {show_sizes(sum(u.bytes for u in was), sum(u.bytes for u in now))}"
            f" in {number_of(sum(u.files for u in now), 'file')} ({files:+,})"
        ).replace("(-", "(−")

    return said


class CensusQuery(Query):
    store: msg.Name
    at: Annotated[str, Field(max_length=40, description="When it was, as the list tells it")]


@api.delete(
    "/censuses",
    summary="Forget a census: its line, and what it added to the history of limits",
    responses={204: None},
)
def forget_census(query: CensusQuery) -> Response:
    database = current().database
    try:
        at = read_moment(query.at)
    except BadValue as bad:
        raise BadInput("at", str(bad), bad.expected) from None
    check_place(g.holder, Place(query.store, "/"))
    if not censuses.forget(database, query.store, at):
        raise NotFound(
            f"census of {query.store} at",
            query.at,
            [
                c.at.isoformat()
                for c in censuses.read_censuses(database, 200)
                if c.store == query.store
            ],
            "at",
        )
    note(
        database,
        g.who,
        f"forget the census of {query.store} at {at.isoformat(timespec='seconds')}",
        kind="census",
    )
    return Response(status=204)


def _measured_by(f: Filled, store: str, newest: bool) -> bool:
    """Does a census of this store say what stands against a limit?

    Of an older one, only if it is all of the store's.
    """
    if f.limit.kind == "capacity":
        return f.limit.name == store
    return f.place.startswith(f"{store}:") if f.limit.kind == "folder" else newest


def _with_census(
    model: Model, store: str, body: msg.NewCensus, known: frozenset[str] | None
) -> tuple[Model, int]:
    """The model with the usage of a store replaced, and how many new folders it has.

    `known` are the accounts that are there for who sends it, in the form in which names are
    compared; None: all.
    """
    names = {fold(a.name): a.name for a in model.accounts if known is None or fold(a.name) in known}
    rows: dict[tuple[str, str | None], list[int]] = {}
    for i, r in enumerate(body.rows):
        owner = None
        if r.owner is not None:
            owner = names.get(fold(r.owner))
            if owner is None:
                raise NotFound("account", r.owner, names.values(), f"rows[{i}].owner")
        total = rows.setdefault((_path(r.folder, f"rows[{i}].folder"), owner), [0, 0])
        total[0] += r.bytes
        total[1] += r.files
    usage = [u for u in model.usage if u.folder.store != store]
    old = {(u.folder.path, u.owner): u for u in model.usage if u.folder.store == store}
    for key, (b, n) in rows.items():
        made = Usage(Place(store, key[0]), key[1], b, n)
        was = old.get(key)
        usage.append(was if was == made and was is not None else made)
    recorded = {f.path for s in model.stores if s.name == store for f in s.folders}
    new = [
        p
        for i, f in enumerate(body.new_folders)
        if (p := _path(f, f"new_folders[{i}]")) not in recorded
    ]
    stores = tuple(
        (
            replace(s, folders=(*s.folders, *(Folder(p) for p in dict.fromkeys(new))))
            if s.name == store and new
            else s
        )
        for s in model.stores
    )
    return checked(replace(model, usage=tuple(usage), stores=stores), model), len(new)


def _path(text: str, where: str) -> str:
    try:
        return check_path(text)
    except BadValue as bad:
        raise BadInput(where, str(bad), bad.expected) from None
