"""What an account sees when it lists a location (docs/rules.md, "What a listing shows")."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator
from datetime import datetime
from typing import NamedTuple

from ..decide.folders import can_pass
from ..decide.gates import verdict
from ..model.items import Endpoint
from ..prepared.namespace import Location
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..prepared.question import Question, Verdict
from ..prepared.stores import PreparedStore
from ..words.names import Place, base, child, tree_key
from ..words.rights import ENTER


class ListedName(NamedTuple):
    """A name in a listing. `kind`: ``synthetic``, ``virtual path`` or ``folder``."""

    name: str
    location: str
    kind: str
    place: Place | None


def subfolders(store: PreparedStore, path: str) -> Iterator[str]:
    """The names directly in a folder that are recorded or lie above something recorded, sorted."""
    at, stop = store.branch(path)
    prefix = tree_key(path) + "\x00"
    while at < stop:
        key = store.order[at]
        if not key.startswith(prefix) or key == prefix:
            at += 1
            continue
        name = key[len(prefix) :].split("\x00", 1)[0]
        yield name
        at = bisect_left(store.order, prefix + name + "\x01", at, stop)


def list_as(
    prepared: Prepared,
    account: PreparedAccount,
    location: str,
    now: datetime,
    endpoint: Endpoint | None = None,
) -> tuple[Verdict, list[ListedName]]:
    """The verdict on listing `location` as `account`, and the folders that it would see there.

    Folders only: which files lie there, the model does not know.
    """
    name = endpoint.name if endpoint else None
    answer = verdict(prepared, Question(account.name, "list", location, endpoint=name), now)
    if not answer.allowed:
        return answer, []
    namespace = prepared.namespace(account)
    here = namespace.resolve(location)
    names = {
        base(at)
        for at in (*namespace.served, *namespace.above)
        if at != "/" and at.rpartition("/")[0] == location.rstrip("/")
    }
    if here.place is not None:
        names.update(subfolders(prepared.stores[here.place.store], here.place.path))
    seen = []
    for name in sorted(names):
        at = child(location, name)
        there = namespace.resolve(at)
        if at in namespace.served:
            seen.append(ListedName(name, at, "virtual path", there.place))
        elif there.synthetic:
            seen.append(ListedName(name, at, "synthetic", None))
        elif there.place is not None and is_shown(prepared, account, there):
            seen.append(ListedName(name, at, "folder", there.place))
    return answer, seen


def is_shown(prepared: Prepared, account: PreparedAccount, there: Location) -> bool:
    """Is a real subfolder shown: always with `listing: all`, else if the account can enter it.

    Who can list it can enter it, as listing takes passing through it.
    """
    served, place = there.served, there.place
    assert served is not None and place is not None
    if served.listing == "all":
        return True
    return bool(served.ceiling & ENTER) and can_pass(
        prepared.stores[place.store], served.place.path, place.path, account
    )
