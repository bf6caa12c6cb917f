"""Text that another machine exported: UTF-8, or UTF-16 with its mark; lines may end as
on Windows.
"""

from __future__ import annotations

import codecs

from drawknife.core.words.errors import BadInput


def exported_bytes(data: bytes) -> bytes:
    """The text as UTF-8 without a mark, with lines that end in a line feed.

    Bytes that are no UTF-8 stay as they are.
    """
    if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        try:
            data = data.decode("utf-16").encode()
        except UnicodeError:
            raise BadInput("", "the text begins as UTF-16 and is not", "UTF-8 or UTF-16") from None
    return data.removeprefix(codecs.BOM_UTF8).replace(b"\r\n", b"\n")


def exported_text(data: bytes, where: str) -> str:
    """The same as text; :class:`BadInput` at `where` if it is neither UTF-8 nor UTF-16."""
    try:
        return exported_bytes(data).decode()
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise BadInput(
            f"{where}:{line}", "the text is neither UTF-8 nor UTF-16", "a file saved as UTF-8"
        ) from None
