"""Disk readings: how they are written, what is left out of them, drift, and what a change of them
is told as.
"""

import grp
import os
import pwd
import re
import subprocess
from dataclasses import replace
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.answers import Answering
from drawknife.core.decide.explain import explain
from drawknife.core.decide.gates import verdict
from drawknife.core.disk.one_object import lets, line
from drawknife.core.disk.planned_list import permissions
from drawknife.core.disk.read_folders import Disk
from drawknife.core.everybody.adopting import adopt
from drawknife.core.everybody.disk_plan import DiskPlan
from drawknife.core.everybody.drift import drift
from drawknife.core.model import disk as d
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import BadValue
from drawknife.disk import read_disk, reading_from, users_from
from drawknife.disk.standalone.lists_and_modes import ACCESS, DEFAULT, acl_from_bytes
from drawknife.formats.model_file import read_model, write_model
from drawknife.formats.questions import read_question

from ..core.test_promises import NOW
from .test_kernel import AS_ROOT
from .trees import GROUPS, USERS, acl_to, model_of, random_acl, random_tree, read_list

# --- lines ---------------------------------------------------------------------------------------


@given(st.integers(0, 10**9))
def test_what_is_written_is_read_again(seed):
    rng = Random(seed)
    thing = d.ThingOnDisk(
        rng.choice([0, 7, 2**32 - 2]),
        rng.choice(GROUPS),
        rng.choice([0o644, 0o2755, 0o1777, 0]),
        rng.choice([None, random_acl(rng)]),
        rng.choice([None, random_acl(rng)]),
    )
    path = rng.choice(["/", "/a b", "/a/in /b", "/x acl=u::rwx"])
    folder = d.FolderOnDisk(path, thing)
    files = d.FilesOnDisk(path, thing._replace(default=None), rng.randint(1, 10**9))
    assert d.parse_folder(str(folder)) == folder and d.parse_files(str(files)) == files
    assert thing.acl is None or d.Acl(*acl_from_bytes(acl_to(thing.acl))) == thing.acl
    user = d.OsUser("ines", 9, 7, tuple(sorted({1, 2, rng.randint(8, 99)})))
    assert d.parse_user(str(user)) == user and d.parse_group("crew 7") == d.OsGroup("crew", 7)


@pytest.mark.parametrize(
    ("read", "text"),
    [
        (d.parse_folder, "0:0 /"),
        (d.parse_folder, "0:0 0755 a"),
        (d.parse_folder, "0:0 0955 /"),
        (d.parse_folder, "4294967295:0 0755 /"),
        (d.parse_folder, "0:0 0755 acl=u::rwx /"),
        (d.parse_folder, "0:0 0755 acl=u::rwx,u:5:r--,g::---,o::--- /"),
        (d.parse_folder, "0:0 0755 acl=u::rwx,u:5:r--,u:5:r--,g::---,m::r--,o::--- /"),
        (d.parse_folder, "0:0 0755 acl=u::rwx,u::rwx,g::---,o::--- /"),
        (d.parse_files, "3 of 0:0 0644 default=u::rwx,g::---,o::--- in /"),
        (d.parse_files, "x of 0:0 0644 in /"),
        (d.parse_user, "ines"),
        (d.parse_thing, "0:0"),
        (d.parse_thing, "0:0 0644 /a"),
        (d.parse_user, "ines 1 x"),
        (d.parse_group, "crew"),
        (d.check_acts_as, " a b"),
        (d.check_acts_as, "{unit}"),
        (d.check_acts_as, ""),
    ],
)
def test_lines_that_are_none(read, text):
    with pytest.raises(BadValue):
        read(text)


@given(st.integers(0, 10**9))
@settings(max_examples=300)
def test_the_line_that_is_told_is_the_one_that_decides(seed):
    """What is said of the line agrees with what is decided: the letters of it, within the mask,
    hold what is wanted.
    """
    rng = Random(seed)
    user, wanted = rng.choice(USERS), rng.choice([1, 2, 3, 4, 5])
    acl = rng.choice([None, random_acl(rng)])
    bits = (
        rng.randint(0, 0o777)
        if acl is None
        else acl.owner << 6 | (acl.group if acl.mask is None else acl.mask) << 3 | acl.other
    )
    thing = d.ThingOnDisk(rng.choice([0, user.uid]), rng.choice(GROUPS), bits, acl)
    found = line(user, thing, wanted, str)
    letters = [
        sum(b for x, b in zip(word, (4, 2, 1), strict=True) if x != "-")
        for word in found.replace(",", " ").replace(";", " ").split()
        if len(word) == 3 and set(word) <= set("rwx-")
    ]
    mask = letters[-1] if "within the mask" in found else 7
    lines = letters[:-1] if "within the mask" in found else letters
    assert lets(user, thing, wanted) is any(x & mask & wanted == wanted for x in lines), found


# --- reading ------------------------------------------------------------------------------------


@AS_ROOT
@pytest.mark.parametrize("seed", range(8))
def test_what_is_left_out_is_as_the_folder_above_would_make_it(seed):
    """Each folder is had back from the reading as it is on disk; and every file is counted once, in
    its combination.
    """
    with random_tree(Random(seed), folders=30, files=30) as root:
        reading = read_disk(str(root), "s")
        disk = Disk(reading)
        folders = [root, *(p for p in root.rglob("*") if p.is_dir())]
        for folder in folders:
            status, path = folder.stat(), os.fsencode(folder)
            wanted = d.ThingOnDisk(
                status.st_uid,
                status.st_gid,
                status.st_mode & 0o7777,
                read_list(path, ACCESS),
                read_list(path, DEFAULT),
            )
            assert disk.folder("/" + str(folder.relative_to(root)).strip(".")) == wanted
        assert 1 <= len(reading.folders) <= len(folders)
        assert sum(f.number for f in reading.files) == 30 and reading.odd == 0
        assert [f.path for f in reading.above] == ["/", "/tmp", str(root.parent)]
        again = sound(replace(model_of(root), disk_readings=(reading,)))
        assert read_model(write_model(again)) == again


def test_a_plain_tree_is_one_folder_and_odd_things_are_told(tmp_path):
    root = tmp_path / "root"
    for n in range(50):
        (root / f"a{n}" / "b").mkdir(parents=True)
    (root / "link").symlink_to("/etc")
    os.mkfifo(root / "pipe")
    os.mkdir(os.fsencode(root) + b"/a\xff")
    reading = read_disk(str(root), "s")
    assert [f.path for f in reading.folders] == ["/"] and reading.files == () and reading.odd == 1
    assert reading.notes == ("links not followed: 1", "devices, sockets or pipes left out: 1")
    with pytest.raises(OSError, match="No such file"):
        read_disk(str(tmp_path / "none"), "s")


@AS_ROOT
@pytest.mark.parametrize("seed", range(6))
def test_the_text_of_getfacl_tells_the_same(seed):
    """Of the tool itself, with names that it has to escape; users and groups by their lines."""
    passwd = [f"{u.name}:x:{u.uid}:{u.gid}::/:/bin/sh" for u in USERS]
    group = [
        f"g{gid}:x:{gid}:{','.join(u.name for u in USERS if gid in u.groups)}" for gid in GROUPS[1:]
    ]
    with random_tree(Random(seed), folders=20, files=20) as root:
        (root / "in\\side\nof").mkdir()
        (root / "a b" / "in").mkdir(parents=True)
        here = read_disk(str(root), "s")
        text = subprocess.run(
            ["getfacl", "-R", "-p", str(root)], capture_output=True, check=True
        ).stdout
        folders = subprocess.run(
            ["find", str(root), "-type", "d"], capture_output=True, check=True
        ).stdout
    users, groups = users_from(passwd, group)
    found = reading_from(
        text,
        "s",
        str(root),
        [*users, d.OsUser("root", 0, 0)],
        [*groups, d.OsGroup("root", 0)],
        folders=folders.split(b"\n"),
    )
    assert found.folders == here.folders and set(found.files) == set(here.files)
    assert (
        found.complete
        and here.complete
        and found.empty == here.empty
        and here.empty == ("/a b/in",)
    )
    assert found.odd == here.odd == 1 and {(u.name, u.uid, u.gid, *u.groups) for u in users} == {
        (u.name, u.uid, u.gid, *(g for g in u.groups if g != u.gid)) for u in USERS
    }
    assert found.notes == ("the folders above the root were not told of, and are not asked",)


TEXT = """# file: {top}
# owner: root
# group: root
user::rwx
group::r-x
other::r-x

# file: {below}a
# owner: root
# group: root
user::rwx
group::r-x
other::r-x

# file: {below}a/tool
# owner: root
# group: root
# flags: s--
user::rwx
group::r-x
other::r-x

# file: {below}a/umläut
# owner: root
# group: root
user::rw-
group::r--
other::r--

"""


@pytest.mark.parametrize(
    "folders", [b"", b"/srv/s\n/srv/s/a\n", b".\n./a\n", "\ufeff.\r\n./a\r\n".encode("utf-16-le")]
)
@pytest.mark.parametrize(
    "encoded",
    [
        str.encode,
        lambda t: t.replace("\n", "\r\n").encode(),
        lambda t: t.encode("utf-16"),
        lambda t: t.encode("utf-8-sig"),
    ],
)
@pytest.mark.parametrize(
    ("top", "below"),
    [
        ("srv/s", "srv/s/"),
        ("/srv/s/", "/srv/s//"),
        ("/srv/s", "/srv/s/"),
        (".", "./"),
        ("./", "./"),
    ],
)
def test_the_text_of_getfacl_is_read_however_it_was_made(top, below, encoded, folders):
    """By a path from the top or from where it was called, from shells of either kind: a setuid file
    is a file.
    """
    text = encoded(TEXT.format(top=top, below=below))
    found = reading_from(
        text,
        "s",
        "/srv/s",
        [d.OsUser("root", 0, 0)],
        [d.OsGroup("root", 0)],
        folders=folders.splitlines(keepends=True),
    )
    assert found.folders == (d.parse_folder("0:0 0755 /"),) and found.odd == 0
    assert {str(x) for x in found.files} == {"1 of 0:0 4755 in /a", "1 of 0:0 0644 in /a"}


def test_the_way_to_a_root_is_the_way_that_the_kernel_takes(tmp_path):
    """Each folder that is passed, on the way to a link and on the way on from it."""
    (tmp_path / "data" / "real" / "store").mkdir(parents=True)
    (tmp_path / "srv").mkdir()
    (tmp_path / "srv" / "link").symlink_to("../data/real")
    (tmp_path / "data" / "real" / "store" / "x").mkdir(mode=0o700)
    found = read_disk(str(tmp_path / "srv" / "link" / "store"), "s")
    passed = [
        x.path.removeprefix(str(tmp_path)) for x in found.above if x.path.startswith(str(tmp_path))
    ]
    assert passed == ["", "/srv", "/data", "/data/real"] and found.above[0].path == "/"
    assert [x.path for x in found.folders] == ["/", "/x"]
    (tmp_path / "round").symlink_to("round")
    with pytest.raises(OSError):
        read_disk(str(tmp_path / "round"), "s")


def test_what_could_not_be_read_is_unknown_and_never_let(monkeypatch, tmp_path):
    tmp_path.chmod(0o755)
    (tmp_path / "closed" / "deeper").mkdir(parents=True)
    (tmp_path / "open").mkdir()
    real = os.scandir

    def scandir(path):
        if os.fsencode(path).endswith(b"/closed"):
            raise PermissionError(13, "Permission denied", path)
        return real(path)

    monkeypatch.setattr(os, "scandir", scandir)
    found = read_disk(str(tmp_path), "s", confined=True, recorded=["/closed/deeper", "/gone"])
    assert found.unknown == (d.UnknownBelow("/closed", "unreadable"),) and found.absent == (
        "/gone",
    )
    assert "folders that could not be read: 1" in found.notes
    reading = replace(found, users=(d.OsUser("ada", 9, 5), d.OsUser("bo", 10, 6)))
    model = replace(small(), disk_readings=(reading,))
    prepared = prepare(model)
    for action, path in (
        ("upload", "/closed/x"),
        ("list", "/closed/deeper"),
        ("download", "/closed/deeper/x"),
    ):
        told = explain(prepared, Question("ada", action, path), NOW)
        assert (told.verdict.gate, told.verdict.reason) == ("disk", "unknown")
        assert "s:/closed could not be read" in told.verdict.text
    assert verdict(
        prepared, Question("ada", "list", "/closed"), NOW
    ).allowed  # the folder itself was seen
    for what in (
        drift(prepared, "s").left_out,
        adopt(prepared, "s").left_out,
        DiskPlan(prepared, "s").plan().left_out,
    ):
        assert any("the contents of s:/closed" in x for x in what)
    assert not [x for x in DiskPlan(prepared, "s").steps() if x.path.startswith("/closed")]


def test_users_whom_no_list_has_are_looked_up_by_number_and_by_name(monkeypatch, tmp_path):
    """A directory of users need not list them: who owns something, or is acted as, is asked for."""
    known = {
        u.pw_name: u
        for u in (
            pwd.struct_passwd((r"DOM\john smith", "x", os.getuid(), 71009, "", "/", "/bin/sh")),
            pwd.struct_passwd(("ines@dom.example", "x", 71010, 71009, "", "/", "/bin/sh")),
        )
    }
    by_number = {u.pw_uid: u for u in known.values()}
    monkeypatch.setattr(pwd, "getpwall", list)
    monkeypatch.setattr(pwd, "getpwnam", known.__getitem__)
    monkeypatch.setattr(pwd, "getpwuid", by_number.__getitem__)
    monkeypatch.setattr(os, "getgrouplist", lambda name, gid: [gid])
    monkeypatch.setattr(grp, "getgrall", list)
    monkeypatch.setattr(
        grp,
        "getgrgid",
        {71009: grp.struct_group((r"DOM\domain users", "x", 71009, []))}.__getitem__,
    )
    found = read_disk(str(tmp_path), "s", acting=["ines@dom.example", "nobody-there"])
    assert found.users == (
        d.OsUser(r"DOM\john smith", os.getuid(), 71009),
        d.OsUser("ines@dom.example", 71010, 71009),
    )
    assert found.groups == (d.OsGroup(r"DOM\domain users", 71009),)
    assert [d.parse_user(str(u)) for u in found.users] == list(found.users)
    assert d.parse_group(str(found.groups[0])) == found.groups[0]
    assert d.check_acts_as(r"DOM\john smith") and d.check_acts_as("{account}@dom.example")


def test_lines_that_refer_to_a_directory_of_users_are_no_users():
    users, groups = users_from(
        ["root:x:0:0::/:/bin/sh", "+@staff::::::", "-ines::::::"], ["root:x:0:", "+:::"]
    )
    assert [u.name for u in users] == ["root"] and [g.name for g in groups] == ["root"]


def test_names_in_another_encoding_are_counted():
    text = TEXT.format(top="srv/s", below="srv/s/").encode("latin-1")
    assert (
        reading_from(text, "s", "/srv/s", [d.OsUser("root", 0, 0)], [d.OsGroup("root", 0)]).odd == 1
    )


@pytest.mark.parametrize(
    ("text", "where", "told"),
    [
        (b"something else\n# file: srv/s\n", "getfacl:1", "stands before the first"),
        (b"\xff\xfex", "", "begins as UTF-16"),
        (
            b"# file: srv/s\n# owner: who\n# group: root\nuser::rwx\ngroup::r-x\nother::r-x\n",
            "getfacl:1",
            "user 'who' is in none",
        ),
        (b"# file: srv/s\n# owner: 0\nuser::rwx\nnonsense\n", "getfacl:4", "is no line of getfacl"),
        (
            b"# file: srv/s\n# owner: 0\nuser::rwx\n",
            "getfacl:1",
            "without user::, group:: or other::",
        ),
        (b"# file: srv/other\n# owner: 0\n", "root", "does not tell of /srv/s"),
        (b"", "root", "does not tell of"),
    ],
)
def test_text_that_is_no_reading_is_told_with_its_line(text, where, told):
    with pytest.raises(BadInput) as found:
        reading_from(text, "s", "/srv/s", [d.OsUser("root", 0, 0)], [d.OsGroup("root", 0)])
    assert found.value.where == where and told in found.value.message
    with pytest.raises(BadInput, match="no line of a passwd file"):
        users_from(["ines"], [])
    with pytest.raises(BadInput, match="no line of a group file"):
        users_from([], ["crew:x"])


# --- the gate -----------------------------------------------------------------------------------

READING = m.DiskReading(
    "s",
    folders=(d.parse_folder("0:5 0770 /"), d.parse_folder("0:5 0775 /open")),
    above=(d.parse_folder("0:0 0700 /"),),
    users=(d.OsUser("ada", 9, 5), d.OsUser("bo", 10, 6), d.OsUser("root", 0, 0)),
)


def small(acts_as="{account}", **changes):
    all_rights = (1 << 11) - 1
    return sound(
        m.Model(
            accounts=(m.Account("ada"), m.Account("bo"), m.Account("cy")),
            stores=(m.Store("s", None, "open"),),
            virtual_paths=(
                m.VirtualPath("/", "s:/", "all", (m.Grant(m.Subject("anyone"), all_rights),)),
            ),
            settings=(m.Setting(m.Subject("anyone"), (("acts_as", acts_as),)),) if acts_as else (),
            disk_readings=(replace(READING, **changes),) if changes is not None else (),
        )
    )


def told(model, account, action="list", path="/open", **more):
    return verdict(prepare(model), Question(account, action, path, **more), NOW)


def test_who_is_meant_and_from_where():
    assert (
        told(small(), "ada").gate == "disk"
        and "may not search /, on the way to s:/open" in told(small(), "ada").text
    )
    assert told(
        small(confined=True), "ada"
    ).allowed  # what is above the store's root is not seen then
    assert told(small(confined=True), "bo").gate == "disk"
    assert "has no user cy" in told(small(confined=True), "cy").text
    assert told(small("root"), "cy").allowed  # to whom nothing is refused
    assert told(small(None), "cy").allowed  # nobody is taken on: the disk is not asked
    assert told(sound(replace(small(), disk_readings=())), "cy").allowed
    assert told(small("root"), "ada", "delete-folder", "/").gate == "virtual path"


def test_a_mend_says_what_only_the_disk_can():
    asked = {"account": "bo", "action": "list", "path": "/open"}
    found = Answering(prepare(small(confined=True)), 1, NOW, seen=lambda _: None).mend(asked)
    assert found.mends == [] and "bo (user 10) may not search s:/" in found.on_disk[0]
    assert found.on_disk[1].endswith(
        "give bo --x on s:/: setfacl --set u::rwx,u:10:--x,g::rwx,m::rwx,o::---"
    )


@given(st.integers(0, 10**9))
@settings(max_examples=100, deadline=None)
def test_what_is_told_to_be_let_on_the_disk_is_what_it_takes(seed):
    """Each list that a mend names, in the place of what is there: then the disk lets it, if
    nobody's owning is asked for.
    """
    rng = Random(seed)
    thing = d.ThingOnDisk(
        rng.choice([0, 70001]),
        rng.choice(GROUPS),
        rng.choice([0o750, 0o700, 0o755]),
        rng.choice([None, random_acl(rng)]),
    )
    if thing.acl:
        bits = (
            thing.acl.owner << 6
            | (thing.acl.group if thing.acl.mask is None else thing.acl.mask) << 3
            | thing.acl.other
        )
        thing = thing._replace(mode=bits)
    reading = m.DiskReading("s", None, True, (), (d.FolderOnDisk("/", thing),), (), USERS)
    everything = (m.Grant(m.Subject("anyone"), (1 << 11) - 1),)
    model = sound(
        m.Model(
            accounts=tuple(m.Account(u.name) for u in USERS),
            stores=(m.Store("s", "/srv/s", "open"),),
            virtual_paths=(m.VirtualPath("/", "s:/", "all", everything),),
            settings=(m.Setting(m.Subject("anyone"), (("acts_as", "{account}"),)),),
            disk_readings=(reading,),
        )
    )
    user, action = rng.choice(USERS), rng.choice(["upload", "list"])
    asked = {"account": user.name, "action": action, "path": "/new" if action == "upload" else "/"}
    found = Answering(prepare(model), 1, NOW, seen=lambda _: None).mend(asked)
    lists = [
        wanted[1] for line in found.on_disk if (wanted := re.search(r"setfacl --set (\S+)", line))
    ]
    assert bool(lists) is not found.allowed
    if lists:
        acl = d.parse_acl(lists[-1])
        then = thing._replace(
            acl=acl,
            mode=acl.owner << 6 | (acl.group if acl.mask is None else acl.mask) << 3 | acl.other,
        )
        after = replace(
            model, disk_readings=(replace(reading, folders=(d.FolderOnDisk("/", then),)),)
        )
        wanted = [x for x in found.on_disk if "setfacl" in x]
        assert (
            len(wanted) > 1
            or verdict(prepare(after), Question(user.name, action, asked["path"]), NOW).allowed
        )
        for other in USERS:
            if other is not user:
                assert permissions(other, then) & ~permissions(other, thing) == 0


def test_several_kinds_of_files_pass_if_one_does():
    files = (d.parse_files("2 of 9:5 0600 in /open"), d.parse_files("3 of 10:5 0600 in /open"))
    model = small(confined=True, files=files)
    assert told(model, "ada", "download", "/open/x").allowed
    assert told(model, "ada", "download", "/open/x", combination="10:5 0600").gate == "disk"
    # One that is said is judged as it is said, whether such a one was read there or not.
    assert told(model, "ada", "download", "/open/x", combination="0:0 0600").gate == "disk"
    assert told(
        small(confined=True, folders=(d.parse_folder("0:5 1770 /"),)),
        "ada",
        "delete-file",
        "/open/x",
        combination="9:5 0600",
    ).allowed
    with pytest.raises(BadInput, match="is no thing on a disk"):
        read_question({"account": "ada", "action": "download", "path": "/x", "combination": "mine"})
    refused = told(small(confined=True, files=files[1:]), "ada", "download", "/open/x")
    assert "in s:/open: 3 files: it is bo:5 0600, group 5 has ---" in refused.text


def with_entries(model, rng):
    """A server that lets some of it only."""
    reading = model.disk_readings[0]
    paths = [f.path for f in reading.folders]
    folders = {}
    for _ in range(8):
        subject = rng.choice([m.Subject("anyone"), *(m.Subject("account", u.name) for u in USERS)])
        entry = m.Entry(
            rng.choice(["allow", "deny"]),
            subject,
            rng.randint(1, (1 << 11) - 1),
            rng.choice(["tree", "here"]),
        )
        folders.setdefault(rng.choice(paths), []).append(entry)
    made = tuple(m.Folder(path, None, False, tuple(entries)) for path, entries in folders.items())
    return sound(replace(model, stores=(replace(model.stores[0], folders=made),)))
