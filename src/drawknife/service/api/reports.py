"""Reports: made, had as documents, and signed; what is to go comes back as a draft."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from flask import Response, g, request
from pydantic import BaseModel, Field

from drawknife import messages as msg
from drawknife.answers.reports import compared, still_there
from drawknife.core.words.errors import NotFound
from drawknife.core.words.names import fold
from drawknife.core.words.sizes import number_of
from drawknife.records import reports as records
from drawknife.records.journal import note
from drawknife.records.retention import SIGN_INS
from drawknife.records.sign_ins import last_sign_ins

from ..review_links import send_link
from ..signing import Signer, sign
from .common import Query, answer, ask, blueprint, current, problems, reading

api = blueprint("reports", "Reports of who can get at what, for somebody to sign")

#: The kinds of documents, and their media types.
DOCUMENTS = {
    "pdf": "application/pdf",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    "html": "text/html",
}


class ReportPath(BaseModel):
    number: Annotated[int, Field(ge=1, lt=2**62, description="Its number in the list")]


class DocumentQuery(Query):
    kind: Annotated[Literal["pdf", "xlsx", "html"], Field(description="The kind of document")] = (
        "pdf"
    )


class SignQuery(Query):
    draft: (
        Annotated[
            str,
            Field(
                max_length=64,
                description="Into which draft what is to go is put; left out: a new one",
            ),
        ]
        | None
    ) = None


def _line(kept: records.KeptReport) -> msg.ReportLine:
    signed = None if kept.signed is None else msg.Signed.model_validate(kept.signed["summary"])
    return msg.ReportLine(
        number=kept.number,
        about=kept.about,
        revision=kept.revision,
        made=kept.made,
        made_by=kept.made_by,
        signed=signed,
    )


def whole_report(kept: records.KeptReport) -> msg.Report:
    """A report with all that is known of it."""
    since = None if kept.since is None else _line(records.find(current().database, kept.since))
    decided = [] if kept.signed is None else kept.signed["decided"]
    links = [
        msg.ReviewLink(address=x.address, sent_by=x.administrator, sent=x.sent, expires=x.expires)
        for x in records.links_to(current().database, kept.number)
    ]
    return msg.Report(
        **{
            **_line(kept).model_dump(),
            **kept.document,
            "since": since,
            "decided": decided,
            "links": links,
        }
    )


@api.get("/reports", summary="The reports, the newest first", responses={200: msg.ReportList})
def reports() -> Response:
    return answer(
        msg.ReportList(
            reports=[_line(kept) for kept in records.each(current().database, _only_by())]
        )
    )


def _only_by() -> str | None:
    """Whose reports are shown: with an area that bounds reading, one's own; None: everybody's."""
    return None if reading().area is None else g.who


def _find(number: int) -> records.KeptReport:
    return records.find(current().database, number, _only_by())


@api.post(
    "/reports", summary="Make a report", responses={200: msg.Report, **problems(409, 413, 415)}
)
def make(body: msg.NewReport) -> Response:
    database, asked = current().database, ask()
    about, title, rows, notes = asked.report(body.about)
    before = records.last_signed(database, about, _only_by())
    gone: list[str] = []
    not_removed: list[str] = []
    if before is not None and before.signed is not None:
        earlier = [msg.ReportRow(**row) for row in before.document["rows"]]
        rows, gone = compared(rows, earlier)
        taken = before.signed["summary"]["taken_away"]
        not_removed = still_there(rows, earlier, taken, f"report {before.number}")
    named = asked.people_of(rows)
    seen = last_sign_ins(database, named)
    people = [
        msg.ReportPerson(name=n, display=shown, last_sign_in=seen.get(fold(n)))
        for n, shown in named.items()
    ]
    days = current().retention[SIGN_INS.name]
    within = "" if days is None else f" within the last {number_of(days, 'day')}"
    if seen:
        about_sign_ins = f"Last sign-ins are those that transfer servers reported{within}, by name."
    else:
        about_sign_ins = f"No transfer server reported a sign-in of these people{within}."
    document: dict[str, Any] = {
        "title": title,
        "rows": [r.model_dump() for r in rows],
        "gone": gone,
        "not_removed": not_removed,
        "notes": [*notes, about_sign_ins],
        "people": [p.model_dump(mode="json") for p in people],
    }
    number = records.add(
        database, about, asked.revision, g.who, document, None if before is None else before.number
    )
    note(database, g.who, f"made report {number}, about {about}")
    return answer(whole_report(records.find(database, number)))


@api.get("/reports/<int:number>", summary="A report", responses={200: msg.Report})
def report(path: ReportPath) -> Response:
    return answer(whole_report(_find(path.number)))


@api.get(
    "/reports/<int:number>/document",
    summary="A report as a PDF, a workbook, or a page, to be gone through, or as it was signed",
    responses={
        200: {
            "content": {
                kind: {"schema": {"type": "string", "format": "binary"}}
                for kind in DOCUMENTS.values()
            }
        }
    },
)
def document(path: ReportPath, query: DocumentQuery) -> Response:
    from drawknife.documents import page, paper, workbook

    made = {"pdf": paper, "xlsx": workbook, "html": page}[query.kind]
    found = whole_report(_find(path.number))
    return _file(made.report(found), DOCUMENTS[query.kind], f"report-{path.number}.{query.kind}")


def _file(body: bytes, kind: str, name: str) -> Response:
    response = Response(body, mimetype=kind)
    response.headers["Content-Disposition"] = f'attachment; filename="{name}"'
    return response


@api.get(
    "/reports/<int:number>/returned",
    summary="The document that a report was signed with, as it came back",
    responses={
        200: {
            "content": {
                "application/octet-stream": {"schema": {"type": "string", "format": "binary"}}
            }
        }
    },
)
def returned(path: ReportPath) -> Response:
    kept = _find(path.number)
    body = records.returned(current().database, kept.number)
    if body is None:
        raise NotFound(
            "returned document", str(kept.number), [], "number", "a report that was signed"
        )
    ending = "pdf" if body.startswith(b"%PDF") else "xlsx" if body.startswith(b"PK") else "json"
    return _file(body, "application/octet-stream", f"report-{kept.number}-returned.{ending}")


@api.post(
    "/reports/<int:number>/signed",
    summary="Take back a report that somebody went through: what is to go is put into a draft",
    description=(
        "Whoever sends it has signed it: a person, not a program. The body is the document: the PDF"
        " or workbook with what was decided, or the file that the page saved."
    ),
    responses={200: msg.SignedReport, **problems(403, 409, 413)},
)
def signed(path: ReportPath, query: SignQuery) -> Response:
    from drawknife.documents import apart

    kept = _find(path.number)
    if kept.signed is not None:
        raise records.already_signed(kept.number)
    raw = request.get_data()
    decided = apart.read(raw, kept.number)
    signature = sign(current(), kept, decided, Signer(g.holder), raw, query.draft)
    line = _line(records.find(current().database, kept.number))
    return answer(msg.SignedReport(report=line, says=signature.changes, left=signature.left))


@api.post(
    "/reports/<int:number>/links",
    summary="Mail somebody a link through which they sign a report once",
    description=(
        "Their decisions go into a draft that you begin: they can remove what your role and area"
        " allow you to remove. The service needs a mail server and its public address."
    ),
    responses={200: msg.ReviewLink, **problems(403, 409, 502)},
)
def send(path: ReportPath, body: msg.NewReviewLink) -> Response:
    kept = _find(path.number)
    if kept.signed is not None:
        raise records.already_signed(kept.number)
    return answer(send_link(current(), kept, body, g.holder))
