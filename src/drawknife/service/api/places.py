"""Places: stores, folders, virtual paths, endpoints; and the overview of all."""

from __future__ import annotations

from typing import Annotated

from flask import Response
from pydantic import Field

from drawknife import messages as msg

from .common import Asking, answer, ask, blueprint

api = blueprint("places", "Stores, folders, virtual paths, endpoints")


class PlaceQuery(Asking):
    place: Annotated[str, Field(min_length=1, max_length=4200, description="STORE:/folder")]


@api.get(
    "/overview",
    summary="How much there is, and what wants attention",
    responses={200: msg.Overview},
)
def overview(query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.overview(), asked.revision)


@api.get("/stores", summary="The stores", responses={200: msg.StoreList})
def stores(query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.stores(), asked.revision)


@api.get(
    "/folders",
    summary="One folder, what it carries and what is in it",
    responses={200: msg.FolderAnswer},
)
def folder(query: PlaceQuery) -> Response:
    asked = ask(query)
    return answer(asked.folder(query.place), asked.revision)


@api.get(
    "/folders/inside", summary="Who can do what in a folder", responses={200: msg.InsideAnswer}
)
def inside(query: PlaceQuery) -> Response:
    asked = ask(query)
    return answer(asked.inside(query.place), asked.revision)


@api.get("/virtual-paths", summary="The virtual paths", responses={200: msg.VirtualPathList})
def virtual_paths(query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.virtual_paths(), asked.revision)


@api.get(
    "/endpoints", summary="The endpoints, and which do not start", responses={200: msg.EndpointList}
)
def endpoints(query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.endpoints(), asked.revision)
