"""The page that a link to sign a report opens.

It holds nothing by itself: the report comes with the link's code.
"""

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
<body><main><p>Opening the report …</p></main>
<p id="said" role="status"></p>
<button type="button" hidden>Sign the report</button>
<script src="{PAGE}.js"></script></body></html>
"""

_SCRIPT = f"""{DECIDED}
const code = location.hash.slice(1);
const [main, said, button] = ['main', '#said', 'button'].map((x) => document.querySelector(x));
const tell = (text, role) => {{ said.textContent = text; said.setAttribute('role', role); }};
const post = async (path, body) => {{
  const answer = await fetch('{PREFIX}' + path, {{
    method: 'POST',
    headers: {{ 'Content-Type': 'application/json' }},
    body: JSON.stringify({{ code, ...body }}),
  }});
  const found = await answer.json();
  if (!answer.ok) throw new Error(found.detail || found.title);
  return found;
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
  const counts = `${{done.kept}} kept, ${{done.taken_away.length}} to take away${{open}}`;
  tell(`Signed: ${{counts}}. You can close this page.`, 'status');
}};
const failed = (error) => {{
  if (button.hidden) main.textContent = '';
  button.disabled = false;
  tell(error.message, 'alert');
}};
button.addEventListener('click', () => {{
  const open = document.querySelectorAll('fieldset').length - decided().length;
  if (open && !confirm(`${{open}} rows have no decision. Sign all the same?`)) return;
  button.disabled = true;
  post('/reviews/signed', {{ decided: decided() }}).then(signed, failed);
}});
post('/reviews', {{}}).then(opened, failed);
"""


def add_to(app: Flask) -> None:
    """The page and its script, open to all."""

    def page() -> Response:
        return Response(_PAGE, mimetype="text/html", headers={"Cache-Control": "no-cache"})

    def script() -> Response:
        return Response(_SCRIPT, mimetype="text/javascript", headers={"Cache-Control": "no-cache"})

    app.add_url_rule(PAGE, "review_page", page)
    app.add_url_rule(f"{PAGE}.js", "review_script", script)
