"""A thing of a model as a person names it: what kind it is, and what it is called."""

from __future__ import annotations

from drawknife.core.model.kinds import FOLDER, KINDS, NETWORK, SETTING, VIRTUAL_PATH
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import BadValue, parse_place


def thing_of(text: str) -> tuple[str, str, str]:
    """A section, a name in it, and how a line of text names the thing: of ``group:NAME``,
    ``STORE:/path``, ``/path``.

    Raises :class:`BadInput` for what is none of these.
    """
    if text.startswith("/"):
        return VIRTUAL_PATH.section, text, text
    kind, colon, name = text.partition(":")
    if colon and name.startswith("/"):
        try:
            return FOLDER.section, str(parse_place(text)), text
        except BadValue as bad:
            raise BadInput("about", str(bad), bad.expected) from None
    if colon and kind in KINDS and kind not in (SETTING.name, VIRTUAL_PATH.name) and name:
        return KINDS[kind].section, name, text if kind in ("account", "group", "unit") else name
    known = ", ".join(
        f"{k}:NAME"
        for k in KINDS
        if k not in (SETTING.name, VIRTUAL_PATH.name, FOLDER.name, NETWORK)
    )
    raise BadInput("about", f"{text!r} names no thing", f"{known}, STORE:/path, or a virtual path")
