"""Reports that somebody signs by a link: open to whoever has its code, and to nobody else."""

from __future__ import annotations

import json

import structlog
from flask import Response, request

from drawknife import messages as msg
from drawknife.documents.words import check_decided
from drawknife.records import reports as records
from drawknife.records.reports import KeptReport

from ..problems import problem
from ..review_links import opened
from ..security import REFUSALS, too_many
from ..signing import Signer, sign
from .common import answer, blueprint, current, problems
from .reports import whole_report

api = blueprint("reviews", "Signing a report by a link", open_to_all=True)
log = structlog.get_logger()
_OPEN = "After twenty wrong codes of an address within a minute the next are not looked at."


@api.post(
    "/reviews",
    summary="The report that the code of a link opens",
    description=_OPEN,
    responses={200: msg.Review, **problems(401, 413, 429)},
)
def review(body: msg.ReviewCode) -> Response:
    found = _found(body.code)
    if isinstance(found, Response):
        return found
    kept, _ = found
    from drawknife.documents import page

    report = whole_report(kept)
    return answer(msg.Review(number=kept.number, title=report.title, html=page.body(report)))


@api.post(
    "/reviews/signed",
    summary="Sign the report that the code of a link opens; the link is good no more then",
    description=_OPEN,
    responses={200: msg.Signed, **problems(401, 409, 413, 429)},
)
def sign_review(body: msg.ReviewDone) -> Response:
    found = _found(body.code)
    if isinstance(found, Response):
        return found
    kept, signer = found
    check_decided(body.decided)
    returned = {"report": kept.number, "decided": [d.model_dump() for d in body.decided]}
    sign(
        current(),
        kept,
        body.decided,
        signer,
        json.dumps(returned, ensure_ascii=False, indent=1).encode(),
    )
    done = records.find(current().database, kept.number).signed
    assert done is not None
    return answer(msg.Signed.model_validate({**done["summary"], "draft": None}))


def _found(code: str) -> tuple[KeptReport, Signer] | Response:
    """The report of a code and who signs it, or the refusal."""
    address = request.remote_addr or ""
    wait = REFUSALS.wait(address)
    if wait:
        return too_many(wait)
    found = opened(current(), code)
    if found is None:
        REFUSALS.note(address)
        log.warning("link refused", address=address, path=request.path)
        detail = (
            "this link was used, is too old, or was never sent. Ask whoever sent it for another"
            " one."
        )
        return problem("link-refused", "Link refused", 401, detail)
    _, kept, signer = found
    return kept, signer
