"""The page of a link to sign a report. It loads the report with the code of the link."""

from __future__ import annotations

from flask import Flask, Response

from drawknife.documents.page import DECIDED, STYLE

from .bodies import PREFIX
from .review_links import PAGE

_PAGE = f"""<!doctype html>
<html lang="en"><head><meta charset="utf-8">
<meta name="viewport" content="width=device-width,initial-scale=1">
<title>Review a report</title><style>{STYLE}
main{{overflow-x:auto}}[role=alert]{{color:#a11;font-weight:600}}</style></head>
<body><main><p>Loading the report …</p></main>
<p id="state" role="status"></p>
<button type="button" hidden>Sign the report</button>
<script src="{PAGE}.js"></script></body></html>
"""

_SCRIPT = f"""{DECIDED}
const code = location.hash.slice(1);
const [main, state, button] = ['main', '#state', 'button'].map((x) => document.querySelector(x));
const show = (text, role) => {{ state.textContent = text; state.setAttribute('role', role); }};
const send = async (path, options) => {{
  const headers = {{ Authorization: `Bearer ${{code}}`, 'Content-Type': 'application/json' }};
  const answer = await fetch('{PREFIX}' + path, {{ headers, ...options }});
  const content = await answer.json();
  if (!answer.ok) throw new Error(content.detail || content.title);
  return content;
}};
const opened = (report) => {{
  document.title = report.title;
  main.innerHTML = report.html;
  button.hidden = false;
}};
const signed = (done) => {{
  button.remove();
  for (const field of document.querySelectorAll('input')) field.disabled = true;
  const open = done.undecided.length ? `; ${{done.undecided.length}} without a decision` : '';
  const counts = `${{done.kept}} kept, ${{done.taken_away.length}} to remove${{open}}`;
  show(`Signed: ${{counts}}. You can close this page.`, 'status');
}};
const failed = (error) => {{
  if (button.hidden) main.textContent = '';
  button.disabled = false;
  show(error.message, 'alert');
}};
button.addEventListener('click', () => {{
  const open = document.querySelectorAll('fieldset').length - decided().length;
  if (open && !confirm(`${{open}} rows have no decision. Sign anyway?`)) return;
  button.disabled = true;
  const body = JSON.stringify({{ decided: decided() }});
  send('/reviews/signed', {{ method: 'POST', body }}).then(signed, failed);
}});
send('/reviews').then(opened, failed);
"""


def add_to(app: Flask) -> None:
    """The page and its script, open to all."""

    def page() -> Response:
        return Response(_PAGE, mimetype="text/html", headers={"Cache-Control": "no-cache"})

    def script() -> Response:
        return Response(_SCRIPT, mimetype="text/javascript", headers={"Cache-Control": "no-cache"})

    app.add_url_rule(PAGE, "review_page", page)
    app.add_url_rule(f"{PAGE}.js", "review_script", script)
