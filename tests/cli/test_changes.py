"""Changing from the command line: what follows is said, harm is asked about, words are taken as
they are printed.
"""

import json
import re

import pytest

from ..conftest import DEMO, ROOT, give_credentials, run, serving


@pytest.fixture(scope="module")
def own(cluster, tmp_path_factory):
    folder, address = tmp_path_factory.mktemp("changes"), cluster.create_database("changes")
    with serving(address, folder, "--load", DEMO) as found:
        yield found, address


@pytest.fixture
def demo_again(own):
    """The demo's model in force, whatever a test before did."""
    service, address = own
    give_credentials(address)
    with service.client() as client:
        client.load(DEMO.read_bytes())
    give_credentials(address)
    return service


@pytest.fixture
def drawknife(demo_again):
    def command(*arguments, **more):
        done = run(*arguments, environment=demo_again.environment, **more)
        assert "Traceback" not in done.stderr
        return done

    return command


def test_the_first_walk_from_nothing_works_as_it_stands(address, tmp_path):
    text = (ROOT / "README.md").read_text()
    block = text[text.index("And in another, once it serves") :]
    lines = re.findall(
        r"^    drawknife (.+)$", block[: block.index("Every change says")], re.MULTILINE
    )
    assert len(lines) >= 7
    import shlex

    with serving(address, tmp_path) as service:
        outputs = [run(*shlex.split(line), environment=service.environment) for line in lines]
    assert all(done.returncode == 0 for done in outputs), [d.stderr for d in outputs]
    sheet = outputs[-1].stdout
    assert "files.tidewrack.example, port 2222, SFTP" in sheet and "with your password" in sheet
    assert "/survey: look and fetch files, put files" in sheet


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (
            ["account", "change", "ines", "--not-enabled"],
            "ines can no longer sign in at harbour, lab-sftp, public-tides",
        ),
        (
            ["entry", "add", "survey:/charts", "allow account:fulmar upload"],
            "nobody gains or loses anything",
        ),
        (
            ["entry", "add", "survey:/charts", "allow account:fulmar upload"],
            "has no effect: no virtual path leads fulmar",
        ),
        (["group", "join", "night-watch", "tomasz"], "tomasz loses some of delete-file"),
        (["account", "add", "zoe", "--unit", "shore/lab"], "new: zoe"),
        (
            ["setting", "change", "account:ines", "--sessions", "1"],
            "sessions set for account:ines takes the place of that for group:sonar-lab",
        ),
        (["quota", "remove", "lab-pool"], "other room at"),
        (
            [
                "endpoint",
                "change",
                "lab-sftp",
                "--drop-only",
                "group:sonar-lab",
                "--drop-only",
                "group:night-watch",
            ],
            "nobody is admitted there",
        ),
        (["account", "remove", "bram", "--everywhere"], "gone: bram"),
    ],
)
def test_after_a_change_a_line_says_what_followed_and_the_journal_keeps_it(
    drawknife, arguments, said
):
    done = drawknife(*arguments)
    assert done.returncode == 0 and said in done.stderr, done.stderr
    if "note:" not in done.stderr:
        journal = " ".join(drawknife("journal", "--limit", "1").stdout.split())
        assert said in journal


def test_a_preview_folds_what_goes_with_signing_in(drawknife):
    out = drawknife("account", "change", "ines", "--not-enabled", "--preview").stdout
    assert "enabled yes → no" in out and "none → no" not in out
    assert "ines can no longer sign in at harbour, lab-sftp, public-tides" in out
    assert "ines loses all that there is through harbour, lab-sftp, public-tides" in out
    told = json.loads(
        drawknife("account", "change", "ines", "--not-enabled", "--preview", "--json").stdout
    )
    assert {a["endpoint"] for a in told["access"]} == {
        "harbour",
        "lab-sftp",
        "public-tides",
    } and not told["nothing"]


def test_a_note_on_a_unit_is_shown_as_what_differs_although_the_unit_was_only_a_path(drawknife):
    out = drawknife("unit", "change", "partners", "--note", "by contract", "--preview").stdout
    assert "~ units partners\n      note none → by contract" in out and "path" not in out


def test_nothing_follows_is_said_in_words_that_say_how_much_was_looked_at(drawknife):
    out = drawknife("account", "change", "ines", "--display", "I. Calado", "--preview").stdout
    assert "Nothing follows: nobody gains or loses anything, anywhere" in out


def test_a_load_that_removes_accounts_is_refused_off_a_terminal(drawknife, tmp_path):
    file = tmp_path / "less.yaml"
    file.write_text("drawknife: 1\naccounts: [{name: ines}]\n")
    refused = drawknife("load", file)
    assert (
        refused.returncode == 2
        and "18 accounts and 38 folders" in refused.stderr
        and "--yes" in refused.stderr
    )
    assert "anonymous, bram" in refused.stderr and drawknife("dump").stdout == DEMO.read_text()
    done = drawknife("load", file, "--yes")
    assert done.returncode == 0 and "gone: anonymous, bram" in done.stderr
    assert drawknife("load", DEMO).returncode == 0, "what only adds is not asked about"


def test_a_folder_that_looks_like_a_slip_is_noted(drawknife):
    done = drawknife("entry", "add", "survey:/sounding", "allow group:sonar-lab read")
    assert (
        "survey:/sounding was not recorded before; did you mean survey:/soundings?" in done.stderr
    )
    for fine in ("survey:/soundings/line-7", "survey:/wrecks", "survey:/charts"):
        assert (
            "did you mean"
            not in drawknife("entry", "add", fine, "allow group:sonar-lab list").stderr
        )


def test_words_are_taken_as_they_are_printed(drawknife):
    done = drawknife(
        "group", "add", "tide-desk", "--member", "odile", "--member", "unit:shore/office"
    )
    assert done.returncode == 0
    members = json.loads(drawknife("group", "show", "tide-desk", "--json").stdout)["members"]
    assert [x["line"] for x in members] == ["account:odile", "unit:shore/office"]
    assert drawknife("group", "leave", "tide-desk", "odile").returncode == 0
    for spelled in ("passive_ports", "passive-ports"):
        assert (
            drawknife("endpoint", "change", "harbour", "--clear", spelled, "--preview").returncode
            == 0
        )
    assert drawknife("quota", "change", "lab-pool", "--hard-bytes", "2.17 TiB").returncode == 0
    assert "hard_bytes    2.17 TiB" in drawknife("quota", "show", "lab-pool").stdout
    refused = drawknife("quota", "change", "lab-pool", "--hard-bytes", "1 TiB")
    assert refused.returncode == 2 and re.search(r"at most \d[.\d]* TiB", refused.stderr), (
        refused.stderr
    )


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (["load", "BAD"], "there is no unit"),
        (["access", "ines", "--model", "BAD"], "there is no unit"),
        (["account", "import", "BAD", "--yes"], "there is no column"),
        (["census", "public", "--from", "BAD"], ":"),
        (["vpath", "add", "/homes/{account}", "--leads-to", "homes:/"], "stands for nothing"),
        (["entry", "add", "survey:/", "allow nobody read"], "is no subject"),
        (
            ["setting", "change", "account:ines", "--drop-hour-line", "mon 01:00-02:00"],
            "is not there",
        ),
        (["account", "list", "--locked", "--model", str(DEMO)], "does not say who is locked"),
        (["journal", "--revision", "999"], "there is no revision"),
        (["censuses", "--forget", "public", "yesterday"], "is no time"),
    ],
)
def test_bad_input_exits_2_and_says_what_would_be_right(drawknife, tmp_path, arguments, said):
    (tmp_path / "bad.yaml").write_text("drawknife: 1\naccounts: [{name: ada, unit: fleet}]\n")
    done = drawknife(*[tmp_path / "bad.yaml" if a == "BAD" else a for a in arguments])
    assert done.returncode == 2 and said in done.stderr and not done.stdout, (
        done.returncode,
        done.stderr,
    )


def test_lists_of_accounts_that_want_something(drawknife, demo_again):
    def names(*options):
        return [
            a["name"]
            for a in json.loads(drawknife("account", "list", *options, "--json").stdout)["accounts"]
        ]

    with demo_again.client() as client:
        client.clear_password("odile")
        client.change(
            [{"op": "change", "kind": "account", "name": "refa", "set": {"enabled": False}}]
        )
        client.report_sign_ins(
            [{"what": "failed", "account": "yuki", "address": "203.0.113.7"}] * 5
        )
    assert names("--off") == ["refa"] and names("--locked") == ["yuki"]
    assert "ines" not in names("--no-credential") and "odile" in names("--no-credential")
    assert names("--source", "bureau") == ["edda", "jonas", "petra", "sverre", "wanda"]
    assert names("--expires-within", "30") == ["uni-esk"]
    assert set(names("--expires-within", "3000")) == {"harrow-dredging", "uni-esk"}
    assert names("partners", "--expires-within", "30", "--off") == []


def test_findings_can_fail(drawknife, tmp_path):
    assert drawknife("findings").returncode == 0 and drawknife("findings", "--fail").returncode == 1
    (tmp_path / "well.yaml").write_text("drawknife: 1\n")
    assert run("findings", "--fail", "--model", tmp_path / "well.yaml").returncode == 0
    found = drawknife("findings").stdout
    for kind in ("endpoint-clash", "account-expired", "limit-nearly-full"):
        assert f"{kind}: " in found
    file = tmp_path / "tls.yaml"
    file.write_text(
        "drawknife: 1\naccounts: [{name: ines}, {name: іnes}]\nendpoints: [{name: quay, protocol:"
        " ftps, port: 990, passive_ports: 4000-4000}, {name: pier, protocol: ftp, port: 21,"
        " certificate: none.pem}]\nsettings: [{for: signed-in, sessions: 4}]\n"
    )
    found = run("findings", "--model", file).stdout
    assert (
        "no-certificate: quay requires TLS" in found
        and "names-alike: the accounts ines and іnes look alike" in found
    )
    assert (
        "passive-range-small: quay has 1 passive ports" in found
        or "passive-range-small: quay has 1 passive port" in found
    )
    assert "certificate: the certificate of pier: it cannot be read" in found
