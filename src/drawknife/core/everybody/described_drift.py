"""Where a tree with descriptors differs from the model, for everybody whose identifier is known."""

from __future__ import annotations

from typing import NamedTuple

from ..disk.described import DescribedTree
from ..model.descriptors import ANONYMOUS, AUTHENTICATED, EVERYONE
from ..model.items import DescriptorReading
from ..model.nfs4 import ANONYMOUS_AT, AUTHENTICATED_AT, EVERYONE_AT
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..words.names import Place, tree_key
from ..words.rights import FILE_RIGHTS, INDEX, RIGHTS
from ..words.sizes import number_of
from .access_map import AccessMap
from .cell import Cell
from .drift import MOST_FOLDERS, ON_FOLDERS, Drift, DriftFound, folded, is_modelled, why_not


class Tokens:
    """The identifiers of the accounts of a model: their own, and all that they count as."""

    def __init__(self, prepared: Prepared, reading: DescriptorReading) -> None:
        self._of = {line.subject: line.sid for line in reading.names}
        self._own = {
            line.subject.name: line.sid for line in reading.names if line.subject.kind == "account"
        }
        self._prepared = prepared

    def me(self, account: PreparedAccount) -> str | None:
        """The identifier of an account itself; None where none is known."""
        return self._own.get(account.name)

    def token(self, account: PreparedAccount) -> frozenset[str]:
        """All that an account counts as."""
        found = {self._of[subject] for subject in account.standing.ranks if subject in self._of}
        is_anonymous = account.account.kind == "anonymous"
        besides = (ANONYMOUS, ANONYMOUS_AT) if is_anonymous else (AUTHENTICATED, AUTHENTICATED_AT)
        return frozenset({*found, EVERYONE, EVERYONE_AT, *besides})


def described_drift(
    prepared: Prepared,
    reading: DescriptorReading,
    only: list[str] | None = None,
    fold_rows: bool = True,
) -> DriftFound:
    """The drift of a store with descriptors: folder by folder, on the folder, on others' files in
    it, and on one's own.
    """
    tree, tokens = DescribedTree(reading.folders), Tokens(prepared, reading)
    recorded = {f.path for f in prepared.stores[reading.store].store.folders}
    paths = sorted(recorded | tree.listed.keys(), key=tree_key)
    rows: list[Drift] = []
    without = accounts = folders = more = 0
    for account in prepared.model.accounts:
        if only is not None and account.name not in only:
            continue
        who = prepared.account(account.name)
        assert who is not None
        me = tokens.me(who)
        if me is None:
            without += 1
        elif folders > MOST_FOLDERS:
            more += 1
        else:
            accounts += 1
            cells = [
                c
                for c in AccessMap(prepared, [who.index]).cells({reading.store: paths})
                if c.members and c.segment
            ]
            folders += len(cells)
            one = _OfOne(prepared, tree, who, me, tokens.token(who))
            compared = (
                _compare(one, cell)
                for cell in sorted(cells, key=lambda cell: tree_key(cell.location))
            )
            found = (row for row in compared if row is not None)
            rows += folded(found) if fold_rows else found
    left = list(reading.notes)
    left += [f"{more:,} more accounts were not compared: ask for one of them"] if more else []
    if without:
        left.append(
            f"of {number_of(without, 'account')} no identifier is known: name them with the reading"
        )
    return DriftFound(tuple(rows), accounts, folders, tuple(left))


class _OfOne(NamedTuple):
    """One account, with its identifier and all that it counts as."""

    prepared: Prepared
    tree: DescribedTree
    account: PreparedAccount
    me: str
    token: frozenset[str]


def _compare(one: _OfOne, cell: Cell) -> Drift | None:
    """One folder of one account; None where both say the same."""
    place, account = cell.place, one.account
    assert place is not None
    refused, wider = [], []
    for right in (*RIGHTS, *ON_FOLDERS):
        both = _both(one, cell, right)
        refused += [right] if any(modelled and not there for modelled, there in both) else []
        wider += [right] if any(there and not modelled for modelled, there in both) else []
    if not refused and not wider:
        return None
    reason = server = None
    if refused:
        reason = f"{account.name} may not {refused[0]} in {place}: {_why(one, place, refused[0])}"
    if wider:
        server = why_not(one.prepared, account, cell.location, wider[0])
    return Drift(
        account.name, one.me, cell.location, place, tuple(refused), tuple(wider), reason, server
    )


def _both(one: _OfOne, cell: Cell, right: str) -> list[tuple[bool, bool]]:
    """The answers of model and tree; two for a right on files: of others' and of its own."""
    path = cell.path
    if path == "/" and right in ("delete-folder", "rename-folder"):
        return []
    if right in ON_FOLDERS:
        action = ON_FOLDERS[right]
        modelled = is_modelled(one.prepared, one.account, cell.location, action)
        return [(modelled, one.tree.allows_on_folder(one.token, path, action))]
    plain, owning = (bool(sides[INDEX[right]] & 1) for sides in (cell.plain, cell.owning))
    if right not in FILE_RIGHTS:
        return [(plain, one.tree.allows_on_folder(one.token, path, right))]
    sides = ((plain, False), (owning, True))
    return [
        (modelled, one.tree.allows_on_file(one.token, one.me, path, right, own))
        for modelled, own in sides
    ]


def _why(one: _OfOne, place: Place, right: str) -> str:
    closed = one.tree.not_passed(one.token, place.path)
    if closed is not None and closed != place.path:
        return f"{place.store}:{closed} on the way cannot be searched"
    if right in FILE_RIGHTS:
        ace = one.tree.decides_on_file(one.token, place.path, right)
    else:
        ace = one.tree.decides_on_folder(one.token, place.path, ON_FOLDERS.get(right, right))
    return "no entry of its list allows it" if ace is None else f"{ace} decides"
