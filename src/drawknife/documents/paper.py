"""PDF (ISO 32000), with a font that has the letters of most of Europe and beyond; what it lacks is
shown by its number.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import cache
from html import escape
from importlib.resources import files
from io import BytesIO
from typing import Any

from reportlab.lib import colors
from reportlab.lib.pagesizes import A4, landscape
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase import pdfmetrics
from reportlab.pdfbase.pdfmetrics import stringWidth
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.pdfgen.canvas import Canvas
from reportlab.platypus import Flowable, Paragraph, SimpleDocTemplate, Spacer, Table

from drawknife import messages as msg

from .words import (
    DECISIONS,
    NAMES,
    PEOPLE,
    Line,
    batched,
    decision,
    heading,
    lines_of,
    lists_of,
    name_lists,
    people_of,
    said_of,
    signature,
)

REGULAR, BOLD = "Drawknife", "Drawknife-Bold"
GREY, LIGHT = colors.HexColor("#6b6b66"), colors.HexColor("#c9c8c2")
#: The heads of the columns, and how wide these are.
HEADS = ("no.", "where", "who", "may", "by", "keep", "remove")
WIDTHS = [10 * mm, 46 * mm, 58 * mm, 66 * mm, 64 * mm, 11 * mm, 18 * mm]
#: Lines in one table. A table is copied at each page that it ends, so the time grows with their
#: square.
AT_ONCE = 100
#: The form that holds the number of pages.
PAGES = "pages"


@cache
def _letters() -> frozenset[int]:
    """The letters that the font has; it is registered besides."""
    folder = files(__package__).joinpath("fonts")
    for name, file in ((REGULAR, "DejaVuSans.ttf"), (BOLD, "DejaVuSans-Bold.ttf")):
        pdfmetrics.registerFont(TTFont(name, BytesIO(folder.joinpath(file).read_bytes())))
    pdfmetrics.registerFontFamily(REGULAR, normal=REGULAR, bold=BOLD)
    return frozenset(pdfmetrics.getFont(REGULAR).face.charToGlyph)


def shown(text: str) -> str:
    """Text as the font can show it: a letter that it does not have is written as U+ and
    its number.
    """
    if text.isascii() and text.isprintable():  # these it has
        return text
    there = _letters()
    return "".join(c if ord(c) in there or c == "\n" else f"⟨U+{ord(c):04X}⟩" for c in text)


def _style(name: str, size: float, **more: Any) -> ParagraphStyle:
    return ParagraphStyle(name, fontName=REGULAR, fontSize=size, leading=size * 1.35, **more)


def _said(text: str, style: ParagraphStyle) -> Paragraph:
    return Paragraph(escape(shown(text), quote=False).replace("\n", "<br/>"), style)


class Box(Flowable):  # type: ignore[misc]
    """A box to be ticked: with a pen, or in the file."""

    def __init__(self, name: str, about: str) -> None:
        super().__init__()
        self.name, self.about, self.width, self.height = name, about, 4 * mm, 4 * mm

    def draw(self) -> None:
        self.canv.acroForm.checkbox(
            name=self.name,
            tooltip=self.about,
            size=4 * mm,
            buttonStyle="check",
            borderWidth=0.6,
            relative=True,
            fillColor=colors.white,
            borderColor=GREY,
            forceBorder=True,
        )


def report(found: msg.Report) -> bytes:
    """A report to be gone through and signed."""
    return _made(
        _report(found),
        found.title,
        landscape(A4),
        f"report {found.number}, revision {found.revision}",
    )


def _report(found: msg.Report) -> list[Flowable]:
    _letters()
    small, normal, bold = _style("small", 7.5), _style("normal", 8.5), _style("bold", 8.5)
    title, quiet = _style("title", 15, spaceAfter=2 * mm), _style("quiet", 8, textColor=GREY)
    story: list[Flowable] = [_said(found.title, title)]
    story += [_said(line, quiet) for line in heading(found)]
    story.append(Spacer(1, 4 * mm))
    for head, lines in lists_of(found):
        story += [_said(head, bold), *(_said(line, small) for line in lines), Spacer(1, 4 * mm)]
    rows = _Rows(small, normal, bold, said_of(found) if found.signed is not None else None)
    some = list(batched(list(lines_of(found)), AT_ONCE)) or [[]]
    story += [rows.table(lines) for lines in some[:-1]]
    signed = _signature(normal) if found.signed is None else _said(signature(found.signed), normal)
    story.append(rows.table(some[-1], signed))
    for names in name_lists(found):
        story += [Spacer(1, 6 * mm), _said(names.heading, bold)]
        story += [_said(", ".join(some), small) for some in batched(names.names, NAMES)]
    if found.people:
        story += [Spacer(1, 8 * mm), _said("People", bold), Spacer(1, 2 * mm)]
        story += [_people(people, small, bold) for people in batched(people_of(found), AT_ONCE)]
    return story


#: What tables have in common: the heading, and room in the cells.
_STYLES: tuple[tuple[Any, ...], ...] = (
    ("VALIGN", (0, 0), (-1, -1), "TOP"),
    ("LINEBELOW", (0, 0), (-1, 0), 0.8, colors.black),
    ("LEFTPADDING", (0, 0), (-1, -1), 2),
    ("RIGHTPADDING", (0, 0), (-1, -1), 4),
)


class _Rows:
    """Tables of a report's rows: with boxes to be ticked, or with what was `decided`, once it is
    signed.
    """

    def __init__(
        self,
        small: ParagraphStyle,
        normal: ParagraphStyle,
        bold: ParagraphStyle,
        decided: Mapping[int, msg.Decided] | None,
    ) -> None:
        self.small, self.normal, self.bold, self.decided = small, normal, bold, decided

    def table(self, lines: Sequence[Line], signature: Flowable | None = None) -> Table:
        """Some lines under the heading, which is repeated on each page."""
        heads = HEADS if self.decided is None else (*HEADS[:-2], "decision", "")
        cells: list[list[Any]] = [[_said(text, self.bold) for text in heads]]
        styles = [*_STYLES, *([("SPAN", (-2, 0), (-1, 0))] if self.decided is not None else [])]
        for at, line in enumerate(lines, 1):
            cells.append(self._cells(line))
            styles.append(("LINEBELOW", (0, at), (-1, at), 0.25, LIGHT))
            if self.decided is not None:
                styles.append(("SPAN", (-2, at), (-1, at)))
        if signature is not None:
            # The signature is on the page of the last line: a page with nothing else could be put
            # below any report.
            cells.append([signature, *[""] * (len(HEADS) - 1)])
            styles += [
                ("NOSPLIT", (0, -2), (-1, -1)),
                ("SPAN", (0, -1), (-1, -1)),
                ("TOPPADDING", (0, -1), (-1, -1), 10 * mm),
            ]
        return Table(cells, colWidths=WIDTHS, repeatRows=1, style=styles)

    def _cells(self, line: Line) -> list[Any]:
        row = line.row
        last: list[Any] = ["", ""]
        if row.to_decide and self.decided is not None:
            decided = self.decided.get(row.number)
            remark = f"\n{decided.remark}" if decided is not None and decided.remark else ""
            last[0] = _said(decision(decided) + remark, self.small)
        elif row.to_decide:
            last = [
                Box(f"row-{row.number}-{code.replace(' ', '-')}", f"row {row.number}: {label}")
                for code, label in DECISIONS.items()
            ]
        said = [
            _said(text, self.small)
            for text in (str(row.number), line.where, line.who, line.may, line.by)
        ]
        said[2] = _said(line.who, self.normal)
        return [*said, *last]


def _people(
    people: Sequence[tuple[str, str, str]], small: ParagraphStyle, bold: ParagraphStyle
) -> Table:
    cells = [[_said(word, bold) for word in PEOPLE]]
    cells += [[_said(word, small) for word in person] for person in people]
    close = [("TOPPADDING", (0, 1), (-1, -1), 0.5), ("BOTTOMPADDING", (0, 1), (-1, -1), 0.5)]
    return Table(
        cells,
        colWidths=[70 * mm, 120 * mm, 60 * mm],
        repeatRows=1,
        hAlign="LEFT",
        style=[*_STYLES, *close],
    )


def _signature(style: ParagraphStyle) -> Table:
    words = [_said(word, style) for word in ("Reviewed by", "on", "signature")]
    lines = [[words[0], "", words[1], "", words[2], ""]]
    styles = [("LINEBELOW", (column, 0), (column, 0), 0.5, colors.black) for column in (1, 3, 5)]
    return Table(
        lines, colWidths=[30 * mm, 70 * mm, 10 * mm, 40 * mm, 22 * mm, 80 * mm], style=styles
    )


def sheet(title: str, parts: Iterable[tuple[str, Sequence[str]]]) -> bytes:
    """A hand-over sheet: headings with lines."""
    _letters()
    normal, head = (
        _style("normal", 10.5, leftIndent=4 * mm, spaceAfter=1 * mm),
        _style("head", 12, spaceBefore=5 * mm, spaceAfter=2 * mm),
    )
    story: list[Flowable] = [_said(title, _style("title", 17, spaceAfter=4 * mm))]
    for words, lines in parts:
        story.append(Paragraph(f"<b>{escape(shown(words), quote=False)}</b>", head))
        story += [_said(line, normal) for line in lines]
    return _made(story, title, A4, "")


class _Numbered(Canvas):  # type: ignore[misc]
    """Pages that say how many there are: each refers to a form (ISO 32000, 8.10), which is drawn
    when the last is done.
    """

    def show_number(self, foot: str) -> None:
        self.setFont(REGULAR, 7)
        self.setFillColor(GREY)
        self.drawString(15 * mm, 9 * mm, shown(foot))
        here = f"page {self.getPageNumber()} of "
        room = stringWidth(f"{here}00000", REGULAR, 7)
        self.translate(self._pagesize[0] - 15 * mm - room, 9 * mm)
        self.drawString(0, 0, here)
        self.translate(stringWidth(here, REGULAR, 7), 0)
        self.doForm(PAGES)

    def save(self) -> None:
        self.beginForm(PAGES)
        self.setFont(REGULAR, 7)
        self.setFillColor(GREY)
        self.drawString(0, 0, str(self.getPageNumber() - 1))
        self.endForm()
        super().save()


def _made(story: list[Flowable], title: str, size: tuple[float, float], foot: str) -> bytes:
    out = BytesIO()

    def number(canvas: _Numbered, _: Any) -> None:
        canvas.saveState()
        canvas.show_number(foot)
        canvas.restoreState()

    SimpleDocTemplate(
        out,
        pagesize=size,
        title=title,
        author="Drawknife",
        leftMargin=12 * mm,
        rightMargin=12 * mm,
        topMargin=14 * mm,
        bottomMargin=16 * mm,
        lang="en",
    ).build(story, onFirstPage=number, onLaterPages=number, canvasmaker=_Numbered)
    return out.getvalue()
