"""Planning, doing, taking back, taking over and Windows trees, on the command line and in a
service.
"""

import fcntl
import json
import os
import stat
import struct
import subprocess
from contextlib import suppress
from dataclasses import replace
from random import Random

import pytest

from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.formats.model_file import read_model, write_model

from ..conftest import ROOT, run, serving
from .test_descriptors import ACCOUNTS, GROUPS, server
from .test_kernel import AS_ROOT
from .test_plan import as_it_was, promising
from .trees import random_tree, read_disk


@pytest.fixture(scope="module")
def service(cluster, tmp_path_factory):
    folder = tmp_path_factory.mktemp("disk-commands")
    with serving(cluster.create_database("disk_commands"), folder) as running:
        yield running


@AS_ROOT
def test_a_plan_is_looked_at_done_and_taken_back(service, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    with random_tree(Random(4), folders=16, files=24) as root:
        model = tmp_path / "model.yaml"
        model.write_text(write_model(promising(root, Random(4))))

        def said(*words, given=None):
            done = run(*words, environment=service.environment, given=given)
            assert "Traceback" not in done.stderr
            return done.returncode, done.stdout, done.stderr

        assert said("load", model, "--yes")[0] == 0
        was = as_it_was(read_disk(str(root), "s"))
        status, text, _ = said("disk", "plan", "s")
        assert (
            status == 0
            and "What the lists cannot say:" in text
            and "putting, renaming and deleting" in text
        )
        assert said("disk", "plan", "s", "--acl")[1].startswith("# file: ")
        assert said("disk", "plan", "s", "--script")[1].startswith("#!/usr/bin/python3 -I")
        assert "one of --script" in said("disk", "plan", "s", "--acl", "--script")[2]
        assert (
            "--under does not go with" in said("disk", "plan", "s", "--json", "--under", "/d1")[2]
        )
        assert (
            "there is no folder /none on this machine"
            in said("disk", "plan", "s", "--apply", "--yes", "--root", "/none")[2]
        )
        # Nothing is done before it is asked, and none of it without a yes.
        assert said("disk", "plan", "s", "--apply", given="n\n")[0] == 1
        assert as_it_was(read_disk(str(root), "s")) == was and not os.path.exists("s-before.acl")
        status, _, told = said("disk", "plan", "s", "--apply", "--yes")
        assert status == 0 and "s-before.acl has what was" in told
        assert stat.S_IMODE(os.stat("s-before.acl").st_mode) == 0o600
        status, _, told = said("disk", "plan", "s", "--apply", "--yes")
        assert (
            status == 3 and "s-before.acl already exists" in told
        )  # the way back is not written over
        status, _, told = said("disk", "plan", "s", "--apply", "--yes", "--kept", "other.acl")
        assert (
            status == 3 and "changed since it was read" in told and not os.path.exists("other.acl")
        )
        assert said("disk", "put-back", "s-before.acl", "--root", root, given="n\n")[0] == 1
        status, _, told = said("disk", "put-back", "s-before.acl", "--root", root, "--yes")
        assert (
            status == 0
            and "things put back" in told
            and as_it_was(read_disk(str(root), "s")) == was
        )
        assert said("disk", "put-back", "s-before.acl", "--root", "/none", "--yes")[0] == 3


@AS_ROOT
def test_a_disk_is_taken_over_as_a_draft(service, tmp_path):
    with random_tree(Random(4)) as root:
        model = tmp_path / "model.yaml"
        model.write_text(write_model(promising(root, Random(4))))

        def said(*words):
            done = run(*words, environment=service.environment)
            assert "Traceback" not in done.stderr
            return done.returncode, done.stdout + done.stderr

        assert said("load", model, "--yes")[0] == 0
        assert said("draft", "begin", "as-it-is")[0] == 0
        status, text = said("disk", "adopt", "s", "--draft", "as-it-is")
        assert status == 0 and "folders with lines" in text
        assert said("disk", "compare", "s", "--fail")[0] == 1
        # Where files of a folder differ, lines cannot say it: that is all that is left, and it was
        # told.
        differs = [
            x
            for x in said("disk", "compare", "s", "--draft", "as-it-is")[1].splitlines()
            if x[:5] == "    ✕"
        ]
        assert differs == [] and "refused on" in text
        assert said("setting", "remove", "anyone")[0] == 0
        status, text = said("disk", "adopt", "s")
        assert status == 2 and "whom a server takes on" in text and "acts_as" in text


def test_a_windows_tree_is_read_compared_taken_over_and_written(tmp_path):
    model, tree, names = tmp_path / "model.yaml", tmp_path / "tree.csv", tmp_path / "names.csv"
    model.write_text(write_model(sound(replace(server(), descriptor_readings=()))))
    crew = GROUPS["crew"][0]
    tree.write_text(
        f'path,owner,descriptor\nD:\\s,BA,"D:PAI(A;OICI;FA;;;BA)(A;OICI;FR;;;{crew})"\nD:\\s\\a,BA,"D:PAI(A;OICI;FA;;;{crew})"\n'
    )
    lines = [f"{sid},account:{name}" for name, sid in ACCOUNTS.items()] + [f"{crew},group:crew"]
    names.write_text("\n".join(["sid,subject", *lines]))

    def said(*words):
        done = run(*words, "--model", model)
        assert "Traceback" not in done.stderr
        return done.returncode, done.stdout, done.stderr

    assert said("disk", "read", "s", "--descriptors", tree, "--names", names)[0] == 0
    assert (
        said("disk", "read", "S", "--descriptors", tree, "--names", names)[0] == 0
    )  # again, in the place of the first
    assert "2 folders listed, 4 names; Windows tree" in said("disk", "list")[1]
    assert (
        "is let" not in said("disk", "compare", "s")[1]
        and said("disk", "compare", "s", "--fail")[0] == 1
    )
    assert said("disk", "adopt", "s")[0] == 0
    found = read_model(model.read_text())
    assert [str(e) for e in found.stores[0].folders[1].entries] == [
        "allow group:crew all"
    ] and found.stores[0].folders[1].sealed
    status, text, _ = said("disk", "descriptors", "s", "--root", "D:\\s")
    assert (
        status == 0
        and text.splitlines()[0] == "path,owner,descriptor"
        and "D:\\s\\a,S-1-5-32-544,O:BAD:PAI" in text
    )
    assert "not POSIX lists" in said("disk", "plan", "s")[2]
    assert (
        said("group", "rename", "crew", "hands")[0] == 0
    )  # whom an identifier stands for is carried along
    assert f"{crew} group:hands" in said("disk", "show", "s")[1]
    assert (
        said("disk", "remove", "s")[0] == 0
        and "were not read" in said("disk", "descriptors", "s")[2]
    )


@AS_ROOT
def test_a_scan_of_another_machine_is_the_reading_made_there(tmp_path):
    """The script needs Debian's Python alone; its output is what `disk read` finds by itself on the
    same disk.
    """
    model, here, there = (tmp_path / name for name in ("model.yaml", "here.yaml", "there.yaml"))
    with random_tree(Random(7)) as root:
        (root / "Größe").mkdir(mode=0o700)
        os.mkdir(os.fsencode(root) + b"/a\xff")
        found = promising(root, Random(7))
        (store,) = found.stores
        folders = (*store.folders, m.Folder("/nowhere"))
        model.write_text(
            write_model(sound(replace(found, stores=(replace(store, folders=folders),))))
        )
        script = run("disk", "scanner", "s", "--root", root, "--model", model)
        assert script.returncode == 0, script.stderr
        scan = subprocess.run(
            ["/usr/bin/python3", "-I", "-"],
            input=script.stdout,
            capture_output=True,
            text=True,
            cwd="/",
            check=True,
        )
        taking = [run("disk", "read", "s", "--root", root, "--model", model, "--out", here)]
        taking += [
            run("disk", "read", "s", "-", "--model", model, "--out", there, given=scan.stdout)
        ]
        assert [x.returncode for x in taking] == [0, 0], taking
        readings = [
            replace(read_model(x.read_text()).disk_readings[0], taken=None) for x in (here, there)
        ]
        assert (
            readings[0] == readings[1] and "/nowhere" in readings[0].absent and readings[0].odd == 1
        )
        other = run(
            "disk",
            "read",
            "s",
            "-",
            "--model",
            model,
            given=scan.stdout.replace('"store": "s"', '"store": "t"'),
        )
        assert "a scan of store t" in other.stderr
        for text in ("", "[]", "{}", '{"nfs4": [1]}'):
            bad = run("disk", "read", "s", "-", "--model", model, given=text)
            assert (
                bad.returncode == 2 and "Traceback" not in bad.stderr and "scanner" in bad.stderr
            ), bad
        gone = subprocess.run(
            ["/usr/bin/python3", "-I", "-", "/nowhere"],
            input=script.stdout,
            capture_output=True,
            text=True,
        )
        assert (gone.returncode, gone.stdout) == (
            1,
            "",
        ) and "/nowhere cannot be read" in gone.stderr


#: Attributes of a file, and what sets them (linux/fs.h).
IMMUTABLE, APPEND_ONLY, SET_FLAGS = 0x10, 0x20, 0x40086602


def set_flags(path, flags):
    fd = os.open(path, os.O_RDONLY)
    try:
        fcntl.ioctl(fd, SET_FLAGS, struct.pack("L", flags))
    finally:
        os.close(fd)


@AS_ROOT
def test_what_is_not_judged_is_named_with_its_places(tmp_path):
    """Attributes i and a, security labels, and mounts that are read-only."""
    root = tmp_path / "root"
    (root / "fixed").mkdir(parents=True)
    (root / "log").touch()
    (root / "named").touch()
    (root / "inner").mkdir()
    model = tmp_path / "model.yaml"
    model.write_text(write_model(sound(m.Model(stores=(m.Store("s", str(root)),)))))
    script = tmp_path / "scanner.py"
    script.write_text(run("disk", "scanner", "s", "--model", model).stdout)
    steps = (
        'mount --bind "$1/inner" "$1/inner" && mount -o remount,bind,ro "$1/inner" && exec "$2" -I'
        ' "$3"'
    )
    mounted = ["unshare", "-m", "sh", "-c", steps, "sh", root]
    try:
        try:
            os.setxattr(root / "named", "security.drawknife-test", b"x")
            set_flags(root / "fixed", IMMUTABLE)
            set_flags(root / "log", APPEND_ONLY)
            subprocess.run([*mounted, "true", script], capture_output=True, check=True)
        except (OSError, subprocess.CalledProcessError) as error:
            pytest.skip(
                f"this machine's file system or kernel has no such attributes or mounts: {error}"
            )
        scan = subprocess.run(
            [*mounted, "python3", script], capture_output=True, text=True, check=True
        )
    finally:
        for name in ("fixed", "log"):
            with suppress(OSError):
                set_flags(root / name, 0)
    assert json.loads(scan.stdout)["notes"] == [
        "attribute a (can only be appended to): /log",
        "attribute i (cannot be changed): /fixed",
        "mounted read-only: /inner",
        "security label security.drawknife-test: /named",
    ]


def test_the_demo_takes_its_own_files():
    demo = str(ROOT / "demo" / "disk")
    done = run(
        "disk",
        "read",
        "public",
        "--descriptors",
        f"{demo}/public.csv",
        "--names",
        f"{demo}/public-sids.csv",
        "--model",
        str(ROOT / "demo" / "tidewrack.yaml"),
        "--out",
        "/dev/null",
    )
    assert done.returncode == 0 and "3 folders with descriptors, 8 names" in done.stderr
