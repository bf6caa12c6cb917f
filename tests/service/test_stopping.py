"""The service stops when it is told to, at whatever moment that is."""

import os
import signal

from drawknife.service import server


def _stops(delay, monkeypatch):
    """Does a server of two processes end that is told to stop `delay` steps after it is ready?"""

    def work(options, listening, shared, extend, is_ready):
        is_ready()
        signal.pause()

    monkeypatch.setattr(server, "_work", work)
    options = server.Options("", processes=2)
    ready, says = os.pipe()
    pid = os.fork()
    if pid == 0:
        signal.alarm(5)  # what is stuck ends by this signal, and not as it should
        server.Server(options, None, lambda: os.write(says, b"x")).run()
        os._exit(0)
    os.read(ready, 1)
    for _ in range(delay):
        pass
    os.kill(pid, signal.SIGTERM)
    _, status = os.waitpid(pid, 0)
    os.close(ready)
    os.close(says)
    return os.waitstatus_to_exitcode(status)


def test_a_signal_at_any_moment_after_it_is_ready_is_heard(monkeypatch):
    assert {_stops((i * 7) % 400, monkeypatch) for i in range(400)} == {0}
