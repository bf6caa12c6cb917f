"""Changing a model file: the same changes as in a service, written back to the file."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from pathlib import Path
from tempfile import NamedTemporaryFile

from drawknife.answers.changing import Changing, InMemory
from drawknife.core.follows.pairing import Renames
from drawknife.core.model.items import Model
from drawknife.formats.document import read_document
from drawknife.formats.model_file import model_from
from drawknife.formats.rewritten import rewritten

from .common import FAILED, fail, read_model_file, say, write_output


def file_changing(path: str, out: str | None) -> Changing:
    """Changes of the model in a file, written back to it, or to `out` (``-``: standard output)."""
    data, text = read_document(read_model_file(path))
    model = model_from(data, text)
    target = out or path

    def keep(after: Model, renames: Renames) -> None:
        made, whole = rewritten(text, model, after, renames)
        if target == "-":
            write_output(made)
        else:
            _write(Path(target), made)
        if not whole:
            say(f"drawknife: the comments of {path} could not be kept where the items are now")

    return Changing(InMemory(model, keep), datetime.now(UTC))


def _write(path: Path, text: str) -> None:
    """Put the text in the place of the file, whole or not at all; its mode stays, and a link goes
    on leading to it.

    What is no file, such as a pipe or a device, is written to, and stays what it is.
    """
    path = path.resolve()
    try:
        if path.exists() and not path.is_file():
            with path.open("w", encoding="utf-8") as there:
                there.write(text)
            return
        with NamedTemporaryFile(
            "w", encoding="utf-8", dir=path.parent, prefix=f".{path.name}.", delete=False
        ) as made:
            made.write(text)
            made.flush()
            os.fsync(made.fileno())
        os.chmod(made.name, path.stat().st_mode & 0o7777 if path.exists() else 0o666 & ~_umask())
        os.replace(made.name, path)
    except OSError as error:
        fail(FAILED, f"{path} cannot be written: {error.strerror}")


def _umask() -> int:
    found = os.umask(0)
    os.umask(found)
    return found
