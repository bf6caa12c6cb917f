"""Folders with descriptors, in SDDL or as NFSv4 lists, and whom the identifiers in them
stand for.
"""

from __future__ import annotations

from datetime import date
from typing import NamedTuple
from urllib.parse import quote, unquote

from ..words.names import BadValue, check_path
from .descriptors import Descriptor, parse_descriptor, parse_sid
from .lines import Subject, parse_subject
from .nfs4 import MARK, parse_nfs4


class DescribedFolder(NamedTuple):
    """A folder of a store with its descriptor as text."""

    path: str
    text: str

    @property
    def descriptor(self) -> Descriptor:
        """The descriptor, read."""
        return _parse(self.text)

    @property
    def is_nfs4(self) -> bool:
        """Is it an NFSv4 list?"""
        return self.text.startswith(MARK + " ")

    def __str__(self) -> str:
        return f"{self.text} {self.path}"


class SidName(NamedTuple):
    """Whom an identifier stands for here: an account, a group or a unit."""

    sid: str
    subject: Subject
    until: date | None = None
    note: str | None = None

    def says(self) -> str:
        return f"{quote(self.sid, safe='@:.$+=,~')} {self.subject}"

    def __str__(self) -> str:
        return self.says()


def parse_described(text: str) -> DescribedFolder:
    """A line of a folder: its descriptor, and its path."""
    descriptor, space, path = text.partition(" /")
    if not space:
        raise BadValue(f"{text!r} is no folder with a descriptor", "SDDL /path")
    _parse(descriptor)
    return DescribedFolder(check_path("/" + path), descriptor)


def parse_sid_name(text: str) -> SidName:
    """A line that says whom an identifier stands for: a security identifier, ``user:NAME`` or
    ``group:NAME``.
    """
    sid, space, subject = text.partition(" ")
    if not space:
        raise BadValue(
            f"{text!r} names nobody", "SID SUBJECT, such as S-1-5-21-1-2-3-1105 account:ines"
        )
    is_name = sid.startswith(("user:", "group:"))
    return SidName(unquote(sid) if is_name else parse_sid(sid), parse_subject(subject))


def _parse(text: str) -> Descriptor:
    return parse_nfs4(text) if text.startswith(MARK + " ") else parse_descriptor(text)
