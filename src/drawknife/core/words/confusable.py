"""Names that look like others (after Unicode TR 39, section 4): a small table of letters that are
often mistaken.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Iterable

#: What looks like what, for the letters that names of people and machines have.
_LIKE = {
    **dict(zip("АВЕЅІЈКМНОРСТХУЗЬ", "ABESIJKMHOPCTXY3b", strict=True)),
    **dict(zip("авеѕіјкмнорстхугпиԁԛԝһ", "aBesijkMHopcTxyrnudqwh", strict=True)),
    **dict(zip("ΑΒΕΖΗΙΚΜΝΟΡΤΥΧ", "ABEZHIKMNOPTYX", strict=True)),
    **dict(zip("αινορτυγ", "aivoptuy", strict=True)),
    **dict(zip("0１２３", "O123", strict=True)),
    **dict.fromkeys("1I|ǀӏ", "l"),
    "ı": "i",
    "ß": "ss",
    "æ": "ae",
}  # fmt: skip


_ASCII = str.maketrans({c: like for c, like in _LIKE.items() if c.isascii()})


def look(name: str) -> str:
    """How a name looks: two names of the same look are easily mistaken for each other."""
    if name.isascii():
        return name.translate(_ASCII).casefold().replace("rn", "m").replace("vv", "w")
    plain = unicodedata.normalize("NFKD", name)
    bare = "".join(c for c in plain if not unicodedata.combining(c))
    like = "".join(_LIKE.get(c, c) for c in bare)
    return like.replace("I", "l").casefold().replace("rn", "m").replace("vv", "w")


def alike(names: Iterable[str]) -> list[tuple[str, ...]]:
    """The names that look the same, together, where there are two or more."""
    by_look: dict[str, list[str]] = {}
    for name in names:
        by_look.setdefault(look(name), []).append(name)
    return [tuple(found) for found in by_look.values() if len(found) > 1]
