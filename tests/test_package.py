"""The package as it is built: what is in the wheel, and what of it works without the service's
packages.
"""

import json
import os
import re
import stat
import subprocess
import sys
import zipfile

import pytest
from tools.package import build, checkout_copy

from drawknife import __version__
from drawknife.cli.main import OF_THE_REHEARSAL, OF_THE_SERVER
from drawknife.host_files import place

from .conftest import DEMO, ROOT


@pytest.fixture(scope="module")
def wheel(tmp_path_factory):
    """The wheel, unpacked, and the names in it."""
    folder = tmp_path_factory.mktemp("wheel")
    file = build(folder).wheel
    with zipfile.ZipFile(file) as packed:
        packed.extractall(folder / "unpacked")
        return folder / "unpacked", set(packed.namelist())


def test_the_wheel_holds_the_console_the_schema_the_patterns_man_pages_and_completions(wheel):
    folder, names = wheel
    share = f"drawknife-{__version__}.data/data/share/"
    for name in (
        "drawknife/console/index.html",
        "drawknife/records/schema/001_model.sql",
        "drawknife/py.typed",
        "drawknife/patterns/shipped/first-server.yaml",
        "drawknife/host_files/drawknife.service",
        "drawknife/host_files/drawknife.toml",
        share + "bash-completion/completions/drawknife",
        share + "zsh/site-functions/_drawknife",
        share + "fish/vendor_completions.d/drawknife.fish",
        share + "man/man1/drawknife.1",
        share + "man/man1/drawknife-disk-plan.1",
        f"drawknife-{__version__}.dist-info/licenses/LICENSE",
    ):
        assert name in names
    assert any(n.startswith("drawknife/console/assets/") and n.endswith(".js") for n in names)
    assert not any(n.startswith(("tests/", "tools/", "benchmarks/")) for n in names)
    page = (folder / share / "man/man1/drawknife-who.1").read_text()
    assert "Everybody who has RIGHT at PLACE" in page and "drawknife who download" in page
    assert not (ROOT / "src/drawknife/console").exists()  # nothing of it stays in the checkout


def test_a_fresh_checkout_builds_the_same_wheel_as_a_stranger_would(wheel, tmp_path):
    """Isolated: without this checkout's packages, and without the console that was built here."""
    checkout = checkout_copy(tmp_path / "checkout")
    subprocess.run([sys.executable, "-m", "venv", tmp_path / "venv"], check=True)
    kept = (
        "PIP_",
        "HOME",
        "PATH",
        "LANG",
        "npm_",
        "NPM_",
        "SSL_",
        "https_proxy",
        "http_proxy",
        "no_proxy",
    )
    environment = {name: value for name, value in os.environ.items() if name.startswith(kept)}
    done = subprocess.run(
        [
            tmp_path / "venv" / "bin" / "pip",
            "wheel",
            "--quiet",
            "--no-deps",
            "--wheel-dir",
            tmp_path / "wheels",
            ".",
        ],
        cwd=checkout,
        env=environment,
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stderr[-2000:]
    (file,) = (tmp_path / "wheels").iterdir()
    with zipfile.ZipFile(file) as packed:
        names = packed.namelist()
    built, expected = (
        {re.sub(r"-[\w-]{8}(\.js|\.css)$", r"\1", name) for name in some}
        for some in (names, wheel[1])
    )
    assert built == expected


def test_what_a_server_needs_besides_is_put_in_place_and_overwrites_nothing(wheel, tmp_path):
    prefix, root = tmp_path / "venv", tmp_path / "root"
    (prefix / "share" / "man" / "man1").mkdir(parents=True)
    (prefix / "share" / "man" / "man1" / "drawknife-who.1").touch()
    place(root, prefix)
    unit, example = (
        root / "etc/systemd/system/drawknife.service",
        root / "etc/drawknife/drawknife.toml",
    )
    assert (
        f"ExecStart={prefix}/bin/drawknife serve" in unit.read_text()
        and "/opt/" not in unit.read_text()
    )
    assert (stat.S_IMODE(unit.stat().st_mode), stat.S_IMODE(example.stat().st_mode)) == (
        0o644,
        0o640,
    )
    assert (root / "usr/local/bin/drawknife").readlink() == prefix / "bin" / "drawknife"
    assert (root / "usr/local/share/man/man1/drawknife-who.1").readlink().parts[
        -1
    ] == "drawknife-who.1"
    assert place(root, prefix) == []
    example.write_text("port = 9000\n")
    (root / "usr/local/bin/drawknife").unlink()
    (root / "usr/local/bin/drawknife").write_text("another")
    kept = place(root, prefix)
    assert [(x.path.name, x.kept) for x in kept] == [
        ("drawknife.toml.new", True),
        ("drawknife", True),
    ]
    assert (
        example.read_text() == "port = 9000\n"
        and (root / "usr/local/bin/drawknife").read_text() == "another"
    )
    done = bare(wheel[0], "install-files", "--to", root)
    assert (
        done.returncode == 0 and f"kept {example}; the new version is {example}.new" in done.stderr
    )


def test_the_bill_beside_the_wheel_names_every_package_of_the_lock_with_its_hashes(wheel):
    (file,) = wheel[0].parent.glob("*.cdx.json")
    bill = json.loads(file.read_text())
    locked = dict(
        re.findall(r"^([\w.-]+)==(\S+)", (ROOT / "requirements/run.lock").read_text(), re.M)
    )
    assert bill["bomFormat"] == "CycloneDX" and bill["metadata"]["component"]["name"] == "drawknife"
    assert {c["name"]: c["version"] for c in bill["components"]}.items() >= locked.items() and len(
        locked
    ) > 40
    assert all(c["externalReferences"][0]["hashes"] for c in bill["components"])


#: The command line, without the packages that a bare installation does not have.
BARE = """
import sys
class Missing:
    def find_spec(self, name, path=None, target=None):
        if name.partition(".")[0] in {missing!r}:
            raise ModuleNotFoundError(f"No module named {{name!r}}", name=name)
sys.meta_path.insert(0, Missing())
sys.path.insert(0, {folder!r})
import drawknife
assert drawknife.__file__.startswith({folder!r})
from drawknife.cli.main import main
main()
"""


def bare(folder, *arguments):
    script = BARE.format(missing=set(OF_THE_SERVER + OF_THE_REHEARSAL), folder=str(folder))
    return subprocess.run(
        [sys.executable, "-c", script, *map(str, arguments)],
        capture_output=True,
        text=True,
        cwd=ROOT,
    )


@pytest.mark.parametrize(
    "command",
    [
        "check demo/tidewrack.yaml",
        "access ines",
        "why fulmar upload /charts/x",
        "who download /soundings",
        "map --right upload",
        "compare ines yuki",
        "findings",
        "limits",
        "handover ines",
        "trial list",
        "promise list",
        "idle",
        "pattern list",
        "mend refa list /charts",
        "account list",
        "disk list",
        "account change ines --not-enabled --preview",
    ],
)
def test_the_bare_package_is_the_command_line_on_model_files(wheel, command):
    words = command.split()
    done = bare(wheel[0], *words, *(() if words[0] == "check" else ("--model", DEMO)))
    assert (
        done.returncode in (0, 1) and "is missing" not in done.stderr and done.stdout + done.stderr
    ), done.stderr
    assert "Traceback" not in done.stderr


@pytest.mark.parametrize(
    ("command", "extra"),
    [
        ("serve --database x", "server"),
        ("rehearse --model demo/tidewrack.yaml", "rehearsal"),
        ("database status --database x", "server"),
    ],
)
def test_what_is_not_installed_says_how_it_is(wheel, command, extra):
    done = bare(wheel[0], *command.split())
    assert (
        done.returncode == 3
        and f"pip install 'drawknife[{extra}]'" in done.stderr
        and "Traceback" not in done.stderr
    )


def test_the_bare_package_asks_a_service(wheel, service):
    done = bare(wheel[0], "standing", "ines", "--url", service.url, "--token", service.token)
    assert done.returncode == 0 and "group:sonar-lab" in done.stdout, done.stderr
