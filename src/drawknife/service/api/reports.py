"""Reports: made, had as documents, and signed; what is to go comes back as a draft."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated, Any, Literal

from flask import Response, g, request
from pydantic import BaseModel, Field

from drawknife import messages as msg
from drawknife.answers.drafting import says
from drawknife.answers.reports import compared
from drawknife.core.words.errors import BadInput, Refused
from drawknife.records import reports as records
from drawknife.records.journal import note

from .common import Query, answer, ask, blueprint, current, drafting, problems, reading

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
    kind: Annotated[Literal["pdf", "xlsx", "html"], Field(description="The kind of document")] = "pdf"


class SignQuery(Query):
    draft: (
        Annotated[str, Field(max_length=64, description="Into which draft what is to go is put; left out: a new one")]
        | None
    ) = None


def _line(kept: records.KeptReport) -> msg.ReportLine:
    signed = None if kept.signed is None else msg.Signed.model_validate(kept.signed["summary"])
    return msg.ReportLine(
        number=kept.number, about=kept.about, revision=kept.revision, made=kept.made, made_by=kept.made_by, signed=signed
    )  # fmt: skip


def _report(kept: records.KeptReport) -> msg.Report:
    since = None if kept.since is None else _line(_find(kept.since))
    return msg.Report(**{**_line(kept).model_dump(), **kept.document, "since": since})


@api.get("/reports", summary="The reports, the newest first", responses={200: msg.ReportList})
def reports() -> Response:
    return answer(msg.ReportList(reports=[_line(kept) for kept in records.each(current().database, _only_by())]))


def _only_by() -> str | None:
    """Whose reports are shown: with an area that bounds reading, one's own; None: everybody's."""
    return None if reading().area is None else g.who


def _find(number: int) -> records.KeptReport:
    return records.find(current().database, number, _only_by())


@api.post("/reports", summary="Make a report", responses={200: msg.Report, **problems(409, 413, 415)})
def make(body: msg.NewReport) -> Response:
    database, asked = current().database, ask()
    about, title, rows, notes = asked.report(body.about)
    before = records.last_signed(database, about, _only_by())
    gone: list[str] = []
    if before is not None:
        rows, gone = compared(rows, [msg.ReportRow(**row) for row in before.document["rows"]])
    document: dict[str, Any] = {"title": title, "rows": [r.model_dump() for r in rows], "gone": gone, "notes": notes}
    number = records.add(database, about, asked.revision, g.who, document, None if before is None else before.number)
    note(database, g.who, f"made report {number}, about {about}")
    return answer(_report(records.find(database, number)))


@api.get("/reports/<int:number>", summary="A report", responses={200: msg.Report})
def report(path: ReportPath) -> Response:
    return answer(_report(_find(path.number)))


@api.get(
    "/reports/<int:number>/document",
    summary="A report as a PDF, a workbook, or a page, to be gone through",
    responses={
        200: {"content": {kind: {"schema": {"type": "string", "format": "binary"}} for kind in DOCUMENTS.values()}}
    },
)
def document(path: ReportPath, query: DocumentQuery) -> Response:
    from drawknife.documents import page, paper, workbook

    made = {"pdf": paper, "xlsx": workbook, "html": page}[query.kind]
    found = _report(_find(path.number))
    response = Response(made.report(found), mimetype=DOCUMENTS[query.kind])
    response.headers["Content-Disposition"] = f'attachment; filename="report-{path.number}.{query.kind}"'
    return response


@api.post(
    "/reports/<int:number>/signed",
    summary="Take back a report that somebody went through: what is to go is put into a draft",
    description="Whoever sends it has signed it: a person, not a program. The body is the document: the PDF or workbook with"
    " what was decided, or the file that the page saved.",
    responses={200: msg.SignedReport, **problems(403, 409, 413)},
)
def signed(path: ReportPath, query: SignQuery) -> Response:
    from drawknife.documents import apart

    database = current().database
    kept = _find(path.number)
    if kept.signed is not None:
        raise Refused(f"report {kept.number} is signed already; make another to go through it again")
    rows = _report(kept).rows
    decided = apart.read(request.get_data(), kept.number)
    to_decide = {r.number for r in rows if r.to_decide}
    for d in decided:
        if d.row not in to_decide:
            raise BadInput("document", f"there is nothing to decide of row {d.row}", "a row of the report")
    go = sorted(d.row for d in decided if d.decision == "take away")
    changes, left = ask().taking_away(rows, go) if go else ([], [])
    draft = (query.draft or f"report-{kept.number}") if changes else None
    summary = msg.Signed(
        at=datetime.now(UTC).replace(microsecond=0), by=g.who, kept=sum(d.decision == "keep" for d in decided),
        taken_away=go, undecided=sorted(to_decide - {d.row for d in decided}), draft=draft,
    )  # fmt: skip
    remarks = [d.model_dump() for d in decided]
    if draft is not None:
        drafting().add(draft, changes)
    records.sign(database, kept.number, {"summary": summary.model_dump(mode="json"), "decided": remarks})
    note(database, g.who, f"report {kept.number}, about {kept.about}, was signed by {g.who}")
    line = _line(records.find(database, kept.number))
    return answer(msg.SignedReport(report=line, says=[says(c) for c in changes], left=left))
