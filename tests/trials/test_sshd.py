"""A real OpenSSH server, which takes keys only, held against the model; and what a server that lies
cannot bring about.
"""

import asyncio
import json
import os
import shutil

import asyncssh
import pytest
from click.testing import CliRunner
from tools import sshd

from drawknife.cli.main import main
from drawknife.core.prepared.question import Question
from drawknife.trials.over import AtServer, RefusedByServer

MODEL = """drawknife: 1
accounts: [{name: ines, methods: [key]}]
stores:
  - name: survey
    folders:
      - {path: /, entries: ["allow account:ines look"]}
      - {path: /desk, entries: ["allow account:ines change"]}
      - {path: /kept, entries: ["deny account:ines all"]}
virtual_paths: [{path: /, leads_to: "survey:/", grants: [account:ines all]}]
endpoints: [{name: pier, protocol: sftp, port: 22}]
"""
#: What it shows: a folder that the model hides, one that it records and the server has not, and a
#: file that is not to be touched.
TREE = """
mkdir kept desk extra
chmod 700 kept
chown 20001:20001 desk
echo precious > desk/precious.txt
chown 20001:20001 desk/precious.txt
"""
ONLY_HERE = pytest.mark.skipif(
    os.geteuid() != 0 or shutil.which("unshare") is None or sshd.program() is None,
    reason="takes root and sshd",
)


@pytest.fixture(scope="module")
def server(tmp_path_factory):
    folder = tmp_path_factory.mktemp("sshd")
    key = asyncssh.generate_private_key("ssh-ed25519")
    key.write_private_key(str(folder / "key"))
    (folder / "model.yaml").write_text(MODEL)
    public = key.export_public_key().decode().strip()
    with sshd.serving(folder / "server", {"i.surveyor": 20001}, public, TREE) as port:
        words = (folder / "server" / "host-key.pub").read_text().split()
        (folder / "known").write_text(f"[127.0.0.1]:{port} {words[0]} {words[1]}\n")
        yield folder, f"sftp://127.0.0.1:{port}"


def said(server, *words):
    folder, _ = server
    options = [
        "--key",
        folder / "key",
        "--sign-in-as",
        "ines=i.surveyor",
        "--known-hosts",
        folder / "known",
    ]
    done = CliRunner().invoke(
        main, list(map(str, [*words, *options, "--model", folder / "model.yaml"]))
    )
    assert done.exception is None or isinstance(done.exception, SystemExit), done.exception
    return done


@ONLY_HERE
def test_a_server_with_keys_only_is_compared_and_what_it_shows_and_the_model_hides_is_found(server):
    done = said(server, "compare-server", server[1], "ines", "--endpoint", "pier", "--json")
    found = {
        (d["location"], d["what"], d["model"], d["server"])
        for d in json.loads(done.stdout)["differences"]
    }
    assert found == {("/kept", "shown", False, True)} and done.exit_code == 1


@ONLY_HERE
def test_a_trial_there_creates_under_names_of_its_own_and_leaves_nothing(server):
    folder, url = server
    (folder / "t.yaml").write_text(
        "drawknife-trials: 1\ntrials:\n  - name: t\n    as: ines\n    steps:\n      - upload"
        " /desk/precious.txt: yes\n      - overwrite /desk/precious.txt: yes\n      - delete-file"
        " /desk/precious.txt: yes\n      - make-folder /desk/new: yes\n      - upload"
        " /desk/new/in.txt: yes\n      - rename /desk/new/in.txt to /desk/precious.txt: yes\n"
    )
    done = said(server, "try", folder / "t.yaml", "--over", url, "--may-write")
    assert done.exit_code == 0, done.output
    listed = said(server, "compare-server", url, "ines", "--endpoint", "pier", "--json")
    assert json.loads(listed.stdout)["looked_at"] >= 3
    assert _lying(server) == {"desk", "extra", "kept", "precious.txt"}


def _lying(server):
    folder, url = server
    port = int(url.rpartition(":")[2])

    async def names():
        options = {
            "username": "i.surveyor",
            "client_keys": [str(folder / "key")],
            "known_hosts": None,
        }
        async with (
            asyncssh.connect("127.0.0.1", port, **options) as connection,
            connection.start_sftp_client() as sftp,
        ):
            async with sftp.open("/desk/precious.txt") as file:
                assert await file.read() == "precious\n"
            return {
                x for at in ("/", "/desk") for x in await sftp.listdir(at) if x not in (".", "..")
            }

    return asyncio.run(names())


@ONLY_HERE
def test_a_host_key_that_is_not_known_and_a_key_that_is_not_taken_are_refused(server, tmp_path):
    folder, url = server
    other = tmp_path / "known"
    other.write_text("")
    words = [
        "compare-server",
        url,
        "ines",
        "--key",
        str(folder / "key"),
        "--known-hosts",
        str(other),
    ]
    done = CliRunner().invoke(main, [*words, "--model", str(folder / "model.yaml")])
    assert done.exit_code == 1 and "known_hosts" in done.output
    asyncssh.generate_private_key("ssh-ed25519").write_private_key(str(tmp_path / "key"))
    words = [
        "compare-server",
        url,
        "ines",
        "--key",
        str(tmp_path / "key"),
        "--unchecked",
        "--sign-in-as",
        "i.surveyor",
    ]
    done = CliRunner().invoke(main, [*words, "--model", str(folder / "model.yaml")])
    assert done.exit_code == 1 and "cannot sign in there" in done.output


# --- a server that lies -------------------------------------------------------------------------


class Liar:
    """Has files of others, and answers of each action whatever it likes, whether it
    does it or not.
    """

    def __init__(self, answers):
        self.answers = answers
        self.written, self.deleted = [], []

    def _answer(self, what):
        says, does = self.answers.get(what, (True, True))
        if not says:
            raise RefusedByServer("no")
        return does

    def there(self, path):
        return self.answers.get("there", (True, True))[0]

    def upload(self, path, size, new):
        self.written.append(path)
        self._answer("upload")

    def append(self, path):
        self.written.append(path)
        self._answer("append")

    def make_folder(self, path):
        self.written.append(path)
        self._answer("make_folder")

    def rename(self, path, to):
        self.deleted.append(path)
        self.written.append(to)
        self._answer("rename")

    def delete_file(self, path):
        self.deleted.append(path)
        self._answer("delete_file")

    def delete_folder(self, path):
        self.deleted.append(path)
        self._answer("delete_folder")

    def set_attributes(self, path):
        self.written.append(path)
        self._answer("set_attributes")


STEPS = [
    ("upload", "/drop/a.txt", None),
    ("overwrite", "/drop/a.txt", None),
    ("append", "/drop/a.txt", None),
    ("make-folder", "/drop/b", None),
    ("upload", "/drop/b/c.txt", None),
    ("rename", "/drop/b/c.txt", "/drop/theirs"),
    ("overwrite", "/drop/theirs", None),
    ("delete-file", "/drop/a.txt", None),
    ("delete-file", "/drop/others", None),
    ("overwrite", "/drop/others", None),
    ("delete-folder", "/drop/b", None),
    ("set-attributes", "/drop/theirs", None),
]
ANSWERS = ["upload", "append", "make_folder", "rename", "delete_file", "delete_folder", "there"]


@pytest.mark.parametrize(
    "refusing", [set(), *({x} for x in ANSWERS), set(ANSWERS), {"upload", "there"}]
)
def test_whatever_a_server_answers_only_made_up_names_are_written_and_deleted(refusing):
    liar = Liar({what: (what not in refusing, True) for what in ANSWERS})
    at = AtServer(liar, may_write=True)
    for action, path, to in STEPS:
        at.do(Question("ines", action, path, to))
    left = at.clean_up()
    names = {path.rpartition("/")[2] for path in (*liar.written, *liar.deleted)}
    assert all("-trial" in name and len(name) >= 30 for name in names), names
    # What was created and could not be deleted is told; what could be is not.
    if "upload" not in refusing:
        assert bool(left) is bool(refusing & {"delete_file", "delete_folder"})


def test_what_was_created_though_it_was_refused_is_deleted_or_told():
    liar = Liar({"upload": (False, True), "delete_file": (False, False)})
    at = AtServer(liar, may_write=True)
    assert at.do(Question("ines", "upload", "/drop/a.txt")).allowed is False
    (told,) = at.clean_up()
    assert "is still there, though creating it was refused" in told and liar.deleted == liar.written


def test_two_runs_never_choose_the_same_name():
    first, second = Liar({}), Liar({})
    for liar in (first, second):
        AtServer(liar, may_write=True).do(Question("ines", "upload", "/drop/a.txt"))
    assert first.written != second.written
