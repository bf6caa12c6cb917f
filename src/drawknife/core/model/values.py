"""How single values of a document are read, and how JSON Schema describes them.

Each reader returns the value, or raises BadValue with what would be right.
"""

from collections.abc import Callable
from datetime import UTC, date, datetime
from typing import Any

from ..words.names import BadValue
from ..words.plain import hidden_in
from . import items as m
from .endpoints import read_address, read_network

#: The longest title.
MOST_IN_TITLE = 120

Read = Callable[[Any], Any]
Schema = dict[str, Any]


def shown(value: Any) -> str:
    if value is None or isinstance(value, bool):
        return {None: "nothing", True: "true", False: "false"}[value]
    found = (
        "a list"
        if isinstance(value, list)
        else "a mapping"
        if isinstance(value, dict)
        else str(value)
    )
    return found if len(found) <= 60 else found[:57] + "..."


def text(value: Any, lines: bool = False) -> str:
    """A text on one line, or where `lines` says so on several."""
    if not isinstance(value, str):
        raise BadValue(
            f"{shown(value)} is not text", "text (in quotation marks, if it looks like a number)"
        )
    if any("\ud800" <= c <= "\udfff" for c in value):
        raise BadValue("the text holds a character that cannot be kept", "text without it")
    hidden = hidden_in(value, lines)
    if hidden is not None:
        many = "one or more lines" if lines else "one line"
        raise BadValue(
            f"the text holds the character {hidden}",
            f"{many} without control and direction characters",
        )
    return value


def greeting(value: Any) -> str:
    """A text of several lines, without tabs."""
    if isinstance(value, str) and "\t" in value:
        raise BadValue("the text holds the character U+0009", "lines without tabs")
    return text(value, lines=True)


def note(value: Any) -> str | None:
    """A note; one without text is none."""
    return text(value) or None


def title(value: Any) -> str:
    """What something is about, in a line of its own words."""
    found = text(value).strip()
    if not 0 < len(found) <= MOST_IN_TITLE or not found.isprintable():
        raise BadValue(
            f"{shown(value)!r} is no title", f"a line of 1 to {MOST_IN_TITLE} characters"
        )
    return found


def of(read: Callable[[str], Any]) -> Read:
    return lambda value: read(text(value))


def one_of(words: tuple[str, ...]) -> Read:
    def read(value: Any) -> str:
        if value not in words or not isinstance(value, str):
            raise BadValue(f"{shown(value)!r} is none of the choices", " or ".join(words))
        return value

    return read


def yes_no(value: Any) -> bool:
    if not isinstance(value, bool):
        raise BadValue(f"{shown(value)} is neither true nor false", "true or false")
    return value


def number(low: int, high: int) -> Read:
    def read(value: Any) -> int:
        if not isinstance(value, int) or isinstance(value, bool) or not low <= value <= high:
            raise BadValue(
                f"{shown(value)} is out of place", f"a whole number from {low} to {high}"
            )
        return value

    return read


def day(value: Any) -> date:
    try:
        return m.parse_day(text(value))
    except BadValue:
        raise BadValue(f"{shown(value)} is no day", "a day such as 2031-04-30") from None


def line(parse: Callable[[str], Any], key: str = "line") -> Read:
    """A line as text, or as a mapping with the line under `key`, and its ``until`` and ``note``."""

    def read(value: Any) -> Any:
        if not isinstance(value, dict):
            return parse(text(value))
        unknown = next((k for k in value if k not in (key, "until", "note")), None)
        if unknown is not None or key not in value:
            what = (
                f"unknown key {unknown!r}" if unknown is not None else f"the key {key!r} is missing"
            )
            raise BadValue(what, f"{key}, until and note")
        found = parse(text(value[key]))
        if found.until is not None and value.get("until") is not None:
            raise BadValue(
                "its end is written twice", f"`until` in the mapping, and only the rest in `{key}`"
            )
        until = found.until if value.get("until") is None else day(value["until"])
        return found._replace(
            until=until, note=None if value.get("note") is None else text(value["note"]) or None
        )

    return read


def write_line(key: str = "line") -> Callable[[Any], Any]:
    """How a line is written: as text, or as a mapping where it has an end or a note."""

    def write(found: Any) -> Any:
        if found.until is None and found.note is None:
            return found.says()
        data = {key: found.says()}
        if found.until is not None:
            data["until"] = str(found.until)
        if found.note is not None:
            data["note"] = found.note
        return data

    return write


def address(value: Any) -> str:
    try:
        return str(read_address(text(value)))
    except ValueError:
        raise BadValue(f"{shown(value)} is no address", "an IPv4 or IPv6 address") from None


def port_range(value: Any) -> tuple[int, int]:
    first, dash, last = text(value).partition("-") if isinstance(value, str) else ("", "", "")
    if dash and first.isdecimal() and last.isdecimal() and len(first) < 6 and len(last) < 6:
        ports = int(first), int(last)
        if 0 < ports[0] <= ports[1] < 65536:
            return ports
    raise BadValue(f"{shown(value)} is no range of ports", "a range such as 40000-40099")


def write_ports(ports: tuple[int, int]) -> str:
    return f"{ports[0]}-{ports[1]}"


def _network(value: str) -> str:
    try:
        return str(read_network(value))
    except ValueError:
        raise BadValue(
            f"{value!r} is no network",
            "a network such as 192.0.2.0/24, with no bits set behind the prefix",
        ) from None


def network(value: Any) -> str:
    return _network(text(value))


def _ports_of(words: str) -> tuple[int, int]:
    return port_range(words if "-" in words else f"{words}-{words}")


def opening(value: Any, *, mixed: bool = False) -> m.Opening:
    """An opening; `mixed` lets a line of both families pass, as older versions kept it: it lets
    nobody in.
    """
    words = text(value).split()
    if len(words) != 4 or words[2] != "from":
        raise BadValue(
            f"{shown(value)!r} is no opening",
            "ADDRESS PORTS from NETWORK, such as `198.51.100.5 2121 from 0.0.0.0/0`",
        )
    networks = tuple(sorted({_network(n) for n in words[3].split(",")}))
    made = m.Opening(address(words[0]), _ports_of(words[1]), networks)
    if not mixed and any(_family(n) != _family(made.address) for n in networks):
        raise BadValue("the line mixes IPv4 and IPv6", "an address and networks of one family")
    return made


def _family(text: str) -> int:
    """4 or 6."""
    return read_network(text).version


def forwarding(value: Any, *, mixed: bool = False) -> m.Forwarding:
    """A forwarding; `mixed` as for an opening: it leads nowhere."""
    words = text(value).split()
    if len(words) != 5 or words[2] != "to":
        raise BadValue(
            f"{shown(value)!r} is no forwarding",
            "ADDRESS PORTS to ADDRESS PORTS, such as `198.51.100.5 2121 to 192.0.2.10 2121`",
        )
    made = m.Forwarding(
        address(words[0]), _ports_of(words[1]), address(words[3]), _ports_of(words[4])
    )
    if not mixed and _family(made.address) != _family(made.to_address):
        raise BadValue("the line mixes IPv4 and IPv6", "two addresses of one family")
    if made.ports[1] - made.ports[0] != made.to_ports[1] - made.to_ports[0]:
        raise BadValue(
            "the two ranges of ports are not of one length", "as many ports inside as outside"
        )
    return made


def moment(value: Any) -> datetime:
    try:
        found = datetime.fromisoformat(text(value))
        return found.astimezone(UTC) if found.tzinfo else found.replace(tzinfo=UTC)
    except (ValueError, OverflowError):
        raise BadValue(
            f"{shown(value)} is no time", "a time such as 2026-11-23T08:00:00+00:00"
        ) from None


def write_moment(at: datetime) -> str:
    return at.isoformat()


def address_line(value: Any) -> str:
    words = text(value).split()
    if len(words) == 2 and words[0] in ("allow", "deny"):
        return f"{words[0]} {_network(words[1])}"
    raise BadValue(f"{shown(value)!r} is no address line", "allow CIDR or deny CIDR")


def host_name(value: Any) -> str:
    name = text(value).lower()
    labels = name.split(".")
    if (
        not name
        or len(name) > 253
        or any(
            not x or len(x) > 63 or x[0] == "-" or x[-1] == "-" or not x.replace("-", "").isalnum()
            for x in labels
        )
    ):
        raise BadValue(
            f"{shown(value)!r} is no host name", "a name such as files.tidewrack.example"
        )
    return name


def or_unlimited(read: Read) -> Read:
    return lambda value: m.UNLIMITED if value == m.UNLIMITED else read(value)


COUNT = number(0, 2**63 - 1)
STRING: Schema = {"type": "string"}
DAY: Schema = {"type": "string", "format": "date"}
SIZE: Schema = {
    "type": ["integer", "string"],
    "minimum": 0,
    "pattern": r"^\d+(\.\d+)?( ?(B|[KMGTP]i?B))?$",
}
NUMBER: Schema = {"type": "integer", "minimum": 0}
DURATION: Schema = {
    "type": ["integer", "string"],
    "minimum": 0,
    "pattern": r"^\d+ ?(day|hour|minute|second)s?$",
}
BOOL: Schema = {"type": "boolean"}
NAME: Schema = {"type": "string", "minLength": 1, "maxLength": 64}
TITLE: Schema = {"type": "string", "minLength": 1, "maxLength": MOST_IN_TITLE}
PATH: Schema = {"type": "string", "pattern": "^/"}
PORT: Schema = {"type": "integer", "minimum": 1, "maximum": 65535}
PORTS: Schema = {"type": "string", "pattern": r"^\d+-\d+$"}
MOMENT: Schema = {"type": "string", "format": "date-time"}
PLACE: Schema = {"type": "string", "pattern": "^[^:]+:/"}


#: A step of a trial: a line, or the mapping that YAML reads such a line as.
STEP: Schema = {"anyOf": [STRING, {"type": "object", "minProperties": 1, "maxProperties": 1}]}


def choice(words: tuple[str, ...]) -> Schema:
    return {"enum": list(words)}


def line_schema(key: str = "line") -> Schema:
    """A line as text, or as a mapping."""
    keys: Schema = {key: STRING, "until": DAY, "note": STRING}
    mapping = {
        "type": "object",
        "additionalProperties": False,
        "required": [key],
        "properties": keys,
    }
    return {"anyOf": [STRING, mapping]}


def unlimited(schema: Schema) -> Schema:
    return {"anyOf": [{"const": m.UNLIMITED}, schema]}
