"""The way in and the limits: reach, certificates, lockout, headroom, usage, censuses, the sheet for a user."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from typing import Annotated, Literal
from urllib.parse import quote

from flask import Response, g
from psycopg import Connection
from psycopg.rows import TupleRow
from pydantic import Field

from drawknife import messages as msg
from drawknife.core.limits.usage import Filled, every_limit
from drawknife.core.model.edits import checked, find
from drawknife.core.model.endpoints import read_address
from drawknife.core.model.items import Folder, Model, Usage
from drawknife.core.model.values import moment as read_moment
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.names import BadValue, Place, check_path, fold
from drawknife.records import censuses, sign_ins
from drawknife.records.changes import change_model
from drawknife.records.journal import note

from ..keeping import check_account, check_place, note_what_followed
from .common import (
    Asking,
    AskingPage,
    NamePath,
    Page,
    Query,
    also_as_rows,
    answer,
    ask,
    blueprint,
    current,
    problems,
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
    "/endpoints/<string:name>/reach", summary="Can a client at an address come to it?", responses={200: msg.ReachAnswer}
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


# --- sign-in --------------------------------------------------------------------------------------


#: How far the clock of another machine may be ahead.
AHEAD = timedelta(minutes=5)


def _not_ahead(at: datetime, now: datetime, where: str) -> datetime:
    """A time in UTC that has come, but for the differences of clocks; :class:`BadInput` if it is none."""
    try:
        found = at.astimezone(UTC) if at.tzinfo else at.replace(tzinfo=UTC)
    except OverflowError:
        raise BadInput(where, f"{at.isoformat()} is out of range", "a time that has come") from None
    if found - now > AHEAD:
        raise BadInput(where, f"{found.isoformat()} lies ahead", "a time that has come, in UTC or with its offset")
    if found.year < 1970:
        raise BadInput(where, f"{found.isoformat()} is too long ago", "a time since 1970")
    return found


@api.post(
    "/sign-ins",
    summary="Report failed sign-ins, and sessions that began or ended",
    responses={200: msg.Taken, **problems(413, 415)},
)
def report_sign_ins(body: msg.SignInEvents) -> Response:
    now = datetime.now(UTC)
    events = []
    for i, e in enumerate(body.events):
        try:
            address = str(read_address(str(ip_address(e.address))))
        except ValueError:
            raise BadInput(f"events[{i}].address", f"{e.address!r} is no address", "an IPv4 or IPv6 address") from None
        if g.holder.area is not None:
            named = current().prepared()[1].account(e.account)
            check_account(g.holder, named.account if named is not None else None, f"account {e.account}")
        at = now if e.at is None else _not_ahead(e.at, now, f"events[{i}].at")
        events.append(sign_ins.Event(at, e.what, e.account, address, e.endpoint, e.session))
    return answer(msg.Taken(count=sign_ins.add_events(current().database, events)))


@api.get(
    "/lockouts",
    summary="What counts against whom, and until when who is locked",
    responses={200: also_as_rows(msg.LockoutList)},
)
def lockouts() -> Response:
    state = current()
    snapshot = state.snapshot()
    found = sign_ins.all_counting(state.database, snapshot.model, datetime.now(UTC))
    message = msg.LockoutList(
        revision=snapshot.revision,
        counting=[
            msg.CountingMessage(of=c.of, name=c.name, failures=list(c.failures), most=c.most, locked_until=c.until)
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
    if g.holder.area is not None:
        account = current().prepared()[1].account(path.name) if path.of == "account" else None
        check_account(g.holder, account.account if account is not None else None, f"{path.of} {path.name}")
    sign_ins.lift(current().database, path.of, path.name, g.who)
    note(current().database, g.who, f"lift the lock of {path.of} {path.name}")
    return Response(status=204)


# --- usage and limits -----------------------------------------------------------------------------


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
    return rows_answer(asked.limits(query.at, censuses.read_levels(current().database)), "limits", asked.revision)


@api.get("/censuses", summary="The censuses, the newest first", responses={200: also_as_rows(msg.CensusList)})
def list_censuses(query: Page) -> Response:
    found = censuses.read_censuses(current().database, query.limit)
    lines = [msg.CensusLine.model_validate_json(c.report).model_copy(update={"at": c.at, "who": c.who}) for c in found]
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
    at = now if body.at is None else _not_ahead(body.at, now, "at")
    added: list[int] = []

    def edit(model: Model, connection: Connection[TupleRow]) -> Model:
        store = find(model, "store", body.store)
        after, new = _with_census(model, store.name, body)
        total = sum(r.bytes for r in body.rows), sum(r.files for r in body.rows)
        line = msg.CensusLine(
            store=store.name, at=at, who=g.who, measured=body.measured, bytes=total[0], files=total[1],
            unknown_owners=body.unknown_owners, unreadable=body.unreadable, notes=body.notes,
        )  # fmt: skip
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
        return edit(model, connection)

    after = change_model(state.database, noting, g.who, f"census of {body.store}", None, before)
    state.took(after)
    note_what_followed(state, was[-1], after, state.credentials(before))
    message = msg.CensusDone(
        revision=after.revision, changed=after.revision != before.revision, store=body.store,
        bytes=sum(r.bytes for r in body.rows), files=sum(r.files for r in body.rows), new_folders=sum(added),
    )  # fmt: skip
    return answer(message, after.revision)


class CensusQuery(Query):
    store: msg.Name
    at: Annotated[str, Field(max_length=40, description="When it was, as the list tells it")]


@api.delete(
    "/censuses", summary="Forget a census: its line, and what it added to the history of limits", responses={204: None}
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
            [c.at.isoformat() for c in censuses.read_censuses(database, 200)],
            "at",
        )
    note(database, g.who, f"forget the census of {query.store} at {at.isoformat(timespec='seconds')}")
    return Response(status=204)


def _measured_by(f: Filled, store: str, newest: bool) -> bool:
    """Does a census of this store say what stands against a limit? Of an older one, only if it is all of the store's."""
    if f.limit.kind == "capacity":
        return f.limit.name == store
    return f.place.startswith(f"{store}:") if f.limit.kind == "folder" else newest


def _with_census(model: Model, store: str, body: msg.NewCensus) -> tuple[Model, int]:
    """The model with the usage of a store replaced, and how many new folders it has."""
    names = {fold(a.name): a.name for a in model.accounts}
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
    known = {f.path for s in model.stores if s.name == store for f in s.folders}
    new = [p for i, f in enumerate(body.new_folders) if (p := _path(f, f"new_folders[{i}]")) not in known]
    stores = tuple(
        replace(s, folders=(*s.folders, *(Folder(p) for p in dict.fromkeys(new)))) if s.name == store and new else s
        for s in model.stores
    )
    return checked(replace(model, usage=tuple(usage), stores=stores), model), len(new)


def _path(text: str, where: str) -> str:
    try:
        return check_path(text)
    except BadValue as bad:
        raise BadInput(where, str(bad), bad.expected) from None


# --- handing over ---------------------------------------------------------------------------------


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
    responses={200: {"content": {"application/pdf": {"schema": {"type": "string", "format": "binary"}}}}},
)
def handover_document(path: NamePath, query: SheetQuery) -> Response:
    response = Response(ask(query).handover_document(path.name, query.endpoint), mimetype="application/pdf")
    response.headers["Content-Disposition"] = f"inline; filename*=UTF-8''{quote(path.name)}.pdf"
    return response
