"""The commands in the documentation, and what they print: python -m tools.guide writes them anew.

In a fenced block that begins with ``$ drawknife …``, the rest is what the command prints on the demo
model. The tests hold that it is so.
"""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs" / "guide").glob("*.md"))]
BLOCK = re.compile(r"```console\n\$ drawknife ([^\n]+)\n(.*?)```\n", re.DOTALL)


def printed(command: str) -> str:
    """What a command prints on the demo model, off a terminal, without blanks at the ends of lines."""
    environment = {k: v for k, v in os.environ.items() if not k.startswith("DRAWKNIFE") and k != "COLUMNS"}
    done = subprocess.run(
        [ROOT / ".venv/bin/drawknife", *shlex.split(command), "--model", "demo/tidewrack.yaml"],
        capture_output=True, text=True, cwd=ROOT, env=environment,
    )  # fmt: skip
    text = done.stdout + done.stderr
    return "".join(line.rstrip() + "\n" for line in text.splitlines())


def main() -> int:
    for page in PAGES:
        old = page.read_text()
        new = BLOCK.sub(lambda block: f"```console\n$ drawknife {block[1]}\n{printed(block[1])}```\n", old)
        if new != old:
            page.write_text(new)
            print(f"wrote {page.relative_to(ROOT)}", file=sys.stderr)
    return 0


if __name__ == "__main__":
    sys.exit(main())
