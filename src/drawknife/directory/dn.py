"""Distinguished names (RFC 4514), as far as comparing them and going up goes."""

from __future__ import annotations

import re

_SPACES = re.compile(r"\s*([,=+;])\s*")
_PARTS = re.compile(r"(?:\\.|[^,\\])+")
#: A part may be made of several attributes, in any order (RFC 4514, section 2.2).
_VALUES = re.compile(r"(?:\\.|[^+\\])+")


def normal(dn: str) -> str:
    """The form in which names are compared: lower case, no spaces around separators, one order, one
    way of escaping.
    """
    if "+" in dn:
        return ",".join(
            "+".join(sorted(map(_normal, _VALUES.findall(rdn)))) for rdn in _PARTS.findall(dn)
        )
    if "\\" not in dn:
        return _SPACES.sub(r"\1", dn.strip()).lower() if " " in dn else dn.lower()
    return ",".join(map(_normal, _PARTS.findall(dn)))


def _normal(value: str) -> str:
    """An attribute and its value: one of those that a part of a name is made of."""
    attribute, text = _attribute(value)
    return f"{attribute}={_escaped(_unescaped(text))}"


def _attribute(rdn: str) -> tuple[str, str]:
    name, _, value = rdn.partition("=")
    # A space at the end counts only if it is escaped.
    stripped = value.strip()
    if stripped.endswith("\\"):
        stripped += " "
    return name.strip().lower(), stripped


def _unescaped(value: str) -> str:
    raw = re.sub(
        rb"\\([0-9a-fA-F]{2}|.)",
        lambda m: bytes.fromhex(m[1].decode()) if len(m[1]) == 2 else m[1],
        value.encode("utf-8", "surrogatepass"),
        flags=re.DOTALL,
    )
    return raw.decode("utf-8", "replace").lower()


def _escaped(value: str) -> str:
    return re.sub(r'([,+"\\<>;=])', r"\\\1", value)


def parent_dn(normal_dn: str) -> str:
    """The name above a name in normal form; empty for the topmost."""
    if "\\" not in normal_dn:
        return normal_dn.partition(",")[2]
    return ",".join(_PARTS.findall(normal_dn)[1:])


def is_below(normal_dn: str, top: str) -> bool:
    """Is it `top` or below it, both in normal form?"""
    return normal_dn == top or normal_dn.endswith("," + top) or not top
