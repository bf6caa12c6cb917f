"""Windows trees: descriptors are read and written, taken over and given back, held against a
literal reading of MS-DTYP.
"""

from dataclasses import replace
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.core.decide.gates import verdict
from drawknife.core.everybody.access_map import AccessMap
from drawknife.core.everybody.adopting import with_folders
from drawknife.core.everybody.described_drift import described_drift
from drawknife.core.everybody.describing import adopt_described, describe
from drawknife.core.everybody.drift import ON_FOLDERS
from drawknife.core.model import described_folders as described
from drawknife.core.model import descriptors as w
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import BadValue
from drawknife.core.words.rights import FILE_RIGHTS, RIGHTS
from drawknife.formats.descriptors_csv import folders_from_csv, names_from_csv, rows_of
from drawknife.formats.document import BadDocument
from drawknife.formats.exported import exported_text

from ..core.test_promises import NOW

DOMAIN = "S-1-5-21-11-22-33-"
ACCOUNTS = {"ada": DOMAIN + "1101", "bo": DOMAIN + "1102", "cy": DOMAIN + "1103"}
GROUPS = {"crew": (DOMAIN + "2001", ("ada", "bo")), "office": (DOMAIN + "2002", ("bo", "cy"))}
SIDS = (
    *ACCOUNTS.values(),
    *(sid for sid, _ in GROUPS.values()),
    "S-1-1-0",
    "S-1-5-11",
    "S-1-3-0",
    "S-1-3-4",
)
PATHS = ("/", "/a", "/a/b", "/a/b/c", "/d", "/d/e")
MASKS = (
    0x1F01FF,
    0x1301BF,
    0x1200A9,
    0x120116,
    0x2,
    0x4,
    0x20,
    0x40,
    0x10000,
    0x100,
    0x6,
    0x1,
    0x10040,
)


# --- a literal reading of the standard ----------------------------------------------------------


def literally_inherited(aces, owner, container):
    """MS-DTYP 2.5.3.4.2: what a child gets, entry by entry."""
    out = []
    for allows, flags, mask, sid in aces:
        oi, ci, np = flags & 1, flags & 2, flags & 4
        applies = ci if container else oi
        if applies:
            keep = (flags & 3) if container and not np else 0
            if sid == "S-1-3-0":
                out.append((allows, 16, mask, owner))
                if container and not np:
                    out.append((allows, keep | 8 | 16, mask, sid))
            else:
                out.append((allows, keep | 16, mask, sid))
        elif container and oi and not np:
            out.append((allows, 1 | 8 | 16, mask, sid))
    return out


def literally_granted(aces, token, owner):
    """MS-DTYP 2.5.3.2: all that the list grants, bit by bit, in one pass."""
    if aces is None:
        return 0xFFFFFFFF
    who = set(token) | ({"S-1-3-4"} if owner in token else set())
    granted = denied = 0
    for allows, flags, mask, sid in aces:
        if flags & 8 or sid not in who:
            continue
        if allows:
            granted |= mask & ~denied
        else:
            denied |= mask & ~granted
    return granted


class Literal:
    """Descriptors by path, and what they let."""

    def __init__(self, folders):
        self.folders = {
            f.path: (
                f.descriptor.owner,
                None if f.descriptor.aces is None else [tuple(a) for a in f.descriptor.aces],
            )
            for f in folders
        }

    def at(self, path):
        if path in self.folders:
            return self.folders[path]
        owner, aces = self.at(path.rpartition("/")[0] or "/")
        return owner, None if aces is None else literally_inherited(aces, owner, True)

    def lets_on_folder(self, token, path, action):
        """Renaming a folder takes it from where it is, as deleting it does."""
        if action == "rename":
            return self.lets(token, None, path, "delete-folder", False)
        owner, aces = self.at(path)
        return bool(literally_granted(aces, token, owner) & 0x100)

    def lets(self, token, me, path, right, own):
        owner, aces = self.at(path)
        granted = literally_granted(aces, token, owner)
        if right in FILE_RIGHTS:
            of = me if own else "S-1-0-0"
            file = None if aces is None else literally_inherited(aces, of, False)
            on_file = literally_granted(file, token, of)
            bit = {
                "download": 1,
                "overwrite": 2,
                "append": 4,
                "rename": 0x10000,
                "delete-file": 0x10000,
                "set-attributes": 0x100,
            }[right]
            return bool(on_file & bit) or (
                right in ("rename", "delete-file") and bool(granted & 0x40)
            )
        if right == "delete-folder" and path != "/":
            above_owner, above = self.at(path.rpartition("/")[0] or "/")
            if literally_granted(above, token, above_owner) & 0x40:
                return True
        return bool(
            granted
            & {"enter": 0x20, "list": 1, "upload": 2, "make-folder": 4, "delete-folder": 0x10000}[
                right
            ]
        )


def token_of(name):
    return {
        ACCOUNTS[name],
        "S-1-1-0",
        "S-1-5-11",
        *(sid for sid, members in GROUPS.values() if name in members),
    }


# --- random trees -------------------------------------------------------------------------------


def random_aces(rng, canonical):
    aces = [
        w.Ace(
            rng.random() < 0.75,
            rng.choice((0, 3, 3, 3, 2, 1, 11, 10, 7, 9, 6, 14, 5)),
            rng.choice(MASKS),
            rng.choice(SIDS),
        )
        for _ in range(rng.randint(1, 4))
    ]
    return sorted(set(aces)) if canonical else aces


def random_folders(rng):
    """A tree as it comes to be: what is inherited is from above, but where it is protected, or has
    gone stale.
    """
    made = {}
    for path in PATHS:
        if path != "/" and rng.random() < 0.3:
            continue
        owner = rng.choice([*ACCOUNTS.values(), "S-1-5-32-544"])
        kind = rng.random()
        own = random_aces(rng, rng.random() < 0.9)
        if path == "/" or kind < 0.2:
            found = w.Descriptor(owner, True, tuple(own))
        elif kind < 0.25:
            found = w.Descriptor(owner, False, None)
        else:
            up = path.rpartition("/")[0] or "/"
            _, aces = Literal([described.DescribedFolder(p, str(d)) for p, d in made.items()]).at(
                up
            )
            inherited = [w.Ace(*a) for a in literally_inherited(aces or [], owner, True)]
            if kind > 0.92 and inherited:
                inherited.pop()  # as after a move
            found = w.Descriptor(owner, False, (*(own if rng.random() < 0.6 else ()), *inherited))
        made[path] = found
    return tuple(described.DescribedFolder(path, str(found)) for path, found in made.items())


def server(folders=(), names=True):
    lines = [described.SidName(sid, m.Subject("account", name)) for name, sid in ACCOUNTS.items()]
    lines += [described.SidName(sid, m.Subject("group", name)) for name, (sid, _) in GROUPS.items()]
    reading = m.DescriptorReading("s", None, tuple(folders), tuple(lines) if names else ())
    everything = (m.Grant(m.Subject("anyone"), (1 << 11) - 1),)
    return sound(
        m.Model(
            accounts=tuple(m.Account(name) for name in ACCOUNTS),
            groups=tuple(
                m.Group(name, tuple(m.parse_member(f"account:{x}") for x in members))
                for name, (_, members) in GROUPS.items()
            ),
            stores=(
                m.Store("s", None, "closed", None, (m.Folder("/a/b", None, False, (), "kept"),)),
            ),
            virtual_paths=(m.VirtualPath("/", "s:/", "all", everything),),
            descriptor_readings=(reading,) if folders else (),
        )
    )


def differing(prepared, folders):
    """Where model and tree do not say the same, by the literal reading: (account, folder, right),
    and which says more.
    """
    literal, found = Literal(folders), {}
    recorded = {f.path for f in prepared.stores["s"].store.folders} | {f.path for f in folders}
    for name in ACCOUNTS:
        index = prepared.account(name).index
        for cell in AccessMap(prepared, [index]).cells({"s": sorted(recorded)}):
            for r, right in enumerate(RIGHTS):
                if cell.path == "/" and right == "delete-folder":
                    continue
                for own in (False, True) if right in FILE_RIGHTS else (False,):
                    let = bool((cell.owning if own else cell.plain)[r] & 1)
                    there = literal.lets(token_of(name), ACCOUNTS[name], cell.path, right, own)
                    if let != there:
                        found.setdefault((name, cell.path, right), set()).add(
                            "refused" if let else "wider"
                        )
            for right, action in ON_FOLDERS.items():
                if cell.path == "/" and action == "rename":
                    continue
                to = cell.location + "x" if action == "rename" else None
                let = verdict(
                    prepared, Question(name, action, cell.location, to, "folder"), NOW
                ).allowed
                if let != literal.lets_on_folder(token_of(name), cell.path, action):
                    found.setdefault((name, cell.path, right), set()).add(
                        "refused" if let else "wider"
                    )
    return found


def said(rows):
    found = {}
    for row in rows:
        for word, rights in (("refused", row.refused), ("wider", row.wider)):
            for right in rights:
                found.setdefault((row.account, row.place.path, right), set()).add(word)
    return found


@given(st.integers(0, 10**9))
@settings(max_examples=250, deadline=None)
def test_what_is_taken_over_and_given_back_lets_the_same_but_for_what_was_told(seed):
    folders = random_folders(Random(seed))
    model = server(folders)
    reading = model.descriptor_readings[0]
    adopted = adopt_described(prepare(model), reading)
    after = sound(with_folders(model, "s", adopted.folders))
    prepared = prepare(after)
    told = said(described_drift(prepared, reading, fold_rows=False).rows)
    assert told == differing(prepared, folders)
    back = describe(prepared, reading)
    told_back = said(
        described_drift(prepared, replace(reading, folders=back.folders), fold_rows=False).rows
    )
    assert told_back == differing(prepared, back.folders)
    one, other = Literal(folders), Literal(back.folders)
    known = one.folders.keys() | other.folders.keys()
    for name, sid in ACCOUNTS.items():
        for path in sorted(known):
            for right in RIGHTS:
                if (
                    (name, path, right) in told
                    or (name, path, right) in told_back
                    or (path == "/" and right == "delete-folder")
                ):
                    continue
                for own in (False, True) if right in FILE_RIGHTS else (False,):
                    was, now = (x.lets(token_of(name), sid, path, right, own) for x in (one, other))
                    assert was == now, (name, path, right, own)


def test_what_administrators_write_is_said_whole():
    """Of full control, change and read for groups, with inheritance, seals, a creator's own and a
    denied one, one thing is left to tell.
    """
    root = "O:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;0x1200a9;;;WD)"
    inherited = "(A;OICIID;FA;;;BA)(A;OICIID;0x1200a9;;;WD)"
    crew, office, cy = (f"{DOMAIN}{n}" for n in (2001, 2002, 1103))
    folders = tuple(
        described.parse_described(line)
        for line in (
            f"{root} /",
            f"O:BAD:AI(D;OICI;FA;;;{cy})(A;OICI;FA;;;{crew}){inherited} /a",
            f"O:BAD:PAI(A;OICI;FA;;;{office})(A;;FX;;;{crew}) /d",
            f"O:BAD:PAI(A;OICI;0x1200a9;;;{office})(A;OICI;FA;;;{crew})(A;OICIIO;FA;;;CO) /d/e",
        )
    )
    model = server(folders)
    adopted = adopt_described(prepare(model), model.descriptor_readings[0])
    lines = {f.path: [str(e) for e in f.entries] for f in adopted.folders}
    assert lines["/a"] == ["allow group:crew all", "deny account:cy all"]
    # A tree lets who may delete a folder do that whatever holds it says; lines ask what holds it,
    # too. A line that lets folders be renamed where they are lets files be renamed there, too.
    renamed = ("rename-folder",)
    only = {("/d", (), renamed), ("/d/e", (), ("delete-folder", *renamed)), ("/a", (), renamed)}
    assert {(row.location, row.refused, row.wider) for row in adopted.not_said} == only
    assert [f.path for f in adopted.folders if f.sealed] == ["/d", "/d/e"] and adopted.nobody == (
        "S-1-5-32-544",
    )
    back = describe(
        prepare(sound(with_folders(model, "s", adopted.folders))), model.descriptor_readings[0]
    )
    assert {(row.location, row.refused, row.wider) for row in back.not_said} == only
    after = prepare(sound(with_folders(model, "s", adopted.folders)))
    still = {
        key: how for key, how in differing(after, back.folders).items() if key[2] != "rename-folder"
    }
    assert still == {("ada", "/d/e", "delete-folder"): {"wider"}}
    # Who stands for nobody here, such as the tree's administrators, keeps what it has.
    for tree in (folders, back.folders):
        granted = {
            path: literally_granted(Literal(tree).at(path)[1], {"S-1-5-32-544"}, None)
            for path in ("/", "/a", "/a/x", "/d")
        }
        assert granted == {"/": 0x1F01FF, "/a": 0x1F01FF, "/a/x": 0x1F01FF, "/d": 0}


def test_csv_of_windows_and_its_mistakes():
    text = [
        "path,owner,descriptor",
        'D:\\x,BA,"D:PAI(A;OICI;FA;;;WD)"',
        "D:\\x\\a b,,D:AI(OA;;CR;1;;WD)",
        "E:\\y,,D:",
    ]
    folders, notes = folders_from_csv(text, "D:\\x")
    assert [(f.path, f.descriptor.owner) for f in folders] == [
        ("/", "S-1-5-32-544"),
        ("/a b", None),
    ]
    assert notes == ["1 paths outside D:\\x", "1 entries of objects or with conditions"]
    assert rows_of(folders, "D:\\x")[1][0] == "D:\\x\\a b"
    for lines, told in (
        (["path,owner"], "no column descriptor"),
        ([text[0], "D:\\x,,nonsense"], "is no security descriptor"),
        ([text[0], ",,D:"], "is empty"),
        ([text[0], "D:\\x,,D:", "D:\\x,,D:"], "there twice"),
        ([text[0], 'D:\\x,,"D:"x'], "no CSV"),
    ):
        with pytest.raises(BadDocument, match=told):
            folders_from_csv(lines)
    with pytest.raises(BadDocument, match="is no security identifier"):
        names_from_csv(["sid,subject", "17,account:ada"])


@given(st.integers(0, 10**9))
def test_what_is_written_is_read_again(seed):
    for folder in random_folders(Random(seed)):
        found = folder.descriptor
        assert (
            w.parse_descriptor(str(found)) == found
            and described.parse_described(str(folder)) == folder
        )


def test_sddl_as_it_comes():
    found = w.parse_descriptor(
        "O:BAG:DUD:PARAI(A;OICI;FA;;;BA)(D;CIIO;DCDT;;;S-1-5-21-1-2-3-1105)(OA;;CR;ab721a53;;WD)(A;;GR;;;AU)(XA;;FX;;;WD;(@User.x==(1)))S:(AU;SA;FA;;;WD)"
    )
    assert (found.owner, found.protected, found.left_out) == ("S-1-5-32-544", True, 2)
    assert found.aces == (
        w.Ace(True, 3, 0x1F01FF, "S-1-5-32-544"),
        w.Ace(False, 10, 0x42, "S-1-5-21-1-2-3-1105"),
        w.Ace(True, 0, 0x120089, "S-1-5-11"),
    )
    assert (
        w.parse_descriptor("O:SYD:NO_ACCESS_CONTROL").aces is None
        and w.parse_descriptor("O:SYD:").aces == ()
    )


@pytest.mark.parametrize(
    "text",
    [
        "",
        "nonsense",
        "D:(A;OICI;FA;;;nobody)",
        "D:(A;XX;FA;;;BA)",
        "D:(A;;QQ;;;BA)",
        "D:(A;;FA)",
        "O:meD:",
        "D:X(A;;FA;;;BA)",
    ],
)
def test_what_is_no_descriptor_is_refused(text):
    with pytest.raises(BadValue):
        w.parse_descriptor(text)


@pytest.mark.parametrize(
    "text",
    ["O:BAD:(A;;FA;;;BA)D:(A;;FA;;;WD)", "O:BAO:SYD:(A;;FA;;;BA)", "D:(A;;0x1ffffffff;;;BA)"],
)
def test_a_descriptor_that_says_two_things_is_refused(text):
    with pytest.raises(BadValue):
        w.parse_descriptor(text)


def test_a_tree_is_one_whatever_the_case_of_its_drive_and_folders_and_however_it_was_exported():
    rows = ["#TYPE Listed.Folder", "path,owner,descriptor"]
    rows += [
        f'{path},BA,"D:PAI(A;OICI;FA;;;BA)"'
        for path in ("D:\\Survey", "d:\\survey\\Charts", "D:\\SURVEY\\charts\\New")
    ]
    for encoding in ("utf-8", "utf-8-sig", "utf-16"):
        text = exported_text("\r\n".join(rows).encode(encoding), "descriptors")
        folders, notes = folders_from_csv(text.splitlines(keepends=True), "D:\\survey")
        assert [f.path for f in folders] == ["/", "/Charts", "/Charts/New"] and notes == []
    twice = [*rows, 'D:\\survey\\CHARTS,BA,"D:(A;;FA;;;BA)"']
    with pytest.raises(BadDocument) as found:
        folders_from_csv([line + "\n" for line in twice], None)
    assert "is there twice" in str(found.value) and found.value.mistakes[0].line == 6
    with pytest.raises(BadInput, match="descriptors:2"):
        exported_text(b"path\n\xe4", "descriptors")
