"""The commands in the documentation, and what they print: python -m tools.guide writes them anew.

In a fenced block that begins with ``$ drawknife …``, the rest is what the command prints on the demo
model. On a page that says ``<!-- asks a service -->`` the commands are run one after the other against a
service with the demo model and the demo's directory. The tests hold that it is so.
"""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory

from .cluster import Cluster
from .demo import fill
from .serving import serving

ROOT = Path(__file__).resolve().parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs" / "guide").glob("*.md"))]
BLOCK = re.compile(r"```console\n\$ drawknife ([^\n]+)\n(.*?)```\n", re.DOTALL)


ASKS_A_SERVICE = "<!-- asks a service -->"


def printed(command: str, service: dict[str, str] | None = None) -> str:
    """What a command prints, off a terminal, without blanks at the ends of lines.

    On the demo's model file, or with a service: `service` is the environment that names it.
    """
    environment = {k: v for k, v in os.environ.items() if not k.startswith("DRAWKNIFE") and k != "COLUMNS"}
    model = ["--model", "demo/tidewrack.yaml"] if service is None else []
    done = subprocess.run(
        [ROOT / ".venv/bin/drawknife", *shlex.split(command), *model],
        capture_output=True, text=True, cwd=ROOT, env={**environment, **(service or {})},
    )  # fmt: skip
    text = done.stdout + done.stderr
    return "".join(line.rstrip() + "\n" for line in text.splitlines())


def written(text: str, service: dict[str, str] | None = None) -> str:
    """A page with what its commands print now."""
    return BLOCK.sub(lambda block: f"```console\n$ drawknife {block[1]}\n{printed(block[1], service)}```\n", text)


@contextmanager
def demo_service(address: str, folder: Path) -> Iterator[dict[str, str]]:
    """What `./run demo` starts, on an empty database; yields the environment that names the service."""
    with serving(address, folder, "--load", ROOT / "demo" / "tidewrack.yaml") as found:
        fill(found.url, found.token)
        yield found.environment


def main() -> int:
    for page in PAGES:
        old = page.read_text()
        if ASKS_A_SERVICE in old:
            with TemporaryDirectory() as folder:
                cluster = Cluster(Path(folder) / "cluster")
                cluster.start()
                try:
                    with demo_service(cluster.create_database("guide"), Path(folder)) as service:
                        new = written(old, service)
                finally:
                    cluster.throw_away()
        else:
            new = written(old)
        if new != old:
            page.write_text(new)
            print(f"wrote {page.relative_to(ROOT)}", file=sys.stderr)
    return 0


if __name__ == "__main__":
    sys.exit(main())
