"""What clients and people met who were at it for long: nothing of theirs is lost, nothing is told
that is not to be.
"""

import asyncio
import ftplib
import hashlib
import io
import os
import re
import socket
import ssl
import subprocess
from ipaddress import ip_address

import asyncssh
import pytest
from cryptography import x509
from tools import rehearsing
from tools.rehearsing import PASSWORD

from drawknife.core.words.names import Place
from drawknife.formats.model_file import read_model
from drawknife.rehearsal.keys import certificate_in, fingerprints, host_key_in
from drawknife.rehearsal.model_source import OfService
from drawknife.rehearsal.sftp_files import MOST_OPEN, Pacing

from ..conftest import run_process, serving, until

MODEL = """drawknife: 1
accounts:
  - {name: ines}
  - {name: bram, methods: [directory]}
  - {name: fulmar, kind: service, methods: [key]}
  - {name: refa, enabled: false}
stores:
  - name: survey
    folders:
      - {path: /, entries: ["allow signed-in look"]}
      - {path: /desk, entries: ["allow signed-in all"]}
      - {path: /drop, entries: ["deny signed-in list", "allow signed-in enter,upload"]}
      - {path: /drop/kept, entries: ["deny signed-in enter"]}
      - {path: /desk/kept, entries: ["deny signed-in enter"]}
      - path: /own
        entries:
          - "allow signed-in enter,make-folder here"
          - "allow owner all"
          - "deny signed-in all below"
      - path: /mine
        entries:
          - "allow signed-in look,make-folder here"
          - "allow owner enter,list,upload,make-folder"
virtual_paths: [{path: /survey, leads_to: "survey:/", grants: [signed-in all]}]
endpoints:
  - {name: quay, protocol: ftp, port: 2121, tls: optional}
  - {name: pier, protocol: sftp, port: 2222}
  - {name: plain, protocol: ftp, port: 2123, tls: "off"}
quotas: [{name: full, folder: "survey:/desk/small", hard_bytes: 30}]
"""


@pytest.fixture
def there(tmp_path):
    with rehearsing.standing(read_model(MODEL), tmp_path / "rehearsal") as found:
        yield found


def file_of(there, path):
    return there.stand.tree.root / "survey" / path


def over_sftp(there, work, account="ines"):
    async def all_of_it():
        options = {
            "username": account,
            "password": PASSWORD,
            "known_hosts": None,
            "client_keys": None,
        }
        async with asyncssh.connect("127.0.0.1", there.ports["pier"], **options) as connection:
            return await work(await connection.start_sftp_client())

    return asyncio.run(all_of_it())


# --- files come whole, or what was there stays --------------------------------------------------


def test_uploads_over_tls_by_a_client_that_closes_at_once_come_whole(there, tmp_path):
    """curl does not read session tickets: its close would be a reset, and the end of
    the file lost.
    """
    sent = tmp_path / "sent"
    sent.write_bytes(os.urandom(1_000_000))
    for number in range(6):
        url = f"ftp://127.0.0.1:{there.ports['quay']}/survey/desk/{number}.bin"
        done = subprocess.run(
            ["curl", "-sk", "--ssl-reqd", "--tlsv1.3", "-u", f"ines:{PASSWORD}", "-T", sent, url],
            check=False,
        )
        assert (
            done.returncode == 0
            and file_of(there, f"desk/{number}.bin").read_bytes() == sent.read_bytes()
        )
    assert there.stand.data_tls.num_tickets == 0 < there.stand.tls.num_tickets


def test_an_upload_that_is_cut_is_written_down_as_cut(there):
    ftp = there.ftp("ines", "quay")
    ftp.voidcmd("TYPE I")
    data = ftp.transfercmd("STOR /survey/desk/cut.bin")
    data.sendall(b"x" * 1000)
    socket.socket(fileno=data.detach()).close()  # without the end that TLS wants
    with pytest.raises(ftplib.error_temp, match="426"):
        ftp.voidresp()
    line = next(x for x in there.lines if x.path == "/survey/desk/cut.bin")
    assert line.allowed and not line.done and "cut off after 1,000 bytes" in line.note
    assert file_of(there, "desk/cut.bin").read_bytes() == b"x" * 1000


def small(there, size):
    """A folder with room for 30 bytes, and a file of so many in it."""
    folder = file_of(there, "desk/small")
    folder.mkdir(exist_ok=True)
    folder.joinpath("old").write_bytes(b"o" * size)
    there.stand.room.count(Place("survey", "/desk/small/old"), "ines", size, 1)
    return folder / "old"


@pytest.mark.parametrize("size", [0, 1, 10, 29, 30])
@pytest.mark.parametrize("piece", [1, 7, 64])
def test_an_overwrite_that_meets_a_limit_leaves_what_was_there(there, size, piece):
    old = small(there, size)

    async def work(sftp):
        file = await sftp.open("/survey/desk/small/old", "wb")
        with pytest.raises(asyncssh.SFTPFailure):
            for at in range(0, 64, piece):
                await file.write(b"n" * piece, at)
        with pytest.raises(asyncssh.SFTPFailure):
            await file.close()

    over_sftp(there, work)
    assert old.read_bytes() == b"o" * size
    with pytest.raises(ftplib.error_perm, match="552"):
        there.ftp("ines", "quay").storbinary(
            "STOR /survey/desk/small/old", io.BytesIO(b"n" * 64), blocksize=piece
        )
    assert old.read_bytes() == b"o" * size
    assert not [x for x in there.lines if x.action == "overwrite" and x.allowed and x.done]


def test_a_new_upload_that_meets_a_limit_keeps_what_came_and_is_not_answered_as_done(there):
    small(there, 10)

    async def work(sftp):
        file = await sftp.open("/survey/desk/small/new", "wb")
        await file.write(b"n" * 20, 0)
        with pytest.raises(asyncssh.SFTPFailure):
            await file.write(b"n", 20)
        with pytest.raises(asyncssh.SFTPFailure):
            await file.close()

    over_sftp(there, work)
    assert file_of(there, "desk/small/new").read_bytes() == b"n" * 20


@pytest.mark.parametrize("endpoint", ["quay", "plain"])
def test_a_client_that_goes_on_sending_after_a_limit_hears_of_the_limit(there, endpoint):
    """Were the connection closed at once, it would be reset, and clients tell of the
    reset alone.
    """
    small(there, 10)
    ftp = there.ftp("ines", endpoint, tls=endpoint == "quay")
    data, _ = ftp.ntransfercmd("STOR /survey/desk/small/new")
    data.sendall(b"n" * 64)
    until(there.refused, tries=10**7)
    for _ in range(20):
        data.sendall(b"n" * 65536)
    (data.unwrap() if isinstance(data, ssl.SSLSocket) else data).close()
    with pytest.raises(ftplib.error_perm, match="552"):
        ftp.voidresp()


def test_a_handle_for_both_reads_what_it_wrote_and_handles_are_bounded(there):
    flags = asyncssh.FXF_READ | asyncssh.FXF_WRITE | asyncssh.FXF_CREAT

    async def work(sftp):
        async with sftp.open(
            "/survey/desk/both", flags | asyncssh.FXF_TRUNC, encoding=None
        ) as file:
            await file.write(b"0123456789", 0)
            assert await file.read(4, 3) == b"3456"
            await file.write(b"xx", 3)
            await file.fsync()
            assert await file.read(10, 0) == b"012xx56789"
        held = [await sftp.open("/survey/desk/both", "rb") for _ in range(MOST_OPEN)]
        with pytest.raises(asyncssh.SFTPFailure, match="too many"):
            await sftp.open("/survey/desk/both", "rb")
        await held.pop().close()
        held.append(await sftp.open("/survey/desk/both", "rb"))
        for file in held:
            await file.close()

    over_sftp(there, work)
    assert file_of(there, "desk/both").read_bytes() == b"012xx56789"


def test_the_old_scp_gets_puts_and_walks_folders(there, tmp_path):
    tree = tmp_path / "tree"
    tree.joinpath("in").mkdir(parents=True)
    tree.joinpath("a").write_text("A")
    tree.joinpath("in", "b").write_bytes(os.urandom(300_000))
    environment = rehearsing.ask_pass(tmp_path)
    options = [
        "-oStrictHostKeyChecking=no",
        "-oUserKnownHostsFile=/dev/null",
        "-oPreferredAuthentications=password",
    ]

    def scp(*arguments):
        words = ["scp", "-O", "-q", "-P", str(there.ports["pier"]), *options, *map(str, arguments)]
        return subprocess.run(
            words, env=environment, stdin=subprocess.DEVNULL, capture_output=True
        ).returncode

    at = "ines@127.0.0.1:/survey/desk"
    assert scp("-r", tree, f"{at}/") == 0 and scp("-r", f"{at}/tree", tmp_path / "back") == 0
    assert (tmp_path / "back/in/b").read_bytes() == tree.joinpath("in/b").read_bytes()
    assert scp(tree / "a", f"{at}/one") == 0 and scp(f"{at}/one", tmp_path / "one") == 0
    assert (tmp_path / "one").read_text() == "A"
    assert (
        scp(f"{at}/none", tmp_path / "none") == 1
        and scp(tree / "a", "ines@127.0.0.1:/survey/a") == 1
    )


def test_a_rate_over_sftp_waits_as_long_as_the_bytes_take(monkeypatch):
    waited = []

    async def sleep(seconds):
        waited.append(seconds)

    async def work():
        monkeypatch.setattr(asyncio, "sleep", sleep)
        pace = Pacing(1000)
        for _ in range(4):
            await pace.wait(500)
        await Pacing(None).wait(10**9)

    asyncio.run(work())
    # Nothing passes while nobody really sleeps: each piece waits for all that went before it.
    assert [round(x, 1) for x in waited] == [0.5, 1.0, 1.5, 2.0]


# --- one session does not hold up another -------------------------------------------------------


def test_a_listing_that_nobody_reads_holds_nobody_up(there):
    for number in range(3000):
        file_of(there, "desk").joinpath(f"{number:05}-{'x' * 200}").touch()
    slow, other = there.ftp("ines", "quay", tls=False), there.ftp("ines", "quay", tls=False)
    data = slow.transfercmd("MLSD /survey/desk")
    assert other.voidcmd("NOOP").startswith("200")
    with data.makefile("rb") as lines:
        shown = sum(1 for _ in lines)
    data.close()
    slow.voidresp()
    assert shown == 3000


def test_the_perm_of_many_files_is_what_it_is_of_each(there):
    desk = file_of(there, "desk")
    for name in ("a", "b", "c"):
        desk.joinpath(name).touch()
        desk.joinpath(f"{name}-folder").mkdir()
    ftp = there.ftp("ines", "quay", tls=False)
    ftp.storbinary("STOR /survey/desk/own", io.BytesIO(b""))
    ftp.mkd("/survey/desk/made")
    listed = {name: facts["perm"] for name, facts in ftp.mlsd("/survey/desk")}
    for name, perm in listed.items():
        single = ftp.sendcmd(f"MLST /survey/desk/{name}")
        assert f"perm={perm};" in single, name
    assert len(listed) == 8


def test_what_is_said_while_data_moves_is_answered_in_its_turn(there):
    ftp = there.ftp("ines", "quay", tls=False)
    ftp.voidcmd("TYPE I")
    data = ftp.transfercmd("STOR /survey/desk/slow.bin")
    data.sendall(b"x" * 10)
    ftp.sock.sendall(b"NOOP\r\nPWD\r\nSTAT\r\nSIZE /survey/desk/slow.bin\r\n")
    assert ftp.getresp().startswith("211"), "STAT is answered at once (RFC 959)"
    data.sendall(b"y" * 5)
    data.close()
    assert [ftp.getresp()[:3] for _ in range(4)] == ["226", "200", "257", "213"]


# --- who comes in -------------------------------------------------------------------------------


def test_the_one_password_stands_in_for_what_an_account_holds_and_may_use_there(there):
    assert there.ftp("bram", "quay").pwd() == "/"
    with pytest.raises(ftplib.error_perm, match="530"):
        there.ftp("fulmar", "quay")

    async def work(sftp):
        return await sftp.realpath(".")

    assert over_sftp(there, work, "fulmar") == over_sftp(there, work, "bram") == "/"
    methods = {x.account: x.why() for x in there.lines if x.action == "sign-in" and x.allowed}
    assert "--method directory" in methods["bram"] and "--method key" in methods["fulmar"]


def test_who_cannot_come_in_is_named_with_the_reason(there):
    endpoints = {x.endpoint.name: x.endpoint for x in there.stand.opened}
    at_quay = {
        name: why
        for why, names in there.stand.kept_out(endpoints["quay"]).items()
        for name in names
    }
    assert set(at_quay) == {"fulmar", "refa"} and "switched off" in at_quay["refa"]
    assert {n for names in there.stand.kept_out(endpoints["pier"]).values() for n in names} == {
        "refa"
    }


# --- nothing can be searched for ----------------------------------------------------------------


def said(ftp, command):
    try:
        return ftp.sendcmd(command)
    except ftplib.Error as refused:
        return str(refused)


@pytest.mark.parametrize("verb", ["SIZE", "MDTM", "MLST", "STAT", "LIST", "NLST"])
def test_in_a_blind_drop_what_is_there_is_answered_as_what_is_not(there, verb):
    file_of(there, "drop/there.bin").write_text("x")
    ftp = there.ftp("ines", "quay", tls=False)
    ftp.makepasv()
    answers = [
        said(ftp, f"{verb} /survey/drop/{name}") for name in ("there.bin", "none.bin", "kept")
    ]
    assert len(set(answers)) == 1 and answers[0].startswith("550"), answers


def test_over_sftp_too(there):
    file_of(there, "drop/there.bin").write_text("x")

    async def work(sftp):
        found = []
        for path in ("drop/there.bin", "drop/none.bin", "drop/kept", "desk/kept", "desk/none"):
            with pytest.raises(asyncssh.SFTPError) as refused:
                await sftp.stat(f"/survey/{path}")
            found.append((refused.value.code, refused.value.reason))
        return found

    first, second, third, hidden, missing = over_sftp(there, work)
    assert first == second == third != hidden == missing


def test_a_folder_that_listings_hide_is_not_told_by_asking_for_it(there):
    ftp = there.ftp("ines", "quay", tls=False)
    assert "kept" not in ftp.nlst("/survey/desk")
    for verb in ("MLST", "SIZE", "MDTM"):
        assert said(ftp, f"{verb} /survey/desk/kept") == said(ftp, f"{verb} /survey/desk/none")


def test_who_makes_a_folder_owns_it_for_going_in_listing_and_putting_into_it(there):
    ines, bram = there.ftp("ines", "quay", tls=False), there.ftp("bram", "quay", tls=False)
    ines.mkd("/survey/mine/hers")
    ines.cwd("/survey/mine/hers")
    ines.storbinary("STOR /survey/mine/hers/a", io.BytesIO(b"x"))
    ines.mkd("/survey/mine/hers/deeper")
    ines.storbinary("STOR /survey/mine/hers/deeper/b", io.BytesIO(b"x"))
    assert ines.nlst("/survey/mine/hers") == ["a", "deeper"]
    for command in ("STOR /survey/mine/hers/c", "MKD /survey/mine/hers/d"):
        bram.makepasv()
        assert said(bram, command).startswith("550")


# --- the log ------------------------------------------------------------------------------------


def test_what_the_protocol_refuses_is_not_shown_as_done(there):
    ftp = there.ftp("ines", "quay", tls=False)
    ftp.mkd("/survey/desk/a")
    for command in ("MKD /survey/desk/a", "DELE /survey/desk/none", "RMD /survey/desk"):
        with pytest.raises(ftplib.error_perm):
            ftp.sendcmd(command)
    ftp.storbinary("STOR /survey/desk/a/x", io.BytesIO(b""))
    with pytest.raises(ftplib.error_perm):
        ftp.rmd("/survey/desk/a")
    came = {(x.action, x.path): (x.allowed, x.done, x.note) for x in there.lines if not x.done}
    assert came["delete-file", "/survey/desk/none"] == (
        True,
        False,
        "there is no such file or folder",
    )
    assert came["make-folder", "/survey/desk/a"] == (True, False, "something is in the way")
    assert came["delete-folder", "/survey/desk/a"] == (True, False, "something is in the way")


def test_the_file_is_named_that_was_only_looked_at(there):
    file_of(there, "desk/one").write_text("x")
    ftp = there.ftp("ines", "quay", tls=False)
    for verb in ("SIZE", "MDTM", "MLST"):
        ftp.sendcmd(f"{verb} /survey/desk/one")
    assert [x.note for x in there.lines].count("to look at /survey/desk/one") == 3


def test_keys_that_are_nobodys_impossible_names_and_refused_protection_have_their_lines(there):
    key = asyncssh.generate_private_key("ssh-ed25519")

    async def offered():
        with pytest.raises(asyncssh.PermissionDenied):
            await asyncssh.connect(
                "127.0.0.1",
                there.ports["pier"],
                username="fulmar",
                client_keys=[key],
                known_hosts=None,
            )

    asyncio.run(offered())
    assert any(key.get_fingerprint("sha256") in x.text and not x.allowed for x in there.lines)
    ftp = there.ftp("ines", "quay", tls=False)
    with pytest.raises(ftplib.error_perm, match="553"):
        ftp.mkd("/survey/desk/" + "e\u0301")  # not in NFC
    assert any(x.reason == "bad-name" and x.action == "MKD" and x.why() == "" for x in there.lines)
    plain = ftplib.FTP()
    plain.connect("127.0.0.1", there.ports["plain"], timeout=20)
    with pytest.raises(ftplib.error_perm, match="534"):
        plain.sendcmd("AUTH TLS")
    assert any(x.reason == "no-tls" and "plain has TLS switched off" in x.text for x in there.lines)


def test_the_command_of_each_line_comes_to_the_same_gate(there, tmp_path):
    """Asked with every fact: from where, with TLS, by what, of which thing, and what it
    replaces.
    """
    file = tmp_path / "model.yaml"
    file.write_text(MODEL)
    ftp = there.ftp("ines", "quay", tls=False)
    ftp.storbinary("STOR /survey/desk/a", io.BytesIO(b"1"))
    ftp.storbinary("STOR /survey/desk/b", io.BytesIO(b"2"))
    ftp.rename("/survey/desk/a", "/survey/desk/b")
    ftp.mkd("/survey/desk/folder")
    for command in (
        "RNFR /survey/desk/folder",
        "RNTO /survey/desk/elsewhere",
        "RMD /survey/desk/elsewhere",
        "CWD /survey/desk/kept",
        "DELE /survey/drop/x",
        "MFMT 20260101000000 /survey/x",
        "MKD /survey/a",
    ):
        said(ftp, command)
    lines = [x for x in there.lines if x.why()]
    assert (
        len(lines) > 10
        and any("--replaces" in x.why() for x in lines)
        and any("--thing" in x.why() for x in lines)
    )
    for line in lines:
        words = line.why().split()[1:]
        done = run_process(*words, "--model", file, "--json")
        assert f'"allowed": {str(line.allowed).lower()}' in done.stdout, (line, done.stdout)
        assert line.allowed or f'"gate": "{line.gate}"' in done.stdout, (line, done.stdout)


# --- where it listens, and what it shows of itself ----------------------------------------------


def test_at_an_address_of_the_other_family(tmp_path):
    with rehearsing.standing(read_model(MODEL), tmp_path / "six", host="::1") as there:
        client = ftplib.FTP_TLS(context=rehearsing.untrusting(), encoding="utf-8")
        client.connect("::1", there.ports["quay"], timeout=20)
        client.login("ines", PASSWORD)
        client.prot_p()
        assert client.nlst("/survey") != []
        assert all("[::1]" in line for line in there.stand.lines())
        pem = x509.load_pem_x509_certificate(certificate_in(there.stand.folder, "::1").read_bytes())
    names = pem.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    assert set(names.get_values_for_type(x509.IPAddress)) >= {
        ip_address("::1"),
        ip_address("127.0.0.1"),
    }


def test_a_kept_certificate_is_made_anew_for_another_address(tmp_path):
    first = certificate_in(tmp_path).read_bytes()
    assert certificate_in(tmp_path).read_bytes() == first
    assert certificate_in(tmp_path, "192.0.2.7").read_bytes() != first


def test_the_fingerprints_are_those_that_clients_show(tmp_path):
    pem = certificate_in(tmp_path)
    host_key_in(tmp_path)
    host_key, certificate = fingerprints(tmp_path)
    shown = subprocess.run(
        ["ssh-keygen", "-lf", tmp_path / "rehearsal-host-key"], capture_output=True, text=True
    ).stdout
    assert host_key in shown
    der = ssl.PEM_cert_to_DER_cert(
        re.search("-----BEGIN CERT.*?-----END CERTIFICATE-----", pem.read_text(), re.S)[0]
    )
    assert certificate.replace(":", "").lower() == hashlib.sha256(der).hexdigest()


def test_no_password_stands_on_a_command_line():
    for command in (("rehearse",), ("try",), ("compare-server",)):
        assert "--password " not in run_process(*command, "--help").stdout


# --- with a service -----------------------------------------------------------------------------


def test_lifted_locks_and_endpoints_are_followed(cluster, tmp_path):
    (tmp_path / "model.yaml").write_text(
        MODEL + "lockouts: [{of: account, failures: 3, within: 1 hours, lasts: 1 hours}]\n"
    )
    database = cluster.create_database("followed")
    with (
        serving(database, tmp_path, "--load", str(tmp_path / "model.yaml")) as service,
        service.client() as client,
        rehearsing.standing(
            None, tmp_path / "rehearsal", source=OfService(service.client())
        ) as there,
    ):
        ftp = there.ftp("ines", "quay", tls=False)
        for _ in range(3):
            with pytest.raises(ftplib.error_perm):
                there.ftp("bram", "quay", password="wrong", tls=False)
        until(lambda: any(x.locked_until for x in client.lockouts().counting))
        with pytest.raises(ftplib.error_perm, match="530"):
            there.ftp("bram", "quay", tls=False)
        client.lift("account", "bram")
        assert there.ftp("bram", "quay", tls=False).pwd() == "/"

        data = ftp.transfercmd("STOR /survey/desk/beside.bin")
        data.sendall(b"first ")
        client.change(
            [
                {
                    "op": "add",
                    "kind": "endpoint",
                    "item": {"name": "jetty", "protocol": "ftp", "port": 2140, "tls": "off"},
                },
                {"op": "change", "kind": "endpoint", "name": "plain", "set": {"enabled": False}},
            ]
        )
        there.ftp("ines", "quay", tls=False)  # the next action, whoever's
        until(lambda: {x.endpoint.name for x in there.stand.opened} == {"quay", "pier", "jetty"})
        port = next(x.port for x in there.stand.opened if x.endpoint.name == "jetty")
        new = ftplib.FTP()
        new.connect("127.0.0.1", port, timeout=20)
        new.login("ines", PASSWORD)
        with pytest.raises(OSError):
            ftplib.FTP().connect("127.0.0.1", there.ports["plain"], timeout=5)
        data.sendall(b"second")
        data.close()
        assert ftp.voidresp().startswith("226")
        assert file_of(there, "desk/beside.bin").read_bytes() == b"first second"
