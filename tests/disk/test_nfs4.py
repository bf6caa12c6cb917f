"""NFSv4 lists: read as text or as a kernel keeps them, judged as RFC 8881 says literally, compared
and adopted.
"""

import errno
import os
import struct
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.core.decide.gates import verdict
from drawknife.core.disk.described import DescribedTree
from drawknife.core.everybody.access_map import AccessMap
from drawknife.core.everybody.adopting import with_folders
from drawknife.core.everybody.described_drift import described_drift
from drawknife.core.everybody.describing import adopt_described
from drawknife.core.everybody.drift import ON_FOLDERS
from drawknife.core.model import described_folders as described
from drawknife.core.model import items as m
from drawknife.core.model import nfs4
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import BadValue
from drawknife.core.words.rights import FILE_RIGHTS, RIGHTS
from drawknife.disk.standalone import scanning
from drawknife.formats.descriptors_csv import names_from_csv
from drawknife.formats.document import BadDocument
from drawknife.formats.model_file import read_model, write_model
from drawknife.formats.nfs4_text import Nfs4Item, folders_from_items, items_from_text

from ..conftest import run
from ..core.test_promises import NOW

GROUPS = {"crew": ("ada", "bo"), "office": ("bo", "cy")}
ACCOUNTS = ("ada", "bo", "cy")
WHO = (
    "OWNER@",
    "GROUP@",
    "EVERYONE@",
    "ada@x.org",
    "cy@x.org",
    "crew@x.org",
    "office@x.org",
    "AUTHENTICATED@",
)
PATHS = ("/", "/a", "/a/b", "/a/b/c", "/d", "/d/e")
LETTERS = "rwaxdDtTnNcCoy"
NUMBERS = dict(
    zip(
        LETTERS,
        (1, 2, 4, 0x20, 0x10000, 0x40, 0x80, 0x100, 8, 0x10, 0x20000, 0x40000, 0x80000, 0x100000),
        strict=True,
    )
)
SOMEBODY = ("user", "somebody@x.org")


# --- a literal reading of the RFC ---------------------------------------------------------------


class Literal:
    """Lists by path as lines of text, with owner and group, and what they allow (RFC 8881, sections
    6.2.1 and 6.4.3).
    """

    def __init__(self, things):
        self.things = things

    def is_meant(self, name, line, owner, group):
        _, flags, who, _ = line.split(":")
        if who in ("EVERYONE@", "AUTHENTICATED@"):
            return True
        if who == "OWNER@":
            return owner == name
        groups = {g for g, members in GROUPS.items() if name in members}
        if who == "GROUP@":
            return group in groups
        short = who.partition("@")[0]
        return short in groups if "g" in flags else short == name

    def granted(self, name, lines, owner, group, letter):
        """Each entry in order, until the bit is allowed or denied; None where none names it."""
        for line in lines:
            kind, flags, _, letters = line.split(":")
            if (
                kind in "AD"
                and "i" not in flags
                and letter in letters
                and self.is_meant(name, line, owner, group)
            ):
                return kind == "A"
        return None

    def file_in(self, path):
        lines, _, group = self.things[path]
        found = []
        for line in lines:
            kind, flags, who, letters = line.split(":")
            if "f" in flags:
                found.append(f"{kind}:{'g' if 'g' in flags else ''}:{who}:{letters}")
        return found, group

    def allows(self, name, path, right, own):
        way = [path]
        while way[-1] != "/":
            way.append(way[-1].rpartition("/")[0] or "/")
        for up in way[1:] if right == "delete-folder" else way:
            if not self.granted(name, *self.things[up], "x"):
                return False
        if right == "delete-folder":
            if path == "/":
                return False
            return self.may_delete(name, way[1], self.things[path])
        if right in FILE_RIGHTS:
            lines, group = self.file_in(path)
            file = (lines, name if own else "somebody", group)
            if right in ("rename", "delete-file"):
                return self.may_delete(name, path, file)
            letter = {"download": "r", "overwrite": "w", "append": "a", "set-attributes": "T"}[
                right
            ]
            return bool(self.granted(name, *file, letter))
        letter = {"enter": "x", "list": "r", "upload": "w", "make-folder": "a"}[right]
        return bool(self.granted(name, *self.things[path], letter))

    def allows_on_folder(self, name, path, action):
        if action == "rename":
            return self.allows(name, path, "delete-folder", False)
        at = path
        while at != "/":
            at = at.rpartition("/")[0] or "/"
            if not self.granted(name, *self.things[at], "x"):
                return False
        return bool(self.granted(name, *self.things[path], "T"))

    def may_delete(self, name, folder, thing):
        """Section 6.2.1.3.2: either of the two permits it; where neither is allowed or denied,
        adding a file does.
        """
        by_folder = self.granted(name, *self.things[folder], "D")
        by_thing = self.granted(name, *thing, "d")
        if by_folder or by_thing:
            return True
        if by_folder is None and by_thing is None:
            return bool(self.granted(name, *self.things[folder], "w"))
        return False


def random_line(rng):
    who = rng.choice(WHO)
    flags = rng.choice(("", "", "fd", "fd", "d", "f", "fdi", "fdn", "di"))
    flags += "g" if who.startswith(("GROUP", "crew", "office")) else ""
    letters = rng.choice(("rwaxdDtTnNcCoy", "rxtncy", "rwaDxtTnNcy", "x", "w", "D", "d", "T", "ra"))
    return f"{rng.choice('AAAD')}:{flags}:{who}:{letters}"


def inherited(lines):
    """What a folder gets from the one above (section 6.4.3)."""
    found = []
    for line in lines:
        kind, flags, who, letters = line.split(":")
        group = "g" if "g" in flags else ""
        if "d" in flags:
            kept = "" if "n" in flags else "".join(x for x in "fd" if x in flags)
            found.append(f"{kind}:{kept}{group}:{who}:{letters}")
        elif "f" in flags and "n" not in flags:
            found.append(f"{kind}:fi{group}:{who}:{letters}")
    return found


def random_things(rng):
    """A tree as it comes to be: each folder with what it inherited, with lines of its own before,
    or with others alone.
    """
    found = {}
    for path in PATHS:
        above = found.get(path.rpartition("/")[0] or "/") if path != "/" else None
        own = [random_line(rng) for _ in range(rng.randint(1, 4))]
        kind = rng.random()
        if above is None:
            lines = [*own, "A:fd:EVERYONE@:xr"]
        elif kind < 0.4:
            lines = inherited(above[0])
        elif kind < 0.7:
            lines = [*own, *inherited(above[0])]
        else:
            lines = own
        if above is not None and kind < 0.5:
            found[path] = lines, above[1], above[2]
        else:
            found[path] = (
                lines,
                rng.choice(("ada", "cy", "root")),
                rng.choice(("crew", "office", "root")),
            )
    return found


def names():
    return [
        described.SidName(
            nfs4.principal(m.parse_subject(f"{kind}:{name}"), f"{name}@x.org"),
            m.parse_subject(f"{kind}:{name}"),
        )
        for kind, some in (("account", ACCOUNTS), ("group", GROUPS))
        for name in some
    ]


def server(things):
    items = [
        Nfs4Item(path, True, owner, group, "\n".join(lines))
        for path, (lines, owner, group) in things.items()
    ]
    folders, notes = folders_from_items(items, names())
    return sound(
        m.Model(
            accounts=tuple(m.Account(name) for name in ACCOUNTS),
            groups=tuple(
                m.Group(name, tuple(m.parse_member(f"account:{x}") for x in members))
                for name, members in GROUPS.items()
            ),
            stores=(
                m.Store(
                    "s",
                    "/srv/s",
                    "closed",
                    None,
                    tuple(m.Folder(path) for path in PATHS if path != "/"),
                ),
            ),
            virtual_paths=(
                m.VirtualPath("/", "s:/", "all", (m.Grant(m.Subject("anyone"), (1 << 11) - 1),)),
            ),
            descriptor_readings=(
                m.DescriptorReading("s", None, tuple(folders), tuple(names()), tuple(notes)),
            ),
        )
    )


@given(st.integers(0, 10**9))
@settings(max_examples=120, deadline=None)
def test_a_tree_allows_what_the_rfc_says_literally(seed):
    things = random_things(Random(seed))
    model = server(things)
    tree, literal = DescribedTree(model.descriptor_readings[0].folders), Literal(things)
    for name in ACCOUNTS:
        groups = {f"group:{g}@x.org" for g, members in GROUPS.items() if name in members}
        me = f"user:{name}@x.org"
        token = frozenset({me, *groups, "EVERYONE@", "AUTHENTICATED@"})
        for path in PATHS:
            for right in RIGHTS:
                for own in (False, True) if right in FILE_RIGHTS else (False,):
                    expected = literal.allows(name, path, right, own)
                    if right in FILE_RIGHTS:
                        found = tree.allows_on_file(token, me, path, right, own)
                    else:
                        found = tree.allows_on_folder(token, path, right)
                    assert found == expected, (name, path, right, own)
            for action in ("rename", "set-attributes"):
                expected = literal.allows_on_folder(name, path, action)
                assert tree.allows_on_folder(token, path, action) == expected, (name, path, action)


@given(st.integers(0, 10**9))
@settings(max_examples=60, deadline=None)
def test_what_is_adopted_differs_only_where_that_is_reported(seed):
    things = random_things(Random(seed))
    model = server(things)
    reading = model.descriptor_readings[0]
    adopted = adopt_described(prepare(model), reading)
    prepared = prepare(sound(with_folders(model, "s", adopted.folders)))
    reported = {}
    for row in described_drift(prepared, reading, fold_rows=False).rows:
        for word, rights in (("refused", row.refused), ("wider", row.wider)):
            for right in rights:
                reported.setdefault((row.account, row.place.path, right), set()).add(word)
    literal, found = Literal(things), {}
    for name in ACCOUNTS:
        for cell in AccessMap(prepared, [prepared.account(name).index]).cells({"s": list(PATHS)}):
            for number, right in enumerate(RIGHTS):
                for own in (False, True) if right in FILE_RIGHTS else (False,):
                    if cell.path == "/" and right == "delete-folder":
                        continue
                    modelled = bool((cell.owning if own else cell.plain)[number] & 1)
                    if modelled != literal.allows(name, cell.path, right, own):
                        found.setdefault((name, cell.path, right), set()).add(
                            "refused" if modelled else "wider"
                        )
            for right, action in ON_FOLDERS.items():
                if cell.path == "/" and action == "rename":
                    continue
                to = cell.location + "x" if action == "rename" else None
                modelled = verdict(
                    prepared, Question(name, action, cell.location, to, "folder"), NOW
                ).allowed
                if modelled != literal.allows_on_folder(name, cell.path, action):
                    found.setdefault((name, cell.path, right), set()).add(
                        "refused" if modelled else "wider"
                    )
    assert reported == found


def test_lists_that_servers_write_by_themselves_are_adopted_whole():
    """Owner, group and everyone with inheritance, one group that writes, and a folder closed to all
    but one group.
    """
    plain = ["A:fd:OWNER@:rwaDdxtTnNcCoy", "A:fdg:GROUP@:rxtncy", "A:fd:EVERYONE@:rxtncy"]
    closed = ["A:fdg:office@x.org:rwaDdxtTnNcy"]
    things = {
        "/": (plain, "root", "root"),
        "/a": (["A:fdg:crew@x.org:rwaDdxtTnNcy", *plain], "root", "root"),
        "/d": (closed, "root", "root"),
    }
    items = [Nfs4Item(p, True, o, g, "\n".join(lines)) for p, (lines, o, g) in things.items()]
    folders, _ = folders_from_items(items, names())
    assert [f.path for f in folders] == ["/", "/a", "/d"]
    model = server(
        {
            **things,
            "/a/b": (inherited(things["/a"][0]), "root", "root"),
            "/a/b/c": (inherited(things["/a"][0]), "root", "root"),
            "/d/e": (closed, "root", "root"),
        }
    )
    reading = model.descriptor_readings[0]
    assert [f.path for f in reading.folders] == [
        "/",
        "/a",
        "/d",
    ]  # those below are as these pass on
    found = adopt_described(prepare(model), reading)
    lines = {f.path: ([str(e) for e in f.entries], f.sealed) for f in found.folders}
    assert lines["/d"] == (["allow group:office all", "allow owner delete-folder here"], True)
    # A line that lets folders be renamed where they are lets files be renamed there, too: it is
    # left out and reported.
    assert {right for row in found.not_said for right in (*row.refused, *row.wider)} == {
        "rename-folder"
    }


# --- reading ------------------------------------------------------------------------------------

TEXT = """# file: {root}
A:fd:OWNER@:rwaDdxtTnNcCoy
A:fdg:GROUP@:rxtncy
U:fdSF:EVERYONE@:w

# file: {root}/log book
A:fdg:domain crew@x.org:rwaDxtTnNcy
A::OWNER@:rwaDdxtTnNcCoy

# file: {root}/log book/x
A:g:domain crew@x.org:rwatTnNcy
# file: {root}/log book/y
D::ada@x.org:r
# file: /elsewhere
A::EVERYONE@:r
"""
OWNERS = """d\troot\tdomain crew\t{root}
d\tada\tdomain crew\t{root}/log book
f\tada\tcrew\t{root}/log book/x
f\tada\tcrew\t{root}/log book/y
l\ta\tb\t{root}/z
"""
NAMES = "principal,subject\nada@x.org,account:ada\ndomain crew@x.org,group:crew\n"


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16"])
def test_the_text_of_a_tree_is_read(encoding):
    text, owners = (x.format(root="/srv/s") for x in (TEXT, OWNERS))
    items, notes = items_from_text(
        text.replace("\n", "\r\n").encode(encoding), owners.encode(encoding), "/srv/s/"
    )
    assert [(i.path, i.is_folder, i.owner) for i in items] == [
        ("/", True, "root"),
        ("/log book", True, "ada"),
        ("/log book/x", False, "ada"),
        ("/log book/y", False, "ada"),
    ]
    assert notes == ["names outside the root, or not in NFC: 1"]
    folders, notes = folders_from_items(items, names_from_csv(NAMES.splitlines(), "principal"))
    assert [f.path for f in folders] == ["/", "/log book"]
    root, book = (f.descriptor for f in folders)
    assert (root.owner, root.group) == (
        "user:root",
        "group:domain crew@x.org",
    ) and book.owner == "user:ada@x.org"
    assert str(book.aces[0]) == "A:fdg:domain crew@x.org:rwaxDtTnNcy"
    assert [described.parse_described(str(f)) for f in folders] == folders
    assert "entries of audits and alarms: 1" in notes
    assert (
        "files with other lists than their folder passes on: 2 (/log book/x, /log book/y)" in notes
    )


def test_a_text_made_in_the_folder_itself_is_read():
    text, owners = (x.format(root=".") for x in (TEXT.partition("# file: /else")[0], OWNERS))
    items, notes = items_from_text(text.encode(), owners.encode(), "/srv/s")
    assert [i.path for i in items] == ["/", "/log book", "/log book/x", "/log book/y"] and not notes
    (alone,), _ = items_from_text(b"A::OWNER@:rx\n", b"d\troot\troot\t/srv/s\n", "/srv/s")
    assert alone == Nfs4Item("/", True, "root", "root", "A::OWNER@:rx", 1)


@pytest.mark.parametrize(
    ("text", "owners", "where"),
    [
        ("# file: /srv/s\nA::OWNER@:rx\n\nX::OWNER@:rx\n", "d\troot\troot\t/srv/s\n", "nfs4:2"),
        ("# file: /srv/s\nA::OWNER@:rq\n", "d\troot\troot\t/srv/s\n", "nfs4:2"),
        ("# file: /srv/s\nA::OWNER@:rx\n", "nonsense\n", "owners:1"),
        ("# file: /srv/t\nA::OWNER@:rx\n", "d\troot\troot\t/srv/s\n", "root"),
    ],
)
def test_a_text_that_is_none_is_refused_with_its_place(text, owners, where):
    with pytest.raises(BadInput) as refused:
        items, _ = items_from_text(text.encode(), owners.encode(), "/srv/s")
        folders_from_items(items, [])
    assert refused.value.where == where and refused.value.expected


@pytest.mark.parametrize(
    "line", ["NFS4 /", "NFS4 O:a A::OWNER@:r /", "NFS4 O: G: A::OWNER@ /", "user:ada"]
)
def test_lines_that_are_none(line):
    with pytest.raises(BadValue):
        (described.parse_described if "/" in line else described.parse_sid_name)(line)


def test_an_identifier_of_everybody_stands_for_nobody():
    with pytest.raises(BadDocument):
        names_from_csv(["principal,subject\n", "everyone@,group:crew\n"], "principal")


def packed(lines):
    """The attribute in which a kernel keeps a list: XDR (RFC 4506)."""
    flags = {"f": 1, "d": 2, "n": 4, "i": 8, "S": 0x10, "F": 0x20, "g": 0x40}
    data = struct.pack(">I", len(lines))
    for line in lines:
        kind, letters, who, permissions = line.split(":")
        mask = sum(NUMBERS[x] for x in permissions)
        name = who.encode()
        data += struct.pack(
            ">IIII", "ADUL".index(kind), sum(flags[x] for x in letters), mask, len(name)
        )
        data += name + b"\0" * (-len(name) % 4)
    return data


def test_lists_that_a_kernel_keeps_are_read_as_their_text(monkeypatch, tmp_path):
    lists = {
        "": ["A:fd:OWNER@:rwaxDtTnNcCoy", "D:fdg:crew@x.org:wa"],
        "log": ["A::ada@x.org:rx"],
        "log/file": ["A::EVERYONE@:r"],
    }
    (tmp_path / "log").mkdir()
    (tmp_path / "log" / "file").touch()
    kept = {os.fsencode(tmp_path / path): packed(lines) for path, lines in lists.items()}
    monkeypatch.setattr(
        os, "listxattr", lambda path, **_: ["system.nfs4_acl"] if path in kept else []
    )

    def getxattr(path, name, **_):
        if name != "system.nfs4_acl":
            raise OSError(errno.ENODATA, os.strerror(errno.ENODATA), path)
        return kept[path]

    monkeypatch.setattr(os, "getxattr", getxattr)
    found = scanning.scan(str(tmp_path), [], [])
    assert {(t.path, t.is_folder): t.entries.splitlines() for t in found.nfs4} == {
        ("/", True): lists[""],
        ("/log", True): lists["log"],
        ("/log/file", False): lists["log/file"],
    }
    assert any(
        note.startswith("list of another system (system.nfs4_acl): /, /log")
        for note in found.notes()
    )


def test_a_tree_is_read_compared_and_adopted_by_commands(tmp_path):
    model, text, owners, names_file = (
        tmp_path / name for name in ("model.yaml", "lists", "owners", "names.csv")
    )
    model.write_text(
        write_model(
            sound(
                m.Model(
                    accounts=(m.Account("ada"),),
                    groups=(m.Group("crew", (m.parse_member("account:ada"),)),),
                    stores=(m.Store("s", "/srv/s", "closed"),),
                    virtual_paths=(
                        m.VirtualPath(
                            "/", "s:/", "all", (m.Grant(m.Subject("anyone"), (1 << 11) - 1),)
                        ),
                    ),
                )
            )
        )
    )
    text.write_text(TEXT.format(root="/srv/s"))
    owners.write_text(OWNERS.format(root="/srv/s"))
    names_file.write_text(NAMES)

    def said(*words):
        done = run(*words, "--model", model)
        assert "Traceback" not in done.stderr
        return done.returncode, done.stdout, done.stderr

    assert "--nfs4 needs --owners" in said("disk", "read", "s", "--nfs4", text)[2]
    assert "--owners goes with --nfs4" in said("disk", "read", "s", "--owners", owners)[2]
    assert (
        "one of --getfacl, --nfs4"
        in said("disk", "read", "s", "--nfs4", text, "--getfacl", text)[2]
    )
    status, _, told = said(
        "disk", "read", "s", "--nfs4", text, "--owners", owners, "--names", names_file
    )
    assert (
        status == 0
        and "2 folders with NFSv4 lists, 2 names" in told
        and "files with other lists" in told
    )
    assert "2 folders listed, 2 names; NFSv4 lists" in said("disk", "list")[1]
    status, text_, _ = said("disk", "compare", "s", "--fail")
    assert (
        status == 1
        and "ada   as user:ada@x.org" in text_
        and "not checked: files with other lists" in text_
    )
    assert said("disk", "adopt", "s")[0] == 0
    folders = {f.path: f for f in read_model(model.read_text()).stores[0].folders}
    assert "allow group:crew" in str(folders["/log book"].entries[0])
    assert "NFSv4 lists, which are not written" in said("disk", "descriptors", "s")[2]
    assert "not POSIX lists" in said("disk", "plan", "s")[2]
    posix = tmp_path / "posix"
    posix.write_text("# file: srv/s\n# owner: 0\n# group: 0\nuser::rwx\ngroup::r-x\nother::r-x\n")
    said("disk", "read", "s", "--getfacl", posix, "--out", tmp_path / "other.yaml")
    other = read_model((tmp_path / "other.yaml").read_text())
    assert (
        len(other.disk_readings) == 1 and not other.descriptor_readings
    )  # one reading takes the place of the other
    assert said("group", "rename", "crew", "hands")[0] == 0
    assert "group:domain%20crew@x.org group:hands" in said("disk", "show", "s")[1]
