"""Accounts from a CSV file (RFC 4180) with a head, as changes."""

from __future__ import annotations

import csv
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from typing import Any

from drawknife.core.model.kinds import ACCOUNT, OF_A_DIRECTORY
from drawknife.core.model.soundness import nearest
from drawknife.core.words.names import fold

from .document import BadDocument, Mistake
from .spreadsheets import delimiter_of, unguarded

COLUMNS = (*(key.name for key in ACCOUNT.fields if key.name not in OF_A_DIRECTORY), "groups")
_LISTS = {key.name for key in ACCOUNT.fields if key.many}
_YES_NO = {"yes": True, "true": True, "1": True, "no": False, "false": False, "0": False}


def _mistakes_of_head(columns: Sequence[str | None]) -> Iterator[Mistake]:
    for column in columns:
        if column not in COLUMNS:
            near = nearest(column or "", COLUMNS)
            message = f"there is no column {column!r}"
            yield Mistake((), 1, column or "", message, "some of " + ", ".join(COLUMNS), near)
    if "name" not in columns:
        expected = "a first line such as name,display,unit"
        yield Mistake((), 1, "", "there is no column name", expected)


def _change_of_account(
    name: str, cells: Mapping[str, str], is_known: bool
) -> Iterator[dict[str, Any]]:
    """The change that a line makes of its account; none where it says nothing of a known one."""
    item = {k: _value(k, v) for k, v in cells.items() if k != "groups"}
    if not is_known:
        yield {"op": "add", "kind": "account", "item": item}
        return
    del item["name"]
    if item:
        yield {"op": "change", "kind": "account", "name": name, "set": item}


def changes_from_csv(lines: Iterable[str], existing: Collection[str]) -> list[dict[str, Any]]:
    """A change for each line: added where there is no such account, changed where there is.

    `existing` are the names of the accounts that there are. An empty field says nothing. Raises
    :class:`BadDocument` with the lines of all mistakes of form.
    """
    held = list(lines)
    reader = csv.DictReader(held, strict=True, delimiter=delimiter_of(held[0] if held else ""))
    wrong: list[Mistake] = []
    changes: list[dict[str, Any]] = []
    joins: dict[str, list[str]] = {}
    known, seen = set(map(fold, existing)), dict[str, int]()
    try:
        wrong += _mistakes_of_head(reader.fieldnames or ())
        for row in [] if wrong else reader:
            line = reader.line_num
            name = unguarded((row.get("name") or "").strip())
            if None in row or not name:
                what = (
                    "the line has more fields than the first"
                    if None in row
                    else "the name is empty"
                )
                wrong.append(Mistake((), line, "", what, "a field for each column"))
                continue
            if fold(name) in seen:
                wrong.append(
                    Mistake(
                        (),
                        line,
                        name,
                        f"{name!r} is there already, in line {seen[fold(name)]}",
                        "each once",
                    )
                )
            seen[fold(name)] = line
            cells = {
                k: unguarded(v.strip()) for k, v in row.items() if isinstance(v, str) and v.strip()
            }
            changes += _change_of_account(name, cells, fold(name) in known)
            for group in cells.get("groups", "").split():
                joins.setdefault(group, []).append(f"account:{name}")
    except csv.Error as error:
        wrong.append(Mistake((), reader.reader.line_num, "", f"this is no CSV: {error}", "CSV"))
    if wrong:
        raise BadDocument(wrong)
    changes += [
        {"op": "change", "kind": "group", "name": group, "add": {"members": members}}
        for group, members in joins.items()
    ]
    if not changes:
        raise BadDocument(
            [Mistake((), None, "", "there is nothing to do in it", "a line for each account")]
        )
    return changes


def _value(column: str, text: str) -> Any:
    if column in _LISTS:
        return text.replace(",", " ").split()
    if column == "enabled":
        return _YES_NO.get(text.lower(), text)
    return text
