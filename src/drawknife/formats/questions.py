"""Questions as JSON, one a line: docs/reference/questions.md."""

from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any

from drawknife.core.model.disk import parse_thing
from drawknife.core.model.items import METHODS
from drawknife.core.prepared.question import Question
from drawknife.core.words.actions import ACTIONS
from drawknife.core.words.errors import BadInput, BadValue, nearest
from drawknife.core.words.names import check_name, check_path
from drawknife.core.words.quantities import MAX

SIGN_IN = "sign-in"


def _text(check: Callable[[str], str]) -> Callable[[Any], Any]:
    @lru_cache(4096)
    def checked(value: str) -> str:
        return check(value)

    def read(value: Any) -> str:
        if not isinstance(value, str):
            raise BadValue(f"{value!r} is not text", "text")
        return checked(value)

    return read


def _action(value: str) -> str:
    if value not in ACTIONS:
        raise BadValue(f"{value!r} is no action", "one of " + ", ".join(ACTIONS))
    return value


def _choice(*words: str) -> Callable[[str], str]:
    def check(value: str) -> str:
        if value not in words:
            raise BadValue(f"{value!r} is none of the choices", " or ".join(words))
        return value

    return check


def _address(value: str) -> str:
    from ipaddress import ip_address

    try:
        ip_address(value)
    except ValueError:
        raise BadValue(f"{value!r} is no address", "an IPv4 or IPv6 address") from None
    return value


def _combination(value: str) -> str:
    parse_thing(value)
    return value


def _flag(value: Any) -> bool:
    if not isinstance(value, bool):
        raise BadValue(f"{value!r} is neither true nor false", "true or false")
    return value


def _count(value: Any) -> int:
    if not isinstance(value, int) or isinstance(value, bool) or not 0 <= value <= MAX:
        raise BadValue(
            f"{value!r} is no number of bytes or files", f"a whole number from 0 to {MAX}"
        )
    return value


def _time(value: Any) -> datetime:
    try:
        at = datetime.fromisoformat(value) if isinstance(value, str) else None
        if at is not None:
            return at.replace(tzinfo=UTC) if at.tzinfo is None else at.astimezone(UTC)
    except (ValueError, OverflowError):
        pass
    raise BadValue(f"{value!r} is no time", "an ISO 8601 time such as 2026-11-23T09:30:00Z")


_FIELDS: dict[str, tuple[str, Callable[[Any], Any]]] = {
    "account": ("account", _text(check_name)),
    "action": ("action", _text(_action)),
    "path": ("path", _text(check_path)),
    "to": ("to", _text(check_path)),
    "thing": ("thing", _text(_choice("file", "folder"))),
    "replaces": ("replaces", _flag),
    "owner": ("owner", _text(check_name)),
    "endpoint": ("endpoint", _text(check_name)),
    "from": ("client", _text(_address)),
    "tls": ("tls", _flag),
    "method": ("method", _text(_choice(*METHODS))),
    "size": ("size", _count),
    "replaced_size": ("replaced_size", _count),
    "combination": ("combination", _text(_combination)),
    "files": ("files", _count),
    "sessions": ("sessions", _count),
    "at": ("at", _time),
}
KEYS = (*_FIELDS, "explain")


def write_question(question: Question) -> dict[str, Any]:
    """A question as JSON; what it leaves open is left out."""
    found: dict[str, Any] = {"account": question.account, "action": question.action}
    if question.action != SIGN_IN:
        found |= {"path": question.path, "thing": question.thing, "replaces": question.replaces}
    for key in (
        "to",
        "owner",
        "endpoint",
        "from",
        "tls",
        "method",
        "size",
        "replaced_size",
        "combination",
        "files",
        "sessions",
    ):
        if (value := getattr(question, _FIELDS[key][0])) is not None:
            found[key] = value
    return found if question.at is None else {**found, "at": question.at.isoformat()}


def read_question(data: Any) -> tuple[Question, bool]:
    """The question that `data` (parsed JSON) asks, and whether an explanation is wanted.

    Raises :class:`BadInput`. A key that is null counts as left out.
    """
    if not isinstance(data, dict):
        raise BadInput("", "a question is a JSON object", '{"account": …, "action": …, "path": …}')
    values: dict[str, Any] = {}
    explain = False
    for key, value in data.items():
        if key not in _FIELDS and key != "explain":
            raise BadInput(
                key, f"unknown key {key!r}", "one of " + ", ".join(KEYS), nearest(key, KEYS)
            )
        if value is None:
            continue
        try:
            if key == "explain":
                explain = _flag(value)
            else:
                name, read = _FIELDS[key]
                values[name] = read(value)
        except BadValue as bad:
            raise BadInput(key, str(bad), bad.expected) from None
    _check_whole(values)
    return Question(**values), explain


def _check_whole(values: Mapping[str, Any]) -> None:
    """:class:`BadInput` where the action of a question needs more, or takes less."""
    action = values.get("action")
    for key in ("account", "action"):
        if key not in values:
            raise BadInput(key, f"the key {key!r} is missing", key)
    if action == SIGN_IN:
        if "endpoint" not in values:
            raise BadInput("endpoint", "signing in is somewhere", "the endpoint to sign in at")
    elif "path" not in values:
        raise BadInput(
            "path", "the key 'path' is missing", "a virtual location such as /inbox/line-07.xyz"
        )
    if (action == "rename") != ("to" in values):
        if action == "rename":
            raise BadInput("to", "a rename needs a destination", "a virtual location")
        raise BadInput("to", "only a rename has a destination", "the key left out")
