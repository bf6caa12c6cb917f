"""How things are drawn in a terminal: marks for states, a stepped head for the rights, trees."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import date

from rich.cells import cell_len
from rich.console import Console
from rich.text import Text

from drawknife import messages as msg
from drawknife.core.words.names import base, parent
from drawknife.core.words.rights import RIGHTS

MARKS = {"yes": "●", "own": "◐", "others": "◑", "no": "·"}
STYLES = {"yes": "green", "own": "yellow", "others": "magenta", "no": "dim"}
MEANINGS = {
    "yes": "yes",
    "own": "only on what it owns",
    "others": "only on what it does not own",
    "no": "no",
}


def mark(state: str | None) -> Text:
    """A state as one mark; a blank for a location that is not there."""
    return Text(" ") if state is None else Text(MARKS[state], STYLES[state])


def line_of(line: msg.LineMessage) -> Text:
    """A line with its end and its note."""
    text = Text(line.line, "dim" if line.ended else "default")
    if line.until is not None:
        text.append(f" {'ended with' if line.ended else 'until'} {line.until}", "yellow")
    return text.append(f"  “{line.note}”", "dim italic") if line.note else text


def line_message(data: dict[str, str]) -> msg.LineMessage:
    """A line as the model file has it, as answers tell it."""
    until = date.fromisoformat(data["until"]) if "until" in data else None
    said = data.get("line") or data.get("member") or ""
    return msg.LineMessage(line=said, until=until, ended=False, note=data.get("note"))


def legend(states: Iterable[str]) -> Text:
    """What the marks that were used mean."""
    used = set(states)
    text = Text("  ")
    for state, meaning in MEANINGS.items():
        if state in used:
            text.append(MARKS[state], STYLES[state]).append(f" {meaning}    ", "dim")
    return text


def stepped_head(rights: Sequence[str], indent: int, width: int, gap: int = 2) -> list[Text]:
    """The names of the columns as steps, each over its own column; left of it where there is no
    room on the right.
    """
    lines = []
    for i, right in enumerate(rights):
        line = Text(" " * indent)
        for _ in range(i):
            line.append("│", "dim").append(" " * gap)
        at = line.cell_len
        if at + cell_len(right) > width and cell_len(right) < at:
            line.truncate(at - cell_len(right) - 1)
            line.append(f"{right} ").append("┐", "dim")
        else:
            line.append(right)
        lines.append(line)
    return lines


def tree_labels(locations: Sequence[str]) -> list[str]:
    """Locations in tree order as a drawn tree: each under the nearest one above it in the list."""
    known = set(locations)
    above: dict[str, str | None] = {}
    last_child: dict[str | None, str] = {}
    for location in locations:
        at = location
        found = None
        while at != "/" and found is None:
            at = parent(at)
            found = at if at in known else None
        above[location] = found
        last_child[found] = location
    labels = []
    for location in locations:
        up = above[location]
        if up is None:
            labels.append(location)
            continue
        rest = location[1:] if up == "/" else location[len(up) + 1 :]
        label = ("└─ " if last_child[up] == location else "├─ ") + (rest or base(location))
        at = up
        while above[at] is not None:
            label = ("   " if last_child[above[at]] == at else "│  ") + label
            at = above[at] or "/"
        labels.append(label)
    return labels


#: More rows than these are written quickly, where they are not drawn on a terminal.
MANY = 300


def _many_rows(
    out: Console, rows: Sequence[tuple[str, Sequence[str | None], str]], width: int
) -> None:
    """The rows of :func:`access_table` off a terminal, many of them: quickly, and whole."""
    drawn = {state: f"{MARKS[state]}  " for state in MARKS}
    for label, states, behind in rows:
        shown = label if len(label) <= width else label[: width - 1] + "…"
        marks = "".join("   " if state is None else drawn[state] for state in states)
        out.file.write(f"{shown.ljust(width + 2)}{marks}{behind}".rstrip() + "\n")


def access_table(
    out: Console,
    rows: Sequence[tuple[str, Sequence[str | None], str]],
    rights: Sequence[str] = RIGHTS,
) -> None:
    """A table of (label, states, what stands behind), under a stepped head, with its legend."""
    label_width = max((len(label) for label, _, _ in rows), default=10)
    room = out.width - len(rights) * 3 - 4
    label_width = min(label_width, max(room, 20))
    for line in stepped_head(rights, label_width + 2, out.width):
        out.print(line, no_wrap=True, overflow="crop")
    if len(rows) > MANY and not out.is_terminal:
        _many_rows(out, rows, label_width)
        rows_drawn: Sequence[tuple[str, Sequence[str | None], str]] = ()
    else:
        rows_drawn = rows
    for label, states, behind in rows_drawn:
        shown = label if len(label) <= label_width else label[: label_width - 1] + "…"
        line = Text(shown.ljust(label_width + 2))
        for state in states:
            line.append_text(mark(state)).append("  ")
        # What has no room beside the marks stands on a line of its own.
        fits = line.cell_len + cell_len(behind) <= out.width
        out.print(line.append(behind, "dim") if fits else line, no_wrap=True, overflow="crop")
        if not fits:
            out.print(Text(f"    {behind}", "dim"), no_wrap=True, overflow="ignore", crop=False)
    out.print()
    out.print(legend(s for _, states, _ in rows for s in states if s))
