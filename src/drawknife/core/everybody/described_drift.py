"""Where a tree with descriptors differs from the model, for everybody whose identifier is known."""

from __future__ import annotations

from ..disk.described import DescribedTree
from ..model.descriptors import ANONYMOUS, AUTHENTICATED, EVERYONE
from ..model.items import DescriptorReading
from ..model.nfs4 import ANONYMOUS_AT, AUTHENTICATED_AT, EVERYONE_AT
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..words.names import Place, tree_key
from ..words.rights import FILE_RIGHTS, RIGHTS
from ..words.sizes import number_of
from .access_map import AccessMap
from .cell import Cell
from .drift import MOST_FOLDERS, Drift, DriftFound, folded, why_not


class Tokens:
    """The identifiers of the accounts of a model: their own, and all that they count as."""

    def __init__(self, prepared: Prepared, reading: DescriptorReading) -> None:
        self._of = {line.subject: line.sid for line in reading.names}
        self._own = {line.subject.name: line.sid for line in reading.names if line.subject.kind == "account"}
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
    prepared: Prepared, reading: DescriptorReading, only: list[str] | None = None, fold_rows: bool = True
) -> DriftFound:
    """The drift of a store with descriptors: folder by folder, on the folder, on others' files in it, and on one's own."""
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
                c for c in AccessMap(prepared, [who.index]).cells({reading.store: paths}) if c.members and c.segment
            ]
            folders += len(cells)
            token = tokens.token(who)
            compared = (
                _compare(prepared, tree, token, me, who, c) for c in sorted(cells, key=lambda c: tree_key(c.location))
            )
            found = (row for row in compared if row is not None)
            rows += folded(found) if fold_rows else found
    left = list(reading.notes)
    left += [f"{more:,} more accounts were not compared: ask for one of them"] if more else []
    if without:
        left.append(f"of {number_of(without, 'account')} no identifier is known: name them with the reading")
    return DriftFound(tuple(rows), accounts, folders, tuple(left))


def _compare(
    prepared: Prepared, tree: DescribedTree, token: frozenset[str], me: str, who: PreparedAccount, cell: Cell
) -> Drift | None:
    place = cell.place
    assert place is not None
    refused, wider = [], []
    for number, right in enumerate(RIGHTS):
        if place.path == "/" and right == "delete-folder":
            continue
        both = [(cell.plain[number] & 1, tree.allows(token, me, place.path, right))]
        if right in FILE_RIGHTS:
            both.append((cell.owning[number] & 1, tree.allows(token, me, place.path, right, own=True)))
        refused += [right] if any(let and not there for let, there in both) else []
        wider += [right] if any(there and not let for let, there in both) else []
    if not refused and not wider:
        return None
    reason = None
    if refused:
        reason = f"{who.name} may not {refused[0]} in {place}: {_why(tree, token, place, refused[0])}"
    server = why_not(prepared, who, cell.location, wider[0]) if wider else None
    return Drift(who.name, me, cell.location, place, tuple(refused), tuple(wider), reason, server)


def _why(tree: DescribedTree, token: frozenset[str], place: Place, right: str) -> str:
    closed = tree.not_passed(token, place.path)
    if closed is not None and closed != place.path:
        return f"{place.store}:{closed} on the way cannot be searched"
    ace = tree.decides(token, place.path, right)
    return "no entry of its list allows it" if ace is None else f"{ace} decides"
