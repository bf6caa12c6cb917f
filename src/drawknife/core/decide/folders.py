"""Deciding a right at a folder (docs/rules.md, "Deciding at a folder").

:func:`decide` is the hot walk: it reads prepared folders only and allocates nothing. The slow,
literal restatement that it is compared with stands in the tests; :mod:`explain` tells each entry's
part in it.
"""

from __future__ import annotations

from typing import NamedTuple

from ..prepared.people import PreparedAccount
from ..prepared.stores import PreparedFolder, PreparedStore
from ..words.rights import ENTER


def walk_up(
    store: PreparedStore, node: PreparedFolder | None, depth: int, bit: int, who: frozenset[int]
) -> bool:
    """Is the right `bit` allowed, `depth` levels below `node`, to one who counts as `who`?

    Goes from the nearest folder that carries anything to the next above, and not from folder to
    folder. Once a level has allowed it, only a forbid further up can still refuse, and
    `forbids_above` tells whether there is any for this right.
    """
    decided = False
    while node is not None:
        at = depth if depth < 2 else 2  # entries speak at depth 0, at 1, and deeper: see SPEAKS_AT
        if not decided:
            if node.ruled & bit:  # no entry of it lists the right: spare looking at each
                for rights, sid, effect in node.rules[at]:
                    if rights & bit and sid in who:
                        if not effect:
                            return (
                                False  # one deny is enough, whatever else the level says, and above
                            )
                        decided = True
            if not decided and node.sealed:
                return False  # nothing from above comes in; a forbid could only refuse, too
        if node.forbids_above & bit:
            for rights, sid, _ in node.forbids[at]:
                if rights & bit and sid in who:
                    return False
        elif decided:
            return True
        depth += node.gap
        node = node.up
    return decided or store.open


def decide(
    store: PreparedStore, path: str, bit: int, account: PreparedAccount, own: bool | None = None
) -> bool:
    """Is the right `bit` allowed to `account` at the folder `path`?

    `own` says whether the account owns the thing acted on; None: the folder itself is acted on.
    """
    node, depth = store.nearest(path)
    if own is None:
        own = node is not None and depth == 0 and node.owner == account.index
    return walk_up(store, node, depth, bit, account.who_owning if own else account.who)


def can_pass(
    store: PreparedStore,
    top: str,
    path: str,
    account: PreparedAccount,
    own_last: bool | None = None,
) -> bool:
    """May the account enter every folder from `top` down to `path`?

    `own_last` says whether `path` itself is the account's own; None: as it is recorded.
    """
    at = path
    while True:
        node, depth = store.nearest(at)
        own = depth == 0 and node is not None and node.owner == account.index
        if own_last and at is path:
            own = True
        if not walk_up(store, node, depth, ENTER, account.who_owning if own else account.who):
            return False
        if len(at) <= len(top) or (node is None and not own_last):
            return True
        # Between a folder that carries something and those below it that carry nothing all are
        # alike, unless a line reaches only some depths or names the owner (`varies`): then each is
        # asked, else the walk jumps to that folder.
        if own_last or node is None or depth == 0 or node.varies:
            own_last = None
            at = at[: at.rindex("/")] or "/"
        elif len(node.path) < len(top):
            return True  # all alike from here up to the top
        else:
            at = node.path


class FolderOnTheWay(NamedTuple):
    """A folder on the way down, and whether the account may enter it; `alike` more below it are the
    same.
    """

    path: str
    enters: bool
    alike: int


def on_the_way(
    store: PreparedStore,
    top: str,
    path: str,
    account: PreparedAccount,
    own_last: bool | None = None,
) -> list[FolderOnTheWay]:
    """The folders from `top` down to `path`, the uppermost first.

    From the third level below a folder that carries something, all is as on the second: these are
    counted, not told.
    """
    rest = path if top == "/" else path[len(top) :]
    found: list[FolderOnTheWay] = []
    at = top
    node, depth = store.nearest(at)
    for segment in [None, *(rest.split("/")[1:] if rest not in ("", "/") else [])]:
        if segment is not None:
            at = f"{at}/{segment}" if at != "/" else f"/{segment}"
            there = store.marked.get(at)
            node, depth = (there, 0) if there is not None else (node, depth + 1)
            if depth > 2 and len(found) > 2 and not (own_last and at == path):
                found[-1] = found[-1]._replace(alike=found[-1].alike + 1)
                continue
        own = (depth == 0 and node is not None and node.owner == account.index) or bool(
            own_last and at == path
        )
        enters = walk_up(store, node, depth, ENTER, account.who_owning if own else account.who)
        found.append(FolderOnTheWay(at, enters, 0))
    return found


def blocked(
    store: PreparedStore,
    top: str,
    path: str,
    account: PreparedAccount,
    own_last: bool | None = None,
) -> list[FolderOnTheWay]:
    """The folders from `top` down to `path` that the account may not enter, the uppermost first."""
    return [way for way in on_the_way(store, top, path, account, own_last) if not way.enters]
