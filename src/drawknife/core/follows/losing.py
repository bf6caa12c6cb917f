"""Who can do less after a change than before: the part of what follows that a sync has to be
careful with.
"""

from __future__ import annotations

from datetime import datetime

from ..prepared.prepared import Prepared
from .access_compared import compare_access, with_changed_paths
from .pairing import Pairing, Renames, changed_settings
from .sign_in_changes import SigningIn


def losing(
    before: Prepared, after: Prepared, at: datetime, renames: Renames | None = None
) -> frozenset[str]:
    """The accounts of both, by their names afterwards, that lose a right somewhere, or keep it for
    fewer files.

    With what they may do through an endpoint, as of a moment. Who only cannot sign in any more is
    left out.
    """
    before, after = before.on(at.date()), after.on(at.date())
    pairing = Pairing(before, after, renames)
    affected = pairing.affected()
    signing = SigningIn(pairing, at, None, affected | changed_settings(pairing))
    access, _ = compare_access(pairing, affected, with_changed_paths(pairing), signing)
    common = {after.model.accounts[now].name for _, now in pairing.common}
    return (
        frozenset(
            name for change in access if change.lost or change.narrowed for name in change.accounts
        )
        & common
    )
