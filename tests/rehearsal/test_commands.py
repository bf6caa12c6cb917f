"""Each command of FTP that the stand-in knows, as its RFC has it, and what it asks of the rules."""

import ftplib
import io
import re
from datetime import UTC, datetime

import pytest
from tools.rehearsing import at_any_hour, standing

from drawknife.changing import apply
from drawknife.formats.model_file import read_model

from ..conftest import DEMO

MODEL = at_any_hour(read_model(DEMO.read_bytes()))
TEXT = b"57.1 -2.08 14.2\n"


@pytest.fixture
def there(tmp_path):
    with standing(MODEL, tmp_path / "rehearsal") as found:
        yield found


@pytest.fixture
def odile(there):
    """Who may do most things among the charts, where a file of hers lies."""
    ftp = there.ftp("odile")
    ftp.storbinary("STOR /charts/issued/sheet.pdf", io.BytesIO(b""))
    return ftp


@pytest.fixture
def ines(there):
    """Who may put drafts and append to them, and no more; a draft of hers lies there."""
    ftp = there.ftp("ines")
    ftp.voidcmd("TYPE I")
    ftp.storbinary("STOR /charts/drafts/a.txt", io.BytesIO(TEXT))
    return ftp


def code(ftp, command):
    """The code of the answer."""
    try:
        return ftp.sendcmd(command)[:3]
    except ftplib.Error as refused:
        return str(refused)[:3]


def facts(ftp, path):
    lines = ftp.sendcmd(f"MLST {path}").splitlines()
    assert lines[0].startswith("250-") and lines[-1].startswith("250 ")
    told, _, name = lines[1].strip().partition(" ")
    return dict(x.split("=", 1) for x in told.lower().rstrip(";").split(";")), name


def test_facts_with_the_perm_word_of_the_rules(there, ines):
    """RFC 3659, 7.5.5: a file's by its owner, a folder's with what may be done in it and to it."""
    found, name = facts(ines, "/charts/drafts/a.txt")
    assert (found["type"], found["size"], name) == ("file", str(len(TEXT)), "/charts/drafts/a.txt")
    assert (
        set(found["perm"]) == set("ra")
        and re.fullmatch(r"\d{14}(\.\d+)?", found["modify"])
        and found["unique"]
    )
    folder, _ = facts(ines, "/charts/drafts")
    assert folder["type"] == "dir" and set(folder["perm"]) == set("celm")
    both = {name: (set(x["perm"]), x["unique"]) for name, x in ines.mlsd("/charts/drafts")}
    assert both["a.txt"] == (set("ra"), found["unique"])
    # What another put is another's: odile may change the charts, and among the drafts reads and
    # appends as well.
    assert set(facts(there.ftp("odile"), "/charts/drafts/a.txt")[0]["perm"]) == set("ra")
    assert set(facts(there.ftp("odile"), "/charts/issued")[0]["perm"]) >= set("celmp")


def test_size_and_times_are_for_whoever_may_list_or_download(there, ines, odile):
    assert ines.size("/charts/drafts/a.txt") == len(TEXT)
    at = datetime.strptime(ines.sendcmd("MDTM /charts/drafts/a.txt")[4:18], "%Y%m%d%H%M%S").replace(
        tzinfo=UTC
    )
    assert abs((datetime.now(UTC) - at).total_seconds()) < 60
    other = there.ftp("kittiwake")
    other.voidcmd("TYPE I")
    for command in ("SIZE", "MDTM", "MLST"):
        assert code(other, f"{command} /charts/drafts/a.txt") == "550"
    # Setting a time takes a right of its own.
    assert code(ines, "MFMT 20200102030405 /charts/drafts/a.txt") == "550"
    assert there.refused()[-1] == ("ines", "set-attributes", "/charts/drafts/a.txt", "virtual path")


def test_a_time_is_set_by_whom_it_is_let(tmp_path):
    let = {
        "op": "change",
        "kind": "folder",
        "name": "survey:/charts/drafts",
        "add": {"entries": ["allow account:ines set-attributes"]},
    }
    path = {
        "op": "change",
        "kind": "virtual-path",
        "name": "/charts",
        "add": {"grants": ["account:ines set-attributes"]},
    }
    with standing(apply(MODEL, [let, path]).model, tmp_path / "r") as there:
        ftp = there.ftp("ines")
        ftp.storbinary("STOR /charts/drafts/a.txt", io.BytesIO(TEXT))
        assert code(ftp, "MFMT 20200102030405 /charts/drafts/a.txt") == "213"
        assert ftp.sendcmd("MDTM /charts/drafts/a.txt").split()[1][:14] == "20200102030405"
        assert code(ftp, "MFMT 20201399999999 /charts/drafts/a.txt") == "501"


def test_resuming_asks_by_where_it_begins(there, ines, odile):
    """At the very end it appends, before it it overwrites, beyond it there is nothing."""
    ines.storbinary("STOR /charts/drafts/a.txt", io.BytesIO(b"more"), rest=len(TEXT))
    assert ines.size("/charts/drafts/a.txt") == len(TEXT) + 4
    with pytest.raises(ftplib.error_perm, match=r"^550"):
        ines.storbinary("STOR /charts/drafts/a.txt", io.BytesIO(b"x"), rest=3)
    assert there.refused()[-1][1] == "overwrite"
    # The rule is asked first: what is beyond the end is only told whom it would be let.
    with pytest.raises(ftplib.error_perm, match=r"^550"):
        ines.storbinary("STOR /charts/drafts/a.txt", io.BytesIO(b"x"), rest=999)
    with pytest.raises(ftplib.error_perm, match=r"^554"):
        odile.storbinary("STOR /charts/issued/sheet.pdf", io.BytesIO(b"x"), rest=999)
    got = io.BytesIO()
    ines.retrbinary("RETR /charts/drafts/a.txt", got.write, rest=len(TEXT))
    assert got.getvalue() == b"more"
    ines.storbinary("APPE /charts/drafts/a.txt", io.BytesIO(b"!"))
    ines.storbinary(
        "APPE /charts/drafts/new.txt", io.BytesIO(b"!")
    )  # where there is nothing it is an upload
    assert (
        ines.size("/charts/drafts/a.txt") == len(TEXT) + 5
        and ines.size("/charts/drafts/new.txt") == 1
    )


def test_a_name_is_made_up_where_it_is_asked_for(ines):
    ines.cwd("/charts/drafts")
    before = set(ines.nlst())
    ines.storbinary("STOU", io.BytesIO(b"x"))
    (made,) = set(ines.nlst()) - before
    assert ines.size(made) == 1


@pytest.mark.parametrize(
    ("command", "answer"),
    [
        ("NOOP", "200"),
        ("SYST", "215"),
        ("STAT", "211"),
        ("HELP", "214"),
        ("SITE HELP", "214"),
        ("ACCT x", "202"),
        ("PBSZ 0", "200"),
        ("PROT C", "200"),
        ("PROT E", "536"),
        ("TYPE A", "200"),
        ("TYPE I", "200"),
        ("TYPE E", "504"),
        ("MODE S", "200"),
        ("MODE B", "504"),
        ("STRU F", "200"),
        ("STRU R", "504"),
        ("OPTS UTF8 ON", "200"),
        ("OPTS MLST type;size;", "200"),
        ("OPTS X", "501"),
        ("PWD", "257"),
        ("CDUP", "250"),
        ("ALLO 5", "200"),
        ("REST 5", "350"),
        ("REST x", "501"),
        ("CCC", "534"),
        ("SITE EXEC ls", "502"),
        ("SITE CHMOD 777 /", "502"),
        ("ABOR", "226"),
        ("STAT /charts", "213"),
        ("RNTO /x", "503"),
        ("MKD /charts/issued/a\x7fb", "553"),
        ("MKD /charts/issued", "550"),
        ("RMD /charts/issued", "550"),
    ],
)
def test_what_is_answered(odile, command, answer):
    assert code(odile, command) == answer


def test_features_are_those_that_are_there(odile):
    """RFC 2389: what FEAT tells, and each of it is known."""
    told = {line.strip().split()[0] for line in odile.sendcmd("FEAT").splitlines()[1:-1]}
    assert told >= {
        "UTF8",
        "MLST",
        "SIZE",
        "MDTM",
        "MFMT",
        "REST",
        "EPSV",
        "EPRT",
        "AUTH",
        "PBSZ",
        "PROT",
    }


def test_beginning_anew_forgets_who_it_was(odile):
    assert code(odile, "REIN") == "220" and code(odile, "PWD") == "530"


def test_what_is_created_belongs_to_whom_it_is_set(tmp_path):
    """The setting `uploads_owner`: who put it may not delete it as its own then."""
    given = {
        "op": "change",
        "kind": "setting",
        "name": "account:kittiwake",
        "set": {"uploads_owner": "odile"},
    }
    with standing(apply(MODEL, [given]).model, tmp_path / "r") as there:
        ftp = there.ftp("kittiwake")
        ftp.storbinary("STOR /inbox/a.xyz", io.BytesIO(TEXT))
        assert set(there.stand.tree.owners.values()) == {"odile"}
        assert code(ftp, "DELE /inbox/a.xyz") == "550"
    with standing(MODEL, tmp_path / "own") as there:
        ftp = there.ftp("kittiwake")
        ftp.storbinary("STOR /inbox/a.xyz", io.BytesIO(TEXT))
        assert code(ftp, "DELE /inbox/a.xyz") == "250"
