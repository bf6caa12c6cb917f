"""Two services on one database, each restarted under load: no request fails for a client that goes
on to the other.
"""

import http.client
import json
import os
import signal
import threading
from contextlib import ExitStack
from pathlib import Path

import httpx
import pytest

from ..conftest import DEMO, serving, until
from .nginx import free_port, nginx

ASKED = json.dumps({"account": "ines", "action": "download", "path": "/soundings/x"})
RESTARTS = int(os.environ.get("DRAWKNIFE_RESTARTS") or 2)


class Failed(Exception):
    """What a proxy could not hide from its client."""


class Connections:
    """A client whose connections are kept, one to each port; where one port refuses, the other is
    asked.
    """

    def __init__(self, ports, token):
        self.ports, self.token, self.kept = ports, token, {}

    def ask(self, first):
        ports = self.ports[first % len(self.ports) :] + self.ports[: first % len(self.ports)]
        for port in (*ports, ports[0]):
            kept = self.kept.pop(port, None)
            for connection in filter(
                None, (kept, http.client.HTTPConnection("127.0.0.1", port, timeout=60))
            ):
                try:
                    return self.answer(connection, port)
                except ConnectionRefusedError:
                    break
                except (http.client.RemoteDisconnected, BrokenPipeError) as closed:
                    if connection is not kept:
                        raise Failed(
                            f"a new connection was closed without an answer: {closed!r}"
                        ) from closed
                    # A connection that was kept and is closed by now: the request is sent again on
                    # a new one.
        raise Failed("no service took the request")

    def answer(self, connection, port):
        headers = {"Authorization": f"Bearer {self.token}", "Content-Type": "application/json"}
        connection.request("POST", "/api/v1/decisions", ASKED, headers)
        answer = connection.getresponse()
        body = json.loads(answer.read())
        if not answer.will_close:
            self.kept[port] = connection
        return answer.status, body.get("allowed")


def test_one_process_that_is_told_to_stop_by_itself_stops_no_other(address, tmp_path):
    """The socket is that of all processes: the others go on taking connections, and one takes the
    place of who ended.
    """
    with serving(address, tmp_path, "--load", DEMO, "--processes", "2") as service:
        first = service.process.pid

        def workers():
            return set(map(int, Path(f"/proc/{first}/task/{first}/children").read_text().split()))

        before = workers()
        assert len(before) == 2
        os.kill(min(before), signal.SIGTERM)
        while min(before) in workers():
            assert httpx.get(service.url + "/health/live", timeout=10).status_code == 200
        until(lambda: len(workers()) == 2)
        for _ in range(20):
            assert httpx.get(service.url + "/health/ready", timeout=10).status_code == 200


@pytest.mark.parametrize(
    ("through", "drain"), [("clients", "0"), ("clients", "0.5"), ("nginx", "0.5")]
)
def test_two_services_restarted_in_turn_under_load_fail_no_request(
    cluster, tmp_path, through, drain
):
    address = cluster.create_database(f"restarts_{through}{drain.replace('.', '')}")
    ports = [free_port(), free_port()]
    token_file = tmp_path / "token"

    def start(place, *more):
        return serving(address, tmp_path, "--port", str(ports[place]), "--drain", drain, *more)

    with ExitStack() as ended:
        running = [ended.enter_context(start(0, "--load", DEMO)), ended.enter_context(start(1))]
        asked = [ended.enter_context(nginx(tmp_path, ports))] if through == "nginx" else ports
        token, over = token_file.read_text().strip(), threading.Event()
        answers, failures = [], []

        def load(number):
            connections = Connections(asked, token)
            while not over.is_set():
                try:
                    answers.append(connections.ask(number + len(answers)))
                except Exception as error:
                    failures.append(repr(error))

        clients = [threading.Thread(target=load, args=(n,)) for n in range(4)]
        for client in clients:
            client.start()
        for turn in range(RESTARTS):
            place = turn % 2
            running[place].process.terminate()
            if drain != "0":
                ready = httpx.get(f"http://127.0.0.1:{ports[place]}/health/ready")
                assert ready.status_code == 503 and ready.headers["Connection"] == "close"
            assert running[place].process.wait() == 0
            running[place] = ended.enter_context(start(place))
        over.set()
        for client in clients:
            client.join()
    assert failures == [] and len(answers) > 200 and set(answers) == {(200, True)}
