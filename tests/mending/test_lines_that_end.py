"""A fix whose lines end, or carry a note; what else it does counts by rights and places; and what a
disk refuses besides.
"""

from datetime import UTC, date, datetime

import pytest

from drawknife.answers import Answering
from drawknife.changing import apply
from drawknife.core.disk.one_object import lets
from drawknife.core.model.disk import READ, SEARCH, WRITE, parse_thing
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import BadInput
from drawknife.formats.model_file import read_model
from drawknife.mending.steps import with_end

from ..conftest import run

NOW = datetime(2026, 11, 24, 12, tzinfo=UTC)
DAY = date(2026, 12, 4)

DENIED = """drawknife: 1
accounts: [{name: refa, enabled: false}]
stores:
  - name: survey
    folders:
      - {path: /, entries: [allow anyone all]}
      - {path: /out, entries: ["deny account:refa append,rename,delete-file here"]}
virtual_paths: [{path: /survey, leads_to: "survey:/", grants: [anyone all]}]
endpoints: [{name: quay, protocol: sftp, port: 2222}]
"""

STICKY = """drawknife: 1
accounts: [{name: ines}, {name: bram}]
stores:
  - name: survey
    root: /srv/survey
    folders:
      - {path: /, entries: ["allow signed-in change"]}
      - {path: /box, entries: ["deny account:bram delete-file"]}
virtual_paths: [{path: /survey, leads_to: "survey:/", grants: [signed-in all]}]
settings: [{for: anyone, acts_as: "{account}"}]
disk_readings:
  - store: survey
    above: [0:0 0755 /, 0:0 0755 /srv]
    folders: [0:0 0755 /, 0:0 1777 /box, 0:0 0700 /shut]
    files: [1 of 20001:30001 0640 in /box, 1 of 20001:30001 0600 in /shut]
    users: [ines 20001 30001, bram 20002 30002, root 0 0]
    groups: [root 0]
"""


def ways(model, account, action, path, **more):
    asked = {k: v for k, v in more.items() if k not in ("until", "note")}
    given = {k: v for k, v in more.items() if k in ("until", "note")}
    question = {"account": account, "action": action, "path": path, **asked}
    return Answering(prepare(read_model(model)), 1, NOW).mend(question, most=16, **given)


def allowed_on(model, changes, day, question):
    after = apply(read_model(model), [c.plain() for c in changes]).model
    at = datetime(day.year, day.month, day.day, 12, tzinfo=UTC)
    return Answering(prepare(after), 1, at).decide(question)["allowed"]


def test_the_way_after_which_less_is_gained_comes_first():
    """Both switch the account on, and tell the other gain in one line: it counts by rights, not by
    lines.
    """
    found = ways(DENIED, "refa", "append", "/survey/out/x", endpoint="quay")
    first, second = (" ".join(m.says) for m in found.mends[:2])
    assert "deny account:refa rename,delete-file here" in first
    assert (
        "take `deny account:refa append,rename,delete-file here` away" in second
        and "add" not in second
    )


def test_every_line_that_allows_ends_on_the_day_given_and_nothing_that_was_there_does():
    model = DENIED.replace(", enabled: false", "").replace(
        "allow anyone all]}\n", "allow anyone read]}\n", 1
    )
    model = model.replace(
        '{path: /out, entries: ["deny account:refa append,rename,delete-file here"]}',
        "{path: /out}",
    )
    question = {"account": "refa", "action": "upload", "path": "/survey/out/x"}
    found = ways(model, "refa", "upload", "/survey/out/x", until=DAY, note="for the audit")
    assert found.mends
    for way in found.mends:
        assert way.ends, way.says
        assert allowed_on(model, way.changes, DAY, question)
        assert not allowed_on(model, way.changes, date(2026, 12, 5), question)
        assert allowed_on(model, way.changes, date(2026, 12, 5), {**question, "action": "download"})
        assert "for the audit" in str([c.plain() for c in way.changes])
    with pytest.raises(BadInput, match="is over"):
        ways(model, "refa", "upload", "/survey/out/x", until=date(2026, 11, 23))


def test_a_wider_grant_that_ends_leaves_the_one_that_was_there():
    model = DENIED.replace("grants: [anyone all]", "grants: [anyone read]").replace(
        "enabled: false", "enabled: true"
    )
    found = ways(model, "refa", "upload", "/survey/x", until=DAY)
    question = {"account": "refa", "action": "upload", "path": "/survey/x"}
    assert found.mends and all(way.ends for way in found.mends)
    for way in found.mends:
        assert not allowed_on(model, way.changes, date(2026, 12, 5), question)
        assert allowed_on(model, way.changes, date(2026, 12, 5), {**question, "action": "download"})


def test_a_line_that_refuses_gets_no_last_day():
    """From that day on it would let more; what stays in force is told."""
    found = ways(DENIED, "refa", "append", "/survey/out/x", until=DAY)
    narrower = next(m for m in found.mends if any("rename,delete-file" in line for line in m.says))
    assert not narrower.ends and "until" not in str([c.plain() for c in narrower.changes])
    one = {
        "op": "change",
        "kind": "endpoint",
        "name": "quay",
        "add": {"entries": ["allow account:refa all"]},
    }
    assert with_end([one], DAY, None) == (
        ({**one, "add": {"entries": [{"line": "allow account:refa all", "until": "2026-12-04"}]}},),
        True,
    )
    assert with_end([one], None, None)[0] == (one,)


def test_on_the_command_line_a_fix_is_shown_and_not_done(tmp_path):
    file = tmp_path / "model.yaml"
    file.write_text(DENIED)
    asked = ("mend", "refa", "append", "/survey/out/x", "--endpoint", "quay", "--model", file)
    shown = run(*asked, "--take", "1", "--preview", "--note", "why")
    assert shown.returncode == 0 and "refa" in shown.stdout and file.read_text() == DENIED
    assert run(*asked, "--preview").returncode == 2
    assert run(*asked, "--take", "1", "--note", "for the audit").returncode == 0
    assert "for the audit" in file.read_text()


# --- with a disk --------------------------------------------------------------------------------


def test_where_the_folder_and_the_disk_refuse_both_are_told():
    found = ways(STICKY, "bram", "delete-file", "/survey/box/x")
    assert "deny account:bram delete-file" in found.mends[0].says[0]
    assert any("sticky" in line for line in found.on_disk) and any(
        "chown bram" in line for line in found.on_disk
    )
    only_disk = ways(STICKY, "bram", "download", "/survey/shut/x")
    assert only_disk.mends == [] and len([x for x in only_disk.on_disk if "setfacl" in x]) == 2


def test_what_is_lacking_at_one_folder_is_one_list():
    """To go into a folder and to write in it: one list for both, as a second would undo
    the first.
    """
    found = ways(STICKY, "bram", "rename", "/survey/box/x", to="/survey/shut/x")
    lists = [line for line in found.on_disk if "on survey:/shut: setfacl" in line]
    assert len(lists) == 1 and "u:20002:-wx" in lists[0]


def test_by_a_list_nobody_else_loses_anything_or_it_is_told():
    thing = "0:30001 0770 acl=u::rwx,u:20001:rwx,g::---,m::rwx,o::---"
    model = STICKY.replace("0:0 0700 /shut", f"'{thing} /shut'")
    (told,) = (x for x in ways(model, "bram", "upload", "/survey/shut/x").on_disk if "setfacl" in x)
    given = parse_thing(f"0:30001 0770 acl={told.partition('setfacl --set ')[2]}")
    ines = next(u for u in read_model(model).disk_readings[0].users if u.name == "ines")
    assert "loses" not in told and lets(ines, given, READ | WRITE | SEARCH)
