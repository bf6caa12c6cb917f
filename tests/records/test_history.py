"""Models of the past, the way back, and since when: held against what was kept at the time."""

from datetime import UTC, datetime, timedelta
from random import Random

import pytest

from drawknife.answers.changing import Changing
from drawknife.answers.when import turns
from drawknife.core.decide.gates import UnknownName, verdict
from drawknife.core.model import edits
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.errors import BadInput, DrawknifeError, NotFound, Refused
from drawknife.directory.reading import DirectoryContents, Person
from drawknife.directory.sync import sync
from drawknife.formats.model_file import write_model
from drawknife.formats.public_keys import read_public_key
from drawknife.records import credentials, history
from drawknife.records.changes import change_model
from drawknife.records.directories import Directory
from drawknife.records.retention import DEFAULT, remove_expired
from drawknife.records.snapshots import read_snapshot
from drawknife.records.tokens import Holder
from drawknife.service.keeping import KeptModel

from ..conftest import ROOT
from ..core.models import random_model, random_questions
from .test_edits_are_kept import random_change

KEY = (ROOT / "demo/kittiwake.pub").read_text()


class State:
    """As much of a running service as changing needs."""

    def __init__(self, database):
        self.database = database

    def snapshot(self):
        return read_snapshot(self.database)

    def prepared(self):
        found = self.snapshot()
        return found, prepare(found.model)

    def prepared_for(self, model):
        return prepare(model)

    def credentials(self, _):
        return {}

    def took(self, _):
        pass

    def past(self, as_of):
        then = history.as_of(self.database, as_of)
        newest = self.snapshot()
        return (
            type(newest)(then.revision, history.model_at(self.database, newest, then.revision)),
            then.at,
        )


@pytest.fixture
def changing(database):
    return Changing(
        KeptModel(State(database), Holder("ada", "owner", None, "ada", True)), datetime.now(UTC)
    )


CREW = Directory(
    "crew",
    {
        "address": "crew.ldif",
        "people_base": "ou=crew",
        "groups_base": "ou=crew",
        "units_base": "ou=crew",
    },
    None,
)


def synced(database, rng, snapshot):
    """A directory is read and synced: people and groups come, change, and are gone again."""
    some = rng.sample(["ada", "dee", "eve", "fay"], rng.randint(0, 3))
    people = {
        n: Person(n, rng.choice([None, n.title()]), None, rng.choice([None, "crew"]), None)
        for n in some
    }
    members = {m.Subject("account", n) for n in some}
    found = DirectoryContents(
        people, {"watch": members} if rng.random() < 0.7 else {}, {"crew"} if people else set()
    )
    sync(database, lambda _: found, CREW, "ada", 100, at_hand=snapshot)


def made(changing, rng, count):
    """Random changes, loads and syncs; the file of each revision, as it was then."""
    files = {}
    state = changing.keeper._state
    for number in range(count):
        try:
            if number % 9 == 0:
                changing.load(random_model(rng.randrange(10**6)))
            elif number % 5 == 2:
                synced(state.database, rng, state.snapshot())
            else:
                model = state.snapshot().model
                changing.change(
                    [random_change(rng, model, number) for _ in range(rng.choice([1, 1, 2, 4]))]
                )
        except DrawknifeError:
            pass
        found = state.snapshot()
        files[found.revision] = write_model(found.model)
    return files


@pytest.mark.parametrize("seed", range(4))
def test_every_revision_is_had_back_as_it_was(database, changing, seed):
    files = made(changing, Random(seed), 40)
    assert any("source: crew" in text for text in files.values())
    newest = read_snapshot(database)
    for revision, text in files.items():
        past = history.model_at(database, newest, revision)
        assert write_model(past) == text, revision
        assert sound(past) == past
    when = dict(database.read("SELECT number, at FROM revisions"))
    for revision in files:
        assert history.as_of(database, str(revision)) == (revision, when[revision])
        assert history.as_of(database, when[revision].isoformat()).revision == revision
        before = (when[revision] - timedelta(microseconds=1)).isoformat()
        if revision > 1:
            assert history.as_of(database, before).revision == revision - 1


@pytest.mark.parametrize("seed", range(4))
def test_back_of_the_last_revision_gives_the_model_before_byte_for_byte(database, changing, seed):
    rng = Random(seed + 50)
    files = made(changing, rng, 12)
    for _ in range(8):
        with database.transaction() as connection:
            for a in read_snapshot(database).model.accounts:
                if rng.random() < 0.5 and a.kind != "anonymous":
                    credentials.set_password(connection, a.name, f"secret of {a.name}", "ada")
                    credentials.add_key(connection, a.name, read_public_key(KEY), "ada")
        kept = everything(database)
        was = read_snapshot(database)
        files |= made(changing, rng, 1)
        if read_snapshot(database).revision == was.revision:
            continue
        done = changing.back(read_snapshot(database).revision)
        assert write_model(read_snapshot(database).model) == write_model(was.model) and done.changed
        assert everything(database) == kept, "credentials are as they were"


def everything(database):
    """All credentials, to the last hash."""
    return (
        sorted(database.read("SELECT account, hash, changed, changed_by FROM passwords")),
        sorted(
            database.read(
                "SELECT account, fingerprint, kind, body, comment, added, added_by FROM public_keys"
            )
        ),
    )


@pytest.mark.parametrize("seed", range(3))
def test_back_to_any_revision(database, changing, seed):
    rng = Random(seed + 90)
    files = made(changing, rng, 20)
    for revision in rng.sample(sorted(files), 4):
        shown = changing.preview_back_to(str(revision))
        now = read_snapshot(database)
        done = changing.back_to(str(revision), now.revision)
        assert write_model(read_snapshot(database).model) == files[revision]
        assert (done.item_count, done.items) == (shown.item_count, shown.items)
        assert done.changed is (write_model(now.model) != files[revision])


DEMO_CHANGES = [
    {
        "op": "change",
        "kind": "folder",
        "name": "survey:/charts",
        "add": {"entries": ["deny group:partners download"]},
    },
    {"op": "rename", "kind": "account", "name": "ines", "to": "inez"},
    {"op": "remove", "kind": "account", "name": "yuki", "everywhere": True},
    {"op": "change", "kind": "account", "name": "inez", "set": {"display": "Inês C."}},
]


@pytest.fixture
def harbour(database, changing, demo):
    changing.load(demo)
    with database.transaction() as connection:
        for name in ("ines", "yuki"):
            credentials.set_password(connection, name, f"secret of {name}", "ada")
    for change in DEMO_CHANGES:
        changing.change([change])
    return changing


def test_an_older_revision_is_undone_on_the_model_of_today(database, harbour):
    shown = harbour.preview_back(4)
    assert {s.endpoint for s in shown.sign_in if s.may and s.accounts == ["yuki"]} >= {"harbour"}, (
        "its password comes back"
    )
    removed = harbour.back(4)
    assert [x.name for x in removed.items if x.section == "accounts"] == ["yuki"]
    assert credentials.is_right(database, "yuki", "secret of yuki") and credentials.is_right(
        database, "inez", "secret of ines"
    )
    assert any("yuki" in line for line in removed.followed)
    harbour.back(2)
    model = read_snapshot(database).model
    assert {a.name for a in model.accounts} >= {"inez", "yuki"}
    assert "deny group:partners download" not in write_model(model)


def test_what_something_later_touched_is_not_undone_and_that_is_named(database, harbour):
    before = write_model(read_snapshot(database).model)
    with pytest.raises(edits.ChangeRefused) as refused:
        harbour.back(3)
    assert "accounts inez was touched later, by revision 5" in [
        p.message for p in refused.value.problems
    ]
    assert write_model(read_snapshot(database).model) == before
    # Unless what it would write is there already.
    harbour.change(
        [{"op": "change", "kind": "account", "name": "inez", "set": {"display": "Inês Calado"}}]
    )
    assert harbour.back(5).changed is False


def test_credentials_come_back_under_the_name_that_the_account_had(database, harbour):
    harbour.change([{"op": "remove", "kind": "account", "name": "inez", "everywhere": True}])
    harbour.back_to("2")
    assert credentials.is_right(database, "ines", "secret of ines") and credentials.is_right(
        database, "yuki", "secret of yuki"
    )
    assert not credentials.is_right(database, "inez", "secret of ines")


def test_after_thirty_days_credentials_are_gone(database, harbour):
    with database.transaction() as connection:
        connection.execute("UPDATE kept_credentials SET at = at - interval '31 days'")
    harbour.change([{"op": "remove", "kind": "account", "name": "bram", "everywhere": True}])
    with database.transaction() as connection:
        credentials.set_password(connection, "odile", "x" * 9, "ada")
    harbour.change([{"op": "remove", "kind": "account", "name": "odile", "everywhere": True}])
    remove_expired(database, DEFAULT, "ada")
    harbour.back_to("2")
    assert not credentials.is_right(database, "yuki", "secret of yuki")
    assert credentials.is_right(database, "odile", "x" * 9)


@pytest.mark.parametrize(
    ("as_of", "error", "told"),
    [
        ("99", NotFound, "there is no revision '99'"),
        ("0", NotFound, "there is no revision '0'"),
        ("yesterday", BadInput, "is no revision and no time"),
        ("2001-01-01", BadInput, "is before the first revision"),
        ("2999-01-01", BadInput, "lies ahead"),
        ("9" * 40, NotFound, "there is no revision"),
    ],
)
def test_what_is_no_past_is_told(database, harbour, as_of, error, told):
    with pytest.raises(error, match=told):
        history.as_of(database, as_of)


def test_a_revision_that_is_no_change_of_the_model_and_one_that_is_not_there(database, harbour):
    change_model(
        database,
        lambda model, _: model,
        "ada",
        "set the password of bram",
        even_if_same=True,
        beside=[("credentials", "bram", None, "set")],
    )
    with pytest.raises(Refused, match="changed nothing of the model"):
        harbour.back(read_snapshot(database).revision)
    with pytest.raises(NotFound):
        harbour.back(77)


def test_what_an_older_version_only_counted_cannot_be_had_back(database, harbour):
    with database.transaction() as connection:
        connection.execute(
            "DELETE FROM item_changes WHERE line = (SELECT id FROM journal WHERE revision = 3)"
        )
        connection.execute(
            "UPDATE journal SET before = '{\"accounts\": 3}', after = '{\"accounts\": 4}' WHERE"
            " revision = 3"
        )
    newest = read_snapshot(database)
    assert history.model_at(database, newest, 3)
    for revision in (1, 2):
        with pytest.raises(history.NotKept, match="revision 3 was made by an older version"):
            history.model_at(database, newest, revision)


# --- since when ---------------------------------------------------------------------------------


def asked(model, question, at):
    try:
        return verdict(prepare(model), question, at).allowed
    except UnknownName:
        return None


@pytest.mark.parametrize("seed", range(3))
def test_each_turn_is_where_the_verdict_turns(database, changing, seed):
    """Held against the whole model of every revision, one after the other."""
    rng = Random(seed + 7)
    files = made(changing, rng, 25)
    newest = read_snapshot(database)
    when = dict(database.read("SELECT number, at FROM revisions"))
    now = datetime.now(UTC)
    models = {r: history.model_at(database, newest, r) for r in files}
    renamed = history.renames_since(database, 0)
    for question in random_questions(seed, newest.model, 60):
        known = {a.name for a in newest.model.accounts}
        if question.account not in known or (
            question.owner is not None and question.owner not in known
        ):
            continue
        if question.endpoint is not None or question.size is not None:
            continue
        question = Question(
            question.account, question.action, question.path, question.to, question.thing
        )
        if any(new == question.account for kind, _, new in renamed if kind == "account"):
            continue
        steps, folders, groups = history.steps_for(database, newest, question)
        found = turns(newest.model, question, steps, folders, groups, begins=when[1], now=now)
        expected = []
        for revision in sorted(models):
            bare = m_without_limits(models[revision])
            allowed = asked(bare, question, when[revision])
            if not expected or expected[-1][1] is not allowed:
                expected.append((revision, allowed))
        first = [] if expected[0][1] is None else [(None, None)]
        told = [(t.by.revision if t.by else None, t.allowed) for t in reversed(found)]
        assert [x for x in told if x[0] is not None] == [x for x in expected if x not in first][
            -len([x for x in told if x[0] is not None]) :
        ]
        assert found[0].allowed is expected[-1][1]


def m_without_limits(model):
    from dataclasses import replace

    return replace(
        model,
        quotas=(),
        usage=(),
        stores=tuple(replace(s, capacity=None) for s in model.stores),
        settings=tuple(replace(s, values=()) for s in model.settings),
    )


def test_a_turn_names_the_change_that_made_it_or_the_day(database, changing):
    base = sound(
        m.Model(
            accounts=(m.Account("ada"), m.Account("bo")),
            stores=(m.Store("s", folders=(m.Folder("/"),)),),
            virtual_paths=(m.VirtualPath("/x", "s:/", grants=(m.parse_grant("signed-in all"),)),),
        )
    )
    changing.load(base)
    changing.change(
        [
            {
                "op": "change",
                "kind": "folder",
                "name": "s:/",
                "add": {"entries": ["allow account:ada read until 2026-11-20"]},
            }
        ]
    )
    changing.change([{"op": "rename", "kind": "account", "name": "ada", "to": "ida"}])
    changing.change([{"op": "change", "kind": "account", "name": "bo", "set": {"display": "Bo"}}])
    changing.change(
        [{"op": "add", "kind": "group", "item": {"name": "others", "members": ["account:bo"]}}]
    )
    start = datetime(2026, 11, 18, 9, tzinfo=UTC)
    with database.transaction() as connection:
        for table in ("revisions", "journal"):
            number = "number" if table == "revisions" else "revision"
            connection.execute(
                f"UPDATE {table} SET at = %s + {number} * interval '1 hour'", (start,)
            )
    newest = read_snapshot(database)
    question = Question("ida", "download", "/x/a")
    steps, folders, groups = history.steps_for(database, newest, question)
    assert [s.revision for s in steps] == [3, 2, 1], "what bo is called, and is in, does not count"
    begins, now = start + timedelta(hours=1), datetime(2026, 11, 26, tzinfo=UTC)
    found = turns(newest.model, question, steps, folders, groups, begins=begins, now=now)
    assert [(t.allowed, t.by and t.by.revision) for t in found] == [
        (False, None),
        (True, 2),
        (False, 1),
        (None, None),
    ]
    assert found[0].at == datetime(2026, 11, 21, tzinfo=UTC) and found[1].by.who == "ada"


@pytest.mark.parametrize("thing", ["file", "folder"])
def test_a_folder_below_where_something_is_to_be_moved_counts(database, changing, thing):
    """There is one then, and what is moved takes another name."""
    changing.change(
        [
            {"op": "add", "kind": "store", "item": {"name": "s", "baseline": "open"}},
            {"op": "add", "kind": "account", "item": {"name": "ada"}},
            {
                "op": "add",
                "kind": "virtual-path",
                "item": {"path": "/x", "leads_to": "s:/", "grants": ["anyone all"]},
            },
            {"op": "add", "kind": "folder", "name": "s:/a", "item": {}},
        ]
    )
    changing.change([{"op": "add", "kind": "folder", "name": "s:/elsewhere/deep", "item": {}}])
    changing.change([{"op": "add", "kind": "folder", "name": "s:/b/deep", "item": {}}])
    changing.change([{"op": "remove", "kind": "folder", "name": "s:/b/deep"}])
    changing.change([{"op": "add", "kind": "folder", "name": "s:/b/deeper", "item": {}}])
    newest = read_snapshot(database)
    question = Question("ada", "rename", "/x/a", to="/x/b", thing=thing)
    steps, folders, groups = history.steps_for(database, newest, question)
    assert [s.revision for s in steps] == [5, 4, 3, 1]
    found = turns(
        newest.model, question, steps, folders, groups, begins=steps[-1].at, now=datetime.now(UTC)
    )
    assert [(t.allowed, t.by and t.by.revision) for t in found][:4] == [
        (False, 5),
        (True, 4),
        (False, 3),
        (True, 1),
    ]
