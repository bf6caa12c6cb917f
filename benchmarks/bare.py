"""The bare closed form on one store: no virtual paths, no owner, no reach, nothing shared but sets.

What the whole map is compared with: for every folder with entries and every right,
``decided = (up | A) & ~D`` and ``effective = decided & ~F``; folders without entries take their
parent's.
"""

from __future__ import annotations

from drawknife.core.prepared.prepared import Prepared
from drawknife.core.prepared.stores import PreparedStore
from drawknife.core.words.rights import RIGHTS


def bare_closed_form(prepared: Prepared, store: PreparedStore, bits: dict[int, int]) -> int:
    """Compute it for all accounts; returns how many folders there were."""
    everybody = (1 << len(prepared.people.accounts)) - 1
    count = len(RIGHTS)
    base = [everybody if store.open else 0] * count
    none = [0] * count
    stack: list[tuple[str, list[int], list[int], list[int]]] = [("", base, none, base)]
    folders = store.store.folders
    for key, folder in zip(store.order, folders, strict=True):
        while not key.startswith(stack[-1][0]):
            stack.pop()
        _, up, above, result = stack[-1]
        node = store.marked.get(folder.path)
        if node is None or not folder.entries:
            stack.append((key + "\x00" if key else "", up, above, result))
            continue
        allows, denies, forbids = none.copy(), none.copy(), none.copy()
        for rights, sid, effect in node.rules[2]:
            side, members = allows if effect else denies, bits.get(sid, 0)
            for r in range(count):
                if rights >> r & 1:
                    side[r] |= members
        for rights, sid, _ in node.forbids[2]:
            members = bits.get(sid, 0)
            for r in range(count):
                if rights >> r & 1:
                    forbids[r] |= members
        if node.sealed:
            up = none
        decided = [(u | a) & ~d for u, a, d in zip(up, allows, denies, strict=True)]
        forbidden = [a | f for a, f in zip(above, forbids, strict=True)]
        result = [d & ~f for d, f in zip(decided, forbidden, strict=True)]
        stack.append((key + "\x00" if key else "", decided, forbidden, result))
    return len(folders)
