"""What was decided of a report, read from the document that comes back: PDF, workbook, or the file
that the page saves.
"""

from __future__ import annotations

import re
from io import BytesIO
from typing import Any, Literal
from zipfile import ZipFile

from openpyxl import load_workbook
from pydantic import BaseModel
from pypdf import PdfReader

from drawknife import messages as msg
from drawknife.core.words.errors import BadInput

from .words import check_decided
from .workbook import ABOUT, HEADS

#: Parts of a workbook, and bytes of all of them unpacked.
MOST_PARTS, UNPACKED = 1000, 2**28
_WORDS: dict[str, Literal["keep", "take away"]] = {
    "keep": "keep",
    "remove": "take away",
    "take away": "take away",
    "take-away": "take away",
}


class _Saved(BaseModel):
    report: int
    decided: list[msg.Decided]


def read(raw: bytes, number: int) -> list[msg.Decided]:
    """What was decided, row by row; :class:`BadInput` if it is no such document, of another report,
    or contradicts itself.
    """
    try:
        if raw.startswith(b"%PDF"):
            of, found = _pdf(raw)
        elif raw.startswith(b"PK"):
            of, found = _workbook(raw)
        else:
            saved = _Saved.model_validate_json(raw)
            of, found = saved.report, saved.decided
    except BadInput:
        raise
    except MemoryError:
        raise
    except Exception:  # a damaged document makes its reader fail in any way
        raise BadInput(
            "document",
            "it cannot be read",
            "the PDF or workbook of the report, or the file that its page saved",
        ) from None
    if of != number:
        raise BadInput("document", f"it is report {of}", f"that of report {number}")
    check_decided(found)
    return found


def _pdf(raw: bytes) -> tuple[int, list[msg.Decided]]:
    reader = PdfReader(BytesIO(raw))
    named = re.search(
        r"report (\d+), revision", "".join(page.extract_text() for page in reader.pages[:1])
    )
    fields: dict[str, Any] = reader.get_fields() or {}
    found = []
    for name, field in fields.items():
        parts = re.fullmatch(r"row-(\d+)-(keep|take-away)", name)
        if parts is not None and str(field.get("/V", "/Off")) not in ("/Off", "None", ""):
            found.append(msg.Decided(row=int(parts[1]), decision=_WORDS[parts[2]]))
    return int(named[1]) if named else 0, found


def _check_unpacked(raw: bytes) -> None:
    """:class:`BadInput` where the parts of a workbook are too many, or too large when they are
    unpacked.
    """
    parts = ZipFile(BytesIO(raw)).infolist()
    if len(parts) > MOST_PARTS or sum(p.file_size for p in parts) > UNPACKED:
        raise BadInput(
            "document",
            "the workbook is too large when it is unpacked",
            "the workbook of the report",
        )


def _workbook(raw: bytes) -> tuple[int, list[msg.Decided]]:
    _check_unpacked(raw)
    book = load_workbook(BytesIO(raw), read_only=True, data_only=True)
    of = int(str(next(book[ABOUT].iter_rows(min_row=1, max_row=1, values_only=True))[1]))
    found = []
    rows = book["rows"].iter_rows(values_only=True)
    at = {str(head): i for i, head in enumerate(next(rows))}
    places = [at[head] for head in (HEADS[0], HEADS[5], HEADS[6])]
    for line in rows:
        number, decision, remark = (line[i] if i < len(line) else None for i in places)
        if decision is None or not str(decision).strip():
            continue
        if number is None:
            raise BadInput(
                "document",
                "a decision stands in a line without a number",
                "it in the row's first line",
            )
        word = _WORDS.get(str(decision).strip().lower())
        if word is None:
            raise BadInput(
                "document", f"row {number}: {str(decision)[:40]!r} is no decision", "keep or remove"
            )
        found.append(
            msg.Decided(
                row=int(str(number)), decision=word, remark=None if remark is None else str(remark)
            )
        )
    return of, found
