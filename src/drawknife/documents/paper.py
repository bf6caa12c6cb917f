"""PDF (ISO 32000), with a font that has the letters of most of Europe and beyond; what it lacks is shown by its number."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
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
from reportlab.pdfbase.ttfonts import TTFont
from reportlab.platypus import Flowable, Paragraph, SimpleDocTemplate, Spacer, Table

from drawknife import messages as msg

from .words import DECISIONS, heading, rows_of

REGULAR, BOLD = "Drawknife", "Drawknife-Bold"
GREY = colors.HexColor("#6b6b66")


@cache
def _letters() -> frozenset[int]:
    """The letters that the font has; it is registered besides."""
    folder = files(__package__).joinpath("fonts")
    for name, file in ((REGULAR, "DejaVuSans.ttf"), (BOLD, "DejaVuSans-Bold.ttf")):
        pdfmetrics.registerFont(TTFont(name, BytesIO(folder.joinpath(file).read_bytes())))
    pdfmetrics.registerFontFamily(REGULAR, normal=REGULAR, bold=BOLD)
    return frozenset(pdfmetrics.getFont(REGULAR).face.charToGlyph)


def shown(text: str) -> str:
    """Text as the font can show it: a letter that it does not have is written as U+ and its number."""
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
            name=self.name, tooltip=self.about, size=4 * mm, buttonStyle="check", borderWidth=0.6, relative=True,
            fillColor=colors.white, borderColor=GREY, forceBorder=True,
        )  # fmt: skip


def report(found: msg.Report) -> bytes:
    """A report to be gone through and signed."""
    _letters()
    small, normal, bold = _style("small", 7.5), _style("normal", 8.5), _style("bold", 8.5)
    title, quiet = _style("title", 15, spaceAfter=2 * mm), _style("quiet", 8, textColor=GREY)
    story: list[Flowable] = [_said(found.title, title)]
    story += [_said(line, quiet) for line in heading(found)]
    story.append(Spacer(1, 4 * mm))
    head = [_said(text, bold) for text in ("no.", "where", "who", "may", "by", "keep", "take away")]
    lines: list[list[Any]] = [head]
    styles: list[tuple[Any, ...]] = [
        ("VALIGN", (0, 0), (-1, -1), "TOP"), ("LINEBELOW", (0, 0), (-1, 0), 0.8, colors.black),
        ("LINEBELOW", (0, 1), (-1, -1), 0.25, colors.HexColor("#c9c8c2")), ("LEFTPADDING", (0, 0), (-1, -1), 2),
        ("RIGHTPADDING", (0, 0), (-1, -1), 4),
    ]  # fmt: skip
    for row, (where, who, may, by) in rows_of(found.rows):
        boxes = (
            [Box(f"row-{row.number}-{key}", f"row {row.number}: {word}") for key, word in DECISIONS]
            if row.to_decide
            else ["", ""]
        )
        lines.append(
            [
                _said(str(row.number), small),
                _said(where, small),
                _said(who, normal),
                _said(may, small),
                _said(by, small),
                *boxes,
            ]
        )
    widths = [10 * mm, 46 * mm, 58 * mm, 66 * mm, 64 * mm, 11 * mm, 18 * mm]
    story.append(Table(lines, colWidths=widths, repeatRows=1, style=styles))
    if found.gone:
        story += [Spacer(1, 4 * mm), _said("What was there when it was signed last, and is not any more", bold)]
        story += [_said(line, small) for line in found.gone]
    story += [Spacer(1, 10 * mm), _signature(normal)]
    return _made(story, found.title, landscape(A4), f"report {found.number}, revision {found.revision}")


def _signature(style: ParagraphStyle) -> Table:
    words = [_said(word, style) for word in ("Gone through by", "on", "signature")]
    lines = [[words[0], "", words[1], "", words[2], ""]]
    styles = [("LINEBELOW", (column, 0), (column, 0), 0.5, colors.black) for column in (1, 3, 5)]
    return Table(lines, colWidths=[30 * mm, 70 * mm, 10 * mm, 40 * mm, 22 * mm, 80 * mm], style=styles)


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


def _made(story: list[Flowable], title: str, size: tuple[float, float], foot: str) -> bytes:
    out = BytesIO()

    def number(canvas: Any, page: Any) -> None:
        canvas.setFont(REGULAR, 7)
        canvas.setFillColor(GREY)
        canvas.drawString(15 * mm, 9 * mm, shown(foot))
        canvas.drawRightString(size[0] - 15 * mm, 9 * mm, f"page {page.page}")

    SimpleDocTemplate(
        out, pagesize=size, title=title, author="Drawknife", leftMargin=12 * mm, rightMargin=12 * mm,
        topMargin=14 * mm, bottomMargin=16 * mm, lang="en",
    ).build(story, onFirstPage=number, onLaterPages=number)  # fmt: skip
    return out.getvalue()
