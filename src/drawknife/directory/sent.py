"""A directory that is provisioned: what is sent by SCIM (RFC 7643) is what it has."""

from __future__ import annotations

import unicodedata
from collections.abc import Collection, Iterable, Sequence
from typing import Any
from uuid import uuid4

from drawknife.core.model.edits import refuse
from drawknife.core.model.items import Account, Group, Model, Subject
from drawknife.core.words.names import BadValue, check_name, fold
from drawknife.core.words.plain import one_line
from drawknife.messages import DirectoryOptions
from drawknife.records.provisioned import Resource

from .login_names import login_name
from .reading import DirectoryContents, Person, fitting


def name_of(kind: str, body: dict[str, Any], options: DirectoryOptions) -> str:
    """What a resource is called here; :class:`BadValue` if nothing can be called that."""
    if kind == "Group":
        return fitting(_text(body.get("displayName")) + options.suffix)
    template = options.login_name or "{userName}"
    called = check_name(
        login_name(template, lambda attribute: _value(body, attribute)) + options.suffix
    )
    if fold(called) == "anonymous":
        raise BadValue("the name is that of the anonymous account", "another name")
    return called


def sent_name(body: dict[str, Any]) -> str:
    """The name of a person or group as it was sent, on one line."""
    return one_line(_text(body.get("userName") or body.get("displayName")))


def _text(value: Any) -> str:
    return unicodedata.normalize("NFC", str(value or ""))


def _value(body: dict[str, Any], path: str) -> str | None:
    """An attribute of what was sent, such as ``userName`` or ``name.familyName``; of several, the
    primary or the first.
    """
    if path.lower().startswith("emails"):
        return _mail(body)
    found: Any = body
    for name in path.split("."):
        found = found.get(name) if isinstance(found, dict) else None
    return _text(found) if isinstance(found, str) and found else None


def found_in(resources: Iterable[Resource], options: DirectoryOptions) -> DirectoryContents:
    """What such a directory has."""
    found, subject_of, members = DirectoryContents(), {}, []
    for r in resources:
        try:
            called = name_of(r.kind, r.body, options)
        except BadValue as bad:  # the options have changed since it was sent
            found.left_out.append(f"{sent_name(r.body)}: {bad}")
            continue
        subject_of[r.id] = Subject("account" if r.kind == "User" else "group", called)
        if r.kind == "User":
            found.people[fold(called)] = Person(
                called,
                _display(r.body),
                _mail(r.body),
                None,
                None,
                r.id,
                r.body.get("active") is not False,
            )
        else:
            found.groups[called] = set()
            found.group_ids[fold(called)] = r.id
            members.append((called, r.body.get("members") or ()))
    for called, each in members:
        theirs = {subject_of[m["value"]] for m in each if m.get("value") in subject_of}
        found.groups[called] = theirs - {Subject("group", called)}
    return found


def _display(body: dict[str, Any]) -> str | None:
    name = body.get("name") or {}
    parts = (name.get("givenName"), name.get("familyName"))
    return (
        one_line(body.get("displayName") or name.get("formatted") or " ".join(filter(None, parts)))
        or None
    )


def _mail(body: dict[str, Any]) -> str | None:
    emails = body.get("emails") or ()
    values = (
        e["value"] for e in [*(e for e in emails if e.get("primary")), *emails] if e.get("value")
    )
    return one_line(next(values, "")) or None


def check_free(model: Model, directory: str, resource: Resource, called: str) -> None:
    """Refused if the name is that of an account or group here that is another's."""
    if resource.kind == "Group":
        other: Account | Group | None = next(
            (g for g in model.groups if fold(g.name) == fold(called)), None
        )
        ours = other is not None and other.source == directory
    else:
        other = next((a for a in model.accounts if fold(a.name) == fold(called)), None)
        ours = (
            other is not None
            and other.source == directory
            and other.source_id in (None, resource.id)
        )
    if other is None or ours:
        return
    kind = "group" if resource.kind == "Group" else "account"
    whose = (
        "local"
        if other.source == "local"
        else "somebody else's"
        if other.source == directory
        else other.source
    )
    raise refuse(
        f"there is {kind} {other.name} already, which is {whose}; "
        f"an administrator can hand it over: drawknife sync {directory} --adopt {kind}:{other.name}"
    )


def as_resources(
    model: Model,
    directory: str,
    adopt: Collection[Subject],
    known: Sequence[Resource],
    options: DirectoryOptions,
) -> list[Resource]:
    """What is handed over to a directory that does not have it yet, as what its client will find
    there.
    """
    there = {(r.kind, r.called) for r in known}
    keys = {s.key for s in adopt}
    accounts = [a for a in model.accounts if Subject("account", a.name).key in keys]
    made = []
    for a in accounts:
        said = _without(a.name, options.suffix)
        if ("User", fold(a.name)) not in there:
            body: dict[str, Any] = {"userName": said, "active": a.enabled}
            body |= {"displayName": a.display} if a.display else {}
            body |= {"emails": [{"value": a.mail, "primary": True}]} if a.mail else {}
            made.append(Resource(str(uuid4()), "User", fold(a.name), body))
    ids = {r.called: r.id for r in [*known, *made] if r.kind == "User"}
    for g in (g for g in model.groups if Subject("group", g.name).key in keys):
        if ("Group", fold(g.name)) not in there:
            values = [
                ids[fold(m.subject.name)]
                for m in g.members
                if m.subject.kind == "account" and fold(m.subject.name) in ids
            ]
            members = [{"value": v, "type": "User"} for v in values]
            body = {"displayName": _without(g.name, options.suffix), "members": members}
            made.append(Resource(str(uuid4()), "Group", fold(g.name), body))
    return made


def _without(name: str, suffix: str) -> str:
    if not name.endswith(suffix):
        raise refuse(
            f"{name} does not end in {suffix}, as all of the directory's names do",
            "another directory",
        )
    return name.removesuffix(suffix)
