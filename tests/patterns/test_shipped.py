"""After each shipped pattern those can who should, and those cannot who should not: its own trials,
by the plain rules.
"""

import re
from datetime import UTC, datetime

import pytest

from drawknife.changing import apply
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.errors import BadInput
from drawknife.core.words.quantities import read_size
from drawknife.formats.model_file import read_model
from drawknife.patterns import all_patterns, changes_of, find_pattern

from ..core.reference import Reference

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
#: What there is before: a crew of two, two others, and a closed store.
BASE = """drawknife: 1
accounts: [{name: ada}, {name: bo}, {name: cy}, {name: dee}]
groups: [{name: crew, members: [account:ada, account:bo]}]
stores: [{name: files}]
"""
SHIPPED = all_patterns()
TRIALS = [(p, t) for p in SHIPPED for t in p.trials]
LINE = re.compile(
    r"(?P<account>\S+) (?P<action>\S+)(?: (?P<path>/\S*))?(?: (?P<thing>folder))?(?: of"
    r" (?P<owner>\S+))?(?: size (?P<size>\d+ \S+))?"
    r"(?: at (?P<endpoint>\S+))?(?: on (?P<day>\S+))?"
)


def set_up(pattern, trials, twice=False):
    model = apply(read_model(BASE), trials.before).model
    for _ in range(1 + twice):
        model = apply(model, changes_of(pattern, trials.given, prepare(model))).model
    return model


def question(line):
    said = LINE.fullmatch(line)
    assert said, line
    at = datetime.fromisoformat(f"{said['day']}T12:00:00+00:00") if said["day"] else NOW
    password = (
        {"method": "password", "tls": True, "client": "203.0.113.9"} if said["endpoint"] else {}
    )
    size = read_size(said["size"]) if said["size"] else None
    more = {"to": said["path"] + ".new"} if said["action"] == "rename" else {}
    more |= {"thing": said["thing"]} if said["thing"] else {}
    return Question(
        said["account"],
        said["action"],
        said["path"],
        owner=said["owner"],
        size=size,
        endpoint=said["endpoint"],
        at=at,
        **password,
        **more,
    )


def allowed(model, line):
    asked = question(line)
    from drawknife.core.decide.gates import verdict

    found = verdict(prepare(model), asked, asked.at).allowed
    assert found is Reference(model).on(asked.at.date()).verdict(asked, asked.at)[0], line
    return found


@pytest.mark.parametrize(("pattern", "trials"), TRIALS, ids=[p.name for p, _ in TRIALS])
def test_who_can_and_who_cannot(pattern, trials):
    before, after = apply(read_model(BASE), trials.before).model, set_up(pattern, trials)
    accounts = {a.name for a in before.accounts}
    endpoints = {e.name for e in before.endpoints}
    for line in trials.can:
        assert allowed(after, line), line
        asked = question(line)
        if {asked.account, asked.owner or asked.account} <= accounts and (
            asked.endpoint is None or asked.endpoint in endpoints
        ):
            assert not allowed(before, line), f"{line}, before"  # it is the pattern that lets it
    for line in trials.cannot:
        assert not allowed(after, line), line
    assert len(trials.can) >= 3 and len(trials.cannot) >= 2


@pytest.mark.parametrize(("pattern", "trials"), TRIALS, ids=[p.name for p, _ in TRIALS])
def test_a_second_time_changes_nothing(pattern, trials):
    assert set_up(pattern, trials, twice=True) == set_up(pattern, trials)


def test_steps_one_after_the_other_are_the_whole():
    stepped = [(p, t) for p, t in TRIALS if p.steps]
    assert stepped
    for pattern, trials in stepped:
        model = apply(read_model(BASE), trials.before).model
        for number in range(1, len(pattern.steps) + 1):
            step = pattern.step(number)
            given = {a.key: trials.given[a.key] for a in step.asks if a.key in trials.given}
            changed = apply(model, changes_of(step, given, prepare(model))).model
            assert changed != model, step  # each step does something
            model = changed
        assert model == set_up(pattern, trials)
        for number in (0, len(pattern.steps) + 1):
            with pytest.raises(BadInput, match=f"no step {number}"):
                pattern.step(number)


def test_every_shipped_pattern_has_trials_and_says_what_it_is_for():
    wanted = {
        "shared-folder",
        "drop-box",
        "homes",
        "group-folder",
        "public-shelf",
        "confined-author",
        "partner-folder",
        "first-server",
    }
    assert {p.name for p in SHIPPED} == wanted == {p.name for p, _ in TRIALS}
    assert all(p.about.endswith(".") and p.asks for p in SHIPPED)


@pytest.mark.parametrize(
    "broken", ["expires", "sealed: true", "allow owner overwrite,append,rename,delete-file"]
)
def test_the_trials_would_notice_a_pattern_that_is_wrong(broken):
    """Each trial can fail: a line of the pattern left out turns one."""
    from importlib.resources import files

    from drawknife.patterns import read_pattern

    name = "partner-folder" if broken == "expires" else "shared-folder"
    text = files("drawknife.patterns").joinpath("shipped", f"{name}.yaml").read_text()
    changed = {
        "expires": re.sub(r", expires: \$until|, until: \$until", "", text),
        "sealed: true": (
            text.replace("allow $who enter", "allow anyone enter").replace(
                "[$who all]", "[anyone all]"
            )
        ),
    }.get(broken, text.replace("- allow owner", "- allow $who"))
    assert changed != text
    pattern = read_pattern(name, changed.encode())
    with pytest.raises(AssertionError):
        test_who_can_and_who_cannot(pattern, pattern.trials[0])


def test_homes_are_for_each_who_counts_as_it_today():
    pattern = find_pattern("homes")
    made = changes_of(pattern, {"who": "group:crew"}, prepare(read_model(BASE + "quotas: []\n")))
    assert [c["name"] for c in made if c["kind"] == "folder"] == ["homes:/ada", "homes:/bo"]
    assert not [c for c in made if c["kind"] == "setting"]  # room was left out
