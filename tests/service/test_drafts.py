"""Drafts: filled, asked of, shown against today, applied as one change; by whom, and what becomes
of two at once.
"""

import json
from concurrent.futures import ThreadPoolExecutor
from random import Random

import pytest

from drawknife.client import Client, Refused
from drawknife.core.words.errors import DrawknifeError
from drawknife.formats.model_file import read_model

from ..conftest import DEMO, run, serving
from ..core.changes import random_change
from ..core.models import random_model
from .people import refused, signed_in


def change(kind, name, **what):
    return {"op": "change", "kind": kind, "name": name, **what}


JOIN = change("group", "night-watch", add={"members": ["account:refa"]})
OPEN = change("folder", "survey:/charts", add={"entries": ["allow account:refa read tree"]})
SHUT = change("endpoint", "harbour", set={"enabled": False})


@pytest.fixture(scope="module")
def own(cluster, tmp_path_factory):
    with serving(
        cluster.create_database("drafts"), tmp_path_factory.mktemp("drafts"), "--load", str(DEMO)
    ) as service:
        with service.client() as owner:
            for name, role in (("edda", "editor"), ("dirk", "drafter"), ("dora", "drafter")):
                owner.add_administrator(name, role)
        service.tokens = {name: signed_in(service, name) for name in ("edda", "dirk", "dora")}
        yield service


@pytest.fixture
def owner(own):
    with own.client() as client:
        client.load(DEMO.read_bytes())
        for draft in client.drafts().drafts:
            client.drop_draft(draft.name)
        yield client


# --- filled and asked of ------------------------------------------------------------------------


def test_a_draft_answers_as_it_would_be_and_nothing_is_in_force(owner):
    before = owner.dump()
    written = owner.add_to_draft("spring", [JOIN, SHUT])
    assert written.begun and written.steps == 2 and written.would
    assert owner.dump() == before
    drafted = owner.in_draft("spring")
    assert "group:night-watch" in {x.subject for x in drafted.standing("refa").standing}
    assert not drafted.decide(
        {"account": "ines", "action": "sign-in", "endpoint": "harbour"}
    ).allowed
    assert drafted.dump() != before
    asked = owner.draft("spring").preview
    preview = owner.preview([JOIN, SHUT])
    assert asked == preview  # told as the same changes are, against today
    assert owner.apply_draft("spring").item_count == 2
    assert owner.dump() == drafted_dump(owner, before)
    assert "spring" not in {d.name for d in owner.drafts().drafts}


def drafted_dump(owner, before):
    """The same changes made one by one, on what there was."""
    now = owner.dump()
    owner.load(before.encode())
    for one in (JOIN, SHUT):
        owner.change([one])
    one_by_one = owner.dump()
    assert one_by_one == now
    return one_by_one


def test_what_cannot_be_done_is_not_put_in(owner):
    owner.add_to_draft("spring", [JOIN])
    refused(
        404,
        lambda: owner.add_to_draft("spring", [change("group", "nobody-here", set={"note": "x"})]),
    )
    assert owner.draft("spring").draft.steps == 1
    refused(404, lambda: owner.in_draft("summer").access("ines"))
    refused(400, lambda: owner.begin_draft("spring"))
    refused(400, lambda: owner.begin_draft("a/b"))
    assert refused(409, lambda: (owner.begin_draft("empty"), owner.apply_draft("empty"))).endswith(
        "nothing to apply"
    )


def test_further_changes_are_looked_at_on_top_of_it(owner):
    owner.add_to_draft(
        "spring", [{"op": "add", "kind": "account", "item": {"name": "lidia", "unit": "shore/lab"}}]
    )
    more = [change("group", "night-watch", add={"members": ["account:lidia"]})]
    refused(409, lambda: owner.preview(more))
    assert [x.section for x in owner.in_draft("spring").preview(more).items] == ["groups"]
    owner.add_to_draft("spring", more)
    owner.leave_out_of_draft("spring", 1)
    shown = owner.draft("spring")
    assert shown.preview is None and [s.number for s in shown.steps] == [2]
    assert "lidia" in shown.steps[0].misfit.says


# --- held against today -------------------------------------------------------------------------


def test_what_fits_no_more_is_told_with_what_took_the_ground_away(owner, as_):
    as_("edda").add_to_draft(
        "spring", [OPEN, JOIN, change("account", "refa", set={"note": "asked for"})]
    )
    owner.change([{"op": "remove", "kind": "account", "name": "refa", "everywhere": True}])
    revision = owner.health().revision
    shown = owner.draft("spring")
    assert shown.preview is None
    assert [(s.misfit.revision, s.misfit.who) for s in shown.steps] == [
        (revision, "administrator")
    ] * 3
    assert all(
        "remove account refa" in s.misfit.what and "refa" in s.misfit.says for s in shown.steps
    )
    assert "fits no more" in refused(409, lambda: owner.in_draft("spring").access("ines"))
    assert "refa" in refused(409, lambda: owner.apply_draft("spring"))
    owner.back(revision)
    assert owner.draft("spring").preview is not None


def test_what_others_changed_since_is_told_and_looked_at_before_it_is_applied(owner):
    owner.add_to_draft("spring", [JOIN])
    owner.change([change("group", "night-watch", set={"note": "the night"})])
    shown = owner.draft("spring")
    assert (
        len(shown.changed_since) == 1
        and "groups night-watch, by administrator in revision" in shown.changed_since[0]
    )
    said = refused(409, lambda: owner.apply_draft("spring"))
    assert f"apply it as of revision {shown.revision}" in said
    assert owner.apply_draft("spring", shown.revision).changed
    assert owner.item("group", "night-watch").item["note"] == "the night"


def test_of_two_who_apply_at_once_one_is_done_and_the_other_told(owner, own):
    """Over the same thing, and the same draft twice: nothing is mixed."""
    for turn in range(6):
        owner.load(DEMO.read_bytes())
        names = ["one", "other"] if turn % 2 else ["one", "one"]
        owner.add_to_draft("one", [change("group", "night-watch", set={"note": "of one"}), JOIN])
        if turn % 2:
            owner.add_to_draft(
                "other", [change("group", "night-watch", set={"note": "of the other"}), OPEN]
            )
        at = owner.health().revision

        def apply(name, at=at):
            with own.client() as client:
                try:
                    return client.apply_draft(name, at).revision
                except Refused as error:
                    return error.problem.status

        with ThreadPoolExecutor(2) as pool:
            found = list(pool.map(apply, names))
        assert (
            at + 1 in found and (set(found) - {at + 1}) <= {404, 409, 412} and len(set(found)) == 2
        ), found
        applied = names[found.index(at + 1)]
        group, folder = (
            owner.item("group", "night-watch").item,
            owner.item("folder", "survey:/charts").item,
        )
        assert group["note"] == ("of one" if applied == "one" else "of the other")
        assert ("account:refa" in group["members"]) is (applied == "one")
        assert ("allow account:refa read" in folder["entries"]) is (applied == "other")
        for draft in owner.drafts().drafts:
            owner.drop_draft(draft.name)


def test_drafts_of_whole_models_and_ways_back(owner, as_):
    first = owner.health().revision
    before = owner.dump()
    owner.change([{"op": "remove", "kind": "account", "name": "bram", "everywhere": True}])
    last = owner.health().revision
    owner.add_back_to_draft("home", last)
    owner.add_to_draft("home", [change("account", "bram", set={"note": "is back"})])
    owner.apply_draft("home")
    assert owner.item("account", "bram").item["note"] == "is back"
    owner.add_back_to_draft("all", as_of=str(first))
    assert "puts a whole model in force: applying it takes the role owner" in refused(
        403, lambda: as_("edda").apply_draft("all")
    )
    owner.apply_draft("all", owner.health().revision)
    assert owner.dump() == before
    smaller = read_model(DEMO.read_bytes())
    owner.add_model_to_draft("small", DEMO.read_bytes())
    assert owner.draft("small").steps[0].says == f"load a model of {len(smaller.accounts)} accounts"
    refused(400, lambda: owner.add_back_to_draft("all"))


# --- whose it is --------------------------------------------------------------------------------


def test_a_colleagues_draft_is_looked_at_and_commented_on(owner, as_):
    dirk, dora = as_("dirk"), as_("dora")
    dirk.add_to_draft("ours", [JOIN])
    for call in (
        lambda: dora.add_to_draft("ours", [OPEN]),
        lambda: dora.drop_draft("ours"),
        lambda: dora.leave_out_of_draft("ours", 1),
    ):
        assert "draft ours is dirk's" in refused(403, call)
    dora.comment_on_draft("ours", "is this for the nights only?")
    assert [c.says for c in dirk.draft("ours").comments] == ["is this for the nights only?"]
    assert "takes the role editor" in refused(403, lambda: dirk.apply_draft("ours"))
    done = as_("edda").apply_draft("ours")
    assert done.changed and "written by dirk" in owner.journal(limit=1).lines[0].what


def test_a_dropped_draft_is_kept_by_the_journal(owner):
    owner.add_to_draft("spring", [JOIN])
    owner.drop_draft("spring")
    line = owner.journal(limit=1).lines[0]
    assert line.what == "drop draft spring" and line.revision is None
    assert line.items[0].after["add"] == {"members": ["account:refa"]}


def test_where_a_second_person_is_wanted_nothing_else_changes_the_model(cluster, tmp_path_factory):
    database = cluster.create_database("second")
    serves = serving(
        database, tmp_path_factory.mktemp("second"), "--load", str(DEMO), "--second-person"
    )
    with serves as service, service.client() as owner:
        owner.add_administrator("edda", "editor")
        assert owner.me().second_person
        before = owner.dump()
        for call in (
            lambda: owner.change([JOIN]),
            lambda: owner.load(b"drawknife: 1"),
            lambda: owner.back(1),
            lambda: owner.back_to("1"),
        ):
            assert "a second person applies" in refused(403, call)
        owner.add_to_draft("spring", [JOIN])
        assert "administrator wrote some of spring" in refused(
            403, lambda: owner.apply_draft("spring")
        )
        assert any(
            "a second person applies a draft" in n for n in owner.draft("spring").preview.notes
        )
        # Nor does a program of the same person.
        with Client(service.url, owner.make_token("helper").token) as helper:
            refused(403, lambda: helper.apply_draft("spring"))
        assert owner.dump() == before
        with Client(service.url, signed_in(service, "edda")) as edda:
            assert edda.apply_draft("spring").changed


# --- as many changes ----------------------------------------------------------------------------


@pytest.mark.parametrize("seed", range(12))
def test_applied_it_is_what_the_same_changes_make_one_by_one(owner, seed):
    """On random models; and what it says would follow is what follows."""
    from drawknife.formats.model_file import write_model

    rng, model = Random(seed), random_model(seed)
    owner.load(write_model(model).encode())
    steps = []
    for _ in range(40):
        one = random_change(rng, model)
        try:
            owner.add_to_draft("many", [one])
            steps.append(one)
        except (Refused, DrawknifeError):
            continue
        if len(steps) == 6:
            break
    would = owner.in_draft("many").dump()
    assert owner.apply_draft("many").revision == owner.health().revision or would == owner.dump()
    assert owner.dump() == would
    owner.load(write_model(model).encode())
    for one in steps:
        owner.change([one])
    assert owner.dump() == would


# --- the command line ---------------------------------------------------------------------------


def test_drafts_by_command_line(own, owner):
    def drawknife(*arguments, given=None):
        done = run(*arguments, given=given, environment=own.environment)
        assert "Traceback" not in done.stderr
        return done.returncode, done.stdout, done.stderr

    status, _, said = drawknife("group", "join", "night-watch", "refa", "--draft", "spring")
    assert (
        status == 0
        and "draft spring (begun with it): changed groups night-watch; nothing of it is in force"
        in said
    )
    assert "applied now: " in said
    assert drawknife("why", "refa", "list", "/charts", "--draft", "spring")[0] == 0
    assert drawknife("why", "refa", "list", "/charts")[0] == 1
    assert drawknife("load", str(DEMO), "--draft", "whole")[0] == 0
    assert "1 " in drawknife("draft", "list")[1]
    assert drawknife("draft", "comment", "spring", "for the season")[0] == 0
    status, shown, _ = drawknife("draft", "show", "spring")
    assert (
        status == 0
        and "for the season" in shown
        and "refa" in shown
        and "add `account:refa`" in shown
    )
    assert drawknife("draft", "apply", "spring")[0] == 2  # nobody can be asked
    assert (
        drawknife("group", "leave", "boats", "ines", "--draft", "spring", "--model", str(DEMO))[0]
        == 2
    )
    assert drawknife("access", "ines", "--draft", "spring", "--as-of", "1")[0] == 2
    assert json.loads(drawknife("draft", "show", "spring", "--json")[1])["draft"]["steps"] == 1
    status, _, said = drawknife("draft", "apply", "spring", "--yes")
    assert status == 0 and "changed groups night-watch" in said
    assert "did you mean whole" in drawknife("draft", "show", "whol")[2]
    assert drawknife("draft", "drop", "whole")[0] == 0
    assert "there are no drafts" in drawknife("draft", "list")[2]


def test_a_draft_knows_who_is_locked_out_and_who_is_in(owner):
    """Under the name that the draft gives, too."""
    owner.add_to_draft(
        "renames", [{"op": "rename", "kind": "account", "name": "ines", "to": "inez"}]
    )
    owner.set_password("ines", "a word for ines")
    asked = {"account": "inez", "action": "sign-in", "endpoint": "harbour", "method": "password"}
    assert owner.in_draft("renames").decide(asked).allowed
    owner.report_sign_ins([{"what": "failed", "account": "ines", "address": "192.0.2.7"}] * 20)
    assert owner.in_draft("renames").decide(asked).reason == "locked-out"
    owner.lift("account", "ines")
    assert owner.in_draft("renames").decide(asked).allowed
