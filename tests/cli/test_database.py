"""The database of a service from the command line: its schema, and a backup taken while it serves."""

import stat
import threading

import psycopg
import pytest

from drawknife import __version__
from drawknife.client import Client

from ..conftest import DEMO, run, serving, until


def test_a_backup_taken_while_it_serves_is_of_one_revision_and_is_restored_whole(cluster, address, tmp_path):
    file, other = tmp_path / "all.dump", cluster.create_database("restored")
    with serving(address, tmp_path, "--load", DEMO) as service, service.client() as client:
        client.set_password("ines", "a word of her own")
        writing, stop = [], threading.Event()

        def write():
            with Client(service.url, service.token) as mine:
                while not stop.is_set():
                    writing.append(
                        mine.change([{"op": "add", "kind": "account", "item": {"name": f"n{len(writing)}"}}])
                    )

        thread = threading.Thread(target=write)
        thread.start()
        until(lambda: client.health() and (len(writing) >= 3 or not thread.is_alive()))
        done = run("database", "backup", file, environment={"DRAWKNIFE_DATABASE": address})
        stop.set()
        thread.join()
        assert done.returncode == 0 and stat.S_IMODE(file.stat().st_mode) == 0o600, done.stderr
        assert service.token.encode() not in file.read_bytes() and b"a word of her own" not in file.read_bytes()
        restored = run("database", "restore", file, "--database", other)
        assert restored.returncode == 0 and restored.stderr == f"restored {file}\n"
        with serving(other, tmp_path) as again, again.client() as there:  # with the same token
            revision = there.health().revision
            assert 4 <= revision <= client.health().revision
            assert there.dump() == client.as_of(str(revision)).dump()
            assert there.credentials("ines").password_set is not None
            kept, all_lines = (
                [(x.revision, x.what) for x in c.journal(limit=500).lines if x.revision] for c in (there, client)
            )
            assert kept == [x for x in all_lines if x[0] <= revision]
    again = run("database", "restore", file, "--database", other)
    assert again.returncode == 2 and "the database is not empty" in again.stderr


def test_the_schema_is_told_and_brought_up(address, tmp_path):
    empty = run("database", "status", "--database", address)
    assert (
        empty.returncode == 1
        and "missing  001_model.sql" in empty.stdout
        and "drawknife database migrate" in empty.stderr
    )
    done = run("database", "migrate", "--database", address)
    assert "applied 001_model.sql" in done.stderr and "the schema is up to date" in done.stderr
    assert run("database", "migrate", "--database", address).stderr == "the schema is up to date\n"
    told = run("database", "status", "--database", address)
    assert told.stdout.startswith(f"Drawknife {__version__}\n")
    assert told.returncode == 0 and "applied  001_model.sql" in told.stdout and "bytes in all" in told.stdout
    with psycopg.connect(address, autocommit=True) as connection:
        connection.execute("INSERT INTO schema_steps (name, digest) VALUES ('999_later.sql', 'x')")
    newer = run("database", "migrate", "--database", address)
    assert newer.returncode == 2 and "a newer version" in newer.stderr


@pytest.mark.parametrize("command", ["migrate", "status", "backup", "restore"])
def test_a_database_that_is_not_named_or_not_there_is_told(command, tmp_path):
    file = tmp_path / "x.dump"
    more = [file] if command in ("backup", "restore") else []
    if command == "restore":
        file.write_bytes(b"no backup")
    unnamed = run("database", command, *more)
    assert unnamed.returncode == 2 and "which database?" in unnamed.stderr
    away = run("database", command, *more, "--database", "postgresql://nobody@127.0.0.1:1/none")
    assert away.returncode == 3 and "Traceback" not in away.stderr and "127.0.0.1" in away.stderr
    nonsense = run("database", command, *more, "--database", "no address")
    assert nonsense.returncode == 3 and "postgresql://USER@HOST/NAME" in nonsense.stderr
    assert not file.with_name("x.dump.part").exists() and (command != "backup" or not file.exists())
