"""Deciding a right at a folder for all accounts at once (docs/rules.md, "Deciding", as sets).

Sets of accounts are Python integers: bit `i` is the account at position `i`, so that one `&` or `|`
answers for all of them at once. For one right at one folder:

    decided   = (inherited | allows) & ~denies        inherited is empty in a sealed folder
    forbidden = forbidden above | forbids

Why this is the walk of the rules, turned round: the walk goes up and takes the nearest level that
says anything. Going down instead, each level overwrites what came from above for whoever it names,
and leaves it for everybody else: an allow adds them, a deny takes them out, and as the deny is
applied last it wins on its level. Nobody has to be asked twice, and no level is looked at again for
the folders below it. What is forbidden only ever grows, as nothing below can undo it, and is taken
off at the very end; a seal empties what was inherited and does not touch what is forbidden.

Reach makes it three such sets side by side (for the folder itself, for its children, for what is
deeper), ``owner`` makes it two (as not the owner, and as the owner). Where nothing differs, the
lists of sets are the very same objects, and that is what makes it fast: `is` then tells in one step
that a whole branch is alike, and most folders of a real tree carry no entry at all.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from ..prepared.people import OWNER
from ..prepared.stores import PreparedFolder, Rule
from ..words.rights import ALL, RIGHTS

Sets = list[int]  # one set of accounts for each right

COUNT = len(RIGHTS)
#: The indices of the rights in each possible set of rights.
INDICES = tuple(tuple(i for i in range(COUNT) if mask >> i & 1) for mask in range(ALL + 1))
NOBODY: Sets = [0] * COUNT


class Flow(NamedTuple):
    """What comes down from a folder: to its children (near), and further (far).

    ``_own`` is as the owner of the thing acted on; ``f_`` is what is forbidden.
    """

    near: Sets
    far: Sets
    near_own: Sets
    far_own: Sets
    f_near: Sets
    f_far: Sets
    f_near_own: Sets
    f_far_own: Sets

    def further(self) -> Flow:
        """What comes down from a folder below that carries nothing: all is far then."""
        alike = self.near is self.far and self.near_own is self.far_own
        if alike and self.f_near is self.f_far and self.f_near_own is self.f_far_own:
            return self
        far, own, f_far, f_own = self.far, self.far_own, self.f_far, self.f_far_own
        return Flow(far, far, own, own, f_far, f_far, f_own, f_own)

    def right_at_child(self, r: int) -> tuple[int, int]:
        """Who is allowed one right at a child that carries nothing: as not its owner, and as its
        owner.
        """
        return self.near[r] & ~self.f_near[r], self.near_own[r] & ~self.f_near_own[r]

    def right_at_deeper(self, r: int) -> tuple[int, int]:
        """The same at a folder further down."""
        return self.far[r] & ~self.f_far[r], self.far_own[r] & ~self.f_far_own[r]

    def at_child(self) -> tuple[Sets, Sets]:
        """Who is allowed at a child that carries nothing: as not its owner, and as its owner."""
        return effective(self.near, self.near_own, self.f_near, self.f_near_own)

    def at_deeper(self) -> tuple[Sets, Sets]:
        """The same at a folder further down."""
        return effective(self.far, self.far_own, self.f_far, self.f_far_own)


def baseline(everybody: int, is_open: bool) -> Flow:
    """What comes down onto a store's root."""
    base = [everybody] * COUNT if is_open else NOBODY
    return Flow(base, base, base, base, NOBODY, NOBODY, NOBODY, NOBODY)


def effective(plain: Sets, owning: Sets, f_plain: Sets, f_owning: Sets) -> tuple[Sets, Sets]:
    """What is decided, less what is forbidden."""
    if f_plain is NOBODY and f_owning is NOBODY:
        return plain, owning
    allowed = [a & ~f for a, f in zip(plain, f_plain, strict=True)]
    if plain is owning and f_plain is f_owning:
        return allowed, allowed
    return allowed, [a & ~f for a, f in zip(owning, f_owning, strict=True)]


class ClosedForm:
    """The closed form for some accounts: `bits` are the accounts of each subject's number.

    `rights` restricts what is computed; the sets of the others stay those of the baseline.
    """

    def __init__(self, bits: Mapping[int, int], everybody: int, rights: int = ALL) -> None:
        self.bits = bits
        self.everybody = everybody
        self.rights = rights

    def at(self, node: PreparedFolder, flow: Flow, is_child: bool) -> tuple[Sets, Sets, Flow]:
        """Who is allowed at a folder (as not its owner, as its owner), and what comes down from it.

        `flow` comes down from the nearest folder above that carries something, its parent if
        `is_child`.
        """
        far, far_own, f_far, f_far_own = flow.far, flow.far_own, flow.f_far, flow.f_far_own
        if is_child:
            near, near_own, f_near, f_near_own = (
                flow.near,
                flow.near_own,
                flow.f_near,
                flow.f_near_own,
            )
        else:
            near, near_own, f_near, f_near_own = far, far_own, f_far, f_far_own
        if node.sealed:
            near = near_own = far = far_own = NOBODY
        # Only what carries `tree` entries alone and got the same for near and far hands the same
        # down near and far: then one list serves for the folder itself, its children, and all
        # below.
        here, child, deep = node.rules
        at, at_own = self._decide(near, near_own, here)
        if here is child and child is deep and near is far and near_own is far_own:
            b_near = b_far = at
            b_near_own = b_far_own = at_own
        else:
            # Children inherit what is far from above: what came near was for this folder, which is
            # the child there.
            b_near, b_near_own = self._decide(far, far_own, child)
            b_far, b_far_own = self._decide(far, far_own, deep)
        here, child, deep = node.forbids
        f_at, f_at_own = self._forbid(f_near, f_near_own, here)
        if here is child and child is deep and f_near is f_far and f_near_own is f_far_own:
            g_near = g_far = f_at
            g_near_own = g_far_own = f_at_own
        else:
            g_near, g_near_own = self._forbid(f_far, f_far_own, child)
            g_far, g_far_own = self._forbid(f_far, f_far_own, deep)
        below = Flow(b_near, b_far, b_near_own, b_far_own, g_near, g_far, g_near_own, g_far_own)
        allowed, allowed_own = effective(at, at_own, f_at, f_at_own)
        return allowed, allowed_own, below

    def _gather(self, rules: tuple[Rule, ...]) -> tuple[dict[int, list[int]], bool]:
        """By right: [denied, allowed, denied to owners besides, allowed to owners besides]."""
        found: dict[int, list[int]] = {}
        bits, wanted, owners = self.bits, self.rights, False
        for rights, sid, effect in rules:
            side = 1 if effect else 0
            if sid == OWNER:
                # Everybody, seen as the owner: which of them is, is only known at the thing acted
                # on.
                owners, side, members = True, side + 2, self.everybody
            else:
                members = bits.get(sid, 0)
                if not members:
                    continue
            for r in INDICES[rights & wanted]:
                four = found.get(r)
                if four is None:
                    four = found[r] = [0, 0, 0, 0]
                four[side] |= members
        return found, owners

    def _decide(self, plain: Sets, owning: Sets, rules: tuple[Rule, ...]) -> tuple[Sets, Sets]:
        """decided = (inherited | allows) & ~denies, as not the owner and as the owner."""
        if not rules:
            return plain, owning
        found, owners = self._gather(rules)
        if not found:
            return plain, owning
        decided = plain.copy()
        for r, (deny, allow, _, _) in found.items():
            decided[r] = (plain[r] | allow) & ~deny if deny else plain[r] | allow
        if plain is owning and not owners:
            return decided, decided
        decided_own = owning.copy()
        for r, (deny, allow, deny_own, allow_own) in found.items():
            decided_own[r] = (owning[r] | allow | allow_own) & ~(deny | deny_own)
        return decided, decided_own

    def _forbid(self, plain: Sets, owning: Sets, rules: tuple[Rule, ...]) -> tuple[Sets, Sets]:
        """Forbidden above, and by these rules besides; none of them is an allow."""
        if not rules:
            return plain, owning
        found, owners = self._gather(rules)
        if not found:
            return plain, owning
        more = plain.copy()
        for r, four in found.items():
            more[r] |= four[0]
        if plain is owning and not owners:
            return more, more
        more_own = owning.copy()
        for r, four in found.items():
            more_own[r] |= four[0] | four[2]
        return more, more_own
