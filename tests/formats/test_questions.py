"""Questions as JSON: what is read, and what is refused with its place and remedy."""

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drawknife.core.prepared.question import Question
from drawknife.core.words.actions import ACTIONS
from drawknife.core.words.errors import BadInput
from drawknife.formats.document import BadDocument, read_json
from drawknife.formats.questions import KEYS, read_question

GOOD = {"account": "ines", "action": "upload", "path": "/inbox/x"}


def test_a_whole_question():
    data = {
        "account": "ines",
        "action": "rename",
        "path": "/inbox/x/",
        "to": "/inbox/y",
        "thing": "folder",
        "replaces": True,
        "owner": "yuki",
        "endpoint": "harbour",
        "from": "192.0.2.7",
        "tls": True,
        "method": "key",
        "size": 5,
        "replaced_size": 3,
        "combination": "9:5 0640",
        "files": 2,
        "sessions": 1,
        "at": "2026-11-23T10:00:00+02:00",
        "explain": True,
    }
    assert set(data) == set(KEYS)
    question, explain = read_question(data)
    at = datetime(2026, 11, 23, 8, tzinfo=UTC)
    assert explain and question == Question(
        "ines",
        "rename",
        "/inbox/x",
        "/inbox/y",
        "folder",
        True,
        "yuki",
        "harbour",
        "192.0.2.7",
        True,
        "key",
        5,
        3,
        2,
        at,
        sessions=1,
        combination="9:5 0640",
    )


def test_what_is_null_counts_as_left_out():
    assert read_question({**GOOD, "owner": None, "tls": None, "at": None, "explain": None}) == (
        Question(**GOOD),
        False,
    )
    assert read_question({**GOOD, "at": "2026-11-23T10:00:00"})[0].at == datetime(
        2026, 11, 23, 10, tzinfo=UTC
    )


@pytest.mark.parametrize(
    ("change", "where", "said"),
    [
        ({"account": None}, "account", "is missing"),
        ({"account": "a b"}, "account", "holds ' '"),
        ({"account": 5}, "account", "is not text"),
        ({"action": None}, "action", "is missing"),
        ({"action": "fly"}, "action", "is no action"),
        ({"path": None}, "path", "is missing"),
        ({"path": "inbox"}, "path", "does not begin with /"),
        ({"path": "/a/../b"}, "path", "a segment '..'"),
        ({"to": "/x"}, "to", "only a rename"),
        ({"action": "rename"}, "to", "needs a destination"),
        ({"action": "sign-in"}, "endpoint", "signing in is somewhere"),
        ({"thing": "socket"}, "thing", "none of the choices"),
        ({"replaces": "yes"}, "replaces", "neither true nor false"),
        ({"from": "harbour"}, "from", "is no address"),
        ({"tls": 1}, "tls", "neither true nor false"),
        ({"method": "magic"}, "method", "none of the choices"),
        ({"size": -1}, "size", "no number of bytes"),
        ({"size": 1.5}, "size", "no number of bytes"),
        ({"size": True}, "size", "no number of bytes"),
        ({"size": 2**63}, "size", "no number of bytes"),
        ({"at": "noon"}, "at", "is no time"),
        ({"at": 5}, "at", "is no time"),
        ({"explain": "please"}, "explain", "neither true nor false"),
        ({"acount": "x"}, "acount", "unknown key"),
    ],
)
def test_what_is_wrong_is_told_with_its_key(change, where, said):
    with pytest.raises(BadInput) as caught:
        read_question({**GOOD, **change})
    told = caught.value.as_data()["error"]
    assert told["where"] == where and said in told["message"] and told["expected"]


def test_a_key_that_is_misspelled_gets_the_nearest():
    with pytest.raises(BadInput) as caught:
        read_question({**GOOD, "endpiont": "harbour"})
    assert caught.value.as_data()["error"]["nearest"] == "endpoint"


anything = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(),
    lambda x: st.lists(x) | st.dictionaries(st.text(), x),
)
keyed = st.dictionaries(
    st.sampled_from(KEYS), anything | st.sampled_from([*ACTIONS, "/", "/a", "ines", "file"])
)


@given(anything | keyed)
def test_nothing_whatever_makes_it_stumble(data):
    try:
        question, _ = read_question(data)
    except BadInput as bad:
        assert str(bad) and bad.expected is not None
    else:
        assert question.action in ACTIONS


@given(st.text() | st.from_regex(r"[\[{}\]\",:0-9a-z]*"))
def test_text_that_is_no_json_is_told(text):
    try:
        read_json(text)
    except BadDocument as bad:
        assert bad.mistakes[0].message
