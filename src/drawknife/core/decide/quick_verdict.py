"""The quick way to a verdict: the gates of a plain question, and what was found lately.

Hot, and so written without a call or an object that can be spared. It answers questions without an
endpoint that act on one place; all others, and every sentence, are for :mod:`gates`, which the
tests hold it against.
"""

from __future__ import annotations

from collections.abc import Callable

from ..prepared.namespace import Namespace
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..prepared.question import Question
from ..words.rights import BIT, ENTER
from .disk_gate import quick_disk
from .folders import walk_up

#: What :func:`quick_gate` says of a question that it does not answer.
ASK_THE_GATES = "ask the gates"
#: So many answers, and so many sentences, are kept, of locations up to so many characters: some ten
#: megabytes.
KEPT_VERDICTS, KEPT_SENTENCES, KEPT_LENGTH = 50_000, 10_000, 250
_NOT_KEPT = "not kept"

#: Which folder decides: the location itself, the folder that it is in, or itself with passing asked
#: of its parent only.
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
    """The gate that refuses, None where none does, or ASK_THE_GATES.

    What is decided of a folder is kept for a while: who asks of one file asks of the next in it.
    """
    account = prepared.people.asked.get(question.account)
    plan = _PLAN.get(question.action)
    if account is None or plan is None or question.endpoint is not None:
        return ASK_THE_GATES
    bit, where, on_file, adds = plan
    paths = prepared.virtual_paths
    space = None
    for known, found in account.namespaces:
        if known is paths:
            space = found
            break
    if space is None or (adds and prepared.has_limits) or question.combination is not None:
        return ASK_THE_GATES
    path = question.path
    if where != _ITSELF and (path in space.served or path in space.above or path in space.unserved):
        return ASK_THE_GATES  # there is no file, and no folder to be made or deleted
    location = path[: path.rindex("/")] or "/" if where == _PARENT else path
    if question.owner is not None:
        # Whom the question names may be the owner of a folder that is not recorded.
        if not on_file or question.owner != account.account.name:
            return ASK_THE_GATES
        bit = -bit
    key = (account.index, bit, location)
    gate = prepared.decided.get(key, _NOT_KEPT)
    if gate is _NOT_KEPT:
        gate = _gate(
            prepared,
            account,
            space,
            location,
            abs(bit),
            deleting=where == _DELETED,
            own=(bit < 0) if on_file else None,
        )
        if gate is None and prepared.disks:
            # What the disk lets is the same of all files of a folder, too, where the question names
            # none of its combinations.
            at = space.resolve(path).place
            gate = (
                ASK_THE_GATES
                if at is None
                else quick_disk(prepared, account, at.store, question, at.path)
            )
        if len(location) <= KEPT_LENGTH:
            if len(prepared.decided) >= KEPT_VERDICTS:
                prepared.decided.clear()
            prepared.decided[key] = gate
    return gate


def kept_sentence(
    prepared: Prepared, question: Question, find: Callable[[], tuple[str, str]]
) -> tuple[str, str]:
    """The reason and the sentence of a refusal at the folder gate, which says the same of all files
    of a folder.
    """
    path = question.path
    location = path[: path.rindex("/")] or "/" if _PLAN[question.action][1] == _PARENT else path
    key = (question.account, question.action, question.owner, location)
    found = prepared.sentences.get(key)
    if found is None:
        found = find()
        if len(location) <= KEPT_LENGTH:
            if len(prepared.sentences) >= KEPT_SENTENCES:
                prepared.sentences.clear()
            prepared.sentences[key] = found
    return found


def _gate(
    prepared: Prepared,
    account: PreparedAccount,
    space: Namespace,
    location: str,
    bit: int,
    *,
    deleting: bool,
    own: bool | None,
) -> str | None:
    """The gate at which a right is refused at the folder at a location; `deleting` it asks passing
    of its parent only.

    `own`: whether a file in it is the account's; None: the folder itself is acted on.
    """
    # The virtual path: the longest that is a prefix.
    at = space.beginning(location)
    served = space.served.get(at)
    while served is None:
        if at in space.unserved or at == "/":
            return ASK_THE_GATES
        at = at[: at.rindex("/")] or "/"
        served = space.served.get(at)
    if served.ceiling & (bit | ENTER) != bit | ENTER:
        return "virtual path"

    # The folder that decides.
    store_name, top = served.place
    store = prepared.stores[store_name]
    folder = (
        top
        if location == at
        else (top if top != "/" else "") + (location[len(at) :] if at != "/" else location)
    )
    node, depth = store.nearest(folder)
    owns = (
        own if own is not None else depth == 0 and node is not None and node.owner == account.index
    )
    if not walk_up(store, node, depth, bit, account.who_owning if owns else account.who):
        return "folder"

    # Passing through, from the folder that has to be entered last up to where the virtual path
    # leads.
    last = folder
    if deleting:
        # The folder that holds it has a say, too: there, it counts as a file would.
        last = folder[: folder.rindex("/")] or "/"
        node, depth = store.nearest(last)
        if not walk_up(store, node, depth, bit, account.who_owning if owns else account.who):
            return "folder"
    while True:
        owns = depth == 0 and node is not None and node.owner == account.index
        if not walk_up(store, node, depth, ENTER, account.who_owning if owns else account.who):
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
    return None
