"""Patterns of one's own: their files, what their changes become, and where they are used from."""

import os
import pty
import re
import subprocess

import pytest

from drawknife.client import Refused
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.formats.document import BadDocument
from drawknife.formats.model_file import read_model
from drawknife.patterns import all_patterns, changes_of, find_pattern, read_pattern

from ..conftest import DEMO, DRAWKNIFE, ROOT, run, serving

MODEL = prepare(read_model(DEMO.read_bytes()))
DOCUMENTED = re.search(
    r"```yaml\n(.*?)```", (ROOT / "docs/reference/patterns.md").read_text(), re.S
)[1].encode()
#: One that has steps.
STEPS = """drawknife-pattern: 1
about: x
asks: [{key: name, asks: b, is: name}]
steps:
  - {does: It, asks: [name], changes: [{ensure: store, item: {name: $name}}]}
"""
GIVEN = {"who": "group:boats", "folder": "survey:/library"}


def test_the_documented_pattern_works_as_it_says():
    pattern = read_pattern("library", DOCUMENTED)
    folder, path = changes_of(pattern, GIVEN, MODEL)
    assert (
        folder["add"] == {"entries": ["allow group:boats read"]}
        and folder["name"] == "survey:/library"
    )
    assert path["item"] == {
        "path": "/library",
        "leads_to": "survey:/library",
        "grants": ["group:boats read"],
    }
    *_, quota = changes_of(pattern, {**GIVEN, "room": "2 GiB"}, MODEL)
    assert quota["item"]["hard_bytes"] == "2 GiB"


def test_what_is_there_only_gets_the_lines():
    pattern = read_pattern("library", DOCUMENTED)
    _, path = changes_of(
        pattern, {**GIVEN, "folder": "survey:/charts", "location": "/charts"}, MODEL
    )
    assert path == {
        "op": "change",
        "kind": "virtual-path",
        "name": "/charts>survey:/charts",
        "add": {"grants": ["group:boats read"]},
    }


@pytest.mark.parametrize(
    ("given", "where", "message", "expected"),
    [
        (
            {"who": "group:boats"},
            "folder",
            "it is not answered: the store folder",
            "a store folder, such as",
        ),
        ({**GIVEN, "who": "boats"}, "who", "'boats' is no subject", "account:NAME"),
        ({**GIVEN, "folder": "library"}, "folder", "library", "survey:/inbox"),
        ({**GIVEN, "room": "much"}, "room", "much", "40 GiB"),
        ({**GIVEN, "location": "library"}, "location", "does not begin with /", "/a/b"),
    ],
)
def test_an_answer_that_is_none_is_told_with_its_question(given, where, message, expected):
    with pytest.raises(BadInput) as found:
        changes_of(read_pattern("library", DOCUMENTED), given, MODEL)
    assert (
        found.value.where == where
        and message in found.value.message
        and expected in found.value.expected
    )


def test_what_is_not_asked_is_told_with_the_nearest():
    with pytest.raises(NotFound, match=r"no question 'foldr'; did you mean folder\?"):
        changes_of(read_pattern("library", DOCUMENTED), {**GIVEN, "foldr": "x"}, MODEL)
    with pytest.raises(NotFound, match=r"no pattern 'homs'; did you mean homes\?"):
        find_pattern("homs")


@pytest.mark.parametrize(
    ("text", "line", "message"),
    [
        ("about: x\n", 1, "it is no pattern"),
        ("drawknife-pattern: 1\nabout: x\nasks: []\n", None, "it changes nothing"),
        (
            "drawknife-pattern: 1\nabout: x\nasks: [{key: a, asks: b, is: planet}]\nchanges: []\n",
            3,
            "'planet' is no kind of answer",
        ),
        ("drawknife-pattern: 1\nabout: x\nasks: []\nchanges: []\nwhy: not\n", 5, "extra inputs"),
        (STEPS.replace("asks: [name]", "asks: [nom]"), 5, "there is no question 'nom'"),
        (STEPS.replace("asks: [name]", "asks: []"), 5, "names name, which is not asked"),
        (STEPS + "changes: [{op: remove, kind: store, name: x}]\n", 1, "both changes and steps"),
    ],
)
def test_a_file_that_is_no_pattern_is_told_with_the_place(text, line, message):
    with pytest.raises(BadDocument) as found:
        read_pattern("odd", text.encode())
    assert message in found.value.mistakes[0].message
    assert line is None or found.value.mistakes[0].line == line


@pytest.mark.parametrize(
    ("changes", "told"),
    [
        ("[{op: add, kind: unit, item: {path: $unit}}]", "'$unit' names unit, which is not asked"),
        ("[{op: add, kind: unit, item: {path: 'a$'}}]", "has a $ that names nothing"),
        ("[{ensure: ship, item: {name: $who}}]", "'ship' cannot be ensured"),
        ("[{ensure: folder, item: {path: /a}}]", "'folder' cannot be ensured"),
        ("[{ensure: group, item: {members: []}}]", "the item has no name"),
        ("[{ensure: group}]", "a change with `ensure` has other keys"),
        ("[{if: room, changes: []}]", "there is no question 'room'"),
        ("[{each: account, changes: []}]", "a change with `each` has other keys"),
        ("[{each: account, of: $who, changes: {op: add}}]", "the changes are no list of changes"),
        (
            "[{each: account, of: $who, changes: [{op: add, kind: unit, item: {path: $acount}}]}]",
            "names acount, which is not asked",
        ),
    ],
)
def test_changes_that_could_not_be_made_are_told_when_the_file_is_read(changes, told):
    text = (
        "drawknife-pattern: 1\nabout: x\nasks: [{key: who, asks: Who, is: subject}]\nchanges:"
        f" {changes}\n"
    )
    with pytest.raises(BadDocument) as found:
        read_pattern("odd", text.encode())
    (mistake,) = found.value.mistakes
    assert (
        told in mistake.message
        and mistake.message.startswith("pattern odd: ")
        and mistake.line == 4
    )


def test_a_default_names_only_what_was_asked_before():
    asks = "[{key: a, asks: b, is: text, default: $c}, {key: c, asks: d, is: text}]"
    with pytest.raises(BadDocument, match="names c, which is not asked"):
        read_pattern("odd", f"drawknife-pattern: 1\nabout: x\nasks: {asks}\nchanges: []\n".encode())


def test_what_holds_an_answer_that_was_left_out_is_left_out():
    text = """drawknife-pattern: 1
about: x
asks: [{key: who, asks: Who, is: account}, {key: part, asks: Which, is: name, optional: true}]
changes:
  - {op: add, kind: account, item: {name: $who, display: "for $part", methods: ["$part", key]}}
"""
    pattern = read_pattern("odd", text.encode())
    (change,) = changes_of(pattern, {"who": "zoe"}, MODEL)
    assert change["item"] == {"name": "zoe", "methods": ["key"]}
    (change,) = changes_of(pattern, {"who": "zoe", "part": "it"}, MODEL)
    assert change["item"] == {"name": "zoe", "display": "for it", "methods": ["it", "key"]}


def test_all_that_is_not_answered_is_told_at_once():
    with pytest.raises(BadInput, match="who reads it; nor is folder"):
        changes_of(read_pattern("library", DOCUMENTED), {}, MODEL)


def test_a_service_does_not_start_with_a_pattern_that_is_none(tmp_path):
    (tmp_path / "odd.yaml").write_text("about: x\n")
    done = run(
        "serve", "--database", "postgresql://nobody@127.0.0.1:1/x", "--patterns", str(tmp_path)
    )
    assert done.returncode == 2 and "pattern odd: it is no pattern" in done.stderr


def test_one_of_ones_own_stands_for_a_shipped_one(tmp_path):
    (tmp_path / "homes.yaml").write_bytes(DOCUMENTED)
    (tmp_path / "library.yaml").write_bytes(DOCUMENTED)
    names = [p.name for p in all_patterns([tmp_path])]
    assert names == sorted({*(p.name for p in all_patterns()), "library"})
    assert find_pattern("homes", [tmp_path]).about == "A folder that one group reads."


# --- used ---------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def own(cluster, tmp_path_factory):
    folder = tmp_path_factory.mktemp("patterns")
    (folder / "library.yaml").write_bytes(DOCUMENTED)
    address = cluster.create_database("patterns")
    with serving(address, folder, "--load", str(DEMO), "--patterns", str(folder)) as service:
        yield service


def test_in_a_service(own):
    with own.client() as client:
        assert "library" in {p.name for p in client.patterns().patterns}
        assert client.pattern("library").asks[2].default == "/library"
        made = client.pattern_changes("library", GIVEN)
        assert made.says[0] == "folder survey:/library: add `allow group:boats read`"
        before = client.dump()
        preview = client.preview([c.plain() for c in made.changes])
        assert client.dump() == before and preview.item_count == 2
        # Asked in a draft, it is of the draft's model: the path that the draft adds is there.
        client.add_to_draft("shelves", [c.plain() for c in made.changes])
        again = client.in_draft("shelves").pattern_changes("library", GIVEN)
        assert [c.op for c in again.changes] == ["change", "change"]
        with pytest.raises(Refused) as refused:
            client.pattern_changes("library", {**GIVEN, "who": "boats"})
        assert (
            refused.value.problem.status == 400 and refused.value.problem.places[0].where == "who"
        )
        with pytest.raises(Refused) as refused:
            client.pattern("librar")
        assert (
            refused.value.problem.status == 404
            and "did you mean library?" in refused.value.problem.detail
        )


def test_by_command_line(own):
    listed = run("pattern", "list", environment=own.environment)
    assert "library" in listed.stdout and "shared-folder" in listed.stdout
    shown = run("pattern", "show", "library", environment=own.environment).stdout
    assert (
        "Where they see it (location)  [/library]" in shown
        and "cannot  ada upload /library/tides.pdf" in shown
    )
    given = [f"{k}={v}" for k, v in GIVEN.items()]
    preview = run("pattern", "use", "library", *given, "--preview", environment=own.environment)
    assert preview.returncode == 0 and "+ virtual paths /library>survey:/library" in preview.stdout
    done = run("pattern", "use", "library", *given, environment=own.environment)
    assert (
        done.returncode == 0
        and "fulmar" in done.stderr
        and "gain enter, list, download" in done.stderr
    )
    again = run("pattern", "use", "library", *given, environment=own.environment)
    assert again.returncode == 0 and "nothing to change" in again.stderr
    missing = run("pattern", "use", "library", "who=group:boats", environment=own.environment)
    assert (
        missing.returncode == 2 and "folder: it is not answered: the store folder" in missing.stderr
    )
    odd = run("pattern", "use", "library", "folder", environment=own.environment)
    assert odd.returncode == 2 and "expected KEY=VALUE" in odd.stderr


def test_on_a_model_file_and_from_what_is_printed(tmp_path):
    source = run("pattern", "show", "drop-box", "--yaml", "--model", str(DEMO)).stdout
    (tmp_path / "our-box.yaml").write_text(source)
    answers = [
        "senders=group:boats",
        "collectors=group:sonar-lab",
        "folder=survey:/box",
        "location=/box",
    ]
    out = tmp_path / "out.yaml"
    done = run(
        "pattern",
        "use",
        "our-box",
        *answers,
        "--patterns",
        str(tmp_path),
        "--model",
        str(DEMO),
        "--out",
        str(out),
    )
    assert done.returncode == 0, done.stderr
    assert run("why", "kittiwake", "upload", "/box/a", "--model", str(out)).returncode == 0
    assert run("why", "kittiwake", "list", "/box", "--model", str(out)).returncode == 1
    assert run("why", "ines", "delete-file", "/box/a", "--model", str(out)).returncode == 0


def test_on_a_terminal_what_is_missing_is_asked_for(tmp_path):
    out = tmp_path / "out.yaml"
    ours, theirs = pty.openpty()
    asking = subprocess.Popen(
        [DRAWKNIFE, "pattern", "use", "homes", "who=group:boats", "--model", DEMO, "--out", out],
        stdin=theirs,
        stdout=theirs,
        stderr=theirs,
    )
    os.close(theirs)
    said = b""
    for prompt, typed in (
        (b"holds the homes [homes:/]", b"homes:/crew\n"),
        (b"own one [/home]", b"\n"),
        (b"may own", b"\n"),
    ):
        while prompt not in said:
            said += os.read(ours, 4096)
        os.write(ours, typed)
    while asking.poll() is None:
        try:
            said += os.read(ours, 4096)
        except OSError:  # it is closed
            break
    assert asking.wait() == 0, said
    model = read_model(out.read_bytes())
    homes = next(s for s in model.stores if s.name == "homes")
    assert {"/crew/fulmar", "/crew/kittiwake"} <= {f.path for f in homes.folders if f.sealed}
