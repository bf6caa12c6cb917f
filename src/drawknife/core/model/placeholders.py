"""Where a virtual path leads: a store folder in which placeholders may stand (docs/rules.md,
"Virtual paths").
"""

import re

from ..words.names import BadValue, check_path, parse_place

PLACEHOLDER = re.compile(r"\{([^{}]*)\}")
PLACEHOLDERS = ("account", "unit", "unit-path", "home")
WHOLE_HOME = "{home}"


def check_leads_to(text: str) -> str:
    """Return `text` if it may stand as where a virtual path leads; raise
    :class:`BadValue` if not.
    """
    expected = "a folder such as homes:/{account}, or {home} alone"
    if text == WHOLE_HOME:
        return text
    for name in PLACEHOLDER.findall(text):
        if name not in PLACEHOLDERS:
            raise BadValue(
                f"{{{name}}} is no placeholder", "{account}, {unit}, {unit-path} or {home}"
            )
        if name == "home":
            raise BadValue(
                "{home} must be the whole of leads_to", "{home}, with nothing before or after it"
            )
    store, colon, path = text.partition(":")
    if colon and "{" in store:
        raise BadValue("a placeholder cannot stand for the store", expected)
    # A stand-in shows whether the fixed parts are a valid path.
    stand_in = PLACEHOLDER.sub("x", path)
    if "{" in stand_in or "}" in stand_in:
        raise BadValue("an unpaired brace", expected)
    parse_place(f"{store}:{stand_in}" if colon else store)
    return f"{store}:{path if path == '/' else path.removesuffix('/')}"


def check_virtual_path(text: str) -> str:
    """Return `text` if it may be the path of a virtual path; raise :class:`BadValue` if not."""
    path = check_path(text)
    for name in PLACEHOLDER.findall(path):
        if name in PLACEHOLDERS:
            raise BadValue(
                f"{{{name}}} in a path stands for nothing: all see the same path",
                "a path such as /home, with {account} in leads_to",
            )
    return path
