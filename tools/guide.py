"""The commands in the documentation, and what they print: python -m tools.guide writes them anew.

In a fenced block that begins with ``$ drawknife …``, the rest is what the command prints. The commands of a page are
run one after the other against what `./run demo` starts: a service with the demo's model, its directory, credentials,
and a history, which here ends on a fixed day. The tests hold that it is so.
"""

from __future__ import annotations

import os
import re
import shlex
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory

from .cluster import Cluster
from .demo import fill
from .serving import serving

ROOT = Path(__file__).resolve().parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs" / "guide").glob("*.md"))]
BLOCK = re.compile(r"```console\n\$ drawknife ([^\n]+)\n(.*?)```\n", re.DOTALL)


#: The day up to which the demo's history goes here, so that what is told of growth stays the same.
DAY = datetime(2026, 11, 22, 12, tzinfo=UTC)


def printed(command: str, service: dict[str, str]) -> str:
    """What a command prints, off a terminal, without blanks at the ends of lines, and with what is done now as done on
    the day; `service` is the environment that names the service."""
    environment = {k: v for k, v in os.environ.items() if not k.startswith("DRAWKNIFE") and k != "COLUMNS"}
    done = subprocess.run(
        [ROOT / ".venv/bin/drawknife", *shlex.split(command)],
        capture_output=True, text=True, cwd=ROOT, env={**environment, **service},
    )  # fmt: skip
    text = re.sub(rf"{datetime.now(UTC):%Y-%m-%d} \d\d:\d\d", f"{DAY:%Y-%m-%d %H:%M}", done.stdout + done.stderr)
    text = re.sub(rf"({DAY:%Y-%m-%d %H:%M}):\d\d", r"\1:00", text)
    return "".join(line.rstrip() + "\n" for line in text.splitlines())


def written(text: str, service: dict[str, str]) -> str:
    """A page with what its commands print now."""
    return BLOCK.sub(lambda block: f"```console\n$ drawknife {block[1]}\n{printed(block[1], service)}```\n", text)


@contextmanager
def demo_service(address: str, folder: Path) -> Iterator[dict[str, str]]:
    """What `./run demo` starts, on an empty database; yields the environment that names the service."""
    with serving(address, folder, "--load", ROOT / "demo" / "tidewrack.yaml") as found:
        fill(found.url, found.token, address, DAY)
        yield found.environment


def main() -> int:
    with TemporaryDirectory() as folder:
        cluster = Cluster(Path(folder) / "cluster")
        cluster.start()
        try:
            for number, page in enumerate(PAGES):
                old = page.read_text()
                own = Path(folder) / str(number)
                own.mkdir()
                with demo_service(cluster.create_database(f"guide_{number}"), own) as service:
                    new = written(old, service)
                if new != old:
                    page.write_text(new)
                    print(f"wrote {page.relative_to(ROOT)}", file=sys.stderr)
        finally:
            cluster.throw_away()
    return 0


if __name__ == "__main__":
    sys.exit(main())
