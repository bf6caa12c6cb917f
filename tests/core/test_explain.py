"""Explanations: what became of every entry, as the rules have it."""

from datetime import UTC, datetime

from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.core.decide.explain import explain
from drawknife.core.decide.folder_decision import conclude, judge
from drawknife.core.decide.gates import ALL_GATES, verdict
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.rights import RIGHTS

from .models import ACCOUNTS, random_model, random_questions
from .reference import Reference, has, up_from

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
seeds = st.integers(0, 2**32)


def expected_fates(reference, name, store, path, right, own):
    """(entry, levels up) -> what became of it, from the rules' own words."""
    fates = {}
    matching = []
    sealed_at = None
    for depth, at in enumerate(up_from(path)):
        folder = reference.folder(store, at)
        for entry in folder.entries if folder else ():
            names_it = entry.subject in reference.standing(name) or (
                entry.subject.kind == "owner" and own
            )
            if not names_it:
                fates[entry, depth] = "other subject"
            elif not has(entry.rights, right):
                fates[entry, depth] = "other rights"
            elif not reference.speaks(entry, depth):
                fates[entry, depth] = "reach does not come here"
            elif sealed_at is not None and depth > sealed_at and entry.effect != "forbid":
                fates[entry, depth] = "behind a seal"
            else:
                matching.append((entry, depth))
        if folder and folder.sealed and sealed_at is None:
            sealed_at = depth
    forbids = [(e, d) for e, d in matching if e.effect == "forbid"]
    nearest = min((d for e, d in matching if e.effect != "forbid"), default=None)
    denied = any(e.effect == "deny" for e, d in matching if d == nearest)
    for entry, depth in matching:
        allows = entry.effect == "allow"
        if forbids:
            fates[entry, depth] = "overruled by a forbid" if allows else "agrees"
        elif depth == nearest and allows and denied:
            fates[entry, depth] = "overruled by a deny on its level"
        elif allows is denied:
            fates[entry, depth] = "overruled by a nearer level"
        else:
            fates[entry, depth] = "agrees"
    return fates


@given(seeds, st.sampled_from(RIGHTS), st.booleans())
@settings(max_examples=120)
def test_every_entry_has_the_fate_that_the_rules_give_it(seed, right, own):
    model = random_model(seed)
    prepared, reference = prepare(model), Reference(model)
    for name in ACCOUNTS:
        for store in model.stores:
            for path in {f.path for f in store.folders} | {"/b/a/b"}:
                told = judge(prepared.stores[store.name], path, right, prepared.account(name), own)
                fates = expected_fates(reference, name, store.name, path, right, own)
                parts = {(e.entry, x.up): e for x in told.levels for e in x.entries}
                assert parts.keys() == fates.keys()
                deciding = [key for key, part in parts.items() if part.fate == "decides"]
                assert len(deciding) <= 1
                for key, part in parts.items():
                    said = f"{part.fate} by {part.by}" if part.by else part.fate
                    assert ("agrees" if part.fate == "decides" else said) == fates[key], (
                        key,
                        said,
                        fates[key],
                    )
                has_a_say = [
                    f for f in fates.values() if f == "agrees" or f.startswith("overruled")
                ]
                assert bool(deciding) is bool(has_a_say)
                if deciding:
                    assert (deciding[0][0].effect == "allow") is told.allowed
                    assert told.decided_by == deciding[0][0]


@given(seeds, st.sampled_from(RIGHTS))
@settings(max_examples=60)
def test_the_short_reason_is_that_of_the_long_one(seed, right):
    model = random_model(seed)
    prepared = prepare(model)
    for name in ACCOUNTS:
        account = prepared.account(name)
        for store in model.stores:
            for path in {f.path for f in store.folders} | {"/b/a/b"}:
                for own in (None, False, True):
                    told = judge(prepared.stores[store.name], path, right, account, own)
                    short = conclude(prepared.stores[store.name], path, right, account, own)
                    assert short == (told.allowed, told.reason, told.text)


@given(seeds)
@settings(max_examples=80)
def test_obstacles_come_in_the_order_of_the_gates_and_the_first_is_the_verdict(seed):
    model = random_model(seed)
    prepared = prepare(model)
    for question in random_questions(seed, model, 25):
        told = explain(prepared, question, NOW)
        order = [ALL_GATES.index(o.gate) for o in told.obstacles]
        assert order == sorted(order)
        assert all(o.text and o.reason for o in told.obstacles)
        answer = verdict(prepared, question, NOW)
        if told.obstacles:
            assert (answer.gate, answer.reason, answer.text) == told.obstacles[0]
        for gate in told.gates:
            assert gate.asked or not gate.obstacles


@given(seeds)
@settings(max_examples=60)
def test_mending_what_is_told_of_the_folder_is_enough(seed):
    """Where the folder gate's only obstacle is that nothing allows it, adding the line it names
    lets it pass.
    """
    from dataclasses import replace

    from drawknife.core.model.canonical import sound
    from drawknife.core.model.items import Folder, parse_entry

    model = random_model(seed)
    prepared = prepare(model)
    for question in random_questions(seed, model, 25):
        told = explain(prepared, question, NOW)
        if question.endpoint or [o.reason for o in told.obstacles] not in (
            ["no-entry-allows"],
            ["sealed"],
        ):
            continue
        line, _, place = told.obstacles[0].text.rpartition("add `")[2].partition("` on ")
        store, _, path = place.partition(":")
        folder = next(
            (f for s in model.stores if s.name == store for f in s.folders if f.path == path),
            Folder(path),
        )
        entry = parse_entry(line)
        mended = sound(model.with_folder(store, replace(folder, entries=(*folder.entries, entry))))
        assert verdict(prepare(mended), question, NOW).gate in (None, "limits")


def test_a_question_about_nobody_is_refused_with_the_key():
    import pytest

    from drawknife.core.decide.gates import UnknownName

    prepared = prepare(random_model(1))
    for question, key in (
        (Question("nobody", "list", "/"), "account"),
        (Question("ada", "list", "/", endpoint="none"), "endpoint"),
        (Question("ada", "download", "/x", owner="nobody"), "owner"),
    ):
        with pytest.raises(UnknownName) as caught:
            verdict(prepared, question, NOW)
        assert caught.value.key == key
