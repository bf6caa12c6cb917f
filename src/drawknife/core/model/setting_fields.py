"""The settings there are: what each is, and how the values of equally near subjects become one
(docs/rules.md, "Settings").
"""

from __future__ import annotations

from typing import Any

from ..words.hours import read_hours
from ..words.names import check_name, check_path
from ..words.quantities import read_size, write_size
from . import disk as d
from . import items as m
from . import values as v
from .fields import Field


def _size_or_unlimited(value: Any) -> Any:
    return value if value == m.UNLIMITED else write_size(value)


def _smallest(values: list[Any]) -> Any:
    numbers = [x for x in values if x != m.UNLIMITED]
    return min(numbers) if numbers else m.UNLIMITED


def _common(values: list[Any]) -> Any:
    return tuple(method for method in m.METHODS if all(method in x for x in values))


def _limit(name: str, about: str, unit: str = "") -> Field:
    """A setting that is a number, or `unlimited`; the smaller is stricter."""
    size = unit.startswith("bytes")
    return Field(
        name,
        v.or_unlimited(read_size if size else v.COUNT),
        v.unlimited(v.SIZE if size else v.NUMBER),
        about,
        write=_size_or_unlimited if size else None,
        stricter=_smallest,
        unset=m.UNLIMITED,
        unit=unit,
    )


SETTING_FIELDS = (
    _limit("quota_bytes", "how much it may own", "bytes"),
    _limit("quota_files", "how many files it may own"),
    _limit("upload_limit", "the largest file it may send", "bytes"),
    _limit("rate_up", "bytes a second that it may send", "bytes/s"),
    _limit("rate_down", "bytes a second that it may fetch", "bytes/s"),
    _limit("sessions", "how many sessions at once"),
    _limit("idle_timeout", "seconds without a command before a session ends", "s"),
    Field("require_tls", v.yes_no, v.BOOL, "must it use TLS?", stricter=any, unset=False),
    Field(
        "methods",
        v.one_of(m.METHODS),
        v.choice(m.METHODS),
        "the ways of signing in that are permitted",
        many=True,
        word="method",
        stricter=_common,
        unset=m.METHODS,
    ),
    Field(
        "addresses",
        v.address_line,
        v.STRING,
        "allow CIDR or deny CIDR: where it may come from",
        many=True,
        word="address-line",
        stricter=tuple,
        unset=(),
    ),
    Field(
        "hours",
        v.of(read_hours),
        v.STRING,
        "when it may sign in (UTC), such as mon-fri 06:00-20:00",
        many=True,
        word="hour-line",
        stricter=tuple,
        unset=(),
    ),
    Field(
        "landing",
        v.of(check_path),
        v.PATH,
        "the virtual location where a session starts",
        unset="/",
    ),
    Field("greeting", v.greeting, v.STRING, "what is said at sign-in"),
    Field(
        "uploads_owner",
        v.of(check_name),
        v.NAME,
        "the account that owns what it creates",
        names="account",
    ),
    Field(
        "acts_as",
        v.of(d.check_acts_as),
        v.STRING,
        "the user of the operating system that a server takes on for it: a name, or {account}",
    ),
)
