"""How a file is opened over SFTP, and what each way asks of the rules
(draft-ietf-secsh-filexfer-02).
"""

import asyncio

import asyncssh
import pytest
from tools.rehearsing import PASSWORD, at_any_hour, standing

from drawknife.formats.model_file import read_model

from ..conftest import DEMO

MODEL = at_any_hour(read_model(DEMO.read_bytes()))
DRAFT, SHEET = "/charts/drafts/a.txt", "/home/sheet.pdf"


@pytest.fixture
def there(tmp_path):
    with standing(MODEL, tmp_path / "rehearsal") as found:
        yield found


def done(there, work, account="ines"):
    """What a client's work gives; ines may put drafts and append to them, and do all at home."""

    async def all_of_it():
        options = {
            "username": account,
            "password": PASSWORD,
            "known_hosts": None,
            "client_keys": None,
        }
        async with asyncssh.connect("127.0.0.1", there.ports["lab-sftp"], **options) as connection:
            return await work(await connection.start_sftp_client())

    return asyncio.run(all_of_it())


async def put(sftp, path, data=b"0123456789"):
    async with sftp.open(path, "wb") as file:
        await file.write(data)


async def refused(work, kind=asyncssh.SFTPPermissionDenied):
    with pytest.raises(kind):
        await work


def lying(there, path):
    folder = {"/charts": "survey/charts", "/home": "homes/ines"}[path[: path.index("/", 1)]]
    return (there.stand.tree.root / folder / path.split("/", 2)[2]).read_bytes()


def test_opened_to_write_without_being_cut_each_write_asks(there):
    """After the old end it appends, which ines may; before it it overwrites, which she may not."""

    async def work(sftp):
        await put(sftp, DRAFT)
        async with sftp.open(DRAFT, asyncssh.FXF_WRITE, encoding=None) as file:
            await file.write(b"more", 10)
            await refused(file.write(b"x", 3))
        await refused(
            sftp.open(
                DRAFT, asyncssh.FXF_WRITE | asyncssh.FXF_TRUNC | asyncssh.FXF_CREAT, encoding=None
            )
        )
        async with sftp.open(
            DRAFT, asyncssh.FXF_WRITE | asyncssh.FXF_APPEND, encoding=None
        ) as file:
            await file.write(b"!")

    done(there, work)
    assert lying(there, DRAFT) == b"0123456789more!"


def test_what_may_be_overwritten_is_written_in_place(there):
    async def work(sftp):
        await put(sftp, SHEET)
        async with sftp.open(SHEET, asyncssh.FXF_READ | asyncssh.FXF_WRITE, encoding=None) as file:
            assert await file.read(4, 0) == b"0123"
            await file.write(b"xy", 3)
        async with sftp.open(SHEET, "rb") as file:
            return await file.read()

    assert done(there, work) == b"012xy56789" == lying(there, SHEET)


def test_opened_to_be_new_only_it_has_to_be(there):
    async def work(sftp):
        flags = asyncssh.FXF_WRITE | asyncssh.FXF_CREAT | asyncssh.FXF_EXCL
        async with sftp.open(SHEET, flags, encoding=None) as file:
            await file.write(b"new")
        await refused(sftp.open(SHEET, flags, encoding=None), asyncssh.SFTPFailure)
        await refused(
            sftp.open("/home/none", asyncssh.FXF_WRITE, encoding=None), asyncssh.SFTPNoSuchFile
        )
        await refused(sftp.open("/home/none", "rb"), asyncssh.SFTPNoSuchFile)

    done(there, work)
    assert lying(there, SHEET) == b"new"


def test_a_length_that_is_set_overwrites(there):
    async def work(sftp):
        await put(sftp, SHEET)
        await sftp.truncate(SHEET, 4)
        assert (await sftp.stat(SHEET)).size == 4
        await sftp.truncate(SHEET, 6)
        await put(sftp, DRAFT)
        await refused(sftp.truncate(DRAFT, 4))

    done(there, work)
    assert lying(there, SHEET) == b"0123\0\0" and lying(there, DRAFT) == b"0123456789"
    assert there.refused()[-1] == ("ines", "overwrite", DRAFT, "folder")


def test_a_rename_of_version_3_replaces_nothing(there):
    async def work(sftp):
        await put(sftp, SHEET, b"one")
        await put(sftp, "/home/other.pdf", b"two")
        await refused(sftp.rename(SHEET, "/home/other.pdf"), asyncssh.SFTPFailure)
        await sftp.posix_rename(SHEET, "/home/other.pdf")
        return await sftp.listdir("/home")

    assert "sheet.pdf" not in done(there, work) and lying(there, "/home/other.pdf") == b"one"


def test_what_is_not_there_at_all(there):
    async def work(sftp):
        await put(sftp, SHEET)
        await refused(sftp.symlink("/etc/passwd", "/home/link"), asyncssh.SFTPError)
        await refused(sftp.readlink(SHEET), asyncssh.SFTPError)
        await refused(sftp.link(SHEET, "/home/hard"), asyncssh.SFTPError)
        await refused(sftp.statvfs("/"), asyncssh.SFTPError)
        await refused(sftp.chmod(SHEET, 0o777))  # which takes set-attributes
        return await sftp.realpath("/home/../charts/./drafts")

    assert done(there, work) == "/charts/drafts"
