"""A stand-in that runs in a thread, on ports that are free, and what real clients need
to come in.
"""

import asyncio
import ftplib
import os
import ssl
import threading
from contextlib import contextmanager
from dataclasses import replace

from drawknife.core.prepared.prepared import prepare
from drawknife.rehearsal import StandIn
from drawknife.rehearsal.model_source import OneModel

PASSWORD = "nine-knots"


def at_any_hour(model):
    """A model without hours in which somebody may sign in, so that what comes of it is the same
    whenever it is done.
    """
    settings = (
        replace(s, values=tuple(v for v in s.values if v[0] != "hours")) for s in model.settings
    )
    return replace(model, settings=tuple(s for s in settings if s.values))


class Standing:
    """A stand-in that is open, with the port of each endpoint."""

    def __init__(self, stand, loop):
        self.stand, self.loop = stand, loop
        self.ports = {x.endpoint.name: x.port for x in stand.opened}

    @property
    def lines(self):
        return list(self.stand.log.lines)

    def refused(self):
        """What was refused: (account, action, location, gate)."""
        return [(x.account, x.action, x.path, x.gate) for x in self.lines if not x.allowed]

    def is_empty(self):
        """Is nobody connected any more, once the stand-in's loop has gone round?"""
        asyncio.run_coroutine_threadsafe(asyncio.sleep(0), self.loop).result(20)
        return self.stand.connections == []

    def ftp(self, account, endpoint="harbour", password=PASSWORD, tls=True):
        """A client that has signed in, with its data connections protected."""
        if not tls:
            client = ftplib.FTP(encoding="utf-8")
        else:
            client = ftplib.FTP_TLS(context=untrusting(), encoding="utf-8")
        client.connect("127.0.0.1", self.ports[endpoint], timeout=20)
        client.login(account, password)
        if tls:
            client.prot_p()
        return client


def untrusting():
    """The certificate is made up."""
    context = ssl.create_default_context()
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


@contextmanager
def standing(model, folder, password=PASSWORD, source=None, **options):
    """A stand-in of a model, or of what a source gives, until the block ends."""
    loop = asyncio.new_event_loop()
    stand = StandIn(
        source or OneModel(prepare(model)), folder, offset=0, password=password, **options
    )
    thread = threading.Thread(target=loop.run_forever)
    thread.start()
    try:
        asyncio.run_coroutine_threadsafe(stand.open(), loop).result(20)
        assert not [x for x in stand.left_out if "cannot be opened" in x]
        yield Standing(stand, loop)
    finally:
        asyncio.run_coroutine_threadsafe(stand.close(), loop).result(20)
        loop.call_soon_threadsafe(loop.stop)
        thread.join()
        loop.close()


def ask_pass(folder):
    """The environment in which OpenSSH's clients are told the password."""
    script = folder / "askpass"
    script.write_text(f"#!/bin/sh\necho {PASSWORD}\n")
    script.chmod(0o700)
    return {
        **os.environ,
        "SSH_ASKPASS": str(script),
        "SSH_ASKPASS_REQUIRE": "force",
        "DISPLAY": ":0",
    }
