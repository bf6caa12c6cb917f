"""Sentences about everybody that a model keeps or breaks (docs/rules.md, "Promises")."""

from __future__ import annotations

import re
from typing import NamedTuple

from ..words.names import BadValue, Place, check_name, check_path, parse_place
from ..words.rights import format_rights, parse_rights
from .lines import REACHES, Subject, parse_subject

QUANTIFIERS = ("nobody", "only", "everybody")
_SHAPE = (
    "nobody in SUBJECTS may RIGHTS at PLACE [REACH] [through ENDPOINT], or only SUBJECTS may …, or"
    " everybody in SUBJECTS may …"
)
_THROUGH = re.compile(r"(.*\S) through (\S+)")


class Says(NamedTuple):
    """What a promise says.

    `place` is a store folder, or a virtual location as text; `rights` a set as in rights.py.
    """

    quantifier: str
    subjects: tuple[Subject, ...]
    rights: int
    place: Place | str
    reach: str = "here"
    endpoint: str | None = None

    def __str__(self) -> str:
        who = ", ".join(map(str, self.subjects))
        where = str(self.place)
        # A place that would be read otherwise is written with its reach after it.
        explicit = (
            self.reach != "here" or where.rpartition(" ")[2] in REACHES or _THROUGH.fullmatch(where)
        )
        reach = f" {self.reach}" if explicit else ""
        through = f" through {self.endpoint}" if self.endpoint is not None else ""
        quantifier = self.quantifier if self.quantifier == "only" else f"{self.quantifier} in"
        return f"{quantifier} {who} may {format_rights(self.rights)} at {where}{reach}{through}"


def parse_says(text: str) -> Says:
    """Read what a promise says; from its end: the endpoint, then the reach, then the place."""
    head, may, rest = text.strip().partition(" may ")
    rights, at, where = rest.partition(" at ")
    words = head.split(None, 2 if not head.startswith("only") else 1)
    if not may or not at or not words or words[0] not in QUANTIFIERS:
        raise BadValue(f"{text!r} is no promise", _SHAPE)
    if words[0] != "only" and (len(words) < 3 or words[1] != "in"):
        raise BadValue(f"{text!r} names nobody", _SHAPE)
    if words[0] == "only" and len(words) < 2:
        raise BadValue(f"{text!r} names nobody", _SHAPE)
    subjects = tuple(sorted({parse_subject(word.strip()) for word in words[-1].split(",")}))
    endpoint = None
    found = _THROUGH.fullmatch(where)
    if found is not None:
        where, endpoint = found[1], check_name(found[2])
    reach = "here"
    before, _, last = where.rpartition(" ")
    if last in REACHES and before:
        where, reach = before.rstrip(), last
    place: Place | str = check_path(where) if where.startswith("/") else parse_place(where)
    return Says(words[0], subjects, parse_rights("".join(rights.split())), place, reach, endpoint)
