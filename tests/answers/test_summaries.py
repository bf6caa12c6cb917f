"""What a summary says of several is so of each of them, or told as "some of"."""

import pytest

from drawknife.answers.summaries import summary
from drawknife.core.follows.access_differences import AccessChange
from drawknife.core.follows.consequences import Consequences, LeadsChange, SettingChange
from drawknife.core.follows.room_changes import Room, RoomChange
from drawknife.core.follows.sign_in_changes import SignInChange
from drawknife.core.words.names import Place


def access(accounts, places, gained=(), lost=(), widened=(), narrowed=(), endpoint=None):
    return AccessChange(
        tuple(accounts),
        tuple(places),
        tuple(gained),
        tuple(lost),
        tuple(widened),
        tuple(narrowed),
        endpoint=endpoint,
    )


def signing(accounts, endpoint, may=False):
    return SignInChange(tuple(accounts), endpoint, may, "")


@pytest.mark.parametrize(
    ("follows", "said"),
    [
        (
            {"sign_in": [signing(["ada"], "quay"), signing(["ada"], "pier")]},
            "ada can no longer sign in at quay, pier",
        ),
        (
            {"sign_in": [signing(["ada", "bo"], "quay"), signing(["ada", "bo"], "pier")]},
            "ada, bo can no longer sign in at quay, pier",
        ),
        (
            {"sign_in": [signing(["ada"], "quay"), signing(["bo"], "pier")]},
            "ada, bo can no longer sign in at some of quay, pier",
        ),
        ({"sign_in": [signing(["ada"], "quay", True)]}, "ada can now sign in at quay"),
        ({"access": [access(["ada"], ["/a", "/b"], gained=["list"])]}, "ada gains list at /a, /b"),
        (
            {"access": [access(["ada", "bo"], ["/a"], lost=["list", "upload"])]},
            "ada, bo lose list, upload at /a",
        ),
        (
            {
                "access": [
                    access(["ada"], ["/a"], gained=["list"]),
                    access(["ada"], ["/b"], gained=["upload"]),
                ]
            },
            "ada gains some of list, upload at /a, /b",
        ),
        (
            {
                "access": [
                    access(["ada"], ["/a"], gained=["list"]),
                    access(["bo"], ["/b"], gained=["list"]),
                ]
            },
            "ada, bo gain list at some of /a, /b",
        ),
        (
            {"access": [access(["ada"], ["/a"], widened=["rename"])]},
            "ada has rename on more files at /a",
        ),
        (
            {"access": [access(["ada", "bo"], ["/a"], narrowed=["rename"])]},
            "ada, bo have rename on fewer files at /a",
        ),
        (
            {"access": [access(["ada"], ["/a"], lost=["list"], endpoint="quay")]},
            "ada loses list at /a through quay",
        ),
        (
            {
                "access": [
                    access(["ada"], ["/a"], lost=["list"], endpoint="quay"),
                    access(["bo"], ["/a"], lost=["list"], endpoint="pier"),
                ]
            },
            "ada, bo lose list at /a through some of quay, pier",
        ),
        (
            {"access": [access([f"a{i}" for i in range(5)], ["/a"], gained=["list"])]},
            "a0, a1, a2 and 2 more gain list at /a",
        ),
        (
            {"leads": [LeadsChange(("ada",), "/x", Place("s", "/"), None)]},
            "for ada: /x leads to nothing",
        ),
        (
            {"leads": [LeadsChange(("ada",), f"/{i}", None, Place("s", "/")) for i in range(3)]},
            "1 more change of where virtual paths lead",
        ),
        (
            {
                "settings": [
                    SettingChange(("ada",), "sessions", 1, 2),
                    SettingChange(("bo",), "landing", "/", "/a"),
                ]
            },
            "some of sessions, landing of ada, bo change",
        ),
        (
            {"room": [RoomChange(("ada",), "/a", Room(1, None), Room(2, None))]},
            "ada has other room at /a",
        ),
        (
            {
                "room": [
                    RoomChange((who,), f"/{who}", Room(1, None), Room(2, None))
                    for who in ("ada", "bo")
                ]
            },
            "ada, bo have other room at some of /ada, /bo",
        ),
        ({"come": ("ada",)}, "new: ada"),
        ({}, "nobody gains or loses anything"),
    ],
)
def test_what_is_said_of_all_is_so_of_each(follows, said):
    assert said in summary(Consequences(**{key: tuple(value) for key, value in follows.items()}))


def test_what_goes_with_signing_in_is_not_told_again_and_no_more_is_told_than_is_read():
    lost = access(["ada"], ["/a"], lost=["list"], endpoint="quay")
    assert summary(Consequences(sign_in=(signing(["ada"], "quay"),), access=(lost,))) == [
        "ada can no longer sign in at quay"
    ]
    many = tuple(
        SettingChange((f"a{i}",), "sessions", 1, 2, ("anyone",), ("signed-in",)) for i in range(2)
    )
    every = Consequences(
        ("n",),
        ("g",),
        (signing(["a"], "q"), signing(["b"], "q", True)),
        (access(["c"], ["/"], ["list"], ["enter"]),),
        settings=many,
    )
    assert len(summary(every)) == 6 and summary(every)[-1] == "and 3 more consequences"
