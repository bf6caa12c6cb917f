"""How large a body may be: by who sends it, and where."""

from __future__ import annotations

from drawknife.core.words.roles import EDITOR, OWNER, covers
from drawknife.records.tokens import Holder

PREFIX = "/api/v1"
#: Bytes that may be sent without a token or session, by SCIM, by everybody else, and where whole
#: models are sent.
LARGEST_UNASKED, LARGEST_PROVISIONED, LARGEST_BODY, LARGEST_MODEL = 2**16, 2**20, 2**24, 2**30
#: The routes of large bodies, and the role that may send them: who has another sends no more than
#: elsewhere.
LARGE = {
    f"{PREFIX}/model": OWNER,
    f"{PREFIX}/model/preview": OWNER,
    f"{PREFIX}/model/losses": OWNER,
    f"{PREFIX}/censuses": EDITOR,
}


def largest_body(path: str, holder: Holder | None) -> int:
    """Bytes that a body may have at most, sent by a holder of a token or session, or by nobody
    known.
    """
    if holder is None:
        return LARGEST_UNASKED
    if holder.directory is not None:
        return LARGEST_PROVISIONED
    return LARGEST_MODEL if path in LARGE and covers(holder.role, LARGE[path]) else LARGEST_BODY
