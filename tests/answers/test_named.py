"""Anything is found by a part of its name, the likeliest first."""

from drawknife.answers import Answering
from drawknife.core.prepared.prepared import prepare
from drawknife.formats.model_file import read_model

from ..conftest import DEMO, run
from ..core.test_promises import NOW


def found(text, most=20):
    asked = Answering(prepare(read_model(DEMO.read_bytes())), 1, NOW, seen=lambda _: None)
    return asked.find(text, most)


def test_what_is_called_so_comes_before_what_only_has_it_in_its_name():
    assert [(x.kind, x.name) for x in found("ines").found] == [
        ("account", "ines"),
        ("folder", "homes:/ines"),
    ]
    assert [(x.kind, x.name) for x in found("LAB").found][:1] == [("unit", "shore/lab")]
    assert {x.name for x in found("lab").found} >= {
        "sonar-lab",
        "lab-sftp",
        "homes:/teams/lab",
        "survey:/archive/lab",
    }
    assert [x.name for x in found("marchand").found] == ["odile"]  # by what it is shown as
    assert found("west-shoal").found[0].name == "survey:/soundings/west-shoal"


def test_what_is_not_told_is_counted_and_nothing_finds_nothing():
    every, few = found("a", 1000), found("a", 3)
    assert every.total == len(every.found) == few.total > 20 and few.found == every.found[:3]
    assert found("no such thing").total == found("   ").total == 0


def test_the_command_tells_how_many_more():
    done = run("find", "a", "--most", "2", "--model", DEMO)
    assert (
        done.returncode == 0
        and len(done.stdout.splitlines()) == 3
        and "more: --most tells more" in done.stdout
    )
    assert "Nothing has that in its name." in run("find", "zzz", "--model", DEMO).stdout
