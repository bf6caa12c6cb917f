"""The product agrees with the plain restatement of the rules, on random models, in every cell."""

from dataclasses import replace
from datetime import UTC, datetime
from functools import cache

from hypothesis import example, given, settings
from hypothesis import strategies as st

from drawknife.core.decide.explain import explain
from drawknife.core.decide.folder_decision import judge
from drawknife.core.decide.folders import decide
from drawknife.core.decide.gates import verdict
from drawknife.core.everybody.access_map import AccessMap
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.names import child, parent
from drawknife.core.words.rights import BIT, RIGHTS

from .models import ACCOUNTS, random_model, random_questions
from .reference import ELEVEN, Reference

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
seeds = st.integers(0, 2**32)


def test_both_know_the_same_rights():
    assert list(RIGHTS) == ELEVEN


@given(seeds)
@settings(max_examples=150, deadline=None)
def test_deciding_at_a_folder(seed):
    model = random_model(seed)
    prepared, reference = prepare(model), Reference(model)
    for name in ACCOUNTS:
        account = prepared.account(name)
        for store in model.stores:
            for path in {f.path for f in store.folders} | {"/", "/b", "/a/b/a/b"}:
                for right in RIGHTS:
                    for own in (False, True):
                        expected = reference.decide(name, store.name, path, right, own)
                        ready = prepared.stores[store.name]
                        assert decide(ready, path, BIT[right], account, own) == expected
                        assert judge(ready, path, right, account, own).allowed == expected


@given(seeds)
@example(767)  # where one file of a folder would be, a virtual path begins that is not served
@settings(max_examples=150, deadline=None)
def test_verdicts(seed):
    model = random_model(seed)
    prepared, reference = prepare(model), Reference(model)
    on = cache(reference.on)
    questions = random_questions(seed, model, 30)
    for question in questions:
        answer = verdict(prepared, question, NOW)
        expected = on((question.at or NOW).date()).verdict(question, NOW)
        assert (answer.allowed, answer.gate) == expected, question
        told = explain(prepared, question, NOW)
        assert told.verdict == answer
        assert bool(told.obstacles) is not answer.allowed
        again = verdict(prepared, question, NOW)  # by the quick way, as the account is known now
        assert again == answer
    for question in questions:  # and what is kept of a folder is so of whatever else lies in it
        for action in {question.action, "upload", "download", "make-folder", "delete-folder"} - {
            "sign-in",
            "rename",
        }:
            other = replace(
                question,
                action=action,
                path=child(parent(question.path), "b"),
                to=None,
                thing="file",
            )
            answer = verdict(prepared, other, NOW)
            expected = on((other.at or NOW).date()).verdict(other, NOW)
            assert (answer.allowed, answer.gate) == expected, other
            assert answer == explain(prepared, other, NOW).verdict


def test_what_is_kept_has_bounds(demo):
    prepared = prepare(demo).on(NOW.date())
    for path in ("/soundings/x", "/soundings" + "/deep" * 100 + "/x"):
        for _ in range(2):  # the first time the account is not known yet
            assert verdict(prepared, Question("ines", "delete-folder", path), NOW).text
    kept = {location for *_, location in (*prepared.decided, *prepared.sentences)}
    assert kept == {"/soundings/x"}


@given(seeds, st.sampled_from([None, "east", "north"]), st.booleans())
@settings(max_examples=150, deadline=None)
def test_the_map(seed, endpoint_name, one_at_a_time):
    """Every cell of the map, for all accounts at once and for each alone, is as the rules say."""
    model = random_model(seed)
    prepared, reference = prepare(model), Reference(model)
    endpoint = prepared.endpoints[endpoint_name] if endpoint_name else None
    indices = range(len(model.accounts))
    for chosen in [[i] for i in indices] if one_at_a_time else [None]:
        found = {}
        map_ = AccessMap(prepared, chosen, endpoint)
        for cell in map_.cells():
            for bit, index in enumerate(map_.accounts):
                if cell.members >> bit & 1:
                    states = [cell.state(r, bit) for r in range(len(RIGHTS))]
                    assert found.setdefault((index, cell.location), states) is states, (
                        "one cell told twice"
                    )
        for index in chosen or indices:
            name = model.accounts[index].name
            assert {at for i, at in found if i == index} == reference.locations(name)
            for (i, location), states in found.items():
                if i == index:
                    assert states == [
                        reference.state(name, location, r, endpoint) for r in RIGHTS
                    ], (name, location)
