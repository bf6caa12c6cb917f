"""The census against what the operating system's own find and du say."""

import os
import subprocess
from collections import Counter
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.census.report import census_of, read_mapping, read_rows
from drawknife.census.walk import Walked, walk_files
from drawknife.formats.document import BadDocument


@pytest.fixture(scope="module")
def tree(tmp_path_factory):
    """Hard links, sparse files, odd names, deep nesting, links, and empty folders."""
    root = tmp_path_factory.mktemp("tree")
    deep = root
    for i in range(60):
        deep = deep / f"d{i}"
        deep.mkdir()
        (deep / "f").write_bytes(b"x" * i)
    (root / "a\nb").mkdir()
    (root / "a\nb" / "new\nline").write_bytes(b"12345")
    odd = os.fsencode(root) + b"/caf\xe9"
    os.mkdir(odd)
    with open(odd + b"/\xff\xfe", "wb") as file:
        file.write(b"z" * 77)
    os.mkdir(odd + b"/below")
    with open(odd + b"/below/fine", "wb") as file:
        file.write(b"z" * 7)
    with open(root / "sparse", "wb") as file:
        file.truncate(50 * 2**20)
        file.write(b"end")
    (root / "links").mkdir()
    (root / "one").write_bytes(b"h" * 4321)
    for i in range(5):
        os.link(root / "one", root / "links" / str(i))
    os.symlink("/etc", root / "links" / "away")
    os.symlink(root / "one", root / "links" / "back")
    os.mkfifo(root / "links" / "pipe")
    (root / "empty").mkdir()
    (root / "é").mkdir()
    (root / "é" / "x").write_bytes(b"x" * 11)
    return root


def find(root, form):
    """For each regular file what `find` prints of it; of files with several names that in the first
    folder by name.
    """
    out = subprocess.run(
        ["find", root, "-xdev", "-type", "f", "-printf", f"%i\t{form}\t%P\\0"], capture_output=True
    ).stdout
    found = {}
    for line in out.split(b"\0")[:-1]:
        inode, amount, path = line.split(b"\t", 2)
        here = os.path.dirname(path), int(amount)
        found[inode] = min(found.get(inode, here), here)
    return list(found.values())


@pytest.mark.parametrize(("by_disk", "form", "unit"), [(False, "%s", 1), (True, "%b", 512)])
def test_the_same_as_find(tree, by_disk, form, unit):
    walked = walk_files(str(tree), by_disk=by_disk)
    expected = find(tree, form)
    sums, ours = Counter(), Counter()
    for folder, amount in expected:
        sums[folder] += amount * unit
    for (folder, _), (bytes_, _) in walked.sums.items():
        ours[folder] += bytes_
    assert +ours == +sums and sum(n for _, n in walked.sums.values()) == len(expected) == 66
    folders = subprocess.run(
        ["find", tree, "-type", "d", "-print0"], capture_output=True
    ).stdout.split(b"\0")[:-1]
    assert (walked.linked_again, walked.others) == (5, 3) and len(walked.folders) == len(folders)


@given(
    st.lists(
        st.tuples(st.lists(st.sampled_from("abc"), max_size=4), st.integers(0, 5)), max_size=25
    ),
    st.integers(1, 4),
)
@settings(max_examples=40)
def test_piece_by_piece_it_is_the_same(made, piece):
    """Whatever a piece is: files come in once each, of those with several names the
    first by name.
    """
    with TemporaryDirectory() as folder, pytest.MonkeyPatch.context() as patch:
        for n, (path, links) in enumerate(made):
            at = Path(folder, *path)
            at.mkdir(parents=True, exist_ok=True)
            (at / f"f{n}").write_bytes(b"x" * n)
            for k in range(links):
                other = Path(folder, *made[(n * 7 + k) % len(made)][0])
                other.mkdir(parents=True, exist_ok=True)
                os.link(at / f"f{n}", other / f"l{n}.{k}")
        whole = walk_files(folder)
        patch.setattr("drawknife.census.walk.PIECE", piece)
        told = []
        assert walk_files(folder, progress=lambda *x: told.append(x)) == whole
        assert told[-1] >= (len(made), sum(range(len(made)))) and told == sorted(told)


def test_by_several_processes_it_is_the_same(tree, monkeypatch):
    def told(found):
        return {
            f: sorted(v) if isinstance(v := getattr(found, f), list) else v
            for f in Walked.__slots__
        }

    whole = told(walk_files(str(tree)))
    monkeypatch.setattr("drawknife.census.walk.PIECE", 3)
    assert told(walk_files(str(tree), processes=2)) == whole


def test_the_same_as_du_but_for_what_folders_and_links_take_themselves(tree):
    def du(*options):
        return int(
            subprocess.run(
                ["du", "-s", "-x", *options, tree], capture_output=True, text=True
            ).stdout.split()[0]
        )

    others = subprocess.run(
        ["find", tree, "!", "-type", "f", "-printf", "%b\t%s\\n"], capture_output=True, text=True
    ).stdout
    blocks, lengths = (
        sum(int(line.split("\t")[i]) for line in others.splitlines()) for i in (0, 1)
    )
    assert (
        sum(b for b, _ in walk_files(str(tree), by_disk=True).sums.values())
        == du("--block-size=1") - blocks * 512
    )
    # Coreutils before 9.2 count the length of folders as well, later ones do not; links count in
    # both.
    apparent = du("--apparent-size", "--block-size=1")
    links = subprocess.run(
        ["find", tree, "!", "-type", "f", "!", "-type", "d", "-printf", "%s\n"],
        capture_output=True,
        text=True,
    ).stdout
    assert sum(b for b, _ in walk_files(str(tree)).sums.values()) in (
        apparent - lengths,
        apparent - sum(map(int, links.split())),
    )


def test_sparse_files_by_length_and_by_what_they_occupy(tree):
    length, disk = (dict(walk_files(str(tree), by_disk=d).sums) for d in (False, True))
    key = next(k for k in length if k[0] == b"")
    assert length[key][0] > 50 * 2**20 > disk[key][0] * 10


def test_names_that_a_model_cannot_hold_count_for_the_folder_above(tree):
    walked = walk_files(str(tree))
    found = census_of("s", walked, ["ada"], {}, "length", deepest=1, name_of=lambda _: "ADA")
    rows = {r.folder: (r.bytes, r.owner) for r in found.rows}
    assert {r.owner for r in found.rows} == {"ada"} and "/é" in rows and rows["/é"][0] == 11
    total = sum(b for b, _ in walked.sums.values())
    assert sum(r.bytes for r in found.rows) == total and not any(
        "\n" in f or "\udce9" in f for f in rows
    )
    assert any("names that a model cannot hold" in note for note in found.notes)
    assert {"/d0", "/é", "/empty", "/links"} <= set(
        found.new_folders
    ) and "/d0/d1" not in found.new_folders


def test_owners_by_name_by_mapping_and_unknown():
    walked = Walked(sums={(b"", 1): [5, 1], (b"a", 2): [7, 2], (b"a", 3): [9, 1]})
    names = {1: "ines", 2: "svc-tides", 3: "stranger"}
    found = census_of(
        "s",
        walked,
        ["Ines", "tide-press"],
        {"svc-tides": "tide-press"},
        "length",
        name_of=names.__getitem__,
    )
    assert [(r.folder, r.owner, r.bytes, r.files) for r in found.rows] == [
        ("/", "Ines", 5, 1),
        ("/a", None, 9, 1),
        ("/a", "tide-press", 7, 2),
    ]
    assert found.unknown_owners == {"stranger": [9, 1]}
    assert read_mapping(["os_user,account\n", "svc-tides,tide-press\n"]) == {
        "svc-tides": "tide-press"
    }
    with pytest.raises(BadDocument, match="line 2"):
        read_mapping(["a,b\n", "nonsense\n"])


def test_what_may_not_be_read_is_told_and_the_rest_counted(tmp_path):
    if os.geteuid() != 0:
        pytest.skip("only root can become somebody who may not read")
    for name in ("open", "shut"):
        (tmp_path / name).mkdir()
        (tmp_path / name / "f").write_bytes(b"x" * 10)
    os.chmod(tmp_path / "shut", 0o700)
    for folder in (tmp_path, *tmp_path.parents):
        if folder.stat().st_uid == 0 and str(folder).startswith("/tmp/"):
            os.chmod(folder, folder.stat().st_mode | 0o055)
    reading, writing = os.pipe()
    pid = os.fork()
    if pid == 0:
        os.setuid(65534)
        found = walk_files(str(tmp_path))
        os.write(
            writing,
            repr((sorted(found.unreadable), sum(n for _, n in found.sums.values()))).encode(),
        )
        os._exit(0)
    os.waitpid(pid, 0)
    assert os.read(reading, 1000).decode() == "([b'shut'], 1)"


def test_a_folder_that_goes_away_meanwhile_does_no_harm(tmp_path, monkeypatch):
    for name in ("a", "b"):
        (tmp_path / name).mkdir()
        (tmp_path / name / "f").write_bytes(b"x")
    real = os.scandir

    def scandir(path):
        if bytes(path).endswith(b"/a"):
            os.unlink(tmp_path / "a" / "f")
            os.rmdir(tmp_path / "a")
        return real(path)

    monkeypatch.setattr(os, "scandir", scandir)
    found = walk_files(str(tmp_path))
    assert found.vanished == 1 and sum(n for _, n in found.sums.values()) == 1
    with pytest.raises(OSError):
        walk_files(str(tmp_path / "nowhere"))


def test_rows_come_in_as_they_went_out():
    lines = ["folder,owner,bytes,files\n", '"/a,b",ada,5,1\n', "/c,,7,2\n"]
    rows = read_rows(lines)
    assert [(r.folder, r.owner, r.bytes) for r in rows] == [("/a,b", "ada", 5), ("/c", None, 7)]
    assert read_rows([r.model_dump_json() + "\n" for r in rows]) == rows
    for wrong in ("/a,ada,many,1\n", "a,ada,1,1\n", "/a,ada\n", "/a,ada,-1,1\n"):
        with pytest.raises(BadDocument, match="line 2"):
            read_rows([lines[0], wrong])
