"""The kernel as judge: the disk gate lets what a process of the user can really do, and nothing
else.

More of it: DISK_TREES=200 pytest tests/disk/test_kernel.py
"""

import os
import shutil
from datetime import UTC, datetime
from random import Random

import pytest

from drawknife.core.decide.explain import explain
from drawknife.core.decide.gates import verdict
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.disk.standalone.lists_and_modes import ACCESS, DEFAULT

from .trees import USERS, as_user, model_of, random_tree, read_list, tried

TREES = int(os.environ.get("DISK_TREES") or 22)
NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
AS_ROOT = pytest.mark.skipif(
    os.geteuid() != 0, reason="what other users can do is only tried as root"
)


def twin_of(folder):
    """An empty folder beside another, that is like it in all but its name."""
    twin = folder.with_name(folder.name + "~")
    twin.mkdir(exist_ok=True)
    status = folder.stat()
    os.chown(twin, status.st_uid, status.st_gid)
    for name in (ACCESS, DEFAULT):
        if name in os.listxattr(twin):
            os.removexattr(twin, name)
    os.chmod(twin, status.st_mode & 0o7777)
    for name in (ACCESS, DEFAULT):
        if name in os.listxattr(folder):
            os.setxattr(twin, name, os.getxattr(folder, name))
    assert twin.stat().st_mode == status.st_mode
    return twin


class Tree:
    """A tree, with what may be deleted and moved in the place of its folders and files."""

    def __init__(self, root):
        self.root = root
        self.folders = sorted(p for p in root.rglob("*") if p.is_dir())
        self.files = sorted(p for p in root.rglob("*") if p.is_file())

    def stand_ins(self):
        for folder in self.folders:
            twin_of(folder)
        for file in self.files:
            link = file.with_name(file.name + "~")
            if not link.exists():
                os.link(file, link)

    def clear(self):
        for left in sorted(self.root.rglob("*"), key=lambda p: -len(p.parts)):
            if left.name.endswith(("~", "!")):
                shutil.rmtree(left) if left.is_dir() else left.unlink()

    def at(self, path):
        return "/" + str(path.relative_to(self.root)).strip(".")


def questions(rng, tree):
    """What is tried: the action, its location, where to, the combination of the file, and how it is
    really done.
    """
    for folder in [tree.root, *tree.folders]:
        at = tree.at(folder)
        yield "enter", at, None, None, ("access", str(folder), os.X_OK)
        yield "list", at, None, None, ("both", str(folder))
        yield "upload", at.rstrip("/") + "/new!", None, None, ("create", str(folder / "new!"))
        yield "make-folder", at.rstrip("/") + "/made!", None, None, ("mkdir", str(folder / "made!"))
        if folder != tree.root:
            twin, to = str(folder) + "~", rng.choice([tree.root, *tree.folders])
            yield "set-attributes", at, None, None, ("utime", str(folder))
            moved = f"{to}/moved-{folder.name}!"
            if to != folder and folder not in to.parents:
                yield (
                    "rename",
                    at,
                    tree.at(to / f"moved-{folder.name}!"),
                    None,
                    ("rename", twin, moved),
                )
            yield "delete-folder", at, None, None, ("rmdir", twin)
    for file in tree.files:
        at, link = tree.at(file), str(file) + "~"
        to = rng.choice([tree.root, *tree.folders])
        yield "download", at, None, file, ("open", str(file), os.O_RDONLY)
        yield "overwrite", at, None, file, ("open", str(file), os.O_WRONLY | os.O_TRUNC)
        yield "append", at, None, file, ("open", str(file), os.O_WRONLY | os.O_APPEND)
        yield "set-attributes", at, None, file, ("utime", str(file))
        yield (
            "rename",
            at,
            tree.at(to / f"moved-{file.name}!"),
            file,
            ("rename", link, f"{to}/moved-{file.name}!"),
        )
        yield "delete-file", at, None, file, ("unlink", link)


#: What was moved away for good, in the process that did it.
GONE = set()


def really(how, path, *more):
    """Do it; True if it was let, None if it cannot be tried any more."""
    if path in GONE:
        return None
    match how:
        case "access":
            return os.access(path, *more, effective_ids=True)
        case "both":
            return os.access(path, os.R_OK, effective_ids=True) and os.access(
                path, os.X_OK, effective_ids=True
            )
        case "create":
            return tried(
                lambda: os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
            )
        case "mkdir":
            return tried(os.mkdir, path)
        case "utime":
            return tried(os.utime, path, (1, 1))
        case "open":
            return tried(lambda: os.close(os.open(path, more[0])))
        case "rename":
            found = tried(os.rename, path, more[0])
            if found and not tried(os.rename, more[0], path):
                GONE.add(path)  # what is moved cannot always be moved back
            return found
        case "rmdir":
            return tried(os.rmdir, path)
        case "unlink":
            return tried(os.unlink, path)
    raise AssertionError(how)


@AS_ROOT
@pytest.mark.parametrize("seed", range(TREES))
def test_the_gate_lets_what_the_kernel_lets(seed):
    rng = Random(seed)
    checks, let = 0, 0
    with random_tree(rng) as root:
        prepared = prepare(model_of(root))
        disk = prepared.disks["s"]
        tree = Tree(root)
        things = {f: str(thing_of(disk, tree, f)) for f in tree.files}
        for user in USERS:
            asked = list(questions(rng, tree))
            tree.clear()
            tree.stand_ins()
            found = as_user(user, lambda asked=asked: [really(*x[-1]) for x in asked])
            for (action, at, to, file, how), real in zip(asked, found, strict=True):
                question = Question(
                    user.name,
                    action,
                    at,
                    to,
                    combination=things.get(file),
                    thing="file" if file is not None else "folder",
                )
                told = verdict(prepared, question, NOW)
                assert told.gate in (None, "disk"), (at, to, told)
                if checks % 7 == 0:  # what is explained is what is decided
                    assert explain(prepared, question, NOW).verdict == told
                if real is None:
                    continue
                assert told.allowed is real, (
                    user,
                    action,
                    at,
                    to,
                    file and things[file],
                    told.text,
                    how,
                )
                checks, let = checks + 1, let + bool(real)
    assert checks > 500 and checks / 100 < let < checks, (checks, let)


def thing_of(disk, tree, file):
    """How the reading has a file: as its folder's combinations do."""
    status = file.stat()
    there = disk.files(tree.at(file.parent))
    alike = [
        x.thing
        for x in there
        if (x.thing.uid, x.thing.gid, x.thing.mode)
        == (status.st_uid, status.st_gid, status.st_mode & 0o7777)
    ]
    if len(alike) > 1:  # told apart by their lists
        has = ACCESS in os.listxattr(file)
        own = read_list(os.fsencode(file), ACCESS) if has else None
        alike = [x for x in alike if x.acl == own]
    (found,) = alike
    return found
