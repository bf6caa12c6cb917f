"""Promises: held against every account at every place, one by one."""

from datetime import UTC, date, datetime
from random import Random

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from drawknife.core.everybody.promises import broken_promises
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.names import BadValue, Place
from drawknife.core.words.rights import ALL, BIT, BUNDLES, FILE_RIGHTS

from .models import ACCOUNTS, GROUPS, UNITS, random_model
from .reference import ELEVEN, Reference, has, is_above, up_from

DAY = date(2026, 11, 23)
NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


def random_says(rng, model):
    subjects = [
        m.Subject("account", rng.choice(ACCOUNTS)),
        m.Subject("group", rng.choice(GROUPS)),
        m.Subject("unit", rng.choice(UNITS)),
        m.Subject("anyone"),
        m.Subject("signed-in"),
        m.Subject("anonymous"),
    ]
    path = "/" + "/".join(rng.choice(["a", "b", "ada"]) for _ in range(rng.choice([0, 0, 1, 1, 2])))
    virtual = rng.choice([*(v.path for v in model.virtual_paths), path, "/"])
    return m.Says(
        rng.choice(["nobody", "only", "everybody"]),
        tuple(sorted(set(rng.sample(subjects, rng.choice([1, 1, 2]))))),
        rng.choice([ALL, *BUNDLES.values(), *BIT.values(), BIT["enter"], BIT["list"]]),
        rng.choice([Place("s", path), Place("t", path), virtual, virtual]),
        rng.choice(["here", "tree", "below", "children"]),
        rng.choice([None, None, "east", "north", "west"]),
    )


def reached(reach, levels):
    return {"here": levels == 0, "tree": True, "below": levels >= 1, "children": levels == 1}[reach]


def levels_below(top, path):
    """How far a path lies below another; None if it does not."""
    if path != top and not is_above(top, path):
        return None
    return len([x for x in path.split("/") if x]) - len([x for x in top.split("/") if x])


def down(path, more):
    return (path.rstrip("/") + more) or "/"


class Brute:
    def __init__(self, model, says):
        self.model, self.says, self.rules = model, says, Reference(model).on(DAY)

    def covered(self, name):
        return any(s in self.rules.standing(name) for s in self.says.subjects)

    def state(self, name, location, right):
        if self.says.endpoint is None:
            return self.rules.state(name, location, right)
        endpoint = self.rules.endpoint(self.says.endpoint)
        standing = self.rules.standing(name)
        if not self.rules.door(Question(name, "sign-in", endpoint=endpoint.name)) or any(
            s in standing for s in endpoint.never
        ):
            return "no"
        if endpoint.only is not None and not any(s in standing for s in endpoint.only):
            return "no"
        return self.rules.state(name, location, right, endpoint)

    def led(self, name):
        """Every folder that a virtual path of an account leads it to: (path, store, folder)."""
        return [(at, *there[0]) for at, there in self.rules.namespace(name).items() if there]

    def folders(self):
        """The places of a promise about a store folder: the same for everybody."""
        store, top = self.says.place
        there = {f.path for s in self.model.stores if s.name == store for f in s.folders}
        there |= {
            folder for name in self.rules.accounts for _, s, folder in self.led(name) if s == store
        }
        there = {top} | {x for x in there if levels_below(top, x) is not None}
        below = {down(x, more) for x in there for more in ("", "/#", "/#/##")}
        return {x for x in below if reached(self.says.reach, levels_below(top, x))}

    def leading_to(self, name, folder):
        """The locations of an account that lead to a folder."""
        store, _ = self.says.place
        for at, s, top in self.led(name):
            if s == store and top in list(up_from(folder)):
                location = (
                    down(at, folder[len(top) :] if top != "/" else folder) if folder != top else at
                )
                where = self.rules.resolve(name, location)
                if where[0] == "real" and where[1:4] == (store, folder, at):
                    yield location

    def own_places(self, name):
        """The places of a promise about a virtual location: of an account's own namespace."""
        top = self.says.place
        found = {x for x in self.rules.locations(name) if levels_below(top, x) is not None}
        if self.rules.resolve(name, top)[0] != "out":
            found.add(top)
        real = {x for x in found if self.rules.resolve(name, x)[0] == "real"}
        found |= {down(x, more) for x in real for more in ("/#", "/#/##")}
        return {x for x in found if reached(self.says.reach, levels_below(top, x))}

    def broken_by(self):
        rights = [r for r in ELEVEN if has(self.says.rights, r)]
        out = set()
        for name, account in self.rules.accounts.items():
            if isinstance(self.says.place, str):
                own = self.own_places(name)
                each = [[x] for x in own]
                unseen = not own or (
                    self.says.reach in ("here", "tree") and self.says.place not in own
                )
            else:
                each = [list(self.leading_to(name, folder)) for folder in self.folders()]
                unseen = any(not x for x in each)
            # By place and right, the states at each of the locations that lead there.
            states = [[self.state(name, x, r) for x in some] for some in each for r in rights]
            if self.says.quantifier == "everybody":
                active = account.enabled and (account.expires is None or account.expires >= DAY)
                if (
                    self.covered(name)
                    and active
                    and (unseen or any("yes" not in ways for ways in states))
                ):
                    out.add(name)
            elif self.covered(name) is (self.says.quantifier == "nobody") and any(
                set(ways) - {"no"} for ways in states
            ):
                out.add(name)
        return out


@given(st.integers(0, 10**9))
@example(66060)  # two virtual paths lead to a folder, and one of them has the right
@settings(max_examples=150, deadline=None)
def test_who_breaks_a_promise_is_who_does_so_anywhere(seed):
    rng = Random(seed)
    model = random_model(seed)
    for _ in range(4):
        says = random_says(rng, model)
        expected = Brute(model, says).broken_by()
        found = broken_promises(prepare(model), DAY, (m.Promise("p", says),))
        assert (found[0].accounts if found else 0) == len(expected), says
        assert {b.account for x in found for b in x.breaches} <= expected
        for b in (b for x in found for b in x.breaches):
            assert BIT[b.right] & says.rights and (b.line or b.where)


@given(st.integers(0, 10**9))
def test_what_is_said_is_read_back(seed):
    model = random_model(seed)
    says = random_says(Random(seed), model)
    assert m.parse_says(str(says)) == says
    with_it = sound(
        m.Model(
            **{
                **{f: getattr(model, f) for f in model.__dataclass_fields__},
                "promises": (m.Promise("p", says),),
            }
        )
    )
    assert with_it.promises[0].says.rights == says.rights


@pytest.mark.parametrize(
    ("text", "said"),
    [
        (
            "only group:a, group:b may download at s:/x tree",
            m.Says(
                "only",
                (m.Subject("group", "a"), m.Subject("group", "b")),
                BIT["download"],
                Place("s", "/x"),
                "tree",
            ),
        ),
        (
            "nobody in anyone may read,upload at /charts through quay",
            m.Says(
                "nobody",
                (m.Subject("anyone"),),
                BUNDLES["read"] | BIT["upload"],
                "/charts",
                "here",
                "quay",
            ),
        ),
        (
            "everybody in unit:fleet may drop at s:/come here below",
            m.Says(
                "everybody",
                (m.Subject("unit", "fleet"),),
                BUNDLES["drop"],
                Place("s", "/come here"),
                "below",
            ),
        ),
        (
            "nobody in anyone may list at s:/way through here here",
            m.Says(
                "nobody",
                (m.Subject("anyone"),),
                BIT["list"],
                Place("s", "/way through here"),
                "here",
            ),
        ),
        (
            "nobody in anyone may list at s:/may at tree tree through q",
            m.Says(
                "nobody",
                (m.Subject("anyone"),),
                BIT["list"],
                Place("s", "/may at tree"),
                "tree",
                "q",
            ),
        ),
    ],
)
def test_it_is_read_from_its_end(text, said):
    assert m.parse_says(text) == said and m.parse_says(str(said)) == said


@pytest.mark.parametrize(
    "text",
    [
        "",
        "nobody may read at /x",
        "only may read at /x",
        "all of anyone may read at /x",
        "nobody in owner may read at /x",
        "nobody in anyone may fly at /x",
        "nobody in anyone may read at x",
        "nobody in anyone can read at /x",
        "nobody in anyone may read",
    ],
)
def test_what_is_no_promise_is_told(text):
    with pytest.raises(BadValue):
        m.parse_says(text)


def test_rights_of_files_ask_both_what_is_ones_own_and_what_is_not():
    assert {"download", "delete-file"} < set(FILE_RIGHTS)
    model = sound(
        m.Model(
            accounts=(m.Account("ada"),),
            stores=(
                m.Store(
                    "s",
                    folders=(
                        m.Folder(
                            "/",
                            entries=(
                                m.parse_entry("allow anyone look"),
                                m.parse_entry("allow owner download"),
                            ),
                        ),
                    ),
                ),
            ),
            virtual_paths=(m.VirtualPath("/x", "s:/", grants=(m.parse_grant("anyone all"),)),),
            promises=(
                m.Promise("a", m.parse_says("nobody in account:ada may download at s:/")),
                m.Promise("b", m.parse_says("everybody in account:ada may download at /x")),
            ),
        )
    )
    nobody, everybody = broken_promises(prepare(model), DAY)
    assert (
        nobody.text()
        == "promise a is broken (nobody in account:ada may download at s:/): ada at /x: `allow"
        " owner download` on s:/ lets it download"
    )
    assert everybody.breaches[0].line == "it lacks download"
