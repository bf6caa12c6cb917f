"""The client against servers that are not as they should be, and `serve` where it cannot."""

import os
import socket
import subprocess
import threading
from http.server import BaseHTTPRequestHandler, HTTPServer

import pytest

from drawknife.client import Client, ClientError, Refused, ServiceUnavailable

from ..conftest import DEMO, DRAWKNIFE


@pytest.fixture
def answering():
    """A server on loopback that answers everything with one status, type and body."""
    servers = []

    def start(status, body, kind="application/json"):
        class Handler(BaseHTTPRequestHandler):
            def do_GET(self):
                self.server.asked.append((self.command, self.path, dict(self.headers)))
                self.send_response(status)
                self.send_header("Content-Type", kind)
                self.send_header("Content-Length", str(len(body)))
                self.end_headers()
                self.wfile.write(body)

            def log_message(self, *_):
                pass

        server = HTTPServer(("127.0.0.1", 0), Handler)
        server.asked = []
        threading.Thread(target=server.serve_forever, daemon=True).start()
        servers.append(server)
        return Client(f"http://127.0.0.1:{server.server_port}", "dk_x", timeout=5), server

    yield start
    for server in servers:
        server.shutdown()
        server.server_close()


def test_what_is_asked_is_written_safely(answering):
    client, server = answering(200, b'{"status": "ok", "version": "9", "revision": 1}')
    client.health()
    with pytest.raises(ClientError):
        client.standing("a/b ?&#ü")
    with pytest.raises(ClientError):
        client.who("download", "/a b&c", offset=3)
    paths = [path for _, path, _ in server.asked]
    assert paths[1] == "/api/v1/accounts/a%2Fb%20%3F%26%23%C3%BC/standing"
    assert paths[2] == "/api/v1/who?right=download&at=%2Fa+b%26c&offset=3&limit=10000"
    assert all(headers["Authorization"] == "Bearer dk_x" for _, _, headers in server.asked)


@pytest.mark.parametrize(
    ("status", "body", "kind", "said"),
    [
        (200, b"<html>", ClientError, "not as this version of Drawknife does"),
        (200, b"{}", ClientError, "not as this version of Drawknife does"),
        (404, b"<html>", ClientError, "answers 404, and not as Drawknife does"),
        (502, b"", ClientError, "answers 502, and not as Drawknife does"),
        (
            503,
            (
                b'{"type": "urn:drawknife:problem:unavailable", "title": "", "status": 503,'
                b' "detail": "the database is away"}'
            ),
            ServiceUnavailable,
            "the database is away",
        ),
        (
            404,
            (
                b'{"type": "urn:drawknife:problem:not-found", "title": "", "status": 404, "detail":'
                b' "there is no account"}'
            ),
            Refused,
            "there is no account",
        ),
    ],
)
def test_answers_that_are_not_answers(answering, status, body, kind, said):
    client, _ = answering(status, body)
    with pytest.raises(kind, match=said):
        client.access("ines")


def test_a_service_that_says_nothing_and_an_address_that_is_none():
    with socket.socket() as silent:
        silent.bind(("127.0.0.1", 0))
        silent.listen()
        port = silent.getsockname()[1]
        with (
            Client(f"http://127.0.0.1:{port}", "x", timeout=0.3) as client,
            pytest.raises(ServiceUnavailable, match="in time"),
        ):
            client.health()
    with Client("http://127.0.0.1:99999", "x") as client, pytest.raises(ClientError):
        client.health()


def serve(address, *options):
    environment = {**os.environ, "DRAWKNIFE_DATABASE": address}
    return subprocess.run(
        [DRAWKNIFE, "serve", *options], env=environment, capture_output=True, text=True, timeout=60
    )


def test_a_port_that_is_taken_is_named_at_once(address):
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = str(taken.getsockname()[1])
        done = serve(address, "--port", port)
    assert (
        done.returncode == 3
        and f"cannot listen on 127.0.0.1, port {port}: Address already in use" in done.stderr
    )
    done = serve(address, "--host", "192.0.2.1")
    assert (
        done.returncode == 3
        and "cannot listen on 192.0.2.1" in done.stderr
        and "Traceback" not in done.stderr
    )


def test_a_first_model_with_mistakes_is_told_and_nothing_is_served(address, tmp_path):
    bad = tmp_path / "bad.yaml"
    bad.write_text("drawknife: 1\nunits: [a//b]\n")
    done = serve(address, "--port", "8799", "--load", str(bad))
    assert (
        done.returncode == 1
        and f"{bad}:2: units[0]" in done.stderr
        and "serves at" not in done.stderr
    )


def test_a_first_model_is_loaded_into_an_empty_database_only(address, tmp_path):
    from ..conftest import serving

    other = tmp_path / "other.yaml"
    other.write_text("drawknife: 1\naccounts: [{name: ada}]\n")
    with serving(address, tmp_path, "--load", DEMO) as service, service.client() as client:
        assert client.accounts().total == 19
    with serving(address, tmp_path, "--load", other) as service, service.client() as client:
        assert client.accounts().total == 19 and client.health().revision == 1
