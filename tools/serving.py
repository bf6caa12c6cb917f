"""A service of one's own, as a process on loopback: for tests, and for the
documentation's outputs.
"""

import os
import subprocess
import sys
import threading
from contextlib import contextmanager
from pathlib import Path

import httpx

from drawknife.client import Client

ROOT = Path(__file__).resolve().parent.parent
DRAWKNIFE = ROOT / ".venv" / "bin" / "drawknife"


#: The services that run now: whoever sees something fail can tell what they said.
RUNNING = []


class Service:
    """A running service: a process on loopback, its address and its administrator's token."""

    def __init__(self, process, url, token, said, reading):
        self.process, self.url, self.token, self.said, self.reading = (
            process,
            url,
            token,
            said,
            reading,
        )

    @property
    def environment(self):
        return {"DRAWKNIFE_URL": self.url, "DRAWKNIFE_TOKEN": self.token}

    def http(self, **headers):
        headers = {"Authorization": f"Bearer {self.token}", **headers}
        return httpx.Client(base_url=self.url + "/api/v1", headers=headers, timeout=60)

    def client(self):
        return Client(self.url, self.token)

    def stop(self):
        """Stop it; returns what it said, from the beginning."""
        self.process.terminate()
        self.process.wait(timeout=30)
        self.reading.join(timeout=30)
        return "".join(self.said)


@contextmanager
def serving(address, folder, *options, through=()):
    """Run `drawknife serve` until the block ends.

    It has said that it listens when the block begins.

    It is started `through` a command that runs another, such as prlimit.
    """
    token_file = folder / "token"
    command = [
        *through,
        DRAWKNIFE,
        "serve",
        "--port",
        "0",
        "--token-file",
        token_file,
        "--files",
        ROOT / "demo",
        *options,
    ]
    environment = {**os.environ, "DRAWKNIFE_DATABASE": address}
    process = subprocess.Popen(command, env=environment, stderr=subprocess.PIPE, text=True)
    said = []
    serves = threading.Event()
    reading = threading.Thread(target=_listen, args=(process.stderr, said, serves), daemon=True)
    reading.start()
    serves.wait()
    assert process.poll() is None, "".join(said)
    url = next(line.split()[-1] for line in said if "serves at" in line)
    service = Service(process, url, token_file.read_text().strip(), said, reading)
    RUNNING.append(service)
    try:
        yield service
    except BaseException:
        print(f"said by {service.url}", *said[-30:], sep="\n", file=sys.stderr)
        raise
    finally:
        RUNNING.remove(service)
        service.stop()


def _listen(stream, said, serves):
    """Keep what a service says, as long as it says something: it would stand still where nobody
    reads it.
    """
    for line in stream:
        said.append(line)
        if "serves at" in line:
            serves.set()
    serves.set()
