"""What is told of much: folded, in number, and how to narrow it; nothing is cut without a word."""

import csv
import io
import json

import pytest
from click.testing import CliRunner

from drawknife.cli.main import main
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.formats.model_file import read_model, write_model

from ..conftest import DEMO, run


@pytest.fixture(scope="module")
def large(tmp_path_factory):
    """Two thousand and more accounts, and a store with a folder in which all but one are alike."""
    folders = [
        m.Folder("/", entries=(m.parse_entry("allow anyone read"),)),
        *(m.Folder(f"/a/b{i}") for i in range(2500)),
    ]
    folders.append(m.Folder("/a/b7/odd", entries=(m.parse_entry("deny anyone download"),)))
    model = sound(
        m.Model(
            accounts=tuple(m.Account(f"z{i:04}") for i in range(2100)),
            stores=(m.Store("s", folders=tuple(folders)),),
            virtual_paths=(m.VirtualPath("/v", "s:/", grants=(m.parse_grant("anyone all"),)),),
        )
    )
    path = tmp_path_factory.mktemp("large") / "large.json"
    path.write_text(write_model(model, as_json=True))
    return path


def test_access_is_folded_and_unfolded_is_the_whole(large):
    told = run("access", "z0001", "--model", large).stdout
    assert "2,500 folders below, the same" in told and "odd" in told and "b8" not in told
    whole = run("access", "z0001", "--all", "--model", large).stdout
    assert whole.count("─ a/b") + whole.count("odd") == 2501 and "below, the same" not in whole
    rows = json.loads(run("access", "z0001", "--json", "--model", large).stdout)["rows"]
    assert len(rows) == 2503 and not any(row["below"] for row in rows)
    few = run("access", "z0001", "--depth", "1", "--model", large).stdout
    assert "odd" not in few and "1 location deeper than 1 levels below / not listed" in few


def test_many_rows_on_a_terminal_are_told_in_number(large, monkeypatch):
    monkeypatch.setenv("FORCE_COLOR", "1")  # rich takes it for a terminal then
    told = CliRunner().invoke(main, ["account", "list", "--model", str(large)]).output
    assert "2,100 accounts: more than one reads" in told and "z0001" not in told
    assert (
        "z2099"
        in CliRunner().invoke(main, ["account", "list", "--all", "--model", str(large)]).output
    )
    monkeypatch.delenv("FORCE_COLOR")
    piped = CliRunner().invoke(main, ["account", "list", "--model", str(large)]).output
    assert piped.count("\nz") + piped.startswith("z") == 2100


def test_the_map_says_how_much_it_is_and_streams_all_of_it(large):
    told = run("map", "--right", "download", "--model", large).stdout
    assert "2,100 accounts by 2,503 locations: more than one reads" in told
    narrow = run("map", "--right", "download", "--matching", "z000", "--model", large).stdout
    assert "… 2,500 below" in narrow and "odd" in narrow
    table = list(
        csv.reader(io.StringIO(run("map", "--right", "download", "--csv", "--model", large).stdout))
    )
    assert len(table) == 2101 and {len(row) for row in table} == {2504}
    odd = table[0].index("/v/a/b7/odd")
    assert {row[odd] for row in table[1:]} == {"no"} and {row[odd - 1] for row in table[1:]} == {
        "yes"
    }


def test_a_map_in_blocks_is_the_map(monkeypatch):
    whole = run("map", "--csv", "--model", DEMO).stdout
    for at_once in (1, 7, 60):
        monkeypatch.setattr("drawknife.cli.map.AT_ONCE", at_once)
        assert CliRunner().invoke(main, ["map", "--csv", "--model", str(DEMO)]).stdout == whole
    folded = run("map", "--right", "upload", "--model", DEMO).stdout
    every = run("map", "--right", "upload", "--all", "--model", DEMO).stdout
    assert "charts  … 2 below" in folded and "issued" not in folded and "issued" in every
    assert len(read_model(DEMO.read_bytes()).accounts) == len(whole.splitlines()) - 1


@pytest.mark.parametrize(
    ("command", "path", "query", "items"),
    [
        (("access", "ines"), "/accounts/ines/access", {}, "rows"),
        (
            ("compare", "ines", "yuki"),
            "/comparisons",
            {"one": "ines", "other": "yuki"},
            "differences",
        ),
    ],
)
def test_rows_come_one_by_one_and_all_of_them_from_a_file_and_from_a_service(
    service, on_demo, command, path, query, items
):
    with service.http() as http:
        whole = http.get(path, params={**query, "limit": 10_000}).json()[items]
    lines = run(*command, "--json-lines", environment=service.environment)
    assert [json.loads(line) for line in lines.stdout.splitlines()] == whole
    status, printed, _ = on_demo(*command, "--json-lines")
    assert printed == lines.stdout and status == lines.returncode
    table = run(*command, "--csv", environment=service.environment)
    assert (
        len(list(csv.DictReader(io.StringIO(table.stdout)))) == len(whole)
        and on_demo(*command, "--csv")[1] == table.stdout
    )
    wrong = run(command[0], "nobody", *command[2:], "--csv", environment=service.environment)
    assert wrong.returncode == 2 and "there is no account" in wrong.stderr and not wrong.stdout
