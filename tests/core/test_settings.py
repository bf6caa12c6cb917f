"""Settings: the nearest holds; of equally near ones the stricter; where none is stricter, the first
by name.
"""

from random import Random

from hypothesis import given
from hypothesis import settings as examples
from hypothesis import strategies as st

from drawknife.core.everybody.findings import findings
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.settings import resolve, resolve_all

from .models import ACCOUNTS, GROUPS, UNITS, random_model
from .reference import Reference

#: As docs/rules.md has them, held against what is declared.
NUMBERS = (
    "quota_bytes",
    "quota_files",
    "upload_limit",
    "rate_up",
    "rate_down",
    "sessions",
    "idle_timeout",
)
DEFAULTS = {
    **dict.fromkeys(NUMBERS, "unlimited"),
    "require_tls": False,
    "methods": ("password", "key", "directory"),
    "addresses": (),
    "hours": (),
    "landing": "/",
    "greeting": None,
    "uploads_owner": None,
    "acts_as": None,
}


def with_settings(seed):
    """A random model in which much is set for many."""
    rng = Random(seed)
    subjects = [m.Subject("account", a) for a in ACCOUNTS] + [m.Subject("group", g) for g in GROUPS]
    subjects += [m.Subject("unit", u) for u in UNITS] + [
        m.Subject("anyone"),
        m.Subject("signed-in"),
    ]
    found = []
    for subject in rng.sample(subjects, 7):
        values = {
            name: rng.choice([m.UNLIMITED, rng.randint(0, 3)]) for name in rng.sample(NUMBERS, 3)
        }
        values["require_tls"] = rng.random() < 0.5
        values["methods"] = tuple(sorted(rng.sample(m.METHODS, rng.randint(1, 3))))
        values["landing"] = rng.choice(["/", "/a", "/b"])
        found.append(m.Setting(subject, tuple(sorted(values.items()))))
    from dataclasses import replace

    return sound(replace(random_model(seed), settings=tuple(found)))


@given(st.integers(0, 2**32))
@examples(max_examples=120)
def test_every_setting_of_every_account(seed):
    model = with_settings(seed)
    prepared, reference = prepare(model), Reference(model)
    for name in ACCOUNTS:
        account = prepared.account(name)
        ranks = reference.standing(name)
        for came in resolve_all(prepared, account):
            setters = [
                s for s in model.settings if s.subject in ranks and came.name in dict(s.values)
            ]
            if not setters:
                assert (came.value, came.subjects, came.overruled) == (DEFAULTS[came.name], (), ())
                continue
            nearest = min(ranks[s.subject] for s in setters)
            near = [s for s in setters if ranks[s.subject] == nearest]
            assert set(came.subjects) == {s.subject for s in near}
            assert set(came.overruled) == {s.subject for s in setters} - set(came.subjects)
            values = [dict(s.values)[came.name] for s in near]
            if came.name in NUMBERS:
                limited = [v for v in values if v != m.UNLIMITED]
                assert came.value == (min(limited) if limited else m.UNLIMITED)
            elif came.name == "require_tls":
                assert came.value is any(values)
            elif came.name == "methods":
                assert set(came.value) == set.intersection(*map(set, values))
            elif came.name == "landing":
                first = min(near, key=lambda s: str(s.subject).casefold())
                assert came.value == dict(first.values)["landing"]
                assert came.undecided is (len(set(values)) > 1)


@given(st.integers(0, 2**32))
@examples(max_examples=40)
def test_a_setting_that_is_undecided_is_a_finding(seed):
    model = with_settings(seed)
    prepared = prepare(model)
    told = {f.about for f in findings(prepared) if f.kind == "setting-undecided"}
    undecided = {n for n in ACCOUNTS if resolve(prepared, prepared.account(n), "landing").undecided}
    assert told == undecided
