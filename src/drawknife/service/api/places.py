"""Places: stores, folders, virtual paths, endpoints; and the overview of all."""

from __future__ import annotations

from typing import Annotated

from flask import Response
from pydantic import Field

from drawknife import messages as msg
from drawknife.records.directories import last_syncs

from .common import Asking, answer, ask, blueprint, current

api = blueprint("places", "Stores, folders, virtual paths, endpoints")


class PlaceQuery(Asking):
    place: Annotated[str, Field(min_length=1, max_length=4200, description="STORE:/folder")]


@api.get("/overview", summary="How much there is, and what wants attention", responses={200: msg.Overview})
def overview(query: Asking) -> Response:
    asked = ask(query)
    found = asked.overview()
    if asked.whole is not None:  # directories lie in no area
        return answer(found, asked.revision)
    failed = [
        msg.FindingMessage(
            kind="sync-failed",
            about=name,
            severity="risk",
            text=f"the last sync of {name} {report.state}: {report.text}",
        )
        for name, (_, text) in last_syncs(current().database).items()
        if (report := msg.SyncReport.model_validate_json(text)).state in ("failed", "refused")
    ]
    shown, accepted = asked.part_accepted([*failed, *found.findings, *found.accepted])
    return answer(found.model_copy(update={"findings": shown, "accepted": accepted}), asked.revision)


@api.get("/stores", summary="The stores", responses={200: msg.StoreList})
def stores(query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.stores(), asked.revision)


@api.get("/folders", summary="One folder, what it carries and what is in it", responses={200: msg.FolderAnswer})
def folder(query: PlaceQuery) -> Response:
    asked = ask(query)
    return answer(asked.folder(query.place), asked.revision)


@api.get("/folders/inside", summary="Who can do what in a folder", responses={200: msg.InsideAnswer})
def inside(query: PlaceQuery) -> Response:
    asked = ask(query)
    return answer(asked.inside(query.place), asked.revision)


@api.get("/virtual-paths", summary="The virtual paths", responses={200: msg.VirtualPathList})
def virtual_paths(query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.virtual_paths(), asked.revision)


@api.get("/endpoints", summary="The endpoints, and which do not start", responses={200: msg.EndpointList})
def endpoints(query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.endpoints(), asked.revision)
