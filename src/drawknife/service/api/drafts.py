"""Drafts: changes that are not in force."""

from __future__ import annotations

from typing import Annotated

from flask import Response, request
from pydantic import BaseModel, Field

from drawknife import messages as msg

from .common import answer, blueprint, drafting, if_match, problems, sent_model
from .model import ModelFile

api = blueprint("drafts", "Drafts: changes that are not in force")


class DraftPath(BaseModel):
    name: Annotated[str, Field(description="The draft's name")]


class StepPath(DraftPath):
    number: Annotated[int, Field(ge=1, lt=2**31, description="The step's number")]


_WRITES = problems(403, 409, 413, 415)


@api.get("/drafts", summary="The drafts, the newest first", responses={200: msg.DraftList})
def list_drafts() -> Response:
    return answer(drafting().every())


@api.post("/drafts", summary="Begin an empty draft", responses={200: msg.DraftLine, **_WRITES})
def begin(body: msg.NewDraft) -> Response:
    return answer(drafting().begin(body.name, body.about))


@api.get(
    "/drafts/<string:name>",
    summary=(
        "A draft, and what would follow from it today; or which of its steps fit no more, and why"
    ),
    responses={200: msg.DraftAnswer},
)
def show(path: DraftPath) -> Response:
    found = drafting().show(path.name)
    return answer(found, found.revision)


@api.post(
    "/drafts/<string:name>/changes",
    summary="Put changes into a draft, which is begun if there is none of the name",
    responses={200: msg.DraftWritten, **_WRITES},
)
def add_changes(path: DraftPath, body: msg.DraftSteps) -> Response:
    return answer(drafting().add(path.name, [c.plain() for c in body.changes]))


@api.post(
    "/drafts/<string:name>/model",
    summary="Put a whole model into a draft, to take the place of the one in force",
    responses={200: msg.DraftWritten, **_WRITES},
)
def add_model(path: DraftPath, raw: ModelFile) -> Response:
    return answer(drafting().add_model(path.name, sent_model()))


@api.post(
    "/drafts/<string:name>/back",
    summary="Put a way back into a draft: a revision undone, or the whole model as it was",
    responses={200: msg.DraftWritten, **_WRITES},
)
def add_back(path: DraftPath, body: msg.DraftBack) -> Response:
    return answer(drafting().add_back(path.name, body.revision, body.as_of))


@api.delete(
    "/drafts/<string:name>/steps/<int:number>",
    summary="Take a step out of a draft",
    responses={204: None, **problems(403)},
)
def leave_out(path: StepPath) -> Response:
    drafting().leave_out(path.name, path.number)
    return Response(status=204)


@api.post(
    "/drafts/<string:name>/comments",
    summary="Say something of a draft",
    responses={204: None, **_WRITES},
)
def comment(path: DraftPath, body: msg.NewComment) -> Response:
    drafting().comment(path.name, body.says)
    return Response(status=204)


@api.post(
    "/drafts/<string:name>/apply",
    summary="Put a draft in force, as one change",
    description=(
        'With `If-Match: "REVISION"` only if that revision, which it was looked at with, is in'
        " force. Without it, it is refused where others have changed what it touches."
    ),
    responses={200: msg.Changed, **problems(403, 409, 412, 507)},
)
def apply(path: DraftPath) -> Response:
    done = drafting().apply(path.name, if_match(request.headers.get("If-Match")))
    return answer(done, done.revision)


@api.delete("/drafts/<string:name>", summary="Drop a draft", responses={204: None, **problems(403)})
def drop(path: DraftPath) -> Response:
    drafting().drop(path.name)
    return Response(status=204)
