"""The asking commands on a model file say what the answers say: as JSON, as CSV, and by their exit status."""

import csv
import io
import json

import pytest
from click.testing import CliRunner

from drawknife.answers.map_window import MapWindow
from drawknife.cli.common import model_answers
from drawknife.cli.main import main

from ..conftest import DEMO

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
    assert (status == 2) == done.stderr.startswith(("drawknife: ", "Usage: ")) and "Traceback" not in done.output


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
