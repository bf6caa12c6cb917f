"""What can be said on a control connection (RFC 959, 2389, 2428, 3659)."""

from __future__ import annotations

import os
import socket
import stat
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from drawknife.core.model.items import UNLIMITED
from drawknife.core.words.names import child

from .ftp_control import FACTS
from .ftp_data import received, send_file
from .ftp_sign_in import SignInCommands
from .listed import Listed
from .refusals import NotThere


class FtpCommands(SignInCommands):
    """Each command is a method that is called as it is; its argument is what follows it."""

    # --- where one is ----------------------------------------------------------------------------

    async def do_PWD(self, _: str) -> None:
        quoted = self._in().directory.replace('"', '""')
        await self.say(257, f'"{quoted}" is where you are.')

    async def do_CWD(self, argument: str) -> None:
        at = self._at(argument)
        self._in().enter(at)
        self._in().directory = at
        await self.say(250, "You are there.")

    async def do_CDUP(self, _: str) -> None:
        await self.do_CWD("..")

    # --- how data comes --------------------------------------------------------------------------

    async def do_TYPE(self, argument: str) -> None:
        known = argument.upper().split(" ")[0] in ("A", "I", "L")
        await self.say(*((200, "All goes as it is.") if known else (504, "Only A and I.")))

    async def do_MODE(self, argument: str) -> None:
        await self.say(*((200, "Stream.") if argument.upper() == "S" else (504, "Only S.")))

    async def do_STRU(self, argument: str) -> None:
        await self.say(*((200, "File.") if argument.upper() == "F" else (504, "Only F.")))

    async def do_PASV(self, _: str) -> None:
        port = self._data.listen() if ":" not in self.local else None
        if port is None:
            await self.say(425, "No port is free.")
        else:
            await self.say(
                227,
                f"Come to ({','.join([*self.local.split('.'), str(port >> 8), str(port & 255)])}).",
            )

    async def do_EPSV(self, argument: str) -> None:
        family = "2" if ":" in self.local else "1"
        if argument.upper() == "ALL":
            await self.say(200, "Only so from now on.")
        elif argument and argument != family:
            await self.say(522, f"Only this family ({family}).")
        elif (port := self._data.listen()) is None:
            await self.say(425, "No port is free.")
        else:
            await self.say(229, f"Come to (|||{port}|)")

    async def do_PORT(self, argument: str) -> None:
        numbers = argument.split(",")
        if len(numbers) != 6 or not all(
            n.isascii() and n.isdigit() and int(n) < 256 for n in numbers
        ):
            await self.say(501, "Six numbers, please.")
            return
        await self._go_to(".".join(numbers[:4]), int(numbers[4]) * 256 + int(numbers[5]))

    async def do_EPRT(self, argument: str) -> None:
        parts = argument[1:-1].split(argument[:1]) if len(argument) > 2 else []
        if len(parts) != 3 or not (parts[2].isascii() and parts[2].isdigit()):
            await self.say(501, "Family, address and port, please.")
            return
        await self._go_to(parts[1], int(parts[2]))

    async def _go_to(self, host: str, port: int) -> None:
        going = self._data.go_to(host, port)
        await self.say(
            *((200, "It will come there.") if going else (500, "Only to your own address."))
        )

    # --- moving data -----------------------------------------------------------------------------

    async def do_ABOR(self, _: str) -> None:
        self._data.forget()
        await self.say(226, "There is nothing to break off.")

    async def do_REST(self, argument: str) -> None:
        if not (argument.isascii() and argument.isdigit() and len(argument) < 19):
            await self.say(501, "A number, please.")
            return
        self._start = int(argument)
        await self.say(350, "From there, then.")

    async def do_ALLO(self, argument: str) -> None:
        first = argument.split(" ")[0]
        if not (first.isascii() and first.isdigit() and len(first) < 19):
            await self.say(501, "A number, please.")
            return
        self._announced = int(first)
        await self.say(200, "It will be asked for.")

    async def do_RETR(self, argument: str) -> None:
        start, self._start = self._start, 0
        fd = self._in().download(self._at(argument))
        length = os.fstat(fd).st_size
        if start > length:
            os.close(fd)
            await self.say(554, "It is not that long.")
            return
        rate = _rate(self._in().setting("rate_down"))
        try:
            await self._move(lambda data: send_file(data, fd, start, rate), "Here it comes.")
        finally:
            os.close(fd)

    async def do_STOR(self, argument: str) -> None:
        await self._store(self._at(argument), self._start)

    async def do_APPE(self, argument: str) -> None:
        await self._store(self._at(argument), None)

    async def do_STOU(self, _: str) -> None:
        session = self._in()
        number = 1
        while session.look(at := child(session.directory, f"file-{number:04}")) is not None:
            number += 1
        await self._store(at, 0, f"FILE: {at.rpartition('/')[2]}")

    async def _store(self, at: str, start: int | None, what: str = "Send it.") -> None:
        session = self._in()
        size, self._announced, self._start = self._announced, None, 0
        thing = session.look(at)
        if start and (thing is None or thing.folder or start > thing.size):
            session.need("upload" if thing is None else "overwrite", at)
            session.write_down("beyond the end of the file", done=False)
            await self.say(554, "It is not that long.")
            return
        writing = session.write(at, start, size)
        rate = _rate(session.setting("rate_up"))

        def moving(data: socket.socket) -> None:
            for part in received(data, rate):
                writing.put(part)

        await self._move(moving, what, writing.finish, writing.break_off)

    # --- listings (RFC 959, 3659) ----------------------------------------------------------------

    async def do_LIST(self, argument: str) -> None:
        await self._list(argument, _long)

    async def do_NLST(self, argument: str) -> None:
        await self._list(argument, lambda seen: seen.name)

    async def _list(self, argument: str, shown: Callable[[Listed], str]) -> None:
        session = self._in()
        words = [w for w in argument.split(" ") if not w.startswith("-")]
        at = self._at(" ".join(words))
        thing = session.look(at)
        if thing is not None and not thing.folder and session.may_see(at):
            seen = iter([session.see(at)])
        else:
            seen = session.list(at)
        await self._send(f"{shown(x)}\r\n" for x in seen)

    async def do_MLSD(self, argument: str) -> None:
        session = self._in()
        at = self._at(argument)
        seen = session.list(at)
        perms: dict[tuple[bool, str | None], str] = {}
        await self._send(f"{self._facts(x, perms)} {x.name}\r\n" for x in seen)

    async def do_MLST(self, argument: str) -> None:
        at = self._at(argument)
        await self.say(250, "Here it is:", f"{self._facts(self._in().see(at))} {at}")

    def _facts(self, seen: Listed, perms: dict[tuple[bool, str | None], str] | None = None) -> str:
        """The facts of a name; `perms` are those that are known of names in the same folder."""
        known = {
            "type": "dir" if seen.thing.folder else "file",
            "size": None if seen.thing.folder else str(seen.thing.size),
            "modify": _stamp(seen.thing.changed) if seen.thing.changed else None,
            "perm": self._in().perm(seen, perms) if "perm" in self._wanted else None,
            "unique": f"{seen.thing.inode:x}" if seen.thing.inode else None,
        }
        return "".join(f"{name}={known[name]};" for name in self._wanted if known[name] is not None)

    async def do_SIZE(self, argument: str) -> None:
        seen = self._in().see(self._at(argument))
        if seen.thing.folder:
            raise NotThere(argument)
        await self.say(213, str(seen.thing.size))

    async def do_MDTM(self, argument: str) -> None:
        seen = self._in().see(self._at(argument))
        if seen.thing.folder:
            raise NotThere(argument)
        await self.say(213, _stamp(seen.thing.changed))

    async def do_MFMT(self, argument: str) -> None:
        stamp, _, name = argument.partition(" ")
        try:
            at = datetime.strptime(stamp.partition(".")[0], "%Y%m%d%H%M%S").replace(tzinfo=UTC)
        except ValueError:
            await self.say(501, "A time such as 20261123120000, please.")
            return
        self._in().set_changed(self._at(name), at.timestamp())
        await self.say(213, f"Modify={stamp}; {name}")

    # --- changing --------------------------------------------------------------------------------

    async def do_DELE(self, argument: str) -> None:
        self._in().delete(self._at(argument))
        await self.say(250, "It is gone.")

    async def do_MKD(self, argument: str) -> None:
        at = self._at(argument)
        self._in().make_folder(at)
        quoted = at.replace('"', '""')
        await self.say(257, f'"{quoted}" is made.')

    async def do_RMD(self, argument: str) -> None:
        self._in().remove_folder(self._at(argument))
        await self.say(250, "It is gone.")

    async def do_RNFR(self, argument: str) -> None:
        # Whether it is there, and may be renamed, is asked and answered with its destination.
        self._from = self._at(argument)
        await self.say(350, "And to what?")

    async def do_RNTO(self, argument: str) -> None:
        if self._from is None:
            await self.say(503, "What? Send RNFR first.")
            return
        one, self._from = self._from, None
        self._in().rename(one, self._at(argument), replaces=True)
        await self.say(250, "It is there.")

    # --- the rest --------------------------------------------------------------------------------

    async def do_FEAT(self, _: str) -> None:
        facts = "".join(f"{f}{'*' if f in self._wanted else ''};" for f in FACTS)
        features = [
            "UTF8",
            "MDTM",
            "MFMT",
            "SIZE",
            "REST STREAM",
            f"MLST {facts}",
            "EPSV",
            "EPRT",
            "TVFS",
        ]
        features += [] if self.endpoint.tls == "off" else ["AUTH TLS", "PBSZ", "PROT"]
        await self.say(211, "What is spoken:", *features)

    async def do_OPTS(self, argument: str) -> None:
        what, _, value = argument.partition(" ")
        if what.upper() == "UTF8":
            await self.say(200, "Always.")
        elif what.upper() == "MLST":
            wanted = {x.lower() for x in value.split(";")}
            self._wanted = [f for f in FACTS if f in wanted]
            await self.say(200, "MLST OPTS " + "".join(f"{f};" for f in self._wanted))
        else:
            await self.say(501, "Only UTF8 and MLST.")

    async def do_STAT(self, argument: str) -> None:
        if argument and self.session is not None:
            seen = self._in().see(self._at(argument))
            await self.say(213, "Here it is:", _long(seen))
        else:
            await self.say(211, f"{self.endpoint.name}: a rehearsal.")

    async def do_SYST(self, _: str) -> None:
        await self.say(215, "UNIX Type: L8")

    async def do_NOOP(self, _: str) -> None:
        await self.say(200, "Yes.")

    async def do_HELP(self, _: str) -> None:
        known = sorted(name[3:] for name in dir(self) if name.startswith("do_"))
        await self.say(214, "What can be said:", " ".join(known))

    async def do_SITE(self, argument: str) -> None:
        if argument.upper() == "HELP":
            await self.say(214, "Only HELP.")
        else:
            await self.say(502, "That is not spoken here.")


def _rate(value: Any) -> int | None:
    return None if value == UNLIMITED else int(value)


def _stamp(at: float) -> str:
    return f"{datetime.fromtimestamp(at, UTC):%Y%m%d%H%M%S}"


def _long(seen: Listed) -> str:
    """A line as programs expect it of LIST."""
    mode = stat.filemode(stat.S_IFDIR | 0o700 if seen.thing.folder else stat.S_IFREG | 0o600)
    when = datetime.fromtimestamp(seen.thing.changed, UTC)
    recent = (datetime.now(UTC) - when).days < 180
    shown = f"{when:%b %d %H:%M}" if recent else f"{when:%b %d  %Y}"
    return f"{mode} 1 {seen.owner or '-':<8} - {seen.thing.size:>12} {shown} {seen.name}"
