"""Changes of the model: shown first, then done, together or not at all."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated, Any

from flask import Response, g, request
from psycopg import Connection
from psycopg.rows import TupleRow
from pydantic import Field

from drawknife import messages as msg
from drawknife.answers.previews import item_changes, preview
from drawknife.changing import Applied, apply
from drawknife.core.model.items import Model
from drawknife.formats.model_file import read_model
from drawknife.records import credentials
from drawknife.records.changes import change_model

from ..following import followed_by
from .common import Page, Query, also_as_rows, answer, ask, blueprint, current, if_match, problems, rows_answer
from .model import ModelFile

api = blueprint("changes", "Changes of the model, piece by piece")
Kind = Annotated[
    str, Field(max_length=20, description="account, group, unit, store, folder, virtual-path, endpoint, setting, quota")
]


class ItemsQuery(Page):
    kind: Kind
    limit: Annotated[int, Field(ge=1, le=200_000, description="How many to tell at most")] = 200


class ItemQuery(Query):
    kind: Kind
    name: Annotated[str, Field(min_length=1, max_length=8192, description="Its name; a folder's is STORE:/path")]


@api.get(
    "/items", summary="All items of one kind, as the model file has them", responses={200: also_as_rows(msg.ItemList)}
)
def items(query: ItemsQuery) -> Response:
    asked = ask()
    return rows_answer(asked.items(query.kind, query.offset, query.limit), "items", asked.revision)


@api.get("/item", summary="One item as the model file has it, and what names it", responses={200: msg.ItemMessage})
def item(query: ItemQuery) -> Response:
    asked = ask()
    return answer(asked.item(query.kind, query.name), asked.revision)


def _plain(changes: msg.Changes) -> list[dict[str, Any]]:
    return [
        c.model_dump(exclude_none=True, exclude={"set"}) | ({"set": c.set} if c.set else {}) for c in changes.changes
    ]


def _told(changes: list[dict[str, Any]]) -> str:
    """What the journal says: the change in a few words."""
    first = changes[0]
    called = first.get("name") or _named(first.get("item") or {})
    text = f"{first['op']} {first['kind'].replace('-', ' ')} {called}"
    text += f" to {first['to']}" if first.get("to") else ""
    return text + (f" and {len(changes) - 1} more" if len(changes) > 1 else "")


def _named(item: dict[str, Any]) -> str:
    return str(item.get("name") or item.get("path") or item.get("for") or "")


@api.post(
    "/changes/preview",
    summary="What changes would do: the items that differ, and what follows for whom",
    responses={200: msg.Preview, **problems(409, 413, 415)},
)
def preview_changes(body: msg.Changes) -> Response:
    state = current()
    snapshot, prepared = state.prepared()
    applied = apply(snapshot.model, _plain(body))
    told = preview(
        prepared, applied.model, snapshot.revision, datetime.now(UTC), applied.renames, state.credentials(snapshot),
        (*applied.doubts, *applied.notes),
    )  # fmt: skip
    return answer(told, snapshot.revision)


@api.post(
    "/changes/check",
    summary="Could the changes be done, and do they look like slips? Nothing is changed, nor looked at what follows",
    responses={200: msg.Checked, **problems(409, 413, 415)},
)
def check_changes(body: msg.Changes) -> Response:
    snapshot = current().snapshot()
    applied = apply(snapshot.model, _plain(body))
    message = msg.Checked(revision=snapshot.revision, doubts=list(applied.doubts), notes=list(applied.notes))
    return answer(message, snapshot.revision)


@api.post(
    "/changes",
    summary="Change the model; all of the changes are done, or none",
    description='One revision and one line in the journal. With `If-Match: "REVISION"` only if that revision is in force.',
    responses={200: msg.Changed, **problems(409, 412, 413, 415, 507)},
)
def change(body: msg.Changes) -> Response:
    expected = if_match(request.headers.get("If-Match"))
    changes = _plain(body)
    state = current()
    held = state.credentials(state.snapshot())
    done: list[tuple[Model, Applied]] = []

    def edit(model: Model, connection: Connection[TupleRow]) -> Model:
        applied = apply(model, changes)
        for r in applied.renames.each:
            if r.kind == "account":
                credentials.carry_renamed(connection, r.old, r.new)
        done.append((model, applied))
        return applied.model

    after = change_model(state.database, edit, g.who, _told(changes), expected, state.snapshot())
    before, applied = done[-1]
    state.took(after)
    count, items = item_changes(before, after.model)
    followed = followed_by(state, before, after, applied.renames, held)
    message = msg.Changed(
        revision=after.revision,
        changed=count > 0,
        item_count=count,
        items=items,
        followed=followed,
        notes=[*applied.doubts, *applied.notes],
    )
    return answer(message, after.revision)


@api.post(
    "/model/preview",
    summary="What putting a model file in force would change, and what follows",
    responses={200: msg.Preview, **problems(413)},
)
def preview_model(raw: ModelFile) -> Response:
    model = read_model(request.get_data(cache=False))
    state = current()
    snapshot, prepared = state.prepared()
    told = preview(
        prepared, model, snapshot.revision, datetime.now(UTC), credentials=state.credentials(snapshot)
    )  # fmt: skip
    return answer(told, snapshot.revision)
