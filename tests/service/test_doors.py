"""What is closed stays closed: half requests, files of the machine, tokens, times,
hostile input.
"""

import json
import os
import resource
import select
import socket
import stat
import threading
from contextlib import suppress
from pathlib import Path

import httpx
import pytest
from tools.cluster import free_port

from drawknife.client import Client, ClientError, Refused
from drawknife.service.connections import HEAD_DEADLINE, TAKING_DEADLINE, Channel
from drawknife.service.files import NotReadable, ReadableFolders
from drawknife.service.http_server import HttpServer
from drawknife.service.proxies import Proxies

from ..conftest import DEMO, run, serving, until
from .people import signed_in

LDAP = {"people_base": "dc=x", "start_tls": True}


@pytest.fixture(scope="module")
def own(cluster, tmp_path_factory):
    """A service whose model may be changed; it may read files below `own.files` only."""
    folder = tmp_path_factory.mktemp("doors")
    (folder / "files").mkdir()
    (folder / "secret").write_text("the service's own secret\n")
    options = ["--files", folder / "files", "--key-file", folder / "key", "--load", DEMO]
    with serving(cluster.create_database("doors"), folder, *options) as found:
        found.folder, found.files = folder, folder / "files"
        yield found


@pytest.fixture
def client(own):
    with own.client() as made:
        yield made


def connect(own):
    return socket.create_connection(("127.0.0.1", int(own.url.rsplit(":", 1)[1])))


def raw(own, request):
    """What the service answers to these bytes: the status, and the body."""
    with connect(own) as made:
        made.sendall(request)
        made.shutdown(socket.SHUT_WR)
        answer = b"".join(iter(lambda: made.recv(65536), b""))
    head, _, body = answer.partition(b"\r\n\r\n")
    return int(head.split()[1]), body


# --- connections --------------------------------------------------------------------------------


def test_health_is_answered_while_500_clients_hold_half_a_request(own):
    halves = [
        b"GET /api/v1/health HTTP/1.1\r\nHost: x",
        b"",
        b"PUT /api/v1/model HTTP/1.1\r\nHost: x\r\nContent-Length: 9\r\n\r\n{",
    ]
    held = [connect(own) for _ in range(500)]
    try:
        for i, one in enumerate(held):
            one.sendall(halves[i % 3])
        for _ in range(20):
            assert httpx.get(own.url + "/api/v1/health").json()["status"] == "ok"
        with own.client() as client:
            assert client.access("ines").rows
    finally:
        for one in held:
            one.close()


def held_by(process, port):
    """How many connections to a port a process holds."""
    established = {
        line.split()[9]
        for line in Path("/proc/net/tcp").read_text().splitlines()[1:]
        if line.split()[1].endswith(f":{port:04X}") and line.split()[3] == "01"
    }
    links = []
    for number in Path(f"/proc/{process}/fd").iterdir():
        with suppress(FileNotFoundError):  # it was closed meanwhile
            links.append(os.readlink(number))
    return sum(link.removeprefix("socket:[").removesuffix("]") in established for link in links)


def test_connections_that_stay_are_shared_evenly_by_the_processes(own):
    """What comes in at once and stays, as browsers and their kind do, is not held by one process
    alone.
    """
    main, port = own.process.pid, int(own.url.rsplit(":", 1)[1])
    children = Path(f"/proc/{main}/task/{main}/children").read_text().split()
    assert len(children) == 2
    before = [held_by(child, port) for child in children]
    held = []
    try:
        for _ in range(10):
            held.append(connect(own))
            held[-1].sendall(b"GET /api/v1/health HTTP/1.1\r\nHost: x\r\n\r\n")
            assert held[-1].recv(65536).startswith(b"HTTP/1.1 200")
        now = [held_by(child, port) for child in children]
        assert sum(now) - sum(before) == 10 and abs(now[0] - now[1]) <= 2, (before, now)
    finally:
        for one in held:
            one.close()


def test_2000_clients_that_hold_half_a_request_shut_nobody_out(cluster, tmp_path):
    """Fewer descriptors than connections: those that were silent for longest are closed for the
    newest.
    """
    resource.setrlimit(resource.RLIMIT_NOFILE, (resource.getrlimit(resource.RLIMIT_NOFILE)[1],) * 2)
    few = ("prlimit", "--nofile=1024:1024")
    with serving(
        cluster.create_database("crowd"), tmp_path, "--load", DEMO, "--processes", "1", through=few
    ) as service:
        held = []
        try:
            for i in range(2000):
                held.append(connect(service))
                held[-1].sendall(
                    [
                        b"POST /api/v1/decisions HTTP/1.1\r\nContent-Length: 60000\r\n\r\n{",
                        b"GET",
                        b"",
                    ][i % 3]
                )
                if i % 400 == 399:
                    assert (
                        httpx.get(service.url + "/api/v1/health", timeout=30).json()["status"]
                        == "ok"
                    )
                    with service.client() as client:
                        assert client.me().name == "administrator"
        finally:
            for one in held:
                one.close()
        until(
            lambda: (
                httpx.get(service.url + "/api/v1/health")
                and any("connections were closed to make room" in line for line in service.said)
            )
        )


def test_one_address_takes_no_more_than_half_of_the_connections():
    """As much of a server and its connections as is looked at: another address is left alone."""

    class Connection:
        def __init__(self, host, at, requests=()):
            self.addr, self.last_activity, self.requests, self.closed = (
                (host, 1),
                at,
                requests,
                False,
            )

        def handle_close(self):
            self.closed = True

    def server(channels, proxy=None):
        made = HttpServer.__new__(HttpServer)
        made.active_channels, made.most, made.most_of_one = dict(enumerate(channels)), 8, 4
        made.proxies = Proxies.read(proxy) if proxy else Proxies()
        made._make_room()
        return [c.addr[0] for c in channels if c.closed], [
            i for i, c in enumerate(channels) if c.closed
        ]

    def crowd(host, many, busy=()):
        return [Connection(host, 100 - i, ["answered"] if i in busy else ()) for i in range(many)]

    assert server(crowd("a", 4)) == ([], [])
    assert server(crowd("a", 5)) == (["a"], [3])  # the one silent for longest, and not the newest
    assert server(crowd("a", 5, busy={1, 2, 3})) == (["a"], [0])
    assert server(crowd("a", 5, busy={0, 1, 2, 3})) == (
        ["a"],
        [4],
    )  # all are answered: the newest has no room
    assert server(crowd("10.0.0.9", 5), proxy="10.0.0.0/8") == ([], [])
    assert server([*crowd("a", 4), *crowd("b", 5)]) == (["b"], [7])
    assert server([*crowd("a", 4), *crowd("b", 3), *crowd("c", 2)]) == (["a"], [3])


class Waiting:
    """As much of a connection as its deadlines look at."""

    overdue = Channel.overdue
    total_outbufs_len, requests, began, request, draining = 0, (), None, None, None
    last_activity = creation_time = 1000.0

    def __init__(self, **more):
        for name, value in more.items():
            setattr(self, name, value)


class Received:
    def __init__(self, finished, size, so_far=0):
        self.headers_finished, self.content_length, self.body_bytes_received = (
            finished,
            size,
            so_far,
        )


def test_while_a_thread_sends_the_loop_does_not_ask_to_send_too():
    """It would ask, in vain, as fast as it can, and keep that thread from going on."""
    lock = threading.Condition()
    channel = Channel.__new__(Channel)  # as much of a connection as that looks at
    channel.outbuf_lock, channel.total_outbufs_len, channel.requests = lock, 5, ["in work"]
    of_another = threading.Thread(target=lock.acquire)
    assert channel.writable()
    of_another.start()
    of_another.join()
    assert not channel.writable()
    channel.will_close = True
    assert channel.writable()  # it is to be closed, whoever sends
    channel.will_close, channel.requests = False, []
    assert channel.writable()  # no thread is at work on it: what was left over


def test_a_request_and_an_answer_have_deadlines():
    for late, more in (
        (HEAD_DEADLINE, {}),  # connected, and nothing sent
        (
            HEAD_DEADLINE,
            {"began": 1000.0, "request": Received(False, 0), "last_activity": 1019.0},
        ),  # a byte now and then
        (HEAD_DEADLINE + 50, {"began": 1000.0, "request": Received(True, 1_000_000)}),
        (TAKING_DEADLINE, {"total_outbufs_len": 5, "requests": ("answered",)}),
    ):
        assert not Waiting(**more).overdue(1000 + late - 1), more
        assert Waiting(**more).overdue(1000 + late + 1), more
    assert not Waiting(last_activity=1001.0).overdue(5000)  # it has been served, and may stay


def test_what_a_stranger_may_send_is_little_and_refused_at_the_head(own):
    head = (
        b"POST /api/v1/sessions HTTP/1.1\r\nHost: x\r\nContent-Type:"
        b" application/json\r\nContent-Length: 999999\r\n\r\n"
    )
    status, body = raw(own, head)
    assert status == 413 and json.loads(body)["type"] == "urn:drawknife:problem:http-413"
    for shown in (b"Authorization: Bearer nonsense", b"Cookie: drawknife_session=nonsense"):
        large = b"PUT /api/v1/model HTTP/1.1\r\nHost: x\r\n" + shown + b"\r\n"
        for length in (b"Content-Length: 999999999\r\n\r\n", b"Transfer-Encoding: chunked\r\n\r\n"):
            status, body = raw(own, large + length)
            assert status == 401 and "not valid" in json.loads(body)["detail"]
    status, body = raw(own, b"GET /" + b"x" * 100_000 + b" HTTP/1.1\r\nHost: x\r\n\r\n")
    assert status in (400, 431) and json.loads(body)["status"] == status


def test_who_may_put_no_model_in_force_sends_less_to_have_one_looked_at(own, client):
    client.add_administrator("rita", "reader")
    reader = signed_in(own, "rita")
    head = (
        "POST /api/v1/model/preview HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer"
        " {}\r\nContent-Length: {}\r\n\r\n"
    )
    status, body = raw(own, head.format(reader, 17 * 2**20).encode())
    assert status == 413 and "at most 16 MiB" in json.loads(body)["detail"]
    with connect(own) as owners:
        owners.sendall(head.format(own.token, 17 * 2**20).encode() + b"{")
        owners.settimeout(0.5)
        with pytest.raises(TimeoutError):  # it waits for the rest
            owners.recv(1)


def test_bodies_share_a_budget(own):
    head = (
        "PUT /api/v1/model HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer"
        f" {own.token}\r\nContent-Length: {2**30 - 1}\r\n\r\n"
    )
    held = [connect(own) for _ in range(3)]  # there is room for two
    try:
        for one in held:
            one.sendall(head.encode())
        ready, _, _ = select.select(held, [], [], 30)
        answer = b"".join(iter(lambda: ready[0].recv(65536), b""))
        assert (
            b" 503 " in answer.split(b"\r\n")[0]
            and b"Retry-After: 60" in answer
            and b"space for uploads" in answer
        )
        others = [one for one in held if one is not ready[0]]
        assert select.select(others, [], [], 0.2)[0] == []  # these wait for their bodies
    finally:
        for one in held:
            one.close()


@pytest.mark.parametrize(
    "body", [b"[" + b"[]," * 2_000_000 + b"[]]", b'{"accounts": [' + b"[]," * 2_000_000 + b"[]]}"]
)
def test_a_body_that_is_far_too_full_is_refused_before_it_is_read(own, body):
    with own.http() as http:
        for path, kind in (
            ("/model/preview", "application/yaml"),
            ("/comparisons", "application/json"),
        ):
            said = http.post(path, content=body, headers={"Content-Type": kind})
            assert said.status_code == 400 and "far too many items" in said.text, said.text[:300]


@pytest.mark.parametrize(
    "path",
    [
        "/..%2f..%2f..%2fetc/shadow",
        "/..%2f..%2f..%2fetc/nothing",
        "/" + "x" * 300,
        "/" + "%2e%2e/" * 9 + "etc/passwd",
    ],
)
def test_a_path_of_the_machine_tells_nothing(cluster, tmp_path, service, path):
    (tmp_path / "dist").mkdir()
    (tmp_path / "dist" / "index.html").write_text("the page")
    with serving(
        cluster.create_database("paths"), tmp_path, "--console", tmp_path / "dist"
    ) as found:
        status, body = raw(
            found, f"GET {path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n".encode()
        )
        assert (status, body) in ((200, b"the page"), (400, body)) and b"root:" not in body
        assert httpx.get(found.url + "/api/v1/changes").status_code == 401
        answer = found.http().get("/changes")
        assert (
            answer.status_code == 405
            and "POST" in answer.headers["Allow"]
            and answer.json()["status"] == 405
        )


# --- hostile input ------------------------------------------------------------------------------

NESTED = b"[" * 200_000


@pytest.mark.parametrize(
    ("method", "path", "body", "said"),
    [
        ("POST", "/decisions", NESTED, "too deep"),
        ("POST", "/changes", NESTED, "too deep"),
        ("PUT", "/model", NESTED, ""),
        (
            "POST",
            "/sign-ins",
            b'{"events": [{"what": "failed", "account": "a\\u0000", "address": "192.0.2.1"}]}',
            "cannot be kept",
        ),
        (
            "POST",
            "/sign-ins",
            b'{"events": [{"what": "failed", "account": "\\ud800", "address": "192.0.2.1"}]}',
            "cannot be kept",
        ),
        (
            "POST",
            "/decisions",
            b'{"account": "\\udfff", "action": "list", "path": "/"}',
            "cannot be kept",
        ),
        (
            "POST",
            "/decisions",
            b'{"account": "ines", "account": "yuki", "action": "list", "path": "/"}',
            "is there twice",
        ),
        (
            "POST",
            "/changes/preview",
            (
                b'{"changes": [{"op": "change", "kind": "account", "name": "ines", "set":'
                b' {"display": "\\ud800"}}]}'
            ),
            "cannot be kept",
        ),
        (
            "POST",
            "/changes/preview",
            (
                b'{"changes": [{"op": "change", "kind": "quota", "name": "lab-pool", "set":'
                b' {"bytes_over_since": "9999-12-31T23:59:59-14:00"}}]}'
            ),
            "is no time",
        ),
        (
            "POST",
            "/changes/preview",
            (
                b'{"changes": [{"op": "change", "kind": "quota", "name": "lab-pool", "set":'
                b' {"bytes_over_since": "0001-01-01T00:00:00+14:00"}}]}'
            ),
            "is no time",
        ),
        ("POST", "/decisions", b"\xff\xfe", ""),
        ("GET", "/accounts/%00", b"", ""),
        ("GET", "/accounts?matching=%00", b"", ""),
        ("GET", "/accounts/%ed%a0%80", b"", ""),
        ("GET", "/limits?at=0001-01-01T00:00:00%2B14:00", b"", "is no time"),
        ("GET", "/journal/99999999999999999999", b"", ""),
        ("GET", "/journal/77", b"", "there is no revision"),
    ],
)
def test_hostile_input_is_refused_in_words(own, method, path, body, said):
    with own.http() as http:
        answer = http.request(
            method, path, content=body, headers={"Content-Type": "application/json"}
        )
    assert (
        400 <= answer.status_code < 500
        and answer.headers["Content-Type"] == "application/problem+json"
    ), answer.text
    assert said in answer.text


def test_of_fifty_thousand_mistakes_the_first_are_told_and_that_there_are_more(own):
    lines = "\n".join(
        f"  - {{path: '/f{i}', entries: [allow group:nobody{i} read]}}" for i in range(50_000)
    )
    text = f"drawknife: 1\nstores:\n- name: s\n  folders:\n{lines}\n"
    with own.http() as http:
        answer = http.put(
            "/model", content=text.encode(), headers={"Content-Type": "application/yaml"}
        )
    problem = answer.json()
    assert (
        answer.status_code == 400
        and len(problem["places"]) == 200
        and "there are more" in problem["detail"]
    )


def test_many_changes_are_checked_once(demo, monkeypatch):
    from drawknife.changing import apply, working

    calls = []
    real = working.flaws
    monkeypatch.setattr(working, "flaws", lambda *models: calls.append(1) or real(*models))
    adds = [
        {"op": "add", "kind": "account", "item": {"name": f"a{i}", "unit": "shore/lab"}}
        for i in range(500)
    ]
    joins = [
        {"op": "change", "kind": "group", "name": "boats", "add": {"members": [f"account:a{i}"]}}
        for i in range(500)
    ]
    after = apply(demo, [*adds, *joins]).model
    assert len(after.accounts) == len(demo.accounts) + 500 and len(calls) == 1
    from drawknife.core.model.edits import ChangeRefused

    adds[321]["item"]["unit"] = "nowhere"
    with pytest.raises(ChangeRefused) as refused:
        apply(demo, adds)
    assert refused.value.problems[0].where == ("changes", 321)


def test_more_than_ten_thousand_changes_are_refused(own):
    changes = [{"op": "add", "kind": "unit", "name": f"u{i}"} for i in range(10_001)]
    with own.http() as http:
        assert http.post("/changes", json={"changes": changes}).status_code == 400


# --- directories and files ----------------------------------------------------------------------


def test_a_bind_password_does_not_go_over_the_wire_in_clear_however_it_is_spelled(client):
    for address in ("ldap://127.0.0.1:1", "LDAP://127.0.0.1:1", "Ldap://127.0.0.1:1"):
        with pytest.raises(Refused, match="unprotected"):
            client.add_directory(
                "clear",
                {**LDAP, "address": address, "bind_name": "cn=a", "start_tls": False},
                "secret",
            )


def test_a_stored_password_is_given_again_before_it_is_shown_elsewhere(client, own):
    client.add_directory(
        "moved", {**LDAP, "address": "ldap://127.0.0.1:1", "bind_name": "cn=a"}, "hidden words"
    )
    for change in (
        {"address": "ldap://127.0.0.1:2"},
        {"start_tls": False, "address": "ldaps://127.0.0.1"},
        {"bind_name": "cn=b"},
    ):
        with pytest.raises(Refused, match="given again"):
            client.change_directory("moved", change)
    client.change_directory("moved", {"interval": 600})
    client.change_directory("moved", {"address": "ldap://127.0.0.1:2"}, "hidden words")
    line = client.journal(limit=1).lines[0]
    (item,) = line.items
    assert (item.section, item.before["address"], item.after["address"]) == (
        "directories",
        "ldap://127.0.0.1:1",
        "ldap://127.0.0.1:2",
    )
    assert (
        item.after["bind_password"] == "set"
        and "hidden words" not in client.journal(limit=10).model_dump_json()
    )


@pytest.mark.parametrize("key", ["address", "ca_file", "bind_password_file"])
def test_files_outside_of_what_was_named_are_not_read(client, own, key):
    (own.files / "link").unlink(missing_ok=True)
    (own.files / "link").symlink_to(own.folder / "secret")
    for name in (str(own.folder / "secret"), "../secret", "link", "/etc/passwd"):
        options = {**LDAP, "address": "ldap://127.0.0.1:1", key: name}
        with pytest.raises(Refused, match="outside of what the service may read"):
            client.add_directory(f"reads-{key}", options)


def test_the_services_own_files_are_read_for_nobody(tmp_path):
    """Not through another name, a link, or a hard link, though they lie where files are read."""
    (tmp_path / "open").mkdir()
    secret, other = tmp_path / "open" / "database", tmp_path / "open" / "other"
    secret.write_text("postgresql://u:secret@h/x")
    other.write_text("dn: dc=x")
    (tmp_path / "open" / "hard").hardlink_to(secret)
    (tmp_path / "open" / "soft").symlink_to(secret)
    readable = ReadableFolders((tmp_path / "open",), own=(secret, tmp_path / "none"))
    assert readable.read("other") == b"dn: dc=x"
    for name in ("database", str(secret), "hard", "soft", "../open/database"):
        with pytest.raises(NotReadable, match="file of the service itself"):
            readable.read(name)


def test_a_file_that_is_no_ldif_is_not_quoted(client, own):
    (own.files / "token.txt").write_text("dk_secretsecret: yes\n")
    (own.files / "big.ldif").write_bytes(b"dn: dc=x\n" * 200_000)
    os.mkfifo(own.files / "pipe")
    for number, (name, said) in enumerate(
        (
            ("token.txt", "does not begin with its name"),
            ("big.ldif", "larger than 1 MiB"),
            ("pipe", "no regular file"),
        )
    ):
        client.add_directory(f"odd-{number}", {**LDAP, "address": name})
        with pytest.raises(Refused) as refused:
            client.try_directory(f"odd-{number}")
        assert said in str(refused.value) and "dk_secret" not in str(refused.value)


def listener(answer):
    """A server on loopback that answers each connection in its own way, until it is closed."""
    made = socket.create_server(("127.0.0.1", 0))

    def serve():
        kept = []
        while True:
            try:
                one, _ = made.accept()
            except OSError:
                return
            kept.append(one)
            if answer:
                one.sendall(answer)

    threading.Thread(target=serve, daemon=True).start()
    return made


def test_an_address_that_speaks_something_else_is_told_in_words(client):
    with listener(b"HTTP/1.1 400 Bad Request\r\nContent-Length: 0\r\n\r\n") as web:
        client.add_directory(
            "web", {**LDAP, "address": f"ldap://127.0.0.1:{web.getsockname()[1]}", "timeout": 2}
        )
        with pytest.raises(Refused) as refused:
            client.try_directory("web")
        assert refused.value.problem.type.endswith("directory-failed")


def test_directories_that_do_not_answer_hold_nobody_up(client, own):
    with listener(b"") as silent:
        client.add_directory(
            "silent",
            {**LDAP, "address": f"ldap://127.0.0.1:{silent.getsockname()[1]}", "timeout": 3},
        )
        outcomes = []

        def ask():
            with own.client() as other:
                try:
                    other.try_directory("silent")
                except ClientError as error:
                    outcomes.append(str(error))

        asking = [threading.Thread(target=ask) for _ in range(12)]
        for one in asking:
            one.start()
        assert client.health().status == "ok" and client.access("ines").rows
        for one in asking:
            one.join()
    assert len(outcomes) == 12 and sum("asked by others just now" in o for o in outcomes) >= 6


def test_a_certificate_that_never_ends_hangs_nothing(client, own):
    (own.files / "null").unlink(missing_ok=True)
    os.mkfifo(own.files / "null")
    for name in ("null", "/dev/zero"):
        client.change(
            [{"op": "change", "kind": "endpoint", "name": "harbour", "set": {"certificate": name}}]
        )
        for _ in range(10_000):
            found = client.certificate("harbour")
            assert client.overview().findings
            if found.looked_at is not None:
                break
        assert "no regular file" in found.problem or "outside" in found.problem


# --- tokens and sessions ------------------------------------------------------------------------


def test_a_session_makes_no_session_and_ends_with_signing_out(own):
    mark = {"X-Drawknife-Console": "1"}
    with httpx.Client(base_url=own.url + "/api/v1") as browser:
        assert browser.post("/sessions", json={"token": own.token}).status_code == 200
        session = browser.cookies["drawknife_session"]
        assert browser.get("/accounts").status_code == 200
        assert httpx.post(own.url + "/api/v1/sessions", json={"token": session}).status_code == 401
        browser.delete("/sessions", headers=mark)
        for _ in range(8):  # by whichever process
            assert (
                httpx.get(
                    own.url + "/api/v1/accounts", cookies={"drawknife_session": session}
                ).status_code
                == 401
            )
    with own.client() as client:
        said = [(x.revision, x.what) for x in client.journal(limit=5).lines]
    assert (None, "signed out of the console") in said and any(
        "signed in to the console, from 127.0.0.1" in w for _, w in said
    )


def test_a_new_token_file_ends_what_was_before(address, tmp_path):
    with serving(address, tmp_path) as first:
        old = first.token
    (tmp_path / "token").unlink()
    with serving(address, tmp_path) as second:
        assert second.token != old and "those before it are ended" in "".join(second.said)
        with Client(second.url, old) as stranger, pytest.raises(Refused):
            stranger.accounts()
    assert stat.S_IMODE((tmp_path / "token").stat().st_mode) == 0o600
    (tmp_path / "token").chmod(0o644)
    done = run("serve", "--database", address, "--token-file", tmp_path / "token", "--port", "1024")
    assert done.returncode == 2 and "others can read" in done.stderr


def test_refused_sign_ins_are_logged_with_the_address_and_limited(address, tmp_path):
    with serving(address, tmp_path, "--processes", "1") as found:
        statuses = [
            httpx.post(found.url + "/api/v1/sessions", json={"token": f"dk_wrong{i}"}).status_code
            for i in range(25)
        ]
        last = httpx.post(found.url + "/api/v1/sessions", json={"token": found.token})
        assert (
            statuses == [401] * 20 + [429] * 5
            and last.status_code == 429
            and int(last.headers["Retry-After"]) > 0
        )
        with found.client() as client:
            assert client.accounts().total == 0, (
                "who has a token is not shut out by others at the same address"
            )
        log = found.stop()
    assert (
        log.count('"event": "sign-in refused"') == 20
        and '"address": "127.0.0.1"' in log
        and "dk_wrong" not in log
    )


@pytest.mark.parametrize(
    ("database", "status", "said"),
    [
        ("mysql://x", 2, "mysql:// is not a PostgreSQL address"),
        ("nonsense", 2, "not a PostgreSQL address"),
        ("postgresql://nobody@127.0.0.1:1/x", 3, "the database cannot be reached"),
    ],
)
def test_a_database_that_is_none_is_told(database, status, said):
    for port in ("0", str(free_port())):
        done = run("serve", "--database", database, "--port", port)
        assert done.returncode == status and said in done.stderr and "Traceback" not in done.stderr
