"""Random trees on a real disk, and what processes of random users may really do there."""

import json
import os
import shutil
import sys
import tempfile
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.disk import Acl, OsUser
from drawknife.disk import read_disk
from drawknife.disk.standalone import lists_and_modes as modes
from drawknife.disk.standalone.lists_and_modes import ACCESS, DEFAULT

#: Ids that no user of the machine has.
USERS = tuple(
    OsUser(f"u{n}", 70001 + n, 71001 + n % 3, groups)
    for n, groups in enumerate(((), (71001,), (71002, 71003), (71004,), (71001, 71004)))
)
OWNERS, GROUPS = (0, 70001, 70002, 70003, 79999), (0, 71001, 71002, 71003, 71004)
MODES = (
    0o755,
    0o750,
    0o700,
    0o770,
    0o711,
    0o777,
    0o775,
    0o444,
    0o070,
    0o007,
    0o000,
    0o705,
    0o600,
    0o660,
    0o333,
)


def acl_to(acl):
    """The extended attribute that holds a list."""
    return modes.acl_to_bytes(modes.Acl(*acl))


def read_list(path, name):
    """One of the lists of a thing; None if it has none."""
    return (
        Acl(*modes.acl_from_bytes(os.getxattr(path, name))) if name in os.listxattr(path) else None
    )


def random_acl(rng, folder=True):
    def permissions():
        return rng.choice((7, 7, 5, 5, 4, 1, 3, 6, 2, 0) if folder else (7, 6, 6, 4, 4, 2, 0))

    users = tuple(
        (uid, permissions())
        for uid in sorted(rng.sample([u.uid for u in USERS], rng.randint(0, 2)))
    )
    groups = tuple(
        (gid, permissions()) for gid in sorted(rng.sample(GROUPS[1:], rng.randint(0, 2)))
    )
    mask = permissions() if users or groups or rng.random() < 0.3 else None
    return Acl(permissions(), users, permissions(), groups, mask, permissions())


def dress(rng, path, folder):
    """Give a thing a random owner, mode, and lists."""
    os.chown(path, rng.choice(OWNERS), rng.choice(GROUPS))
    mode = rng.choice(MODES) if rng.random() < 0.35 else rng.choice((0o755, 0o775, 0o777, 0o770))
    os.chmod(path, mode | (rng.choice((0, 0, 0, 0o1000, 0o2000, 0o3000)) if folder else 0))
    if rng.random() < 0.4:
        os.setxattr(path, ACCESS, acl_to(random_acl(rng, folder)))
    if folder and rng.random() < 0.3:
        os.setxattr(path, DEFAULT, acl_to(random_acl(rng, folder)))


@contextmanager
def random_tree(rng, folders=14, files=18):
    """A folder that everybody can come to, with a random tree in it, made in random order, so that
    defaults have their say.
    """
    outside = Path(tempfile.mkdtemp(prefix="disk-", dir="/tmp"))
    outside.chmod(0o755)
    root = outside / "root"
    root.mkdir()
    there = [root]
    os.chown(root, rng.choice(OWNERS), rng.choice(GROUPS))
    os.chmod(root, rng.choice((0o755, 0o775, 0o777, 0o1777, 0o2775, 0o771)))
    if rng.random() < 0.3:
        os.setxattr(root, DEFAULT, acl_to(random_acl(rng)))
    for n in range(folders):
        made = rng.choice(there) / f"d{n}"
        made.mkdir()
        there.append(made)
        if rng.random() < 0.7:
            dress(rng, made, True)
    for n in range(files):
        file = rng.choice(there) / f"f{n}"
        file.write_bytes(b"x")
        if rng.random() < 0.8:
            dress(rng, file, False)
    try:
        yield root
    finally:
        shutil.rmtree(outside)


def model_of(root, confined=False):
    """A model in which the server lets everybody do everything, on what is read of a disk."""
    reading = read_disk(str(root), "s")
    everything = (m.Entry("allow", m.Subject("anyone"), (1 << 11) - 1),)
    reading = replace(
        reading,
        taken=None,
        confined=confined,
        users=tuple(sorted(USERS)),
        groups=(),
        odd=0,
        notes=(),
    )
    accounts = tuple(m.Account(user.name) for user in USERS)
    return sound(
        m.Model(
            accounts=accounts,
            stores=(
                m.Store("s", str(root), "open", None, (m.Folder("/", None, False, everything),)),
            ),
            virtual_paths=(
                m.VirtualPath("/", "s:/", "all", (m.Grant(m.Subject("anyone"), (1 << 11) - 1),)),
            ),
            settings=(m.Setting(m.Subject("anyone"), (("acts_as", "{account}"),)),),
            disk_readings=(reading,),
        )
    )


# --- what the kernel lets -----------------------------------------------------------------------


def as_user(user, work):
    """What `work` gives in a process of a user."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            os.setgroups(user.groups)
            os.setresgid(user.gid, user.gid, user.gid)
            os.setresuid(user.uid, user.uid, user.uid)
            os.write(writing, json.dumps(work()).encode())
        except BaseException as error:
            print(error, file=sys.stderr)
        finally:
            os._exit(0)
    os.close(writing)
    found = b""
    while part := os.read(reading, 1 << 16):
        found += part
    os.close(reading)
    os.waitpid(child, 0)
    return json.loads(found)


def tried(work, *arguments):
    try:
        work(*arguments)
    except PermissionError:
        return False
    return True
