"""Text that spreadsheets and other machines write: semicolons, tabs, UTF-16, or another encoding,
which is refused in words.
"""

import pytest

from drawknife.census.report import read_rows
from drawknife.formats.accounts_csv import changes_from_csv
from drawknife.formats.descriptors_csv import names_from_csv

from ..conftest import DEMO, run

PEOPLE = "name{0}display\nlidia{0}Lidia Brandt\ngesa{0}Gesa Größe\n"


@pytest.mark.parametrize("mark", [",", ";", "\t"])
@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16"])
def test_people_are_taken_from_what_a_spreadsheet_wrote(tmp_path, mark, encoding):
    file = tmp_path / "people.csv"
    file.write_bytes(PEOPLE.format(mark).replace("\n", "\r\n").encode(encoding))
    done = run("account", "import", file, "--yes", "--model", DEMO, "--out", tmp_path / "new.yaml")
    assert done.returncode == 0, done.stderr
    assert "display: Gesa Größe" in (tmp_path / "new.yaml").read_text()


def test_another_encoding_is_refused_with_its_line(tmp_path):
    file = tmp_path / "people.csv"
    file.write_bytes(PEOPLE.format(",").encode("latin-1"))
    for words in (
        ("account", "import", file),
        ("census", "survey", "--from", file),
        ("census", "survey", "--map", file),
    ):
        done = run(*words)
        assert done.returncode == 2 and "Traceback" not in done.stderr
        assert f"{file}:3: the text is neither UTF-8 nor UTF-16" in done.stderr
    missing = run("account", "import", tmp_path / "none.csv")
    assert missing.returncode == 2 and "No such file" in missing.stderr


def test_commas_in_the_first_line_decide():
    """A semicolon in a line that has commas is text."""
    (one,) = changes_from_csv(["name,note\n", "lidia,first; second\n"], [])
    assert one["item"]["note"] == "first; second"
    assert read_rows(["folder;owner;bytes;files\n", "/a;ines;5;1\n"])[0].owner == "ines"
    assert (
        names_from_csv(["sid;subject\n", "S-1-5-21-1-2-3-4;account:ines\n"])[0].subject.name
        == "ines"
    )
