"""Limits: all that count an upload must have room, and headroom promises what decisions keep."""

from datetime import UTC, datetime

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.core import model as m
from drawknife.core.canonical import sound
from drawknife.core.gates import verdict
from drawknife.core.names import Place
from drawknife.core.prepared import prepare
from drawknife.core.question import Question
from drawknife.core.quotas import headroom

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


def made(settings=(), quotas=(), usage=(), capacity=None):
    return prepare(
        sound(
            m.Model(
                accounts=(m.Account("ada"), m.Account("bo")),
                groups=(m.Group("g", (m.parse_subject("account:ada"), m.parse_subject("account:bo"))),),
                stores=(
                    m.Store("s", capacity=capacity, folders=(m.Folder("/", None, False, (m.parse_entry("allow anyone all"),)),)),
                ),
                virtual_paths=(m.VirtualPath("/", "s:/", grants=(m.parse_grant("anyone all"),)),),
                settings=tuple(m.Setting(m.parse_subject(s), tuple(sorted(v.items()))) for s, v in settings),
                quotas=tuple(quotas),
                usage=tuple(m.Usage(Place("s", path), owner, b, n) for path, owner, b, n in usage),
            )
        )
    )  # fmt: skip


def reason(prepared, action="upload", path="/a/x", **facts):
    answer = verdict(prepared, Question("ada", action, path, **facts), NOW)
    assert answer.allowed or answer.gate == "limits"
    return None if answer.allowed else answer.reason


FOLDER = m.Quota("shelf", folder=Place("s", "/a"), hard_bytes=100, hard_files=3)
SHARED = m.Quota("pool", shared_by=(m.parse_subject("group:g"),), hard_bytes=100)


@pytest.mark.parametrize(
    ("prepared", "size", "expected"),
    [
        (made(), 10**15, None),
        (made([("account:ada", {"quota_bytes": 100})], usage=[("/b", "ada", 60, 1)]), 40, None),
        (made([("account:ada", {"quota_bytes": 100})], usage=[("/b", "ada", 60, 1)]), 41, "personal-bytes"),
        (made([("account:ada", {"quota_files": 1})], usage=[("/b", "ada", 60, 1)]), 0, "personal-files"),
        (made([("account:ada", {"upload_limit": 9})]), 10, "file-too-large"),
        (made(quotas=[SHARED], usage=[("/b", "bo", 60, 1)]), 41, "shared-bytes"),
        (made(quotas=[FOLDER], usage=[("/a/b", "bo", 60, 1)]), 41, "folder-bytes"),
        (made(quotas=[FOLDER], usage=[("/a/b", None, 1, 3)]), 0, "folder-files"),
        (made(quotas=[FOLDER], usage=[("/b", "bo", 60, 3)]), 100, None),  # not in that folder
        (made(capacity=100, usage=[("/b", None, 60, 1)]), 41, "capacity-bytes"),
        (made([("account:ada", {"uploads_owner": "bo"}), ("account:bo", {"quota_bytes": 5})]), 6, "personal-bytes"),
    ],
)
def test_each_kind_of_limit(prepared, size, expected):
    assert reason(prepared, size=size) == expected


def test_only_what_is_asked_for_counts():
    full = made([("account:ada", {"quota_bytes": 100})], [FOLDER], [("/a", "ada", 100, 3)])
    assert reason(full, size=0) == "folder-files"
    assert reason(full, "overwrite", size=50, replaced_size=50) is None
    assert reason(full, "overwrite", size=50, replaced_size=49) == "personal-bytes"
    assert reason(full, "overwrite", size=50, owner="bo") == "folder-bytes"  # it counts for who owns the file
    assert reason(full, "append", size=0) is None and reason(full, "append", size=1) == "personal-bytes"
    assert reason(full, "make-folder", "/a/new") is None


def test_moving_asks_only_the_folder_quotas_that_are_new():
    prepared = made([("account:ada", {"quota_bytes": 1})], [FOLDER], [("/a", "ada", 90, 2)], capacity=1)
    assert reason(prepared, "rename", "/a/x", to="/a/sub/y", size=50) is None
    assert reason(prepared, "rename", "/b/x", to="/a/y", size=10) is None
    assert reason(prepared, "rename", "/b/x", to="/a/y", size=11) == "folder-bytes"
    assert reason(prepared, "rename", "/b/f", to="/a/f", thing="folder", size=5, files=2) == "folder-files"
    assert reason(prepared, "rename", "/b/f", to="/a/f", thing="folder", size=5, files=1) is None


few = st.integers(0, 60)
maybe = st.one_of(st.none(), st.integers(0, 120))


@given(few, few, maybe, maybe, maybe, maybe, maybe, st.integers(0, 130))
@settings(max_examples=300)
def test_headroom_promises_what_decisions_keep(mine, others, personal, shared, shelf, shelf_files, capacity, size):
    quotas = []
    if shared is not None:
        quotas.append(m.Quota("pool", shared_by=(m.parse_subject("group:g"),), hard_bytes=shared))
    if shelf is not None or shelf_files is not None:
        quotas.append(m.Quota("shelf", folder=Place("s", "/a"), hard_bytes=shelf, hard_files=shelf_files))
    own = [("account:ada", {"quota_bytes": personal})] if personal is not None else []
    prepared = made(own, quotas, [("/a", "ada", mine, mine), ("/a/b", "bo", others, others)], capacity)
    room = headroom(prepared, prepared.account("ada"), Place("s", "/a"))
    fits = (size == 0 or room.bytes is None or size <= room.bytes) and (room.files is None or room.files >= 1)
    assert (reason(prepared, size=size) is None) is fits
    if room.bytes_bound_by is not None:
        assert room.bytes == max(0, room.bytes_bound_by.bytes - room.bytes_bound_by.used_bytes)


def test_on_a_tie_personal_binds_first_and_the_nearer_folder_before_the_farther():
    near, far = (
        m.Quota("near", folder=Place("s", "/a/b"), hard_bytes=7),
        m.Quota("far", folder=Place("s", "/a"), hard_bytes=7),
    )
    prepared = made([("account:ada", {"quota_bytes": 7})], [near, far, SHARED], capacity=7)
    assert headroom(prepared, prepared.account("ada"), Place("s", "/a/b")).bytes_bound_by.kind == "personal"
    prepared = made((), [near, far], capacity=7)
    assert headroom(prepared, prepared.account("ada"), Place("s", "/a/b")).bytes_bound_by.name == "near"
