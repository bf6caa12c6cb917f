"""Real clients: what each is told, what lies there afterwards, and what the log says of it."""

import ftplib
import io
import json
import re
import shutil
import subprocess

import pytest
from tools.rehearsing import PASSWORD, ask_pass, standing

from drawknife.formats.model_file import read_model

from ..conftest import DEMO, DRAWKNIFE, run_process

MODEL = read_model(DEMO.read_bytes())


@pytest.fixture
def there(tmp_path):
    with standing(MODEL, tmp_path / "rehearsal") as found:
        yield found


@pytest.fixture
def letter(tmp_path):
    path = tmp_path / "letter.txt"
    path.write_text("ahoy\n")
    return path


def curl(there, endpoint, account, *arguments, path="/"):
    secure = [] if endpoint == "public-tides" else ["--ssl-reqd"]
    url = f"ftp://127.0.0.1:{there.ports[endpoint]}{path}"
    return subprocess.run(
        [
            "curl",
            "-sk",
            "-m",
            "20",
            *secure,
            "-u",
            f"{account}:{PASSWORD}",
            *map(str, arguments),
            url,
        ],
        capture_output=True,
        text=True,
    )


def test_curl_over_explicit_tls(there, letter):
    sent = curl(there, "harbour", "ines", "-T", letter, path="/charts/drafts/letter.txt")
    assert sent.returncode == 0
    assert curl(there, "harbour", "ines", path="/charts/drafts/letter.txt").stdout == "ahoy\n"
    assert "letter.txt" in curl(there, "harbour", "ines", path="/charts/drafts/").stdout
    refused = curl(there, "harbour", "ines", "-T", letter, path="/charts/issued/letter.txt")
    assert refused.returncode == 25  # curl's word for a refused upload
    assert there.refused() == [("ines", "upload", "/charts/issued/letter.txt", "folder")]
    line = next(x for x in there.lines if not x.allowed)
    assert "no entry there or above allows it" in line.text
    assert (
        line.why()
        == "drawknife why ines upload /charts/issued/letter.txt --endpoint harbour --from 127.0.0.1"
        " --tls --method password"
    )


def test_the_public_fetches_and_cannot_send(there, letter):
    there.stand.tree.root.joinpath("public/tides/today.csv").write_text("high 04:12\n")
    assert (
        curl(there, "public-tides", "anonymous", path="/tides/today.csv").stdout == "high 04:12\n"
    )
    assert (
        curl(there, "public-tides", "anonymous", "-T", letter, path="/tides/letter.txt").returncode
        == 25
    )
    assert there.refused() == [("anonymous", "upload", "/tides/letter.txt", "endpoint")]


@pytest.mark.skipif(not shutil.which("wget"), reason="wget is not there")
def test_wget(there, tmp_path):
    there.stand.tree.root.joinpath("public/tides/today.csv").write_text("high 04:12\n")
    url = f"ftp://127.0.0.1:{there.ports['public-tides']}/tides/today.csv"
    subprocess.run(["wget", "-q", "-O", tmp_path / "got", url], check=True, timeout=30)
    assert (tmp_path / "got").read_text() == "high 04:12\n"


def test_without_tls_where_it_is_required_nobody_gets_in(there):
    with pytest.raises(ftplib.error_perm, match="530"):
        there.ftp("ines", tls=False)
    assert [x[1:] for x in there.refused()] == [("sign-in", None, "sign-in")]


def test_ftplib_goes_through_all_of_it(there):
    ftp = there.ftp("ines")
    ftp.cwd("/charts/drafts")
    assert ftp.pwd() == "/charts/drafts"
    ftp.storbinary("STOR a.txt", io.BytesIO(b"one"))
    ftp.storbinary("APPE a.txt", io.BytesIO(b" two"))
    assert ftp.size("a.txt") == 7
    facts = dict(ftp.mlsd())["a.txt"]
    assert facts["type"] == "file" and facts["size"] == "7" and set(facts["perm"]) == {"a", "r"}
    got = io.BytesIO()
    ftp.retrbinary("RETR a.txt", got.write, rest=4)
    assert got.getvalue() == b"two"
    assert there.stand.tree.root.joinpath("survey/charts/drafts/a.txt").read_bytes() == b"one two"
    for refused in ("DELE a.txt", "RMD /charts/drafts", "RNTO x", "MKD /charts/issued/new"):
        with pytest.raises((ftplib.error_perm, ftplib.error_temp)):
            ftp.voidcmd(refused)
    with pytest.raises(ftplib.error_perm, match="550"):
        ftp.rename("a.txt", "b.txt")
    ftp.quit()


def test_a_refusal_is_answered_alike_whether_the_thing_is_there_or_not(there):
    there.stand.tree.root.joinpath("survey/charts/issued/sheet.pdf").write_text("x")
    ftp = there.ftp("ines")
    said = []
    for name in ("sheet.pdf", "nothing.pdf"):
        for command in ("DELE", "MKD", "RMD"):
            with pytest.raises(ftplib.error_perm) as refused:
                ftp.voidcmd(f"{command} /charts/issued/{name}")
            said.append((command, str(refused.value)))
    assert said[:3] == said[3:]
    with pytest.raises(ftplib.error_perm, match="550 There is no such"):
        ftp.retrbinary("RETR /charts/issued/nothing.pdf", print)  # it would be let


def test_openssh_sftp_and_scp(there, letter, tmp_path):
    batch = tmp_path / "batch"
    back = tmp_path / "back.txt"
    batch.write_text(
        f"put {letter} /charts/drafts/a.txt\nget /charts/drafts/a.txt {back}\n-put {letter}"
        " /charts/issued/a.txt\n-rm /charts/drafts/a.txt\n-ls /homes\n"
    )
    options = [
        "-oBatchMode=no",
        "-oStrictHostKeyChecking=no",
        f"-oUserKnownHostsFile={tmp_path / 'hosts'}",
    ]
    port = str(there.ports["lab-sftp"])
    done = subprocess.run(
        ["sftp", *options, "-P", port, "-b", batch, "ines@127.0.0.1"],
        capture_output=True,
        text=True,
        env=ask_pass(tmp_path),
        timeout=60,
    )
    assert done.returncode == 0, done.stderr
    assert back.read_text() == "ahoy\n" and done.stderr.count("ermission denied") == 2
    assert [x[:3] for x in there.refused()][:2] == [
        ("ines", "upload", "/charts/issued/a.txt"),
        ("ines", "delete-file", "/charts/drafts/a.txt"),
    ]
    copied = subprocess.run(
        ["scp", *options, "-P", port, letter, "ines@127.0.0.1:/charts/drafts/b.txt"],
        capture_output=True,
        text=True,
        env=ask_pass(tmp_path),
        timeout=60,
    )
    assert copied.returncode == 0, copied.stderr
    assert there.stand.tree.root.joinpath("survey/charts/drafts/b.txt").read_text() == "ahoy\n"


def test_who_creates_a_file_owns_it(there):
    """People put things into a shared folder and delete their own, not each other's."""
    mine = there.ftp("odile")
    mine.storbinary("STOR /charts/exchange/mine.txt", io.BytesIO(b"x"))
    mine.delete("/charts/exchange/mine.txt")
    mine.storbinary("STOR /charts/exchange/mine.txt", io.BytesIO(b"x"))
    other = there.ftp("ines")
    with pytest.raises(ftplib.error_perm, match="550"):
        other.delete("/charts/exchange/mine.txt")
    assert there.refused() == [("ines", "delete-file", "/charts/exchange/mine.txt", "folder")]


def test_lftp_over_explicit_tls(there, letter):
    script = (
        "set ssl:verify-certificate no; set ftp:ssl-force yes; set ftp:ssl-protect-data yes; set"
        f" net:max-retries 1;open -u ines,{PASSWORD} -p {there.ports['harbour']} 127.0.0.1; put -O"
        f" /charts/drafts {letter};cls -1 /charts/drafts; cat /charts/drafts/letter.txt; rm"
        " /charts/drafts/letter.txt; bye"
    )
    done = subprocess.run(["lftp", "-c", script], capture_output=True, text=True, timeout=60)
    assert "letter.txt" in done.stdout and "ahoy" in done.stdout, done.stderr
    # lftp sets the time of what it has put, which is refused, too
    assert "550" in done.stderr and there.refused()[-1] == (
        "ines",
        "delete-file",
        "/charts/drafts/letter.txt",
        "folder",
    )


def test_tnftp(there, tmp_path):
    there.stand.tree.root.joinpath("public/tides/today.csv").write_text("high 04:12\n")
    url = f"ftp://127.0.0.1:{there.ports['public-tides']}/tides/today.csv"
    subprocess.run(
        ["tnftp", "-o", tmp_path / "got", url], check=True, timeout=30, stdout=subprocess.DEVNULL
    )
    assert (tmp_path / "got").read_text() == "high 04:12\n"


def test_curl_over_sftp(there, letter):
    url = f"sftp://127.0.0.1:{there.ports['lab-sftp']}/charts/drafts/letter.txt"
    who = ["curl", "-sk", "-m", "20", "-u", f"ines:{PASSWORD}"]
    sent = subprocess.run([*who, "-T", letter, url])
    assert sent.returncode == 0
    assert subprocess.run([*who, url], capture_output=True, text=True).stdout == "ahoy\n"


def secret(folder):
    file = folder / "password"
    file.write_text(PASSWORD + "\n")
    file.chmod(0o600)
    return file


def test_the_command_serves_quickly_and_ends_when_told(tmp_path, letter):
    """With no service and no database; what it says, what it prints of an action, its file, and how
    it ends.
    """
    folder = tmp_path / "like"
    folder.mkdir()
    (folder / "old.txt").write_text("x")
    command = [
        DRAWKNIFE,
        "rehearse",
        "--model",
        DEMO,
        "--password-file",
        secret(tmp_path),
        "--offset",
        "0",
        "--log",
        tmp_path / "log",
        "--like",
        f"homes={folder}",
    ]
    with subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    ) as process:
        said = []
        for line in process.stderr:
            said.append(line)
            if "Ctrl-C ends it" in line:
                break
        port = int(re.search(r"harbour .*:(\d+)/", "".join(said))[1])
        assert "homes: 1 file as in" in said[
            0
        ] and "old-quay does not start beside harbour" in "".join(said)
        url = f"ftp://127.0.0.1:{port}/charts/issued/x"
        subprocess.run(["curl", "-sk", "--ssl-reqd", "-u", f"ines:{PASSWORD}", "-T", letter, url])
        process.terminate()
        out, _ = process.communicate(timeout=30)
        assert process.returncode == 0
    assert (
        "✕ ines upload /charts/issued/x" in out
        and "drawknife why ines upload /charts/issued/x" in out
    )
    lines = [json.loads(line) for line in (tmp_path / "log").read_text().splitlines()]
    assert [x["allowed"] for x in lines] == [True, True, True, False] and lines[-1][
        "gate"
    ] == "folder"


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (["--model", "nowhere.yaml"], "cannot be read"),
        (["--model", DEMO, "--draft", "x"], "--draft is for a service"),
        (["--model", DEMO, "--as-from", "here"], "is no address"),
        (["--model", DEMO, "--like", "survey"], "expected STORE=DIR"),
        (["--model", DEMO, "--like", "surve=/tmp"], "did you mean survey?"),
        (["--url", "http://127.0.0.1:1", "--token", "x"], "no service answers"),
    ],
)
def test_what_cannot_be_rehearsed_is_told(arguments, told):
    done = run_process("rehearse", *arguments)
    assert done.returncode in (2, 3) and told in done.stderr and "Traceback" not in done.stderr
