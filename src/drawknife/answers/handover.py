"""The sheet that the user of an account is given: where to connect, how, what there is, and what
applies.
"""

from __future__ import annotations

import html
from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import NamedTuple

from drawknife.core.decide.gates import open_case
from drawknife.core.decide.sign_in import door, methods_left, sign_in
from drawknife.core.everybody.effective import state_of_folders_in
from drawknife.core.everybody.folding import FoldedAccess, folded_access
from drawknife.core.follows.sign_in_changes import Credentials
from drawknife.core.limits.quotas import bounds, holds, uploads_owner
from drawknife.core.model.endpoints import tls_policy
from drawknife.core.model.items import UNLIMITED, Endpoint
from drawknife.core.prepared.people import PreparedAccount
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.prepared.question import Question
from drawknife.core.prepared.settings import resolve
from drawknife.core.words.names import rest_below
from drawknife.core.words.rights import RIGHTS
from drawknife.core.words.sizes import number_of, show_size

PROTOCOLS = {"ftp": "FTP", "ftps": "FTPS (TLS from the start)", "sftp": "SFTP"}


class Sheet(NamedTuple):
    """Title, and parts: a heading with lines each."""

    title: str
    parts: tuple[tuple[str, tuple[str, ...]], ...]


def sheet(
    prepared: Prepared,
    account: PreparedAccount,
    now: datetime,
    endpoint: Endpoint | None = None,
    credentials: Credentials = None,
) -> Sheet:
    """What an account's user has to know.

    Only endpoints that admit the account are named; `endpoint`: only that.

    `credentials` are what each account has to sign in with; None: what the model says is taken for
    it.
    """
    a = account.account
    held = None if credentials is None else credentials.get(a.name, frozenset())
    ways = [
        e
        for e in prepared.model.endpoints
        if endpoint in (None, e) and _admits(prepared, account, e, now, held)
    ]
    connect: list[str] = []
    for e in ways:
        host = (
            e.host_names[0]
            if e.host_names
            else e.address
            if e.address not in ("0.0.0.0", "::")
            else "(ask for the host name)"
        )
        connect.append(
            f"{host}, port {e.port}, {PROTOCOLS[e.protocol]}{_tls(prepared, account, e)}"
        )
    if not ways:
        connect.append("You cannot sign in anywhere for now: ask your administrator.")
    else:
        named = {
            "password": "your password",
            "key": "your key",
            "directory": "your password in the directory",
        }
        usable = [m for e in ways for m in methods_left(prepared, account, e, held)]
        methods = [named[m] for m in dict.fromkeys(usable)]
        if a.kind == "anonymous":
            connect.append(
                "Sign in as anonymous, with your mail address, or anything, as the password."
            )
        else:
            connect.append(f"Sign in as {a.name}, with {' or '.join(methods)}.")
    rows, _, _ = folded_access(prepared, account, endpoint, disk=True)
    parts = [
        ("Where to connect", tuple(connect)),
        (
            "What you will see, and what you may do there",
            tuple(_places(prepared, account, rows, endpoint)),
        ),
    ]
    limits = [*_limits(prepared, account), *_shared_limits(prepared, account, rows)]
    if limits:
        parts.append(("What applies", tuple(limits)))
    return Sheet(f"Access for {a.display or a.name}", tuple(parts))


def _admits(
    prepared: Prepared,
    account: PreparedAccount,
    endpoint: Endpoint,
    now: datetime,
    held: frozenset[str] | None,
) -> bool:
    question = Question(account.name, "sign-in", endpoint=endpoint.name, credentials=held)
    case = open_case(prepared, question, now)
    hours = [
        r
        for r in sign_in(prepared, account, endpoint, question, case.at)
        if r.reason != "outside-hours"
    ]
    return not hours and next(door(prepared, endpoint, question), None) is None


def _tls(prepared: Prepared, account: PreparedAccount, endpoint: Endpoint) -> str:
    policy = tls_policy(endpoint)
    if endpoint.protocol != "ftp":
        return ""
    if policy == "required" or (
        policy == "optional" and resolve(prepared, account, "require_tls").value
    ):
        return "; use TLS (explicit), nothing is accepted without"
    return "; use TLS (explicit) if you can" if policy == "optional" else ""


def _places(
    prepared: Prepared,
    account: PreparedAccount,
    rows: Sequence[FoldedAccess],
    endpoint: Endpoint | None,
) -> list[str]:
    """A line for each place at which other things can be done than at the one above it."""
    lines = []
    above: list[tuple[str, str]] = []
    for row in rows:
        while above and rest_below(row.location, above[-1][0]) is None:
            above.pop()
        words = ""
        if row.kind != "synthetic" and set(row.states) != {"no"}:
            words = in_words(
                row.states,
                state_of_folders_in(prepared, account, row.location, endpoint, disk=True),
            )
        as_above = row.kind == "folder" and bool(above) and above[-1][1] == words
        above.append((row.location, words))
        if words and not as_above:
            lines.append(f"{row.location}: {words}")
    return lines or ["nothing yet"]


def in_words(states: tuple[str, ...], folders_in: str) -> str:
    """What one may do in a folder, in plain words; `folders_in` is the state of deleting a folder
    that is in it.
    """
    has = dict(zip(RIGHTS, states, strict=True))
    words: list[str] = []

    def say(right: str, text: str) -> None:
        if has[right] != "no":
            words.append(
                text + {"own": " of your own", "others": " of others", "yes": ""}[has[right]]
            )

    if has["list"] == "yes" and has["download"] != "no":
        say("download", "look and fetch files")
    else:
        say("list", "look, but not fetch")
        if has["list"] == "no":
            say("download", "fetch files whose names you know")
    say("upload", "put files")
    say("append", "resume broken uploads, files")
    say("overwrite", "replace files")
    say("rename", "rename files")
    say("delete-file", "delete files")
    say("make-folder", "make folders")
    has["delete-folder"] = folders_in
    say("delete-folder", "delete the folders in it")
    return (
        ", ".join(words).replace("resume broken uploads, files", "resume broken uploads")
        or "pass through"
    )


def _limits(prepared: Prepared, account: PreparedAccount) -> list[str]:
    lines = []

    def value(name: str) -> object:
        return resolve(prepared, account, name).value

    for name, text in (
        ("quota_bytes", "In all you may keep {}."),
        ("upload_limit", "A single file may have {} at most."),
    ):
        found = value(name)
        if isinstance(found, int) and found:
            lines.append(text.format(show_size(found)))
    if value("quota_files") != UNLIMITED:
        lines.append(f"You may keep {number_of(int(str(value('quota_files'))), 'file')}.")
    if value("sessions") != UNLIMITED:
        lines.append(
            f"You may have {number_of(int(str(value('sessions'))), 'session')} open at once."
        )
    hours = resolve(prepared, account, "hours").value
    if hours:
        lines.append("You may sign in " + " and ".join(", ".join(h) for h in hours) + " (UTC).")
    if resolve(prepared, account, "addresses").value:
        lines.append(
            "You can sign in from certain addresses only: "
            + " and ".join(", ".join(x) for x in resolve(prepared, account, "addresses").value)
            + "."
        )
    landing = value("landing")
    if landing != "/":
        lines.append(f"You begin in {landing}.")
    if account.account.expires is not None:
        lines.append(f"The account works until the end of {account.account.expires} (UTC).")
    return lines


def _shared_limits(
    prepared: Prepared, account: PreparedAccount, rows: Sequence[FoldedAccess]
) -> Iterator[str]:
    """What is kept within bounds together with others: the quotas that are shared, and those on
    folders it puts files in.
    """
    owner = uploads_owner(prepared, account)
    puts = [r for r in rows if r.place is not None and r.states[RIGHTS.index("upload")] != "no"]
    for quota in prepared.model.quotas:
        bound = bounds(quota)
        amounts = [show_size(bound.bytes)] if bound.bytes is not None else []
        amounts += [number_of(bound.files, "file")] if bound.files is not None else []
        most = " and ".join(amounts)
        if not most or not puts:
            continue
        if quota.folder is None:
            if not {prepared.people.number(s) for s in quota.shared_by}.isdisjoint(owner.who):
                yield f"Together with others you may keep {most}."
            continue
        within = [r for r in puts if r.place is not None and holds(quota.folder, r.place)]
        if within and within[0].place == quota.folder:
            yield f"In {within[0].location}, the files of all together may be {most}."
        elif within:
            yield (
                f"{within[0].location} is part of a folder in which the files of all together may"
                f" be {most}."
            )


# --- how it is written --------------------------------------------------------------------------


def as_text(s: Sheet) -> str:
    lines = [s.title, "=" * len(s.title)]
    for heading, rows in s.parts:
        lines += ["", heading, *(f"  {row}" for row in rows)]
    return "\n".join(lines) + "\n"


def as_markdown(s: Sheet) -> str:
    lines = [f"# {_escaped(s.title)}"]
    for heading, rows in s.parts:
        lines += ["", f"## {heading}", "", *(f"- {_escaped(row)}" for row in rows)]
    return "\n".join(lines) + "\n"


def _escaped(text: str) -> str:
    return "".join(f"\\{c}" if c in "\\`*_[]<>#" else c for c in text)


def as_html(s: Sheet) -> str:
    """A page that prints well on A4, and needs nothing from elsewhere."""
    parts = "".join(
        f"<h2>{html.escape(heading)}</h2>"
        f"<ul>{''.join(f'<li>{_marked(row)}</li>' for row in rows)}</ul>"
        for heading, rows in s.parts
    )
    return (
        '<!doctype html>\n<html lang="en"><head><meta charset="utf-8">'
        f"<title>{html.escape(s.title)}</title><style>@page{{size:A4;margin:22mm}}"
        "body{font:11pt/1.5 'DejaVu Sans',sans-serif;max-width:44em;margin:2em auto;color:#1d1d1b}"
        "h1{font-size:17pt;margin:0 0 .6em}h2{font-size:12pt;margin:1.4em 0 .3em;break-after:avoid}"
        "ul{margin:0;padding-left:1.2em}code{font-family:'DejaVu Sans"
        " Mono',monospace}</style></head>"
        f"<body><h1>{html.escape(s.title)}</h1>{parts}</body></html>\n"
    )


def _marked(row: str) -> str:
    place, colon, rest = row.partition(": ")
    if place.startswith("/") and colon:
        return f"<code>{html.escape(place)}</code>: {html.escape(rest)}"
    return html.escape(row)


FORMATS = {"text": as_text, "markdown": as_markdown, "html": as_html}
