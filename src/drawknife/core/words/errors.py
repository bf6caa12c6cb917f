"""Everything that can go wrong as it should, in one family.

    DrawknifeError
    ├── Mistaken              what was given cannot be understood
    │   ├── BadValue          a value breaks a rule of spelling
    │   ├── BadInput          a part of what was asked or sent
    │   └── BadDocument       a document, with every mistake (formats/document.py)
    ├── NotFound              a name that there is none of; the nearest is told
    ├── Refused               it is understood, and the rules do not allow it
    │   ├── ChangeRefused     a change that the model does not allow, with every place in the way
    │   ├── NotAllowed        whoever asks may not do it; what it would take is told
    │   ├── NameTaken         another of a directory that is provisioned has the name
    (records/provisioned.py)
    │   ├── NotKept           a past that was not kept (records/history.py)
    │   └── TooFew            a directory has suddenly far fewer people (directory/plan.py)
    ├── SchemaProblem         a schema of another version (records/database.py)
    ├── Conflict              another revision is in force (records/changes.py)
    └── OutOfReach            something that is needed does not answer
        ├── Unavailable       the database (records/database.py)
        │   ├── Uncertain     it went away at the very end of a change
        │   ├── Outdated      a newer version has changed its schema
        │   └── Unusable      it answers, without tables or permission
        │       └── ReadOnly  it takes no changes
        ├── NoRoom            the database has none (records/database.py)
        ├── DirectoryFailed   a directory (directory/source.py)
        ├── MailRefused       the mail server, for a letter to somebody (service/tidings.py)
        ├── BackupFailed      PostgreSQL's own programs (records/backup.py)
        ├── NotReadable       a file (service/files.py)
        └── Busy              too much at once (service/busy.py)

The service maps them to HTTP in service/problems.py, the command line to exit statuses in
cli/common.py; each once. What the client raises, which knows only what it is told, is in
client/errors.py.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from difflib import get_close_matches
from typing import Any, NamedTuple


class Wrong(NamedTuple):
    """One thing that is wrong: where, what, and what would be right.

    `line` and `found` are of documents.
    """

    where: str
    message: str
    expected: str = ""
    nearest: str | None = None
    line: int | None = None
    found: str | None = None


class DrawknifeError(Exception):
    """The base of all. `places` tells each thing that is wrong."""

    places: Sequence[Wrong] = ()


class Mistaken(DrawknifeError, ValueError):
    """What was given cannot be understood."""


class BadValue(Mistaken):
    """A value that breaks a rule of spelling. `expected` says what would be right."""

    def __init__(self, message: str, expected: str = "") -> None:
        super().__init__(message)
        self.expected = expected
        self.places = [Wrong("", message, expected)]


class BadInput(Mistaken):
    """A part of what was asked or sent: where, what stands there, what would be right."""

    def __init__(
        self, where: str, message: str, expected: str = "", nearest: str | None = None
    ) -> None:
        super().__init__(f"{where}: {message}" if where else message)
        self.where, self.message, self.expected, self.nearest = where, message, expected, nearest
        self.places = [Wrong(where, message, expected, nearest)]

    def as_data(self) -> dict[str, Any]:
        """What is wrong with a question, in the place of its answer."""
        data = {"where": self.where, "message": self.message, "expected": self.expected}
        return {"error": data if self.nearest is None else {**data, "nearest": self.nearest}}


class NotFound(DrawknifeError, LookupError):
    """There is no `kind` of that name.

    `near` is the nearest name that there is; `where` names the field.
    """

    def __init__(
        self,
        kind: str,
        name: str,
        names: Iterable[str] = (),
        where: str = "name",
        expected: str = "",
    ) -> None:
        self.kind, self.name, self.near, self.where = kind, name, nearest(name, names), where
        said = f"there is no {kind} {name!r}"
        super().__init__(said + (f"; did you mean {self.near}?" if self.near else ""))
        expected = expected or f"the name of {'an' if kind[0] in 'aeiou' else 'a'} {kind}"
        self.places = [Wrong(where, said, expected, self.near)]


class Refused(DrawknifeError):
    """It is understood, and the rules do not allow it."""


class NotAllowed(Refused):
    """Whoever asks may not do it. `places` tells what of it, each by itself."""

    def __init__(self, message: str, what: Iterable[str] = ()) -> None:
        super().__init__(message)
        self.places = [Wrong("", x) for x in what]


class Conflict(DrawknifeError):
    """The model is at another revision than the change was made for."""

    def __init__(self, expected: int, found: int) -> None:
        super().__init__(
            f"the model is at revision {found}, and the change was made for revision {expected}"
        )
        self.expected, self.found = expected, found


class OutOfReach(DrawknifeError):
    """Something that is needed does not answer, or not now."""


def nearest(name: str, names: Iterable[str]) -> str | None:
    """The existing name that is most like `name`, if any is."""
    by_fold: dict[str, str] = {}
    for n in names:
        by_fold.setdefault(n.casefold(), n)
    close = get_close_matches(name.casefold(), by_fold, n=1, cutoff=0.6)
    return by_fold[close[0]] if close else None
