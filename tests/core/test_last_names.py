"""Whoever is removed everywhere as the last name in a list: a list that narrows goes on
narrowing.
"""

from dataclasses import replace
from datetime import UTC, datetime

import pytest

from drawknife.changing import apply
from drawknife.core.decide.gates import verdict
from drawknife.core.follows.days import consequences
from drawknife.core.model import described_folders as w
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.kinds import SECTIONS
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.names import Place

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
ADA = (m.parse_subject("account:ada"),)
#: Everything that ada can be the last name in, each by itself.
LISTS = {
    "only of an endpoint": {"endpoints": (m.Endpoint("quay", "sftp", 22, only=ADA),)},
    "never of an endpoint": {"endpoints": (m.Endpoint("quay", "sftp", 22, never=ADA),)},
    "entries of an endpoint": {
        "endpoints": (
            m.Endpoint(
                "quay",
                "sftp",
                22,
                entries=(m.parse_entry("allow account:ada all", at_endpoint=True),),
            ),
        )
    },
    "deny of an endpoint": {
        "endpoints": (
            m.Endpoint(
                "quay",
                "sftp",
                22,
                entries=(m.parse_entry("deny account:ada all", at_endpoint=True), m.SIGNED_IN_ALL),
            ),
        )
    },
    "members": {"groups": (m.Group("crew", tuple(map(m.Member, ADA))),)},
    "shared by": {"quotas": (m.Quota("pool", ADA, hard_bytes=10),)},
    "grants": {
        "virtual_paths": (m.VirtualPath("/x", "s:/x", grants=(m.parse_grant("account:ada all"),)),)
    },
    "settings": {"settings": (m.Setting(ADA[0], (("methods", ("key",)),)),)},
    "uploads owner": {
        "settings": (m.Setting(m.parse_subject("signed-in"), (("uploads_owner", "ada"),)),)
    },
    "owner": {"stores": (m.Store("s", baseline="open", folders=(m.Folder("/x", "ada"),)),)},
    "entries of a folder": {
        "stores": (
            m.Store(
                "s",
                baseline="open",
                folders=(m.Folder("/x", entries=(m.parse_entry("allow account:ada all"),)),),
            ),
        )
    },
    "names of a Windows tree": {
        "descriptor_readings": (
            m.DescriptorReading(
                "s",
                None,
                (w.parse_described("O:BAD: /"),),
                (w.parse_sid_name("S-1-5-21-1-2-3-4 account:ada"),),
            ),
        )
    },
    "usage": {"usage": (m.Usage(Place("s", "/x"), "ada", 5, 1),)},
}
BASE = m.Model(
    accounts=(m.Account("ada"), m.Account("ida")), stores=(m.Store("s", baseline="open"),),
    virtual_paths=(m.VirtualPath("/s", "s:/", grants=(m.parse_grant("signed-in all"),)),),
    endpoints=(m.Endpoint("quay", "sftp", 22),),
)  # fmt: skip


@pytest.mark.parametrize("parts", LISTS.values(), ids=LISTS)
def test_nobody_else_gains_by_it(parts):
    model = sound(
        replace(
            BASE, **{**parts, "virtual_paths": BASE.virtual_paths + parts.get("virtual_paths", ())}
        )
    )
    after = apply(
        model, [{"op": "remove", "kind": "account", "name": "ada", "everywhere": True}]
    ).model
    told = consequences(prepare(model), prepare(after), NOW)
    assert told.gone == ("ada",)
    assert not [x for x in told.access if x.gained or x.widened] and not [
        x for x in told.sign_in if x.may
    ]
    ida = Question("ida", "sign-in", endpoint="quay", credentials=frozenset({"password"}))
    assert verdict(prepare(after), ida, NOW).allowed is verdict(prepare(model), ida, NOW).allowed


def test_every_field_that_can_name_an_account_is_among_them():
    named = {
        (kind.name, field.name)
        for kind in SECTIONS.values()
        for field in kind.fields
        if field.names in ("subject", "line", "account")
    }
    covered = {
        ("endpoint", "only"),
        ("endpoint", "never"),
        ("endpoint", "entries"),
        ("group", "members"),
        ("quota", "shared_by"),
        ("virtual-path", "grants"),
        ("setting", "for"),
        ("setting", "uploads_owner"),
        ("usage", "owner"),
        ("trial", "as"),
        ("descriptor-reading", "names"),
    }
    assert named == covered, (
        "a field that names accounts is new: what becomes of it when the last name goes?"
    )
