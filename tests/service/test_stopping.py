"""The service stops when it is told to, at whatever moment that is."""

import os
import socket
import subprocess
import sys
import threading

import pytest

from drawknife.service import server

from ..conftest import ROOT

#: Starts and stops a server of two processes many times, in a small process of its own, which parts
#: quickly.
MANY = """
import os, signal, socket, sys
from drawknife.service import server

def work(options, listening, shared, extend, is_ready):
    is_ready()
    signal.pause()

server._work = work

def stops(delay):
    ready, says = os.pipe()
    pid = os.fork()
    if pid == 0:
        signal.alarm(5)  # what is stuck ends by this signal, and not as it should
        options = server.Options("", processes=2)
        server.Server(options, socket.socket(), lambda: os.write(says, b"x")).run()
        os._exit(0)
    os.read(ready, 1)
    for _ in range(delay):
        pass
    os.kill(pid, signal.SIGTERM)
    _, status = os.waitpid(pid, 0)
    os.close(ready)
    os.close(says)
    return os.waitstatus_to_exitcode(status)

print(sorted({stops((i * 47) % 400) for i in range(60)}))
"""


def test_a_signal_at_any_moment_after_it_is_ready_is_heard():
    done = subprocess.run(
        [sys.executable, "-c", MANY], capture_output=True, text=True, cwd=ROOT, timeout=200
    )
    assert done.stdout == "[0]\n", done.stderr


def test_a_process_signals_the_first_one_only_while_that_is_its_parent(monkeypatch):
    """Its number may be another's by then, or its parent one that takes in who is left alone."""
    sent = []
    monkeypatch.setattr(os, "kill", lambda *given: sent.append(given))
    one = server.Server(server.Options(""), None, lambda: None)
    one._ready()
    assert not sent  # this test is not its own parent
    one._first = os.getppid()
    one._ready()
    assert sent == [(os.getppid(), server.READY)]


def test_a_service_forks_only_where_nothing_runs_beside():
    """Else a lock that a thread holds at that moment would be held in the new process for ever."""
    going = threading.Event()
    beside = threading.Thread(target=going.wait)
    beside.start()
    try:
        with (
            socket.socket() as listening,
            pytest.raises(RuntimeError, match="a thread runs beside"),
        ):
            server.Server(
                server.Options("postgresql://x@127.0.0.1:1/x", processes=2), listening, lambda: None
            )._start(0)
    finally:
        going.set()
        beside.join()
