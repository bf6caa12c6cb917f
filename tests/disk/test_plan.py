"""A plan says on the disk what the model says, as far as lists can, and tells what they cannot:
held against the kernel.
"""

import json
import os
import subprocess
from dataclasses import replace
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.core.decide.gates import verdict
from drawknife.core.disk.one_object import lets
from drawknife.core.disk.planned_list import Machine, permissions, planned
from drawknife.core.disk.read_folders import file_created_in, made_below
from drawknife.core.everybody.adopting import adopt, with_folders
from drawknife.core.everybody.disk_plan import DiskPlan
from drawknife.core.everybody.drift import drift
from drawknife.core.model import disk as d
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.rights import BUNDLES, FILE_RIGHTS
from drawknife.disk import read_disk
from drawknife.disk.plan_text import plan_data, restore_text, script
from drawknife.disk.standalone import carrying_out
from drawknife.disk.standalone import lists_and_modes as modes
from drawknife.disk.standalone.lists_and_modes import ACCESS, DEFAULT

from .test_everybody import random_thing
from .test_kernel import AS_ROOT, NOW, Tree, questions, really
from .trees import USERS, as_user, model_of, random_tree, read_list, tried

# --- one list ------------------------------------------------------------------------------------


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
            assert after == wanted[user.uid] and lets(user, found, after), (
                user,
                thing,
                wanted,
                found,
            )
        elif user.uid == thing.uid or user.uid in dict(
            thing.acl.users if thing.acl and thing.mode & 0o070 else ()
        ):
            assert after == before, (user, thing, wanted, found)
        else:
            assert after & ~before == 0, (user, thing, wanted, found)  # nobody else gains
    stranger = d.OsUser("stranger", 5, 5)
    assert permissions(stranger, found) & ~permissions(stranger, thing) == 0


def test_groups_serve_where_all_of_them_may_have_the_same():
    """Four of a group of four: one line.

    Three of them: a line each, as the fourth is in it, too.
    """
    users = tuple(d.OsUser(f"v{n}", 900 + n, 800, (850,)) for n in range(4))
    thing = d.ThingOnDisk(0, 0, 0o750)
    one = planned(thing, {u.uid: 7 for u in users}, Machine(users))
    assert one.acl is not None and one.acl.users == () and len(one.acl.groups) == 1
    three = planned(thing, {u.uid: 7 for u in users[:3]} | {903: 5}, Machine(users))
    assert three.acl.users == ((900, 7), (901, 7), (902, 7), (903, 5)) and three.acl.groups == ()


# --- the whole plan, on a real disk -------------------------------------------------------------

PLANS = int(os.environ.get("DISK_TREES") or 14)


def promising(root, rng):
    """A server that lets some accounts some of it: entries of all kinds on folders of the tree, and
    on some that are not there.
    """
    model = model_of(root)
    folders = [
        "/",
        *("/" + str(p.relative_to(root)) for p in sorted(root.rglob("*")) if p.is_dir()),
        "/planned/only",
    ]
    subjects = [m.Subject("account", u.name) for u in USERS] + [
        m.Subject("anyone"),
        m.Subject("owner"),
    ]
    made = {}
    for path in sorted({"/", *rng.sample(folders, min(5, len(folders)))}):
        entries = []
        for _ in range(rng.randint(1, 3)):
            rights = (
                rng.choice(list(BUNDLES.values())) if rng.random() < 0.7 else rng.randint(1, 2047)
            )
            reach = rng.choice(("tree", "tree", "tree", "here", "below", "children"))
            entries.append(
                m.Entry(rng.choice(("allow", "allow", "deny")), rng.choice(subjects), rights, reach)
            )
        made[path] = m.Folder(path, None, rng.random() < 0.2, tuple(dict.fromkeys(entries)))
    if rng.random() < 0.7:
        top = made["/"]
        everybody = m.Entry(
            "allow",
            m.Subject("anyone"),
            rng.choice((BUNDLES["look"], BUNDLES["add"], BUNDLES["change"])),
            "tree",
        )
        made["/"] = replace(top, entries=tuple(dict.fromkeys((everybody, *top.entries))))
    store = replace(model.stores[0], baseline="closed", folders=tuple(made.values()))
    led = tuple(
        m.Grant(m.Subject("account", u.name), (1 << 11) - 1) for u in USERS if u.name != NOT_LED
    )
    paths = (replace(model.virtual_paths[0], grants=led),)
    if rng.random() < 0.5:
        paths = model.virtual_paths
    return sound(replace(model, stores=(store,), virtual_paths=paths))


#: Whom nothing leads to the store, on half of the trees.
NOT_LED = "u4"


def told_of(found, prepared):
    """What a plan says that the disk will not say as the model does: (account, folder, right)."""
    every = drift(prepared, "s", fold_rows=False).rows
    said = {
        (row.account, row.location, right) for row in every for right in (*row.refused, *row.wider)
    }
    # What is folded is told by the row that it is counted in.
    assert len(every) == len(found.not_said) + sum(row.below for row in found.not_said)
    return said


def carried_out(root, plan, steps, under="/"):
    """What became of a plan, and what was kept."""
    kept = []
    data = json.loads(json.dumps(plan_data(plan.disk.reading, str(root), steps, under)))
    return carrying_out.carry_out(str(root), data, kept.append), b"".join(kept)


@AS_ROOT
@pytest.mark.parametrize("seed", range(PLANS))
def test_what_the_model_lets_the_kernel_lets_and_nothing_else_but_what_was_told(seed):
    rng = Random(seed)
    with random_tree(rng, folders=16, files=24) as root:
        os.chmod(root.parent, 0o755)
        model = promising(root, rng)
        if seed % 2:  # as another machine's text tells it, which need not name every folder
            reading = replace(model.disk_readings[0], complete=False, empty=())
            model = replace(model, disk_readings=(reading,))
        prepared = prepare(model)
        plan = DiskPlan(prepared, "s")
        found = plan.plan()
        was = read_disk(str(root), "s")
        link = root.parent / "link"
        link.symlink_to(root)  # a root may be come to by a link
        done, kept = carried_out(link, plan, found.steps)
        now = read_disk(str(root), "s", recorded=[f.path for f in model.stores[0].folders])
        assert now.absent == tuple(
            f.path for f in model.stores[0].folders if f.path.startswith("/planned")
        )
        assert done.left == [] and done.changed == len(modes.kept_things(kept))
        # What it is now is what the plan said that it would be; and a plan of that changes nothing.
        after = prepare(
            replace(
                model, disk_readings=(replace(now, store="s", users=model.disk_readings[0].users),)
            ),
            prepared,
        )
        for step in found.steps:
            if step.what == "folder" and not step.perhaps:
                assert after.disks["s"].folder(step.path) == step.planned
            elif step.what == "files":
                assert step.planned in [x.thing for x in after.disks["s"].files(step.path)]
        again = DiskPlan(after, "s")
        assert again.steps() == ()  # it is carried out
        told = told_of(found, plan.after())
        checks = let = 0
        tree = Tree(root)
        server = prepare(replace(model, disk_readings=()))
        for user in USERS:
            if not server.namespace(server.account(user.name)).served:
                # Nothing leads it there: it keeps what it has, and gains nothing.
                for folder in ("/", *(tree.at(p) for p in tree.folders)):
                    had, has = (
                        permissions(user, x.disks["s"].folder(folder)) for x in (prepared, after)
                    )
                    assert has & ~had == 0, (user, folder)
                continue
            asked = [x for x in questions(rng, tree) if x[0] != "rename" or x[3] is not None]
            tree.clear()
            tree.stand_ins()
            real = as_user(user, lambda asked=asked: [really(*x[-1]) for x in asked])
            for (action, at, to, file, how), really_let in zip(asked, real, strict=True):
                inside = file is not None or action in ("upload", "make-folder")
                folder = at.rpartition("/")[0] or "/" if inside else at
                if really_let is None or (
                    to is not None and to.rpartition("/")[0] != at.rpartition("/")[0]
                ):
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
                    at_known, level = plan.allowed.nearest(folder)
                    known = at_known.rstrip("/") + "/…" * level if level else folder
                    assert (user.name, known, action) in told or uncertain(
                        after, user, folder, action
                    ), where
                checks, let = checks + 1, let + really_let
        assert checks > 200
        tree.clear()
        assert carrying_out.put_back(str(root), kept).changed == done.changed
        assert as_it_was(read_disk(str(root), "s")) == as_it_was(was)


@AS_ROOT
@pytest.mark.parametrize("seed", range(8))
def test_the_script_does_the_same_and_undoes_it(seed, tmp_path):
    """As a stranger would run it: Debian's own Python, without anything else; and the text for
    ``setfacl --restore``.
    """
    rng = Random(seed)
    with random_tree(rng, folders=16, files=24) as root:
        (root / "a b'[c]*").mkdir()
        os.chmod(root / "a b'[c]*", 0o700)
        model = promising(root, rng)
        plan = DiskPlan(prepare(model), "s")
        steps = plan.steps()
        was = as_it_was(read_disk(str(root), "s"))
        file = tmp_path / "plan.py"
        file.write_text(script(plan_data(plan.disk.reading, str(root), steps), "made of a test"))

        def ran(*words):
            done = subprocess.run(
                ["/usr/bin/python3", "-I", file, *words],
                cwd=tmp_path,
                capture_output=True,
                text=True,
                check=False,
            )
            return done.returncode, done.stdout + done.stderr

        status, said = ran()
        assert status == 0 and "things changed" in said
        by_script = as_it_was(read_disk(str(root), "s"))
        assert ran()[0] == 1 and "already exists" in ran()[1]  # what was is not written over
        assert ran("undo")[0] == 0 and as_it_was(read_disk(str(root), "s")) == was
        text = restore_text(steps)
        subprocess.run(["setfacl", "--restore=-"], input=text, cwd=root, text=True, check=True)
        for step in steps:
            if step.what == "folder" and not step.perhaps:
                assert thing_at(root / step.path.lstrip("/"), True) == step.planned
        assert ran("undo")[0] == 0
        _, kept = carried_out(root, plan, steps)
        assert as_it_was(read_disk(str(root), "s")) == by_script
        # What was kept is what getfacl writes: the tool can put it back, too.
        subprocess.run(["setfacl", "--restore=-"], input=kept, cwd=root, check=True)
        assert as_it_was(read_disk(str(root), "s")) == was


def thing_at(path, folder):
    status, name = path.stat(), os.fsencode(path)
    default = read_list(name, DEFAULT) if folder else None
    return d.ThingOnDisk(
        status.st_uid, status.st_gid, status.st_mode & 0o7777, read_list(name, ACCESS), default
    )


@AS_ROOT
@pytest.mark.parametrize("seed", range(6))
def test_folders_in_which_there_is_nothing_are_planned_as_if_nothing_were_known_of_them(seed):
    """A reading names them, so that a plan is over once it is carried out; what becomes of them is
    the same.
    """
    rng = Random(seed)
    with random_tree(rng, folders=8, files=8) as root:
        for n in range(4):
            at = rng.choice([path for path in root.rglob("*") if path.is_dir()] + [root])
            (at / f"bare{n}" / "in" / "deeper").mkdir(parents=True)
        model = promising(root, rng)
        reading = model.disk_readings[0]
        assert reading.complete and reading.empty
        became = []
        for known in (reading, replace(reading, complete=False, empty=())):
            plan = DiskPlan(prepare(replace(model, disk_readings=(known,))), "s")
            steps = plan.steps()
            folders = [
                "/",
                *(f"/{path.relative_to(root)}" for path in root.rglob("*") if path.is_dir()),
            ]
            places = {plan.allowed.nearest(path) for path in folders}
            for step in steps if known.complete else ():
                levels = {
                    "folder": (0,),
                    "files": (0,),
                    "children": (1,),
                    "deeper": (2,),
                    "below": (1, 2),
                }[step.what]
                assert any((step.path, level) in places for level in levels), (
                    step
                )  # there is such a folder
            done, kept = carried_out(root, plan, steps)
            assert done.left == []
            became.append(
                {path: thing_at(path, path.is_dir()) for path in [root, *root.rglob("*")]}
            )
            carrying_out.put_back(str(root), kept)
        assert became[0] == became[1]


# --- nobody gains more --------------------------------------------------------------------------


def each_file(root):
    return [p for p in sorted(root.rglob("*")) if p.is_file() and not p.is_symlink()]


@AS_ROOT
@pytest.mark.parametrize("seed", range(int(os.environ.get("DISK_TREES") or 10)))
def test_adopted_planned_and_carried_out_no_file_is_wider(seed):
    rng = Random(f"adopted {seed}")
    with random_tree(rng, folders=12, files=30) as root:
        prepared = prepare(with_stranger(promising(root, rng)))
        adopted = prepare(with_folders(prepared.model, "s", adopt(prepared, "s").folders), prepared)
        plan = DiskPlan(adopted, "s")
        found = plan.plan()
        assert found.opened == ()
        before = {path: thing_at(path, False) for path in each_file(root)}
        carried_out(root, plan, found.steps)
        for path, was in before.items():
            now = thing_at(path, False)
            for user in (
                u for u in (*USERS, STRANGER) if u.uid != was.uid
            ):  # what is one's own is open to oneself anyhow
                assert permissions(user, now) & ~permissions(user, was) & 6 == 0, (
                    path,
                    user,
                    was,
                    now,
                )


STRANGER = d.OsUser("stranger", 79998, 71001, (71004,))


def with_stranger(model):
    """The same with a user of the machine who is no account."""
    reading = replace(model.disk_readings[0], users=tuple(sorted((*USERS, STRANGER))))
    return sound(replace(model, disk_readings=(reading,)))


def created_by(root, umask):
    """What users of the machine create in each folder with a umask: (folder, kind) to things; then
    it is gone again.
    """
    found = {}
    folders = [root, *(p for p in sorted(root.rglob("*")) if p.is_dir())]
    for user in (*USERS, STRANGER):

        def create(user=user):
            os.umask(umask)
            return [
                (
                    tried(
                        lambda at=at: os.close(
                            os.open(at / f"new-{user.name}", os.O_CREAT | os.O_EXCL, 0o666)
                        )
                    ),
                    tried(os.mkdir, at / f"dir-{user.name}"),
                )
                for at in folders
            ]

        for at, (file, folder) in zip(folders, as_user(user, create), strict=True):
            if file:
                found.setdefault((at, "file"), []).append(
                    (user, thing_at(at / f"new-{user.name}", False))
                )
                (at / f"new-{user.name}").unlink()
            if folder:
                found.setdefault((at, "folder"), []).append(
                    (user, thing_at(at / f"dir-{user.name}", True))
                )
                (at / f"dir-{user.name}").rmdir()
    return found


@AS_ROOT
def test_what_is_created_gives_nobody_more_than_the_model_and_the_disk_gave():
    """By each user, of whom one is no account, with each umask: files and folders, before the plan
    and after it.
    """
    checks = sum(checked_creations(seed) for seed in range(int(os.environ.get("DISK_TREES") or 18)))
    assert checks > 20_000


def checked_creations(seed):
    rng = Random(f"created {seed}")
    with random_tree(rng, folders=20, files=6) as root:
        os.chmod(root.parent, 0o755)
        model = with_stranger(promising(root, rng))
        plan = DiskPlan(prepare(model), "s")
        found = plan.plan()
        server = prepare(replace(model, disk_readings=()))
        told = told_of(found, plan.after())
        before = {umask: created_by(root, umask) for umask in (0, 0o22, 0o77)}
        lists = {
            "/" + str(at.relative_to(root)) if at != root else "/": thing_at(at, True)
            for at in (root, *root.rglob("*"))
            if at.is_dir()
        }
        carried_out(root, plan, found.steps)
        checks = 0
        for umask, was in before.items():
            for (at, kind), things in created_by(root, umask).items():
                place = "/" + str(at.relative_to(root)) if at != root else "/"
                for maker, thing in things:
                    for user in (*USERS, STRANGER):
                        if user == maker:
                            continue
                        had = 0
                        for _, earlier in was.get((at, kind), ()):
                            had |= permissions(user, earlier)
                        if (
                            lists[place].default is not None
                        ):  # what it says was said of whatever anybody creates there
                            said = (
                                file_created_in(lists[place], 0o666)
                                if kind == "file"
                                else made_below(lists[place])
                            )
                            gid = (
                                said.gid if said.mode & 0o2000 else -1
                            )  # else it has a group of its maker's
                            had |= permissions(
                                user,
                                said._replace(uid=-1, gid=gid if kind == "folder" else said.gid),
                            )
                        gained = permissions(user, thing) & ~had & (6 if kind == "file" else 7)
                        checks += 1
                        if gained:
                            assert may(server, told, user, place, kind, gained), (
                                umask,
                                place,
                                kind,
                                maker,
                                user,
                                thing,
                                gained,
                            )
    return checks


def may(server, told, user, place, kind, gained):
    """Does the model let a user what it gained on something that others create in a folder, or was
    it told?
    """
    if server.account(user.name) is None:
        return False
    if not server.namespace(server.account(user.name)).served:
        return False
    at = place.rstrip("/") + "/new"
    rights = (
        {d.READ: ("download",), d.WRITE: ("overwrite", "append")}
        if kind == "file"
        else {
            d.READ: ("list",),
            d.WRITE: ("upload", "make-folder", "rename", "delete-file", "delete-folder"),
            d.SEARCH: (
                "enter",
                "list",
                "upload",
                "make-folder",
                "rename",
                "delete-file",
                "delete-folder",
            ),
        }
    )
    for bit, some in rights.items():
        if gained & bit:
            thing = "file" if kind == "file" else "folder"
            inside = at + "/x" if kind == "folder" else at
            asked = [
                Question(
                    user.name,
                    r,
                    at if kind == "file" or r in ("list", "enter") else inside,
                    thing=(
                        "folder"
                        if r == "delete-folder"
                        else (
                            thing
                            if kind == "file"
                            else "file"
                            if r in ("rename", "delete-file")
                            else "folder"
                        )
                    ),
                    **({"to": inside + "y"} if r == "rename" else {}),
                )
                for r in some
            ]
            let = any(verdict(server, q, NOW).allowed for q in asked)
            known = [place, place.rstrip("/") + "/…", place.rstrip("/") + "/…/…"]
            if not let and not any((user.name, where, r) in told for where in known for r in some):
                return False
    return True


@AS_ROOT
def test_who_only_passes_a_folder_gets_at_nothing_beside_the_way(tmp_path):
    """u0 is led to /a/in, below a folder that is closed to it.

    What lies beside the way is as open as folders are made.
    """
    root = tmp_path / "root"
    for path in (root / "a" / "in", root / "a" / "beside" / "deeper"):
        path.mkdir(parents=True)
    files = [
        root / "a" / "file",
        root / "a" / "beside" / "file",
        root / "a" / "beside" / "deeper" / "file",
    ]
    for file in files:
        file.write_text("x")
    (root / "a" / "in" / "file").write_text("x")
    for above in (*tmp_path.parents, tmp_path):
        os.chmod(above, os.stat(above).st_mode | 0o011)
    os.chmod(root / "a", 0o700)
    model = model_of(root)
    entries = (m.Entry("allow", m.Subject("account", "u0"), BUNDLES["read"]),)
    store = replace(
        model.stores[0], baseline="closed", folders=(m.Folder("/a/in", None, False, entries),)
    )
    paths = (
        m.VirtualPath(
            "/in", "s:/a/in", "all", (m.Grant(m.Subject("account", "u0"), (1 << 11) - 1),)
        ),
    )
    plan = DiskPlan(prepare(sound(replace(model, stores=(store,), virtual_paths=paths))), "s")
    done, _ = carried_out(root, plan, plan.steps())
    assert done.left == [] and can_use(USERS[0], root / "a" / "in" / "file")
    assert [can_use(USERS[0], file) for file in files] == [False, False, False]
    assert as_user(USERS[0], lambda: tried(lambda: os.listdir(root / "a"))) is False
    again = DiskPlan(
        prepare(
            replace(
                plan.prepared.model,
                disk_readings=(replace(read_disk(str(root), "s"), users=plan.disk.reading.users),),
            )
        ),
        "s",
    )
    assert again.steps() == ()


def can_use(user, path):
    """What a process of a user can do with a file: read it?"""
    return as_user(user, lambda: tried(lambda: os.close(os.open(path, os.O_RDONLY))))


def as_it_was(reading):
    return reading.folders, sorted(reading.files, key=str)


def uncertain(prepared, user, folder, action):
    """Of files that are not all alike a disk may let something for some only: what is told is told
    of them together.
    """
    return action in FILE_RIGHTS and len(prepared.disks["s"].files(folder)) > 1
