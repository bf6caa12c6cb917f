"""Takes the pictures in docs/screenshots from the demo: python -m tools.screenshots [NAME ...]

Terminal pictures are of a real terminal window (xterm under Xvfb, from Debian's packages); those of
the console are of headless Chromium. Needs a running ./run demo for the console's.
"""

from __future__ import annotations

import ftplib
import io
import os
import subprocess
import sys
from contextlib import suppress
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from drawknife.client import Client
from drawknife.rehearsal.model_source import OfService

from .rehearsing import standing

ROOT = Path(__file__).resolve().parent.parent
FOLDER = ROOT / "docs" / "screenshots"

TERMINAL = {
    "access": "access ines",
    "why": "why fulmar upload /charts/x",
    "who": "who download /soundings/north-bank",
    "map": "map --right upload",
    "compare": "compare ines yuki --under /soundings/north-bank",
    "mend": "mend refa list /charts --most 3",
    "try": "trial list",
    "rehearse": "rehearse",
    "preview": "account change ines --not-enabled --preview",
}
CONSOLE = {
    "console-access": "/accounts/yuki?why=delete-file@/charts/exchange",
    "console-map": "/map?right=delete-file",
    "console-overview": "/",
    "console-sync": "/directories?preview=bureau",
    "console-limits": "/limits?limit=capacity%20survey",
    "console-endpoints": "/endpoints",
    "console-draft": "/drafts/watch-keeps-charts",
    "console-report": "/reports",
    "console-pattern": "/patterns/shared-folder",
    "console-rehearsal": "/rehearsal",
}
DARK = {"console-map"}


def _report(page: Any) -> None:
    page.get_by_role("combobox", name="About").fill("survey:/inbox")
    page.get_by_role("button", name="Make a report").click()
    page.get_by_role("button", name="Sign report").wait_for()


def _pattern(page: Any) -> None:
    page.get_by_label("Who shares it").fill("group:night-watch")
    page.get_by_label("The store folder that they share").fill("survey:/watch")
    page.get_by_label("Where they see it").fill("/watch")
    page.get_by_role("button", name="Show what follows").click()
    page.get_by_role("button", name="Do it").wait_for()
    page.wait_for_function("() => !document.querySelector('[data-loading]')")
    page.wait_for_timeout(400)  # the button comes back slowly


#: Clients: who comes, what is put (or nothing), and where.
CLIENTS = (
    ("kittiwake", "/inbox/line-07.xyz"), ("turnstone", "/inbox/line-07.xyz"), ("yuki", None),
    ("ines", "/charts/issued/sheet-15.pdf"), ("uni-esk", None),
)  # fmt: skip


def _rehearsal(page: Any) -> None:
    """Some clients come while the page is looked at, and one that was refused is opened."""
    service = _service()
    with (
        TemporaryDirectory() as folder,
        Client(service["DRAWKNIFE_URL"], service["DRAWKNIFE_TOKEN"]) as client,
        standing(None, Path(folder), source=OfService(client)) as there,
    ):
        for who, put in CLIENTS:
            with suppress(ftplib.error_perm), there.ftp(who) as ftp:
                ftp.storbinary(f"STOR {put}", io.BytesIO(b"x")) if put else ftp.nlst("/")
        page.get_by_role("button", name="Why uni-esk sign-in").wait_for()
        page.get_by_role("button", name="Why ines upload").first.click()
        page.get_by_text("Refused by the folder gate").wait_for()


#: What is done on a page before its picture is taken.
STEPS = {"console-report": _report, "console-pattern": _pattern, "console-rehearsal": _rehearsal}


def _service() -> dict[str, str]:
    """What names the running demo to the command line."""
    token = ROOT / ".run" / "admin-token"
    return (
        {"DRAWKNIFE_URL": "http://127.0.0.1:8750", "DRAWKNIFE_TOKEN": token.read_text().strip()}
        if token.exists()
        else {}
    )


def terminal(name: str, command: str) -> None:
    """One command in a terminal window of 100 columns."""
    if name == "rehearse":
        _terminal(name, REHEARSAL)
        return
    shown = (
        f"printf '\\033[?25l$ drawknife {command}\\n'; {ROOT}/.venv/bin/drawknife"
        f" {command}{'' if '--preview' in command else ' --model demo/tidewrack.yaml'}; printf"
        f" '\\033[?25l'; touch {FOLDER}/.done; read x"
    )
    _terminal(name, shown)


#: A rehearsal, and what some clients do meanwhile.
REHEARSAL = rf"""
    printf '\033[?25l$ drawknife rehearse --model demo/tidewrack.yaml\n'
    export DRAWKNIFE_REHEARSAL_PASSWORD=tryout
    {ROOT}/.venv/bin/drawknife rehearse --model demo/tidewrack.yaml --offset 30000 2>&1 &
    until curl -sk -o .run/x -u anonymous: ftp://127.0.0.1:32100/; do :; done
    client() {{ who=$1; shift; curl -sk -o .run/x --ssl-reqd -u $who:tryout "$@"; }}
    client kittiwake -T README.md ftp://127.0.0.1:32121/inbox/line-07.xyz
    client turnstone -T README.md ftp://127.0.0.1:32121/inbox/line-07.xyz
    client ines -T README.md ftp://127.0.0.1:32121/charts/issued/sheet-15.pdf
    client uni-esk ftp://127.0.0.1:32121/
    touch {FOLDER}/.done; read x
"""


def _terminal(name: str, shown: str) -> None:
    """What a shell shows, as a picture."""
    done = FOLDER / ".done"
    done.unlink(missing_ok=True)
    script = f"""
        xterm -geometry 102x52+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#1d1d1b' -fg '#d7d3ca' \\
            -b 14 +sb \\
            -xrm 'XTerm*color1: #ee8274' -xrm 'XTerm*color2: #63c3b1' \\
            -xrm 'XTerm*color3: #e3a544' \\
            -e sh -c "$SHOWN" & pid=$!
        while [ ! -e {done} ]; do kill -0 $pid || exit 1; done
        xwd -root -silent | convert xwd:- -trim +repage -trim +repage \\
            -bordercolor '#1d1d1b' -border 14 {FOLDER}/{name}.png
        kill $pid
    """
    subprocess.run(
        ["xvfb-run", "-a", "-s", "-screen 0 1280x900x24", "sh", "-c", script],
        check=True,
        cwd=ROOT,
        env={**os.environ, **_service(), "SHOWN": shown, "TERM": "xterm-256color"},
    )
    done.unlink(missing_ok=True)


def console(wanted: dict[str, str]) -> None:
    """Pages of the console, at 1280 by 800."""
    from playwright.sync_api import sync_playwright

    url = os.environ.get("DRAWKNIFE_URL", "http://127.0.0.1:8750")
    token = (ROOT / ".run" / "admin-token").read_text().strip()
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu"]
        )
        for name, path in wanted.items():
            scheme = "dark" if name in DARK else "light"
            context = browser.new_context(
                base_url=url, viewport={"width": 1280, "height": 800}, color_scheme=scheme
            )
            page = context.new_page()
            page.goto("/sign-in")
            page.get_by_label("Token").fill(token)
            page.keyboard.press("Enter")
            page.wait_for_selector("nav")
            page.goto(path)
            page.wait_for_load_state("networkidle")
            if name in STEPS:
                STEPS[name](page)
            page.screenshot(path=FOLDER / f"{name}.png")
            context.close()
        browser.close()


def main() -> int:
    FOLDER.mkdir(exist_ok=True)
    wanted = set(sys.argv[1:]) or {*TERMINAL, *CONSOLE}
    for name, command in TERMINAL.items():
        if name in wanted:
            terminal(name, command)
    pages = {name: path for name, path in CONSOLE.items() if name in wanted}
    if pages:
        console(pages)
    return 0


if __name__ == "__main__":
    sys.exit(main())
