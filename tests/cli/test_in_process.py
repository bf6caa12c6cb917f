"""The asking commands on a model file say what the answers say: as JSON, as CSV, and by their exit
status.
"""

import csv
import io
import json
from importlib import import_module
from pathlib import Path

import click
import pytest
from click.testing import CliRunner

from drawknife.answers.map_window import MapWindow
from drawknife.cli.common import model_answers
from drawknife.cli.main import MODULES, main

from ..conftest import DEMO

CLI = Path(__file__).parents[2] / "src" / "drawknife" / "cli"
ASKED = model_answers(str(DEMO))


def run(*arguments, given=None):
    return CliRunner().invoke(main, [*arguments, "--model", str(DEMO)], input=given)


@pytest.mark.parametrize(
    ("arguments", "answer"),
    [
        (["account", "list"], lambda: ASKED.accounts()),
        (["account", "list", "--off"], lambda: ASKED.accounts(off=True)),
        (["group", "list"], lambda: ASKED.groups()),
        (["unit", "list"], lambda: ASKED.units()),
        (["standing", "yuki"], lambda: ASKED.standing("yuki")),
        (["access", "ines"], lambda: ASKED.access("ines")),
        (["access", "ines", "/charts"], lambda: ASKED.access("ines", "/charts")),
        (["who", "download", "/soundings"], lambda: ASKED.who("download", "/soundings")),
        (["compare", "ines", "yuki"], lambda: ASKED.compare("ines", "yuki")),
        (["store", "list"], lambda: ASKED.stores()),
        (["folder", "show", "survey:/charts"], lambda: ASKED.folder("survey:/charts")),
        (["vpath", "list"], lambda: ASKED.virtual_paths()),
        (["endpoint", "list"], lambda: ASKED.endpoints()),
        (["setting", "list"], lambda: ASKED.items("setting")),
        (["setting", "show", "group:boats"], lambda: ASKED.item("setting", "group:boats")),
        (["quota", "list"], lambda: ASKED.items("quota")),
        (["network", "show"], lambda: ASKED.item("network", "network")),
        (["reach", "harbour", "203.0.113.9"], lambda: ASKED.reach("harbour", "203.0.113.9")),
        (["usage", "group"], lambda: ASKED.usage("group")),
        (["findings"], lambda: ASKED.findings()),
        (["idle"], lambda: ASKED.idle()),
    ],
    ids=lambda x: " ".join(x) if isinstance(x, list) else "",
)  # fmt: skip
def test_json_is_the_answer(arguments, answer):
    done = run(*arguments, "--json")
    assert done.exit_code in (0, 1), done.output
    expected = json.loads(answer().model_dump_json(by_alias=True))
    assert json.loads(done.stdout) == expected


@pytest.mark.parametrize(
    ("arguments", "status"),
    [
        (["why", "ines", "download", "/charts/x"], 0),
        (["why", "fulmar", "upload", "/charts/x"], 1),
        (["reach", "harbour", "203.0.113.9"], None),
        (["findings"], 0),
        (["findings", "--fail"], 1),
        (["access", "nobody"], 2),
        (["who", "fly", "/"], 2),
        (["access", "ines", "charts"], 2),
        (["folder", "show", "nowhere:/x"], 2),
    ],
    ids=lambda x: " ".join(x) if isinstance(x, list) else "",
)
def test_the_exit_status_tells_how_it_is(arguments, status):
    done = run(*arguments)
    if status is None:  # both connections come through, or not
        told = ASKED.reach("harbour", "203.0.113.9")
        status = 0 if told.control and told.data else 1
    assert done.exit_code == status, done.output
    assert (status == 2) == done.stderr.startswith(
        ("drawknife: ", "Usage: ")
    ) and "Traceback" not in done.output


def test_the_map_as_csv_has_a_line_for_each_account_and_a_column_for_each_location():
    cells = list(csv.DictReader(io.StringIO(run("map", "--right", "upload", "--csv").stdout)))
    window = ASKED.map(MapWindow(right="upload", account_limit=1000, location_limit=1000))
    assert [r["account"] for r in cells] == window.accounts
    for row, told in zip(cells, window.cells, strict=True):
        assert [row[location] for location in window.locations] == [cell or "" for cell in told]


def test_many_questions_are_answered_line_by_line():
    questions = [
        {"account": "ines", "action": "download", "path": "/charts/x"},
        {"account": "inez", "action": "download", "path": "/charts/x"},
        {"account": "fulmar", "action": "upload", "path": "/charts/x"},
    ]
    given = "\n".join(map(json.dumps, questions)) + "\nno question\n"
    done = run("decide", given=given)
    answers = [json.loads(line) for line in done.stdout.splitlines()]
    assert [a.get("allowed") for a in answers] == [True, None, False, None] and done.exit_code == 1
    assert answers[1]["error"]["nearest"] == "ines" and answers[0] == ASKED.decide(questions[0])


def test_what_has_no_effect_is_taken_away_from_a_file(tmp_path):
    """All of it together, in one go, and nobody notices."""
    out = tmp_path / "smaller.yaml"
    done = run("idle", "--take-all", "--out", str(out))
    assert done.exit_code == 0 and "nobody gains or loses anything" in done.output, done.output
    before, after = ASKED, model_answers(str(out))
    assert not after.idle().idle
    for account in before.prepared.model.accounts:
        assert before.access(account.name).rows == after.access(account.name).rows


GROWN = """drawknife: 1
accounts: [{name: ada}]
groups: [{name: crew}, {name: watch, members: [account:ada]}]
stores:
  - name: s
    folders:
      - {path: /, entries: [allow signed-in read]}
      - {path: /a, entries: [allow account:ada read, "deny group:crew all"]}
virtual_paths: [{path: /, leads_to: "s:/", grants: [signed-in read, account:ada look]}]
"""


def test_what_has_no_effect_is_told_and_taken_by_number(tmp_path):
    file, out = tmp_path / "grown.yaml", tmp_path / "out.yaml"
    file.write_text(GROWN)

    def idle(*arguments, of=file):
        return CliRunner().invoke(main, ["idle", *arguments, "--model", str(of)])

    told = idle()
    assert told.exit_code == 0 and "no account counts as group:crew" in told.output
    assert (
        "deny group:crew all  ◆ refuses" in told.output
        and "take away only what nobody wants" in told.output
    )
    every = json.loads(idle("--json").stdout)["idle"]
    assert [x["kind"] for x in every] == ["group", "entry", "entry", "grant", "group"]
    number = next(x["number"] for x in every if x["kind"] == "grant")
    assert idle("--take", str(number), "--out", str(out)).exit_code == 0
    assert [x["kind"] for x in json.loads(idle("--json", of=out).stdout)["idle"]] == [
        "group",
        "entry",
        "entry",
        "group",
    ]
    none = idle("--take", "99", "--out", str(out))
    assert none.exit_code == 2 and "there is no number 99" in none.output
    assert {x["kind"] for x in json.loads(idle("--only", "grant", "--json").stdout)["idle"]} == {
        "grant"
    }
    assert "Nothing of the kind" in idle("--only", "quota").output
    both = idle("--take", "1", "--take-all")
    assert both.exit_code == 2 and "not both" in both.output


def test_each_command_is_loaded_by_its_own_module_and_none_is_forgotten():
    for module in {*MODULES.values()}:
        group = click.Group()
        import_module(f"drawknife.cli.{module}").add_to(group)
        assert {*group.commands} == {name for name, at in MODULES.items() if at == module}
    there = {p.stem for p in CLI.glob("*.py") if "def add_to(" in p.read_text()}
    assert there == {*MODULES.values()}
