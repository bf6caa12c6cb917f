"""A report as one HTML page that needs nothing from elsewhere: what is decided is chosen in it, and saved as a file to send back."""

from __future__ import annotations

from html import escape

from drawknife import messages as msg

from .words import DECISIONS, Line, heading, lines_of

_STYLE = """
body{font:15px/1.5 system-ui,sans-serif;max-width:76em;margin:2em auto;padding:0 1em;color:#1d1d1b}
h1{font-size:1.5em;margin:0 0 .3em}p{margin:.2em 0;color:#55534e}
table{border-collapse:collapse;margin:1.5em 0;width:100%}th,td{text-align:left;vertical-align:top;padding:.4em .7em .4em 0;border-bottom:1px solid #dddbd4}
td{white-space:pre-line}td:nth-child(2){min-width:12em}td:nth-child(3){min-width:9em}.by{color:#55534e;font-size:.9em}fieldset{border:0;margin:0;padding:0;white-space:nowrap}
label{display:block}input[type=text]{width:100%;box-sizing:border-box}button{font:inherit;padding:.5em 1.2em}
@media print{button{display:none}}
"""
_SCRIPT = """
document.querySelector('button').addEventListener('click', () => {
  const decided = [...document.querySelectorAll('input[type=radio]:checked')].map((x) => ({
    row: Number(x.name.slice(4)), decision: x.value,
    remark: document.querySelector(`[name=remark-${x.name.slice(4)}]`).value || null,
  }));
  const file = new Blob([JSON.stringify({ report: REPORT, decided }, null, 1)], { type: 'application/json' });
  const a = document.createElement('a');
  a.href = URL.createObjectURL(file);
  a.download = `report-${REPORT}-decided.json`;
  a.click();
});
"""


def report(found: msg.Report) -> bytes:
    """A report to be gone through."""
    body = "".join(map(_row, lines_of(found.rows)))
    gone = "".join(f"<li>{escape(line)}</li>" for line in found.gone)
    no_more = f"<h2>Removed since the last signed report</h2><ul>{gone}</ul>" if gone else ""
    return (
        f'<!doctype html>\n<html lang="en"><head><meta charset="utf-8"><title>{escape(found.title)}</title>'
        f"<style>{_STYLE}</style></head><body><main><h1>{escape(found.title)}</h1>"
        + "".join(f"<p>{escape(line)}</p>" for line in heading(found))
        + "<table><thead><tr><th>no.</th><th>where</th><th>who</th><th>may</th><th>by</th><th>decision</th><th>remark</th></tr></thead>"
        f"<tbody>{body}</tbody></table>{no_more}<button type=button>Save what is decided, to send it back</button></main>"
        f"<script>{_SCRIPT.replace('REPORT', str(found.number))}</script></body></html>\n"
    ).encode()


def _row(line: Line) -> str:
    row, (where, who, may, by) = line.row, map(escape, line.words)
    decide = remark = ""
    if row is not None and row.to_decide:
        choices = "".join(
            f'<label><input type=radio name="row-{row.number}" value="{word}"> {word}</label>' for _, word in DECISIONS
        )
        decide = f'<fieldset aria-label="row {row.number}">{choices}</fieldset>'
        remark = f'<input type=text name="remark-{row.number}" aria-label="remark on row {row.number}">'
    return (
        f"<tr><td>{row.number if row else ''}</td><td>{where}</td><td>{who}</td><td>{may}</td><td class=by>{by}</td>"
        f"<td>{decide}</td><td>{remark}</td></tr>"
    )
