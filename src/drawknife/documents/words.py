"""What a report says, the same in each kind of document."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from drawknife import messages as msg
from drawknife.core.words.sizes import number_of

#: What is decided of a row: the key of its field, and the word.
DECISIONS = (("keep", "keep"), ("take-away", "take away"))
#: So many names are written in a row; of the rest it is told how many they are.
NAMES = 40


def heading(found: msg.Report) -> list[str]:
    """What has to be known before one goes through it."""
    lines = [
        f"Report {found.number}, of revision {found.revision}, made {found.made:%Y-%m-%d %H:%M} UTC by {found.made_by}."
    ]
    if found.since is not None and found.since.signed is not None:
        signed = found.since.signed
        new = sum(bool(r.new) for r in found.rows)
        lines.append(
            f"Compared with report {found.since.number} (revision {found.since.revision}), which {signed.by} signed on {signed.at:%Y-%m-%d}: "
            f"{number_of(new, 'row')} with something new, {len(found.gone)} gone."
        )
    elif not found.about.startswith("group:"):
        lines.append("None about this was signed before.")
    if not found.about.startswith("group:"):
        lines.append(
            "Accounts that may do the same by the same entries are one row; below a place all is as its row says, unless a row further down says otherwise."
        )
    return [*lines, *found.notes]


def rows_of(rows: Iterable[msg.ReportRow]) -> Iterator[tuple[msg.ReportRow, tuple[str, str, str, str]]]:
    """Each row with its words: where, who, what they may, and by what."""
    for row in rows:
        seen = "" if row.location is None else f"\nseen at {row.location}"
        who = ", ".join(row.accounts[:NAMES])
        if len(row.accounts) > NAMES:
            who += f" and {len(row.accounts) - NAMES} more"
        if row.new:
            new = "all" if len(row.new) == len(row.accounts) else ", ".join(row.new[:NAMES])
            who += f"\nnew: {new}"
        yield row, (row.place + seen, who or "nobody", row.may, "\n".join(row.by))
