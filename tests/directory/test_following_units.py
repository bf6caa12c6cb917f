"""Units that are renamed or moved in a directory are followed; no unit ever comes to be taken for
another one.
"""

from dataclasses import replace

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from drawknife.core.model import items as m
from drawknife.core.model.soundness import flaws
from drawknife.core.words.names import fold
from drawknife.directory.losses import TooFew
from drawknife.directory.plan import plan
from drawknife.directory.reading import DirectoryContents, Person, read
from drawknife.directory.source import open_source
from drawknife.formats.model_file import read_model, write_model
from drawknife.messages import DirectoryOptions

BARE = read_model(
    "drawknife: 1\naccounts: [{name: here}]\nstores: [{name: s, folders: [{path: /a}]}]\n"
    "virtual_paths: [{path: /x, leads_to: 's:/a', grants: [anyone all]}]\n"
)


def found(units, people=(), groups=()):
    """What a directory has: units as {path: id or None}, people as (name, unit), groups as (name,
    names of members).
    """
    made = DirectoryContents()
    made.units = set(units)
    made.unit_ids = {
        fold(path): known_by for path, known_by in dict(units).items() if known_by is not None
    }
    made.people = {name: Person(name, None, None, unit, None, name) for name, unit in people}
    made.groups = {name: {m.Subject("account", x) for x in members} for name, members in groups}
    return made


def synced(*states, model=BARE, most=100):
    for state in states:
        made = plan(model, "dir", state, most)
        assert not flaws(made.model)
        model = made.model
    return made


def with_entries(model, entries):
    stores = tuple(
        replace(s, folders=tuple(replace(f, entries=entries) for f in s.folders))
        for s in model.stores
    )
    return replace(model, stores=stores)


def with_entry(model, line):
    return with_entries(model, (m.parse_entry(line),))


def units(model):
    return {x.path: x.source_id for x in model.unit_facts if x.source == "dir"}


def test_a_renamed_unit_takes_along_what_is_below_it_and_what_is_set_for_it():
    first = synced(found({"shore": "1", "shore/lab": "2"}, [("ann", "shore/lab")])).model
    made = synced(
        found({"coast": "1", "coast/lab": "2"}, [("ann", "coast/lab")]),
        model=with_entry(first, "allow unit:shore list"),
    )
    assert made.changes == {"units renamed": ["shore → coast"]} and made.renames == [
        ("unit", "shore", "coast")
    ]
    assert units(made.model) == {"coast": "1", "coast/lab": "2"} and not made.model.gone
    assert str(made.model.stores[0].folders[0].entries[0]) == "allow unit:coast list"
    assert next(a.unit for a in made.model.accounts if a.name == "ann") == "coast/lab"
    assert read_model(write_model(made.model)) == made.model


def test_a_unit_is_followed_to_another_place_below_one_that_is_new():
    made = synced(found({"a": "1", "a/b": "2"}), found({"a": "1", "x": "9", "x/b": "2"}))
    assert made.changes == {"units renamed": ["a/b → x/b"], "units added": ["x"]}
    assert units(made.model) == {"a": "1", "x": "9", "x/b": "2"}


def test_names_that_move_on_are_followed_and_those_that_change_places_keep_theirs():
    made = synced(found({"a": "1", "b": "2"}), found({"b": "1", "c": "2"}))
    assert units(made.model) == {"b": "1", "c": "2"} and made.renames == [
        ("unit", "b", "c"),
        ("unit", "a", "b"),
    ]
    swapped = synced(found({"a": "1", "b": "2"}), found({"b": "1", "a": "2"}, [("ann", "b")]))
    assert units(swapped.model) == {"a": "1", "b": "2"} and not swapped.renames
    assert (
        next(a.unit for a in swapped.model.accounts if a.name == "ann") == "a"
    )  # the unit that is called b there
    assert len(swapped.notes.by_kind["kept-name"]) == 2


def test_a_unit_takes_no_name_that_lines_still_give_to_one_that_is_gone():
    first = with_entry(
        synced(found({"a": "1", "b": "2"}, [("ann", "a")])).model, "allow unit:b list"
    )
    made = synced(found({"b": "1"}, [("ann", "b")]), found({"b": "1"}, [("ann", "b")]), model=first)
    assert units(made.model) == {"a": "1"} and made.model.gone == (m.Subject("unit", "b"),)
    assert list(made.notes.by_kind) == ["kept-name"]
    assert made.model.units == ("a",)  # so that the line matches nobody


def test_a_local_unit_is_not_taken_by_a_rename():
    local = replace(BARE, units=("deck",))
    made = synced(
        found({"a": "1", "a/b": "2"}),
        found({"deck": "1", "deck/b": "2"}, [("ann", "deck/b")]),
        model=local,
    )
    assert units(made.model) == {"a": "1", "a/b": "2"} and list(made.notes.by_kind) == ["kept-name"]
    assert next(a.unit for a in made.model.accounts if a.name == "ann") == "a/b"


def test_what_a_unit_is_known_by_is_read_from_the_directory():
    raw = b"dn: ou=shore,dc=x\nobjectClass: organizationalUnit\nou: shore\nentryUUID: 550e\n"
    options = DirectoryOptions(address="x.ldif", people_base="dc=x", units_base="dc=x")
    assert read(open_source(options, None, lambda _: raw), options).unit_ids == {"shore": "550e"}


@st.composite
def trees(draw):
    """A tree of units, {path: id}: each below one of the others, and none known by what another is
    known by.
    """
    made = {}
    for known_by in draw(st.permutations("123456"))[: draw(st.integers(0, 6))]:
        above = draw(st.sampled_from(["", *(f"{path}/" for path in made)]))
        path = above + draw(st.sampled_from("abcd"))
        if path not in made and path.count("/") < 3:
            made[path] = known_by
    return made


@given(st.lists(trees(), min_size=2, max_size=4))
@example([{}, {"b": "1", "a": "3"}, {"a": "1", "a/a": "3"}])  # one goes below the one after it
def test_nobody_gets_by_a_rename_what_was_set_for_another_unit(states):
    """Held against the plain reading: a line goes with the unit that it was made for, whatever that
    is called.
    """
    model = synced(found(states[0])).model
    # The note of each line says for which unit it was made.
    entries = tuple(
        m.Entry("allow", m.Subject("unit", path), 1, note=known_by)
        for path, known_by in states[0].items()
    )
    model, meant = with_entries(model, entries), {entry.note: entry.note for entry in entries}
    for state in states[1:]:
        made = synced(found(state), model=model)
        here = units(made.model)
        assert len(set(here.values())) == len(here)
        for entry in made.model.stores[0].folders[0].entries:
            path, unit = entry.subject.name, meant[entry.note]
            if units(model).get(path) == unit and unit in state.values():
                assert here[path] == unit
            elif (
                path in here and here[path] != unit
            ):  # another one has come to that very path, and has what is set there
                assert state[path] == here[path] and path not in {new for _, _, new in made.renames}
                meant[entry.note] = here[path]
        assert synced(found(state), model=made.model).model == made.model  # once is enough
        model = made.model


# --- too much that would be lost ----------------------------------------------------------------

CREW = [f"p{i}" for i in range(20)]


def many(groups, unit="fleet"):
    return found({"fleet": "1", "shore": "2"}, [(name, unit) for name in CREW], groups)


@pytest.mark.parametrize(
    ("line", "after", "said"),
    [
        ("allow anyone list", many([("crew", [])]), "20 of 40 memberships would end"),
        ("allow group:crew all", many([("crew", CREW[:14])]), "6 of 20 people would lose access"),
        (
            "allow anyone list",
            found({}, [(name, None) for name in CREW], [("crew", CREW)]),
            "2 of 2 units are missing",
        ),
    ],
)
def test_a_sync_that_takes_much_from_people_who_stay_is_refused(line, after, said):
    model = with_entry(synced(many([("crew", CREW)])).model, line)
    with pytest.raises(TooFew, match=said) as refused:
        plan(model, "dir", after, 25)
    assert "nothing was changed" in str(refused.value)
    assert plan(model, "dir", after, 100).changes
    assert not plan(
        model, "dir", many([("crew", CREW[:15])]), 20
    ).notes.by_kind  # five are always let go


def test_every_loss_that_is_too_much_is_named_at_once():
    model = with_entry(synced(many([("crew", CREW)])).model, "allow group:crew all")
    with pytest.raises(TooFew) as refused:
        plan(model, "dir", found({"shore": "2"}, [(name, "shore") for name in CREW[:10]]), 20)
    assert all(
        words in str(refused.value)
        for words in (
            "10 of 20 people are missing",
            "1 of 1 groups",
            "1 of 2 units",
            "20 of 20 memberships",
            "would lose access",
        )
    )
