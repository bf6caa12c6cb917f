"""Lines that name somebody: entries, grants and members; until when they count, and why they are
there.

`until` is the last day (UTC) that a line counts, None: it does not end; `note` says why it is
there, and decides nothing. What a line says is the rest: two lines that say the same are the same
line (docs/rules.md, "Until").
"""

from collections.abc import Iterable
from datetime import date
from typing import Any, NamedTuple, Protocol, TypeVar

from ..words.names import BadValue, check_name, check_unit, fold
from ..words.rights import format_rights, parse_rights

EFFECTS = ("allow", "deny", "forbid")
REACHES = ("tree", "here", "below", "children")
BUILT_IN = ("anyone", "signed-in", "anonymous", "owner")
NAMED = ("account", "group", "unit")


class Subject(NamedTuple):
    """Whom an entry, a grant, a setting or a quota speaks of, written ``kind:name`` or ``kind``."""

    kind: str
    name: str = ""

    def __str__(self) -> str:
        return f"{self.kind}:{self.name}" if self.name else self.kind

    @property
    def key(self) -> "Subject":
        """The form in which subjects are compared."""
        return Subject(self.kind, fold(self.name))


class Line(Protocol):
    """What the three kinds of lines have in common.

    As text they are read back by the parser of their kind.
    """

    @property
    def subject(self) -> Subject: ...
    @property
    def until(self) -> date | None: ...
    @property
    def note(self) -> str | None: ...
    def says(self) -> str:
        """The line without its end and its note."""
        ...


class Entry(NamedTuple):
    """One line of a folder: ``EFFECT SUBJECT RIGHTS [REACH]``.

    `rights` is a set as in rights.py.
    """

    effect: str
    subject: Subject
    rights: int
    reach: str = "tree"
    until: date | None = None
    note: str | None = None

    def says(self) -> str:
        line = f"{self.effect} {self.subject} {format_rights(self.rights)}"
        return line if self.reach == "tree" else f"{line} {self.reach}"

    def __str__(self) -> str:
        return _until(self)


class Grant(NamedTuple):
    """One line of a virtual path: ``SUBJECT RIGHTS``."""

    subject: Subject
    rights: int
    until: date | None = None
    note: str | None = None

    def says(self) -> str:
        return f"{self.subject} {format_rights(self.rights)}"

    def __str__(self) -> str:
        return _until(self)


class Member(NamedTuple):
    """One member of a group: an account, a group or a unit."""

    subject: Subject
    until: date | None = None
    note: str | None = None

    def says(self) -> str:
        return str(self.subject)

    def __str__(self) -> str:
        return _until(self)


def _until(line: Line) -> str:
    return line.says() if line.until is None else f"{line.says()} until {line.until}"


# --- reading ------------------------------------------------------------------------------------


def parse_subject(text: str, *, owner: bool = False) -> Subject:
    """Read a subject; `owner` says whether the built-in subject ``owner`` is one here."""
    kind, colon, name = text.partition(":")
    if colon and kind in NAMED:
        return Subject(kind, check_unit(name) if kind == "unit" else check_name(name))
    if not colon and kind in BUILT_IN and (owner or kind != "owner"):
        return Subject(kind)
    words = "account:NAME, group:NAME, unit:PATH, anyone, signed-in, anonymous" + (
        ", owner" if owner else ""
    )
    raise BadValue(f"{text!r} is no subject", words)


def parse_entry(text: str, *, at_endpoint: bool = False) -> Entry:
    """Read an entry, perhaps with ``until DAY``; at an endpoint there is no reach and
    no ``owner``.
    """
    words, until = _words(text)
    shape = "EFFECT SUBJECT RIGHTS" if at_endpoint else "EFFECT SUBJECT RIGHTS [REACH]"
    if not 3 <= len(words) <= (3 if at_endpoint else 4):
        raise BadValue(f"{text!r} is no entry", f"{shape}, such as `allow group:boats read`")
    effect, subject, rights = words[:3]
    if effect not in EFFECTS:
        raise BadValue(f"{effect!r} is no effect", "allow, deny or forbid")
    reach = words[3] if len(words) == 4 else "tree"
    if reach not in REACHES:
        raise BadValue(f"{reach!r} is no reach", "tree, here, below or children")
    return Entry(
        effect, parse_subject(subject, owner=not at_endpoint), parse_rights(rights), reach, until
    )


def parse_grant(text: str) -> Grant:
    """Read a grant, perhaps with ``until DAY``."""
    words, until = _words(text)
    if len(words) != 2:
        raise BadValue(f"{text!r} is no grant", "SUBJECT RIGHTS, such as `group:boats change`")
    return Grant(parse_subject(words[0]), parse_rights(words[1]), until)


def parse_member(text: str) -> Member:
    """Read a member, perhaps with ``until DAY``."""
    if " " not in text:
        return Member(parse_subject(text))
    words, until = _words(text)
    if len(words) != 1:
        raise BadValue(f"{text!r} is no member", "account:NAME, group:NAME or unit:PATH")
    return Member(parse_subject(words[0]), until)


def parse_day(text: str) -> date:
    """Read a day such as 2031-04-30."""
    try:
        if len(text) == 10:
            return date.fromisoformat(text)
    except ValueError:
        pass
    raise BadValue(f"{text} is no day", "a day such as 2031-04-30")


def _words(text: str) -> tuple[list[str], date | None]:
    """The words of a line without its ``until DAY``, and that day."""
    words = text.split()
    if len(words) > 2 and words[-2] == "until":
        return words[:-2], parse_day(words[-1])
    return words, None


# --- lines that say the same, and lines that have ended -----------------------------------------

T = TypeVar("T", Entry, Grant, Member)


def each_once(lines: Iterable[T]) -> tuple[T, ...]:
    """The lines sorted, each once: one that is written twice counts as long as the later of the
    two.
    """
    found: dict[Any, T] = {}
    for line in lines:
        bare = line._replace(until=None, note=None)
        there = found.get(bare)
        found[bare] = line if there is None else max(there, line, key=_lasting)
    return tuple(found[bare] for bare in sorted(found))


def _lasting(line: Line) -> tuple[bool, date, str]:
    """Of two lines that say the same, the one that lasts longer; then one with a note."""
    return line.until is None, line.until or date.min, line.note or ""


def has_ended(line: Line, day: date) -> bool:
    """Does a line count no more on a day?"""
    return line.until is not None and day > line.until
