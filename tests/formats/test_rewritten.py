"""A model file that is changed has what the change makes of it, and all else as it was written."""

from difflib import unified_diff
from random import Random

import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from drawknife.changing import apply
from drawknife.core.model.difference import differing
from drawknife.core.model.edits import ChangeRefused
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.formats import rewritten as module
from drawknife.formats.document import BadDocument, write_yaml
from drawknife.formats.model_file import change_data, read_model, write_model
from drawknife.formats.rewritten import rewritten

from ..conftest import DEMO
from ..core.changes import random_change
from ..core.models import random_model


def commented(text):
    """The text with a comment at the end of every line that names an item; long ones go on in the
    next line.
    """
    return "".join(
        (
            f"{line}  # note {i}\n"
            if line.lstrip().startswith("- ") and len(line) < 90
            else f"{line}\n"
        )
        for i, line in enumerate(text.splitlines())
    )


@given(st.integers(0, 10**9))
@example(57_398)  # what a directory had comes back, spelled otherwise
@example(46_471)  # an entry that is longer than a line
@settings(max_examples=60)
def test_any_change_of_a_file_is_the_change_of_its_model(seed):
    rng = Random(seed)
    model = random_model(seed)
    try:
        applied = apply(model, [random_change(rng, model) for _ in range(rng.choice([1, 2, 3]))])
    except (ChangeRefused, NotFound, BadInput, BadDocument):
        assume(False)
    text, after = commented(write_model(model)), applied.model
    made, kept = rewritten(text, model, after, applied.renames)
    assert read_model(made) == after
    assert kept and (made == text) == (after == model)
    gone = set(text.splitlines()) - set(made.splitlines())
    # Only lines of the items that differ go or change, and the line before where the last item of a
    # list goes.
    differ = [
        change_data(d.section, d.before) for d in differing(model, after) if d.before is not None
    ]
    assert len(gone) <= sum(len(write_yaml([data]).splitlines()) + 1 for data in differ) + 1


@pytest.mark.parametrize(
    ("change", "lines"),
    [
        (
            {"op": "change", "kind": "account", "name": "INES", "set": {"enabled": False}},
            ["+  enabled: false"],
        ),
        (
            {"op": "change", "kind": "account", "name": "uni-esk", "set": {"display": None}},
            ["-  display: University of Esk"],
        ),
        (
            {
                "op": "change",
                "kind": "group",
                "name": "night-watch",
                "add": {"members": ["account:tomasz"]},
            },
            ["+  - account:tomasz"],
        ),
        (
            {"op": "rename", "kind": "quota", "name": "lab-pool", "to": "lab-share"},
            ["-- name: lab-pool", "+- name: lab-share"],
        ),
        (
            {"op": "rename", "kind": "endpoint", "name": "old-quay", "to": "quay"},
            ["-- name: old-quay", "+- name: quay"],
        ),
        ({"op": "add", "kind": "unit", "item": {"path": "shore/new"}}, ["+- shore/new"]),
        (
            {"op": "add", "kind": "account", "item": {"name": "zoe", "expires": "2031-01-31"}},
            ["+- name: zoe", "+  expires: 2031-01-31"],
        ),
    ],
)
def test_what_is_written_is_only_what_differs(change, lines):
    text = "# The harbour's model\n" + DEMO.read_text().replace(
        "- name: ines\n", "- name: ines  # the surveyor\n"
    )
    model = read_model(text)
    applied = apply(model, [change])
    made, kept = rewritten(text, model, applied.model, applied.renames)
    diff = [
        x
        for x in unified_diff(text.splitlines(), made.splitlines(), n=0, lineterm="")
        if x[:3] not in ("---", "+++") and x[:2] != "@@"
    ]
    assert kept and diff == lines


def test_what_is_renamed_stays_where_it_stands_with_its_comment():
    text = DEMO.read_text().replace("- name: ines\n", "- name: ines  # the surveyor\n")
    model = read_model(text)
    changes = [
        {"op": "rename", "kind": "account", "name": "ines", "to": "inez"},
        {"op": "rename", "kind": "unit", "name": "shore", "to": "quay"},
        {"op": "rename", "kind": "store", "name": "survey", "to": "soundings"},
    ]
    applied = apply(model, changes)
    made, kept = rewritten(text, model, applied.model, applied.renames)
    assert kept and read_model(made) == applied.model and "- name: inez  # the surveyor\n" in made
    assert len(made.splitlines()) == len(text.splitlines()), "no line has moved"


def test_a_file_of_which_the_comments_cannot_be_kept_is_written_anew_and_that_is_told(monkeypatch):
    text = "drawknife: 1\naccounts:\n- name: ada  # first\n"
    model = read_model(text)
    after = apply(model, [{"op": "rename", "kind": "account", "name": "ada", "to": "ida"}]).model
    # Whatever it is that does not come out as it should: what is written is the model, and never
    # anything else.
    for wrong in (lambda *_: None, lambda document, *_: document.clear(), lambda *_: [].pop()):
        monkeypatch.setattr(module, "_apply", wrong)
        assert rewritten(text, model, after) == (write_model(after), False)
        assert rewritten(text.replace("  # first", ""), model, after) == (write_model(after), True)


def test_a_document_in_one_line_and_one_in_json():
    text = "drawknife: 1\naccounts: [{name: ada}]  # all\nunits:\n- a\n"
    model = read_model(text)
    after = apply(model, [{"op": "rename", "kind": "account", "name": "ada", "to": "ida"}]).model
    made, kept = rewritten(text, model, after)
    assert kept and "# all" in made and read_model(made) == after
    json_text = write_model(model, as_json=True)
    assert rewritten(json_text, model, after) == (write_model(after, as_json=True), True)
