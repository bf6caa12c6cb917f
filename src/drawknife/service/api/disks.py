"""What was read of disks, and drift."""

from __future__ import annotations

from typing import Annotated

from flask import Response
from pydantic import BaseModel, Field

from drawknife import messages as msg
from drawknife.answers.disk import TOLD

from .common import Asking, answer, ask, blueprint

api = blueprint(
    "disks", "What was read of disks, and where they say something else than the model."
)


class StorePath(BaseModel):
    store: Annotated[str, Field(min_length=1, max_length=64)]


class DriftQuery(Asking):
    account: Annotated[str, Field(min_length=1, max_length=64)] | None = Field(
        None, description="Only of this account"
    )
    most: Annotated[int, Field(ge=1, le=200_000)] = Field(TOLD, description="So many lines at most")


@api.get("/disks", summary="What was read of the disks of stores", responses={200: msg.DiskList})
def disks(query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.disks(), asked.revision)


@api.get(
    "/disks/<store>/plan",
    summary="What makes a disk say what the model says",
    responses={200: msg.PlanAnswer},
)
def plan(path: StorePath, query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.disk_plan(path.store), asked.revision)


@api.get(
    "/disks/<store>/adoption",
    summary="What a disk says, as changes of the model",
    responses={200: msg.AdoptAnswer},
)
def adoption(path: StorePath, query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.adopt(path.store), asked.revision)


@api.get(
    "/disks/<store>/descriptors",
    summary="The security descriptors that say what the model says",
    responses={200: msg.DescriptorsAnswer},
)
def descriptors(path: StorePath, query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.descriptors(path.store), asked.revision)


@api.get(
    "/disks/<store>/drift",
    summary="Where the server and a disk do not say the same",
    responses={200: msg.DriftAnswer},
)
def drift(path: StorePath, query: DriftQuery) -> Response:
    asked = ask(query)
    return answer(asked.drift(path.store, query.account, query.most), asked.revision)
