"""Groups, units, what comes down from them, and the credentials of accounts."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from typing import Annotated

from flask import Response, g
from psycopg import Connection
from psycopg.rows import TupleRow
from pydantic import Field

from drawknife import messages as msg
from drawknife.core.follows.sign_in_changes import opened_by_credentials
from drawknife.core.model.edits import change, find
from drawknife.core.model.items import Model
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.names import ANONYMOUS, BadValue, fold
from drawknife.core.words.roles import EDITOR, covers
from drawknife.formats.public_keys import read_public_key
from drawknife.records import credentials
from drawknife.records.changes import change_model
from drawknife.records.snapshots import Snapshot

from ..keeping import check_account
from .common import (
    Asking,
    AskingPage,
    NamePath,
    also_as_rows,
    answer,
    ask,
    blueprint,
    current,
    problems,
    rows_answer,
)

api = blueprint("people", "Groups, units, what comes down from them; credentials")


class GroupsQuery(AskingPage):
    matching: Annotated[str, Field(max_length=200, description="Part of a name")] = ""
    limit: Annotated[int, Field(ge=1, le=200_000)] = 200


class SubjectQuery(AskingPage):
    subject: Annotated[str, Field(max_length=1000, description="group:NAME or unit:PATH")]
    limit: Annotated[int, Field(ge=1, le=200_000)] = 1000


class WaysQuery(Asking):
    group: Annotated[str | None, Field(description="Only the ways into this group")] = None


class WithoutQuery(Asking):
    subject: Annotated[str, Field(max_length=1000, description="group:NAME or unit:PATH")]


class KeyPath(NamePath):
    fingerprint: Annotated[str, Field(description="Such as SHA256:…")]


@api.get("/groups", summary="The groups", responses={200: also_as_rows(msg.GroupList)})
def groups(query: GroupsQuery) -> Response:
    asked = ask(query)
    return rows_answer(
        asked.groups(query.matching, query.offset, query.limit), "groups", asked.revision
    )


@api.get("/units", summary="The units, in tree order", responses={200: also_as_rows(msg.UnitList)})
def units(query: Asking) -> Response:
    asked = ask(query)
    return rows_answer(asked.units(), "units", asked.revision)


@api.get(
    "/subjects",
    summary="A group or unit: who is in it, and what comes down from it",
    responses={200: msg.SubjectDetail},
)
def subject(query: SubjectQuery) -> Response:
    asked = ask(query)
    return answer(asked.subject(query.subject, query.offset, query.limit), asked.revision)


@api.get(
    "/accounts/<string:name>/ways",
    summary="Each way in which an account came to be in each group",
    responses={200: also_as_rows(msg.WaysAnswer)},
)
def ways(path: NamePath, query: WaysQuery) -> Response:
    asked = ask(query)
    return rows_answer(asked.ways(path.name, query.group), "groups", asked.revision)


@api.get(
    "/accounts/<string:name>/without",
    summary="What an account would lose if it were taken out of a group or unit",
    responses={200: msg.LossAnswer},
)
def without(path: NamePath, query: WithoutQuery) -> Response:
    asked = ask(query)
    return answer(asked.without(path.name, query.subject), asked.revision)


# --- credentials --------------------------------------------------------------------------------


@api.get(
    "/accounts/<string:name>/credentials",
    summary="What an account signs in with",
    responses={200: msg.Credentials},
)
def show_credentials(path: NamePath) -> Response:
    return _credentials(ask().account(path.name).name)


def _credentials(account: str, followed: Sequence[str] = ()) -> Response:
    found = credentials.credentials_of(current().database, account)
    if not covers(g.holder.role, EDITOR):
        # Whether there are any, and nothing else of them.
        found = {
            "password_set": "set" if found["password_set"] else None,
            "password_set_by": None,
            "keys": [],
            "has_keys": bool(found["keys"]),
        }
    return answer(
        msg.Credentials.model_validate(
            {
                "account": account,
                "has_keys": bool(found["keys"]),
                "followed": list(followed),
                **found,
            }
        )
    )


@api.put(
    "/accounts/<string:name>/password",
    summary="Set a password, or generate one; a generated one is told this once",
    responses={200: msg.PasswordSet, **problems(409, 413, 415)},
)
def set_password(path: NamePath, body: msg.NewPassword) -> Response:
    account = _may_have_credentials(path.name)
    if body.password is not None and len(body.password) < 8:
        raise BadInput("password", "the password is too short", "8 characters or more")
    if 0 < len(set(body.alphabet)) < 10:
        raise BadInput("alphabet", "the alphabet is too small", "10 different characters or more")
    password = body.password or credentials.make_password(body.length, body.alphabet)

    def write(connection: Connection[TupleRow]) -> bool:
        credentials.set_password(connection, account, password, g.who)
        return True

    after, followed = _with_method(account, f"set the password of {account}", "password", write)
    generated = None if body.password else password
    found = msg.PasswordSet(
        revision=after.revision, account=account, password=generated, followed=followed
    )
    return answer(found, after.revision)


@api.post(
    "/accounts/<string:name>/password/check",
    summary="Is this the account's password?",
    responses={200: msg.PasswordRight, **problems(413, 415)},
)
def check_password(path: NamePath, body: msg.PasswordGuess) -> Response:
    account = _in_area(path.name)
    return answer(
        msg.PasswordRight(right=credentials.is_right(current().database, account, body.password))
    )


@api.delete(
    "/accounts/<string:name>/password",
    summary="Take the password away",
    responses={204: None, **problems(409)},
)
def clear_password(path: NamePath) -> Response:
    account = _in_area(path.name)

    def clear(connection: Connection[TupleRow]) -> bool:
        if not credentials.clear_password(connection, account):
            raise NotFound("password of", account, [], "password")
        return False

    _with_method(account, f"take the password of {account} away", "password", clear)
    return Response(status=204)


@api.post(
    "/accounts/<string:name>/keys",
    summary="Attach a public key",
    responses={200: msg.Credentials, **problems(409, 413, 415)},
)
def add_key(path: NamePath, body: msg.NewKey) -> Response:
    account = _may_have_credentials(path.name)
    try:
        key = read_public_key(body.key)
    except BadValue as bad:
        raise BadInput("key", str(bad), bad.expected) from None

    def attach(connection: Connection[TupleRow]) -> bool:
        if not credentials.add_key(connection, account, key, g.who):
            raise BadInput("key", f"the key {key.fingerprint} is attached already", "another key")
        return True

    _, followed = _with_method(account, f"attach key {key.fingerprint} to {account}", "key", attach)
    return _credentials(account, followed)


@api.delete(
    "/accounts/<string:name>/keys/<path:fingerprint>", summary="Take a public key away",
    responses={200: msg.Credentials, **problems(409)},
)  # fmt: skip
def remove_key(path: KeyPath) -> Response:
    account = _in_area(path.name)

    def take(connection: Connection[TupleRow]) -> bool:
        left = credentials.remove_key(connection, account, path.fingerprint)
        if left is None:
            raise NotFound("key", path.fingerprint, [], "fingerprint")
        return left > 0

    _, followed = _with_method(account, f"take key {path.fingerprint} from {account}", "key", take)
    return _credentials(account, followed)


def _may_have_credentials(name: str) -> str:
    account = _in_area(name)
    if fold(account) == ANONYMOUS:
        raise BadInput(
            "name", "the anonymous account signs in without credentials", "another account"
        )
    return account


def _in_area(name: str) -> str:
    account = ask().account(name).account
    check_account(g.holder, account, f"account {account.name}")
    return account.name


def _with_method(
    account: str, what: str, method: str, write: Callable[[Connection[TupleRow]], bool]
) -> tuple[Snapshot, list[str]]:
    """Write a credential; then the account's methods say whether it has one of that method, as
    `write` tells.

    One transaction, one revision, one line in the journal, without any secret. Also returned is
    what followed, in words.
    """

    def edit(model: Model, connection: Connection[TupleRow]) -> Model:
        has = write(connection)
        old = find(model, "account", account)
        methods = set(old.methods) | {method} if has else set(old.methods) - {method}
        if methods == set(old.methods):
            return model
        return change(model, "account", old, replace(old, methods=tuple(sorted(methods))))

    state = current()
    held = state.credentials(state.snapshot()).get(account, frozenset())
    after = change_model(
        state.database, edit, g.who, what, even_if_same=True, at_hand=state.snapshot()
    )
    state.took(after)
    snapshot, prepared = state.prepared()
    found = prepared.account(account)
    if found is None:  # it was removed meanwhile
        return after, []
    now = datetime.now(UTC)
    holds = state.credentials(snapshot).get(found.name, frozenset())
    turns = opened_by_credentials(prepared.on(now.date()), found, (held, holds), now)
    return after, [
        f"{found.name} {'can now' if turn.may else 'can no longer'} sign in at {turn.endpoint}"
        + (f" {turn.why}" if turn.may and turn.why else "")
        for turn in turns
    ]
