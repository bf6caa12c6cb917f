"""Limits: all that count an upload must have room, and headroom promises what decisions keep."""

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.core.decide.gates import verdict
from drawknife.core.limits.quotas import headroom
from drawknife.core.limits.usage import every_limit, growth, promised, used_by, with_clocks
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.names import Place

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


def made(settings=(), quotas=(), usage=(), capacity=None):
    return prepare(
        sound(
            m.Model(
                accounts=(m.Account("ada"), m.Account("bo")),
                groups=(
                    m.Group("g", (m.parse_member("account:ada"), m.parse_member("account:bo"))),
                ),
                stores=(
                    m.Store(
                        "s",
                        capacity=capacity,
                        folders=(m.Folder("/", None, False, (m.parse_entry("allow anyone all"),)),),
                    ),
                ),
                virtual_paths=(m.VirtualPath("/", "s:/", grants=(m.parse_grant("anyone all"),)),),
                settings=tuple(
                    m.Setting(m.parse_subject(s), tuple(sorted(v.items()))) for s, v in settings
                ),
                quotas=tuple(quotas),
                usage=tuple(m.Usage(Place("s", path), owner, b, n) for path, owner, b, n in usage),
            )
        )
    )


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
        (
            made([("account:ada", {"quota_bytes": 100})], usage=[("/b", "ada", 60, 1)]),
            41,
            "personal-bytes",
        ),
        (
            made([("account:ada", {"quota_files": 1})], usage=[("/b", "ada", 60, 1)]),
            0,
            "personal-files",
        ),
        (made([("account:ada", {"upload_limit": 9})]), 10, "file-too-large"),
        (made(quotas=[SHARED], usage=[("/b", "bo", 60, 1)]), 41, "shared-bytes"),
        (made(quotas=[FOLDER], usage=[("/a/b", "bo", 60, 1)]), 41, "folder-bytes"),
        (made(quotas=[FOLDER], usage=[("/a/b", None, 1, 3)]), 0, "folder-files"),
        (made(quotas=[FOLDER], usage=[("/b", "bo", 60, 3)]), 100, None),  # not in that folder
        (made(capacity=100, usage=[("/b", None, 60, 1)]), 41, "capacity-bytes"),
        (
            made([("account:ada", {"uploads_owner": "bo"}), ("account:bo", {"quota_bytes": 5})]),
            6,
            "personal-bytes",
        ),
    ],
)
def test_each_kind_of_limit(prepared, size, expected):
    assert reason(prepared, size=size) == expected


def test_only_what_is_asked_for_counts():
    full = made([("account:ada", {"quota_bytes": 100})], [FOLDER], [("/a", "ada", 100, 3)])
    assert reason(full, size=0) == "folder-files"
    assert reason(full, "overwrite", size=50, replaced_size=50) is None
    assert reason(full, "overwrite", size=50, replaced_size=49) == "personal-bytes"
    assert (
        reason(full, "overwrite", size=50, owner="bo") == "folder-bytes"
    )  # it counts for who owns the file
    assert (
        reason(full, "append", size=0) is None
        and reason(full, "append", size=1) == "personal-bytes"
    )
    assert reason(full, "make-folder", "/a/new") is None


def test_moving_asks_only_the_folder_quotas_that_are_new():
    prepared = made(
        [("account:ada", {"quota_bytes": 1})], [FOLDER], [("/a", "ada", 90, 2)], capacity=1
    )
    assert reason(prepared, "rename", "/a/x", to="/a/sub/y", size=50) is None
    assert reason(prepared, "rename", "/b/x", to="/a/y", size=10) is None
    assert reason(prepared, "rename", "/b/x", to="/a/y", size=11) == "folder-bytes"
    assert (
        reason(prepared, "rename", "/b/f", to="/a/f", thing="folder", size=5, files=2)
        == "folder-files"
    )
    assert reason(prepared, "rename", "/b/f", to="/a/f", thing="folder", size=5, files=1) is None


few = st.integers(0, 60)
maybe = st.one_of(st.none(), st.integers(0, 120))
HOURS = st.one_of(st.none(), st.integers(-3, 3))


@st.composite
def limited(draw):
    """All four kinds of limits together, hard and soft, for bytes and files, their grace running or
    over.
    """

    def quota(name, **where):
        hard, hard_files = draw(maybe), draw(maybe)
        soft = draw(st.one_of(st.none(), st.integers(0, hard if hard is not None else 120)))
        soft_files = draw(
            st.one_of(st.none(), st.integers(0, hard_files if hard_files is not None else 120))
        )
        over = [None if (h := draw(HOURS)) is None else NOW + timedelta(hours=h) for _ in range(2)]
        return m.Quota(
            name,
            hard_bytes=hard,
            soft_bytes=soft,
            hard_files=hard_files,
            soft_files=soft_files,
            grace=draw(st.sampled_from([None, 0, 3600])),
            bytes_over_since=over[0],
            files_over_since=over[1],
            **where,
        )

    quotas = draw(st.lists(st.sampled_from(["pool", "shelf", "root", "other"]), unique=True))
    made_quotas = [
        (
            quota(n, shared_by=(m.parse_subject("group:g"),))
            if n == "pool"
            else quota(n, folder=Place("s", {"shelf": "/a", "root": "/", "other": "/b"}[n]))
        )
        for n in quotas
    ]
    personal, personal_files = draw(maybe), draw(maybe)
    own = {
        k: v
        for k, v in (("quota_bytes", personal), ("quota_files", personal_files))
        if v is not None
    }
    usage = [
        ("/a", "ada", draw(few), draw(few)),
        ("/a/b", "bo", draw(few), draw(few)),
        ("/b", None, draw(few), draw(few)),
    ]
    return made([("account:ada", own)] if own else [], made_quotas, usage, draw(maybe))


@given(limited(), st.integers(0, 130), st.booleans())
@settings(max_examples=400)
def test_headroom_promises_what_decisions_keep(prepared, size, appending):
    room = headroom(prepared, prepared.account("ada"), Place("s", "/a"), NOW)
    fits = size == 0 or room.bytes is None or size <= room.bytes
    if not appending:
        fits = fits and (room.files is None or room.files >= 1)
    assert (reason(prepared, "append" if appending else "upload", size=size) is None) is fits
    if room.bytes is not None:
        # Neither less nor more than what binds: exactly that much is still let in.
        assert reason(prepared, "append", size=room.bytes) is None
        assert reason(prepared, "append", size=room.bytes + 1) is not None
        first = next(x for x in room.limits if x.room_bytes(NOW) == room.bytes)
        assert first == room.bytes_bound_by


@pytest.mark.parametrize(
    ("used", "since", "expected"),
    [
        (10, None, None),  # at the soft limit, not above
        (11, None, None),  # above; nobody knows since when, so the clock has not run out
        (11, 59, None), (11, 60, "folder-bytes-grace-over"), (11, 600, "folder-bytes-grace-over"),
        (10, 600, None),  # back at the limit
    ],
)  # fmt: skip
def test_grace(used, since, expected):
    over = None if since is None else NOW - timedelta(minutes=since)
    quota = m.Quota(
        "shelf", folder=Place("s", "/a"), soft_bytes=10, grace=3600, bytes_over_since=over
    )
    assert reason(made((), [quota], [("/a", "ada", used, 1)]), size=5) == expected


def test_the_clock_begins_when_usage_goes_above_and_ends_when_it_is_back():
    quota = m.Quota("shelf", folder=Place("s", "/a"), soft_bytes=10, soft_files=5, grace=3600)

    def with_usage(amount, files, before, at):
        model = made((), before.quotas if before else [quota], [("/a", "ada", amount, files)]).model
        return with_clocks(model, before or model, at)

    below = with_usage(10, 5, None, NOW)
    assert below.quotas[0].bytes_over_since is None and below.quotas[0].files_over_since is None
    above = with_usage(11, 5, below, NOW)
    later = with_usage(12, 6, above, NOW + timedelta(minutes=30))
    assert (later.quotas[0].bytes_over_since, later.quotas[0].files_over_since) == (
        NOW,
        NOW + timedelta(minutes=30),
    )
    # A file that says nothing of clocks does not stop them; being back at the limit does.
    loaded = with_clocks(replace(later, quotas=(quota,)), later, NOW + timedelta(minutes=40))
    assert loaded == later
    assert with_usage(10, 6, later, NOW).quotas[0].bytes_over_since is None


def test_on_a_tie_personal_binds_first_and_the_nearer_folder_before_the_farther():
    near, far = (
        m.Quota("near", folder=Place("s", "/a/b"), hard_bytes=7),
        m.Quota("far", folder=Place("s", "/a"), hard_bytes=7),
    )
    prepared = made([("account:ada", {"quota_bytes": 7})], [near, far, SHARED], capacity=7)
    assert (
        headroom(prepared, prepared.account("ada"), Place("s", "/a/b"), NOW).bytes_bound_by.kind
        == "personal"
    )
    prepared = made((), [near, far], capacity=7)
    assert (
        headroom(prepared, prepared.account("ada"), Place("s", "/a/b"), NOW).bytes_bound_by.name
        == "near"
    )


# --- usage --------------------------------------------------------------------------------------


@given(limited())
def test_usage_sums_are_of_all_rows_and_limits_count_what_decisions_count(prepared):
    rows = prepared.model.usage
    total = sum(u.bytes for u in rows)
    assert (
        sum(x.bytes for x in used_by(prepared, "account"))
        == sum(x.bytes for x in used_by(prepared, "store"))
        == total
    )
    folders = {x.name: x.bytes for x in used_by(prepared, "folder")}
    assert folders.get("s:/", 0) == total and folders.get("s:/a", 0) == sum(
        u.bytes for u in rows if u.folder.path.startswith("/a")
    )
    told = {(f.limit.kind, f.limit.name): f for f in every_limit(prepared)}
    for limit in headroom(prepared, prepared.account("ada"), Place("s", "/a"), NOW).limits:
        found = told[limit.kind, limit.name]
        assert found.limit == limit and sum(u.bytes for u in found.rows) == limit.used_bytes


def test_what_is_promised(demo):
    found = {p.store: p for p in promised(prepare(demo))}
    gib = 2**30
    assert found["survey"].given == 250 * gib and found["public"].given == 5 * gib
    assert found[""].given == (4 * 40 + 2 * 10 + 2048) * gib and found[""].open == 13
    inner = m.Quota("inner", folder=Place("survey", "/charts/issued/deep"), hard_bytes=99 * gib)
    assert promised(prepare(replace(demo, quotas=(*demo.quotas, inner))))[2].given == 250 * gib


def test_growth_is_a_straight_line_and_says_how_sure():
    day = timedelta(days=1)
    exact = growth([(NOW + i * day, 100 + 10 * i) for i in range(5)], 200)
    assert exact.reached == exact.soonest == exact.latest == NOW + 10 * day
    bent = growth([(NOW, 100), (NOW + day, 130), (NOW + 2 * day, 140), (NOW + 3 * day, 180)], 200)
    assert bent.soonest < bent.reached < bent.latest
    assert growth([(NOW, 100)], 200) is None
    two = growth([(NOW, 100), (NOW + day, 110)], 200)
    assert two.reached == NOW + 10 * day and two.soonest is None
    assert growth([(NOW, 110), (NOW + day, 100)], 200).reached is None
    assert growth([(NOW, 100), (NOW + day, 110)], None).reached is None
