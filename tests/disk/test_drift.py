"""What the disk lets otherwise than the model says, and what a change of it is told as."""

from dataclasses import replace
from random import Random

import pytest

from drawknife.answers import Answering
from drawknife.core.decide.gates import verdict
from drawknife.core.everybody.drift import drift
from drawknife.core.follows.consequences import consequences_on
from drawknife.core.model import disk as d
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.rights import FILE_RIGHTS, RIGHTS
from drawknife.formats.model_file import write_model

from ..conftest import run, serving
from ..core.test_promises import NOW
from .test_disk import READING, small, with_entries
from .test_kernel import AS_ROOT
from .trees import USERS, model_of, random_tree

# --- drift --------------------------------------------------------------------------------------


def created(folder):
    """A file that somebody of whom nothing is known creates in a folder, with the mode 0666 and the
    umask 022.
    """
    nobody, gid = 2**32 - 2, folder.gid if folder.mode & 0o2000 else 2**32 - 2
    default = folder.default
    if default is None:
        return d.ThingOnDisk(nobody, gid, 0o644)
    owner, other = default.owner & 6, default.other & 6
    if default.mask is not None:
        acl = default._replace(owner=owner, mask=default.mask & 6, other=other)
        return d.ThingOnDisk(nobody, gid, owner << 6 | (default.mask & 6) << 3 | other, acl)
    acl = default._replace(owner=owner, group=default.group & 6, other=other)
    named = default.users or default.groups
    return d.ThingOnDisk(
        nobody, gid, owner << 6 | (default.group & 6) << 3 | other, acl if named else None
    )


def literally(model, everything):
    """Each folder of each account, by single verdicts: what the server lets and the disk refuses,
    and the other way round.
    """
    reading = model.disk_readings[0]
    prepared, free = prepare(model), prepare(everything)
    paths = sorted(
        {f.path for f in reading.folders}
        | {f.path for f in reading.files}
        | {f.path for f in model.stores[0].folders}
    )
    found = {}
    for account in model.accounts:
        for path in paths:
            refused, wider, partly = [], [], []
            for right in RIGHTS:
                if path == "/" and right == "delete-folder":
                    continue
                no_file = not prepared.disks["s"].files(path)
                if right == "set-attributes" and no_file:
                    continue  # only its owner may, who is not known
                of_file = right in FILE_RIGHTS
                at = (
                    (path.rstrip("/") + "/x")
                    if of_file or right in ("upload", "make-folder")
                    else path
                )
                to = {"to": at + "y"} if right == "rename" else {}
                thing = "file" if of_file else "folder"

                def let_by(
                    model,
                    owner=None,
                    combination=None,
                    right=right,
                    at=at,
                    thing=thing,
                    to=to,
                    account=account,
                ):
                    asked = Question(
                        account.name,
                        right,
                        at,
                        thing=thing,
                        owner=owner,
                        combination=combination,
                        **to,
                    )
                    return verdict(model, asked, NOW).gate

                kinds = [(None, None)]
                if of_file:
                    uid = next(u.uid for u in USERS if u.name == account.name)
                    there = [x.thing for x in prepared.disks["s"].files(path)]
                    there = there or [created(prepared.disks["s"].folder(path))]
                    kinds = [(account.name if t.uid == uid else None, str(t)) for t in there]
                    if not no_file and all(
                        let_by(prepared, owner) in (None, "disk") for owner in (None, account.name)
                    ):
                        kinds = [
                            (None, text) for _, text in kinds
                        ]  # the server does not tell them apart
                for owner in dict.fromkeys(owner for owner, _ in kinds):
                    server = let_by(prepared, owner) in (None, "disk")
                    disk = any(let_by(free, None, text) is None for o, text in kinds if o == owner)
                    if server and not disk:
                        refused.append(right)
                    elif not server and disk:
                        wider.append(right)
                if of_file and right not in refused:
                    asked = [
                        (x.number, let_by(free, None, str(x.thing)) is None)
                        for x in prepared.disks["s"].files(path)
                        if let_by(prepared, account.name if x.thing.uid == uid else None)
                        in (None, "disk")
                    ]
                    missing = sum(number for number, let in asked if not let)
                    partly += (
                        [(right, missing, sum(number for number, _ in asked))] if missing else []
                    )
            for name, action in (
                ("rename-folder", "rename"),
                ("set-folder-attributes", "set-attributes"),
            ):
                if path == "/" and action == "rename":
                    continue
                to = {"to": path + "y"} if action == "rename" else {}
                question = Question(account.name, action, path, thing="folder", **to)
                server = verdict(prepared, question, NOW).gate in (None, "disk")
                disk = verdict(free, question, NOW).gate is None
                refused += [name] if server and not disk else []
                wider += [name] if disk and not server else []
            refused, wider = list(dict.fromkeys(refused)), list(dict.fromkeys(wider))
            if refused or wider or partly:
                found[account.name, path] = (tuple(refused), tuple(wider), tuple(partly))
    return found


@AS_ROOT
@pytest.mark.parametrize("seed", range(10))
def test_drift_is_what_single_verdicts_say(seed):
    rng = Random(seed)
    with random_tree(rng) as root:
        everything = model_of(root)
        model = with_entries(everything, rng)
    wanted = literally(model, everything)
    found = drift(prepare(model), "s")
    told = {}
    for row in found.rows:
        told[row.account, row.location] = (row.refused, row.wider, row.partly)
        assert bool(row.refused) is (row.reason is not None)
    # A folder that is told of is as told; one that is not is as the nearest above that is, or is
    # counted there.
    assert told.items() <= wanted.items() and len(wanted) == len(told) + sum(
        row.below for row in found.rows
    )
    assert found.accounts == len(USERS) and not found.left_out


def test_what_is_too_much_to_be_planned_is_said(monkeypatch):
    monkeypatch.setattr("drawknife.answers.disk.MOST_AT_ONCE", 2)
    asked = Answering(prepare(small()), 1, NOW, seen=lambda _: None)
    for ask in (asked.disk_plan, asked.adopt):
        with pytest.raises(BadInput, match="3 accounts by 2 folders are too many"):
            ask("S")
    with pytest.raises(NotFound):
        asked.disk_plan("none")


def test_what_cannot_be_compared_is_said(monkeypatch):
    found = drift(prepare(small("root")), "s")
    assert found.left_out == (
        "several accounts act as root: what the disk lets them besides is not told",
    )
    with monkeypatch.context() as few:
        few.setattr("drawknife.core.everybody.drift.MOST_FOLDERS", 0)
        found = drift(prepare(small()), "s")
        assert found.accounts == 1 and found.left_out == (
            "2 more accounts were not compared: ask for one of them",
        )
    one = m.Setting(m.Subject("account", "ada"), (("acts_as", "ada"),))
    found = drift(prepare(sound(replace(small(None), settings=(one,)))), "s")
    assert (
        found.left_out
        == ("of 2 of 3 accounts it is not known whom a server takes on: set acts_as",)
        and found.accounts == 1
    )


# --- what a change of it is told as -------------------------------------------------------------


def test_a_change_of_what_the_disk_lets_is_never_told_as_nothing(monkeypatch):
    closed, open_ = small(), small(confined=True)
    nobody = replace(open_.disk_readings[0], users=())
    for model, other in (
        (closed, replace(closed, disk_readings=())),
        (closed, replace(closed, disk_readings=(replace(READING, confined=True),))),
        (open_, replace(open_, disk_readings=(nobody,))),
        (closed, replace(closed, settings=())),
        (open_, replace(open_, settings=(m.Setting(m.Subject("anyone"), (("acts_as", "ada"),)),))),
    ):
        follows = consequences_on(prepare(model), prepare(sound(other)), NOW)
        assert follows.disks and not follows.nothing and not follows.for_nobody
        assert follows.on_disk.stores == ("s",) and follows.on_disk.not_compared == ()
        with monkeypatch.context() as few:
            few.setattr("drawknife.core.follows.disk_changes.MOST_COMPARED", 0)
            follows = consequences_on(prepare(model), prepare(sound(other)), NOW)
        assert follows.on_disk.not_compared == ("s",) and follows.disks and not follows.nothing
    model = small()
    same = consequences_on(
        prepare(model),
        prepare(sound(replace(model, disk_readings=(replace(READING, odd=3),)))),
        NOW,
    )
    assert not same.disks and same.nothing
    model = open_
    less = replace(
        model,
        virtual_paths=(replace(model.virtual_paths[0], grants=(m.Grant(m.Subject("anyone"), 1),)),),
    )
    found = consequences_on(prepare(model), prepare(sound(less)), NOW)
    # Who is refused by the disk whatever the server lets loses nothing there.
    assert len(found.access) > 0 and found.on_disk.access is not None
    assert {name for x in found.access for name in x.accounts} > {
        name for x in found.on_disk.access for name in x.accounts
    }


def test_read_told_and_compared_in_a_service(cluster, tmp_path):
    model = tmp_path / "model.yaml"
    model.write_text(write_model(sound(replace(small("root"), disk_readings=()))))
    root = tmp_path / "root"
    (root / "open").mkdir(parents=True)
    (root / "open" / "x").write_text("x")
    with serving(cluster.create_database("disk"), tmp_path, "--load", model) as service:

        def said(*words):
            done = run(*words, environment=service.environment)
            assert "Traceback" not in done.stderr
            return done.returncode, done.stdout + done.stderr

        assert "`drawknife disk read s`, where it is" in said("disk", "compare", "s")[1]
        assert (
            "there is no store 'sx'" in said("disk", "compare", "sx")[1]
            and "no root" in said("disk", "read", "s")[1]
        )
        status, text = said("disk", "read", "S", "--root", root)
        assert status == 0 and "s: 1 folder with permissions of its own, 1 file" in text
        assert "nobody gains or loses anything" in text  # nobody acts as anybody there yet
        assert said("disk", "read", "s", "--root", root)[0] == 0  # again, in the place of the first
        assert "1 folder listed, 1 file" in said("disk", "list")[1]
        assert (
            "folders" in said("disk", "show", "s")[1]
            and "cannot be read" in said("disk", "read", "s", "--root", "/none")[1]
        )
        preview = said("disk", "read", "s", "--root", root / "open", "--preview")[1]
        assert "Nothing follows" in preview
        assert said("disk", "compare", "s", "--fail")[0] == 0
        with service.client() as client:
            (line,) = client.disks().disks
            assert (line.store, line.files) == ("s", 1) and line.taken is not None
            asked = {"account": "ada", "action": "download", "path": "/open/x"}
            assert client.decide(asked).allowed
            client.change(
                [
                    {
                        "op": "change",
                        "kind": "setting",
                        "name": "anyone",
                        "set": {"acts_as": "{account}"},
                    }
                ]
            )
            found = client.decide({**asked, "explain": True})
            assert (found.allowed, found.gate) == (
                False,
                "disk",
            ) and "has no user ada" in found.text
            assert [g.gate for g in found.explanation.gates][-2:] == ["disk", "limits"]
            # What is changed of a reading leaves the rest of it.
            client.change(
                [{"op": "change", "kind": "disk-reading", "name": "s", "set": {"confined": True}}]
            )
            assert client.disks().disks[0].folders == 1 and client.disks().disks[0].confined
            assert "nothing yet" in client.handover("ada").text
            assert client.access("ada").rows[0].rights["upload"] == "no"
            assert client.without_disks().access("ada").rows[0].rights["upload"] == "yes"
            drifted = client.drift("s", account="ada")
            assert (drifted.total, drifted.rows[0].below) == (1, 1) and "upload" in drifted.rows[
                0
            ].refused
            for answer in (
                client.access("ada"),
                client.who("download", "/open"),
                client.compare("ada", "bo"),
            ):
                assert any("the disk of s lets through counts" in note for note in answer.notes)
        assert said("disk", "compare", "s", "--fail")[0] == 1
        assert (
            said("disk", "remove", "s")[0] == 0
            and "No disk was read yet" in said("disk", "list")[1]
        )
