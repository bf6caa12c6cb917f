"""Rows as text that is made as they come: JSON lines, or CSV (RFC 4180) with a head."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from .spreadsheets import guarded

JSON, LINES, CSV = "application/json", "application/x-ndjson", "text/csv"
#: So many rows are made into one piece of text.
AT_ONCE = 500


def rows_text(rows: Iterable[Mapping[str, Any]], kind: str, raw: bool = False) -> Iterator[str]:
    """The text of rows, a piece at a time.

    In CSV what is no plain value is JSON in its field, and a cell that begins like a formula gets
    an apostrophe before it, unless it is to be `raw`; JSON lines have all as it is.
    """
    some: list[Mapping[str, Any]] = []
    head = True
    for row in rows:
        some.append(row)
        if len(some) == AT_ONCE:
            yield _piece(some, kind, raw, head)
            some, head = [], False
    if some:
        yield _piece(some, kind, raw, head)


def _piece(rows: list[Mapping[str, Any]], kind: str, raw: bool, head: bool) -> str:
    if kind == LINES:
        return "".join(json.dumps(row, ensure_ascii=False) + "\n" for row in rows)
    out = io.StringIO()
    writer = csv.writer(out)
    flat = [_flat(row) for row in rows]
    shown = (lambda cell: cell) if raw else guarded
    if head:
        writer.writerow(map(shown, flat[0]))
    writer.writerows(map(shown, row.values()) for row in flat)
    return out.getvalue()


def _flat(row: Mapping[str, Any]) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for name, value in row.items():
        if isinstance(value, dict):
            found.update(value)
        elif isinstance(value, list):
            plain = all(isinstance(v, str) for v in value)
            found[name] = " > ".join(value) if plain else json.dumps(value, ensure_ascii=False)
        else:
            found[name] = "" if value is None else value
    return found
