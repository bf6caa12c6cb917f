"""A report as one HTML page that needs nothing from elsewhere: what is decided is chosen in it, and
saved as a file to send back.
"""

from __future__ import annotations

from collections.abc import Mapping
from html import escape

from drawknife import messages as msg

from .words import (
    DECISIONS,
    PEOPLE,
    Line,
    decision,
    heading,
    lines_of,
    lists_of,
    name_lists,
    people_of,
    said_of,
)

STYLE = """
body{font:15px/1.5 system-ui,sans-serif;max-width:76em;margin:2em auto;padding:0 1em;color:#1d1d1b}
h1{font-size:1.5em;margin:0 0 .3em}p{margin:.2em 0;color:#55534e}
table{border-collapse:collapse;margin:1.5em 0;width:100%}
th,td{text-align:left;vertical-align:top;padding:.4em .7em .4em 0;
border-bottom:1px solid #dddbd4}
td{white-space:pre-line}
td:nth-child(2){min-width:12em}td:nth-child(3){min-width:9em}.by{color:#55534e;font-size:.9em}
fieldset{border:0;margin:0;padding:0;white-space:nowrap}
label{display:block}input[type=text]{width:100%;box-sizing:border-box}
button{font:inherit;padding:.5em 1.2em}
@media print{button{display:none}}
"""
#: What was chosen, of each row that something was chosen of.
DECIDED = """
const decided = () => [...document.querySelectorAll('input[type=radio]:checked')].map((x) => ({
  row: Number(x.name.slice(4)), decision: x.value,
  remark: document.querySelector(`[name=remark-${x.name.slice(4)}]`).value || null,
}));
"""
_SAVING = """
document.querySelector('button').addEventListener('click', () => {
  const said = { report: REPORT, decided: decided() };
  const file = new Blob([JSON.stringify(said, null, 1)], { type: 'application/json' });
  const a = document.createElement('a');
  a.href = URL.createObjectURL(file);
  a.download = `report-${REPORT}-decided.json`;
  a.click();
});
"""


_HEADS = ("no.", "where", "who", "may", "by", "decision", "remark")


def report(found: msg.Report) -> bytes:
    """A report to be gone through, or as it was signed."""
    saving = ""
    if found.signed is None:
        script = DECIDED + _SAVING.replace("REPORT", str(found.number))
        saving = (
            "<button type=button>Save what is decided, to send it"
            f" back</button><script>{script}</script>"
        )
    return (
        '<!doctype html>\n<html lang="en"><head><meta'
        f' charset="utf-8"><title>{escape(found.title)}</title>'
        f"<style>{STYLE}</style></head><body><main>{body(found)}</main>{saving}</body></html>\n"
    ).encode()


def body(found: msg.Report) -> str:
    """What is gone through, without what saves it."""
    said = said_of(found)
    rows = "".join(_row(line, found.signed is not None, said) for line in lines_of(found))
    lists = "".join(
        f"<h2>{escape(head)}</h2><ul>{''.join(f'<li>{escape(line)}</li>' for line in lines)}</ul>"
        for head, lines in lists_of(found)
    )
    people = "".join(
        f"<tr>{''.join(f'<td>{escape(word)}</td>' for word in person)}</tr>"
        for person in people_of(found)
    )
    return (
        f"<h1>{escape(found.title)}</h1>"
        + "".join(f"<p>{escape(line)}</p>" for line in heading(found))
        + f"{_table(_HEADS, rows)}{lists}"
        + "".join(
            f"<h2>{escape(x.heading)}</h2><p>{escape(', '.join(x.names))}</p>"
            for x in name_lists(found)
        )
        + (f"<h2>People</h2>{_table(PEOPLE, people)}" if people else "")
    )


def _table(heads: tuple[str, ...], rows: str) -> str:
    head = "".join(f"<th>{word}</th>" for word in heads)
    return f"<table><thead><tr>{head}</tr></thead><tbody>{rows}</tbody></table>"


def _row(line: Line, is_signed: bool, said: Mapping[int, msg.Decided]) -> str:
    row, (where, who, may, by) = line.row, map(escape, line.words)
    decide = remark = ""
    if row.to_decide and is_signed:
        decided = said.get(row.number)
        decide, remark = decision(decided), escape((decided.remark if decided else None) or "")
    elif row.to_decide:
        choices = "".join(
            f'<label><input type=radio name="row-{row.number}" value="{code}"> {label}</label>'
            for code, label in DECISIONS.items()
        )
        decide = f'<fieldset aria-label="row {row.number}">{choices}</fieldset>'
        remark = (
            f'<input type=text name="remark-{row.number}" aria-label="remark on row {row.number}">'
        )
    return (
        f"<tr><td>{row.number}</td><td>{where}</td><td>{who}</td><td>{may}</td><td"
        f" class=by>{by}</td><td>{decide}</td><td>{remark}</td></tr>"
    )
