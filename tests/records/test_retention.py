"""Removal of expired data: what goes, what stays, and that the past which is kept is unchanged."""

from datetime import UTC, datetime, timedelta
from random import Random

import pytest

from drawknife.cli.database import trim
from drawknife.core.model.items import Lockout
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import BadValue
from drawknife.formats.model_file import write_model
from drawknife.records import censuses, history, journal, rehearsals, reports, sign_ins
from drawknife.records.database import OUTDATED_BY, schema_steps
from drawknife.records.directories import Directory, record_sync, save_directory
from drawknife.records.drafts import add, begin
from drawknife.records.retention import (
    DEFAULT,
    KINDS,
    STEP,
    parse_retention,
    preview_removal,
    remove_expired,
)
from drawknife.records.snapshots import read_snapshot

from .test_history import changing, made  # noqa: F401

DAY = timedelta(days=1)
WHO = "the tests"


def remove(database, lockouts=(), **keep):
    """Remove expired data, as previewed, and nothing is left; the rows by kind.

    Kinds are given with underscores for their dashes.
    """
    retention = {**DEFAULT, **{name.replace("_", "-"): days for name, days in keep.items()}}
    preview = preview_removal(database, retention, lockouts)
    removals = remove_expired(database, retention, WHO, lockouts)
    assert removals == preview
    assert preview_removal(database, retention, lockouts) == []
    return {removal.kind.name: removal.rows for removal in removals}


def put_back(database, days_of):
    """Let each revision, with its lines, be so many days old."""
    with database.transaction() as connection:
        for revision, days in days_of.items():
            connection.execute(
                "UPDATE revisions SET at = clock_timestamp() - %s WHERE number = %s",
                (days * DAY, revision),
            )
        connection.execute(
            "UPDATE journal j SET at = r.at FROM revisions r WHERE number = revision"
        )


@pytest.mark.parametrize("seed", range(3))
def test_what_is_kept_of_the_history_is_answered_as_before(database, changing, seed):  # noqa: F811
    files = made(changing, Random(seed), 30)
    newest = read_snapshot(database)
    put_back(database, {number: 100 - number for number in range(1, newest.revision + 1)})
    horizon = newest.revision - 8
    assert remove(database, journal=100 - horizon - 1)["journal"] == horizon
    for revision, text in files.items():
        if revision >= horizon:
            assert history.as_of(database, str(revision)).revision == revision
            assert write_model(history.model_at(database, newest, revision)) == text
        else:
            for said in (str(revision), (datetime.now(UTC) - (100 - revision) * DAY).isoformat()):
                with pytest.raises(history.NotKept, match=rf"revision {horizon}\b"):
                    history.as_of(database, said)
        if revision > horizon:
            assert history.read_revision(database, revision).number == revision
        else:
            with pytest.raises(history.NotKept):
                changing.preview_back(revision)
    assert write_model(read_snapshot(database).model) == files[newest.revision]
    with pytest.raises(BadInput, match="before the first revision"):
        history.as_of(database, "2001-01-01")
    assert changing.back_to(str(horizon), newest.revision).changed is (
        files[horizon] != files[newest.revision]
    )
    assert write_model(read_snapshot(database).model) == files[horizon]


def test_that_the_history_was_shortened_is_told_and_older_services_refuse(database, changing):  # noqa: F811
    made(changing, Random(7), 12)
    put_back(database, {1: 50, 2: 49, 3: 48})
    older = [step for step in schema_steps() if step != STEP]
    outdated = f"SELECT {OUTDATED_BY}"
    assert database.read(outdated, (older,)) == [(None,)]
    assert remove(database, journal=None) == {} and history.history_start(database) is None
    assert remove(database, journal=60) == {}
    assert remove(database, journal=30)["journal"] == 3
    _, lines = journal.read_journal(database, 100)
    assert (lines[0].who, lines[0].kind) == (WHO, "other") and "before revision 3" in lines[0].what
    assert min(x.revision for x in lines if x.revision) == 4
    assert database.read(
        "SELECT count(*) FROM item_changes WHERE line NOT IN (SELECT id FROM journal)"
    ) == [(0,)]
    assert database.read(outdated, (older,)) == [(STEP,)] and database.read(
        outdated, (list(schema_steps()),)
    ) == [(None,)]


def test_what_an_open_draft_rests_on_stays(database, changing):  # noqa: F811
    made(changing, Random(9), 10)
    newest = read_snapshot(database).revision
    put_back(database, dict.fromkeys(range(1, newest + 1), 90))
    begin(database, "wish", None, "ada")
    step = {"op": "add", "kind": "account", "item": {"name": "zoe"}}
    add(database, "wish", [step], 5, "ada", administrator="ada", expected=1)
    assert remove(database, journal=30)["journal"] == 5
    assert history.history_start(database).revision == 5
    with database.transaction() as connection:
        connection.execute("DELETE FROM drafts")
    assert remove(database, journal=30)["journal"] == newest - 5 > 0


@pytest.mark.parametrize("by_time", [False, True])
def test_what_a_draft_reverts_or_restores_stays(database, changing, by_time):  # noqa: F811
    made(changing, Random(9), 12)
    newest = read_snapshot(database).revision
    put_back(database, {number: 90 - number for number in range(1, newest + 1)})
    when = database.read("SELECT at FROM revisions WHERE number = 4")[0][0].isoformat()
    steps = [{"op": "back", "revision": 6}, {"op": "back-to", "as_of": when if by_time else "4"}]
    for number, step in enumerate(steps):
        begin(database, f"wish-{number}", None, "ada")
        add(database, f"wish-{number}", [step], newest, "ada", administrator="ada", expected=1)
    assert remove(database, journal=30)["journal"] == 4
    assert changing.preview_back_to("4")
    with database.transaction() as connection:
        connection.execute("DELETE FROM drafts WHERE name = 'wish-1'")
    assert remove(database, journal=30)["journal"] == 1
    assert [x.revision for x in history.items_of(database, 6)]
    with pytest.raises(history.NotKept):
        history.read_revision(database, 5)


def test_reported_sign_ins_that_count_for_a_lockout_stay(database):
    now = datetime.now(UTC)
    days = (1, 29, 31, 44, 46)
    sign_ins.add_events(
        database,
        [sign_ins.Event(now - n * DAY, "failed", "ines", "192.0.2.1", None, None) for n in days],
    )
    long = Lockout("account", 3, within=20 * 86_400, lasts=25 * 86_400)
    assert remove(database, [long]) == {"sign-ins": 1}
    assert remove(database) == {"sign-ins": 2}
    assert remove(database, sign_ins=None) == {} and remove(database, sign_ins=1) == {"sign-ins": 2}


def test_sign_ins_to_the_console_are_kept_apart_from_the_rest_of_the_journal(database):
    for kind in ("sign-in", "other"):
        journal.note(database, "ada", f"a line of the kind {kind}", kind=kind)
    with database.transaction() as connection:
        connection.execute("UPDATE journal SET at = at - interval '400 days'")
    assert remove(database, console_sign_ins=399) == {"console-sign-ins": 1}
    assert [line.kind for line in journal.read_journal(database, 9)[1]] == ["other"]


def test_the_last_census_of_each_store_stays(database):
    now = datetime.now(UTC)
    with database.transaction() as connection:
        for store, days in (("survey", 500), ("survey", 400), ("public", 450), ("public", 3)):
            told = censuses.Census(store, now - days * DAY, "ada", "disk", 1, 1, "")
            censuses.record_census(connection, told, [("capacity", store, 1, 1)])
    assert remove(database) == {}
    assert remove(database, censuses=365) == {"censuses": 4}  # two of them, each with a level
    assert [(c.store, (now - c.at).days) for c in censuses.read_censuses(database, 9)] == [
        ("public", 3),
        ("survey", 400),
    ]
    assert {name: len(levels) for (_, name), levels in censuses.read_levels(database).items()} == {
        "survey": 1,
        "public": 1,
    }


def test_the_last_signed_report_about_each_thing_stays(database):
    numbers = [reports.add(database, about, 1, "ada", {}, None) for about in ("a", "a", "a", "b")]
    for number in numbers[:2]:
        with database.transaction() as connection:
            reports.sign(connection, number, {"summary": {"by": "ada"}, "decided": []}, b"{}")
    with database.transaction() as connection:
        connection.execute("UPDATE reports SET made = made - interval '10 days'")
    assert remove(database) == {} and remove(database, reports=9) == {"reports": 3}
    assert [r.number for r in reports.each(database)] == [numbers[1]]


def test_the_newest_lines_of_the_rehearsal_log_and_the_last_good_sync_stay(database):
    line = {"account": "ines", "endpoint": "harbour", "allowed": True}
    rehearsals.add_lines(database, None, [{**line, "session": n} for n in range(50)])
    assert remove(database, rehearsal_log=20) == {"rehearsal-log": 30}
    assert [x.line["session"] for x in rehearsals.kept_lines(database, 99)] == [*range(49, 29, -1)]
    assert remove(database, rehearsal_log=0) == {"rehearsal-log": 20}
    with database.transaction() as connection:
        save_directory(connection, Directory("crew", {}, None))
    for done in (False, True, False, False, False):
        record_sync(database, "crew", "ada", done, None, "{}")
    assert remove(database) == {} and remove(database, syncs=2) == {"syncs": 2}
    assert [done for (done,) in database.read("SELECT done FROM syncs ORDER BY at")] == [
        True,
        False,
        False,
    ]


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ("signins=3", "did you mean sign-ins?"),
        ("sign-ins", "'' is not a retention period"),
        ("sign-ins=3 weeks", "is not a retention period"),
        ("sign-ins=0", "is not a retention period"),
        ("journal=29", "is not a retention period"),
        ("syncs=9999999", "is not a retention period"),
    ],
)
def test_what_cannot_be_said_of_how_long_something_is_kept(line, told):
    with pytest.raises(BadValue) as bad:
        parse_retention([line])
    assert told in str(bad.value)


def test_the_last_line_on_a_kind_counts_and_the_help_names_every_kind_with_its_default():
    assert parse_retention(["journal=40", "journal = forever", "syncs=7"]) == {
        **DEFAULT,
        "syncs": 7,
    }
    for kind in KINDS:
        period = "forever" if kind.default is None else f"{kind.default:,} {kind.unit}"
        assert f"{kind.name:20} {period}: {kind.description}" in trim.help
