"""Who may use the service: administrators, their passwords and links, and the tokens of
programs.
"""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from typing import Annotated

from flask import Response, g
from pydantic import BaseModel, Field

from drawknife import messages as msg
from drawknife.core.model.areas import parse_area
from drawknife.core.model.edits import refuse
from drawknife.core.model.lines import parse_day
from drawknife.core.words.errors import BadInput, NotAllowed, NotFound
from drawknife.core.words.names import BadValue, check_name, fold
from drawknife.core.words.roles import OWNER, covers
from drawknife.directory.source import DirectoryFailed, check_can_bind
from drawknife.directory.sync import options_of
from drawknife.messages.directories import PROVISIONED
from drawknife.records import administrators, tokens
from drawknife.records.directories import Directory, read_directories
from drawknife.records.journal import note

from ..security import REFUSALS, too_many
from .common import answer, blueprint, current, problems

api = blueprint("administrators", "Who may use the service")
LINK_LASTS = timedelta(days=1)
#: Characters that an administrator's password has at least.
SHORTEST = 12


class AdministratorPath(BaseModel):
    name: Annotated[str, Field(description="The administrator's name")]


class TokenPath(BaseModel):
    id: Annotated[int, Field(ge=1, lt=2**62, description="Its number in the list")]


def _line(a: administrators.Administrator) -> msg.AdministratorLine:
    area = None if a.area is None else list(a.area)
    return msg.AdministratorLine(**{**a._asdict(), "area": area})


@api.get("/administrators", summary="The administrators", responses={200: msg.AdministratorList})
def list_administrators() -> Response:
    found = administrators.each(current().database)
    if g.holder.shown is not None:  # administrators lie in no area: there is nobody but who asks
        found = [a for a in found if a.name == g.holder.by]
    return answer(msg.AdministratorList(administrators=[_line(a) for a in found]))


@api.post(
    "/administrators",
    summary="Add an administrator, who signs in by a link first",
    responses={200: msg.AdministratorLine, **problems(403, 413, 415)},
)
def add(body: msg.NewAdministrator) -> Response:
    try:
        name = check_name(body.name)
    except BadValue as bad:
        raise BadInput("name", str(bad), bad.expected) from None
    database = current().database
    directory = _bound(body.directory) if body.directory else None
    rights = administrators.Rights(
        body.role, _area(body.area, body.role), body.reads or tokens.AREA, directory
    )
    administrators.add(database, name, rights, g.who)
    return answer(_line(administrators.find(database, name)))


def _area(lines: list[str] | None, role: str) -> tuple[str, ...] | None:
    """An area as it is kept; none where it holds nothing. What an owner may do has none."""
    if not lines:
        return None
    if role == OWNER:
        raise BadInput("area", "an owner has everything", "another role, or no area")
    try:
        parse_area(lines)
    except BadValue as bad:
        raise BadInput("area", str(bad), bad.expected) from None
    return tuple(line.strip() for line in lines)


@api.patch(
    "/administrators/<string:name>",
    summary="Give an administrator another role, area or reading, which counts at once",
    responses={200: msg.AdministratorLine, **problems(403, 409, 413, 415)},
)
def change(path: AdministratorPath, body: msg.AdministratorChange) -> Response:
    state = current()
    old = administrators.find(state.database, path.name)
    role = body.role or old.role
    given = "area" in body.model_fields_set
    area = body.area if given else None if role == OWNER or old.area is None else list(old.area)
    directory = (
        old.directory
        if body.directory is None
        else _bound(body.directory)
        if body.directory
        else None
    )
    rights = administrators.Rights(role, _area(area, role), body.reads or old.reads, directory)
    administrators.change(state.database, old.name, rights, g.who)
    state.forget_tokens()
    return answer(_line(administrators.find(state.database, old.name)))


@api.delete(
    "/administrators/<string:name>",
    summary="Remove an administrator, with all that it is signed in with",
    responses={200: msg.Ended, **problems(403, 409)},
)
def remove(path: AdministratorPath) -> Response:
    state = current()
    ended = administrators.remove(
        state.database, administrators.find(state.database, path.name).name, g.who
    )
    state.forget_tokens()
    return answer(msg.Ended(ended=ended))


@api.put(
    "/administrators/<string:name>/password",
    summary="Set an administrator's password: one's own, or for an owner anybody's",
    description=(
        "The console sessions and links that the administrator has end with it. One's own takes the"
        " current one."
    ),
    responses={204: None, **problems(403, 413, 415, 429)},
)
def set_password(path: AdministratorPath, body: msg.AdministratorPassword) -> Response:
    state = current()
    _check_own(path.name, "set the password of")
    found = administrators.find(state.database, path.name)
    name = found.name
    if (through := administrators.signs_in_through(state.database, name)) is not None:
        raise refuse(
            f"{name} signs in with the password of the directory {through[1]}",
            "a change of it there",
        )
    if len(body.password) < SHORTEST:
        raise BadInput("password", "the password is too short", f"{SHORTEST} characters or more")
    if found.has_password and name == g.holder.by:
        tried = f"name {fold(name)}"
        if wait := REFUSALS.wait(tried):
            return too_many(wait)
        if administrators.with_password(state.database, name, body.current or "") is None:
            REFUSALS.note(tried)
            raise BadInput("current", "this is not your password", "the password that you have now")
    administrators.set_password(state.database, name, body.password, g.who)
    state.forget_tokens()
    return Response(status=204)


def _check_own(name: str, what: str) -> None:
    """One's own business, as a person; or an owner's."""
    if not covers(g.holder.role, OWNER) and not (
        fold(g.holder.by) == fold(name) and g.holder.person
    ):
        raise NotAllowed(
            f"to {what} {name} takes the role owner, or to be {name}; you are {g.who}, a"
            f" {g.holder.role}"
        )


@api.post(
    "/administrators/<string:name>/link",
    summary="A link that signs an administrator in to the console, good once and for a day",
    responses={200: msg.SignInLink, **problems(403)},
)
def make_link(path: AdministratorPath) -> Response:
    database = current().database
    name = administrators.find(database, path.name).name
    code = tokens.make_token(database, name, "code", LINK_LASTS)
    note(database, g.who, f"made a sign-in link for {name}")
    until = datetime.now(UTC).replace(microsecond=0) + LINK_LASTS
    end, public = f"/sign-in#{code}", current().public_url
    return answer(
        msg.SignInLink(administrator=name, path=end, until=until, url=public and public + end)
    )


# --- tokens -------------------------------------------------------------------------------------


@api.get(
    "/tokens",
    summary=(
        "What is signed in with: tokens of programs, sessions, links; an owner sees everybody's"
    ),
    responses={200: msg.TokenList},
)
def list_tokens() -> Response:
    found = tokens.each(current().database, None if covers(g.holder.role, OWNER) else g.holder.by)
    return answer(msg.TokenList(tokens=[_token(t) for t in found]))


def _token(t: tokens.Token) -> msg.TokenLine:
    # Its last day ends where it does: a moment before is within it.
    last_day = (
        None
        if t.expires is None
        else (t.expires - timedelta(microseconds=1)).astimezone(UTC).date()
    )
    return msg.TokenLine(
        id=t.id,
        administrator=t.administrator,
        kind=t.kind,
        called=t.called,
        role=t.role,
        made=t.made,
        last_day=last_day,
        last_used=t.last_used,
        directory=t.directory,
    )


@api.post(
    "/tokens",
    summary="Make a token for a program, which is told this once",
    description=(
        "Its role is never wider than what its maker's is at the time, and it ends with its maker."
    ),
    responses={200: msg.TokenMade, **problems(403, 413, 415)},
)
def make_token(body: msg.NewToken) -> Response:
    role = OWNER if body.directory is not None else body.role or g.holder.role
    if body.directory is None and not covers(g.holder.role, role):
        raise NotAllowed(
            f"a token's role is no wider than its maker's: yours is {g.holder.role}, and this one's"
            f" {role}"
        )
    try:
        called = check_name(body.called)
    except BadValue as bad:
        raise BadInput("called", str(bad), bad.expected) from None
    if called == g.holder.by:
        raise BadInput("called", f"{called} is your own name", "the name of the program")
    end = None if body.last_day is None else _end_of(body.last_day)
    database = current().database
    directory = None if body.directory is None else _provisioned(body.directory)
    made = tokens.make_token(
        database, g.holder.by, called=called, role=role, until=end, directory=directory
    )
    until = f", until {body.last_day}" if body.last_day else ""
    what = f"with the role {role}" if directory is None else f"that provisions {directory}"
    note(database, g.who, f"made the token {called} {what}{until}")
    return answer(msg.TokenMade(called=called, role=role, token=made))


def _provisioned(name: str) -> str:
    """A directory that a token is to provision, which takes an owner, as all that has to do with
    directories does.
    """
    if not covers(g.holder.role, OWNER):
        raise NotAllowed(
            f"a token that provisions a directory takes the role owner; yours is {g.holder.role}"
        )
    found = _directory(name)
    if not options_of(found).is_provisioned:
        raise BadInput(
            "directory",
            f"{found.name} is fetched, and not sent",
            f"one whose address is {PROVISIONED}",
        )
    return found.name


def _bound(name: str) -> str:
    """A directory through which an administrator is to sign in."""
    found = _directory(name)
    try:
        check_can_bind(options_of(found))
    except DirectoryFailed as error:
        raise BadInput(
            "directory", f"nobody can sign in through {found.name}: {error}", "a server, over TLS"
        ) from None
    return found.name


def _directory(name: str) -> Directory:
    every = read_directories(current().database)
    found = next((d for d in every if fold(d.name) == fold(name)), None)
    if found is None:
        raise NotFound("directory", name, (d.name for d in every), "directory")
    return found


def _end_of(text: str) -> datetime:
    try:
        day = parse_day(text)
    except BadValue as bad:
        raise BadInput("last_day", str(bad), bad.expected) from None
    if not datetime.now(UTC).date() <= day <= date(9000, 1, 1):
        raise BadInput(
            "last_day",
            f"{day} has passed, or is too far ahead",
            "today or later, before the year 9000",
        )
    return datetime(day.year, day.month, day.day, tzinfo=UTC) + timedelta(days=1)


@api.delete(
    "/tokens/<int:id>",
    summary="End a token, a session or a link, at once: one's own, or for an owner anybody's",
    responses={200: msg.Ended, **problems(403)},
)
def end_token(path: TokenPath) -> Response:
    state = current()
    ended = tokens.end(
        state.database, path.id, None if covers(g.holder.role, OWNER) else g.holder.by
    )
    state.forget_tokens()
    what = {"token": f"the token {ended.called}", "session": "a session", "code": "a sign-in link"}[
        ended.kind
    ]
    note(state.database, g.who, f"ended {what} of {ended.administrator}")
    return answer(msg.Ended(ended=1))
