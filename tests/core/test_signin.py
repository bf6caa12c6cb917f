"""The door and the sign-in gate: each reason by itself, each fact not held against who does not
give it.
"""

from datetime import UTC, date, datetime

import pytest

from drawknife.core.decide.explain import explain
from drawknife.core.decide.gates import verdict
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


def made(*settings, **account):
    """One account, three endpoints, and what is set."""
    return prepare(
        sound(
            m.Model(
                accounts=(
                    m.Account(**{"name": "ada", "methods": ("key", "password"), **account}),
                    m.Account("anonymous", "anonymous", methods=()),
                ),
                groups=(
                    m.Group("g", (m.parse_member("account:ada"),)),
                    m.Group("h", (m.parse_member("account:ada"),)),
                ),
                endpoints=(
                    m.Endpoint(
                        "plain", "ftp", 21, tls="off", entries=(m.parse_entry("allow anyone all"),)
                    ),
                    m.Endpoint("safe", "ftp", 2121),
                    m.Endpoint("shell", "sftp", 22, address="127.0.0.1"),
                    m.Endpoint("six", "ftps", 990, address="::"),
                    m.Endpoint("shut", "ftp", 2222, enabled=False),
                    m.Endpoint("empty", "ftp", 2323, entries=()),
                    m.Endpoint("zz", "ftp", 2121),
                ),
                settings=tuple(
                    m.Setting(m.parse_subject(s), tuple(sorted(v.items()))) for s, v in settings
                ),
            )
        )
    )


def sign_in(prepared, endpoint="safe", account="ada", **facts):
    answer = verdict(prepared, Question(account, "sign-in", endpoint=endpoint, **facts), NOW)
    return None if answer.allowed else answer.reason


@pytest.mark.parametrize(
    ("endpoint", "facts", "reason"),
    [
        ("safe", {}, None),
        ("safe", {"tls": True, "client": "192.0.2.1", "method": "password"}, None),
        ("safe", {"method": "key"}, "method-not-accepted"),  # of use at sftp only
        ("shell", {"method": "key"}, None),
        ("shut", {}, "endpoint-off"),
        ("zz", {}, "endpoint-not-started"),
        ("shell", {"client": "192.0.2.1"}, "endpoint-out-of-reach"),
        ("shell", {"client": "127.0.0.9"}, None),
        ("six", {"client": "192.0.2.1"}, "endpoint-out-of-reach"),
        ("six", {"client": "2001:db8::1"}, None),
        (
            "safe",
            {"client": "::ffff:192.0.2.1"},
            None,
        ),  # an IPv4 address in the clothes of an IPv6 one
        ("empty", {}, "endpoint-admits-nothing"),
        ("safe", {"tls": False}, "tls-required"),
        ("six", {"tls": False}, "tls-required"),
        ("shell", {"tls": False}, None),
        ("plain", {"tls": True}, "tls-off"),
        ("plain", {"tls": False}, None),
        ("safe", {"method": "directory"}, "method-not-accepted"),
    ],
)
def test_reasons(endpoint, facts, reason):
    assert sign_in(made(), endpoint, **facts) == reason


def test_the_account_itself():
    assert sign_in(made(enabled=False)) == "account-off"
    assert sign_in(made(expires=date(2026, 11, 22))) == "account-expired"
    assert sign_in(made(expires=date(2026, 11, 23))) is None
    late = datetime(2026, 11, 24, 0, 0, tzinfo=UTC)
    assert sign_in(made(expires=date(2026, 11, 23)), at=late) == "account-expired"


def test_methods_are_what_it_has_and_may_use():
    only_passwords = made(("group:g", {"methods": ("password",)}))
    assert sign_in(only_passwords, "shell", method="key") == "method-not-accepted"
    assert sign_in(made(("group:g", {"methods": ("directory",)}))) == "no-method"
    both = made(
        ("group:g", {"methods": ("key", "password")}), ("group:h", {"methods": ("password",)})
    )
    assert sign_in(both, "shell", method="password") is None
    assert sign_in(both, "shell", method="key") == "method-not-accepted"
    nearer = made(("group:g", {"methods": ("password",)}), ("account:ada", {"methods": ("key",)}))
    assert sign_in(nearer, "shell", method="key") is None
    assert sign_in(nearer) == "no-method"  # at an ftp endpoint a key is of no use
    assert (
        sign_in(made(), "plain", "anonymous", method="password") is None
    )  # not asked of the public


@pytest.mark.parametrize(
    ("endpoint", "credentials", "method", "reason"),
    [
        ("safe", set(), None, "no-method"),
        ("safe", {"password"}, None, None),
        ("safe", {"key"}, None, "no-method"),
        ("shell", {"key"}, None, None),
        ("shell", {"key"}, "password", "method-not-accepted"),
        ("safe", None, "password", None),
    ],
)
def test_a_method_is_there_only_if_its_credential_is(endpoint, credentials, method, reason):
    known = None if credentials is None else frozenset(credentials)
    assert sign_in(made(), endpoint, method=method, credentials=known) == reason


def test_why_no_method_is_left_is_told_for_each():
    prepared = made(("group:g", {"methods": ("key",)}))
    question = Question("ada", "sign-in", endpoint="safe", credentials=frozenset())
    assert (
        verdict(prepared, question, NOW).text
        == "ada has no way to sign in at safe: a key is of use at an sftp endpoint only; "
        "password is not permitted, as set for group:g"
    )


def test_addresses_of_equally_near_subjects_must_all_admit():
    prepared = made(
        ("group:g", {"addresses": ("allow 192.0.2.0/24",)}),
        ("group:h", {"addresses": ("deny 192.0.2.7/32",)}),
    )
    assert sign_in(prepared, client="192.0.2.8") is None
    assert sign_in(prepared, client="192.0.2.7") == "address-not-admitted"
    assert sign_in(prepared, client="198.51.100.1") == "address-not-admitted"
    nearer = made(
        ("signed-in", {"addresses": ("deny 0.0.0.0/0",)}),
        ("group:g", {"addresses": ("allow 192.0.2.0/24",)}),
    )
    assert sign_in(nearer, client="192.0.2.8") is None


def test_require_tls_of_ones_own():
    prepared = made(("account:ada", {"require_tls": True}))
    assert sign_in(prepared, "plain", tls=False) == "tls-required"
    assert sign_in(prepared, "plain") is None and sign_in(prepared, "shell", tls=False) is None
    assert sign_in(prepared, "plain", tls=False) == "tls-required"
    assert sign_in(prepared, "plain") is None and sign_in(prepared, "shell", tls=False) is None


def test_all_reasons_at_once_and_what_was_not_asked():
    prepared = made(
        ("account:ada", {"addresses": ("deny 0.0.0.0/0",)}), enabled=False, expires=date(2020, 1, 1)
    )
    told = explain(
        prepared, Question("ada", "sign-in", endpoint="zz", client="192.0.2.1", tls=False), NOW
    )
    assert [o.reason for o in told.obstacles] == [
        "endpoint-not-started",
        "account-off",
        "account-expired",
        "address-not-admitted",
        "tls-required",
    ]
    assert told.gates[1].notes == (
        "not given, so not asked: method",
        "its methods are taken as written: whether it has the credentials is not known here",
    )
    assert [g.asked for g in told.gates] == [True, True, False, False, False, False]
