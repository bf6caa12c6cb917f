"""Where the address and the token come from; completion; what the commands read."""

import json

import pytest

from ..conftest import DEMO, run


@pytest.fixture
def home(tmp_path):
    (tmp_path / ".config" / "drawknife").mkdir(parents=True)

    def write(text):
        (tmp_path / ".config" / "drawknife" / "config.toml").write_text(text)
        (tmp_path / ".config" / "drawknife" / "config.toml").chmod(0o600)
        return {"HOME": str(tmp_path)}

    return write


def test_option_before_environment_before_file(service, home, tmp_path):
    good = home(f'url = "{service.url}"\ntoken = "{service.token}"\n')
    assert run("account", "list", environment=good).returncode == 0
    assert (
        run("account", "list", environment={**good, "DRAWKNIFE_TOKEN": "dk_wrong"}).returncode == 3
    )
    both = {**good, "DRAWKNIFE_TOKEN": "dk_wrong", "DRAWKNIFE_URL": "http://127.0.0.1:1"}
    assert (
        run(
            "account", "list", "--token", service.token, "--url", service.url, environment=both
        ).returncode
        == 0
    )
    (tmp_path / "token").write_text(service.token + "\n")
    (tmp_path / "token").chmod(0o640)
    from_file = home(f'url = "{service.url}"\ntoken_file = "{tmp_path / "token"}"\n')
    done = run("account", "list", environment=from_file)
    assert done.returncode == 2 and "others can read" in done.stderr and "chmod 600" in done.stderr
    (tmp_path / "token").chmod(0o600)
    from_file = home(f'url = "{service.url}"\ntoken_file = "{tmp_path / "token"}"\n')
    assert run("account", "list", environment=from_file).returncode == 0


def test_a_file_that_cannot_be_read_is_told(home):
    done = run("account", "list", environment=home("url = \n"))
    assert done.returncode == 2 and "config.toml cannot be read" in done.stderr
    done = run("account", "list", environment=home('token_file = "/no/such"\n'))
    assert done.returncode == 2 and "the token's file cannot be read" in done.stderr


def test_completion_scripts():
    for shell in ("bash", "zsh", "fish"):
        assert "_DRAWKNIFE_COMPLETE" in run("completion", shell).stdout
    words = run(
        environment={
            "_DRAWKNIFE_COMPLETE": "bash_complete",
            "COMP_WORDS": "drawknife ac",
            "COMP_CWORD": "1",
        }
    )
    assert "access" in words.stdout and "account" in words.stdout


def test_a_model_from_standard_input():
    done = run("access", "ines", "--model", "-", given=DEMO.read_text())
    assert done.returncode == 0 and "exchange" in done.stdout
    assert run("check", "-", given="drawknife: 1\n").stdout == "- is sound.\n"


def test_the_schema_is_a_json_schema():
    schema = json.loads(run("schema").stdout)
    assert schema["$schema"].endswith("2020-12/schema") and schema["properties"]["drawknife"] == {
        "const": 1
    }


def test_places_are_looked_at(on_demo):
    out = on_demo("folder", "show", "survey:/charts/exchange")[1]
    assert (
        "sealed: nothing comes down into it" in out
        and "behind the seal, from survey:/charts" in out
    )
    out = on_demo("folder", "show", "survey:/inbox")[1]
    assert "turnstone/" in out and "owner turnstone" in out and "from survey:/" in out
    assert "not recorded" in on_demo("folder", "show", "survey:/nowhere")[1]
    assert (
        "8 TiB" in on_demo("store", "list")[1]
        and "homes:/teams/{unit}" in on_demo("vpath", "list")[1]
    )
    assert "does not start" in on_demo("endpoint", "list")[1]
    status, _, said = on_demo("folder", "show", "/inbox")
    assert status == 2 and "names no store" in said


def test_decide_stops_quietly_when_nobody_reads_on(tmp_path):
    import subprocess

    from ..conftest import DRAWKNIFE

    questions = tmp_path / "questions"
    questions.write_text('{"account": "ines", "action": "list", "path": "/inbox"}\n' * 20_000)
    done = subprocess.run(
        f"{DRAWKNIFE} decide {questions} --model {DEMO} | head -n 1",
        shell=True,
        capture_output=True,
        text=True,
    )
    assert done.stdout.count("\n") == 1 and done.stderr == ""


def test_refusals_of_bad_input_say_what_would_be_right(on_demo):
    for arguments, expected in (
        (
            ("why", "ines", "upload", "/x", "--size", "big"),
            "a number of bytes, or such as 40 GiB or 1.5 GB",
        ),
        (("why", "ines", "list", "/", "--at", "noon"), "an ISO 8601 time"),
        (("why", "ines", "list", "/", "--from", "harbour"), "an IPv4 or IPv6 address"),
        (("why", "ines", "sign-in"), "the endpoint to sign in at"),
        (("why", "ines", "rename", "/inbox/a"), "a rename needs a destination"),
        (("map", "--unit", "fleet/inshor"), "did you mean fleet/inshore?"),
    ):
        status, out, said = on_demo(*arguments)
        assert status == 2 and out == "" and expected in said, (arguments, said)


def test_an_error_is_json_where_the_answer_would_be(tmp_path):
    broken = tmp_path / "broken.yaml"
    broken.write_text("drawknife: 1\naccounts: [{name: 'a\u202eb'}]\n")
    for words, status, said in (
        (("access", "nobody", "--model", DEMO), 2, "there is no account 'nobody'"),
        (
            ("access", "ines", "--url", "http://127.0.0.1:1", "--token", "x"),
            3,
            "no service answers",
        ),
        (("access", "ines", "--model", broken), 2, "has mistakes"),
    ):
        done = run(*words, "--json")
        error = json.loads(done.stderr)
        assert (done.returncode, done.stdout, error["exit_status"]) == (
            status,
            "",
            status,
        ) and said in error["error"]
    assert error["places"][0]["where"] == "accounts[0].name" and error["places"][0]["line"] == 2
    assert done.stderr.isascii()  # a direction mark turns no terminal round
    assert run("access", "nobody", "--model", DEMO).stderr.startswith("drawknife: there is no")
