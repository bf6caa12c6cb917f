"""From what a walk found to what the model can hold: paths of the store, and accounts
for OS users.
"""

from __future__ import annotations

import csv
import json
import pwd
import unicodedata
from collections.abc import Callable, Iterable
from typing import Any

from drawknife import messages as msg
from drawknife.core.words.names import BadValue, check_path, fold
from drawknife.formats.document import BadDocument, Mistake
from drawknife.formats.spreadsheets import delimiter_of

from .walk import Walked

#: More than these are counted, not named.
NAMED = 100


def os_user(number: int) -> str:
    """The name of an OS user, or its number where it has none."""
    try:
        return pwd.getpwuid(number).pw_name
    except KeyError:
        return str(number)


def census_of(
    store: str,
    walked: Walked,
    accounts: Iterable[str],
    mapping: dict[str, str],
    measured: str,
    *,
    deepest: int | None = None,
    name_of: Callable[[int], str] = os_user,
) -> msg.NewCensus:
    """What a walk found, as it is sent to the service.

    An OS user is the account that `mapping` says, or the one of the same name; what belongs to
    nobody known is kept without an owner, and told. What lies in a folder whose name cannot be
    written in a model counts for the nearest folder above that can. `deepest` is how many levels of
    new folders are told (None: none).
    """
    by_fold = {fold(a): a for a in accounts}
    owners: dict[int, str | None] = {}
    paths: dict[bytes, str] = {}
    odd: list[str] = []
    rows: dict[tuple[str, str | None], list[int]] = {}
    unknown: dict[str, list[int]] = {}
    for (folder, number), (bytes_, files) in walked.sums.items():
        if number not in owners:
            user = name_of(number)
            owners[number] = by_fold.get(fold(mapping.get(user, user)))
        owner = owners[number]
        path = paths.get(folder)
        if path is None:
            path = paths[folder] = _path(folder, odd)
        total = rows.setdefault((path, owner), [0, 0])
        total[0] += bytes_
        total[1] += files
        if owner is None:
            lost = unknown.setdefault(name_of(number), [0, 0])
            lost[0] += bytes_
            lost[1] += files
    new: set[str] = set()
    if deepest is not None:
        for folder in walked.folders:
            if folder and folder.count(b"/") < deepest:
                path = _path(folder, [])
                new.add(path)
    return msg.NewCensus(
        store=store,
        measured="disk" if measured == "disk" else "length",
        rows=[
            msg.CensusRow(folder=path, owner=owner, bytes=b, files=n)
            for (path, owner), (b, n) in sorted(
                rows.items(), key=lambda r: (r[0][0], r[0][1] or "")
            )
        ],
        unknown_owners=unknown,
        unreadable=[_shown(f) for f in sorted(walked.unreadable)[:NAMED]]
        + (
            [f"and {len(walked.unreadable) - NAMED} more"] if len(walked.unreadable) > NAMED else []
        ),
        notes=_notes(walked, odd),
        new_folders=sorted(new - {"/"}),
    )


def _notes(walked: Walked, odd: list[str]) -> list[str]:
    """What was counted otherwise than one would think, or not at all."""
    notes = []
    if odd:
        notes.append(
            f"{len(odd)} folders have names that a model cannot hold, {odd[0]} among them; they"
            " count for the folder above"
        )
    if walked.linked_again:
        notes.append(f"{walked.linked_again} further names of files that were counted already")
    if walked.others:
        notes.append(f"{walked.others} links, devices and the like were not counted")
    if walked.vanished:
        notes.append(f"{walked.vanished} files or folders went away meanwhile")
    if walked.other_file_systems:
        notes.append(
            f"{len(walked.other_file_systems)} other file systems were not entered,"
            f" {_shown(walked.other_file_systems[0])} among them"
        )
    return notes


def _path(folder: bytes, odd: list[str]) -> str:
    """The path in the store; of a folder whose name cannot be written, the nearest above it that
    can.
    """
    at = folder
    while at:
        try:
            return check_path("/" + unicodedata.normalize("NFC", at.decode()))
        except (UnicodeDecodeError, BadValue):
            if at == folder:
                odd.append(_shown(folder))
            at = at.rpartition(b"/")[0]
    return "/"


def _shown(folder: bytes) -> str:
    """A path for people, whatever bytes it has."""
    text = folder.decode("utf-8", "backslashreplace")
    return "/" + "".join(
        c if c.isprintable() else c.encode("unicode_escape").decode() for c in text
    )


# --- rows in and out ----------------------------------------------------------------------------


def read_mapping(lines: Iterable[str]) -> dict[str, str]:
    """Which OS user is which account: CSV lines ``os_user,account``.

    :class:`BadDocument` with the line of a mistake.
    """
    found: dict[str, str] = {}
    for number, row in enumerate(csv.reader(lines), 1):
        if not row or row == ["os_user", "account"]:
            continue
        if len(row) != 2 or not all(row):
            raise BadDocument(
                [
                    Mistake(
                        (), number, ",".join(row), "this is no line of a mapping", "os_user,account"
                    )
                ]
            )
        found[row[0]] = row[1]
    return found


def _csv_rows(held: list[str]) -> Iterable[dict[str, Any]]:
    return csv.DictReader(held, delimiter=delimiter_of(held[0] if held else ""))


def read_rows(lines: Iterable[str]) -> list[msg.CensusRow]:
    """Rows of a census from CSV with a head, or from JSON lines.

    :class:`BadDocument` with the line of a mistake.
    """
    held = list(lines)
    as_json = bool(held) and held[0].lstrip().startswith("{")
    rows: list[msg.CensusRow] = []
    for number, data in enumerate(
        _json_rows(held) if as_json else _csv_rows(held), 1 if as_json else 2
    ):
        try:
            owner = data.get("owner") or None
            rows.append(
                msg.CensusRow(
                    folder=check_path(data["folder"]),
                    owner=owner,
                    bytes=int(data["bytes"]),
                    files=int(data["files"]),
                )
            )
        except (KeyError, TypeError, ValueError) as error:
            why = (
                f"the field {error} is missing"
                if isinstance(error, KeyError)
                else str(error).split("\n")[0]
            )
            raise BadDocument([Mistake((), number, "", why, "folder,owner,bytes,files")]) from None
    return rows


def _json_rows(lines: list[str]) -> Iterable[dict[str, Any]]:
    for line in lines:
        if line.strip():
            try:
                yield json.loads(line)
            except ValueError:
                yield {}
