"""What a question demands: where its locations are, which rights it needs there, how far it has to
pass.
"""

from __future__ import annotations

from typing import NamedTuple

from ..words.names import Place, fold, parent
from .namespace import Location, Namespace
from .people import PreparedAccount
from .prepared import Prepared
from .question import Question


class Demand(NamedTuple):
    """A right that the request needs at one folder, and how far it has to pass to use it.

    `own`: None where the folder itself is acted on and its recorded owner counts, else whether what
    is acted on is the account's own. `through` is the last folder that has to be entered; None
    where there is none to pass.
    """

    right: str
    folder: Place
    own: bool | None
    top: str
    through: str | None


class Sites(NamedTuple):
    """Where a question's locations are, and whether a rename stays within one folder."""

    here: Location
    there: Location | None
    same_folder: bool


def locate(namespace: Namespace, question: Question) -> Sites:
    """Resolve the locations of a question."""
    here = namespace.resolve(question.path)
    if question.to is None:
        return Sites(here, None, False)
    there = namespace.resolve(question.to)
    one, other = parent(question.path), parent(question.to)
    same = one == other or (
        (place := namespace.resolve(one).place) is not None
        and place == namespace.resolve(other).place
    )
    return Sites(here, there, same)


def needed_rights(question: Question, sites: Sites) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The rights needed at the location and, for a rename, at the destination."""
    if sites.there is None:
        return (question.action,), ()
    if question.thing == "folder":
        return ("rename",), () if sites.same_folder else ("make-folder",)
    if question.replaces:
        return ("rename",), ("overwrite",)
    return ("rename",), () if sites.same_folder else ("upload",)


def demands(
    prepared: Prepared, account: PreparedAccount, question: Question, sites: Sites
) -> list[Demand]:
    """What has to be allowed by the entries of folders.

    Locations outside the stores demand nothing.
    """
    out = []
    rights_here, rights_there = needed_rights(question, sites)
    here, there = sites.here, sites.there
    if here.place is not None and here.served is not None:
        own = question.owner is not None and fold(question.owner) == fold(account.name)
        recorded = prepared.stores[here.place.store].folder(here.place.path) is not None
        # The owner that a request names is that of a file, or of a folder that nobody has recorded.
        named = own if question.on_file or (own and not recorded) else None
        top = here.served.place.path
        out.append(_demand(rights_here[0], here.place, top, question.on_file, named))
        if question.moves_folder and here.place.path != top:
            out.append(_of_holder(prepared, account, rights_here[0], here.place, top, named))
    if there is not None and there.place is not None and there.served is not None:
        for right in rights_there:
            out.append(_demand(right, there.place, there.served.place.path, True, False))
    return [d for d in out if d is not None]


def _of_holder(
    prepared: Prepared,
    account: PreparedAccount,
    right: str,
    place: Place,
    top: str,
    named: bool | None,
) -> Demand:
    """The same right at the folder that holds a folder, which counts there as a file would
    (docs/rules.md, "Rights").
    """
    own = owns_folder(prepared, account, place) if named is None else named
    return Demand(right, Place(place.store, parent(place.path)), own, top, None)


def owns_folder(prepared: Prepared, account: PreparedAccount, place: Place) -> bool:
    """Return whether the account is the recorded owner of a folder."""
    node = prepared.stores[place.store].marked.get(place.path)
    return node is not None and node.owner == account.index


def _demand(right: str, place: Place, top: str, on_file: bool, own: bool | None) -> Demand | None:
    store, path = place
    if right in ("enter", "list"):
        return Demand(right, place, own, top, path)
    if right in ("upload", "make-folder"):
        # The thing does not exist yet: its parent decides. At a virtual path there is no such
        # folder.
        return (
            None
            if path == top
            else Demand(right, Place(store, parent(path)), None, top, parent(path))
        )
    if on_file:
        return (
            None
            if path == top
            else Demand(right, Place(store, parent(path)), own, top, parent(path))
        )
    return Demand(right, place, own, top, None if path == top else parent(path))
