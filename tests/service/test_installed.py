"""As it is installed on a server: its configuration file, TLS, a proxy before it, the manager of
services.
"""

import os
import socket
import ssl
import subprocess

import httpx
import pytest
from cryptography import x509
from structlog.testing import capture_logs

from drawknife.service.proxies import Proxies
from drawknife.service.tls_certificate import Certificate

from ..conftest import DEMO, DRAWKNIFE, run, serving, until


def certificate(folder, serial):
    """A certificate of loopback and its key, self-signed."""
    cert, key = folder / "cert.pem", folder / "key.pem"
    made = folder / "new"
    made.mkdir(exist_ok=True)
    subprocess.run(
        [
            "openssl",
            "req",
            "-x509",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-days",
            "9",
            "-subj",
            "/CN=localhost",
            "-addext",
            "subjectAltName=IP:127.0.0.1",
            "-set_serial",
            str(serial),
            "-keyout",
            made / "key.pem",
            "-out",
            made / "cert.pem",
        ],
        check=True,
        capture_output=True,
    )
    (made / "key.pem").chmod(0o600)
    for file in (key, cert):
        (made / file.name).replace(file)
    return cert, key


def shown_serial(url):
    """The serial number of the certificate that is shown under TLS."""
    port = int(url.rpartition(":")[2])
    return x509.load_pem_x509_certificate(
        ssl.get_server_certificate(("127.0.0.1", port)).encode()
    ).serial_number


def test_tls_and_a_certificate_that_is_turned_over_without_a_stop(address, tmp_path):
    cert, key = certificate(tmp_path, 41)
    options = ["--load", DEMO, "--processes", "2", "--tls-cert", cert, "--tls-key", key]
    with serving(address, tmp_path, *options) as service:
        assert any("serves at https://" in line for line in service.said)
        url = service.url
        trusted = ssl.create_default_context(cafile=str(cert))
        headers = {"Authorization": f"Bearer {service.token}"}
        with httpx.Client(base_url=url, verify=trusted, headers=headers, timeout=30) as http:
            large = "drawknife: 1\naccounts:\n" + "".join(
                f"- {{name: a{n}}}\n" for n in range(30_000)
            )
            done = http.put(
                "/api/v1/model", content=large, headers={"Content-Type": "application/yaml"}
            )
            assert (
                done.status_code == 200
                and http.get("/api/v1/model").text.count("name: a") == 30_000
            )
            cookie = http.post("/api/v1/sessions", json={"token": service.token}).headers[
                "Set-Cookie"
            ]
            assert "Secure" in cookie
            assert "max-age" in http.get("/api/v1/health").headers["Strict-Transport-Security"]
        assert shown_serial(url) == 41
        # Who says nothing, half a hand-shake, or no TLS at all, holds nobody up.
        idle = [
            socket.create_connection(("127.0.0.1", int(url.rpartition(":")[2]))) for _ in range(3)
        ]
        idle[1].sendall(b"\x16\x03\x01\x02\x00\x01")
        idle[2].sendall(b"GET / HTTP/1.1\r\nHost: x\r\n\r\n")
        assert httpx.get(url + "/health/live", verify=trusted).status_code == 200
        certificate(tmp_path, 42)
        # Each process takes it up, and says so: a connection goes now to one, now to the other.
        until(
            lambda: (
                shown_serial(url) and sum("was turned over" in line for line in service.said) == 2
            )
        )
        assert shown_serial(url) == 42
        before = len(service.said)
        cert.write_text("no certificate")
        until(
            lambda: (
                shown_serial(url)
                and sum("cannot be used" in line for line in service.said[before:]) == 2
            )
        )
        assert shown_serial(url) == 42  # what cannot be used is not taken
        for one in idle:
            one.close()


def test_a_certificate_is_taken_with_its_key_and_told_once(tmp_path, monkeypatch):
    for name in ("a", "b", "c"):
        (tmp_path / name).mkdir()
    cert, key = certificate(tmp_path / "a", 1)
    others = [certificate(tmp_path / name, serial) for name, serial in (("b", 2), ("c", 3))]
    shown = Certificate(cert, key)
    before = shown.context

    def looked():
        with capture_logs() as lines:
            shown.look_again()
        return [line["event"] for line in lines]

    assert looked() == []
    others[0][1].replace(key)  # the key is there, and its certificate not yet
    (told,) = looked()
    assert "cannot be used" in told and looked() == [] and shown.context is before
    others[0][0].replace(cert)
    assert looked() == ["the certificate was turned over"] and shown.context is not before
    assert looked() == []
    # Where one is put in its place between the look and the reading, it is told when both are seen.
    others[1][1].replace(key)
    read = Certificate._read

    def slowly(self):
        if others[1][0].exists():
            others[1][0].replace(cert)
        return read(self)

    monkeypatch.setattr(Certificate, "_read", slowly)
    assert looked() == [] and looked() == ["the certificate was turned over"] and looked() == []


CONFIG = """# As on a server.
database_file = "{folder}/database"
port = {port}
processes = 1
largest_file = "2 MiB"
files = ["{folder}/files"]
second_person = true
"""


def test_the_configuration_file_goes_behind_the_environment_and_the_command_line(address, tmp_path):
    from tools.cluster import free_port

    file, port = tmp_path / "drawknife.toml", free_port()
    (tmp_path / "files").mkdir()
    (tmp_path / "database").write_text(address + "\n")
    (tmp_path / "database").chmod(0o600)
    file.write_text(CONFIG.format(folder=tmp_path, port=1))
    assert run("config", "check", file).stderr == f"{file} is sound\n"
    environment = {
        **os.environ,
        "DRAWKNIFE_PORT": str(port),
        "DRAWKNIFE_TOKEN_FILE": str(tmp_path / "token"),
    }
    environment.pop("DRAWKNIFE_DATABASE", None)
    process = subprocess.Popen(
        [DRAWKNIFE, "serve", "--config", file, "--load", DEMO],
        env=environment,
        stderr=subprocess.PIPE,
        text=True,
    )
    try:
        assert any(
            f"serves at http://127.0.0.1:{port}" in line
            for line in iter(process.stderr.readline, "")
        )
        token = (tmp_path / "token").read_text().strip()
        headers = {"Authorization": f"Bearer {token}"}
        session = httpx.get(f"http://127.0.0.1:{port}/api/v1/sessions", headers=headers).json()
        assert session["second_person"] is True
    finally:
        process.terminate()
        process.communicate(timeout=30)


@pytest.mark.parametrize(
    ("said", "told"),
    [
        (
            'database = "dbname=x"\nprot = 1\n',
            "line 2: prot: there is no such option; did you mean port?",
        ),
        ('database = "dbname=x"\nport = "many"\n', "line 2: port: expected a number"),
        (
            'database = "dbname=x"\nsecond_person = 1\n',
            "line 2: second_person: expected true or false",
        ),
        ('database = "dbname=x"\n\nfiles = "/srv"\n', "line 3: files: expected a list of texts"),
        ('database = "dbname=x"\nport = 99999\n', "99999 is not in the range"),
        ('database = "dbname=x"\nlargest_file = "much"\n', "much"),
        ("database = \n", "line 1"),
        ("port = 8750\n", "expected one of --database and --database-file"),
        (
            'database = "dbname=x"\ntls_cert = "{folder}/drawknife.toml"\n',
            "--tls-cert and --tls-key go together",
        ),
        (
            'database = "dbname=x"\nbehind_proxy = "127.0.0.1, the proxy"\n',
            "--behind-proxy: 'the proxy'",
        ),
        ('database = "dbname=x"\nbehind_proxy = "10.0.0.1/8"\n', "has host bits set"),
        (
            'database = "dbname=x"\nkeep = ["journals=40"]\n',
            "line 2: keep: unknown data 'journals'; did you mean journal?",
        ),
        ('database_file = "{folder}/open"\n', "chmod 600"),
        (
            'database = "postgresql://u:secret@h/x"\n',
            "line 1: database: it holds a password, and others can read",
        ),
        ('database = "dbname=x"\nfiles = ["{folder}/none"]\n', "line 2: files: Directory"),
        (
            'database = "dbname=x"\nfiles = ["{folder}"]\nkey_file = "{folder}/sub/../key"\n',
            "--key-file {folder}/sub/../key lies below",
        ),
        (
            'database = "dbname=x"\nfiles = ["{folder}"]\ntoken_file = "{folder}/token"\n',
            "lies below --files",
        ),
        ('database = "postgressql://h/x"\n', "postgressql:// is not a PostgreSQL address"),
        ('database = "postgresql:/h"\n', "expected postgresql://USER@HOST/NAME"),
        ('database = "dbname=x :secret@y"\n', "--database: not a PostgreSQL address"),
        (
            'database = "dbname=x"\nkey_file = "{folder}/open/key"\n',
            "--key-file {folder}/open/key: {folder}/open is not a folder",
        ),
        (
            'database = "dbname=x"\npublic_url = "tidewrack.example"\n',
            "line 2: public_url: 'tidewrack.example' is not an address",
        ),
        ('database = "dbname=x"\n[tls]\ncert = "a"\n', "line 2: tls: there is no such option"),
    ],
)
def test_a_configuration_file_that_is_not_sound_is_told_with_the_place(said, told, tmp_path):
    (tmp_path / "open").write_text("postgresql:///x")
    (tmp_path / "open").chmod(0o644)
    file = tmp_path / "drawknife.toml"
    file.write_text(said.replace("{folder}", str(tmp_path)))
    done = run("config", "check", file)
    assert (
        done.returncode == 1
        and told.replace("{folder}", str(tmp_path)) in done.stderr
        and "Traceback" not in done.stderr
    )
    assert ":secret@" not in done.stderr


def test_what_a_configuration_names_is_connected_to_when_that_is_asked(address, tmp_path):
    file = tmp_path / "drawknife.toml"
    file.write_text(f'database = "{address}"\nwebhook = "http://127.0.0.1:1/secret-path"\n')
    file.chmod(0o600)
    assert run("config", "check", file).returncode == 0
    done = run("config", "check", file, "--connect")
    assert (done.returncode, "database: connected" in done.stderr) == (1, True)
    assert (
        "webhook: 127.0.0.1 cannot be reached" in done.stderr and "secret-path" not in done.stderr
    )
    file.write_text('database = "host=127.0.0.1 port=1 dbname=x connect_timeout=2"\n')
    done = run("config", "check", file, "--connect")
    assert done.returncode == 1 and "database: " in done.stderr and "Traceback" not in done.stderr


def test_links_lead_to_the_public_address(address, tmp_path):
    public = "https://drawknife.tidewrack.example"
    with (
        serving(address, tmp_path, "--public-url", public + "/") as service,
        service.client() as client,
    ):
        assert (tmp_path / "sign-in-link").read_text().startswith(f"{public}/sign-in#")
        client.add_administrator("edda", "reader")
        done = run("administrator", "link", "edda", environment=service.environment)
        assert done.stdout.startswith(f"{public}/sign-in#")


def test_who_asks_is_told_by_the_proxy_and_by_nobody_else(address, tmp_path):
    def refused_for(service, said):
        for _ in range(20):
            httpx.get(
                service.url + "/api/v1/accounts",
                headers={"Authorization": "Bearer dk_no", "X-Forwarded-For": said},
            )
        wrong = {"Authorization": "Bearer dk_no"}
        return [
            httpx.get(
                service.url + "/api/v1/accounts", headers={**wrong, "X-Forwarded-For": said}
            ).status_code,
            httpx.get(
                service.url + "/api/v1/accounts", headers={**wrong, "X-Forwarded-For": "192.0.2.99"}
            ).status_code,
        ]

    one = ("--processes", "1", "--load", DEMO)
    with serving(address, tmp_path, *one) as bare:
        assert refused_for(bare, "192.0.2.7") == [429, 429]  # all of them are loopback's
    with serving(address, tmp_path, *one, "--behind-proxy", "10.0.0.0/8,127.0.0.1") as behind:
        assert refused_for(behind, "192.0.2.7") == [429, 401]
        assert refused_for(behind, "192.0.2.55, 192.0.2.11, 10.0.0.7") == [429, 401]
        secure = {"X-Forwarded-Proto": "https", "X-Forwarded-For": "192.0.2.8"}
        signed_in = httpx.post(
            behind.url + "/api/v1/sessions", json={"token": behind.token}, headers=secure
        )
        assert "Secure" in signed_in.headers["Set-Cookie"]


#: Through these, and the client that loopback is asked from.
@pytest.mark.parametrize(
    ("peer", "said", "client", "scheme"),
    [
        ("10.0.0.1", "192.0.2.7", "192.0.2.7", "https"),
        ("10.0.0.1", "192.0.2.7, 10.9.9.9", "192.0.2.7", "https"),
        ("10.0.0.1", "192.0.2.9, 192.0.2.7, 10.9.9.9,2001:db8::7", "192.0.2.7", "https"),
        ("10.0.0.1", "10.0.0.3,10.0.0.2", "10.0.0.3", "https"),
        ("10.0.0.1", "10.0.0.3, unknown, 10.0.0.2", "unknown", "https"),
        ("::ffff:10.0.0.1", "2001:db9::1", "2001:db9::1", "https"),
        ("2001:db8::1", "192.0.2.7", "192.0.2.7", "https"),
        ("10.0.0.1", None, "10.0.0.1", "https"),
        ("192.0.2.1", "192.0.2.7, 10.9.9.9", "192.0.2.1", "http"),
        ("11.0.0.1", "10.0.0.2", "11.0.0.1", "http"),
    ],
)
def test_who_asks_is_the_last_address_that_is_no_proxys(peer, said, client, scheme):
    seen = []

    def application(environ, start_response):
        seen.append(
            (
                environ["REMOTE_ADDR"],
                environ["wsgi.url_scheme"],
                environ.get("HTTP_X_FORWARDED_HOST"),
            )
        )
        return []

    environ = {
        "REMOTE_ADDR": peer,
        "REMOTE_HOST": peer,
        "REMOTE_PORT": "1",
        "wsgi.url_scheme": "http",
        "SERVER_PORT": "80",
        "SERVER_NAME": "x",
        "HTTP_X_FORWARDED_PROTO": "https",
        "HTTP_X_FORWARDED_HOST": "elsewhere.example",
    }
    if said is not None:
        environ["HTTP_X_FORWARDED_FOR"] = said
    Proxies.read("10.0.0.0/8, 2001:db8::/32").before(application)(environ, None)
    assert seen == [(client, scheme, None)]


def test_the_manager_of_services_is_told_when_it_is_ready_and_when_it_stops(
    address, tmp_path, monkeypatch
):
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as manager:
        manager.bind(str(tmp_path / "manager"))
        manager.settimeout(30)
        monkeypatch.setenv("NOTIFY_SOCKET", str(tmp_path / "manager"))
        with serving(address, tmp_path, "--processes", "2"):
            assert manager.recv(100) == b"READY=1"
        assert manager.recv(100) == b"STOPPING=1"


def test_the_link_of_the_first_start_replaces_nothing_but_an_earlier_link(address, tmp_path):
    link = tmp_path / "sign-in-link"
    link.write_text("a shopping list")
    with serving(address, tmp_path) as service:
        assert link.read_text() == "a shopping list" and any(
            "stays as it is" in line for line in service.said
        )
    link.write_text("http://127.0.0.1:1/sign-in#dk_of-before\n")
    (tmp_path / "token").unlink()
    with serving(address, tmp_path) as service:
        assert (
            service.url + "/sign-in#dk_" in link.read_text()
            and link.stat().st_mode & 0o777 == 0o600
        )
