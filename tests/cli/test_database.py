"""The database of a service from the command line: its schema, and a backup taken while
it serves.
"""

import stat
import threading

import psycopg
import pytest

from drawknife import __version__
from drawknife.client import Client, ClientError

from ..conftest import DEMO, run, serving, until


def test_a_backup_taken_while_it_serves_is_of_one_revision_and_is_restored_whole(
    cluster, address, tmp_path
):
    file, other = tmp_path / "all.dump", cluster.create_database("restored")
    with serving(address, tmp_path, "--load", DEMO) as service, service.client() as client:
        client.set_password("ines", "a word of her own")
        writing, stop = [], threading.Event()

        def write():
            with Client(service.url, service.token) as mine:
                while not stop.is_set():
                    writing.append(
                        mine.change(
                            [{"op": "add", "kind": "account", "item": {"name": f"n{len(writing)}"}}]
                        )
                    )

        thread = threading.Thread(target=write)
        thread.start()
        until(lambda: client.health() and (len(writing) >= 3 or not thread.is_alive()))
        done = run("database", "backup", file, environment={"DRAWKNIFE_DATABASE": address})
        stop.set()
        thread.join()
        assert done.returncode == 0 and stat.S_IMODE(file.stat().st_mode) == 0o600, done.stderr
        assert (
            service.token.encode() not in file.read_bytes()
            and b"a word of her own" not in file.read_bytes()
        )
        restored = run("database", "restore", file, "--database", other)
        assert restored.returncode == 0 and restored.stderr.startswith(f"restored {file}\n")
        with serving(other, tmp_path) as again, again.client() as there:  # with the same token
            revision = there.health().revision
            assert 4 <= revision <= client.health().revision
            assert there.dump() == client.as_of(str(revision)).dump()
            assert there.credentials("ines").password_set is not None
            kept, all_lines = (
                [(x.revision, x.what) for x in c.journal(limit=500).lines if x.revision]
                for c in (there, client)
            )
            assert kept == [x for x in all_lines if x[0] <= revision]
    again = run("database", "restore", file, "--database", other)
    assert again.returncode == 2 and "the database is not empty" in again.stderr


def test_a_machine_that_is_lost_is_set_up_again_on_another_with_its_key_and_tokens(
    cluster, address, tmp_path
):
    """The key that decrypts the passwords of directories is kept apart from the backup, and both
    commands say so.
    """
    here, there = tmp_path / "here", tmp_path / "there"
    here.mkdir()
    there.mkdir()
    options = {
        "address": "ldap://127.0.0.1:1",
        "people_base": "dc=x",
        "bind_name": "cn=reader,dc=x",
    }
    with (
        serving(address, here, "--load", DEMO, "--key-file", here / "key") as service,
        service.client() as client,
    ):
        client.add_directory("staff", options, "a bind password")
        watcher = client.make_token("watcher", "reader").token
        client.set_password("ines", "a word of her own")
    config = there / "drawknife.toml"
    config.touch(mode=0o600)
    other = cluster.create_database("another_machine")
    config.write_text(f'database = "{address}"\nkey_file = "{here / "key"}"\n')
    done = run("database", "backup", there / "all.dump", "--config", config)
    assert (
        done.returncode == 0
        and f"the key to the passwords of staff. Keep a copy of {here / 'key'}" in done.stderr
    )
    assert b"a bind password" not in (there / "all.dump").read_bytes()
    config.write_text(f'database = "{other}"\nkey_file = "{there / "key"}"\n')
    done = run("database", "restore", there / "all.dump", "--config", config)
    assert (
        done.returncode == 0
        and f"passwords of staff is another one, or missing: copy it to {there / 'key'}"
        in done.stderr
    )
    (there / "key").write_bytes((here / "key").read_bytes())
    # With the key, and without the token file: nobody's token ends by it, and a new owner's token
    # is made.
    with serving(other, there, "--key-file", there / "key") as service, service.client() as owner:
        assert any("tokens from before still work" in line for line in service.said)
        assert owner.directory("staff").has_password
        with Client(service.url, watcher) as program:
            assert (
                program.health().revision == owner.health().revision and program.access("ines").rows
            )
        old = (here / "token").read_text().strip()
        with Client(service.url, old) as first:
            assert first.access("ines").rows
    # The next start without the file is as ever: whoever deletes it means to end what was before.
    (there / "token").unlink()
    with (
        serving(other, there, "--key-file", there / "key") as service,
        Client(service.url, old) as first,
        pytest.raises(ClientError),
    ):
        first.access("ines")


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
    assert (
        told.returncode == 0
        and "applied  001_model.sql" in told.stdout
        and "bytes in all" in told.stdout
    )
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


def test_the_history_is_removed_where_that_was_said_and_commands_say_what_is_missing(
    address, tmp_path
):
    where = {"DRAWKNIFE_DATABASE": address}
    with (
        serving(address, tmp_path, "--load", DEMO, "--keep", "journal=forever") as service,
        service.client() as client,
    ):
        for name in ("zoe", "zac"):
            client.change([{"op": "add", "kind": "account", "item": {"name": name}}])
        with psycopg.connect(address) as connection:
            connection.execute(
                "UPDATE revisions SET at = at - interval '50 days' WHERE number <= 2"
            )
            connection.execute(
                "UPDATE journal SET at = at - interval '50 days' WHERE revision <= 2"
            )
        asked = run("database", "trim", "--keep", "journal=40", environment=where, given="n\n")
        assert (
            asked.returncode == 0
            and "history before revision 2" in asked.stdout
            and "removed" not in asked.stderr
        )
        assert (
            run("database", "trim", "--keep", "journal=40 weeks", environment=where).returncode == 2
        )
        assert client.as_of("1").dump() != client.as_of("2").dump()
        done = run("database", "trim", "--keep", "journal=40", "--yes", environment=where)
        assert "removed: journal" in done.stderr
        again = run("database", "trim", "--keep", "journal=40", "--yes", environment=where)
        assert (again.stdout, again.stderr) == ("", "Nothing has expired.\n")
        with pytest.raises(ClientError, match="Revision 1 was removed"):
            client.as_of("1").dump()
        assert (
            "name: zoe" in client.as_of("2").dump() and "name: zac" not in client.as_of("2").dump()
        )
        with pytest.raises(ClientError, match="starts with the model of revision 2"):
            client.journal_line(2)
        told = run("when", "ines", "list", "/charts", environment=service.environment)
        assert "or earlier" in told.stdout and "before revision 2 was removed" in " ".join(
            told.stdout.split()
        )
    with psycopg.connect(address) as connection:
        connection.execute("UPDATE revisions SET at = at - interval '45 days' WHERE number = 3")
        connection.execute("UPDATE journal SET at = at - interval '45 days' WHERE revision = 3")
    with serving(address, tmp_path, "--keep", "journal=40") as service, service.client() as client:
        until(lambda: "before revision 3" in client.journal().lines[0].what)
        assert client.journal().lines[0].who == "drawknife serve"
