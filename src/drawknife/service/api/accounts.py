"""Accounts: what they are, what they count as, what they can do."""

from __future__ import annotations

from typing import Annotated

from flask import Response
from pydantic import Field

from drawknife import messages as msg

from .common import (
    CSV,
    JSON,
    LINES,
    OF_WHICH_MODEL,
    Asking,
    AskingPage,
    NamePath,
    also_as_rows,
    answer,
    ask,
    blueprint,
    rows_answer,
    rows_response,
    wanted_type,
)

api = blueprint("accounts", "Accounts, their standing and their access")


class Matching(AskingPage):
    matching: Annotated[
        str, Field(max_length=200, description="Part of a name, display name, mail or unit")
    ] = ""
    limit: Annotated[int, Field(ge=1, le=200_000, description="How many to tell at most")] = 200


class Accounts(Matching):
    expires_within: Annotated[
        int | None, Field(ge=0, le=36_500, description="Days to the last day, or over")
    ] = None
    off: Annotated[bool, Field(description="Only those that are switched off")] = False
    locked: Annotated[bool, Field(description="Only those that are locked out now")] = False
    no_credential: Annotated[
        bool, Field(description="Only those that have nothing to sign in with")
    ] = False
    source: Annotated[
        str | None, Field(max_length=64, description="Only those of this directory, or `local`")
    ] = None


class Under(AskingPage):
    under: msg.Location = "/"
    endpoint: Annotated[str | None, Field(description="As it is through this endpoint")] = None
    limit: Annotated[int, Field(ge=1, le=2_000_000, description="How many to tell at most")] = 1000


class Folded(Under):
    folded: Annotated[bool, Field(description="Only count what is as the location above it")] = (
        False
    )
    depth: (
        Annotated[int, Field(ge=0, le=4096, description="So many levels below at most")] | None
    ) = None
    matching: Annotated[
        str, Field(max_length=4200, description="Only locations with this in them, not folded")
    ] = ""


class At(Asking):
    location: msg.Location = "/"
    endpoint: str | None = None


@api.get(
    "/accounts",
    summary="Accounts, in order of names",
    responses={200: also_as_rows(msg.AccountList)},
)
def accounts(query: Accounts) -> Response:
    asked = ask(query)
    return rows_answer(
        asked.accounts(**query.model_dump(exclude=set(OF_WHICH_MODEL))), "accounts", asked.revision
    )


@api.get(
    "/host-users",
    summary="The users on the host that accounts act as",
    responses={200: msg.HostUsers},
)
def host_users(query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.host_users(), asked.revision)


@api.get("/accounts/<string:name>", summary="One account", responses={200: msg.AccountDetail})
def account(path: NamePath, query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.account_detail(path.name), asked.revision)


@api.get(
    "/accounts/<string:name>/standing",
    summary="What an account counts as, and its settings, each with where it comes from",
    responses={200: msg.StandingAnswer},
)
def standing(path: NamePath, query: Asking) -> Response:
    asked = ask(query)
    return answer(asked.standing(path.name), asked.revision)


@api.get(
    "/accounts/<string:name>/access",
    summary="The effective access of an account, in tree order of its locations",
    description="As JSON lines or CSV all of it is sent as it is made, unless a limit is given.",
    responses={200: also_as_rows(msg.AccessAnswer)},
)
def access(path: NamePath, query: Folded) -> Response:
    asked = ask(query)
    kind = wanted_type(JSON, LINES, CSV)
    if kind != JSON and "limit" not in query.model_fields_set and query.depth is None:
        rows = asked.access_rows(
            path.name, query.under, query.endpoint, query.folded, query.matching
        )
        return rows_response(rows, kind, asked.revision)
    found = asked.access(
        path.name,
        query.under,
        query.endpoint,
        query.offset,
        limit=query.limit,
        folded=query.folded,
        deepest=query.depth,
        matching=query.matching,
    )
    return rows_answer(found, "rows", asked.revision)


@api.get(
    "/accounts/<string:name>/listing",
    summary="The folders that an account sees where it lists a location",
    responses={200: also_as_rows(msg.ListingAnswer)},
)
def listing(path: NamePath, query: At) -> Response:
    asked = ask(query)
    return rows_answer(
        asked.listing(path.name, query.location, query.endpoint), "folders", asked.revision
    )
