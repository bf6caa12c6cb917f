"""A plan says on the disk what the model says, as far as lists can, and tells what they cannot: held against the kernel."""

import os
import subprocess
from dataclasses import replace
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.core.decide.gates import verdict
from drawknife.core.disk.one_object import lets
from drawknife.core.disk.plan_steps import PlanSteps
from drawknife.core.disk.planned_list import Machine, permissions, planned
from drawknife.core.everybody.disk_plan import DiskPlan
from drawknife.core.everybody.drift import drift
from drawknife.core.model import disk as d
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.errors import BadInput, Refused
from drawknife.core.words.rights import BUNDLES, FILE_RIGHTS
from drawknife.disk import read_disk
from drawknife.disk.applying import apply_plan, put_back
from drawknife.disk.attributes import ACCESS, DEFAULT, read_list
from drawknife.disk.plan_text import restore_text, script

from .test_everybody import random_thing
from .test_kernel import AS_ROOT, NOW, Tree, questions, really
from .trees import USERS, as_user, model_of, random_tree

# --- one list ---------------------------------------------------------------------------------------


@given(st.integers(0, 10**9))
@settings(max_examples=600)
def test_a_list_lets_each_user_do_what_is_wanted_and_takes_nothing_from_who_is_not_meant(seed):
    rng = Random(seed)
    thing = random_thing(rng)
    machine = Machine((*USERS, d.OsUser("root", 0, 0)))
    meant = rng.sample(USERS, rng.randint(1, len(USERS)))
    some = [rng.choice((0, 1, 5, 7)) for _ in range(2)]
    wanted = {u.uid: rng.choice(some) if rng.random() < 0.8 else rng.randint(0, 7) for u in meant}
    found = planned(thing, wanted, machine)
    assert (found.uid, found.gid, found.mode & 0o7000, found.default) == (
        thing.uid,
        thing.gid,
        thing.mode & 0o7000,
        thing.default,
    )
    assert found.acl is None or (found.acl.mask or 0) == found.mode >> 3 & 7
    for user in USERS:
        before, after = permissions(user, thing), permissions(user, found)
        if user.uid in wanted:
            assert after == wanted[user.uid] and lets(user, found, after), (user, thing, wanted, found)
        elif user.uid == thing.uid or user.uid in dict(thing.acl.users if thing.acl and thing.mode & 0o070 else ()):
            assert after == before, (user, thing, wanted, found)
        else:
            assert after & ~before == 0, (user, thing, wanted, found)  # nobody else gains
    stranger = d.OsUser("stranger", 5, 5)
    assert permissions(stranger, found) & ~permissions(stranger, thing) == 0


def test_groups_serve_where_all_of_them_may_have_the_same():
    """Four of a group of four: one line. Three of them: a line each, as the fourth is in it, too."""
    users = tuple(d.OsUser(f"v{n}", 900 + n, 800, (850,)) for n in range(4))
    thing = d.ThingOnDisk(0, 0, 0o750)
    one = planned(thing, {u.uid: 7 for u in users}, Machine(users))
    assert one.acl is not None and one.acl.users == () and len(one.acl.groups) == 1
    three = planned(thing, {u.uid: 7 for u in users[:3]} | {903: 5}, Machine(users))
    assert three.acl.users == ((900, 7), (901, 7), (902, 7), (903, 5)) and three.acl.groups == ()


# --- the whole plan, on a real disk -----------------------------------------------------------------

PLANS = int(os.environ.get("DISK_TREES") or 14)


def promising(root, rng):
    """A server that lets some accounts some of it: entries of all kinds on folders of the tree, and on some that are not there."""
    model = model_of(root)
    folders = ["/", *("/" + str(p.relative_to(root)) for p in sorted(root.rglob("*")) if p.is_dir()), "/planned/only"]
    subjects = [m.Subject("account", u.name) for u in USERS] + [m.Subject("anyone"), m.Subject("owner")]
    made = {}
    for path in sorted({"/", *rng.sample(folders, min(5, len(folders)))}):
        entries = []
        for _ in range(rng.randint(1, 3)):
            rights = rng.choice(list(BUNDLES.values())) if rng.random() < 0.7 else rng.randint(1, 2047)
            reach = rng.choice(("tree", "tree", "tree", "here", "below", "children"))
            entries.append(m.Entry(rng.choice(("allow", "allow", "deny")), rng.choice(subjects), rights, reach))
        made[path] = m.Folder(path, None, rng.random() < 0.2, tuple(dict.fromkeys(entries)))
    if rng.random() < 0.7:
        top = made["/"]
        everybody = m.Entry(
            "allow", m.Subject("anyone"), rng.choice((BUNDLES["look"], BUNDLES["add"], BUNDLES["change"])), "tree"
        )
        made["/"] = replace(top, entries=tuple(dict.fromkeys((everybody, *top.entries))))
    store = replace(model.stores[0], baseline="closed", folders=tuple(made.values()))
    led = tuple(m.Grant(m.Subject("account", u.name), (1 << 11) - 1) for u in USERS if u.name != NOT_LED)
    paths = (replace(model.virtual_paths[0], grants=led),)
    if rng.random() < 0.5:
        paths = model.virtual_paths
    return sound(replace(model, stores=(store,), virtual_paths=paths))


#: Whom nothing leads to the store, on half of the trees.
NOT_LED = "u4"


def told_of(found, prepared):
    """What a plan says that the disk will not say as the model does: (account, folder, right)."""
    every = drift(prepared, "s", fold_rows=False).rows
    said = {(row.account, row.location, right) for row in every for right in (*row.refused, *row.wider)}
    # What is folded is told by the row that it is counted in.
    assert len(every) == len(found.not_said) + sum(row.below for row in found.not_said)
    return said


@AS_ROOT
@pytest.mark.parametrize("seed", range(PLANS))
def test_what_the_model_lets_the_kernel_lets_and_nothing_else_but_what_was_told(seed):
    rng = Random(seed)
    with random_tree(rng, folders=16, files=24) as root:
        os.chmod(root.parent, 0o755)
        model = promising(root, rng)
        prepared = prepare(model)
        plan = DiskPlan(prepared, "s")
        found = plan.plan()
        kept = []
        was = read_disk(str(root), "s")
        link = root.parent / "link"
        link.symlink_to(root)  # a root may be come to by a link
        done = apply_plan(str(link), PlanSteps(plan.disk, found.steps), kept.append)
        now = read_disk(str(root), "s")
        assert (len(kept) == done.changed and (done.changed == 0)) or found.steps
        # What it is now is what the plan said that it would be; and a plan of that changes nothing.
        after = prepare(
            replace(model, disk_readings=(replace(now, store="s", users=model.disk_readings[0].users),)), prepared
        )
        for step in found.steps:
            if step.what == "folder" and not step.perhaps:
                assert after.disks["s"].folder(step.path) == step.planned
            elif step.what == "files":
                assert step.planned in [x.thing for x in after.disks["s"].files(step.path)]
        again = DiskPlan(after, "s")
        assert apply_plan(str(root), PlanSteps(again.disk, again.steps()), kept.append).changed == 0
        told = told_of(found, plan.after())
        checks = let = 0
        tree = Tree(root)
        server = prepare(replace(model, disk_readings=()))
        for user in USERS:
            if not server.namespace(server.account(user.name)).served:
                # Nothing leads it there: it keeps what it has, and gains nothing.
                for folder in ("/", *(tree.at(p) for p in tree.folders)):
                    had, has = (permissions(user, x.disks["s"].folder(folder)) for x in (prepared, after))
                    assert has & ~had == 0, (user, folder)
                continue
            asked = [x for x in questions(rng, tree) if x[0] != "rename" or x[3] is not None]
            tree.clear()
            tree.stand_ins()
            real = as_user(user, lambda asked=asked: [really(*x[-1]) for x in asked])
            for (action, at, to, file, how), really_let in zip(asked, real, strict=True):
                inside = file is not None or action in ("upload", "make-folder")
                folder = at.rpartition("/")[0] or "/" if inside else at
                if really_let is None or (to is not None and to.rpartition("/")[0] != at.rpartition("/")[0]):
                    continue
                owner = user.name if file is not None and file.stat().st_uid == user.uid else None
                more = {"to": at + "y"} if action == "rename" else {}
                thing = "file" if file is not None else "folder"
                asked_of = Question(user.name, action, at, thing=thing, owner=owner, **more)
                promised = verdict(server, asked_of, NOW).allowed
                if really_let is promised:
                    pass
                elif action == "set-attributes":
                    assert promised or user.name in found.owners
                else:
                    where = (user, action, at, promised, how)
                    at_known, level = plan.nearest(folder)
                    known = at_known.rstrip("/") + "/…" * level if level else folder
                    assert (user.name, known, action) in told or uncertain(after, user, folder, action), where
                checks, let = checks + 1, let + really_let
        assert checks > 200
        tree.clear()
        assert put_back(str(root), "".join(reversed(kept)).encode()) == done.changed
        assert as_it_was(read_disk(str(root), "s")) == as_it_was(was)


@AS_ROOT
@pytest.mark.parametrize("seed", range(8))
def test_the_script_does_the_same_and_takes_it_back(seed, tmp_path):
    """With the real tools: the script, its undoing, and the text for ``setfacl --restore`` of the folders in it."""
    rng = Random(seed)
    with random_tree(rng, folders=16, files=24) as root:
        (root / "a b'[c]*").mkdir()
        os.chmod(root / "a b'[c]*", 0o700)
        model = promising(root, rng)
        prepared = prepare(model)
        plan = DiskPlan(prepared, "s")
        steps = plan.steps()
        was = as_it_was(read_disk(str(root), "s"))
        file = tmp_path / "plan.sh"
        file.write_text(script("s", str(root), steps, "made of a test"))

        def sh(*words):
            done = subprocess.run(["sh", file, *words], cwd=tmp_path, capture_output=True, text=True, check=False)
            return done.returncode, done.stderr

        assert sh() == (0, "")
        by_script = as_it_was(read_disk(str(root), "s"))
        assert sh()[0] == 1 and "is there already" in sh()[1]  # what was is not written over
        assert sh("undo") == (0, "") and as_it_was(read_disk(str(root), "s")) == was
        text = restore_text(steps)
        subprocess.run(["setfacl", "--restore=-"], input=text, cwd=root, text=True, check=True)
        for step in steps:
            if step.what == "folder" and not step.perhaps:
                assert thing_at(root / step.path.lstrip("/"), True) == step.planned
        assert sh("undo") == (0, "")
        kept = []
        apply_plan(str(root), PlanSteps(plan.disk, steps), kept.append)
        assert as_it_was(read_disk(str(root), "s")) == by_script
        # What was kept is what getfacl writes: the tool can put it back, too.
        subprocess.run(["setfacl", "--restore=-"], input="".join(kept), cwd=root, text=True, check=True)
        assert as_it_was(read_disk(str(root), "s")) == was


def thing_at(path, folder):
    status, name = path.stat(), os.fsencode(path)
    default = read_list(name, DEFAULT) if folder else None
    return d.ThingOnDisk(status.st_uid, status.st_gid, status.st_mode & 0o7777, read_list(name, ACCESS), default)


@AS_ROOT
def test_a_disk_that_is_not_as_it_was_read_is_left_alone_and_a_failure_stops(monkeypatch, tmp_path):
    rng = Random(1)
    with random_tree(rng) as root:
        model = promising(root, rng)
        plan = DiskPlan(prepare(model), "s")
        steps = PlanSteps(plan.disk, plan.steps())
        os.chmod(root, 0o701)
        kept = []
        with pytest.raises(Refused, match="/ is not as it was read"):
            apply_plan(str(root), steps, kept.append)
        assert kept == []
    with random_tree(rng) as root:
        (root / "twice").write_text("x")
        os.link(root / "twice", root.parent / "elsewhere")
        os.symlink("/etc", root / "link")
        model = promising(root, rng)
        steps = DiskPlan(prepare(model), "s")
        steps = PlanSteps(steps.disk, steps.steps())
        was = as_it_was(read_disk(str(root), "s"))
        real, count = os.setxattr, []

        def failing(*arguments):
            count.append(1)
            if len(count) == 3:
                raise OSError(28, "No space left on device")
            real(*arguments)

        with monkeypatch.context() as patched:
            patched.setattr(os, "setxattr", failing)
            with pytest.raises(OSError, match="No space left"):
                apply_plan(str(root), steps, kept.append)
        assert 0 < len(kept) <= 3 and as_it_was(read_disk(str(root), "s")) != was
        put_back(str(root), "".join(kept).encode())
        assert as_it_was(read_disk(str(root), "s")) == was
        with pytest.raises(BadInput, match="getfacl:3"):
            put_back(str(root), b"# file: .\n# owner: 0\nnonsense\n")


def as_it_was(reading):
    return reading.folders, sorted(reading.files, key=str)


def uncertain(prepared, user, folder, action):
    """Of files that are not all alike a disk may let something for some only: what is told is told of them together."""
    return action in FILE_RIGHTS and len(prepared.disks["s"].files(folder)) > 1
