"""The model in PostgreSQL: what is written is read back, changes are whole, and told."""

import threading
from dataclasses import replace
from pathlib import Path

import psycopg
import pytest

from drawknife.core.model.items import parse_entry, parse_subject
from drawknife.core.words.errors import Conflict
from drawknife.formats.model_file import read_model
from drawknife.records import administrators, changes, tokens
from drawknife.records.changes import replace_model
from drawknife.records.database import (
    Database,
    SchemaProblem,
    Unavailable,
    bring_up_to_date,
    schema_steps,
)
from drawknife.records.journal import note, note_followed, read_journal, read_line
from drawknife.records.snapshots import EMPTY, read_snapshot

from ..core.models import random_model

HERE = Path(__file__).parent


def test_any_model_is_read_back_and_brought_forward(database):
    before = EMPTY
    for seed in range(25):
        model = random_model(seed)
        written = replace_model(database, model, "ada", "load", before=before if seed % 2 else None)
        assert without_clocks(read_snapshot(database).model) == without_clocks(model)
        forward = read_snapshot(database, before)
        assert forward == written
        before = forward


def without_clocks(model):
    """What a service keeps by itself: since when a quota is above its soft limit."""
    return replace(
        model,
        quotas=tuple(
            replace(q, bytes_over_since=None, files_over_since=None) for q in model.quotas
        ),
    )


def test_a_small_change_writes_and_reads_little(database, demo):
    before = replace_model(database, demo, "ada", "load")
    folder = demo.stores[2].folders[1]
    changed = replace(folder, entries=(*folder.entries, parse_entry("deny anyone rename")))
    replace_model(database, demo.with_folder("survey", changed), "bo", "entry add", before=before)
    assert database.read("SELECT changed FROM revisions WHERE number = 2") == [
        (["folder:survey:/archive"],)
    ]
    after = read_snapshot(database, before)
    assert after.model.accounts is before.model.accounts
    assert after.model.stores[0] is before.model.stores[0]
    kept = [
        a is b
        for a, b in zip(after.model.stores[2].folders, before.model.stores[2].folders, strict=True)
    ]
    assert kept.count(False) == 1


def test_the_journal_tells_who_what_and_when(database, demo):
    replace_model(database, demo, "ada", "load")
    replace_model(database, demo, "bo", "load")  # says the same: no new revision
    replace_model(database, replace(demo, quotas=()), "bo", "load")
    total, lines = read_journal(database, 10)
    assert total == 2
    assert [(x.revision, x.who, x.what) for x in lines] == [(2, "bo", "load"), (1, "ada", "load")]
    gone = {name: (before is not None, after) for section, name, before, after in lines[0].items}
    assert (
        gone == dict.fromkeys(("issued-charts", "lab-pool", "tides-shelf"), (True, None))
        and lines[0].item_count == 3
    )
    # Of a large change a list tells the first items; with the revision by itself all are had, and
    # none only counted.
    assert len(lines[1].items) == 50 < lines[1].item_count
    whole = read_line(database, 1, 10_000)
    assert len(whole.items) == whole.item_count and not any(
        before for _, _, before, _ in whole.items
    )
    assert {name for section, name, *_ in whole.items if section == "accounts"} == {
        a.name for a in demo.accounts
    }
    assert [x[1] for x in read_line(database, 1, 3, 5).items] == [x[1] for x in whole.items[5:8]]
    assert read_line(database, 9, 1) is None


def test_what_is_no_change_of_the_model_has_a_line_too(database, demo):
    replace_model(database, demo, "ada", "load")
    note(database, "bo", "lift the lock of account ines")
    note_followed(database, 1, ["new: ines"])
    total, lines = read_journal(database, 10)
    assert total == 2 and [(x.revision, x.who) for x in lines] == [(None, "bo"), (1, "ada")]
    assert [x.followed for x in lines] == [None, ["new: ines"]]


def old_database(address, upto="004"):
    """A database as the version before made it: its schema files only, and none of
    their digests.
    """
    with psycopg.connect(address, autocommit=True) as connection:
        connection.execute(
            "CREATE TABLE schema_steps (name text PRIMARY KEY, at timestamptz NOT NULL DEFAULT"
            " now())"
        )
        for name, (raw, _) in schema_steps().items():
            if name[:3] <= upto:
                connection.execute(raw)
                connection.execute("INSERT INTO schema_steps (name) VALUES (%s)", (name,))


def test_a_database_of_the_version_before_opens_with_nothing_lost(address):
    old_database(address)
    with psycopg.connect(address, autocommit=True) as connection:
        for statement in (
            "INSERT INTO revisions (number, changed) VALUES (1, '{accounts}'), (2, '{endpoints}')",
            (
                "INSERT INTO journal (revision, who, what, before, after) VALUES (1, 'ada', 'load',"
                " '{}', '{\"accounts\": 60}'), (2, 'bo', 'edit', '{}', '{\"endpoints\": {\"pier\":"
                ' {"port": 21}}}\')'
            ),
            (
                "INSERT INTO accounts VALUES ('ada', 'ada', 'person', NULL, NULL, NULL, NULL, NULL,"
                " true, NULL, '{key}', 'local')"
            ),
            (
                "INSERT INTO endpoints VALUES ('pier', 'pier', 'sftp', '0.0.0.0', 22, NULL, NULL,"
                " NULL, '{}', true), ('quay', 'quay', 'sftp', '0.0.0.0', 23, NULL, NULL, NULL,"
                " '{}', true)"
            ),
            "INSERT INTO endpoint_lists VALUES ('pier', 'only', 'account', 'ada')",
            "INSERT INTO network_lines VALUES ('openings', '198.51.100.5 22 from 2001:db8::/32')",
        ):
            connection.execute(statement)
    assert bring_up_to_date(address) == [n for n in schema_steps() if n[:3] > "004"]
    assert bring_up_to_date(address) == []
    database = Database(address)
    database.open()
    model = read_snapshot(database).model
    assert [e.only for e in model.endpoints] == [(parse_subject("account:ada"),), None]
    assert str(model.openings[0]) == "198.51.100.5 22 from 2001:db8::/32", (
        "a line that would be a mistake now is kept"
    )
    _, lines = read_journal(database, 10)
    assert lines[0].items == [("endpoints", "pier", None, {"port": 21})]
    assert lines[1].items == [("accounts", "0 → 60", "counted", "counted")]
    after = replace_model(database, replace(model, openings=()), "ada", "networks")
    assert (
        after.revision == 3
        and read_journal(database, 1)[1][0].items[0][1] == "198.51.100.5 22 from 2001:db8::/32"
    )
    database.close()


def test_items_that_were_rows_of_many_tables_are_the_same_as_documents(address):
    """A whole model of the demo's size, kept by the schema before, is what it was, also when it is
    changed afterwards.
    """
    old_database(address, "005")
    with psycopg.connect(address, autocommit=True) as connection:
        connection.execute((HERE / "before_items.sql").read_bytes())
    expected = read_model((HERE / "before_items.yaml").read_bytes())
    bring_up_to_date(address)
    database = Database(address)
    database.open()
    before = read_snapshot(database)
    assert before.model == expected and before.revision == 1
    # What is changed then takes the place of the rows that were carried over.
    endpoints = tuple(replace(e, enabled=False) for e in expected.endpoints)
    other = replace(
        expected, endpoints=endpoints, quotas=(), virtual_paths=expected.virtual_paths[1:]
    )
    after = replace_model(database, other, "ada", "less", before=before)
    assert read_snapshot(database).model == other == after.model
    database.close()


def test_a_newer_schema_and_one_that_was_changed_are_refused(address):
    bring_up_to_date(address)
    with psycopg.connect(address, autocommit=True) as connection:
        connection.execute("UPDATE schema_steps SET digest = 'x' WHERE name LIKE '002%'")
        with pytest.raises(
            SchemaProblem, match=r"002_tokens.sql was changed after it had been applied"
        ):
            bring_up_to_date(address)
        connection.execute("UPDATE schema_steps SET digest = NULL")
        bring_up_to_date(address)
        connection.execute("INSERT INTO schema_steps (name) VALUES ('999_later.sql')")
    with pytest.raises(SchemaProblem, match=r"999_later.sql by a newer version"):
        bring_up_to_date(address)


def test_a_change_for_another_revision_is_a_conflict(database, demo):
    replace_model(database, demo, "ada", "load", expected=0)
    with pytest.raises(Conflict):
        replace_model(database, replace(demo, usage=()), "bo", "load", expected=0)
    assert read_snapshot(database).model == demo


def test_of_two_changes_for_one_revision_one_is_made(database, demo):
    replace_model(database, demo, "ada", "load")
    outcomes = []

    def change(model):
        try:
            outcomes.append(replace_model(database, model, "x", "load", expected=1).revision)
        except Conflict:
            outcomes.append("conflict")

    rivals = [
        threading.Thread(target=change, args=(m,))
        for m in (replace(demo, usage=()), replace(demo, quotas=()))
    ]
    for rival in rivals:
        rival.start()
    for rival in rivals:
        rival.join()
    assert sorted(map(str, outcomes)) == ["2", "conflict"]


def test_a_load_that_breaks_off_changes_nothing(database, demo, monkeypatch):
    replace_model(database, demo, "ada", "load")
    real = changes._copy

    def breaks(connection, table, rows):
        if table.name == "items":
            raise RuntimeError("the power went")
        return real(connection, table, rows)

    monkeypatch.setattr(changes, "_copy", breaks)
    with pytest.raises(RuntimeError):
        replace_model(database, random_model(3), "ada", "load")
    assert read_snapshot(database) == (read_snapshot(database, read_snapshot(database)))
    assert read_snapshot(database).model == demo and read_journal(database, 5)[0] == 1


def test_services_that_start_at_once_do_not_collide(address):
    applied = []
    starters = [
        threading.Thread(target=lambda: applied.append(bring_up_to_date(address))) for _ in range(4)
    ]
    for starter in starters:
        starter.start()
    for starter in starters:
        starter.join()
    assert sorted(map(len, applied)) == [0, 0, 0, len(schema_steps())]


def test_tokens_are_kept_as_digests_only(database):
    administrators.ensure_owner(database, "ada")
    token = tokens.make_token(database, "ada")
    assert tokens.holder(database, token) == (
        "ada",
        "owner",
        None,
        "ada",
        False,
        None,
        None,
        "area",
    )
    assert tokens.holder(database, token + "x") is None
    kept = database.read("SELECT digest, name FROM tokens")
    assert token.encode() not in bytes(kept[0][0])
    changes_seen = "SELECT last_value FROM token_changes"
    before = database.read(changes_seen)
    tokens.revoke(database, token)
    assert tokens.holder(database, token) is None and database.read(changes_seen) > before


def test_a_sign_in_code_is_good_once_and_is_no_token(database):
    from datetime import timedelta

    administrators.ensure_owner(database, "ada")
    code = tokens.make_token(database, "ada", "code", timedelta(minutes=1))
    assert tokens.holder(database, code) is None
    assert tokens.spend_code(database, code) == "ada"
    assert tokens.spend_code(database, code) is None
    late = tokens.make_token(database, "ada", "code", timedelta(seconds=-1))
    assert tokens.spend_code(database, late) is None


def test_a_database_that_is_not_there_is_said_to_be_away():
    nowhere = "postgresql://nobody:x@127.0.0.1:1/none"
    with pytest.raises(Unavailable):
        bring_up_to_date(nowhere)
    database = Database(nowhere)
    database._pool.timeout = 0.2
    database.open()
    with pytest.raises(Unavailable):
        database.read("SELECT 1")
    database.close()


def test_the_tables_hold_what_they_should(database):
    with database.connection() as connection, pytest.raises(psycopg.errors.CheckViolation):
        connection.execute(
            "INSERT INTO accounts VALUES ('a', 'a', 'robot', NULL, NULL, NULL, NULL, NULL, true,"
            " NULL, '{}', 'local')"
        )


def test_from_any_older_snapshot_one_comes_to_the_newest(database, demo):
    """However a service comes to a revision, by each one or by leaps, it has the same model."""
    from random import Random

    from drawknife.core.model.canonical import sound

    rng = Random(11)
    snapshots = [replace_model(database, demo, "ada", "load")]
    model = demo
    for _ in range(12):
        kind = rng.choice(["entry", "folder", "seal", "group", "account", "store"])
        store = rng.choice(model.stores)
        folder = rng.choice(store.folders)
        if kind == "entry":
            line = parse_entry(
                f"{rng.choice(['allow', 'deny'])} anyone {rng.choice(['read', 'rename', 'all'])}"
            )
            model = model.with_folder(store.name, replace(folder, entries=(*folder.entries, line)))
        elif kind == "folder":
            model = model.with_folder(
                store.name,
                replace(folder, path=f"{folder.path.rstrip('/')}/new-{rng.randrange(99)}"),
            )
        elif kind == "seal":
            model = model.with_folder(store.name, replace(folder, sealed=not folder.sealed))
        elif kind == "group":
            model = replace(
                model,
                groups=tuple(
                    g for g in model.groups if g.name != "night-watch" or rng.random() < 0.5
                ),
            )
        elif kind == "account":
            model = replace(
                model,
                accounts=tuple(replace(a, enabled=rng.random() < 0.5) for a in model.accounts),
            )
        else:
            model = replace(
                model,
                stores=tuple(replace(s, capacity=rng.randrange(1 << 40)) for s in model.stores),
            )
        model = sound(model)
        snapshots.append(replace_model(database, model, "ada", kind, before=rng.choice(snapshots)))
    for older in [EMPTY, *snapshots]:
        assert read_snapshot(database, older).model == model


def test_a_store_and_its_folders_come_and_go(database, demo):
    before = replace_model(database, demo, "ada", "load")
    fewer = replace(demo, stores=demo.stores[:1], virtual_paths=(), quotas=(), usage=())
    gone = replace_model(database, fewer, "ada", "load", before=before)
    assert read_snapshot(database, before).model == fewer
    replace_model(database, demo, "ada", "load", before=gone)
    assert read_snapshot(database, gone).model == demo == read_snapshot(database).model


def test_many_changed_folders_are_read_again_as_a_whole(database):
    from drawknife.core.model.items import Folder, Model, Store

    def made(sealed):
        folders = tuple(Folder(f"/d{i:04}", None, sealed) for i in range(1500))
        return Model(stores=(Store("s", folders=folders),))

    before = replace_model(database, made(False), "ada", "load")
    replace_model(database, made(True), "ada", "load", before=before)
    assert database.read("SELECT changed FROM revisions WHERE number = 2") == [(["folders:s"],)]
    assert read_snapshot(database, before).model == made(True)


def test_a_pool_that_stands_still_gives_way_to_a_new_one(database, monkeypatch):
    from psycopg_pool import PoolTimeout

    stuck = database._pool

    def nothing(*_, **__):
        raise PoolTimeout("couldn't get a connection after 6.00 sec")

    monkeypatch.setattr(stuck, "getconn", nothing)
    assert database.read("SELECT 1") == [(1,)] and database._pool is not stuck
    assert database.read("SELECT 2") == [(2,)]
    stuck.close()


def test_without_a_pool_nothing_runs_beside(address):
    """A process that forks afterwards must have no thread: what that holds would be held in the new
    one for ever.
    """
    bring_up_to_date(address)
    before = set(threading.enumerate())
    database = Database(address, size=0)
    database.open()
    replace_model(database, read_model("drawknife: 1\naccounts: [{name: ada}]"), "olga", "load")
    assert read_snapshot(database).model.accounts[0].name == "ada"
    with pytest.raises(psycopg.errors.DivisionByZero), database.transaction() as connection:
        connection.execute("DELETE FROM accounts")
        connection.execute("SELECT 1 / 0")
    assert database.read("SELECT name FROM accounts") == [("ada",)]
    assert set(threading.enumerate()) == before
    database.close()
    with pytest.raises(Unavailable):
        Database("postgresql://x@127.0.0.1:1/x", size=0).read("SELECT 1")
