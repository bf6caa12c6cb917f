"""What `mend` says is to be done on the disk: it does it, nothing in it undoes the rest, and who
loses is named.
"""

import re
from dataclasses import replace
from random import Random

from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.answers import Answering
from drawknife.core.decide.disk_gate import disk_mends, taken_on
from drawknife.core.decide.gates import verdict
from drawknife.core.disk.planned_list import permissions
from drawknife.core.model import disk as d
from drawknife.core.prepared.needs import locate
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.rights import FILE_RIGHTS, RIGHTS

from ..core.test_promises import NOW
from .test_disk import small
from .test_everybody import PATHS, example_path, random_model


def with_fix(reading, fix):
    """The reading of the disk after one fix; what is fixed is found by what it was."""
    place = re.search(r"s:(/[^ ]*)", fix.called)[1] if "s:" in fix.called else fix.called
    if "the file" in fix.called:
        files = {}
        for each in reading.files:
            thing = fix.planned if (each.path, each.thing) == (place, fix.thing) else each.thing
            files[each.path, thing] = files.get((each.path, thing), 0) + each.number
        assert fix.planned in {thing for path, thing in files if path == place}
        return replace(
            reading,
            files=tuple(d.FilesOnDisk(path, thing, n) for (path, thing), n in files.items()),
        )
    if "s:" not in fix.called:
        return replace(reading, above=_with(reading.above, place, fix))
    return replace(reading, folders=_with(reading.folders, place, fix))


def _with(folders, path, fix):
    others = [x for x in folders if x.path != path]
    assert len(others) == len(folders) or d.FolderOnDisk(path, fix.thing) in folders
    return tuple(sorted([*others, d.FolderOnDisk(path, fix.planned)]))


def all_listed(model):
    """The same with every folder of the disk listed, so that a fix of one is of that one alone."""
    disk = prepare(model).disks["s"]
    paths = {"/", *PATHS, *(x.path for x in disk.reading.folders)}
    folders = tuple(
        d.FolderOnDisk(path, disk.folder(path))
        for path in sorted(paths)
        if disk.unknown_at(path) is None
    )
    return replace(model, disk_readings=(replace(disk.reading, folders=folders),))


@given(st.integers(0, 10**9))
@settings(max_examples=60, deadline=None)
def test_each_fix_does_it_none_undoes_another_and_who_loses_is_named(seed):
    model = all_listed(random_model(Random(seed)))
    reading = model.disk_readings[0]
    prepared = prepare(model)
    for account in model.accounts:
        who = prepared.account(account.name)
        acting = taken_on(prepared, who, "s")
        for path in PATHS:
            for right in RIGHTS:
                at = example_path(path, right)
                more = {"to": at + "y"} if right == "rename" else {}
                question = Question(
                    account.name,
                    right,
                    at,
                    thing="file" if right in FILE_RIGHTS else "folder",
                    **more,
                )
                refused = verdict(prepared, question, NOW)
                if refused.gate != "disk" or refused.reason in (
                    "unknown",
                    "no-such-user",
                    "store-root",
                ):
                    continue
                fixes = list(
                    disk_mends(prepared, who, question, locate(prepared.namespace(who), question))
                )
                assert fixes and len({(x.called, x.thing) for x in fixes}) == len(fixes)
                fixed = reading
                for fix in fixes:
                    check_who_gains_and_loses(fix, reading.users, acting.user)
                    fixed = with_fix(fixed, fix)
                after = prepare(replace(model, disk_readings=(fixed,)), prepared)
                assert verdict(after, question, NOW).allowed, (question, [str(x) for x in fixes])


def check_who_gains_and_loses(fix, users, asking):
    """Of everybody on the machine only who asks gains, and all who lose are named with what they
    lose.
    """
    losing = {}
    for user in users:
        was, then = permissions(user, fix.thing), permissions(user, fix.planned)
        if user.uid != asking.uid:
            assert then & ~was == 0, (user, str(fix))
        if was & ~then:
            losing[user.name] = was & ~then
    assert dict(fix.losing) == losing
    assert all(f"{name} loses {d.letters(lost)}" in str(fix) for name, lost in losing.items())


def test_files_of_one_folder_that_differ_are_told_apart():
    files = (d.parse_files("2 of 11:5 0600 in /open"), d.parse_files("1 of 12:5 0640 in /open"))
    asked = Answering(prepare(small(confined=True, files=files)), 1, NOW, seen=lambda _: None)
    lines = asked.mend({"account": "ada", "action": "overwrite", "path": "/open/x"}).on_disk
    fixes = [
        line.partition(": give ada ")[2].partition(":")[0] for line in lines if "setfacl" in line
    ]
    assert [fix.partition(" on ")[2] for fix in fixes] == ["2 of the files in s", "the file in s"]
    assert "(11:5 0600)" in lines[-2] and "(12:5 0640)" in lines[-1]
