"""What breaks off, what is too much at once, and what tries to come in another way."""

import asyncio
import ftplib
import io
import os
import resource
import socket
import ssl
import threading
from datetime import UTC, datetime
from pathlib import Path

import asyncssh
import pytest
from tools.rehearsing import PASSWORD, standing, untrusting

from drawknife.changing import apply
from drawknife.formats.model_file import read_model

from ..conftest import DEMO, until

MODEL = read_model(DEMO.read_bytes())
DRAFTS = "survey/charts/drafts"


def changed(*changes):
    return apply(MODEL, list(changes)).model


@pytest.fixture
def there(tmp_path):
    with standing(MODEL, tmp_path / "rehearsal") as found:
        yield found


def files(there, folder=DRAFTS):
    return {
        p.name: p.read_bytes()
        for p in there.stand.tree.root.joinpath(folder).iterdir()
        if p.is_file()
    }


def raw(there, endpoint="harbour"):
    made = socket.create_connection(("127.0.0.1", there.ports[endpoint]), timeout=20)
    return made, made.makefile("rb")


# --- lines that are none ------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("sent", "code"),
    [
        (b"A" * 200_000 + b"\r\n", b"500"),
        (b"USER \0root\r\n", b"501"),
        (b"\xff\xfe\xfd\r\n", b"502"),
        (b"\r\n", b"502"),
        (b"RETR /charts/x\r\n", b"530"),
        (b"PASS x\r\n", b"503"),
        (b"PORT 1,2,3,4,5,6\r\n", b"530"),
        (b"USER\r\n", b"331"),
        (b"__class__\r\n", b"502"),
        (b"REST 99999999999999999999999\r\n", b"530"),
    ],
)
def test_odd_lines_have_an_answer(there, sent, code):
    made, answers = raw(there)
    assert answers.readline().startswith(b"220")
    made.sendall(sent)
    assert answers.readline().startswith(code)
    made.close()


def test_half_a_line_is_none(there):
    made, answers = raw(there)
    answers.readline()
    made.sendall(b"USER ines")
    made.shutdown(socket.SHUT_WR)
    assert answers.read() == b""
    assert there.lines == []


def test_what_is_said_before_there_is_tls_is_not_done_within_it(there):
    """The injection that comes in one packet with AUTH (RFC 4217; found in many servers)."""
    made, answers = raw(there)
    answers.readline()
    made.sendall(b"AUTH TLS\r\nUSER ines\r\n")
    assert answers.readline().startswith(b"421")
    assert answers.read() == b""


def test_no_data_connection_with_a_stranger(there):
    ftp = there.ftp("ines")
    for command in (
        "PORT 198,51,100,7,200,10",
        "EPRT |1|198.51.100.7|51210|",
        "PORT 127,0,0,1,0,80",
        "EPRT |1|x|y|",
        "PORT 1,2",
    ):
        with pytest.raises(ftplib.error_perm, match=r"50[01]"):
            ftp.voidcmd(command)
    ftp.quit()


# --- what breaks off ----------------------------------------------------------------------------


def begun(there, command):
    """An upload that has begun over TLS: the control connection, and the data connection."""
    ftp = there.ftp("ines")
    ftp.voidcmd("TYPE I")
    return ftp, ftp.transfercmd(command)


def test_tls_that_is_cut_without_its_end_is_no_whole_file(there):
    ftp, data = begun(there, "STOR /charts/drafts/half.bin")
    data.sendall(b"x" * 1000)
    os.close(socket.socket.detach(data))  # no close_notify
    with pytest.raises(ftplib.error_temp, match="426"):
        ftp.getresp()
    assert files(there) == {"half.bin": b"x" * 1000}  # what came is kept, to be resumed
    ftp.storbinary("STOR /charts/drafts/half.bin", io.BytesIO(b"y" * 10), rest=1000)
    assert files(there) == {"half.bin": b"x" * 1000 + b"y" * 10}


def test_an_overwrite_that_breaks_off_leaves_what_was_there(there):
    there.stand.tree.root.joinpath("homes/ines/a.txt").write_bytes(b"as it was")
    ftp, data = begun(there, "STOR /home/a.txt")
    data.sendall(b"z" * 5)
    os.close(socket.socket.detach(data))
    with pytest.raises(ftplib.error_temp, match="426"):
        ftp.getresp()
    assert files(there, "homes/ines") == {"a.txt": b"as it was"}
    ftp.storbinary("STOR /home/a.txt", io.BytesIO(b"new"))
    assert files(there, "homes/ines") == {"a.txt": b"new"}


def test_abort(there):
    ftp, data = begun(there, "STOR /charts/drafts/long.bin")
    data.sendall(b"x" * 100)
    ftp.sock.sendall(b"ABOR\r\n")
    with pytest.raises(ftplib.error_temp, match="426"):
        ftp.getresp()
    assert ftp.getresp().startswith("226")
    assert ftp.pwd() == "/"  # the session goes on
    data.close()


@pytest.mark.parametrize("how", ["closed", "cut", "ended"])
def test_sftp_that_breaks_off_is_not_taken_for_whole(there, how):
    there.stand.tree.root.joinpath("homes/ines/a.txt").write_bytes(b"as it was")

    async def upload():
        connection = await asyncssh.connect(
            "127.0.0.1",
            there.ports["lab-sftp"],
            username="ines",
            password=PASSWORD,
            known_hosts=None,
            client_keys=None,
        )
        sftp = await connection.start_sftp_client()
        file = await sftp.open("/home/a.txt", "wb")
        await file.write(b"new")
        if how == "closed":
            await file.close()
        elif how == "cut":
            connection._transport.abort()
        connection.close()
        await connection.wait_closed()

    asyncio.run(upload())
    wanted = b"new" if how == "closed" else b"as it was"
    until(lambda: files(there, "homes/ines") == {"a.txt": wanted})
    added = sum(size for size, _ in there.stand.room._added.values())
    assert added == (len(b"new") - len(b"as it was") if how == "closed" else 0)


@pytest.fixture
def many_files():
    """So many files can be open that a thousand connections have room."""
    before = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(8192, before[1]), before[1]))
    yield
    resource.setrlimit(resource.RLIMIT_NOFILE, before)


def held():
    """Bytes that this process holds in memory."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize()


def test_a_thousand_idle_connections_and_one_that_works(there, many_files):
    """They hold nothing but themselves, and nothing is left of them."""
    before = held()
    idle = [raw(there) for _ in range(1000)]
    for _, answers in idle:
        assert answers.readline().startswith(b"220")
    assert held() - before < 200 << 20
    ftp = there.ftp("ines")
    ftp.storbinary("STOR /charts/drafts/a.txt", io.BytesIO(b"x"))
    for made, answers in idle:
        answers.close()
        made.close()
    assert files(there) == {"a.txt": b"x"}
    ftp.quit()
    until(there.is_empty, 20_000)


@pytest.mark.parametrize("tls", [False, True])
def test_slow_readers_hold_up_nobody_and_leave_nothing(there, tls):
    """Of a large file that nobody takes only what fits between is read; when the clients vanish,
    all is given back.
    """
    large = there.stand.tree.root / "public" / "tides" / "large.bin"
    with large.open("wb") as file:
        file.truncate(1 << 30)
    before, slow = held(), []
    for _ in range(8):
        ftp = there.ftp("anonymous", "public-tides", "", tls=tls)
        ftp.voidcmd("TYPE I")
        slow.append((ftp, ftp.transfercmd("RETR /tides/large.bin")))
        assert slow[-1][1].recv(1) == b"\0"
    assert held() - before < 100 << 20
    other = there.ftp("ines")
    other.storbinary("STOR /charts/drafts/a.txt", io.BytesIO(b"x"))
    assert files(there) == {"a.txt": b"x"}
    for ftp, data in slow:
        data.close()
        ftp.close()
    other.quit()
    until(there.is_empty, 20_000)
    assert there.stand.transfers._work_queue.qsize() == 0


def test_links_are_not_followed(there, tmp_path):
    """Neither the last part of a path nor one on the way."""
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "secret.txt").write_text("secret")
    top = there.stand.tree.root.joinpath(DRAFTS)
    (top / "way").symlink_to(outside)
    (top / "file.txt").symlink_to(outside / "secret.txt")
    ftp = there.ftp("ines")
    assert ftp.nlst("/charts/drafts") == []
    for command in (
        "RETR /charts/drafts/way/secret.txt",
        "RETR /charts/drafts/file.txt",
        "STOR /charts/drafts/way/new.txt",
    ):
        with pytest.raises(ftplib.error_perm):
            ftp.transfercmd(command)
    with pytest.raises((ftplib.error_perm, ftplib.error_temp)):
        ftp.storbinary("STOR /charts/drafts/file.txt", io.BytesIO(b"over"))
    assert (outside / "secret.txt").read_text() == "secret" and len(list(outside.iterdir())) == 1


@pytest.mark.parametrize(
    "path",
    [
        "/../../etc/passwd",
        "../../../../etc/passwd",
        "/charts/drafts/../../../x",
        "/charts//drafts/./x",
    ],
)
def test_dots_stay_within(there, path):
    ftp = there.ftp("ines")
    with pytest.raises(ftplib.error_perm, match="550"):
        ftp.retrbinary(f"RETR {path}", print)


# --- room ---------------------------------------------------------------------------------------

SMALL = {
    "op": "add",
    "kind": "quota",
    "item": {"name": "drafts", "folder": "survey:/charts/drafts", "hard_bytes": 50_000},
}


def test_four_uploads_at_once_share_the_room(tmp_path):
    """Room is counted while bytes come: four that would each fit alone do not fit together, and
    what came is kept.
    """
    with standing(changed(SMALL), tmp_path / "rehearsal") as there:
        answers = []

        def send(number):
            ftp = there.ftp("ines")
            ftp.voidcmd("TYPE I")
            data = ftp.transfercmd(f"STOR /charts/drafts/{number}.bin")
            barrier.wait()
            try:
                for _ in range(20):
                    data.sendall(b"x" * 1000)
                data.unwrap()
            except OSError:
                pass
            data.close()
            try:
                answers.append(ftp.getresp()[:3])
            except ftplib.Error as error:
                answers.append(str(error)[:3])

        barrier = threading.Barrier(4)
        threads = [threading.Thread(target=send, args=(n,)) for n in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        kept = [len(x) for x in files(there).values()]
        assert sum(kept) <= 50_000 and len(answers) == 4 and set(answers) <= {"226", "552"}
        assert answers.count("226") == kept.count(20_000) <= 2 and "552" in answers
        assert any(x.gate == "limits" and x.note == "while it came" for x in there.lines)


def test_what_is_deleted_gives_room_back(tmp_path):
    box = {
        "op": "add",
        "kind": "quota",
        "item": {"name": "box", "folder": "homes:/ines/box", "hard_bytes": 50_000},
    }
    with standing(changed(box), tmp_path / "rehearsal") as there:
        ftp = there.ftp("ines")
        ftp.mkd("/home/box")
        ftp.cwd("/home/box")
        ftp.storbinary("STOR a.bin", io.BytesIO(b"x" * 40_000))
        with pytest.raises(ftplib.error_perm, match="552"):
            ftp.storbinary("STOR b.bin", io.BytesIO(b"x" * 20_000))
        assert len(files(there, "homes/ines/box")["b.bin"]) <= 10_000
        ftp.delete("a.bin")
        ftp.delete("b.bin")
        ftp.storbinary("STOR c.bin", io.BytesIO(b"x" * 50_000))
        ftp.voidcmd("ALLO 1")
        with pytest.raises(ftplib.error_perm, match="552"):
            ftp.storbinary("STOR d.bin", io.BytesIO(b"x"))
        ftp.storbinary("STOR c.bin", io.BytesIO(b"x" * 10_000))  # overwritten by less
        ftp.rename("c.bin", "e.bin")
        ftp.storbinary("STOR d.bin", io.BytesIO(b"x" * 40_000))


# --- signing in ---------------------------------------------------------------------------------


def test_wrong_passwords_lock_and_only_they(tmp_path):
    lockout = {"op": "change", "kind": "lockout", "name": "account", "set": {"failures": 3}}
    with standing(changed(lockout), tmp_path / "rehearsal") as there:
        for _ in range(3):
            with pytest.raises(ftplib.error_perm, match="530"):
                there.ftp("ines", password="wrong")
        with pytest.raises(ftplib.error_perm, match="530"):
            there.ftp("ines")
        assert [x.reason for x in there.lines][:3] == [
            "wrong-credential"
        ] * 3 and "lock" in there.lines[-1].text
        there.ftp("odile").quit()


def test_who_is_not_there_is_told_what_a_wrong_password_is(there):
    said = []
    for name in ("ines", "nobody-at-all"):
        with pytest.raises(ftplib.error_perm) as refused:
            there.ftp(name, password="wrong")
        said.append(str(refused.value))
    assert said[0] == said[1]


def test_where_clients_are_taken_to_come_from(tmp_path):
    """An endpoint that admits inside addresses only, and a client from outside."""
    with standing(MODEL, tmp_path / "rehearsal", as_from={"ines": "203.0.113.9"}) as there:
        with pytest.raises(asyncssh.PermissionDenied):
            asyncio.run(_ssh(there, "ines"))
        asyncio.run(_ssh(there, "odile"))
        assert [x[:2] for x in there.refused()] == [("ines", "sign-in")] and there.lines[
            0
        ].client == "203.0.113.9"


async def _ssh(there, account):
    options = {"username": account, "password": PASSWORD, "known_hosts": None, "client_keys": None}
    async with asyncssh.connect("127.0.0.1", there.ports["lab-sftp"], **options) as connection:
        await (await connection.start_sftp_client()).listdir("/")


def test_sessions_are_counted(tmp_path):
    few = {"op": "add", "kind": "setting", "item": {"for": "account:ines", "sessions": 1}}
    with standing(changed(few), tmp_path / "rehearsal") as there:
        first = there.ftp("ines")
        with pytest.raises(ftplib.error_perm, match="530"):
            there.ftp("ines")
        first.quit()
        until(lambda: there.stand._sessions["ines"] == 0)
        there.ftp("ines").quit()


@pytest.mark.parametrize(
    ("landing", "starts"), [("/charts/drafts", "/charts/drafts"), ("/nowhere", "/")]
)
def test_greeting_and_landing(tmp_path, landing, starts):
    said = {
        "op": "add",
        "kind": "setting",
        "item": {"for": "account:ines", "greeting": "Mind the tide.", "landing": landing},
    }
    with standing(changed(said), tmp_path / "rehearsal") as there:
        ftp = ftplib.FTP_TLS(context=untrusting())
        ftp.connect("127.0.0.1", there.ports["harbour"], timeout=20)
        assert ftp.login("ines", PASSWORD) == "230 Mind the tide."
        assert ftp.pwd() == starts
        assert any("starts at / instead" in (x.note or "") for x in there.lines) is (
            starts != landing
        )


def test_idle_sessions_end(tmp_path):
    idle = {"op": "add", "kind": "setting", "item": {"for": "account:ines", "idle_timeout": 1}}
    with standing(changed(idle), tmp_path / "rehearsal") as there:
        ftp = there.ftp("ines")
        assert ftp.getline().startswith("421")


def test_a_file_of_the_log_is_bounded(tmp_path):
    from drawknife.rehearsal.log import ActionLine, BoundedFile

    line = ActionLine(
        datetime.now(UTC),
        1,
        "ines",
        "harbour",
        "127.0.0.1",
        "list",
        "/",
        None,
        True,
        None,
        "allowed",
        "x" * 100,
    )
    file = BoundedFile(tmp_path / "log", 2000, 3)
    for _ in range(60):
        file.write(line)
    file.close()
    there = sorted(p.name for p in tmp_path.iterdir())
    assert there == ["log", "log.1", "log.2"] and all(
        p.stat().st_size <= 2000 for p in tmp_path.iterdir()
    )


def test_implicit_tls(tmp_path):
    """An endpoint whose protocol is ftps speaks TLS from the first byte."""
    change = {
        "op": "add",
        "kind": "endpoint",
        "item": {"name": "strait", "protocol": "ftps", "port": 990},
    }
    with standing(changed(change), tmp_path / "rehearsal") as there:

        class Implicit(ftplib.FTP_TLS):
            @property
            def sock(self):
                return self._sock

            @sock.setter
            def sock(self, value):
                if value is not None and not isinstance(value, ssl.SSLSocket):
                    value = self.context.wrap_socket(value)
                self._sock = value

        ftp = Implicit(context=untrusting())
        ftp.connect("127.0.0.1", there.ports["strait"], timeout=20)
        ftp.login("ines", PASSWORD)
        ftp.prot_p()
        ftp.storbinary("STOR /charts/drafts/a.txt", io.BytesIO(b"x"))
        assert files(there) == {"a.txt": b"x"}


def test_idle_sftp_sessions_end(tmp_path):
    idle = {"op": "add", "kind": "setting", "item": {"for": "account:ines", "idle_timeout": 1}}

    async def wait(there):
        options = {
            "username": "ines",
            "password": PASSWORD,
            "known_hosts": None,
            "client_keys": None,
        }
        async with asyncssh.connect("127.0.0.1", there.ports["lab-sftp"], **options) as connection:
            sftp = await connection.start_sftp_client()
            await sftp.listdir("/")
            await asyncio.wait_for(sftp.wait_closed(), 30)

    with standing(changed(idle), tmp_path / "rehearsal") as there:
        asyncio.run(wait(there))


def today_not():
    """A day of the week that it is not, wherever in the world the tests run."""
    return ("mon", "tue", "wed", "thu", "fri", "sat", "sun")[(datetime.now(UTC).weekday() + 3) % 7]


@pytest.mark.parametrize(
    ("values", "reason"),
    [
        (lambda: {"hours": [f"{today_not()} 00:00-24:00"]}, "hours"),
        (lambda: {"addresses": ["deny 127.0.0.0/8"]}, "address"),
        (lambda: {"methods": ["key"]}, "method"),
    ],
)
def test_what_is_set_for_signing_in_counts(tmp_path, values, reason):
    setting = {"op": "add", "kind": "setting", "item": {"for": "account:ines", **values()}}
    with standing(changed(setting), tmp_path / "rehearsal") as there:
        with pytest.raises(ftplib.error_perm, match="530"):
            there.ftp("ines")
        assert reason in there.lines[0].reason and there.lines[0].gate == "sign-in"
        there.ftp("odile").quit()


def test_files_as_in_a_real_folder(there, tmp_path):
    """Their names, sizes and owners, and nothing of what is in them; no links."""
    real = tmp_path / "real"
    (real / "drafts" / "deep").mkdir(parents=True)
    (real / "drafts" / "large.bin").write_bytes(b"secret" * 1000)
    (real / "drafts" / "deep" / "empty").touch()
    (real / "link").symlink_to("/etc/passwd")
    import pwd

    who = pwd.getpwuid(os.getuid()).pw_name
    assert there.stand.tree.take_shape("survey", real, [who, "ines"]) == 2
    top = there.stand.tree.root / "survey"
    assert (top / "drafts/large.bin").read_bytes() == bytes(6000) and (
        top / "drafts/deep/empty"
    ).exists()
    assert not (top / "link").exists() and not os.path.lexists(top / "link")
    from drawknife.core.words.names import Place

    assert there.stand.tree.owners[Place("survey", "/drafts/large.bin")] == who


def test_names_that_are_no_text_are_listed_and_break_nothing(there):
    """As a real folder may have them: bytes that are no UTF-8, and control characters."""
    top = os.fsencode(there.stand.tree.root / DRAFTS)
    os.mkdir(top + b"/\xff\xfe")
    (there.stand.tree.root / DRAFTS / "a\x07b").touch()

    async def names():
        options = {
            "username": "ines",
            "password": PASSWORD,
            "known_hosts": None,
            "client_keys": None,
        }
        async with asyncssh.connect("127.0.0.1", there.ports["lab-sftp"], **options) as connection:
            return await (await connection.start_sftp_client()).listdir(b"/charts/drafts")

    assert {b"\xff\xfe", b"a\x07b"} <= set(asyncio.run(names()))
    made = there.ftp("ines")
    lines = []
    made.encoding = "latin-1"
    made.retrlines("NLST /charts/drafts", lines.append)
    assert "\xff\xfe" in lines


def test_what_nobody_has_thought_of_tells_the_client_nothing(there, monkeypatch):
    """A fault of the stand-in: the session goes on, and no text of it leaves."""

    def fails(*_):
        raise KeyError("a secret of the inside")

    ftp = there.ftp("ines")
    monkeypatch.setattr(there.stand.tree, "make_folder", fails)
    with pytest.raises(ftplib.error_temp, match=r"^451 It did not work\.$"):
        ftp.mkd("/charts/drafts/x")
    assert ftp.pwd() == "/"

    async def mkdir():
        options = {
            "username": "ines",
            "password": PASSWORD,
            "known_hosts": None,
            "client_keys": None,
        }
        async with asyncssh.connect("127.0.0.1", there.ports["lab-sftp"], **options) as connection:
            await (await connection.start_sftp_client()).mkdir("/charts/drafts/x")

    with pytest.raises(asyncssh.SFTPFailure, match=r"^it did not work$"):
        asyncio.run(mkdir())
