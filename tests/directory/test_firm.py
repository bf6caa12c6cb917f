"""The directory of a firm of 3,000 is read whole, from a file and from a server, and a year of it
is followed.
"""

from random import Random

import pytest
from tools.slapd import ADMIN, PASSWORD, SUFFIX, certificates, directory_server

from drawknife.core.model.soundness import flaws
from drawknife.core.words.names import fold
from drawknife.directory.plan import plan
from drawknife.directory.reading import read
from drawknife.directory.source import open_source
from drawknife.formats.model_file import read_model
from drawknife.messages import DirectoryOptions

from .firm import firm

PEOPLE = 3000
WHERE = {
    "people_base": f"ou=people,{SUFFIX}",
    "groups_base": f"ou=groups,{SUFFIX}",
    "units_base": f"ou=people,{SUFFIX}",
    "units_filter": "(&(objectClass=organizationalUnit)(!(ou=people)))",
}


@pytest.fixture(scope="module")
def first():
    return firm(Random(26), PEOPLE)


def from_file(there):
    options = DirectoryOptions(address="firm.ldif", **WHERE)
    return read(open_source(options, None, lambda _: there.ldif()), options)


def as_told(found):
    """What was read, in the plain form of the generator: by what each is known by."""
    people = {
        p.id: (p.name, p.display, p.unit) for p in found.people.values() if p.name != "partner"
    }
    units = {found.unit_ids[fold(path)]: path for path in found.units}
    known = {("account", fold(p.name)): p.id for p in found.people.values()}
    known |= {("group", key): id_ for key, id_ in found.group_ids.items()}
    groups = {
        found.group_ids[fold(name)]: (name, {known[x.kind, fold(x.name)] for x in members})
        for name, members in found.groups.items()
    }
    return people, units, groups


def as_made(there):
    people = {k: (w.uid, w.display, there.unit_path(w.unit)) for k, w in there.people.items()}
    units = {k: there.unit_path(k) for k in there.units}
    groups = {
        k: (name.replace(" ", "-"), set(members)) for k, (name, members) in there.groups.items()
    }
    return people, units, groups


def check_read(there, found):
    assert as_told(found) == as_made(there)
    assert found.people.keys() == {fold(w.uid) for w in there.people.values()} | {
        "partner"
    }  # who comes by an alias
    assert {line.partition(":")[0] for line in found.left_out} == {
        f"uid={uid},ou=people,{SUFFIX}" for uid in ("two words", "tab in it")
    }
    notes = found.notes.by_kind
    assert [kind for kind, _ in found.notes.ranked()] == [
        "members-left-out",
        "referrals",
        "respelled",
    ]
    assert [note.startswith("60 members of groups") for note in notes["members-left-out"]] == [True]
    assert "overseas" in notes["referrals"][0]
    # Of all the names that are spelled otherwise there is one line.
    assert len(notes["respelled"]) > 50 and len(found.notes.in_short()) == 3


def test_all_of_it_is_read_from_a_file(first):
    check_read(first, from_file(first))


def test_all_of_it_is_read_from_a_server(first, tmp_path):
    certificates(tmp_path)
    with directory_server(tmp_path / "slapd", first.ldif(), authority=tmp_path) as server:
        ca = str(tmp_path / "ca.pem")
        options = DirectoryOptions(address=server.tls_address, ca_file=ca, bind_name=ADMIN, **WHERE)
        source = open_source(options, PASSWORD, lambda name: (tmp_path / name).read_bytes())
        try:
            check_read(first, read(source, options))
        finally:
            source.close()


def test_a_year_is_followed_with_nobody_taken_for_another_one(first):
    bare = read_model("drawknife: 1\n")
    before = plan(bare, "firm", from_file(first), 20).model
    later = first.a_year_later(Random(27))
    made = plan(before, "firm", from_file(later), 20)
    assert not flaws(made.model)
    accounts = {a.source_id: a for a in made.model.accounts if a.source_id}
    was = {a.source_id: a.name for a in before.accounts}
    taken = {fold(w.uid) for k, w in first.people.items() if k not in later.people}
    for known_by, name in was.items():
        if known_by is None:
            continue
        now = later.people.get(known_by)
        assert accounts[known_by].enabled == (now is not None)
        if now is None or now.uid in {
            first.people[k].uid for k in later.people.keys() & was.keys() if k != known_by
        }:
            assert (
                accounts[known_by].name == name
            )  # who left, and who changed names with another one
        else:
            assert accounts[known_by].name == now.uid
    come = {k: w for k, w in later.people.items() if k not in first.people}
    assert {k for k in come if k in accounts} == {
        k for k, w in come.items() if fold(w.uid) not in taken
    }
    assert {x.source_id: x.path for x in made.model.unit_facts} == {
        k: later.unit_path(k) for k in later.units
    }
    assert {x.source_id: x.name for x in made.model.groups} == {
        k: name.replace(" ", "-") for k, (name, _) in later.groups.items()
    }
    assert [kind for kind, _ in made.notes.ranked()][:2] == ["another-one", "kept-name"]
    assert len(made.notes.by_kind["another-one"]) == 5 and len(made.notes.by_kind["kept-name"]) == 2
    assert plan(made.model, "firm", from_file(later), 20).model == made.model
