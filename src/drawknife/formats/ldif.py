"""LDIF (RFC 2849): the entries of a directory as text.

Content records only; changes are refused.
"""

from __future__ import annotations

import base64
import binascii
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from .document import BadDocument, Mistake


class Record(NamedTuple):
    """One entry: its name, and the values of its attributes by their names in lower
    case, as bytes.
    """

    dn: str
    attributes: dict[str, list[bytes]]


def read_ldif(lines: Iterable[bytes]) -> Iterator[Record]:
    """The records of an LDIF file, one at a time.

    :class:`BadDocument` with the line of the first mistake.
    """
    dn: str | None = None
    attributes: dict[str, list[bytes]] = {}
    number = 0
    for number, line in _unfolded(lines):
        if not line:
            if dn is not None:
                yield Record(dn, attributes)
            dn, attributes = None, {}
            continue
        name, value = _attribute(number, line)
        if dn is None:
            if name == "version" and not attributes:
                if value.strip() != b"1":
                    raise _wrong(number, "this version of LDIF is not known", "version: 1")
                continue
            if name != "dn":
                raise _wrong(number, "a record does not begin with its name", "dn: …")
            try:
                dn = value.decode()
            except UnicodeDecodeError:
                raise _wrong(
                    number, "the dn is not UTF-8", "UTF-8, in base64 if it is not ASCII"
                ) from None
        elif name == "changetype":
            raise _wrong(number, "this is a record of changes", "the entries themselves")
        else:
            # Options, as in `cn;lang-en`, are variants of the same attribute.
            attributes.setdefault(name.partition(";")[0], []).append(value)
    if dn is not None:
        yield Record(dn, attributes)


def _unfolded(lines: Iterable[bytes]) -> Iterator[tuple[int, bytes]]:
    """Logical lines with the numbers they begin at; comments left out; an empty one between
    records.
    """
    held: bytes | None = None
    began = 0
    for number, raw in enumerate(lines, 1):
        line = raw.rstrip(b"\r\n")
        if line.startswith(b" "):
            if held is None:
                raise _wrong(
                    number, "a continuation of nothing", "a line that does not begin with a space"
                )
            held += line[1:]
            continue
        if held is not None and not held.startswith(b"#"):
            yield began, held
        held, began = line, number
    if held is not None and not held.startswith(b"#"):
        yield began, held


def _attribute(number: int, line: bytes) -> tuple[str, bytes]:
    name, colon, rest = line.partition(b":")
    if not colon or not name:
        raise _wrong(
            number, "this is no line `attribute: value`", "such as `mail: ines@tidewrack.example`"
        )
    try:
        called = name.decode("ascii").lower()
    except UnicodeDecodeError:
        raise _wrong(number, "the attribute's name is not ASCII", "such as `mail`") from None
    if rest.startswith(b"<"):
        raise _wrong(number, "values from elsewhere (`:<`) are not read", "the value itself")
    if rest.startswith(b":"):
        try:
            return called, base64.b64decode(rest[1:].strip(), validate=True)
        except (binascii.Error, ValueError):
            raise _wrong(number, "the value is no base64", "`attribute:: BASE64`") from None
    return called, rest.lstrip(b" ")


def _wrong(number: int, message: str, expected: str) -> BadDocument:
    return BadDocument([Mistake((), number, "", message, expected)])
