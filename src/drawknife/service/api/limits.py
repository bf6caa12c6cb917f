"""The way in and the limits: reach, certificates, lockout, headroom, usage, the sheet
for a user.
"""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated, Literal
from urllib.parse import quote

from flask import Response, g
from pydantic import Field

from drawknife import messages as msg
from drawknife.core.model.endpoints import read_address
from drawknife.core.words.errors import BadInput, NotAllowed
from drawknife.core.words.names import fold
from drawknife.records import censuses, sign_ins
from drawknife.records.journal import note

from ..keeping import check_account_named
from .common import (
    Asking,
    AskingPage,
    NamePath,
    Query,
    also_as_rows,
    answer,
    ask,
    blueprint,
    current,
    not_ahead,
    problems,
    reading,
    rows_answer,
)

api = blueprint("limits", "The way in and the limits")


class EndpointPath(Query):
    name: Annotated[str, Field(description="The endpoint's name")]


class ReachQuery(Asking):
    client: Annotated[str, Field(max_length=45, alias="from", description="The client's address")]


class AtQuery(Asking):
    at: Annotated[str | None, Field(description="As of this ISO 8601 time instead of now")] = None


class HeadroomQuery(AtQuery):
    location: msg.Location


class UsageQuery(AskingPage):
    by: Literal["account", "group", "unit", "folder", "store"] = "account"


class HandoverQuery(Asking):
    endpoint: str | None = None
    format: Literal["text", "markdown", "html"] = "text"


class LockPath(Query):
    of: Literal["account", "address"]
    name: Annotated[str, Field(max_length=100)]


@api.get(
    "/endpoints/<string:name>/reach",
    summary="Can a client at an address come to it?",
    responses={200: msg.ReachAnswer},
)
def reach(path: EndpointPath, query: ReachQuery) -> Response:
    asked = ask(query)
    return answer(asked.reach(path.name, query.client), asked.revision)


@api.get(
    "/endpoints/<string:name>/certificate",
    summary="What its certificate says, and what is wrong with it",
    responses={200: msg.CertificateAnswer},
)
def certificate(path: EndpointPath) -> Response:
    asked = ask()
    way_in = asked.endpoint(path.name)
    if way_in is not None and way_in.certificate is not None:
        current().certificates.wait_for(way_in)
    return answer(asked.certificate(path.name))


# --- sign-in ------------------------------------------------------------------------------------


@api.post(
    "/sign-ins",
    summary="Report failed sign-ins, and sessions that began or ended",
    responses={200: msg.Taken, **problems(413, 415)},
)
def report_sign_ins(body: msg.SignInEvents) -> Response:
    now = datetime.now(UTC)
    events = []
    for i, e in enumerate(body.events):
        address = _address(e.address, f"events[{i}].address")
        check_account_named(current(), g.holder, e.account)
        if g.holder.area is not None and e.what != "ended":
            raise NotAllowed(
                f"events[{i}] also counts for the address {address}, and addresses lie in no area;"
                " report sign-ins with a token of an administrator without an area"
            )
        at = now if e.at is None else not_ahead(e.at, now, f"events[{i}].at")
        events.append(sign_ins.Event(at, e.what, e.account, address, e.endpoint, e.session))
    return answer(msg.Taken(count=sign_ins.add_events(current().database, events)))


def _address(text: str, where: str) -> str:
    """An address in the one form in which it is counted; :class:`BadInput` for what is none."""
    try:
        return str(read_address(text))
    except ValueError:
        raise BadInput(where, f"{text!r} is no address", "an IPv4 or IPv6 address") from None


@api.get(
    "/lockouts",
    summary="What counts against whom, and until when who is locked",
    responses={200: also_as_rows(msg.LockoutList)},
)
def lockouts() -> Response:
    state = current()
    snapshot = state.snapshot()
    found = sign_ins.all_counting(state.database, snapshot.model, datetime.now(UTC))
    if (shown := reading().accounts()) is not None:
        found = [c for c in found if c.of == "account" and fold(c.name) in shown]
    message = msg.LockoutList(
        revision=snapshot.revision,
        counting=[
            msg.CountingMessage(
                of=c.of, name=c.name, failures=list(c.failures), most=c.most, locked_until=c.until
            )
            for c in found
        ],
    )
    return rows_answer(message, "counting", snapshot.revision)


@api.delete(
    "/lockouts/<string:of>/<string:name>",
    summary="Lift a lock: nothing before now counts any more",
    responses={204: None},
)
def lift(path: LockPath) -> Response:
    if path.of == "account":
        check_account_named(current(), g.holder, path.name)
    elif g.holder.area is not None:
        raise NotAllowed(
            f"addresses lie in no area, and yours is {', '.join(g.holder.area)}: ask for the lock"
            " to be lifted"
        )
    name = path.name if path.of == "account" else _address(path.name, "name")
    sign_ins.lift(current().database, path.of, name, g.who)
    note(current().database, g.who, f"lift the lock of {path.of} {name}")
    return Response(status=204)


# --- usage and limits ---------------------------------------------------------------------------


@api.get(
    "/accounts/<string:name>/headroom",
    summary="How much more fits at a location, and which limit binds",
    responses={200: msg.HeadroomAnswer},
)
def headroom(path: NamePath, query: HeadroomQuery) -> Response:
    asked = ask(query)
    return answer(asked.headroom(path.name, query.location, query.at), asked.revision)


@api.get(
    "/usage",
    summary="Usage by accounts, groups, units, folders, or stores",
    responses={200: also_as_rows(msg.UsageAnswer)},
)
def usage(query: UsageQuery) -> Response:
    asked = ask(query)
    return rows_answer(asked.usage(query.by, query.offset, query.limit), "lines", asked.revision)


@api.get(
    "/limits",
    summary="Every limit, who and what fills it, how it grows, and what is given away in sum",
    responses={200: also_as_rows(msg.LimitList)},
)
def limits(query: AtQuery) -> Response:
    asked = ask(query)
    return rows_answer(
        asked.limits(query.at, censuses.read_levels(current().database)), "limits", asked.revision
    )


# --- handing over -------------------------------------------------------------------------------


@api.get(
    "/accounts/<string:name>/handover",
    summary="A short sheet for the account's user, without secrets",
    responses={200: msg.HandoverAnswer},
)
def handover(path: NamePath, query: HandoverQuery) -> Response:
    asked = ask(query)
    return answer(asked.handover(path.name, query.endpoint, query.format), asked.revision)


class SheetQuery(Asking):
    endpoint: str | None = None


@api.get(
    "/accounts/<string:name>/handover/document",
    summary="The same sheet as a PDF",
    responses={
        200: {"content": {"application/pdf": {"schema": {"type": "string", "format": "binary"}}}}
    },
)
def handover_document(path: NamePath, query: SheetQuery) -> Response:
    response = Response(
        ask(query).handover_document(path.name, query.endpoint), mimetype="application/pdf"
    )
    response.headers["Content-Disposition"] = f"inline; filename*=UTF-8''{quote(path.name)}.pdf"
    return response
