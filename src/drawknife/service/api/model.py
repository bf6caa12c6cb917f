"""The whole model, in and out; its findings and its journal."""

from __future__ import annotations

from typing import Any

from flask import Response, g, request
from flask_openapi3 import RawModel
from pydantic import BaseModel

from drawknife.core.model import Model
from drawknife.formats.model_file import json_schema, read_model, write_model
from drawknife.messages import FindingList, JournalLine, JournalPage, Loaded
from drawknife.records.changes import replace_model
from drawknife.records.journal import read_journal

from .common import Page, also_as_rows, answer, ask, blueprint, current, if_match, problems, rows_answer, wanted_type

api = blueprint("model", "The whole model, its findings and its journal")
YAML, JSON = "application/yaml", "application/json"


class ModelFile(RawModel):
    mimetypes: list[str] = [YAML, JSON]


class AnyObject(BaseModel):
    """An object described elsewhere."""


_FILE: dict[Any, Any] = {
    "200": {
        "description": "A model file",
        "content": {YAML: {"schema": {"type": "object"}}, JSON: {"schema": {"type": "object"}}},
    }
}


@api.get("/model", summary="The model in force, as a model file", responses=_FILE)
def read() -> Response:
    snapshot = current().snapshot()
    kind = wanted_type(YAML, JSON)
    response = Response(write_model(snapshot.model, as_json=kind == JSON), mimetype=kind)
    response.headers["ETag"] = f'"{snapshot.revision}"'
    return response


@api.put(
    "/model",
    summary="Put a model file in force in place of the model there is",
    description='With `If-Match: "REVISION"` only if that revision is in force.',
    responses={200: Loaded, **problems(412, 413)},
)
def load(raw: ModelFile) -> Response:
    expected = if_match(request.headers.get("If-Match"))
    model = read_model(request.get_data(cache=False))
    state = current()
    before = state.snapshot()
    after = replace_model(state.database, model, g.who, "load", expected, before)
    state.took(after)
    message = Loaded(revision=after.revision, changed=after.revision != before.revision, counts=_counts(model))
    return answer(message, after.revision)


def _counts(model: Model) -> dict[str, int]:
    counts = {name: len(getattr(model, name)) for name in model.__dataclass_fields__}
    counts["folders"] = sum(len(s.folders) for s in model.stores)
    return counts


@api.get("/model/schema", summary="The JSON Schema of model files", responses={200: AnyObject})
def schema() -> Response:
    from flask import jsonify

    return jsonify(json_schema())


@api.get("/findings", summary="What wants attention though no rule is broken", responses={200: FindingList})
def findings() -> Response:
    asked = ask()
    return answer(asked.findings(), asked.revision)


@api.get("/journal", summary="Who changed what, when; the newest first", responses={200: also_as_rows(JournalPage)})
def journal(query: Page) -> Response:
    total, lines = read_journal(current().database, query.limit, query.offset)
    page = JournalPage(total=total, lines=[JournalLine(**line._asdict()) for line in lines])
    return rows_answer(page, "lines")
