"""Trials: what is written is asked, what was done before counts, and a change turns what it turns."""

import json
import re

import pytest
from click.testing import CliRunner
from junitparser import JUnitXml

from drawknife.changing import apply
from drawknife.cli.main import main
from drawknife.formats.document import BadDocument
from drawknife.formats.model_file import read_model, write_model
from drawknife.trials import read_trials, run_trial, write_trials

from ..conftest import DEMO, ROOT, run, serving

DOCUMENTED = re.search(r"```yaml\n(.*?)```", (ROOT / "docs/reference/trials.md").read_text(), re.S)[1]
TRIALS = DEMO.parent / "trials.yaml"


def trial(*steps, **facts):
    lines = "".join(f"      - {s}\n" for s in steps)
    more = "".join(f"    {k}: {v}\n" for k, v in facts.items())
    return f"drawknife-trials: 1\ntrials:\n  - name: t\n    as: ines\n{more}    steps:\n{lines}"


def tried(text, tmp_path, *arguments, model=DEMO):
    file = tmp_path / "t.yaml"
    file.write_text(text)
    done = CliRunner().invoke(main, ["try", str(file), "--model", str(model), *arguments])
    assert done.exception is None or isinstance(done.exception, SystemExit), done.exception
    return done


def test_the_documented_trials_hold_on_the_demo(tmp_path):
    done = tried(DOCUMENTED, tmp_path)
    assert done.exit_code == 0 and "1 trial, 4 steps: all as expected" in done.stdout


def test_what_was_done_before_counts():
    """What was put is one's own, under its new name too, and what is gone is nobody's; what is not known is another's."""
    (found,) = read_trials(trial(
        "upload /home/a: yes", "delete-file /home/a: yes", "rename /home/b to /home/c: yes", "upload /home/d: yes",
        "rename /home/d to /home/e: yes", "overwrite /home/e: yes", "delete-file /home/x of odile: yes",
    ).encode())  # fmt: skip
    asked = []
    run_trial(found, lambda question: asked.append(question) or (True, None, ""))
    assert [q.get("owner") for q in asked] == [None, "ines", None, None, "ines", "ines", "odile"]


def test_a_step_that_is_refused_has_no_part_in_what_follows():
    (found,) = read_trials(trial("upload /a: no", "delete-file /a: no").encode())
    asked = []
    run_trial(found, lambda question: asked.append(question) or (False, "folder", ""))
    assert "owner" not in asked[1]


def test_what_is_not_as_expected_is_told_with_the_reason(tmp_path):
    text = trial(
        "list /charts: no",
        "upload /charts/issued/x: yes",
        "list /nowhere: no, by folder",
        "list /home: yes",
        at="harbour",
    )
    done = tried(text, tmp_path, "--junit", str(tmp_path / "t.xml"))
    assert done.exit_code == 1 and "1 trial, 4 steps: 3 not as expected" in done.stdout
    assert "list /charts  yes, expected no" in done.stdout
    assert "list /nowhere  no, by virtual path, expected no, by folder" in done.stdout
    assert "no entry there or above allows it" in " ".join(done.stdout.split())
    xml = JUnitXml.fromfile(str(tmp_path / "t.xml"))
    assert (xml.tests, xml.failures) == (4, 3)
    (told,) = json.loads(tried(text, tmp_path, "--json").stdout)
    assert [s["as_expected"] for s in told["steps"]] == [False, False, False, True]


@pytest.mark.parametrize(
    ("text", "line", "told"),
    [
        ("trials: []\n", 1, "this is no file of trials"),
        (trial("fly /a: yes"), 6, "'fly /a' is no step"),
        (trial("list /a: perhaps"), 6, "'perhaps' is no expectation"),
        (trial("list /a: no, by wall"), 6, "is no expectation"),
        (trial("list a: yes"), 6, "is no step"),
        (trial("rename /a: yes"), 6, "a rename needs a destination"),
        (trial("sign-in: yes"), 6, "signing in is somewhere"),
        (trial("list /a: yes", where="harbour"), 5, "unknown key 'where'"),
        (trial("list /a: yes").replace("as: ines", "as: ''"), 4, "name"),
        ("drawknife-trials: 1\ntrials:\n  - {name: t, as: ines, steps: []}\n", 3, "nothing to do"),
    ],
)  # fmt: skip
def test_mistakes_are_told_with_their_place(text, line, told):
    with pytest.raises(BadDocument) as found:
        read_trials(text.encode())
    assert told in found.value.mistakes[0].message and found.value.mistakes[0].line == line


def test_an_account_that_is_not_there_is_told(tmp_path):
    done = tried(trial("list /a: yes").replace("as: ines", "as: nobody-at-all"), tmp_path)
    assert done.exit_code == 2 and "nobody-at-all" in done.output


def test_what_was_recorded_shows_a_later_change(tmp_path):
    recorded = CliRunner().invoke(main, ["trial", "record", "ines", "--model", str(DEMO)]).stdout
    assert "- upload /charts/drafts/trial.bin: yes" in recorded and "- list /: yes" in recorded
    assert tried(recorded, tmp_path).exit_code == 0
    shut = {
        "op": "change",
        "kind": "folder",
        "name": "survey:/charts/drafts",
        "add": {"entries": ["deny account:ines upload"]},
    }
    other = tmp_path / "other.yaml"
    other.write_text(write_model(apply(read_model(DEMO.read_bytes()), [shut]).model))
    same = CliRunner().invoke(main, ["trial", "record", "yuki", "--model", str(DEMO)]).stdout
    assert tried(same, tmp_path, model=other).exit_code == 0
    turned = tried(recorded, tmp_path, model=other)
    assert turned.exit_code == 1 and "upload /charts/drafts/trial.bin  no, by folder, expected yes" in turned.stdout


def test_written_and_read_again():
    for raw in (TRIALS.read_bytes(), DOCUMENTED.encode()):
        assert read_trials(write_trials(read_trials(raw)).encode()) == read_trials(raw)


def test_in_a_service_and_in_a_draft(cluster, tmp_path):
    with serving(cluster.create_database("trials"), tmp_path, "--load", DEMO) as service:
        with service.client() as client:
            for name in ("kittiwake", "ines", "harrow-dredging"):
                client.set_password(name)
        done = run("try", TRIALS, environment=service.environment)
        assert done.returncode == 1 and "list /soundings  yes, expected no, by virtual path" in done.stdout
        assert done.stdout.count("✕") == 2  # one trial, one step: the partner whom two groups let in
        mend = {
            "op": "change",
            "kind": "folder",
            "name": "survey:/charts",
            "add": {"entries": ["deny account:kittiwake all"]},
        }
        shut = {"op": "change", "kind": "endpoint", "name": "harbour", "set": {"enabled": False}}
        with service.client() as client:
            client.add_to_draft("night", [mend, shut])
        drafted = run("try", TRIALS, "--draft", "night", environment=service.environment)
        assert drafted.returncode == 1 and "no, by door, expected yes" in drafted.stdout
