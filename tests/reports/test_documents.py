"""Reports as documents: read back by packages that did not write them, filled in, and
taken back.
"""

import json
import re
from collections import Counter
from html import unescape
from io import BytesIO

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl import load_workbook
from pypdf import PdfReader, PdfWriter
from pypdf.generic import NameObject

from drawknife import messages as msg
from drawknife.core.words.errors import BadInput
from drawknife.documents import come_back, page, paper, workbook

from ..conftest import DEMO, run, serving

ROWS = [
    msg.ReportRow(
        number=n,
        place="survey:/inbox",
        location="/inbox",
        accounts=["Þóra", "=cmd", "李"],
        may="look <and> fetch",
        by=["allow group:x read on survey:/inbox"],
        to_decide=n != 3,
        new=["Þóra"] if n == 1 else [],
    )
    for n in range(1, 61)
]


def a_report(**more):
    said = {
        "number": 7,
        "about": "survey:/inbox",
        "revision": 12,
        "made": "2026-11-23T12:00:00Z",
        "made_by": "gustav",
        "signed": None,
        "title": "Who can get at survey:/inbox",
        "rows": ROWS,
        "gone": ["survey:/old: bram (list)"],
        "notes": ["Endpoints are not asked"],
        **more,
    }
    return msg.Report.model_validate(said)


def filled_pdf(raw, decisions):
    writer = PdfWriter(clone_from=BytesIO(raw))
    for sheet in writer.pages:
        for annotation in sheet.get("/Annots", ()):
            box = annotation.get_object()
            if decisions.get(box["/T"]):
                on = next(k for k in box["/AP"]["/N"] if k != "/Off")
                box[NameObject("/V")] = box[NameObject("/AS")] = NameObject(on)
    out = BytesIO()
    writer.write(out)
    return out.getvalue()


def filled_workbook(raw, decisions):
    book = load_workbook(BytesIO(raw))
    for line in book["rows"].iter_rows(min_row=2):
        line[5].value = decisions.get(line[0].value)
    out = BytesIO()
    book.save(out)
    return out.getvalue()


def test_a_pdf_says_all_of_it_with_its_letters_and_shows_what_it_has_no_letter_for():
    reader = PdfReader(BytesIO(paper.report(a_report())))
    text = "".join(p.extract_text() for p in reader.pages)
    assert (
        len(reader.pages) > 1
        and "Who can get at survey:/inbox" in text
        and "Þóra" in text
        and "=cmd" in text
    )
    assert "U+674E" in text and "李" not in text and "look <and> fetch" in text
    assert "report 7, revision 12" in text and "page 2" in text and "survey:/old: bram" in text
    fields = reader.get_fields()
    assert (
        len(fields) == 2 * 59
        and "row-3-keep" not in fields
        and {f["/FT"] for f in fields.values()} == {"/Btn"}
    )


def test_a_workbook_has_text_as_text_and_a_choice_in_each_row():
    book = load_workbook(BytesIO(workbook.report(a_report())))
    lines = list(book["rows"].iter_rows(values_only=True))
    assert lines[0] == workbook.HEADS and len(lines) == 61 and "=cmd" in lines[1][2]
    assert book["rows"]["C2"].data_type == "s"
    assert len(book["rows"].data_validations.dataValidation) == 59
    assert [r[1] for r in book["about"].iter_rows(max_row=2, values_only=True)] == [
        "7",
        "Who can get at survey:/inbox",
    ]


def test_a_page_needs_nothing_from_elsewhere_and_runs_nothing_that_a_name_says():
    text = page.report(a_report(title="<script>alert(1)</script>")).decode()
    assert "<script>alert" not in text and "http" not in re.sub(r"http-equiv", "", text)
    assert text.count("<input type=radio") == 2 * 59 and "李" in text


CROWD = [f"worker-{n:04}" for n in range(3000)]


def crowded(rows=3):
    """A report in which a whole firm may do the same, and half of it is new."""
    same = {"accounts": CROWD, "new": CROWD[::2], "to_decide": True}
    every = [ROWS[0].model_copy(update={**same, "number": n}) for n in range(1, rows + 1)]
    return a_report(rows=every)


def test_every_name_is_in_every_kind_of_document():
    """A crowd is listed once, as is the half of it that is new, and the rows say which list has
    them.
    """
    reader = PdfReader(BytesIO(paper.report(crowded())))
    assert len(reader.get_fields()) == 2 * 3
    pages = [p.extract_text() for p in reader.pages]
    book = load_workbook(BytesIO(workbook.report(crowded())))
    for text in ("\n".join(pages), the_cells(book), page.report(crowded()).decode()):
        found = Counter(re.findall(r"worker-\d{4}", text))  # whole, as who and as new
        assert found == Counter({name: 1 + (n % 2 == 0) for n, name in enumerate(CROWD)})
        flat = " ".join(text.split())
        assert (
            flat.count("3,000 people: List 1") == 3
            and flat.count("new: 1,500 of them, List 2") == 3
        )
        assert (
            "List 1: 3,000 names, rows 1, 2, 3" in flat
            and "List 2: 1,500 names, rows 1, 2, 3" in flat
        )


def test_each_page_says_which_of_how_many_it_is_and_repeats_the_heading():
    pages = [p.extract_text() for p in PdfReader(BytesIO(paper.report(a_report()))).pages]
    assert len(pages) > 2
    for n, text in enumerate(pages[1:], 2):
        assert f"page {n} of {len(pages)} no. where who" in " ".join(text.split())


@pytest.mark.parametrize("rows", range(20, 32))
def test_the_signature_is_on_the_page_of_the_last_row(rows):
    last = PdfReader(BytesIO(paper.report(a_report(rows=ROWS[:rows])))).pages[-1].extract_text()
    assert "Reviewed by" in last and re.search(rf"^{rows}\b", last, re.M)


def test_a_decision_in_a_line_without_a_number_is_refused():
    book = load_workbook(BytesIO(workbook.report(a_report(rows=ROWS[:1]))))
    book["rows"]["F3"].value = "keep"
    out = BytesIO()
    book.save(out)
    with pytest.raises(BadInput, match="a line without a number"):
        come_back.read(out.getvalue(), 7)


DECISIONS = st.dictionaries(
    st.sampled_from([n for n in range(1, 61) if n != 3]),
    st.sampled_from(["keep", "take away"]),
    max_size=6,
)


@given(DECISIONS)
@settings(max_examples=8)
def test_what_is_filled_in_comes_back_as_it_is_from_every_kind(decisions):
    def read(raw):
        return {d.row: d.decision for d in come_back.read(raw, 7)}

    ticked = {f"row-{n}-{word.replace(' ', '-')}": True for n, word in decisions.items()}
    saved = {
        "report": 7,
        "decided": [{"row": n, "decision": word, "remark": None} for n, word in decisions.items()],
    }
    assert read(filled_pdf(PDF, ticked)) == read(filled_workbook(BOOK, decisions)) == decisions
    assert read(json.dumps(saved).encode()) == decisions


PDF, BOOK = paper.report(a_report()), workbook.report(a_report())


@pytest.mark.parametrize(
    ("raw", "number", "said"),
    [
        (b"", 7, "cannot be read"),
        (b"%PDF-1.4 no", 7, "cannot be read"),
        (b"PK no", 7, "cannot be read"),
        (b"{}", 7, "cannot be read"),
        (PDF, 8, "it is report 7"),
        (BOOK, 8, "it is report 7"),
        (
            filled_pdf(PDF, {"row-1-keep": True, "row-1-take-away": True}),
            7,
            "row 1 has two decisions",
        ),
        (filled_workbook(BOOK, {2: "perhaps"}), 7, "'perhaps' is no decision"),
    ],
)
def test_what_is_no_answer_is_told(raw, number, said):
    with pytest.raises(BadInput, match=said):
        come_back.read(raw, number)


def test_from_the_command_to_the_draft_and_what_has_changed_since(address, tmp_path):
    with serving(address, tmp_path, "--load", DEMO) as service, service.client() as client:
        made = run(
            "report",
            "make",
            "survey:/inbox",
            "--out",
            tmp_path / "inbox.pdf",
            environment=service.environment,
        )
        assert made.returncode == 0 and "wrote report 1 about" in made.stderr, made.stderr
        found = client.report(1)
        odile = next(r.number for r in found.rows if r.accounts == ["odile"])
        keep = {
            f"row-{r.number}-keep": True for r in found.rows if r.number != odile and r.to_decide
        }
        raw = filled_pdf(
            (tmp_path / "inbox.pdf").read_bytes(), {**keep, f"row-{odile}-take-away": True}
        )
        (tmp_path / "back.pdf").write_bytes(raw)
        before = client.dump()
        arguments = ("report", "signed", "1", tmp_path / "back.pdf")
        back = run(*arguments, environment=service.environment)
        assert (
            back.returncode == 0
            and "1 to remove" in back.stdout
            and "deny account:odile all" in back.stdout
        ), back.stdout + back.stderr
        assert client.dump() == before and client.draft("report-1").steps  # nothing goes by itself
        assert run(*arguments, environment=service.environment).returncode == 2
        client.apply_draft("report-1")
        again = client.make_report("survey:/inbox")
        assert (
            again.since.number == 1
            and again.since.signed.by == "administrator"
            and any("odile" in line for line in again.gone)
        )
        shown = run("report", "show", "2", environment=service.environment).stdout
        assert "gone since" in shown and "not signed" in shown
        listed = run("report", "list", environment=service.environment).stdout
        assert "administrator" in listed
        for kind in ("xlsx", "html"):
            assert (
                run(
                    "report",
                    "show",
                    "2",
                    "--out",
                    tmp_path / f"x.{kind}",
                    environment=service.environment,
                ).returncode
                == 0
            )
        assert (
            "no ending"
            in run(
                "report",
                "make",
                "group:boats",
                "--out",
                tmp_path / "x.doc",
                environment=service.environment,
            ).stderr
        )
        for wrong, said in (
            ("/inbox", "virtual location"),
            ("group:nobody", "there is no group"),
            ("nowhere:/", "there is no store"),
        ):
            refused = run("report", "make", wrong, environment=service.environment)
            assert refused.returncode == 2 and said in refused.stderr, refused.stderr


def test_the_sheet_for_a_user_as_a_pdf_from_a_file_and_from_a_service(on_demo, service, tmp_path):
    with service.client() as client:
        asked = client.handover("harrow-dredging").text
    for name, how in (("file.pdf", {}), ("service.pdf", {"environment": service.environment})):
        arguments = ("handover", "harrow-dredging", "--format", "pdf", "--out", tmp_path / name)
        done = run(*arguments, *([] if how else ["--model", DEMO]), **how)
        assert done.returncode == 0, done.stderr
        text = " ".join(p.extract_text() for p in PdfReader(tmp_path / name).pages)
        flat = " ".join(text.split())
        assert all(
            " ".join(line.split()) in flat
            for line in asked.splitlines()
            if line and not line.startswith("=")
        )
    status, _, said = on_demo("handover", "harrow-dredging", "--format", "pdf")
    assert status == 2 and "--out FILE" in said


SIGNED = {
    "at": "2026-11-24T09:00:00Z",
    "by": "edda@tidewrack.example",
    "sent_by": "gustav",
    "kept": 1,
    "taken_away": [2],
    "undecided": [4],
    "draft": "report-7",
}
PEOPLE = [
    {"name": "Þóra", "display": "Þóra <Björnsdóttir>", "last_sign_in": "2026-11-20T08:00:00Z"},
    {"name": "=cmd", "display": None, "last_sign_in": None},
]


def the_cells(book):
    """All that stands in a workbook."""
    sheets = [book[name].iter_rows(values_only=True) for name in book.sheetnames]
    return "\n".join(str(cell) for sheet in sheets for line in sheet for cell in line if cell)


def the_texts(found):
    """A report as text from each kind of document."""
    pages = PdfReader(BytesIO(paper.report(found))).pages
    book = load_workbook(BytesIO(workbook.report(found)))
    return (
        "\n".join(p.extract_text() for p in pages),
        the_cells(book),
        unescape(page.report(found).decode()),
    )


def test_a_signed_report_is_printed_with_what_was_decided_and_nothing_to_fill_in():
    decided = [
        {"row": 1, "decision": "keep", "remark": None},
        {"row": 2, "decision": "take away", "remark": "left <in> May"},
    ]
    found = a_report(
        signed=SIGNED,
        decided=decided,
        rows=ROWS[:4],
        not_removed=["survey:/inbox: bram (row 1 of report 3)"],
    )
    for text in the_texts(found):
        flat = " ".join(text.split())
        assert (
            "left <in> May" in flat
            and len(re.findall(r"\bremove\b", flat)) == 1
            and flat.count("no decision") == 1
        )
        assert (
            "Signed by edda@tidewrack.example on 2026-11-24 09:00 UTC, through a link that gustav"
            " sent by mail." in flat
        )
        assert "bram (row 1 of report 3)" in flat and "Reviewed by" not in flat
    assert PdfReader(BytesIO(paper.report(found))).get_fields() is None
    assert b"<input" not in page.report(found) and b"<button" not in page.report(found)
    assert not load_workbook(BytesIO(workbook.report(found)))[
        "rows"
    ].data_validations.dataValidation


def test_everybody_is_listed_with_their_display_name_and_last_sign_in():
    for text in the_texts(a_report(people=PEOPLE, rows=ROWS[:2])):
        flat = " ".join(text.split())
        assert flat.count("Þóra <Björnsdóttir>") == 3  # in two rows, and in the list of people
        assert flat.count("2026-11-20") == 1 and "last sign-in" in flat
