"""The quick way to a verdict: the gates of a plain question in one function.

Hot, and so written without a call or an object that can be spared. It answers questions without an
endpoint that act on one place; all others, and every sentence, are for :mod:`gates`, which the tests
hold it against.
"""

from __future__ import annotations

from ..prepared.prepared import Prepared
from ..prepared.question import Question
from ..words.rights import BIT, ENTER
from .disk_gate import quick_disk
from .folders import walk

#: What :func:`quick_gate` says of a question that it does not answer.
ASK_THE_GATES = "ask the gates"

#: Which folder decides: the location itself, the folder that it is in, or itself with passing asked of its parent only.
_ITSELF, _PARENT, _DELETED = 0, 1, 2
#: For each action its right, the folder that decides, is it done to a file, and does it add bytes.
_PLAN = {
    "enter": (BIT["enter"], _ITSELF, False, False),
    "list": (BIT["list"], _ITSELF, False, False),
    "delete-folder": (BIT["delete-folder"], _DELETED, False, False),
    "make-folder": (BIT["make-folder"], _PARENT, False, False),
    "upload": (BIT["upload"], _PARENT, False, True),
    "download": (BIT["download"], _PARENT, True, False),
    "overwrite": (BIT["overwrite"], _PARENT, True, True),
    "append": (BIT["append"], _PARENT, True, True),
    "delete-file": (BIT["delete-file"], _PARENT, True, False),
}


def quick_gate(prepared: Prepared, question: Question) -> str | None:
    """The gate that refuses, None where none does, or ASK_THE_GATES."""
    account = prepared.people.asked.get(question.account)
    plan = _PLAN.get(question.action)
    if account is None or plan is None or question.endpoint is not None:
        return ASK_THE_GATES
    bit, where, on_file, adds = plan
    # Whom the question names may be the owner of a folder that is not recorded.
    unsure = (question.owner is not None and not on_file) or (adds and prepared.has_limits)
    space = next((found for paths, found in account.namespaces if paths is prepared.virtual_paths), None)
    if unsure or space is None:
        return ASK_THE_GATES
    path = question.path

    # The virtual path: the longest that is a prefix.
    at = space.beginning(path)
    served = space.served.get(at)
    while served is None:
        if at in space.unserved or at == "/":
            return ASK_THE_GATES
        at = at[: at.rindex("/")] or "/"
        served = space.served.get(at)
    if served.ceiling & (bit | ENTER) != bit | ENTER:
        return "virtual path"
    if where != _ITSELF and (path in space.served or path in space.above):
        return ASK_THE_GATES

    # The folder that decides.
    store_name, top = served.place
    store = prepared.stores[store_name]
    place = top if path == at else (top if top != "/" else "") + (path[len(at) :] if at != "/" else path)
    folder = (place[: place.rindex("/")] or "/") if where == _PARENT else place
    node, depth = store.nearest(folder)
    if on_file:
        owns = question.owner is not None and question.owner == account.account.name
        if question.owner is not None and not owns:
            return ASK_THE_GATES
    else:
        owns = depth == 0 and node is not None and node.owner == account.index
    if not walk(store, node, depth, bit, account.who_owning if owns else account.who):
        return "folder"

    # Passing through, from the folder that has to be entered last up to where the virtual path leads.
    last = folder
    if where == _DELETED:
        last = folder[: folder.rindex("/")] or "/"
        node, depth = store.nearest(last)
    while True:
        owns = depth == 0 and node is not None and node.owner == account.index
        if not walk(store, node, depth, ENTER, account.who_owning if owns else account.who):
            return "folder"
        if node is None or len(last) <= len(top):
            break
        if depth == 0 or node.varies:
            last = last[: last.rindex("/")] or "/"
        elif len(node.path) < len(top):
            break
        else:
            last = node.path
        node, depth = store.nearest(last)
    return quick_disk(prepared, account, store_name, question, place) if prepared.disks else None
