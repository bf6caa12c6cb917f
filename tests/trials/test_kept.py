"""Trials that the model keeps: carried along, done at every preview, and told of where a change
turns them.
"""

from dataclasses import replace
from random import Random

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from drawknife.answers.summaries import summary
from drawknife.changing import apply
from drawknife.core.decide.trying import try_on
from drawknife.core.follows.consequences import consequences_on
from drawknife.core.follows.pairing import Renames
from drawknife.core.follows.trials_turned import turned
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.edits import ChangeRefused
from drawknife.core.model.trials import SIGN_IN
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.actions import ACTIONS, GATES
from drawknife.core.words.errors import DrawknifeError
from drawknife.core.words.names import BadValue
from drawknife.formats.document import BadDocument
from drawknife.formats.model_file import read_model, write_model
from drawknife.trials import read_trials

from ..conftest import DEMO, run, serving
from ..core.changes import random_change
from ..core.models import ACCOUNTS, random_model
from ..core.reference import Reference
from ..core.test_promises import NOW

TRIALS = DEMO.parent / "trials.yaml"
PLACES = ("/a", "/a/x", "/b/x", "/ada", "/a/b/x", "/")


def random_trial(rng, number):
    def step():
        action = rng.choice(ACTIONS)
        if action == SIGN_IN:
            return m.read_step(f"{action}: {expected()}")
        to = f" to {rng.choice(PLACES)}" if action == "rename" else ""
        owner = f" of {rng.choice(ACCOUNTS)}" if rng.random() < 0.3 else ""
        size = rng.choice(["", "", " 40 B", " 2 KiB"])
        return m.read_step(f"{action} {rng.choice(PLACES)}{to}{owner}{size}: {expected()}")

    def expected():
        return rng.choice(["yes", "yes", "no", f"no, by {rng.choice(GATES)}"])

    facts = {"endpoint": rng.choice(["east", "north", "west"]), "tls": rng.choice([None, True])}
    steps = tuple(step() for _ in range(rng.randint(1, 6)))
    return m.Trial(f"t{number}", rng.choice(ACCOUNTS), steps, **facts)


def literally(model, trial):
    """The steps that are not as expected, by the rules as they are written."""
    rules, own, wrong = Reference(model).on(NOW.date()), {}, []
    for i, s in enumerate(trial.steps):
        path = s.path or "/"
        asked = Question(
            trial.account,
            s.action,
            path,
            s.to,
            owner=s.owner or own.get(path),
            endpoint=trial.endpoint,
            tls=trial.tls,
            size=s.size,
        )
        allowed, gate = rules.verdict(asked, NOW)[:2]
        if allowed is not s.allowed or s.gate not in (None, gate):
            wrong.append(i)
        if allowed and s.action in ("upload", "make-folder"):
            own[path] = trial.account
        elif allowed and s.action in ("delete-file", "delete-folder"):
            own.pop(path, None)
        elif allowed and s.action == "rename" and path in own:
            own[s.to] = own.pop(path)
    return wrong


@given(st.integers(0, 10**9))
@settings(max_examples=150, deadline=None)
def test_a_change_tells_exactly_the_trials_that_it_turns(seed):
    rng = Random(seed)
    before = sound(
        replace(random_model(seed), trials=tuple(random_trial(rng, i) for i in range(6)))
    )
    change = random_change(rng, before)
    assume(change["op"] != "rename")
    try:
        after = apply(before, [change]).model
    except DrawknifeError:
        assume(False)
    fail, hold = turned(prepare(before), prepare(after), NOW, Renames())
    was = {t.name: set(literally(before, t)) for t in before.trials}
    now = {t.name: set(literally(after, t)) for t in after.trials}
    assert {f.about for f in fail} == {name for name in now if now[name] - was[name]}
    assert {f.about for f in hold} == {name for name in now if was[name] - now[name]}
    follows = consequences_on(prepare(before), prepare(after), NOW)
    assert {f.about for f in follows.new_findings if f.kind == "trial-turned"} == {
        f.about for f in fail
    }


@given(st.integers(0, 10**9))
def test_what_is_written_is_read_again(seed):
    rng = Random(seed)
    steps = [s for i in range(5) for s in random_trial(rng, i).steps]
    assert [m.read_step(str(s)) for s in steps] == steps
    assert [m.read_step({s.says: s.expects}) for s in steps] == steps
    model = sound(replace(random_model(seed), trials=tuple(random_trial(rng, i) for i in range(3))))
    assert (
        read_model(write_model(model)) == model
        and read_model(write_model(model, as_json=True)) == model
    )


@pytest.mark.parametrize(
    ("step", "told"),
    [
        ("fly /a: yes", "no step"),
        ("list: yes", "says not where"),
        ("rename /a: yes", "needs a destination"),
        ("list /a to /b: no", "only a rename"),
        ("list /a: maybe", "no expectation"),
        ("list /a", "no step"),
        ("list /a: no, by wall", "no expectation"),
        (5, "one line"),
        ({"a": 1, "b": 2}, "one line"),
        ({5: True}, "no step"),
    ],
)
def test_what_is_no_step_is_told(step, told):
    with pytest.raises(BadValue, match=told):
        m.read_step(step)


@pytest.fixture(scope="module")
def kept():
    """The demo with its trials."""
    return sound(
        replace(read_model(DEMO.read_bytes()), trials=tuple(read_trials(TRIALS.read_bytes())))
    )


def line(folder, entry):
    return {"op": "change", "kind": "folder", "name": folder, "add": {"entries": [entry]}}


def test_a_preview_tells_what_turns_and_what_is_so_again(kept):
    shut = apply(kept, [line("survey:/charts/drafts", "deny account:ines upload")]).model
    follows = consequences_on(prepare(kept), prepare(shut), NOW)
    assert [f.about for f in follows.new_findings] == [
        "the lab reads the charts and puts drafts, and changes no issued sheet"
    ]
    assert (
        "`upload /charts/drafts/sheet-15.pdf` is expected to be yes" in follows.new_findings[0].text
    )
    again = consequences_on(prepare(shut), prepare(kept), NOW)
    assert again.new_findings == () and [f.kind for f in again.mended] == ["trial-turned"]


def test_a_new_trial_that_is_not_so_is_a_finding_from_the_start(kept):
    added = {
        "op": "add",
        "kind": "trial",
        "item": {"name": "x", "as": "ines", "steps": ["list /charts: no", "list /home: yes"]},
    }
    follows = consequences_on(prepare(kept), prepare(apply(kept, [added]).model), NOW)
    assert [(f.kind, f.about) for f in follows.new_findings] == [
        ("trial-not-as-expected", "x")
    ] and follows.for_nobody
    assert summary(follows) == ["nobody gains or loses anything", "1 new trial not as expected: x"]


def test_what_accounts_have_to_sign_in_with_counts_where_it_is_known(kept):
    """The same as what a question is answered, by the names before and after a rename."""
    prepared, crew = prepare(kept), [t for t in kept.trials if t.account == "kittiwake"]
    wrong = {
        t.name: [x.step.says for x in try_on(prepared, t, NOW, {}) if not x.as_expected]
        for t in crew
    }
    assert wrong["a crew's day"][0] == "sign-in"
    held = {"kittiwake": frozenset({"password"})}
    assert all(x.as_expected for t in crew for x in try_on(prepared, t, NOW, held))
    applied = apply(kept, [{"op": "rename", "kind": "account", "name": "kittiwake", "to": "kitty"}])
    fail, _ = turned(prepared, prepare(applied.model), NOW, applied.renames, held)
    assert all("no way to sign in" not in f.text for f in fail)
    off, _ = turned(prepared, prepared, NOW, Renames(), held)
    assert off == []


def test_names_are_carried_along_and_turn_nothing_by_themselves(kept):
    changes = [
        {"op": "rename", "kind": "account", "name": "ines", "to": "ines-k"},
        {"op": "rename", "kind": "endpoint", "name": "harbour", "to": "harbour-ftp"},
        {"op": "rename", "kind": "trial", "name": "a crew's day", "to": "what crews do"},
    ]
    applied = apply(kept, changes)
    after = applied.model
    assert {(t.account, t.endpoint) for t in after.trials if "lab" in t.name} == {
        ("ines-k", "harbour-ftp")
    }
    fail, hold = turned(prepare(kept), prepare(after), NOW, applied.renames)
    assert fail == [] and hold == [] and "what crews do" in {t.name for t in after.trials}


def test_what_a_trial_names_cannot_go_from_under_it(kept):
    with pytest.raises(ChangeRefused, match="still name") as refused:
        apply(kept, [{"op": "remove", "kind": "endpoint", "name": "public-tides"}])
    assert "trial the public fetches tides" in str([p.message for p in refused.value.problems])
    gone = apply(
        kept, [{"op": "remove", "kind": "account", "name": "harrow-dredging", "everywhere": True}]
    ).model
    assert (
        not [t for t in gone.trials if "partner" in t.name]
        and len(gone.trials) == len(kept.trials) - 2
    )


@pytest.mark.parametrize(
    ("item", "told"),
    [
        ({"as": "ines", "steps": ["sign-in: yes"]}, "signing in is somewhere"),
        ({"as": "ines", "steps": []}, "nothing to do"),
        ({"as": "inez", "steps": ["list /: yes"]}, "there is no account 'inez'"),
        ({"as": "ines", "at": "harbor", "steps": ["list /: yes"]}, "there is no endpoint 'harbor'"),
        ({"as": "ines", "steps": ["list / of inez: yes"]}, "there is no account 'inez'"),
        ({"as": "ines", "steps": ["list /: perhaps"]}, "no expectation"),
        ({"steps": ["list /: yes"]}, "'as' is missing"),
    ],
)
def test_what_cannot_be_kept_is_told(kept, item, told):
    with pytest.raises((ChangeRefused, BadDocument)) as refused:
        apply(kept, [{"op": "add", "kind": "trial", "item": {"name": "x", **item}}])
    found = getattr(refused.value, "problems", None) or refused.value.mistakes
    assert told in found[0].message


def test_kept_in_a_service(cluster, tmp_path):
    """A file of trials is kept, and kept anew; each preview, draft and change tells of them; the
    past has them, too.
    """
    bare = tmp_path / "bare.yaml"
    bare.write_text(write_model(replace(read_model(DEMO.read_bytes()), trials=())))
    with serving(cluster.create_database("kept"), tmp_path, "--load", bare) as service:
        told = run("trial", "keep", TRIALS, environment=service.environment)
        assert told.returncode == 0 and "added trials" in told.stderr, told.stderr
        again = run("trial", "keep", TRIALS, environment=service.environment)
        assert "nothing to change" in again.stderr
        listed = run("trial", "list", "--fail", environment=service.environment)
        assert (
            listed.returncode == 1
            and "list /soundings  expected no, by virtual path" in listed.stdout
        )
        with service.client() as client:
            names = {t.name: t.as_expected for t in client.trials().trials}
            assert names["a partner sees no soundings"] is False and len(names) == len(
                read_trials(TRIALS.read_bytes())
            )
            for name in ("kittiwake", "ines", "harrow-dredging"):
                client.set_password(name)
            shut = line("survey:/charts/drafts", "deny account:ines upload")
            preview = client.preview([shut])
            assert any("turns 1 trial, no more as expected" in said for said in preview.summary), (
                preview.summary
            )
            written = client.add_to_draft("night", [shut])
            assert any("turns 1 trial" in said for said in written.would)
            done = client.change([shut])
            assert any("turns 1 trial" in said for said in done.followed)
            back = client.back(done.revision)
            assert any("as expected again: the lab" in said for said in back.followed)
        tried = run("try", environment=service.environment)
        assert tried.returncode == 1 and "trials, 38 steps: 1 not as expected" in tried.stdout
        drafted = run("try", "--draft", "night", environment=service.environment)
        assert "38 steps: 2 not as expected" in drafted.stdout
        then = run("trial", "list", "--as-of", str(done.revision), environment=service.environment)
        assert "upload /charts/drafts/sheet-15.pdf  expected yes" in then.stdout


def test_where_none_is_kept_that_is_told():
    none = run("try", "--model", "-", given="drawknife: 1\n")
    assert none.returncode == 2 and "drawknife trial keep FILE" in none.stderr
