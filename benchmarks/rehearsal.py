"""The stand-in: its downloads against bare ones, and the core's verdict against a whole action."""

from __future__ import annotations

import asyncio
import contextlib
import io
import os
import socket
import ssl
import threading
import time
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import asyncssh
from tools.rehearsing import PASSWORD, standing, untrusting

from drawknife.core.decide.gates import verdict
from drawknife.core.model.canonical import sound
from drawknife.core.model.items import (
    Account,
    Endpoint,
    Folder,
    Model,
    Setting,
    Store,
    Subject,
    VirtualPath,
    parse_entry,
    parse_grant,
)
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question

SIZE, SMALL = 200 * 2**20, 1000


def _model() -> Model:
    folders = (Folder("/", entries=(parse_entry("allow account:ada all"),)),)
    endpoints = (Endpoint("quay", "ftp", 2121, tls="optional"), Endpoint("pier", "sftp", 2222))
    path = VirtualPath("/", "s:/", grants=(parse_grant("account:ada all"),))
    return sound(
        Model(
            accounts=(Account("ada"),),
            stores=(Store("s", folders=folders),),
            virtual_paths=(path,),
            endpoints=endpoints,
        )
    )


def _took(work: Any) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def _drain(data: socket.socket) -> None:
    buffer = bytearray(1 << 18)
    while data.recv_into(buffer):
        pass


def _bare(path: Path, context: ssl.SSLContext | None) -> float:
    """A file over a bare socket: sendfile without TLS, blocking sends with it."""
    listening = socket.create_server(("127.0.0.1", 0))

    def serve() -> None:
        data, _ = listening.accept()
        if context is None:
            with path.open("rb") as file:
                data.sendfile(file)
        else:
            data = context.wrap_socket(data, server_side=True)
            with path.open("rb") as file:
                while part := file.read(1 << 18):
                    data.sendall(part)
        data.close()

    thread = threading.Thread(target=serve)
    thread.start()
    made = socket.create_connection(listening.getsockname())
    if context is not None:
        made = untrusting().wrap_socket(made)

    def get() -> None:
        with contextlib.suppress(ssl.SSLError):
            _drain(made)

    took = _took(get)
    thread.join()
    listening.close()
    return took


def _by_ftp(there: Any, tls: bool) -> float:
    ftp = there.ftp("ada", "quay", tls=tls)
    ftp.voidcmd("TYPE I")

    def get() -> None:
        data = ftp.transfercmd("RETR /large.bin")
        with contextlib.suppress(ssl.SSLError):
            _drain(data)
        data.close()
        ftp.voidresp()

    took = _took(get)
    ftp.close()
    return took


async def _sftp(port: int) -> float:
    options = {"username": "ada", "password": PASSWORD, "known_hosts": None, "client_keys": None}
    async with asyncssh.connect("127.0.0.1", port, **options) as connection:
        sftp = await connection.start_sftp_client()
        began = time.perf_counter()
        await sftp.get("/large.bin", os.devnull)
        return time.perf_counter() - began


def _bare_sftp(root: Path, key: str) -> float:
    """The transport's own server in a thread of its own, as the stand-in is in one."""

    class Server(asyncssh.SSHServer):
        def begin_auth(self, username: str) -> bool:
            return False

    async def listen() -> asyncssh.SSHAcceptor:
        return await asyncssh.listen(
            "127.0.0.1",
            0,
            server_factory=Server,
            server_host_keys=[key],
            sftp_factory=lambda chan: asyncssh.SFTPServer(chan, str(root)),
        )

    loop = asyncio.new_event_loop()
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    listener = asyncio.run_coroutine_threadsafe(listen(), loop).result(20)
    try:
        return asyncio.run(_sftp(listener.get_port()))
    finally:
        loop.call_soon_threadsafe(listener.close)
        loop.call_soon_threadsafe(loop.stop)
        thread.join()
        loop.close()


def _rates(folder: Path) -> list[tuple[str, str, str, bool | None]]:
    """A file of four seconds each way, against the rate that is set."""
    rate, size = 2 << 20, 8 << 20
    limited = replace(
        _model(),
        settings=(Setting(Subject("account", "ada"), (("rate_down", rate), ("rate_up", rate))),),
    )
    found: list[tuple[str, str, str, bool | None]] = []
    with standing(sound(limited), folder / "limited") as there:
        (there.stand.tree.root / "s" / "down.bin").write_bytes(bytes(size))
        ftp = there.ftp("ada", "quay", tls=False)
        down = _took(lambda: ftp.retrbinary("RETR /down.bin", lambda _: None))
        up = _took(lambda: ftp.storbinary("STOR /up.bin", io.BytesIO(bytes(size))))
        for name, took in (("rate_down", down), ("rate_up", up)):
            ratio = size / took / rate
            found.append(
                (f"{name}, measured / set", f"{ratio:.3f}", "0.95 to 1.05", 0.95 <= ratio <= 1.05)
            )
        ftp.close()
    return found


def measure() -> list[tuple[str, str, str, bool | None]]:
    """The lines of the table."""
    found: list[tuple[str, str, str, bool | None]] = []
    model = _model()
    with TemporaryDirectory() as folder, standing(model, Path(folder) / "rehearsal") as there:
        root = there.stand.tree.root / "s"
        large = root / "large.bin"
        large.write_bytes(os.urandom(1 << 20) * (SIZE >> 20))
        for name, tls, least in (("plain", False, 0.7), ("over TLS", True, 0.7)):
            context = there.stand.tls if tls else None
            ratios = sorted(_bare(large, context) / _by_ftp(there, tls) for _ in range(5))
            found.append(
                (
                    f"FTP {name}, download of 200 MB / bare socket",
                    f"{ratios[2]:.2f}",
                    f"≥ {least}",
                    ratios[2] >= least,
                )
            )
        key = str(there.stand.host_key)
        ratios = sorted(
            _bare_sftp(root, key) / asyncio.run(_sftp(there.ports["pier"])) for _ in range(5)
        )
        found.append(
            (
                "SFTP, download of 200 MB / bare transport",
                f"{ratios[2]:.2f}",
                "≥ 0.8",
                ratios[2] >= 0.8,
            )
        )
        ftp = there.ftp("ada", "quay", tls=False)
        action = (
            _took(
                lambda: [
                    ftp.storbinary(f"STOR /f{n}", io.BytesIO(b"x" * 1024)) for n in range(SMALL)
                ]
            )
            / SMALL
        )
        prepared, now = prepare(model), datetime.now(UTC)
        asked = Question(
            "ada",
            "upload",
            "/f1",
            endpoint="quay",
            client="127.0.0.1",
            tls=False,
            method="password",
        )
        decided = (
            _took(lambda: [verdict(prepared, asked, now).allowed for _ in range(SMALL)]) / SMALL
        )
        found.append(
            (
                "the core's verdict / a small upload",
                f"{decided / action:.3f} of {action * 1000:.1f} ms",
                "< 0.1",
                decided / action < 0.1,
            )
        )
        found += _rates(Path(folder))
        began = time.perf_counter()
        sessions = [there.ftp("ada", "quay", tls=False) for _ in range(200)]
        for session in sessions:
            session.voidcmd("NOOP")
        took = time.perf_counter() - began
        found.append(("200 sessions at once", f"all answer, {took:.1f} s to come in", "told", None))
        for session in sessions:
            session.close()
    return found
