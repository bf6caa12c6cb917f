"""Who is renamed in a directory stays who they are here; a name that somebody else has now is
nobody's heirloom.
"""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drawknife.core.model import items as m
from drawknife.core.model.soundness import flaws
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import Refused
from drawknife.core.words.names import fold
from drawknife.directory.plan import plan
from drawknife.directory.reading import DirectoryContents, Person, read
from drawknife.directory.source import open_source
from drawknife.formats.model_file import read_model
from drawknife.messages import DirectoryOptions

BARE = read_model(
    "drawknife: 1\naccounts: [{name: here}]\nstores: [{name: s, folders: [{path: /a}]}]\n"
)


def found(people=(), groups=()):
    """What a directory has: people as (name, id), groups as (name, id, names of its members)."""
    made = DirectoryContents()
    made.people = {
        fold(name): Person(name, None, None, None, None, known_by) for name, known_by in people
    }
    for name, known_by, members in groups:
        made.groups[name] = {m.Subject("account", x) for x in members}
        if known_by is not None:
            made.group_ids[fold(name)] = known_by
    return made


def synced(*states, model=BARE, adopt=()):
    for state in states:
        made = plan(model, "dir", state, 100, adopt)
        assert not flaws(made.model)
        model = made.model
    return made


def names(model):
    return {a.name: (a.source_id, a.enabled) for a in model.accounts if a.source == "dir"}


def with_lines(model, account, group):
    """The model with an entry and a setting for them, as an administrator adds them."""
    entries = (
        m.parse_entry(f"allow account:{account} all"),
        m.parse_entry(f"allow group:{group} list"),
    )
    stores = tuple(
        replace(s, folders=tuple(replace(f, entries=entries) for f in s.folders))
        for s in model.stores
    )
    return replace(
        model,
        stores=stores,
        settings=(m.Setting(m.Subject("account", account), (("sessions", 3),)),),
    )


def test_who_is_renamed_there_keeps_all_that_is_theirs():
    first = synced(found([("ann", "1"), ("bo", "2")], [("crew", "g", ["ann"])])).model
    made = synced(
        found([("ann-lee", "1"), ("bo", "2")], [("deck", "g", ["ann-lee"])]),
        model=with_lines(first, "ann", "crew"),
    )
    assert made.renames == [("account", "ann", "ann-lee"), ("group", "crew", "deck")]
    assert made.changes == {
        "accounts renamed": ["ann → ann-lee"],
        "groups renamed": ["crew → deck"],
    }
    assert names(made.model) == {"ann-lee": ("1", True), "bo": ("2", True)}
    assert [str(e) for e in made.model.stores[0].folders[0].entries] == [
        "allow account:ann-lee all",
        "allow group:deck list",
    ]
    assert made.model.settings[0].subject == m.Subject("account", "ann-lee")
    assert {str(x.subject) for g in made.model.groups for x in g.members} == {"account:ann-lee"}


def test_a_name_that_somebody_else_has_now_stays_with_the_one_before_and_is_switched_off():
    made = synced(
        found([("ann", "1")], [("crew", "g", ["ann"])]),
        found([("ann", "9")], [("crew", "g", ["ann"])]),
    )
    assert names(made.model) == {"ann": ("1", False)}
    assert made.model.groups[0].members == ()  # the new one is not taken for her
    assert "adopt account:ann" in made.notes.by_kind["another-one"][0]
    # Somebody who looks says that they are the same.
    again = synced(found([("ann", "9")]), model=made.model, adopt=[m.Subject("account", "ANN")])
    assert names(again.model) == {"ann": ("9", True)} and again.changes["accounts adopted"] == [
        "ann"
    ]


def test_names_that_move_on_are_followed_in_their_order_and_those_that_change_places_keep_theirs():
    first = synced(found([("a", "1"), ("b", "2"), ("c", "3")])).model
    made = synced(found([("b", "1"), ("c", "2"), ("d", "3")]), model=first)
    assert {n: i for n, (i, _) in names(made.model).items()} == {"b": "1", "c": "2", "d": "3"}
    assert made.renames == [("account", "c", "d"), ("account", "b", "c"), ("account", "a", "b")]
    swapped = synced(found([("b", "1"), ("a", "2"), ("c", "3")]), model=first)
    assert (
        swapped.renames == []
        and names(swapped.model) == names(first)
        and len(swapped.notes.in_short()) == 2
    )


def test_a_local_name_is_not_taken_by_a_rename():
    first = synced(found([("ann", "1")], [("crew", "g", ["ann"])])).model
    made = synced(found([("here", "1")], [("crew", "g", ["here"])]), model=first)
    assert names(made.model) == {"ann": ("1", True)} and made.left_alone == ["account here"]
    assert {str(x.subject) for x in made.model.groups[0].members} == {"account:ann"}
    assert made.notes.by_kind["kept-name"]


def test_a_local_account_is_handed_over_only_when_that_is_said():
    state = found([("here", "1"), ("ann", "2")])
    assert synced(state).left_alone == ["account here"]
    made = synced(state, adopt=[m.Subject("account", "here")])
    account = next(a for a in made.model.accounts if a.name == "here")
    assert (account.source, account.source_id, account.methods) == ("dir", "1", ("directory",))
    assert made.changes["accounts adopted"] == ["here"] and not made.left_alone
    with pytest.raises(Refused, match="the directory has no account:here"):
        synced(found([("ann", "2")]), adopt=[m.Subject("account", "here")])


@pytest.mark.parametrize(
    ("line", "known_by"),
    [
        ("entryUUID: 550e8400-e29b-41d4-a716-446655440000", "550e8400-e29b-41d4-a716-446655440000"),
        ("entryUUID:: /wD+gA==", "ff00fe80"),  # an attribute of bytes, as some directories have it
        ("mail: x@tidewrack.example", None),
    ],
)
def test_what_somebody_is_known_by_is_read_as_it_is(line, known_by):
    raw = f"dn: uid=ann,dc=x\nobjectClass: inetOrgPerson\nuid: ann\n{line}\n".encode()
    options = DirectoryOptions(address="x.ldif", people_base="dc=x")
    assert read(open_source(options, None, lambda _: raw), options).people["ann"].id == known_by


STATE = st.dictionaries(st.sampled_from("abcdef"), st.sampled_from("123456"), max_size=5).filter(
    lambda s: len(set(s.values())) == len(s)
)


@given(st.lists(STATE, min_size=2, max_size=5))
def test_nobody_is_ever_taken_for_somebody_else(states):
    """Held against the plain reading: an account is of who first had it, and of nobody else,
    whatever names do.
    """
    model, of = synced(found()).model, {}
    for state in states:
        made = synced(found([(name, known_by) for name, known_by in state.items()]), model=model)
        after = names(made.model)
        assert set(of) <= {known_by for known_by, _ in after.values()}  # nobody goes
        assert len({known_by for known_by, _ in after.values()}) == len(after)
        for name, (known_by, enabled) in after.items():
            assert enabled == (known_by in state.values())
            if known_by in of and enabled and name != of[known_by]:
                assert state[name] == known_by  # renamed only to what the directory calls them
        model, of = made.model, {known_by: name for name, (known_by, _) in after.items()}
        assert prepare(model)
        assert (
            synced(found([(n, i) for n, i in state.items()]), model=model).model == model
        )  # once is enough


def test_two_directories_with_the_same_names_are_kept_apart_by_their_suffixes():
    raw = (
        b"dn: uid=ann,dc=x\nobjectClass: inetOrgPerson\nuid: ann\nentryUUID: 1\n\n"
        b"dn: cn=crew,dc=x\nobjectClass: groupOfNames\ncn: crew\nmember: uid=ann,dc=x\n\n"
    )

    def of(suffix, ldif=raw):
        options = DirectoryOptions(
            address="x.ldif", people_base="dc=x", groups_base="dc=x", suffix=suffix
        )
        return read(open_source(options, None, lambda _: ldif), options)

    model = plan(plan(BARE, "east", of("@east"), 100).model, "west", of("@west"), 100).model
    assert {(a.name, a.source) for a in model.accounts if a.source != "local"} == {
        ("ann@east", "east"),
        ("ann@west", "west"),
    }
    assert {(g.name, str(g.members[0].subject)) for g in model.groups} == {
        ("crew@east", "account:ann@east"),
        ("crew@west", "account:ann@west"),
    }
    # Who leaves one, or is renamed there, is the same in the other as before, though both know them
    # by the same number.
    renamed = plan(model, "east", of("@east", raw.replace(b"uid: ann", b"uid: ann-lee")), 100).model
    assert {a.name for a in renamed.accounts if a.source != "local"} == {"ann-lee@east", "ann@west"}
    left = plan(renamed, "west", of("@west", raw.split(b"\n\n")[1] + b"\n"), 100).model
    assert {(a.name, a.enabled) for a in left.accounts if a.source != "local"} == {
        ("ann-lee@east", True),
        ("ann@west", False),
    }
