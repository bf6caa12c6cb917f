"""Signing in at a real server, by whatever protocol it speaks."""

from __future__ import annotations

import asyncio
import stat
from typing import Any

import asyncssh

from .over import (
    DATA,
    PATIENCE,
    Address,
    Credentials,
    OverFtp,
    RefusedByServer,
    Shown,
    Speaking,
    some_data,
)


def sign_in(address: Address, given: Credentials) -> Speaking:
    """Sign in. :class:`RefusedByServer`, or OSError."""
    if address.protocol == "sftp":
        return OverSftp(address, given)
    if given.key is not None and not given.password:
        raise RefusedByServer(f"{address.protocol} has no sign-in by key: give a password")
    return OverFtp(address, given.name, given.password, given.checked)


class OverSftp:
    """A client of SFTP."""

    def __init__(self, address: Address, given: Credentials) -> None:
        self._loop = asyncio.new_event_loop()
        options: dict[str, Any] = {
            "username": given.name,
            "password": given.password or None,
            "client_keys": None if given.key is None else [str(given.key)],
            "agent_path": None,
            "login_timeout": PATIENCE,
        }
        if not given.checked:
            options["known_hosts"] = None
        elif given.known_hosts is not None:
            options["known_hosts"] = str(given.known_hosts)
        try:
            self._connection, self._sftp = self._loop.run_until_complete(
                self._come(address, options)
            )
        except asyncssh.HostKeyNotVerifiable as error:
            self._loop.close()
            raise RefusedByServer(
                f"{error}; put it among ~/.ssh/known_hosts, or take any with --unchecked"
            ) from None
        except asyncssh.KeyImportError as error:
            self._loop.close()
            raise RefusedByServer(f"the key {given.key} cannot be read: {error}") from None
        except (asyncssh.Error, OSError) as error:
            self._loop.close()
            if isinstance(error, OSError):
                raise
            raise RefusedByServer(str(error)) from None

    async def _come(self, address: Address, options: dict[str, Any]) -> tuple[Any, Any]:
        connection = await asyncssh.connect(address.host, address.port, **options)
        return connection, await connection.start_sftp_client()

    def _do(self, work: Any) -> Any:
        try:
            return self._loop.run_until_complete(asyncio.wait_for(work, PATIENCE))
        except (asyncssh.Error, TimeoutError) as error:
            raise RefusedByServer(str(error)) from None

    def enter(self, path: str) -> None:
        """SFTP has no entering: whether a folder is told of comes nearest."""
        self._do(self._sftp.stat(path))

    def list_names(self, path: str) -> None:
        self._do(self._sftp.listdir(path))

    def download(self, path: str) -> None:
        async def first() -> None:
            async with self._sftp.open(path, "rb") as file:
                await file.read(4096)

        self._do(first())

    def there(self, path: str) -> bool:
        try:
            self._do(self._sftp.stat(path))
        except RefusedByServer:
            return False
        return True

    def seen(self, path: str) -> list[Shown]:
        names = self._do(self._sftp.readdir(path))
        return [
            Shown(str(x.filename), stat.S_ISDIR(x.attrs.permissions or 0), None)
            for x in names
            if x.filename not in (".", "..")
        ]

    def _write(self, path: str, mode: str, size: int = len(DATA)) -> None:
        async def all_of_it() -> None:
            async with self._sftp.open(path, mode) as file:
                await file.write(some_data(size))

        self._do(all_of_it())

    def upload(self, path: str, size: int, new: bool) -> None:
        self._write(path, "xb" if new else "wb", size)

    def append(self, path: str) -> None:
        self._write(path, "ab")

    def rename(self, path: str, to: str) -> None:
        self._do(self._sftp.rename(path, to))

    def delete_file(self, path: str) -> None:
        self._do(self._sftp.remove(path))

    def make_folder(self, path: str) -> None:
        self._do(self._sftp.mkdir(path))

    def delete_folder(self, path: str) -> None:
        self._do(self._sftp.rmdir(path))

    def set_attributes(self, path: str) -> None:
        self._do(self._sftp.utime(path, (0, 0)))

    def close(self) -> None:
        self._connection.abort()
        self._loop.run_until_complete(self._connection.wait_closed())
        self._loop.close()
