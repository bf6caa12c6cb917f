"""Login names from a template: ``{userName up to @}``, or ``{sn}.{employeeNumber}``.

Braces hold an attribute. ``up to`` and a character take the part before the first such character.
"""

from __future__ import annotations

import re
from collections.abc import Callable

from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import BadValue

_PART = re.compile(r"\{([A-Za-z][\w.:;-]*)(?: up to (\S))?\}")
EXAMPLE = "such as {userName up to @}, or {uid}"


def check_template(template: str) -> None:
    """:class:`BadInput` if a template is none."""
    if not _PART.search(template) or set("{}") & set(_PART.sub("", template)):
        raise BadInput(
            "options.login_name", f"{template!r} is not a template for login names", EXAMPLE
        )


def attributes_in(template: str) -> list[str]:
    """The attributes that a template is made of."""
    return [attribute for attribute, _ in _PART.findall(template)]


def login_name(template: str, value_of: Callable[[str], str | None]) -> str:
    """A name as a template says; :class:`BadValue` where an attribute is missing, or empty before
    the character.
    """

    def part(found: re.Match[str]) -> str:
        attribute, end = found.groups()
        value = value_of(attribute)
        if value is None:
            raise BadValue(f"attribute {attribute} is missing", "the attributes of login_name")
        made = value.partition(end)[0] if end else value
        if not made:
            raise BadValue(f"attribute {attribute} {value!r} begins with {end}", "text before it")
        return made

    return _PART.sub(part, template)
