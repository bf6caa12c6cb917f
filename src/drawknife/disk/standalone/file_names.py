"""Names on a disk: as a model has them, and as people read them."""

from __future__ import annotations

import os
import unicodedata


def location_of(above: str, name: bytes) -> str | None:
    """Where a folder is in its store; None if no model can hold its name (Unicode NFC, no control
    characters).
    """
    try:
        text = name.decode("utf-8")
    except UnicodeDecodeError:
        return None
    if unicodedata.normalize("NFC", text) != text or any(
        unicodedata.category(c) == "Cc" for c in text
    ):
        return None
    return f"{above.rstrip('/')}/{text}"


def shown(name: bytes) -> str:
    """A name or path for people, without control characters."""
    text = os.fsdecode(name)
    return text if text.isprintable() else ascii(text)[1:-1]
