"""Text that shows what it says: without characters that move a cursor, ring, turn the direction, or
forge a line.
"""

from __future__ import annotations

import re
import unicodedata

#: C0 and C1 control characters but line feed and tab, DEL, separators of lines and paragraphs, and
#: marks of direction (Unicode Standard Annex 9, section 2).
HIDDEN = "\x00-\x08\x0b-\x1f\x7f-\x9f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069"
_IN_TEXT = re.compile(f"[{HIDDEN}]")
_IN_A_LINE = re.compile(f"[{HIDDEN}\t\n]")


def hidden_in(text: str, lines: bool = False) -> str | None:
    """The first character that does not show what it is, as ``U+001B``; None if there is none.

    Line feeds and tabs count unless the text may have several `lines`; tabs never belong to a line.
    """
    found = (_IN_TEXT if lines else _IN_A_LINE).search(text)
    return None if found is None else f"U+{ord(found[0]):04X}"


def escaped(text: str) -> str:
    """The same with what is hidden in it visible, as ``\\u001b``; line feeds and tabs stay."""
    return _IN_TEXT.sub(lambda found: f"\\u{ord(found[0]):04x}", text)


def one_line(text: str) -> str:
    """A text from elsewhere as a model can hold it: on one line, in NFC, without characters that
    cannot be seen.
    """
    seen = "".join(c if unicodedata.category(c) not in ("Cc", "Cf", "Cs") else " " for c in text)
    return " ".join(unicodedata.normalize("NFC", seen).split())
