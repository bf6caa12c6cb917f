"""The command line, as a process."""

import csv
import io
import json
import os
import re
import shlex
import subprocess
from datetime import UTC, date, datetime
from shutil import copytree

import click
import psycopg
import pytest
from click.testing import CliRunner
from tools.cluster import free_port
from tools.demo import BUREAU
from tools.files import make_files

from drawknife.cli.main import main
from drawknife.core.words.rights import RIGHTS
from drawknife.messages import NewCensus

from ..conftest import DEMO, DRAWKNIFE, run, serving


def test_access_is_a_tree_with_a_column_for_each_right(on_demo):
    status, out, _ = on_demo("access", "ines")
    assert status == 0
    lines = out.splitlines()
    # Each right's name stands over its own column, and each column has one mark in each row.
    row = next(x for x in lines if "exchange" in x)
    columns = [
        next(x for x in lines if x.rstrip().endswith(right)).index(right) for right in RIGHTS
    ]
    assert [row[c] for c in columns] == list("●●●●◐·◐◐···")
    assert row.startswith("│  ├─ exchange") and max(map(len, lines)) <= 100
    assert "◐ only on what it owns" in out and "◑" not in out
    assert next(x for x in lines if "├─ soundings" in x).rstrip().endswith("survey:/soundings")


def test_access_tells_what_is_not_served_and_who_cannot_sign_in(on_demo):
    assert "! /archive is not served: /archive leads to" in on_demo("access", "bram")[1]
    assert "the account expired with 2026-09-30" in on_demo("access", "uni-esk")[1]


def test_why_tells_verdict_obstacles_and_every_entry(on_demo):
    status, out, _ = on_demo("why", "fulmar", "upload", "/charts/x")
    assert status == 1
    assert "REFUSED" in out and "fulmar has no virtual path that holds /charts/x" in out
    assert (
        "Also in the way, once that is mended" in out
        and "as it would be if /charts led fulmar to" in out
    )
    status, out, _ = on_demo("why", "yuki", "delete-file", "/soundings/x")
    assert re.search(r"× allow group:sonar-lab change +overruled by a deny on its level", out)
    assert re.search(r"▶ deny group:night-watch delete-file,delete-folder +decides", out)
    status, out, _ = on_demo("why", "fulmar", "upload", "/inbox/line.xyz")
    assert status == 0 and "ALLOWED" in out and "▶ allow account:fulmar add" in out
    status, out, _ = on_demo(
        "why", "refa", "sign-in", "--endpoint", "harbour", "--from", "203.0.113.9", "--no-tls"
    )
    assert (
        status == 1 and "is not admitted from 203.0.113.9" in out and "harbour requires TLS" in out
    )


def test_who_map_compare_and_list(on_demo):
    out = on_demo("who", "download", "/soundings/north-bank")[1]
    assert "harrow-dredging" in out and "9 accounts" in out
    assert "nobody" in on_demo("who", "set-attributes", "/tides")[1]
    out = on_demo("who", "upload", "survey:/inbox/turnstone", "--but-for", "folder")[1]
    assert "turnstone" in out and "deny group:boats all below" in " ".join(out.split())
    table = list(
        csv.reader(io.StringIO(on_demo("map", "--group", "boats", "--right", "upload", "--csv")[1]))
    )
    assert [row[0] for row in table] == ["account", "fulmar", "kittiwake", "razorbill", "turnstone"]
    assert dict(zip(table[0], table[4], strict=True))["/inbox"] == "no"
    lines = on_demo("map", "--under", "/home", "--matching", "ines", "--json-lines")[1].splitlines()
    assert json.loads(lines[0]) == {"account": "ines", "location": "/home", "access": "celmp/adfrw"}
    out = on_demo("map", "--right", "upload", "--depth", "1")[1]
    assert "blank: no such location" in out and "harrow-dredging" in out
    status, out, _ = on_demo("compare", "ines", "yuki")
    assert status == 1 and "5 differences" in out
    assert on_demo("compare", "ines", "tomasz", "--under", "/soundings")[0] == 0
    status, out, _ = on_demo("list", "harrow-dredging", "/charts")
    assert status == 0 and "issued/" in out and "exchange" not in out
    assert on_demo("list", "bram", "/archive")[0] == 1


def test_compare_with_another_model(on_demo, tmp_path):
    mended = tmp_path / "mended.yaml"
    mended.write_text(
        DEMO.read_text()
        .replace("    owner: turnstone\n- name: homes", "    owner: turnstone\n")
        .replace(
            "  - path: /inbox/turnstone\n    owner: turnstone\n",
            "  - path: /inbox/turnstone\n    owner: turnstone\n    entries: [allow"
            " account:turnstone add]\n",
        )
    )
    status, out, _ = on_demo("compare", "turnstone", "--with-model", mended)
    assert status == 1 and "/inbox" in out and "turnstone in" in out


def test_standing_shows_chains_and_where_settings_come_from(on_demo):
    out = on_demo("standing", "yuki")[1]
    assert re.search(r"1\.2 +group:all-hands +unit:shore/lab > group:sonar-lab", out)
    assert re.search(r"sessions +6 +group:night-watch and group:sonar-lab", out)


def test_every_command_prints_json_too(on_demo):
    for command in (
        ["access", "ines"],
        ["why", "ines", "list", "/"],
        ["standing", "ines"],
        ["who", "list", "/"],
        ["map"],
        ["compare", "ines", "ines"],
        ["list", "ines"],
        ["account", "list"],
        ["account", "show", "ines"],
        ["findings"],
        ["store", "list"],
        ["folder", "show", "survey:/"],
        ["vpath", "list"],
        ["endpoint", "list"],
    ):
        assert json.loads(on_demo(*command, "--json")[1]), command


def test_decide_answers_line_by_line(on_demo, service):
    questions = (
        '{"account": "kittiwake", "action": "upload", "path": "/inbox/line-07.xyz"}\n{"account":'
        ' "kittiwake", "action": "delete-file", "path": "/inbox/line-07.xyz", "owner":'
        ' "kittiwake"}\n{"account": "kittiwake", "action": "rename", "path": "/inbox/a", "to":'
        ' "/inbox/b", "thing": "folder"}\nno question\n{"account": "ines", "action": "upload",'
        ' "path": "/inbox/x", "endpoint": "harbour", "from": "192.0.2.7", "tls": true, "method":'
        ' "password", "size": 1048576}\n{"account": "ines", "action": "list", "path": "/charts",'
        ' "explain": true}\n{"account": "ines", "action": "list", "path": "/a", "to": "/b"}\n'
    )
    status, out, _ = on_demo("decide", given=questions)
    answers = [json.loads(line) for line in out.splitlines()]
    assert status == 1
    assert [a.get("allowed") for a in answers] == [True, True, False, None, True, True, None]
    assert answers[2]["gate"] == "folder" and set(answers[0]) == {
        "allowed",
        "gate",
        "reason",
        "text",
    }
    assert answers[3]["error"]["message"] and answers[6]["error"]["where"] == "to"
    assert [g["gate"] for g in answers[5]["explanation"]["gates"]] == [
        "door",
        "sign-in",
        "endpoint",
        "virtual path",
        "folder",
        "limits",
    ]
    through_service = run("decide", given=questions, environment=service.environment)
    assert [json.loads(line) for line in through_service.stdout.splitlines()] == answers
    assert (
        run("decide", given=questions.splitlines()[0], environment=service.environment).returncode
        == 0
    )


def test_the_same_words_with_a_service(service, on_demo):
    for command in (
        ["access", "yuki"],
        ["why", "fulmar", "upload", "/charts/x"],
        ["who", "list", "survey:/inbox"],
        ["map", "--right", "enter"],
        ["standing", "bram"],
        ["compare", "ines", "bram"],
    ):
        assert run(*command, environment=service.environment).stdout == on_demo(*command)[1]


def test_load_dump_and_journal(service):
    dumped = run("dump", environment=service.environment)
    assert dumped.stdout == DEMO.read_text()
    again = run("load", "-", given=dumped.stdout, environment=service.environment)
    assert again.returncode == 0 and "nothing changed" in again.stderr and again.stdout == ""
    told = run("journal", environment=service.environment).stdout
    assert (
        "load" in told
        and "+ units fleet\n" in told
        and "journal --revision 1 tells them all" in told
    )
    whole = run("journal", "--revision", "1", environment=service.environment).stdout
    assert "+ accounts yuki" in whole and "more" not in whole


def test_check(tmp_path):
    sound = run("check", DEMO)
    assert sound.returncode == 0 and "is sound" in sound.stdout and "endpoint-clash" in sound.stdout
    bad = tmp_path / "bad.yaml"
    bad.write_text("drawknife: 1\nunits: [a//b]\naccounts: [{name: ada, unit: fleet}]\n")
    refused = run("check", bad)
    assert refused.returncode == 1 and refused.stdout == ""
    assert (
        f"{bad}:2: units[0]: a name may not be empty" in refused.stderr
        and f"{bad}:3: accounts[0].unit" in refused.stderr
    )
    assert json.loads(run("check", bad, "--json").stdout)["sound"] is False


@pytest.mark.parametrize(
    ("arguments", "status", "said"),
    [
        (["access", "inez", "--model", DEMO], 2, "there is no account 'inez'; did you mean ines?"),
        (["why", "ines", "fly", "/", "--model", DEMO], 2, "is not one of 'enter'"),
        (["why", "ines", "list", "--model", DEMO], 2, "the key 'path' is missing"),
        (["why", "ines", "list", "a//b", "--model", DEMO], 2, "the path does not begin with /"),
        (["who", "list", "nowhere:/", "--model", DEMO], 2, "there is no store 'nowhere'"),
        (["access", "ines", "--endpoint", "harbor", "--model", DEMO], 2, "did you mean harbour?"),
        (
            ["access", "ines", "--model", "/no/such/file"],
            2,
            "cannot be read: No such file or directory",
        ),
        (["access", "ines"], 2, "no token: set DRAWKNIFE_TOKEN"),
        (
            ["access", "ines", "--url", "http://127.0.0.1:1", "--token", "x"],
            3,
            "no service answers at http://127.0.0.1:1",
        ),
        (["compare", "ines", "--model", DEMO], 2, "name a second account"),
        (
            ["vpath", "show", "/inbox", "--model", DEMO],
            2,
            "2 virtual paths are at /inbox; expected one of /inbox>survey:/inbox",
        ),
        (["quota", "show", "lab-pol", "--model", DEMO], 2, "did you mean lab-pool?"),
        (["headroom", "fulmar", "/nowhere", "--model", DEMO], 2, "is not in its view"),
        (["reach", "harbour", "nowhere", "--model", DEMO], 2, "is no address"),
        (["without", "ines", "boats", "--model", DEMO], 2, "ines is not in group:boats"),
        (["limits", "nothing", "--model", DEMO], 2, "there is no limit 'nothing'"),
        (["headroom", "ines", "/charts", "--at", "soon", "--model", DEMO], 2, "is no time"),
        (["nonsense"], 2, "No such command"),
    ],
)
def test_mistakes_are_told_on_standard_error(arguments, status, said):
    done = run(*arguments)
    assert (
        done.returncode == status
        and said in done.stderr
        and done.stdout == ""
        and "Traceback" not in done.stderr
    )


def test_a_database_that_is_away_is_told_at_once():
    done = run("serve", "--port", free_port(), "--database", "postgresql://x@127.0.0.1:1/x")
    assert done.returncode == 3 and "the database cannot be reached" in done.stderr


def test_a_wrong_token_is_a_failure(service):
    done = run("access", "ines", "--url", service.url, "--token", "dk_wrong")
    assert done.returncode == 3 and "the token is not valid" in done.stderr


def test_colour_only_on_a_terminal_and_never_with_no_color():
    import pty

    def on_terminal(**environment):
        master, slave = pty.openpty()
        command = [DRAWKNIFE, "access", "ines", "--model", DEMO]
        process = subprocess.Popen(
            command,
            stdout=slave,
            stdin=slave,
            env={**os.environ, "TERM": "xterm-256color", **environment},
        )
        os.close(slave)
        out = b""
        while True:
            try:
                piece = os.read(master, 65536)
            except OSError:
                break
            if not piece:
                break
            out += piece
        process.wait()
        return out

    assert b"\x1b[32m" in on_terminal()
    assert b"\x1b[3" not in on_terminal(NO_COLOR="1")
    assert "\x1b" not in run("access", "ines", "--model", DEMO).stdout


def commands():
    """Every command: its words, its help, and itself."""

    def below(group, path):
        context = click.Context(group)
        for name in group.list_commands(context):
            command = group.get_command(context, name)
            if isinstance(command, click.Group):
                yield from below(command, [*path, name])
            else:
                yield [*path, name], command.help, command

    return list(below(main, []))


@pytest.mark.parametrize(
    ("path", "text"),
    [x[:2] for x in commands()],
    ids=lambda x: " ".join(x) if isinstance(x, list) else "",
)
def test_every_commands_help_has_an_example(path, text):
    assert "Example" in text and "drawknife " + " ".join(path) in text
    assert "Example" in CliRunner().invoke(main, [*path, "--help"]).stdout


def examples(asking):
    """The examples of the commands that only ask, or of all others, as shell lines."""
    for path, text, command in commands():
        if path[0] in (
            "serve",
            "config",
            "database",
            "completion",
            "rehearse",
            "compare-server",
        ):  # tried elsewhere
            continue
        given = {p.name for p in command.params}
        if ("model_file" in given and "out" not in given) is asking:
            for example in re.findall(r"^ *(drawknife (?:.*\\\n)*.*)$", text, re.MULTILINE):
                # Mail is sent in test_reviews.py.
                left_out = ("mended.yaml", "questions.jsonl", "report send")
                if not any(words in example for words in left_out):
                    yield example


def done_by(line, folder, monkeypatch, **environment):
    """What an example does: in process, which is quicker by a second, or in a shell where it needs
    one.
    """
    if re.search(r"[|<>$\\~]", line):
        return in_shell(line, folder, **environment)
    monkeypatch.chdir(folder)
    for name in ("DRAWKNIFE_URL", "DRAWKNIFE_TOKEN", "COLUMNS"):
        monkeypatch.delenv(name, raising=False)
    done = CliRunner(env={"HOME": str(folder), **environment}).invoke(
        main, shlex.split(line)[1:], input="a secret word\n"
    )
    assert done.exception is None or isinstance(done.exception, SystemExit), done.exception
    return subprocess.CompletedProcess(line, done.exit_code, done.stdout, done.stderr)


def in_shell(line, folder, **environment):
    path = f"{DRAWKNIFE.parent}:{os.environ['PATH']}"
    environment = {"PATH": path, "HOME": str(folder), "LANG": "C.UTF-8", **environment}
    return subprocess.run(
        ["bash", "-c", line],
        cwd=folder,
        env=environment,
        capture_output=True,
        text=True,
        input="a secret word\n",
    )


@pytest.mark.parametrize("example", examples(asking=True))
def test_the_examples_of_asking_commands_work_on_the_demo(example, tmp_path, monkeypatch):
    copytree(DEMO.parent, tmp_path / "demo")
    if " disk " in example:
        read = "drawknife disk read survey --root demo --model demo/tidewrack.yaml"
        if "descriptors" in example:
            read = (
                "drawknife disk read public --descriptors demo/disk/public.csv --names"
                " demo/disk/public-sids.csv --model demo/tidewrack.yaml"
            )
        assert done_by(read, tmp_path, monkeypatch).returncode == 0
        copytree(DEMO.parent, tmp_path / ".run" / "files" / "survey")
    line = (
        example
        if "--model" in example or "check " in example
        else f"{example} --model demo/tidewrack.yaml"
    )
    done = done_by(line, tmp_path, monkeypatch)
    if (
        "--no-credential" in example or "--accepted" in example
    ):  # which a model file cannot tell, and that is said
        assert done.returncode == 2 and "expected a service" in done.stderr
        return
    # What a model file does not hold is not passed over in silence.
    said = "not looked at: passwords and keys\n" if "findings" in example else ""
    if "descriptors" in example:
        said = done.stderr if done.stderr.startswith("What descriptors cannot say:") else said
    assert done.returncode in (0, 1) and done.stderr == said, (line, done.stderr)


@pytest.fixture(scope="module")
def for_examples(cluster, tmp_path_factory):
    """A service whose model may be changed, and a folder to work in."""
    folder = tmp_path_factory.mktemp("examples")
    (folder / "demo").symlink_to(DEMO.parent)
    make_files(folder / ".run" / "files")
    address = cluster.create_database("examples")
    with serving(address, folder, "--key-file", folder / "key") as found:
        found.address = address
        yield found, folder


def of_a_past_that_there_is(client, example):
    """The example with the newest revision, and its time; nobody can be asked here whether to go
    back.
    """
    newest = client.change(
        [{"op": "add", "kind": "unit", "name": f"unit{client.health().revision}"}]
    ).revision
    at = client.journal_line(newest).at.isoformat()
    words = [
        str(newest) if word == "12" else at if word == "2026-11-20T08:00" else word
        for word in example.split()
    ]
    yes = ["--yes"] if words[1].startswith("back") and "--preview" not in words else []
    return " ".join([*words, *yes])


def forget_names_of_others(address):
    """Names that nobody has now: each example stands for itself."""
    gone = (
        "DELETE FROM names_taken n WHERE NOT EXISTS (SELECT 1 FROM administrators a WHERE a.name ="
        " n.name)"
    )
    with psycopg.connect(address, autocommit=True) as connection:
        connection.execute(gone)


def let_there_be_others(client, example, address):
    """The administrators and the token that the examples name, but for what the example adds
    itself, as never before.
    """
    forget_names_of_others(address)
    there = {a.name for a in client.administrators().administrators}
    for name in ("olga", "pim"):
        if f"add {name}" in example and name in there:
            client.remove_administrator(name)
        elif f"add {name}" not in example and name not in there:
            client.add_administrator(name, "editor")
    if "staff" in example and "staff" not in {d.name for d in client.directories().directories}:
        options = {
            "address": "ldaps://ldap.tidewrack.example",
            "people_base": "ou=people,dc=tidewrack,dc=example",
        }
        client.add_directory("staff", options)
    if "office" in example and "office" not in {d.name for d in client.directories().directories}:
        client.add_directory("office", {"address": "scim:"})
    for token in client.tokens().tokens:
        if token.called in ("night-report", "tide-report", "office-sync"):
            client.end_token(token.id)
    forget_names_of_others(address)
    if "make" not in example:
        client.make_token("night-report", "reader")


def of_a_draft_that_there_is(client, example):
    """The draft that the examples name, as it is before: not begun, or with two steps and two
    administrators' say.
    """
    for draft in client.drafts().drafts:
        client.drop_draft(draft.name)
    if "draft begin" not in example:
        unit, other = (
            {"op": "add", "kind": "unit", "item": {"path": path}}
            for path in ("shore/pier", "shore/jetty")
        )
        client.add_to_draft("spring", [unit, other])
    return example + " --yes" if "draft apply" in example else example


@pytest.mark.parametrize("example", examples(asking=False))
def test_the_examples_of_changing_commands_work_on_the_demo(example, for_examples, monkeypatch):
    service, folder = for_examples
    with service.client() as client:
        client.load(DEMO.read_bytes())
        if (
            "directory add" in example or "sync" in example
        ):  # whatever an earlier example left of it
            for a in client.administrators().administrators:
                if a.directory:
                    client.remove_administrator(a.name)
            for d in client.directories().directories:
                client.remove_directory(d.name, keep=True)
            client.load(DEMO.read_bytes())
        if "directory add" not in example and "bureau" not in [
            d.name for d in client.directories().directories
        ]:
            client.add_directory("bureau", {"address": str(DEMO.parent / "bureau.ldif"), **BUREAU})
        if "key remove" in example and not client.credentials("kittiwake").keys:
            client.add_key("kittiwake", (DEMO.parent / "kittiwake.pub").read_text())
        if "key add" in example:
            for key in client.credentials("kittiwake").keys:
                client.remove_key("kittiwake", key.fingerprint)
        if "lockout add" in example:
            client.change([{"op": "remove", "kind": "lockout", "name": "account"}])
        if "disk adopt" in example:
            reading = {"store": "survey", "folders": ["0:0 0755 /"], "users": ["ines 3001 3001"]}
            acts = {
                "op": "change",
                "kind": "setting",
                "name": "group:sonar-lab",
                "set": {"acts_as": "ines"},
            }
            client.change([acts, {"op": "add", "kind": "disk-reading", "item": reading}])
            client.begin_draft("as-it-is")
        if "put-back" in example:
            (folder / "survey-before.acl").write_text(
                "# file: .\n# owner: 0\n# group: 0\nuser::rwx\ngroup::r-x\nother::r-x\n"
            )
        if "disk remove" in example:
            reading = {"store": "survey", "folders": ["0:0 0755 /"]}
            client.change([{"op": "add", "kind": "disk-reading", "item": reading}])
        if "store remove" in example:
            client.change([{"op": "add", "kind": "store", "item": {"name": "wrecks"}}])
        if "report signed" in example:
            while (made := client.make_report("survey:/inbox")).number < 3:
                pass
            (folder / "inbox.pdf").write_bytes(client.report_document(made.number))
            example = example.replace("signed 3", f"signed {made.number}")
        if "finding reopen" in example:
            client.accept_finding(
                "endpoint-clash", "old-quay", date(2031, 3, 31), "old-quay is retired in spring"
            )
        if "--returned" in example:
            made = client.make_report("group:boats")
            client.sign_report(
                made.number, json.dumps({"report": made.number, "decided": []}).encode()
            )
            example = example.replace("show 3", f"show {made.number}")
        elif "report show" in example:
            example = example.replace(
                "show 3", f"show {client.make_report('survey:/inbox').number}"
            )
        if "--forget" in example:
            client.take_census(
                NewCensus(store="public", at=datetime(2026, 11, 2, 4, 0, 11, tzinfo=UTC), rows=[])
            )
        if "12" in example.split() or "2026-11-20T08:00" in example:
            example = of_a_past_that_there_is(client, example)
        if " administrator " in example or " token " in example:
            let_there_be_others(client, example, service.address)
        if " draft " in example:
            example = of_a_draft_that_there_is(client, example)
        before = client.dump()
    done = done_by(example, folder, monkeypatch, **service.environment)
    assert done.returncode == 0 and "Traceback" not in done.stderr, (
        example,
        done.stdout,
        done.stderr,
    )
    if "--preview" in example:
        with service.client() as client:
            assert client.dump() == before and done.stdout
