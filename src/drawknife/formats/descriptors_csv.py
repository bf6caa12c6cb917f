"""Security descriptors as CSV (RFC 4180): path, owner, descriptor in SDDL; and whom identifiers
stand for: sid, subject.
"""

from __future__ import annotations

import csv
from collections.abc import Iterable, Sequence
from itertools import chain

from drawknife.core.model.described_folders import (
    DescribedFolder,
    SidName,
    parse_described,
    parse_sid_name,
)
from drawknife.core.model.lines import parse_subject
from drawknife.core.model.nfs4 import principal
from drawknife.core.words.names import BadValue

from .document import BadDocument, Mistake
from .spreadsheets import delimiter_of, unguarded

COLUMNS = ("path", "owner", "descriptor")


def folders_from_csv(
    lines: Iterable[str], root: str | None = None
) -> tuple[list[DescribedFolder], list[str]]:
    r"""The folders of a CSV file, and what of it was passed over, in words.

    Paths are those of Windows, ``D:\survey\charts``, counted from `root`, or from the shortest.
    Raises :class:`BadDocument` with the lines of all mistakes.
    """
    wrong: list[Mistake] = []
    rows = []
    for line, row in _rows(lines, COLUMNS, {"path", "descriptor"}, wrong):
        rows.append((line, _plain(row["path"]), row.get("owner", ""), row["descriptor"]))
    top = _plain(root) if root else min((path for _, path, _, _ in rows), key=len, default="")
    folders: dict[str, DescribedFolder] = {}
    spelled: dict[str, str] = {}
    outside = 0
    for line, path, owner, descriptor in rows:
        if path.casefold() != top.casefold() and not path.casefold().startswith(
            top.casefold().rstrip("/") + "/"
        ):
            outside += 1
            continue
        owned = descriptor if not owner or descriptor.startswith("O:") else f"O:{owner}{descriptor}"
        try:
            found = parse_described(
                f"{owned} {_spelled('/' + path[len(top) :].strip('/'), spelled)}"
            )
        except BadValue as bad:
            wrong.append(Mistake((), line, path, str(bad), bad.expected))
            continue
        if found.path in folders:
            wrong.append(Mistake((), line, path, f"{path!r} is there twice", "each once"))
        folders[found.path] = found
    if wrong:
        raise BadDocument(wrong)
    notes = [f"{outside} paths outside {root}"] if outside else []
    left_out = sum(f.descriptor.left_out for f in folders.values())
    notes += [f"{left_out} entries of objects or with conditions"] if left_out else []
    return sorted(folders.values()), notes


def names_from_csv(lines: Iterable[str], column: str = "sid") -> list[SidName]:
    """Whom identifiers stand for: those of Windows in a column ``sid``, or of an NFS server in a
    column ``principal``.

    Raises :class:`BadDocument` with the lines of all mistakes.
    """
    wrong: list[Mistake] = []
    found = []
    for line, row in _rows(lines, (column, "subject"), {column, "subject"}, wrong):
        try:
            if column == "principal":
                subject = parse_subject(row["subject"])
                found.append(SidName(principal(subject, row[column]), subject))
            else:
                found.append(parse_sid_name(f"{row[column]} {row['subject']}"))
        except BadValue as bad:
            wrong.append(Mistake((), line, row[column], str(bad), bad.expected))
    if wrong:
        raise BadDocument(wrong)
    return found


def rows_of(folders: Sequence[DescribedFolder], root: str) -> list[tuple[str, str, str]]:
    """Folders as rows of CSV, below a root written as Windows does."""
    return [
        (
            root.rstrip("\\") + folder.path.rstrip("/").replace("/", "\\"),
            folder.descriptor.owner or "",
            folder.text,
        )
        for folder in folders
    ]


def _spelled(path: str, spelled: dict[str, str]) -> str:
    """A path with each folder spelled as it was at first: Windows does not tell upper and lower
    case apart.
    """
    if path == "/":
        return path
    above, _, name = path.rpartition("/")
    full = f"{_spelled(above or '/', spelled).rstrip('/')}/{name}"
    return spelled.setdefault(full.casefold(), full)


def _plain(path: str) -> str:
    return path.replace("\\", "/").rstrip("/")


def _rows(
    lines: Iterable[str], columns: Sequence[str], needed: set[str], wrong: list[Mistake]
) -> Iterable[tuple[int, dict[str, str]]]:
    # Some shells write a first line that names the type of what they export.
    every = iter(lines)
    first = next(every, "")
    skipped = first.startswith("#TYPE ")
    head = next(every, "") if skipped else first
    reader = csv.DictReader(chain((head,), every), strict=True, delimiter=delimiter_of(head))
    try:
        missing = needed - set(reader.fieldnames or ())
        if missing:
            wrong.append(
                Mistake(
                    (),
                    1,
                    "",
                    f"there is no column {sorted(missing)[0]}",
                    "a first line " + ",".join(columns),
                )
            )
            return
        for row in reader:
            cells = {
                k: unguarded(v.strip())
                for k, v in row.items()
                if isinstance(k, str) and isinstance(v, str)
            }
            if any(not cells.get(name) for name in needed):
                wrong.append(
                    Mistake(
                        (),
                        reader.line_num + skipped,
                        "",
                        "a field is empty",
                        "a field for each column",
                    )
                )
            else:
                yield reader.line_num + skipped, cells
    except csv.Error as error:
        wrong.append(
            Mistake(
                (),
                reader.line_num + skipped,
                "",
                f"this is no CSV: {error}",
                "commas, and quotation marks",
            )
        )
