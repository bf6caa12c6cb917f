"""The commands in the documentation, and what they print: python -m tools.guide writes them anew.

In a fenced block that begins with ``$ drawknife …``, the rest is what the command prints. The
commands of a page are run one after the other against what `./run demo` starts: a service with the
demo's model, its directory, credentials, and a history, which here ends on a fixed day. The tests
hold that it is so.
"""

from __future__ import annotations

import io
import re
import shlex
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import chdir, contextmanager
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory

from rich.console import Console

from drawknife.cli.rehearse import draw
from drawknife.formats.model_file import read_model

from .cluster import Cluster
from .demo import fill
from .in_process import in_process
from .rehearsing import at_any_hour, standing
from .serving import serving

ROOT = Path(__file__).resolve().parent.parent
PAGES = [ROOT / "README.md", *sorted((ROOT / "docs" / "guide").glob("*.md"))]
BLOCK = re.compile(r"```console\n\$ drawknife ([^\n]+)\n(.*?)```\n", re.DOTALL)


#: The day up to which the demo's history goes here, so that what is told of growth stays the same.
DAY = datetime(2026, 11, 22, 12, tzinfo=UTC)


def printed(command: str, service: dict[str, str]) -> str:
    """What a command prints, off a terminal, without blanks at the ends of lines, and with what is
    done now as done on
    the day; `service` is the environment that names the service.
    """
    with chdir(ROOT):
        done = in_process(shlex.split(command), None, service)
    text = re.sub(
        rf"{datetime.now(UTC):%Y-%m-%d} \d\d:\d\d",
        f"{DAY:%Y-%m-%d %H:%M}",
        done.stdout + done.stderr,
    )
    text = re.sub(rf"({DAY:%Y-%m-%d %H:%M}):\d\d", r"\1:00", text)
    return "".join(line.rstrip() + "\n" for line in text.splitlines())


#: A block that begins with a client's command is done at a rehearsal of the demo's file.
REHEARSED = re.compile(r"```console\n\$ (curl [^\n]+)\n(.*?)```\n", re.DOTALL)


@contextmanager
def rehearsal(folder: Path) -> Iterator[Callable[[str], str]]:
    """A stand-in of the demo's model; yields what does a client's command, and gives what it
    printed and what the log says.
    """
    model = at_any_hour(read_model((ROOT / "demo/tidewrack.yaml").read_bytes()))
    (folder / "line-07.xyz").write_text("57.1 -2.08 14.2\n" * 4096)
    with standing(model, folder / "rehearsal", password="tryout") as there:
        ports = {str(x.endpoint.port + 20000): str(x.port) for x in there.stand.opened}

        def done(command: str) -> str:
            before = len(there.lines)
            real = re.sub(r"\d{5}(?=/)", lambda port: ports[port[0]], command)
            client = subprocess.run(
                shlex.split(real), capture_output=True, text=True, cwd=folder, timeout=60
            )
            # The client has gone; what it did last is in the log when its connection is.
            assert any(there.is_empty() for _ in range(100_000)), "a connection stays open"
            told = io.StringIO()
            for line in there.lines[before:]:
                draw(Console(file=told, width=100, highlight=False), line)
            said = re.sub(r"(?m)^\d\d:\d\d:\d\dZ ", "", told.getvalue())
            said = re.sub(
                r"locked until [-\d]{10} [:\d]{8}", f"locked until {DAY:%Y-%m-%d} 12:30:00", said
            )
            text = client.stdout + client.stderr + said
            return "".join(line.rstrip() + "\n" for line in text.splitlines())

        yield done


def written(text: str, service: dict[str, str], folder: Path) -> str:
    """A page with what its commands print now."""
    text = BLOCK.sub(
        lambda block: f"```console\n$ drawknife {block[1]}\n{printed(block[1], service)}```\n", text
    )
    if not REHEARSED.search(text):
        return text
    with rehearsal(folder) as done:
        return REHEARSED.sub(lambda block: f"```console\n$ {block[1]}\n{done(block[1])}```\n", text)


def fill_once(cluster: Cluster, folder: Path) -> str:
    """What `./run demo` makes, in a database that others are made like; its name."""
    address = cluster.create_database("as_the_demo")
    with serving(address, folder, "--load", ROOT / "demo" / "tidewrack.yaml") as found:
        fill(found.url, found.token, address, DAY)
    return address.rpartition("/")[2]


@contextmanager
def demo_service(cluster: Cluster, like: str, name: str, folder: Path) -> Iterator[dict[str, str]]:
    """What `./run demo` starts, on a new database like that one; yields the environment that names
    the service.
    """
    with serving(cluster.create_database(name, like), folder) as found:
        yield found.environment


def main() -> int:
    with TemporaryDirectory() as folder:
        cluster = Cluster(Path(folder) / "cluster", lasting=False)
        cluster.start()
        try:
            (Path(folder) / "base").mkdir()
            base = fill_once(cluster, Path(folder) / "base")
            for number, page in enumerate(PAGES):
                old = page.read_text()
                own = Path(folder) / str(number)
                own.mkdir()
                with demo_service(cluster, base, f"guide_{number}", own) as service:
                    new = written(old, service, own)
                if new != old:
                    page.write_text(new)
                    print(f"wrote {page.relative_to(ROOT)}", file=sys.stderr)
        finally:
            cluster.throw_away()
    return 0


if __name__ == "__main__":
    sys.exit(main())
