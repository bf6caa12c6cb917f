"""The model with a draft, in the place of the one in force: to look at what applying would do, and
to go on from there.
"""

from __future__ import annotations

from drawknife.answers.drafting import Laid
from drawknife.core.follows.pairing import Renames
from drawknife.core.follows.sign_in_changes import Credentials
from drawknife.core.model.items import Model
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.words.errors import DrawknifeError, NotAllowed
from drawknife.core.words.names import fold
from drawknife.core.words.roles import DRAFTER, covers
from drawknife.records.tokens import Holder

from .current import Current
from .keeping import KeptModel


class ApplyingDraft(KeptModel):
    """As whoever would apply a draft: what is refused for the draft's own sake comes first;
    credentials that come back are known.
    """

    def __init__(
        self, state: Current, holder: Holder, refused: NotAllowed | None, laid: Laid
    ) -> None:
        super().__init__(state, holder)
        self._refused, self._laid = refused, laid

    def may_not(self, before: Model, after: Model, renames: Renames) -> DrawknifeError | None:
        return self._refused or (
            super().may_not(before, after, renames) if covers(self._holder.role, DRAFTER) else None
        )

    def credentials(self) -> Credentials:
        keeper = KeptModel(self._state, self._holder)
        return returning_with(keeper, self._state.snapshot().model, self._laid)


class WithinDraft(KeptModel):
    """The model as it would be with a draft, in the place of the one in force."""

    def __init__(
        self, state: Current, holder: Holder, revision: int, laid: Laid, prepared: Prepared
    ) -> None:
        super().__init__(state, holder)
        self._revision, self._laid, self._prepared = revision, laid, prepared

    def newest(self) -> tuple[int, Prepared]:
        return self._revision, self._prepared

    def credentials(self) -> Credentials:
        keeper = KeptModel(self._state, self._holder)
        return credentials_with(keeper, self._state.snapshot().model, self._laid)


def returning_with(keeper: KeptModel, today: Model, laid: Laid) -> Credentials:
    """The credentials of today, and those that come back with accounts of the past."""
    known = keeper.credentials()
    if known is None or laid.back_from is None:
        return known
    return {**known, **keeper.coming_back(today, laid.model, laid.renames, laid.back_from)}


def credentials_with(keeper: KeptModel, today: Model, laid: Laid) -> Credentials:
    """The kinds of credentials of each account, by its name in the draft.

    A new account has those of its directory only. None where nothing is known of credentials.
    """
    held = returning_with(keeper, today, laid)
    if held is None:
        return None
    origin = laid.renames.origins("account", held)
    return {
        a.name: held.get(
            origin.get(fold(a.name), ""), frozenset({"directory"} if a.source != "local" else ())
        )
        for a in laid.model.accounts
    }
