"""Reports that somebody signs through a link: open to whoever has its code, and to nobody else."""

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
from ..security import REFUSALS, token_in, too_many
from ..signing import Signer, sign
from .common import answer, blueprint, current, problems
from .reports import whole_report

api = blueprint("reviews", "Signing a report through a link", open_to_all=True)
log = structlog.get_logger()
_CODE = (
    "The code of the link stands in the Authorization header, as `Bearer CODE`. An address that"
    " sends twenty wrong codes within a minute has to wait."
)


@api.get(
    "/reviews",
    summary="Show the report of a link",
    description=_CODE,
    responses={200: msg.Review, **problems(401, 429)},
)
def review() -> Response:
    link = _opened()
    if isinstance(link, Response):
        return link
    kept, _ = link
    from drawknife.documents import page

    report = whole_report(kept)
    return answer(msg.Review(number=kept.number, title=report.title, html=page.body(report)))


@api.post(
    "/reviews/signed",
    summary="Sign the report of a link, which ends the link",
    description=_CODE,
    responses={200: msg.Signed, **problems(401, 409, 413, 429)},
)
def sign_review(body: msg.Decisions) -> Response:
    link = _opened()
    if isinstance(link, Response):
        return link
    kept, signer = link
    check_decided(body.decided)
    returned = {"report": kept.number, "decided": [d.model_dump() for d in body.decided]}
    document = json.dumps(returned, ensure_ascii=False, indent=1).encode()
    sign(current(), kept, body.decided, signer, document)
    done = records.find(current().database, kept.number).signed
    assert done is not None
    return answer(msg.Signed.model_validate({**done["summary"], "draft": None}))


def _opened() -> tuple[KeptReport, Signer] | Response:
    """The report of the request's code and who signs it, or the refusal."""
    address = request.remote_addr or ""
    wait = REFUSALS.wait(address)
    if wait:
        return too_many(wait)
    link = opened(current(), token_in(request.headers.get("Authorization", "")))
    if link is None:
        REFUSALS.note(address)
        log.warning("link refused", address=address, path=request.path)
        detail = (
            "This link was used, has expired, or is incomplete. Ask the person who sent it for a"
            " new one."
        )
        return problem("link-refused", "Link refused", 401, detail)
    _, kept, signer = link
    return kept, signer
