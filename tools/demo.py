"""`./run demo` and `./run stop`: the database, the service, and the demo data."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from datetime import UTC, datetime
from pathlib import Path
from types import FrameType

from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from drawknife.client import Client, ServiceUnavailable

from .cluster import Cluster, ClusterError, free_port
from .demo_history import add_history
from .files import make_files

ROOT = Path(__file__).resolve().parent.parent
#: Where the cluster, the token and the sample files are kept.
RUN = Path(os.environ.get("DRAWKNIFE_RUN") or ROOT / ".run")
PORT = int(os.environ.get("DRAWKNIFE_PORT") or 8750)


BASE = "dc=tidewrack,dc=example"
BUREAU = {
    "people_base": f"ou=harbour-bureau,{BASE}",
    "groups_base": BASE,
    "units_base": f"ou=harbour-bureau,{BASE}",
}


def say(text: str) -> None:
    print(f"· {text}", file=sys.stderr, flush=True)


def start() -> int:
    RUN.mkdir(exist_ok=True)
    _end_what_was_left()
    cluster = Cluster(RUN / "postgresql", say)
    cluster.start()
    service: subprocess.Popen[str] | None = None
    rehearsal: subprocess.Popen[str] | None = None
    try:
        address = cluster.create_database()
        made = make_files(RUN / "files")
        if made:
            say(f"made {made} sample files in {RUN / 'files'}")
        free = free_port(PORT) == PORT
        if PORT and not free:
            say(f"port {PORT} is taken; using one that is free")
        command = [
            str(ROOT / ".venv/bin/drawknife"),
            "serve",
            "--port",
            str(PORT if free else 0),
            "--console",
            str(ROOT / "console/dist"),
            "--token-file",
            str(RUN / "admin-token"),
            "--key-file",
            str(RUN / "key"),
            "--files",
            str(ROOT / "demo"),
            "--load",
            str(ROOT / "demo/tidewrack.yaml"),
        ]
        # The database's password is in the environment of the process, not in its arguments.
        environment = {**os.environ, "DRAWKNIFE_DATABASE": address}
        service = subprocess.Popen(command, env=environment, stderr=subprocess.PIPE, text=True)
        (RUN / "service.pid").write_text(str(service.pid))

        def forward(number: int, _: FrameType | None) -> None:
            if service is not None:
                service.send_signal(signal.SIGTERM)

        signal.signal(signal.SIGINT, forward)
        signal.signal(signal.SIGTERM, forward)
        assert service.stderr is not None
        for line in service.stderr:
            print(line, end="", file=sys.stderr, flush=True)
            if "serves at" in line:
                url, token = line.split()[-1], (RUN / "admin-token").read_text().strip()
                fill(url, token, address)
                rehearsal = _rehearse(url, token)
                _say_how(url, token)
        return _code(service.wait())
    finally:
        for process in (rehearsal, service):
            if process is not None and process.poll() is None:
                process.terminate()
                process.wait()
        for what in ("service", "rehearsal"):
            (RUN / f"{what}.pid").unlink(missing_ok=True)
        cluster.stop()


def _rehearse(url: str, token: str) -> subprocess.Popen[str]:
    """A stand-in for the transfer server, for clients; what they do is written to a file.

    Says how to come in.
    """
    command = [
        str(ROOT / ".venv/bin/drawknife"),
        "rehearse",
        "--quiet",
        "--log",
        str(RUN / "rehearsal.jsonl"),
        "--folder",
        str(RUN / "rehearsal"),
    ]
    environment = {**os.environ, "DRAWKNIFE_URL": url, "DRAWKNIFE_TOKEN": token}
    process = subprocess.Popen(command, env=environment, stderr=subprocess.PIPE, text=True)
    (RUN / "rehearsal.pid").write_text(str(process.pid))
    assert process.stderr is not None
    for line in process.stderr:
        print(line, end="", file=sys.stderr, flush=True)
        if "Ctrl-C ends it" in line:
            break
    # What it says later goes nowhere: it would wait for somebody to read it.
    threading.Thread(target=process.stderr.read, daemon=True).start()
    return process


def fill(url: str, token: str, database: str, now: datetime | None = None) -> None:
    """What the demo has beside its model file: a directory, credentials, colleagues, and two months
    up to `now`.
    """
    _wait_for(url, token)
    add_directory(url, token)
    add_credentials(url, token)
    add_people(url, token)
    add_history(url, token, database, now or datetime.now(UTC))


def _wait_for(url: str, token: str) -> None:
    """Until the service has its database: it listens before."""
    with Client(url, token) as client:
        for _ in range(300):
            try:
                client.directories()
                return
            except ServiceUnavailable:
                time.sleep(0.1)


def add_people(url: str, token: str) -> None:
    """Made-up colleagues of the administrator: olga edits all, pim the lab's."""
    with Client(url, token) as client:
        if len(client.administrators().administrators) > 1:
            return
        client.add_administrator("olga", "editor")
        client.add_administrator(
            "pim", "editor", ["unit:shore/lab", "group:sonar-lab", "store:survey"]
        )


def add_credentials(url: str, token: str) -> None:
    """Made-up passwords and keys, so that people can sign in; tomasz is new, and has none yet."""
    with Client(url, token) as client:
        for account in client.accounts(no_credential=True).accounts:
            methods = client.account_detail(account.name).methods
            if "password" in methods and account.name != "tomasz":
                client.set_password(account.name)
            elif "key" in methods:
                client.add_key(account.name, _made_up_key(account.name))


def _made_up_key(name: str) -> str:
    """A public key that nobody has the private part of."""
    key = Ed25519PrivateKey.generate().public_key()
    return f"{key.public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH).decode()} {name}"


def add_directory(url: str, token: str) -> None:
    """The demo's directory is an LDIF file; its first sync is left to who tries it."""
    with Client(url, token) as client:
        if not client.directories().directories:
            client.add_directory("bureau", {"address": "bureau.ldif", **BUREAU})


def _code(status: int) -> int:
    return 0 if status in (0, -signal.SIGTERM, -signal.SIGINT) else abs(status)


def _say_how(url: str, token: str) -> None:
    with Client(url, token) as client:
        say(
            "console, signed in (good once, for a day):"
            f" {url}{client.sign_in_link('administrator').path}"
        )
    say("for the command line, in another terminal:")
    print(
        f"    export DRAWKNIFE_URL={url} DRAWKNIFE_TOKEN=$(cat"
        f" {os.path.relpath(RUN / 'admin-token')})",
        file=sys.stderr,
    )
    print("    .venv/bin/drawknife access ines", file=sys.stderr)
    say("Ctrl-C stops all of it")


def _end_what_was_left() -> None:
    """End the processes that a killed demo left behind; only those that are ours."""
    for what, word in (("rehearsal", "rehearse"), ("service", "serve")):
        note = RUN / f"{what}.pid"
        try:
            pid = int(note.read_text())
            command = Path(f"/proc/{pid}/cmdline").read_bytes()
        except (OSError, ValueError):
            continue
        if str(ROOT).encode() in command and word.encode() in command:
            say(f"ending the {what} that was left behind (process {pid})")
            os.kill(pid, signal.SIGTERM)
        note.unlink(missing_ok=True)


def stop() -> int:
    _end_what_was_left()
    if (RUN / "postgresql").exists():
        Cluster(RUN / "postgresql", say).stop()
    return 0


if __name__ == "__main__":
    try:
        sys.exit(start() if sys.argv[1:2] == ["start"] else stop())
    except ClusterError as error:
        print(f"run: {error}", file=sys.stderr)
        sys.exit(3)
