"""Before the service serves: the schema, the first model, the first owner and its link."""

from __future__ import annotations

import os
from datetime import timedelta
from pathlib import Path
from tempfile import mkstemp

from drawknife.core.words.names import fold
from drawknife.core.words.sizes import several

from .common import FAILED, check_private, fail, say

LINK_LASTS = timedelta(days=1)
#: Beside the token's file: holds the link that signs the first owner in.
LINK_FILE = "sign-in-link"
#: The owner that is made at first start.
FIRST_OWNER = "administrator"


def keep_link(path: Path, link: str) -> None:
    """Write the link that signs in to a file of its owner's only, in the place of an earlier link;
    nothing else is replaced.
    """
    if path.is_symlink() or (path.exists() and "/sign-in#" not in path.read_text(errors="replace")):
        say(
            f"{path} holds something else and stays as it is; `drawknife administrator link NAME`"
            " prints a link"
        )
        return
    path.unlink(missing_ok=True)
    path.touch(mode=0o600, exist_ok=False)
    path.write_text(link)
    say(f"A link that signs in to the console is in {path}: good once, for a day")


def make_ready(database: str, first_model: Path | None, token_file: Path | None) -> str:
    """Bring the database up to date, and put the first model and token in it.

    Returns the code of a link that signs in, where the token was made; else it is empty.
    """
    from drawknife.formats.document import BadDocument
    from drawknife.formats.model_file import read_model
    from drawknife.records import tokens
    from drawknife.records.changes import replace_model
    from drawknife.records.database import (
        PATIENCE_AT_START,
        Database,
        NoRoom,
        SchemaProblem,
        Unavailable,
        Unusable,
        bring_up_to_date,
    )
    from drawknife.records.snapshots import read_snapshot

    from .common import NOT_SO, faults_of

    try:
        for step in bring_up_to_date(database):
            say(f"database: applied {step}")
        records = Database(
            database, size=0, patience=PATIENCE_AT_START
        )  # the processes are forked after this
        records.open()
        if first_model is not None and read_snapshot(records).revision == 0:
            replace_model(records, read_model(first_model.read_bytes()), "drawknife serve", "load")
            say(f"loaded {first_model}")
        owner = _ensure_token(records, token_file) if token_file is not None else None
        code = tokens.make_token(records, owner, "code", LINK_LASTS) if owner else ""
        records.close()
        return code
    except Unusable as error:
        fail(FAILED, str(error))
    except Unavailable as error:
        fail(FAILED, f"the database cannot be reached: {error}")
    except NoRoom as error:
        fail(FAILED, f"the database has no room: {error}")
    except SchemaProblem as error:
        fail(FAILED, str(error))
    except BadDocument as error:
        fail(NOT_SO, f"{first_model} has mistakes", faults_of(error), str(first_model))


def _ensure_token(records: object, path: Path) -> str | None:
    """Make the first owner and its token on first start, in a file that only its owner can read;
    its name if it was made.

    Where the file is gone, or its token is not valid, a new one takes its place and ends all that
    went before. Whoever starts the service holds its database, and so can always make that owner
    again, by deleting the file. The first start with a database that was restored ends none. None
    where the token is valid, or that owner was removed.
    """
    from drawknife.records import administrators, journal, tokens
    from drawknife.records.backup import note_started, was_restored
    from drawknife.records.database import Database

    assert isinstance(records, Database)
    there = next(
        (a.name for a in administrators.each(records) if fold(a.name) == FIRST_OWNER), None
    )
    is_restored = was_restored(records)
    if path.exists():
        check_private(path)
        if tokens.holder(records, path.read_text().strip(), "token") is not None:
            if is_restored:
                note_started(records)
            return None
        if there is None and (
            owners := [a.name for a in administrators.each(records) if a.role == "owner"]
        ):
            say(
                f"the token in {path} is not valid, and {FIRST_OWNER} is no administrator any more;"
                f" ask {several(owners)}"
            )
            return None
    path.parent.mkdir(parents=True, exist_ok=True)
    name = there or FIRST_OWNER
    # A file of this process only takes the place of the old one when all is done: until then that
    # stays as it is.
    descriptor, part = mkstemp(dir=path.parent, prefix=f".{path.name}.")
    os.close(descriptor)
    try:
        if administrators.ensure_owner(records, name):
            say(f"{name} is an owner now")
        ended = 0 if is_restored else tokens.end_all(records, name)
        Path(part).write_text(tokens.make_token(records, name, called=name, role="owner") + "\n")
        Path(part).replace(path)
    finally:
        Path(part).unlink(missing_ok=True)
    say(
        f"made an administrator's token in {path}"
        + ("; those before it are ended" if ended else "")
    )
    if is_restored:
        note_started(records)
        say(
            "The database was restored: tokens from before still work. `drawknife token list` shows"
            " them."
        )
    if ended:
        journal.note(
            records,
            "drawknife serve",
            f"made a new administrator's token; {ended} tokens and sessions before it ended",
        )
    return name
