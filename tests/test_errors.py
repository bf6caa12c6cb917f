"""One family of errors: all are in the tree, and each is told once to HTTP and once to the command
line.
"""

import importlib
import pkgutil

import pytest
from flask import Flask

import drawknife
from drawknife.cli.common import FAILED, NOT_SO, WRONG_USAGE, errors_in_words
from drawknife.core.model.edits import ChangeRefused
from drawknife.core.model.soundness import Flaw
from drawknife.core.words import errors
from drawknife.core.words.errors import (
    BadInput,
    BadValue,
    Conflict,
    DrawknifeError,
    NotAllowed,
    NotFound,
)
from drawknife.directory.losses import TooFew
from drawknife.directory.source import DirectoryFailed
from drawknife.formats.document import BadDocument, Mistake
from drawknife.records.database import NoRoom, Outdated, ReadOnly, Unavailable, Uncertain, Unusable
from drawknife.records.history import NotKept
from drawknife.records.provisioned import NameTaken
from drawknife.service.busy import Busy
from drawknife.service.files import NotReadable
from drawknife.service.problems import TYPE, problem_for
from drawknife.service.tidings import MailRefused

MISTAKE = Mistake(
    ("accounts", 2, "unit"),
    7,
    "shore/leb",
    "there is no unit 'shore/leb'",
    "the name of a unit",
    "shore/lab",
)
#: What only whoever looks after the database meets, at the command line.
OF_THE_DATABASE = {"SchemaProblem", "BackupFailed"}
EACH = [
    (BadValue("'x' is no right", "one of …"), 400, "bad-input", WRONG_USAGE),
    (BadInput("at", "'x' is no place", "a folder"), 400, "bad-input", WRONG_USAGE),
    (BadDocument([MISTAKE]), 400, "bad-document", WRONG_USAGE),
    (NotFound("account", "inez", ["ines", "bram"]), 404, "not-found", WRONG_USAGE),
    (
        ChangeRefused([Flaw(("changes", 0), "unit shore is there already", "another name")]),
        409,
        "change-refused",
        WRONG_USAGE,
    ),
    (NameTaken("there is another User of this name"), 409, "change-refused", WRONG_USAGE),
    (NotKept("revision 3 was only counted"), 409, "change-refused", WRONG_USAGE),
    (NotAllowed("this takes the role owner", ["the network"]), 403, "not-allowed", WRONG_USAGE),
    (TooFew("the directory has no people"), 409, "change-refused", WRONG_USAGE),
    (Conflict(3, 5), 412, "changed-meanwhile", NOT_SO),
    (DirectoryFailed("no answer"), 502, "directory-failed", FAILED),
    (MailRefused("nobody takes it"), 502, "mail-refused", FAILED),
    (NotReadable("it is no regular file"), 400, "file-not-read", FAILED),
    (Busy("too much"), 503, "busy", FAILED),
    (Unavailable("gone"), 503, "unavailable", FAILED),
    (Uncertain("gone"), 503, "uncertain", FAILED),
    (Outdated("999"), 503, "outdated", FAILED),
    (Unusable("no table"), 503, "unavailable", FAILED),
    (ReadOnly("read-only"), 503, "unavailable", FAILED),
    (NoRoom("full"), 507, "no-room", FAILED),
]


@pytest.mark.parametrize(
    ("error", "status", "kind", "exit_status"), EACH, ids=lambda x: type(x).__name__
)
def test_each_is_told_over_http_and_by_the_command_line(error, status, kind, exit_status, capsys):
    with Flask("x").test_request_context("/api/v1/model"):
        response = problem_for(error)
    body = response.get_json()
    assert (response.status_code, body["status"], body["type"]) == (status, status, TYPE + kind)
    assert body["detail"] and (status != 503 or response.headers["Retry-After"])
    with pytest.raises(SystemExit) as ended, errors_in_words("model.yaml"):
        raise error
    assert ended.value.code == exit_status
    said = capsys.readouterr().err
    assert said.startswith("drawknife: ") and "Traceback" not in said


def test_places_are_told_alike_in_both(capsys):
    with Flask("x").test_request_context("/api/v1/changes"):
        (place,) = problem_for(BadDocument([MISTAKE])).get_json()["places"]
    assert place == {
        "where": "accounts[2].unit",
        "message": "there is no unit 'shore/leb'",
        "expected": "the name of a unit",
        "line": 7,
        "found": "shore/leb",
        "nearest": "shore/lab",
    }
    with pytest.raises(SystemExit), errors_in_words("model.yaml"):
        raise BadDocument([MISTAKE])
    said = capsys.readouterr().err
    for part in (
        "model.yaml:7",
        "accounts[2].unit",
        "there is no unit 'shore/leb'",
        "the name of a unit",
        "'shore/lab'",
    ):
        assert part in said
    with pytest.raises(SystemExit), errors_in_words():
        raise NotFound("account", "inez", ["ines", "bram"])
    assert capsys.readouterr().err == "drawknife: there is no account 'inez'; did you mean ines?\n"


def test_all_that_the_product_raises_is_in_the_tree_and_in_the_list_above():
    for module in pkgutil.walk_packages(drawknife.__path__, "drawknife."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)

    def below(kind):
        for one in kind.__subclasses__():
            yield one
            yield from below(one)

    of_product = {c for c in below(DrawknifeError) if c.__module__.startswith("drawknife.")}
    for kind in of_product:
        assert kind.__name__ in errors.__doc__, kind
    leaves = {c for c in of_product if not c.__subclasses__() or c is Unavailable}
    assert {type(e) for e, *_ in EACH} >= {c for c in leaves if c.__name__ not in OF_THE_DATABASE}
