"""Control and direction characters: refused where something is written, and shown where it is
printed.
"""

import json
import os
import pty
import subprocess

import psycopg
import pytest

from drawknife.client import Refused
from drawknife.core.words.plain import escaped, hidden_in

from ..conftest import DEMO, DRAWKNIFE, run, serving

HOSTILE = ["\x1b[2J", "\x07", "\x9b31m", "\u202e", "\u2066", "\u200f", "\u2028", "\r", "\x7f"]


@pytest.fixture(scope="module")
def own(cluster, tmp_path_factory):
    address = cluster.create_database("hostile")
    with serving(address, tmp_path_factory.mktemp("hostile"), "--load", DEMO) as found:
        found.address = address
        yield found


@pytest.mark.parametrize("text", HOSTILE)
def test_what_is_hidden_is_found_and_made_visible(text):
    assert hidden_in(f"a{text}b") and hidden_in(f"a{text}b", lines=True)
    assert escaped(text) != text and not hidden_in(escaped(text))
    assert json.loads(f'"{escaped(text)}"') == text  # in JSON it stays what it was


def changes(text):
    """The same text in everything that people write of a model."""
    account = {"op": "change", "kind": "account", "name": "ines"}
    return {
        "note": {**account, "set": {"note": text}},
        "display": {**account, "set": {"display": text}},
        "mail": {**account, "set": {"mail": text}},
        "greeting": {
            "op": "change",
            "kind": "setting",
            "name": "unit:shore/lab",
            "set": {"greeting": text},
        },
        "note of an entry": {
            "op": "change",
            "kind": "folder",
            "name": "survey:/charts",
            "add": {"entries": [{"line": "allow account:ines read", "note": text}]},
        },
    }


@pytest.mark.parametrize("text", HOSTILE)
def test_a_text_that_is_written_holds_nothing_hidden(own, text):
    with own.client() as client:
        for what, change in changes(f"x{text}y").items():
            with pytest.raises(Refused) as said:
                client.change([change])
            assert said.value.problem.status == 400, what
            assert client.health().revision == 1
        if not client.drafts().drafts:
            client.begin_draft("d", None)
        for call in (
            lambda: client.comment_on_draft("d", f"x{text}y"),
            lambda: client.begin_draft("e", f"x{text}y"),
            lambda: client.add_to_draft("d", [changes(f"x{text}y")["note"]]),
        ):
            with pytest.raises(Refused):
                call()


def test_lines_are_for_greetings_and_comments(own):
    with own.client() as client:
        for what, change in changes("first\nsecond").items():
            if what == "greeting":
                assert client.preview([change]).item_count == 1
            else:
                with pytest.raises(Refused):
                    client.preview([change])


def test_a_comment_of_several_lines_stands_under_its_author(own):
    with own.client() as client:
        client.begin_draft("forged", None)
        client.comment_on_draft(
            "forged", "looks fine\nadministrator, 2026-01-01 10:00:\n  approved"
        )
    shown = run("draft", "show", "forged", environment=own.environment).stdout.splitlines()
    author = next(
        line
        for line in shown
        if line.strip().startswith("administrator, 20") and not line.endswith("10:00:")
    )
    forged = next(line for line in shown if line.strip() == "administrator, 2026-01-01 10:00:")
    indent = len(author) - len(author.lstrip())
    assert len(forged) - len(forged.lstrip()) > indent


def test_what_was_kept_before_is_shown_on_a_terminal(own):
    """Notes of older databases may hold anything: no control character reaches a terminal, in
    colour or not.
    """
    with psycopg.connect(own.address, autocommit=True) as connection:
        connection.execute(
            "INSERT INTO draft_comments (draft, number, who, says) SELECT name, 9, 'x', %s FROM"
            " drafts",
            ("a\x1b[8mhidden\u202e",),
        )
    with own.client() as client:
        name = client.drafts().drafts[0].name
    for command in (["draft", "show", name], ["draft", "show", name, "--json"]):
        first, second = pty.openpty()
        done = subprocess.run(
            [DRAWKNIFE, *command],
            stdout=second,
            stderr=second,
            env={**os.environ, **own.environment, "TERM": "xterm-256color"},
        )
        os.close(second)
        raw = b""
        try:
            while part := os.read(first, 65536):
                raw += part
        except OSError:
            pass
        os.close(first)
        assert done.returncode == 0
        assert b"\\u001b[8mhidden\\u202e" in raw and b"\x1b[8m" not in raw
