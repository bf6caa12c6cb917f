"""Directories: adding and trying them, what a sync would do, and syncing."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from typing import Annotated, Any
from urllib.parse import urlsplit

from flask import Response, g
from psycopg import Connection
from psycopg.rows import TupleRow
from pydantic import Field, ValidationError

from drawknife import messages as msg
from drawknife.answers.previews import preview
from drawknife.core.follows.pairing import Renames, Renaming
from drawknife.core.model.edits import refuse
from drawknife.core.model.items import Model, Subject, parse_subject
from drawknife.core.model.units import unit_facts
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.names import BadValue, check_name, fold
from drawknife.core.words.sizes import number_of, several
from drawknife.directory.login_names import check_template
from drawknife.directory.losses import TooFew
from drawknife.directory.sent import name_of, sent_name
from drawknife.directory.source import (
    DirectoryFailed,
    check_address,
    check_server_address,
    compile_filter,
)
from drawknife.directory.sync import counted, options_of, planned, report_of
from drawknife.records import administrators, provisioned
from drawknife.records import directories as records
from drawknife.records.changes import change_model
from drawknife.records.directories import Directory

from ..files import NotReadable
from ..syncing import fetch_within, sync_within, with_adopted
from .common import Query, answer, blueprint, current, problems

api = blueprint("directories", "Directories of people, groups and units, and their syncs")


class DirectoryPath(Query):
    name: Annotated[str, Field(description="The directory's name")]


class RemovalQuery(Query):
    keep: Annotated[bool, Field(description="Make what came from it local")] = False


def _find(name: str) -> Directory:
    every = records.read_directories(current().database)
    found = next((d for d in every if fold(d.name) == fold(name)), None)
    if found is None:
        raise NotFound("directory", name, (d.name for d in every), "name")
    return found


def _line(d: Directory, model: Model, state: records.SyncState) -> msg.DirectoryLine:
    return msg.DirectoryLine(
        name=d.name,
        options=options_of(d),
        has_password=d.secret is not None,
        accounts=sum(a.source == d.name for a in model.accounts),
        groups=sum(x.source == d.name for x in model.groups),
        units=sum(facts.source == d.name for facts in model.unit_facts),
        last=msg.SyncReport.model_validate_json(state.report) if state.report else None,
        confirmed=state.confirmed,
        last_good=state.last_good,
        failing_since=state.failing_since,
    )


def _lines(wanted: str | None = None) -> list[msg.DirectoryLine]:
    database, model = current().database, current().snapshot().model
    states = {state.directory: state for state in records.sync_states(database)}
    every = records.read_directories(database)
    return [
        _line(d, model, states[d.name])
        for d in every
        if wanted in (None, d.name) and d.name in states
    ]


@api.get(
    "/directories",
    summary="The directories, each with its last sync",
    responses={200: msg.DirectoryList},
)
def directories() -> Response:
    return answer(msg.DirectoryList(directories=_lines()))


@api.get(
    "/directories/<string:name>",
    summary="One directory, with its last sync",
    responses={200: msg.DirectoryLine},
)
def directory(path: DirectoryPath) -> Response:
    return answer(_lines(_find(path.name).name)[0])


def _check(options: msg.DirectoryOptions, password: str | None) -> bytes | None:
    """Check what can be checked beforehand; the bind password encrypted."""
    check_address(options.address)
    if options.login_name is not None:
        check_template(options.login_name)
        if not options.is_provisioned and options.id_attribute is None:
            raise BadInput(
                "options.login_name",
                "login names from a template need an id_attribute to tell people apart",
                "an id_attribute",
            )
    for server in options.servers_referred_to:
        check_server_address("options.referral_servers", server)
    _check_files(options)
    for key in ("people_filter", "groups_filter", "units_filter"):
        try:
            compile_filter(getattr(options, key))
        except DirectoryFailed as bad:
            raise BadInput(
                f"options.{key}", str(bad), "such as (objectClass=inetOrgPerson)"
            ) from None
    servers = (options.address, *options.servers_referred_to)
    if (
        options.bind_name
        and not options.start_tls
        and any(urlsplit(x).scheme == "ldap" for x in servers)
    ):
        raise BadInput(
            "options.start_tls",
            "a bind password would go over the network unprotected",
            "start_tls: true, or an ldaps address",
        )
    if password is None:
        return None
    secrets = current().secrets
    if not secrets.ready:
        raise BadInput(
            "bind_password",
            "the service has no key to encrypt it with",
            "a service started with --key-file, or bind_password_file",
        )
    return secrets.encrypt(password)


def _check_files(options: msg.DirectoryOptions) -> None:
    """Are the files that are named where the service may read them?"""
    named = {"ca_file": options.ca_file, "bind_password_file": options.bind_password_file}
    if urlsplit(options.address).scheme not in ("ldap", "ldaps") and not options.is_provisioned:
        named["address"] = options.address
    for key, name in named.items():
        try:
            if name is not None:
                current().files.find(name)
        except NotReadable as error:
            raise BadInput(
                f"options.{key}",
                str(error),
                "a file below a folder that was named with serve --files",
            ) from None


#: What decides who is shown a bind password.
_TOWARDS = ("address", "start_tls", "ca_file", "bind_name", "referral_servers")


@api.post(
    "/directories",
    summary="Add a directory",
    responses={200: msg.DirectoryLine, **problems(409, 413, 415)},
)
def add(body: msg.NewDirectory) -> Response:
    try:
        name = check_name(body.name)
    except BadValue as bad:
        raise BadInput("name", str(bad), bad.expected) from None
    if fold(name) == "local":
        raise BadInput("name", "local is what does not come from a directory", "another name")
    if any(fold(d.name) == fold(name) for d in records.read_directories(current().database)):
        raise refuse(f"directory {name} is there already", "a change of it, or another name")
    new = Directory(name, body.options.model_dump(), _check(body.options, body.bind_password))
    return _save(new, f"add directory {name}")


@api.patch(
    "/directories/<string:name>",
    summary="Change a directory's options",
    responses={200: msg.DirectoryLine, **problems(409, 413, 415)},
)
def change(path: DirectoryPath, body: msg.DirectoryChange) -> Response:
    old = _find(path.name)
    options = _with(old, body.options)
    _check_passwords_stay(old, options, body.options, body.bind_password)
    new = Directory(old.name, options.model_dump(), _check(options, body.bind_password))
    return _save(new, f"change directory {old.name}", old)


def _with(old: Directory, changed: dict[str, Any]) -> msg.DirectoryOptions:
    """A directory's options with some that are others; :class:`BadInput` if one cannot be."""
    try:
        return msg.DirectoryOptions.model_validate({**old.options, **changed})
    except ValidationError as error:
        first = error.errors(include_url=False, include_context=False)[0]
        raise BadInput(
            "options." + ".".join(map(str, first["loc"])), str(first["msg"]), ""
        ) from None


def _check_passwords_stay(
    old: Directory,
    options: msg.DirectoryOptions,
    changed: dict[str, Any],
    password: str | None = None,
) -> None:
    """:class:`BadInput` if a bind password would go to another server than it was given for,
    without being given again.
    """
    elsewhere = [
        key for key in _TOWARDS if getattr(options, key) != old.options.get(key, DEFAULTS[key])
    ]
    if not elsewhere:
        return
    why = f"a changed {' and '.join(elsewhere)} would send the bind password to another server"
    if old.options.get("bind_password_file") is not None and "bind_password_file" not in changed:
        raise BadInput("options.bind_password_file", why, "bind_password_file given again")
    if old.secret is not None and password is None and options.bind_password_file is None:
        raise BadInput("bind_password", why, "the bind password given again")


DEFAULTS = {key: field.default for key, field in msg.DirectoryOptions.model_fields.items()}


def _kept(directory: Directory | None) -> dict[str, object] | None:
    """A directory as the journal has it: without secrets."""
    if directory is None:
        return None
    return {**directory.options, "bind_password": "set" if directory.secret is not None else None}


def _save(directory: Directory, what: str, old: Directory | None = None) -> Response:
    def edit(model: Model, connection: Connection[TupleRow]) -> Model:
        records.save_directory(connection, directory)
        if options_of(directory).is_provisioned:
            _call_otherwise(connection, directory)
        return model

    state = current()
    kept = (
        directory
        if directory.secret is not None or old is None
        else directory._replace(secret=old.secret)
    )
    beside = [("directories", directory.name, _kept(old), _kept(kept))]
    state.took(
        change_model(
            state.database,
            edit,
            g.who,
            what,
            even_if_same=True,
            at_hand=state.snapshot(),
            beside=beside,
        )
    )
    return answer(_lines(directory.name)[0])


def _call_otherwise(connection: Connection[TupleRow], directory: Directory) -> None:
    """Index what is provisioned by the names that the options give it now."""
    options = options_of(directory)
    called: dict[str, str] = {}
    taken: dict[tuple[str, str], str] = {}
    for resource in provisioned.read(connection, directory.name):
        sent = sent_name(resource.body)
        try:
            name = fold(name_of(resource.kind, resource.body, options))
        except BadValue as bad:
            raise BadInput(
                "options", f"{sent} would have no name: {bad}", "other options"
            ) from None
        if (resource.kind, name) in taken:
            both = f"{taken[resource.kind, name]} and {sent}"
            raise BadInput(
                "options",
                f"{both} would both be called {name}",
                "options that give them different names",
            )
        taken[resource.kind, name] = sent
        called[resource.id] = name
    provisioned.call(connection, directory.name, called)


@api.delete(
    "/directories/<string:name>",
    summary="Remove a directory",
    responses={204: None, **problems(409)},
)
def remove(path: DirectoryPath, query: RemovalQuery) -> Response:
    old = _find(path.name)

    def edit(model: Model, connection: Connection[TupleRow]) -> Model:
        theirs = [a.name for a in model.accounts if a.source == old.name]
        if theirs and not query.keep:
            raise refuse(
                f"{number_of(len(theirs), 'account')} of {old.name} would be left, {theirs[0]}"
                " first",
                "keep them as local ones, with `keep`",
            )
        who = administrators.signing_in_through(connection, old.name)
        if who:
            raise refuse(
                f"{several(who, 5)} would have no way to sign in any more",
                "another way for them before",
            )
        records.delete_directory(connection, old.name)
        return replace(
            model,
            accounts=tuple(
                replace(a, source="local", source_id=None) if a.source == old.name else a
                for a in model.accounts
            ),
            groups=tuple(
                replace(x, source="local", source_id=None) if x.source == old.name else x
                for x in model.groups
            ),
            unit_facts=unit_facts(
                x._replace(source="local", source_id=None) if x.source == old.name else x
                for x in model.unit_facts
            ),
        )

    state = current()
    beside = [("directories", old.name, _kept(old), None)]
    what = f"remove directory {old.name}"
    state.took(
        change_model(
            state.database,
            edit,
            g.who,
            what,
            even_if_same=True,
            at_hand=state.snapshot(),
            beside=beside,
        )
    )
    state.forget_tokens()  # those that provisioned it went with it
    return Response(status=204)


@api.post(
    "/directories/<string:name>/try",
    summary="Show the first people, groups and units that it has",
    responses={200: msg.Tried, **problems(409, 413, 415, 502)},
)
def try_(path: DirectoryPath, body: msg.TryWish) -> Response:
    """Read it with its options, or with others that are not saved."""
    directory, state = _find(path.name), current()
    if body.options:
        options = _with(directory, body.options)
        _check_passwords_stay(directory, options, body.options)
        _check(options, None)
        directory = directory._replace(options=options.model_dump())
    found = fetch_within(state, directory)
    would = planned(state.snapshot().model, directory, found, 100)
    people = [
        f"{p.name}  {p.display or ''}  {p.unit or ''}".rstrip()
        for p in list(found.people.values())[:10]
    ]
    groups = [
        f"{name}  {len(members)} member{'' if len(members) == 1 else 's'}"
        for name, members in list(found.groups.items())[:10]
    ]
    return answer(
        msg.Tried(
            people=people,
            groups=groups,
            units=sorted(found.units)[:10],
            left_out=found.left_out[:20],
            renamed=[f"{kind} {old} → {new}" for kind, old, new in would.renames[:20]],
            left_alone=would.left_alone[:20],
        )
    )


@api.post(
    "/directories/<string:name>/sync/preview",
    summary="What a sync would change, counted and named, and what follows",
    responses={200: msg.SyncPreview, **problems(413, 415, 502)},
)
def preview_sync(path: DirectoryPath, body: msg.SyncWish) -> Response:
    directory, state, adopt = _find(path.name), current(), _subjects(body.adopt)
    found, _ = with_adopted(state, directory, adopt)
    snapshot, prepared = state.prepared()
    try:
        made = planned(snapshot.model, directory, found, body.most_leavers, adopt)
    except TooFew as error:
        return answer(
            msg.SyncPreview(
                report=report_of(directory.name, g.who, "refused", str(error), found, None),
                changes=None,
            )
        )
    report = report_of(directory.name, g.who, "preview", counted(made), found, made)
    changes = preview(
        prepared,
        made.model,
        snapshot.revision,
        datetime.now(UTC),
        Renames(Renaming(*r) for r in made.renames),
        credentials=state.credentials(snapshot),
    )
    return answer(msg.SyncPreview(report=report, changes=changes), snapshot.revision)


@api.post(
    "/directories/<string:name>/sync", summary="Sync now: all of it, or nothing",
    responses={200: msg.SyncReport, **problems(413, 415)},
)  # fmt: skip
def sync_now(path: DirectoryPath, body: msg.SyncWish) -> Response:
    state = current()
    report = sync_within(state, _find(path.name), g.who, body.most_leavers, _subjects(body.adopt))
    return answer(report, report.revision)


def _subjects(lines: list[str]) -> list[Subject]:
    """The accounts and groups that are handed over, which are here: :class:`NotFound` with the
    nearest.
    """
    model, found = current().snapshot().model, []
    for number, line in enumerate(lines):
        try:
            subject = parse_subject(line)
        except BadValue as bad:
            raise BadInput(f"adopt[{number}]", str(bad), bad.expected) from None
        if subject.kind not in ("account", "group"):
            raise BadInput(
                f"adopt[{number}]", f"{line} is no account and no group", "such as account:ines"
            )
        there = [x.name for x in (model.accounts if subject.kind == "account" else model.groups)]
        if fold(subject.name) not in map(fold, there):
            raise NotFound(subject.kind, subject.name, there, f"adopt[{number}]")
        found.append(subject)
    return found
