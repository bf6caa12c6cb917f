"""Signing in on a control connection, and its protection (RFC 959, 2228, 4217)."""

from __future__ import annotations

import asyncio

from .ftp_control import TRIES, Control


class SignInCommands(Control):
    """The commands by which a session begins, ends, and is put under TLS."""

    async def do_USER(self, name: str) -> None:
        if self.session is not None:
            self._sign_out()
        self._name = name
        known = self.stand.refresh().account(name) if name else None
        if known is not None and known.account.kind == "anonymous":
            await self.say(331, "Send anything as a password.")
        else:
            await self.say(331, "And the password?")

    async def do_PASS(self, password: str) -> None:
        if self._name is None:
            await self.say(503, "Whose? Send USER first.")
            return
        name, self._name = self._name, None
        loop = asyncio.get_running_loop()
        proven = await loop.run_in_executor(None, self.stand.proven_by, name, password)
        self.session = self.stand.sign_in(
            self.endpoint, name, self.peer, self._tls, "password", proven=proven
        )
        if self.session is None:
            self._tries += 1
            await self.say(530, "Sign-in refused.")
            if self._tries >= TRIES:
                self._over = True
            return
        greeting = self.session.setting("greeting")
        await self._land()
        await self.say(230, *((greeting.splitlines() or [""]) if greeting else ["Signed in."]))

    async def _land(self) -> None:
        """A session starts at its landing; where that cannot be entered, at /."""
        session = self._in()
        landing = session.setting("landing")
        session.directory = "/"
        if landing != "/":
            found = session.ask("enter", landing)
            thing = session.look(landing)
            if found.allowed and thing is not None and thing.folder:
                session.directory = landing
            else:
                session.tell("enter", landing, found, note="it starts at / instead of there")

    async def do_ACCT(self, _: str) -> None:
        await self.say(202, "Nothing more is needed.")

    async def do_QUIT(self, _: str) -> None:
        await self.say(221, "Goodbye.")
        self._over = True

    async def do_REIN(self, _: str) -> None:
        self._sign_out()
        self._name = None
        self._data.forget()
        await self.say(220, "Begin anew.")

    async def do_AUTH(self, mechanism: str) -> None:
        if self._tls or self.endpoint.tls == "off":
            why = (
                "there is TLS already"
                if self._tls
                else f"endpoint {self.endpoint.name} has TLS switched off"
            )
            self.stand.refused_tls(self.endpoint, self.peer, self._name, f"AUTH {mechanism}: {why}")
            await self.say(
                503 if self._tls else 534,
                "It is so already." if self._tls else "There is no TLS here.",
            )
            return
        if mechanism.upper() not in ("TLS", "TLS-C", "SSL", "TLS-P"):
            self.stand.refused_tls(
                self.endpoint, self.peer, self._name, f"AUTH {mechanism}: only TLS is offered"
            )
            await self.say(504, "Only TLS.")
            return
        if len(self._reader._buffer):  # type: ignore[attr-defined]
            # Said before there was TLS, and would be done as if said within it.
            await self.say(421, "Something came with it that is not protected.")
            self._over = True
            return
        self._sign_out()
        self._name = None
        await self.say(234, "Go on with TLS.")
        await self._writer.start_tls(self.stand.tls)
        self._tls = True

    async def do_PBSZ(self, _: str) -> None:
        await self.say(*((200, "PBSZ=0") if self._tls else (503, "There is no TLS yet.")))

    async def do_PROT(self, level: str) -> None:
        if not self._tls:
            await self.say(503, "There is no TLS yet.")
        elif level.upper() in ("P", "C"):
            self._private = level.upper() == "P"
            await self.say(200, "So be it.")
        else:
            await self.say(536 if level.upper() in ("S", "E") else 504, "Only C and P.")

    async def do_CCC(self, _: str) -> None:
        await self.say(534, "What is protected stays so.")
