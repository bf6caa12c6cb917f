"""Trials: what is written is asked, what was done before counts, and a change turns
what it turns.
"""

import json
import re

import pytest
from click.testing import CliRunner
from junitparser import JUnitXml
from tools import rehearsing

from drawknife.changing import apply
from drawknife.cli.main import main
from drawknife.formats.document import BadDocument
from drawknife.formats.model_file import read_model, write_model
from drawknife.trials import GateAnswer, outcomes_of, read_trials, write_trials

from ..conftest import DEMO, ROOT, run, serving

DOCUMENTED = re.search(r"```yaml\n(.*?)```", (ROOT / "docs/reference/trials.md").read_text(), re.S)[
    1
]
TRIALS = DEMO.parent / "trials.yaml"


def trial(*steps, **facts):
    lines = "".join(f"      - {s}\n" for s in steps)
    more = "".join(f"    {k}: {v}\n" for k, v in facts.items())
    return f"drawknife-trials: 1\ntrials:\n  - name: t\n    as: ines\n{more}    steps:\n{lines}"


#: A password is given in a variable: on a command line everybody on the machine sees it.
WITH_PASSWORD = {"DRAWKNIFE_REHEARSAL_PASSWORD": rehearsing.PASSWORD}


def tried(text, tmp_path, *arguments, model=DEMO, password=rehearsing.PASSWORD):
    file = tmp_path / "t.yaml"
    file.write_text(text)
    words = ["try", str(file), "--model", str(model), *arguments]
    done = CliRunner().invoke(main, words, env={"DRAWKNIFE_REHEARSAL_PASSWORD": password})
    assert done.exception is None or isinstance(done.exception, SystemExit), done.exception
    return done


def test_the_documented_trials_hold_on_the_demo(tmp_path):
    done = tried(DOCUMENTED, tmp_path)
    assert done.exit_code == 0 and "1 trial, 4 steps: all as expected" in done.stdout


def test_what_was_done_before_counts():
    """What was put is one's own, under its new name too, and what is gone is nobody's; what is not
    known is another's.
    """
    (found,) = read_trials(
        trial(
            "upload /home/a: yes",
            "delete-file /home/a: yes",
            "rename /home/b to /home/c: yes",
            "upload /home/d: yes",
            "rename /home/d to /home/e: yes",
            "overwrite /home/e: yes",
            "delete-file /home/x of odile: yes",
        ).encode()
    )
    asked = []
    outcomes_of(found, lambda question: asked.append(question) or GateAnswer(True, None, ""))
    assert [q.get("owner") for q in asked] == [None, "ines", None, None, "ines", "ines", "odile"]


def test_a_step_that_is_refused_has_no_part_in_what_follows():
    (found,) = read_trials(trial("upload /a: no", "delete-file /a: no").encode())
    asked = []
    outcomes_of(found, lambda question: asked.append(question) or GateAnswer(False, "folder", ""))
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
        (trial("list: yes"), 6, "says not where"),
        (trial("list /a: yes").replace("name: t", "name: \"\""), 3, "is no title"),
        (trial("rename /a: yes"), 6, "a rename needs a destination"),
        (trial("sign-in: yes"), 6, "signing in is somewhere"),
        (trial("list /a: yes", where="harbour"), 5, "unknown key 'where'"),
        (trial("list /a: yes").replace("as: ines", "as: ''"), 4, "name"),
        (trial("list /a: yes").replace("as: ines", "as: 5"), 4, "not text"),
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
    assert (
        turned.exit_code == 1
        and "upload /charts/drafts/trial.bin  no, by folder, expected yes" in turned.stdout
    )


def test_written_and_read_again():
    for raw in (TRIALS.read_bytes(), DOCUMENTED.encode()):
        assert read_trials(write_trials(read_trials(raw)).encode()) == read_trials(raw)


def test_in_a_service_and_in_a_draft(cluster, tmp_path):
    with serving(cluster.create_database("trials"), tmp_path, "--load", DEMO) as service:
        with service.client() as client:
            for name in ("kittiwake", "ines", "harrow-dredging"):
                client.set_password(name)
        done = run("try", TRIALS, environment=service.environment)
        assert (
            done.returncode == 1
            and "list /soundings  yes, expected no, by virtual path" in done.stdout
        )
        assert (
            done.stdout.count("✕") == 2
        )  # one trial, one step: the partner whom two groups let in
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


# --- at a server --------------------------------------------------------------------------------


@pytest.fixture
def server(tmp_path):
    with rehearsing.standing(
        rehearsing.at_any_hour(read_model(DEMO.read_bytes())), tmp_path / "rehearsal"
    ) as there:
        yield there


def over(there, *more):
    urls = [
        f"harbour=ftpes://127.0.0.1:{there.ports['harbour']}",
        f"lab-sftp=sftp://127.0.0.1:{there.ports['lab-sftp']}",
    ]
    urls.append(f"public-tides=ftp://127.0.0.1:{there.ports['public-tides']}")
    return [x for url in urls for x in ("--over", url)] + ["--unchecked", *more]


def lying(there):
    return sorted(str(p) for p in there.stand.tree.root.rglob("*") if p.is_file())


def test_a_server_that_does_what_the_model_says(tmp_path, server):
    """Nothing is different, nothing of what was there is touched, and what is left
    behind is told.
    """
    server.stand.tree.root.joinpath("survey/charts/issued/sheet-14.pdf").write_text("x")
    server.stand.tree.root.joinpath("public/tides/today.csv").write_text("x")
    server.stand.tree.root.joinpath("public/notices/watch.txt").write_text("x")
    before = lying(server)
    done = tried(TRIALS.read_text(), tmp_path, *over(server, "--may-write"))
    assert (
        done.stdout.count("the server, too") > 10
        and "the server lets" not in done.stdout
        and "does not" not in done.stdout
    )
    assert "1 not as expected" in done.stdout
    # What may be made and not be deleted is told, and all else is as it was.
    assert (
        done.output.count("is still there") == 2
        and "is still there, created for /inbox/26-11" in done.output
    )
    assert (
        "is still there, created for /charts/drafts/sheet-15.pdf" in done.output
        and done.exit_code == 1
    )
    assert [x for x in lying(server) if not x.endswith("-trial.pdf")] == before
    asked = {(x.account, x.action) for x in server.lines}
    assert ("kittiwake", "upload") in asked and ("kittiwake", "delete-file") in asked
    assert ("ines", "overwrite") not in asked  # it is not the trial's own


def test_what_does_not_lie_there_says_nothing_of_the_server(tmp_path, server):
    """Where the model lets it, and nothing is there to be had; a refusal that the model expects is
    one all the same.
    """
    steps = ("download /notices/none.txt: yes", "download /soundings/none: no")
    for endpoint in ("harbour", "lab-sftp"):
        done = tried(
            trial(*steps, at=endpoint).replace(
                "ines", "kittiwake" if endpoint == "harbour" else "ines"
            ),
            tmp_path,
            *over(server),
        )
        assert (
            "download /notices/none.txt  yes; not tried" in done.stdout
            and "nothing of that name" in done.stdout
        )


def test_without_leave_nothing_is_written(tmp_path, server):
    done = tried(TRIALS.read_text(), tmp_path, *over(server))
    assert (
        "--may-write was not given" in " ".join(done.stdout.split())
        and "not tried at the server" in done.stdout
    )
    assert not lying(server) and not {x.action for x in server.lines} & {
        "upload",
        "delete-file",
        "overwrite",
    }


@pytest.mark.parametrize("endpoint", ["harbour", "lab-sftp"])
def test_a_server_that_does_otherwise_is_told(tmp_path, server, endpoint):
    """The model of the trial says what the server's does not."""
    other = tmp_path / "other.yaml"
    entries = {"add": {"entries": ["deny account:ines list", "allow account:ines rename"]}}
    change = {"op": "change", "kind": "folder", "name": "survey:/charts/drafts", **entries}
    other.write_text(write_model(apply(read_model(DEMO.read_bytes()), [change]).model))
    steps = (
        "list /charts/drafts: no",
        "upload /charts/drafts/t.bin: yes",
        "list /charts: yes",
        "make-folder /charts/drafts/d: yes",
    )
    done = tried(trial(*steps, at=endpoint), tmp_path, *over(server, "--may-write"), model=other)
    assert (
        done.exit_code == 1
        and "list /charts/drafts  no, by folder; the server lets it" in done.stdout
    )
    assert "1 not as expected" in done.stdout
    # What ines put there she may not delete: it is told that it is still there.
    assert "is still there, created for /charts/drafts/t.bin" in done.output
    assert "is still there, created for /charts/drafts/d" in done.output


def test_who_cannot_sign_in_there_can_do_nothing(tmp_path, server):
    """What is refused anyway was not tried, and is not said to be refused there, too."""
    steps = ("list /: yes", "list /nowhere: no, by virtual path")
    done = tried(trial(*steps, at="harbour"), tmp_path, *over(server), password="wrong")
    assert (
        done.exit_code == 1
        and "list /  yes; the server does not" in done.stdout
        and "530" in done.stdout
    )
    assert (
        "list /nowhere  no, by virtual path; not tried" in done.stdout
        and "1 not as expected" in done.stdout
    )
    none = tried(trial(*steps, at="harbour"), tmp_path, *over(server), password="")
    assert "no password and no key was given for ines" in " ".join(none.stdout.split())


def test_what_is_not_trusted_is_told_with_the_remedy(tmp_path, server, monkeypatch):
    monkeypatch.setenv("HOME", str(tmp_path))
    given = [x for x in over(server) if x != "--unchecked"]
    done = tried(trial("list /: yes", at="harbour"), tmp_path, *given)
    assert (
        done.exit_code == 3
        and "is not trusted: self-signed certificate; --unchecked takes any" in done.output
    )
    done = tried(trial("list /: yes", at="lab-sftp"), tmp_path, *given)
    assert done.exit_code == 1 and "--unchecked" in done.stdout


def test_a_server_that_is_not_there_and_a_url_that_is_none(tmp_path):
    done = tried(trial("list /: yes"), tmp_path, "--over", "ftp://127.0.0.1:1")
    assert done.exit_code == 3 and "cannot be reached" in done.output
    done = tried(trial("list /: yes"), tmp_path, "--over", "gopher://127.0.0.1")
    assert done.exit_code == 2 and "is no server" in done.output


def test_passwords_in_a_file_that_others_can_read_are_refused(tmp_path):
    file = tmp_path / "passwords"
    file.write_text("ines secret\n")
    file.chmod(0o644)
    done = tried(
        trial("list /: yes"), tmp_path, "--over", "ftp://127.0.0.1:1", "--passwords", str(file)
    )
    assert done.exit_code == 2 and "chmod 600" in done.output


# --- what a server shows ------------------------------------------------------------------------


def compared(there, account, endpoint="harbour", model=DEMO, *more):
    url = {"harbour": "ftpes", "lab-sftp": "sftp"}[endpoint]
    words = [
        "compare-server",
        f"{url}://127.0.0.1:{there.ports[endpoint]}",
        account,
        "--endpoint",
        endpoint,
        "--unchecked",
    ]
    done = CliRunner().invoke(main, [*words, "--model", str(model), *more], env=WITH_PASSWORD)
    assert done.exception is None or isinstance(done.exception, SystemExit), done.exception
    return done


@pytest.mark.parametrize("account", ["ines", "odile", "kittiwake", "harrow-dredging", "bram"])
def test_a_server_that_shows_what_the_model_says(server, account, tmp_path):
    """All folders, and the perm fact of each; and it only reads."""
    model = tmp_path / "model.yaml"
    model.write_text(write_model(rehearsing.at_any_hour(read_model(DEMO.read_bytes()))))
    done = compared(server, account, "harbour", model)
    assert done.exit_code == 0 and "0 differences in" in done.stdout, done.stdout
    assert {x.action for x in server.lines} <= {
        "sign-in",
        "list",
    } and "not looked at" not in done.stdout


def test_what_a_server_shows_otherwise_is_told(tmp_path, server):
    other = tmp_path / "other.yaml"
    changes = [
        {
            "op": "change",
            "kind": "folder",
            "name": "survey:/charts/drafts",
            "add": {"entries": ["deny account:ines upload"]},
        },
        {
            "op": "change",
            "kind": "folder",
            "name": "survey:/soundings",
            "add": {"entries": ["deny account:ines enter"]},
        },
        {"op": "add", "kind": "folder", "name": "survey:/charts/new", "item": {}},
        {
            "op": "add",
            "kind": "virtual-path",
            "item": {
                "path": "/more",
                "leads_to": "survey:/charts",
                "grants": ["account:ines read"],
            },
        },
    ]
    other.write_text(write_model(apply(read_model(DEMO.read_bytes()), changes).model))
    done = compared(server, "ines", model=other)
    assert done.exit_code == 1
    for said in (
        "/charts/drafts  upload: the server does, and the model does not",
        "/soundings  enter: the server does",
        "/soundings  list: the server does, and the model does not",
        "/charts/new  shown: the model does, and the server does not",
        "/more  shown: the model does, and the server does not",
    ):
        assert said in done.stdout, said
    told = json.loads(compared(server, "ines", "harbour", other, "--json").stdout)
    assert told["perm"] and {d["what"] for d in told["differences"]} >= {
        "upload",
        "enter",
        "list",
        "shown",
    }
    some = compared(server, "ines", "harbour", DEMO, "--most", "2")
    assert "more folders not looked at: --most" in some.stdout


def test_sftp_tells_no_perm_and_that_is_said(server):
    done = compared(server, "ines", "lab-sftp")
    assert done.exit_code == 0 and "only what is shown was compared" in " ".join(
        done.stdout.split()
    )


def test_who_is_compared_has_to_be_there(server):
    assert "did you mean ines?" in compared(server, "inez").output
    refused = compared(server, "uni-esk")
    assert refused.exit_code == 1 and "cannot sign in there: 530" in refused.output


def test_a_name_that_no_model_can_hold_is_told_and_stops_nothing(server):
    (server.stand.tree.root / "survey/charts/drafts/a\x07b").mkdir()
    done = compared(server, "ines")
    assert (
        done.exit_code == 0 and "1 folder not looked at: no model can hold the name" in done.stdout
    )
