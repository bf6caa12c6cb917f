"""Disks: reading one, against looking at each thing on it; and a decision that asks one, against
one that does not.
"""

from __future__ import annotations

import os
import random
import resource
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory

from drawknife.core.decide.gates import verdict
from drawknife.core.everybody.access_map import access_of_all
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.disk import OsUser, parse_acl, parse_files, parse_folder
from drawknife.core.prepared.prepared import Prepared, prepare
from drawknife.core.prepared.question import Question
from drawknife.disk import read_disk
from drawknife.disk.standalone import lists_and_modes as modes
from drawknife.disk.standalone.lists_and_modes import ACCESS, DEFAULT

from .large import large_model
from .timing import against

FOLDERS, FILES, DEEP = 2_000, 100, 12
LIST = parse_acl("u::rw-,u:3001:r--,g::r--,m::r--,o::---")


def _bare(top: str) -> int:
    """Look at each thing, its status and both of its lists, and remember nothing."""
    count, todo = 0, [top]
    while todo:
        with os.scandir(todo.pop()) as entries:
            for entry in entries:
                count += 1
                entry.stat(follow_symlinks=False)
                folder = entry.is_dir(follow_symlinks=False)
                for name in (ACCESS, DEFAULT) if folder else (ACCESS,):
                    try:
                        os.getxattr(entry.path, name, follow_symlinks=False)
                    except OSError:
                        continue
                if folder:
                    todo.append(entry.path)
    return count


def _decisions() -> tuple[float, float, float]:
    """A verdict on a file twelve folders down, with a disk that is asked and without."""
    path = "".join(f"/d{i}" for i in range(DEEP))
    everything = (m.parse_entry("allow account:ada all"),)
    model = sound(
        m.Model(
            accounts=(m.Account("ada"),),
            stores=(m.Store("s", None, "open", None, (m.Folder("/", entries=everything),)),),
            virtual_paths=(m.VirtualPath("/", "s:/", grants=(m.parse_grant("account:ada all"),)),),
            settings=(m.Setting(m.Subject("anyone"), (("acts_as", "{account}"),)),),
        )
    )
    reading = m.DiskReading(
        "s",
        above=(parse_folder("0:0 0755 /"),),
        folders=(parse_folder("9:9 0755 /"),),
        files=(parse_files(f"3 of 9:9 0644 in {path}"),),
        users=(OsUser("ada", 9, 9),),
    )
    with_disk, without = prepare(sound(replace(model, disk_readings=(reading,)))), prepare(model)
    asked, now = Question("ada", "download", path + "/x"), datetime.now(UTC)

    def decide(prepared: object) -> None:
        for _ in range(20_000):
            verdict(prepared, asked, now)  # type: ignore[arg-type]

    return against(lambda: decide(with_disk), lambda: decide(without), 5)


def _map() -> tuple[float, float, float]:
    """Everybody's rights everywhere on the large model, with the disk of its largest store and
    without.

    The reading lists each tenth folder, of owners and groups of the machine with lists of their
    own, and files in half as many. What is worked out once for a revision, who has which virtual
    path and whom the disk lets what, is there in both.
    """
    model, rng = large_model(), random.Random(3)
    users = tuple(
        OsUser(a.name, 10_000 + i, 20_000 + i % 500) for i, a in enumerate(model.accounts)
    )
    store = max(model.stores, key=lambda s: len(s.folders))

    def thing(kind: str) -> str:
        gid, other = 20_000 + rng.randrange(500), rng.choice(("r-x", "---"))
        user, group = 10_000 + rng.randrange(len(users)), 20_000 + rng.randrange(500)
        named = f"u:{user}:rwx,g::r-x,g:{group}:rwx,m::rwx,o::{other}"
        plain = (
            f"{10_000 + rng.randrange(len(users))}:{gid}"
            f" {rng.choice(('0775', '0755', '2770', '0750'))}"
        )
        return (
            f"{plain[:-4]}{'0775' if other == 'r-x' else '0770'} acl=u::rwx,{named}"
            if kind == "listed" and rng.random() < 0.5
            else plain
        )

    paths = ["/", *(f.path for f in store.folders[1::10])]
    folders = tuple(
        parse_folder(f"{'0:0 0755' if path == '/' else thing('listed')} {path}")
        for path in dict.fromkeys(paths)
    )
    files = tuple(parse_files(f"3 of {thing('files')} in {path}") for path in paths[::2])
    reading = m.DiskReading(store.name, confined=True, folders=folders, files=files, users=users)
    acting = replace(
        model,
        settings=(*model.settings, m.Setting(m.Subject("anyone"), (("acts_as", "{account}"),))),
    )
    with_disk = prepare(replace(acting, disk_readings=(reading,)))
    without = prepare(model)

    def whole(prepared: Prepared, disk: bool) -> None:
        for _ in access_of_all(prepared, None, disk).cells():
            pass

    return against(lambda: whole(with_disk, True), lambda: whole(without, False), 3)


def measure() -> list[tuple[str, str, str, bool | None]]:
    """The lines of the table."""
    with TemporaryDirectory() as folder:
        for i in range(FOLDERS):
            at = Path(folder) / f"{i % 40}" / f"{i}"
            at.mkdir(parents=True)
            for k in range(FILES):
                file = at / str(k)
                file.touch()
                if k % 2:
                    os.setxattr(file, ACCESS, modes.acl_to_bytes(modes.Acl(*LIST)))
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        ratio, ours, theirs = against(lambda: read_disk(folder, "s"), lambda: _bare(folder), 5)
        grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    deciding, with_disk, without = _decisions()
    mapping, map_with, map_without = _map()
    count = FOLDERS * FILES
    each = f"{with_disk / 20_000 * 1e6:.1f} us, {without / 20_000 * 1e6:.1f} us"
    return [
        (
            f"reading a disk of {count:,} files / looking at each",
            f"{ratio:.2f} ({ours:.2f} s, {theirs:.2f} s)",
            "within 2.5",
            ratio <= 2.5,
        ),
        (f"memory that reading {count:,} files takes more", f"{grown:.0f} MiB", "told", None),
        (
            "the whole map with a disk / without",
            f"{mapping:.2f} ({map_with:.2f} s, {map_without:.2f} s)",
            "within 2",
            mapping <= 2,
        ),
        (
            f"a decision with a disk / without, {DEEP} folders down",
            f"{deciding:.2f} ({each})",
            "within 1.5",
            deciding <= 1.5,
        ),
    ]
