"""Every changing command also works on a model file, and writes it back."""

import json
import os
import stat
from pathlib import Path

import pytest
from click.testing import CliRunner

from drawknife.cli.main import main
from drawknife.formats.model_file import read_model

from ..conftest import DEMO


@pytest.fixture
def file(tmp_path):
    made = tmp_path / "harbour.yaml"
    made.write_text(
        "# ours\n" + DEMO.read_text().replace("- name: ines\n", "- name: ines  # the surveyor\n")
    )
    return made


def run(*arguments, given=None):
    return CliRunner().invoke(main, [str(x) for x in arguments], input=given)


@pytest.mark.parametrize(
    ("arguments", "said", "holds"),
    [
        (
            ["account", "add", "zoe", "--unit", "shore/lab"],
            "added accounts zoe",
            lambda m: any(a.name == "zoe" and a.unit == "shore/lab" for a in m.accounts),
        ),
        (
            ["account", "change", "ines", "--not-enabled"],
            "ines can no longer sign in at",
            lambda m: not next(a for a in m.accounts if a.name == "ines").enabled,
        ),
        (
            ["account", "rename", "ines", "inez"],
            "renamed accounts ines to inez",
            lambda m: (
                "account:inez" in str([g.members for g in m.groups])
                or any(a.name == "inez" for a in m.accounts)
            ),
        ),
        (
            ["account", "remove", "bram", "--everywhere"],
            "gone: bram",
            lambda m: all(a.name != "bram" for a in m.accounts),
        ),
        (
            ["group", "join", "night-watch", "tomasz"],
            "tomasz loses some of delete-file",
            lambda m: (
                "account:tomasz"
                in map(str, next(g for g in m.groups if g.name == "night-watch").members)
            ),
        ),
        (
            ["entry", "add", "survey:/charts", "allow account:fulmar upload"],
            "has no effect",
            lambda m: (
                "allow account:fulmar upload"
                in str([list(map(str, f.entries)) for s in m.stores for f in s.folders])
            ),
        ),
        (
            ["setting", "change", "group:boats", "--sessions", "9"],
            "sessions of fulmar",
            lambda m: any(("sessions", 9) in s.values for s in m.settings),
        ),
        (
            ["network", "change", "--inside", "203.0.113.0/24"],
            "added inside 203.0.113.0/24",
            lambda m: "203.0.113.0/24" in m.inside,
        ),
        (
            ["quota", "remove", "lab-pool"],
            "removed quotas lab-pool",
            lambda m: all(q.name != "lab-pool" for q in m.quotas),
        ),
        (
            ["lockout", "change", "address", "--failures", "77"],
            "changed lockouts address",
            lambda m: any(x.failures == 77 for x in m.lockouts),
        ),
        (
            ["account", "import", Path(DEMO).parent / "new-people.csv", "--yes"],
            "new: gustav, lidia",
            lambda m: any(a.name == "lidia" for a in m.accounts),
        ),
    ],
)
def test_a_change_is_written_back_with_the_comments(file, arguments, said, holds):
    before = file.read_text()
    done = run(*arguments, "--model", file)
    assert done.exit_code == 0, done.output
    assert str(file) in done.stderr and said in done.stderr
    after = file.read_text()
    assert after.startswith("# ours\n") and "# the surveyor" in after and after != before
    assert holds(read_model(after))


def test_elsewhere_or_to_standard_output_the_file_itself_stays(file, tmp_path):
    before = file.read_text()
    other = tmp_path / "other.yaml"
    assert run("unit", "add", "shore/new", "--model", file, "--out", other).exit_code == 0
    printed = run("unit", "add", "shore/new", "--model", file, "--out", "-")
    piped = run("unit", "add", "shore/new", "--model", "-", "--out", "-", given=before)
    assert file.read_text() == before != other.read_text() == printed.stdout == piped.stdout
    assert "shore/new" in read_model(other.read_text()).units


def test_a_preview_writes_nothing_and_json_tells_what_was_done(file):
    before = file.read_text()
    told = json.loads(
        run(
            "account", "change", "ines", "--not-enabled", "--model", file, "--preview", "--json"
        ).stdout
    )
    assert told["sign_in"] and file.read_text() == before
    done = json.loads(
        run("account", "change", "ines", "--not-enabled", "--model", file, "--json").stdout
    )
    assert done["items"][0]["after"]["enabled"] is False
    again = run("account", "change", "ines", "--not-enabled", "--model", file)
    assert "nothing to change" in again.stderr and again.exit_code == 0


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (["account", "change", "nobody", "--mail", "x"], "there is no account 'nobody'"),
        (["account", "remove", "ines"], "change these first, or remove it everywhere"),
        (["account", "change", "ines", "--unit", "shore/leb"], "did you mean shore/lab"),
        (
            ["account", "change", "ines", "--not-enabled", "--if-revision", "3"],
            "a model file has no revisions",
        ),
        (["account", "change", "edda", "--display", "E"], "comes from the directory bureau"),
    ],
)
def test_what_cannot_be_done_is_told_and_nothing_is_written(file, arguments, said):
    before = file.read_text()
    done = run(*arguments, "--model", file)
    assert done.exit_code == 2 and said in done.stderr.replace("\n", " "), done.stderr
    assert file.read_text() == before


def test_files_that_cannot_be_read_or_written_are_told(file, tmp_path):
    assert "cannot be read" in run("unit", "add", "x", "--model", tmp_path / "none.yaml").stderr
    nowhere = run("unit", "add", "x", "--model", file, "--out", tmp_path / "none" / "x.yaml")
    assert nowhere.exit_code == 3 and "cannot be written" in nowhere.stderr
    file.write_text(file.read_text() + "nonsense: 1\n")
    wrong = run("unit", "add", "x", "--model", file)
    assert wrong.exit_code == 2 and "unknown key 'nonsense'" in wrong.stderr
    assert run("unit", "add", "x", "--model", "-").exit_code == 2
    assert run("unit", "add", "x", "--out", file).exit_code == 2


def test_a_link_stays_one_and_modes_are_kept(file, tmp_path):
    link = tmp_path / "link.yaml"
    link.symlink_to(file)
    file.chmod(0o640)
    assert run("unit", "add", "shore/new", "--model", link).exit_code == 0
    assert link.is_symlink() and "shore/new" in read_model(file.read_text()).units
    assert file.stat().st_mode & 0o777 == 0o640
    before = os.umask(0o077)
    try:
        assert (
            run(
                "unit", "add", "shore/more", "--model", file, "--out", tmp_path / "new.yaml"
            ).exit_code
            == 0
        )
    finally:
        os.umask(before)
    assert (tmp_path / "new.yaml").stat().st_mode & 0o777 == 0o600
    assert sorted(p.name for p in tmp_path.iterdir()) == [
        "harbour.yaml",
        "link.yaml",
        "new.yaml",
    ], "nothing is left over"


def test_what_is_no_file_is_written_to_and_stays_what_it_is(file, tmp_path):
    pipe = tmp_path / "pipe"
    os.mkfifo(pipe)
    reading = os.open(pipe, os.O_RDONLY | os.O_NONBLOCK)
    done = run("group", "add", "divers", "--model", file, "--out", pipe)
    text = os.read(reading, 1 << 20).decode()
    os.close(reading)
    assert done.exit_code == 0 and "divers" in text and stat.S_ISFIFO(pipe.stat().st_mode)
    done = run("group", "add", "divers", "--model", file, "--out", tmp_path)
    assert done.exit_code == 3 and "cannot be written" in done.output
