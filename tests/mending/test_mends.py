"""Every mend allows its question and none of its changes can be left out; every stop refuses it.

Told is what follows.
"""

from datetime import UTC, datetime

import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from drawknife.answers import Answering
from drawknife.changing import apply
from drawknife.core.model.kinds import VIRTUAL_PATH
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import DrawknifeError
from drawknife.mending import mends, narrowed, stops

from ..core.models import random_model, random_questions
from ..core.reference import Reference

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


def allowed(model, question):
    """By the plain rules."""
    at = question.at or NOW
    return Reference(model).on(at.date()).verdict(question, at)[0]


def after(model, changes):
    return apply(model, changes).model


def still(model, changes, left_out, question, wanted):
    """Is it answered as wanted with one change left out?

    Where the others cannot be done then, it is not.
    """
    try:
        return allowed(after(model, [c for c in changes if c is not left_out]), question) is wanted
    except DrawknifeError:
        return False


@settings(max_examples=60)
@given(st.integers(0, 10**9))
def test_each_mend_allows_its_question_and_needs_all_of_its_changes(seed):
    model = random_model(seed)
    question = next(random_questions(seed, model, 1))
    before = allowed(model, question)
    sought = mends(prepare(model), question, NOW)
    if before:
        assert sought.found == [] and sought.all_looked_at
    for changes in sought.found[:6]:
        assert allowed(after(model, list(changes)), question), changes
        for left_out in changes if len(changes) > 1 else ():
            assert not still(model, changes, left_out, question, True), (changes, left_out)


@settings(max_examples=60)
@given(st.integers(0, 10**9))
@example(445)  # what only leads to virtual paths is there as long as one of many is
def test_each_stop_refuses_its_question_and_needs_all_of_its_changes(seed):
    model = random_model(seed)
    question = next((q for q in random_questions(seed, model, 30) if allowed(model, q)), None)
    called = [VIRTUAL_PATH.called(v) for v in model.virtual_paths]
    assume(
        question is not None and len(set(called)) == len(called)
    )  # no change can name one of two that are called alike
    sought = stops(prepare(model), question, NOW)
    assert sought.found, "whoever may do something can be stopped"
    for changes in sought.found[:6]:
        assert not allowed(after(model, list(changes)), question), changes
        for left_out in changes if len(changes) > 1 else ():
            assert not still(model, changes, left_out, question, False), (changes, left_out)


@settings(max_examples=80)
@given(st.integers(0, 10**9))
@example(88)  # below where a file is to be moved there is a folder
@example(6061714)  # and where a folder is to be moved
def test_the_narrowed_model_answers_as_the_whole_one(seed):
    """But for the limits, which are asked of the whole."""
    from drawknife.core.decide.gates import gate_obstacles, open_case

    model = random_model(seed)
    question = next(random_questions(seed, model, 1))
    small, whole = prepare(narrowed.narrowed(model, question, 0)), prepare(model)
    at = question.at or NOW
    one, other = (
        (p.on(at.date()), open_case(p.on(at.date()), question, at)) for p in (small, whole)
    )
    for gate in ("door", "sign-in", "endpoint", "virtual path", "folder"):
        assert [r.text for r in gate_obstacles(*one, gate)] == [
            r.text for r in gate_obstacles(*other, gate)
        ]


@pytest.fixture
def answering(demo):
    return Answering(prepare(demo), 1, NOW, seen=lambda _: None)


def question(account, action, path, **more):
    return {"account": account, "action": action, "path": path, **more}


def lines(found):
    return [way.says for m in found.mends for way in (m, *m.alike)]


def test_the_least_harm_comes_first(answering):
    found = answering.mend(question("fulmar", "upload", "/charts/x"), most=16)
    ranks = [(bool(m.breaks), m.other_count) for m in found.mends]
    assert ranks == sorted(ranks) and not found.allowed
    assert found.mends[0].other_count == 0
    assert any("group" in says for m in found.mends for says in m.says if m.other_count)


def test_it_tells_what_else_follows(demo, answering):
    """Of each way what a preview of its changes tells."""
    from drawknife.answers.changing import Changing, InMemory

    found = answering.mend(question("bram", "list", "/archive"))
    face = Changing(InMemory(demo, lambda *_: None), NOW)
    for m in found.mends:
        assert (
            m.follows == face.preview([c.model_dump(exclude_none=True) for c in m.changes]).summary
        )


def test_a_promise_that_would_be_broken_is_told_and_comes_last(answering):
    found = answering.mend(question("refa", "download", "/soundings/x"), most=16)
    broken = [bool(m.breaks) for m in found.mends]
    assert True in broken and False in broken and broken == sorted(broken)
    assert "soundings-stay-inside" in found.mends[-1].breaks[0]


@pytest.mark.parametrize(
    ("asked", "says"),
    [
        (question("harrow-dredging", "sign-in", "/", endpoint="lab-sftp"), "endpoint lab-sftp"),
        (
            question("refa", "sign-in", "/", endpoint="lab-sftp", **{"from": "192.0.2.9"}),
            "endpoint lab-sftp: add `account:refa`",
        ),
        (question("kittiwake", "upload", "/inbox/big", size=2**50), "quota_bytes"),
    ],
)
def test_ways_past_each_gate(answering, asked, says):
    found = answering.mend(asked, most=16)
    assert any(says in line for way in lines(found) for line in way), lines(found)


def test_what_no_change_can_mend_is_not_mended(answering):
    assert answering.mend(question("ines", "delete-folder", "/soundings")).mends == []


def test_what_was_not_looked_at_is_told(answering):
    few = answering.mend(question("fulmar", "upload", "/charts/x"), most=1)
    assert len(few.mends) == 1 and any("more way" in x for x in few.left_out)
    assert answering.mend(question("ines", "list", "/soundings")).mends == []


def test_in_a_large_model_the_same_ways_are_found(demo):
    """Narrowing leaves nobody out who counts: the demo, among so many others that it is
    narrowed.
    """
    from dataclasses import replace

    from drawknife.core.model import items as m
    from drawknife.core.model.canonical import sound

    others = tuple(m.Account(f"extra{i:03}", unit="shore/office") for i in range(300))
    larger = sound(replace(demo, accounts=(*demo.accounts, *others)))
    for asked in (question("bram", "list", "/archive"),):
        some, all_ = (
            Answering(prepare(x), 1, NOW, seen=lambda _: None).mend(asked, most=3)
            for x in (demo, larger)
        )
        assert {tuple(x) for x in lines(some)} & {tuple(x) for x in lines(all_)}
        for way in all_.mends:
            changes = [c.model_dump(exclude_none=True) for c in way.changes]
            again = Answering(prepare(after(larger, changes)), 1, NOW, seen=lambda _: None)
            assert again.decide(asked)["allowed"]
