"""The disk in what is told of everybody: access, who, the map and comparisons say what single
verdicts say.
"""

from dataclasses import replace
from random import Random

from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.answers import Answering
from drawknife.answers.access import example_path
from drawknife.answers.map_window import MapWindow
from drawknife.core.decide.disk_gate import taken_on
from drawknife.core.decide.explain import explain
from drawknife.core.decide.gates import verdict
from drawknife.core.everybody.access_map import access_of_all
from drawknife.core.everybody.cell import STATES
from drawknife.core.everybody.effective import right_state
from drawknife.core.follows.consequences import consequences_on
from drawknife.core.model import disk as d
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.rights import FILE_RIGHTS, RIGHTS
from drawknife.formats.model_file import write_model

from ..conftest import run
from ..core.test_promises import NOW
from .test_disk import with_entries
from .trees import GROUPS, MODES, OWNERS, USERS, random_acl

PATHS = ("/", "/a", "/a/b", "/a/b/c", "/d", "/d/e", "/f")


def random_thing(rng, folder=True):
    acl = random_acl(rng, folder) if rng.random() < 0.4 else None
    mode = rng.choice(MODES) if rng.random() < 0.35 else rng.choice((0o755, 0o775, 0o777, 0o770))
    if acl is not None:
        mode = acl.owner << 6 | (acl.group if acl.mask is None else acl.mask) << 3 | acl.other
    mode |= rng.choice((0, 0, 0, 0o1000, 0o2000)) if folder else 0
    default = random_acl(rng) if folder and rng.random() < 0.3 else None
    return d.ThingOnDisk(rng.choice(OWNERS), rng.choice(GROUPS), mode, acl, default)


def random_reading(rng, confined=None):
    """A reading that nobody made: some folders listed, some with files."""
    listed = ["/", *(p for p in PATHS[1:] if rng.random() < 0.7)]
    folders = tuple(d.FolderOnDisk(path, random_thing(rng)) for path in listed)
    files = [
        d.FilesOnDisk(path, random_thing(rng, False), rng.randint(1, 9))
        for path in PATHS
        for _ in range(rng.choice((0, 1, 2)))
    ]
    files = tuple({(x.path, x.thing): x for x in files}.values())
    above = (d.FolderOnDisk("/", d.ThingOnDisk(0, 0, rng.choice((0o755, 0o711, 0o750)))),)
    confined = rng.random() < 0.5 if confined is None else confined
    unknown = ()
    if rng.random() < 0.3:
        at, why = rng.choice(PATHS[1:]), rng.choice((d.UNREADABLE, d.MOUNT))
        unknown = (d.UnknownBelow(at, why),)
        folders = tuple(
            x
            for x in folders
            if not x.path.startswith(f"{at}/") and (x.path != at or why == d.UNREADABLE)
        )
        files = tuple(x for x in files if not f"{x.path}/".startswith(f"{at}/"))
    return m.DiskReading(
        "s", None, confined, above, folders, files, tuple(sorted(USERS)), (), 0, (), (), unknown
    )


def random_model(rng):
    """A server that lets some of it, by two virtual paths, of which one is narrower; one account
    has no user on the machine.
    """
    everything = (m.Entry("allow", m.Subject("anyone"), (1 << 11) - 1),)
    subjects = [m.Subject("account", u.name) for u in USERS]
    acting = [
        (s, rng.choice(("{account}", "{account}", "{account}", "u0", "nobody-there")))
        for s in subjects
    ]
    reading = random_reading(rng)
    model = m.Model(
        accounts=tuple(m.Account(u.name) for u in USERS),
        stores=(m.Store("s", "/srv/s", "open", None, (m.Folder("/", None, False, everything),)),),
        virtual_paths=(
            m.VirtualPath("/", "s:/", "all", (m.Grant(m.Subject("anyone"), (1 << 11) - 1),)),
            m.VirtualPath(
                "/in/x", "s:/a", "all", (m.Grant(rng.choice(subjects), rng.randint(1, 2047) | 1),)
            ),
        ),
        settings=tuple(
            m.Setting(s, (("acts_as", name),)) for s, name in acting if rng.random() < 0.8
        ),
        disk_readings=(reading,),
    )
    model = with_entries(sound(model), rng)
    folders = {f.path: f for f in model.stores[0].folders}
    for path in rng.sample(PATHS, 4):
        folders.setdefault(path, m.Folder(path, None, False, ()))
    return sound(
        replace(model, stores=(replace(model.stores[0], folders=tuple(folders.values())),))
    )


def by_single_verdicts(prepared, account, location, right):
    at = example_path(location, right)
    more = {"to": at + "y"} if right == "rename" else {}
    thing = "file" if right in FILE_RIGHTS else "folder"
    owners = [None, account] if right in FILE_RIGHTS else [None]
    asked = [Question(account, right, at, thing=thing, owner=o, **more) for o in owners]
    let = [verdict(prepared, q, NOW).allowed for q in asked]
    for q in asked if right in ("enter", "upload", "delete-file", "delete-folder") else ():
        # What is kept of a folder is so of whatever else lies in it, and not of what the question
        # says of its file.
        for other in (q, replace(q, path=at + "z"), replace(q, combination="70003:71003 0640")):
            assert verdict(prepared, other, NOW) == explain(prepared, other, NOW).verdict, other
    return STATES[let[0] | let[-1] << 1]


@given(st.integers(0, 10**9))
@settings(max_examples=120, deadline=None)
def test_everybody_everywhere_is_as_single_verdicts_say(seed):
    model = random_model(Random(seed))
    prepared = prepare(model)
    asked = Answering(prepared, 1, NOW, seen=lambda _: None)
    compared = 0
    for account in model.accounts:
        rows = asked.access(account.name).rows
        for row in rows:
            if row.location == "/" or row.kind == "synthetic":
                continue  # what stays where it is, is refused before the disk is asked
            for right, state in row.rights.items():
                if right == "rename" and row.place == "s:/":
                    continue
                wanted = by_single_verdicts(prepared, account.name, row.location, right)
                assert state == wanted, (account.name, row, right, wanted)
                compared += 1
    assert compared > 100
    window = asked.map(MapWindow("download"))
    for name, cells in zip(window.accounts, window.cells, strict=True):
        rows = {row.location: row.rights["download"] for row in asked.access(name).rows}
        assert rows == {
            x: cell for x, cell in zip(window.locations, cells, strict=True) if cell is not None
        }
    place = Random(seed).choice(["s:/a", "s:/a/b", "s:/d"])
    told = {(h.account, h.location): h.state for h in asked.who("upload", place).holders}
    has = {
        (a.name, row.location): row.rights["upload"]
        for a in model.accounts
        for row in asked.access(a.name).rows
        if row.place == place and row.rights["upload"] != "no"
    }
    assert {k: v for k, v in told.items() if k in has} == has


@given(st.integers(0, 10**9))
@settings(max_examples=60, deadline=None)
def test_below_what_is_recorded_the_disk_counts_too(seed):
    """One and two levels below a folder, where neither model nor reading has anything."""
    prepared = prepare(random_model(Random(seed)))
    for cell in access_of_all(prepared, None, disk=True).cells():
        if cell.segment is None or cell.path != "/a/b/c" or cell.location.startswith("/in"):
            continue
        for distance in (1, 2):
            plain, owning = cell.below(distance)
            for right in RIGHTS:
                for bit, account in enumerate(prepared.model.accounts):
                    location = cell.location + "/new" * distance
                    wanted = by_single_verdicts(prepared, account.name, location, right)
                    r = RIGHTS.index(right)
                    found = STATES[plain[r] >> bit & 1 | (owning[r] >> bit & 1) << 1]
                    assert found == wanted, (account.name, location, right)


def changed(rng, model):
    """The model after something that disks have to do with: what was read, whom a server takes on,
    an entry.
    """
    match rng.choice(["read", "forget", "as", "entry", "entry"]):
        case "read":
            return sound(replace(model, disk_readings=(random_reading(rng),)))
        case "forget":
            return sound(replace(model, disk_readings=()))
        case "as":
            subject = m.Subject("account", rng.choice(USERS).name)
            others = tuple(s for s in model.settings if s.subject != subject)
            return sound(
                replace(
                    model,
                    settings=(
                        *others,
                        m.Setting(subject, (("acts_as", rng.choice(("u1", "u2"))),)),
                    ),
                )
            )
    return with_entries(model, rng)


@given(st.integers(0, 10**9))
@settings(max_examples=150, deadline=None)
def test_what_follows_on_a_disk_is_what_single_verdicts_say(seed):
    """Every location that model or reading knows by name, for everybody whom a server takes on in
    either model.
    """
    rng = Random(seed)
    model = random_model(rng)
    other = changed(rng, model)
    before, after = prepare(model), prepare(other)
    follows = consequences_on(before, after, NOW)
    assert follows.on_disk.not_compared == ()
    access = follows.access if follows.on_disk.access is None else follows.on_disk.access
    told = {}
    for change in access:
        for name in change.accounts:
            for location in change.locations:
                there = told.setdefault((name, location), set())
                there |= {*change.gained, *change.lost, *change.widened, *change.narrowed}
    acting = [
        a.name
        for a in model.accounts
        if any(taken_on(p, p.account(a.name), "s") for p in (before, after) if p.disks)
    ]
    recorded = {f.path for p in (model, other) for f in p.stores[0].folders}
    known = recorded | {
        f.path for p in (model, other) for r in p.disk_readings for f in (*r.folders, *r.files)
    }
    for name in acting:
        places = {path: path for path in known} | {
            "/in/x" + p[2:]: p for p in known if p == "/a" or p.startswith("/a/")
        }
        for location in places:
            led = before.namespace(before.account(name)).resolve(location).place
            if led is None or led.path != places[location]:
                continue
            differ = {
                right
                for right in RIGHTS
                if right_state(before, before.account(name), location, right, disk=True)
                != right_state(after, after.account(name), location, right, disk=True)
            }
            heard = told.pop((name, location), set())
            if not heard and differ and places[location] not in recorded:
                # A folder that only the disk has is one of those that are not recorded, and told as
                # these are.
                heard = told[name, f"{location.rpartition('/')[0]}/…"]
            assert heard == differ, (name, location)
    assert not {key for key in told if key[0] in acting and key[1] in known}


def test_without_the_disk_all_is_as_before_and_said():
    rng = Random(3)
    model = random_model(rng)
    asked = Answering(prepare(model), 1, NOW, seen=lambda _: None)
    free = Answering(prepare(replace(model, disk_readings=())), 1, NOW, seen=lambda _: None)
    apart = asked.without_disks()
    assert asked.access("u1").rows != free.access("u1").rows
    for ask in (
        lambda a: a.access("u1"),
        lambda a: a.who("upload", "s:/a"),
        lambda a: a.map(MapWindow()),
        lambda a: a.compare("u0", "u1"),
    ):
        left_out, before = ask(apart), ask(free)
        assert "the disk of s was left out" in left_out.notes
        assert left_out.model_copy(update={"notes": before.notes}) == before
    question = {"account": "u1", "action": "upload", "path": "/a/new"}
    assert apart.decide(question) == free.decide(question)
    nearly = asked.who("list", "s:/a", but_for="disk").almost
    holders = {h.account for h in apart.who("list", "s:/a").holders}
    assert nearly and {x.account for x in nearly} == holders - {
        h.account for h in asked.who("list", "s:/a").holders
    }
    assert all(o.gate == "disk" and o.text for x in nearly for o in x.obstacles)


def test_the_command_line_asks_with_and_without(tmp_path):
    model = tmp_path / "model.yaml"
    model.write_text(write_model(random_model(Random(3))))

    def said(*words):
        done = run(*words, "--model", model)
        assert "Traceback" not in done.stderr
        return done.stdout

    for words in (("access", "u1"), ("map", "--right", "list"), ("handover", "u1")):
        assert said(*words) != said(*words, "--without-disk")
    assert "was left out" in said("access", "u1", "--without-disk") and "counts, too" in said(
        "access", "u1"
    )
    assert "disk" in said("why", "u1", "list", "/a") and "REFUSED" not in said(
        "why", "u1", "list", "/a", "--without-disk"
    )


def test_who_comes_and_what_changes_through_an_endpoint_is_not_told_as_if_no_disk_had_its_say():
    model = random_model(Random(3))
    acts = (
        m.Setting(m.Subject("anyone"), (("acts_as", "u3"),)),
    )  # to whom the disk refuses the root
    folders = tuple(
        f._replace(thing=d.parse_described("0:0 0700")) if f.path == "/" else f
        for f in model.disk_readings[0].folders
    )
    reading = replace(model.disk_readings[0], confined=True, folders=folders)
    model = sound(
        replace(
            model,
            settings=acts,
            disk_readings=(reading,),
            endpoints=(m.Endpoint("quay", "sftp", 22),),
        )
    )
    other = sound(replace(model, accounts=(*model.accounts, m.Account("new"))))
    follows = consequences_on(prepare(model), prepare(other), NOW)
    assert any("new" in x.accounts for x in follows.access) and follows.on_disk.access == ()
    narrow = replace(
        model.endpoints[0], entries=(m.parse_entry("allow anyone look", at_endpoint=True),)
    )
    follows = consequences_on(
        prepare(model), prepare(sound(replace(model, endpoints=(narrow,)))), NOW
    )
    assert any(x.endpoint for x in follows.access) and follows.on_disk.not_compared == ("s",)


def test_who_lacks_it_only_by_the_disk_is_asked_on_the_command_line(tmp_path):
    model = tmp_path / "model.yaml"
    model.write_text(write_model(random_model(Random(3))))
    done = run("who", "list", "s:/a", "--but-for", "disk", "--model", model)
    assert (
        done.returncode == 0 and "only by the disk gate" in done.stdout and "may not" in done.stdout
    )
