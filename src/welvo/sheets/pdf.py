"""Sheets as PDF: blocks flow over pages that all carry the rig, the issue, the date and their number of how many.

Tables are broken between rows only, with their headings again on every page. Columns are as wide as what stands in
them; where that is too much, the widest give way and wrap. The number of pages is known only at the end, so every page
is kept until then. Whoever waits hears how far it is, and may stop it at any page.
"""

from __future__ import annotations

import io
from collections.abc import Callable, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from welvo.rig.base import Refused
from welvo.sheets.blocks import Block, Drawing, FullPage, Heading, Rows, WordsBlock
from welvo.sheets.lists import ColumnHead, Listing
from welvo.sheets.paper import FOOT, HEAD, MARGIN, Choices
from welvo.sheets.pen import BOLD, MM, PT, REGULAR, Pen, printable_words, register_faces, width_of_line, wrap_lines

if TYPE_CHECKING:
    from reportlab.pdfgen.canvas import Canvas

SIZES = (10.0, 9.0, 8.0, 7.0, 6.5)
"""Type sizes of tables in points: the largest at which no column has to wrap too much."""
PADDING = 1.3
ZEBRA = 0.955


class Paper(Struct, frozen=True):
    """What stands at the edges of every page."""

    rig: str
    sheet: str
    issue: str
    date: str
    header: str = ""
    logo: bytes = b""


Progress = Callable[[int, int], object]
"""Called with how much is done of how much; may raise Stopped (`rig/steps.py`)."""


def _tell_nobody(done: int, of: int) -> None:
    """For those who do not watch."""


def render_pdf(
    blocks: Sequence[Block], choices: Choices, paper: Paper, landscape: bool = False, progress: Progress = _tell_nobody
) -> bytes:
    """The bytes of a PDF. Raises Stopped where `progress` does, Refused for choices that no page can be made of."""
    from reportlab.platypus import BaseDocTemplate, Frame, PageTemplate
    from reportlab.platypus.doctemplate import LayoutError

    register_faces()
    wide, high = choices.page_size(landscape)
    out = io.BytesIO()
    margin = MARGIN if wide > 120 else 6.0
    doc = BaseDocTemplate(
        out, pagesize=(wide * MM, high * MM), title=printable_words(f"{paper.rig}: {paper.sheet}"), author="Welvo",
        leftMargin=margin * MM, rightMargin=margin * MM,
        topMargin=(margin + HEAD) * MM, bottomMargin=(margin + FOOT) * MM,
    )  # fmt: skip
    room = wide - 2 * margin
    frame = Frame(
        margin * MM, (margin + FOOT) * MM, room * MM, (high - 2 * margin - HEAD - FOOT) * MM, 0, 0, 0, 0, id="body"
    )
    templates = [PageTemplate("sheet", [frame])]
    for n, b in enumerate(blocks):
        if isinstance(b, FullPage):
            templates.append(
                PageTemplate(
                    f"full {n}",
                    [Frame(0, 0, b.wide * MM, b.high * MM, 0, 0, 0, 0)],
                    onPage=partial(_paint_whole, of=b),
                    pagesize=(b.wide * MM, b.high * MM),
                )
            )
    if blocks and isinstance(blocks[0], FullPage):
        templates[0], templates[1] = templates[1], templates[0]
    doc.addPageTemplates(templates)
    story = _make_story(blocks, room, high - 2 * margin - HEAD - FOOT, progress)
    total = max(1, len(story))

    def tell_on_page(kind: str, value: Any) -> None:
        if kind == "PROGRESS":
            progress(min(total, int(value)), total)

    doc.setProgressCallBack(tell_on_page)
    edges = _Edges(paper, wide, high, margin)
    try:
        doc.build(story, canvasmaker=lambda *a, **k: _counting_canvas(edges, *a, **k))
    except LayoutError as e:
        raise Refused(f"{paper.sheet} does not fit on {choices.paper}: choose larger paper or fewer columns.") from e
    return out.getvalue()


def _paint_whole(canvas: Canvas, _: Any, of: FullPage) -> None:
    of.paint(Pen.on_page(canvas, of.high))


class _Edges:
    """Header and footer of the pages that have them."""

    def __init__(self, paper: Paper, wide: float, high: float, margin: float) -> None:
        self._paper, self._wide, self._high, self._margin = paper, wide, high, margin

    def paint_edges(self, canvas: Canvas, page: int, of: int) -> None:
        p, left, right = self._paper, self._margin, self._wide - self._margin
        pen = Pen.on_page(canvas, self._high)
        top = self._margin
        if p.logo:
            pen.draw_picture(left, top - 1, 30, 10, p.logo)
            left += 33
        room = right - left
        pen.draw_text(left, top + 4.5, p.sheet, 13, True, room=room * 0.62)
        pen.draw_text(left, top + 9, p.header or p.rig, 9, room=room * 0.62, grey=0.25)
        pen.draw_text(right, top + 4.5, p.issue, 10, True, "right", room=room * 0.36)
        if p.header:
            pen.draw_text(right, top + 9, p.rig, 9, align="right", room=room * 0.36, grey=0.25)
        pen.draw_line(self._margin, top + 11, right, top + 11, 0.4)
        base = self._high - self._margin
        pen.draw_line(self._margin, base - 5, right, base - 5, 0.2, 0.5)
        pen.draw_text(self._margin, base - 1, f"{p.rig} · {p.issue}", 8, room=room * 0.6, grey=0.25)
        pen.draw_text(right, base - 1, f"{p.date}    page {page} of {of}", 8, align="right", grey=0.25)


def _counting_canvas(edges: _Edges, *args: Any, **kwargs: Any) -> Canvas:
    """A canvas that keeps its pages until it knows how many there are."""
    from reportlab.pdfgen.canvas import Canvas

    class Counting(Canvas):
        def __init__(self) -> None:
            super().__init__(*args, **kwargs)
            self._kept: list[dict[str, Any]] = []

        def showPage(self) -> None:
            self._kept.append(dict(self.__dict__))
            self._startPage()  # type: ignore[attr-defined]

        def save(self) -> None:
            for n, state in enumerate(self._kept):
                self.__dict__.update(state)
                if not state.get("bare"):
                    edges.paint_edges(self, n + 1, len(self._kept))
                super().showPage()
            super().save()

    return Counting()


# ---- what flows


def _flowables(room: float, high: float) -> tuple[Any, Any, Any]:
    """What stands between words and tables: a drawing, and two marks for pages without and with header and footer.

    Made here, as the part that draws PDF is loaded with the first sheet only.
    """
    from reportlab.platypus import Flowable

    class Painted(Flowable):
        def __init__(self, of: Drawing) -> None:
            super().__init__()
            self.of = of

        def wrap(self, _wide: float, _high: float) -> tuple[float, float]:
            return room * MM, min(self.of.high, high) * MM

        def draw(self) -> None:
            self.of.paint(Pen(self.canv, 0, min(self.of.high, high) * MM), room)

    class Bare(Flowable):
        """Says that the page it stands on has no header and footer."""

        def wrap(self, _wide: float, _high: float) -> tuple[float, float]:
            return 0, 0

        def draw(self) -> None:
            self.canv.__dict__["bare"] = True

    class Framed(Bare):
        def draw(self) -> None:
            self.canv.__dict__["bare"] = False

    return Painted, Bare, Framed


def _make_story(blocks: Sequence[Block], room: float, high: float, progress: Progress) -> list[Any]:
    from xml.sax.saxutils import escape

    from reportlab.lib.styles import ParagraphStyle
    from reportlab.platypus import CondPageBreak, NextPageTemplate, PageBreak, Paragraph, Spacer

    Painted, Bare, Framed = _flowables(room, high)
    heading = ParagraphStyle("heading", fontName=BOLD, fontSize=12, leading=15, spaceAfter=3)
    beside = f'<font name="{REGULAR}" size="9" color="#404040">\u00a0\u00a0\u00a0'
    plain = ParagraphStyle("plain", fontName=REGULAR, fontSize=9, leading=12, spaceAfter=4)
    story: list[Any] = []
    fresh = True  # nothing stands on this page yet
    framed = True
    for n, b in enumerate(blocks):
        progress(0, max(1, len(blocks)))
        if isinstance(b, FullPage):
            if n:
                story += [NextPageTemplate(f"full {n}"), PageBreak()]
            story += [Bare()]
            fresh, framed = False, False
            continue
        if not framed:
            story += [NextPageTemplate("sheet"), PageBreak(), Framed()]
            fresh, framed = True, True
        if isinstance(b, Heading):
            if b.page and not fresh:
                story.append(PageBreak())
            elif not fresh:
                story += [Spacer(0, 4 * MM), CondPageBreak(38 * MM)]
            more = f"{beside}{escape(printable_words(b.beside))}</font>" if b.beside else ""
            story.append(Paragraph(f"{escape(printable_words(b.words, True))}{more}", heading))
        elif isinstance(b, WordsBlock):
            story.append(Paragraph(escape(printable_words(b.words)), plain))
        elif isinstance(b, Rows):
            story.append(make_table(b, room))
        else:
            story.append(Painted(b))
        fresh = False
    return story or [Spacer(0, 1)]


def make_table(of: Rows, room: float) -> Any:
    """A table across `room` millimetres."""
    from reportlab.lib.colors import Color
    from reportlab.platypus import LongTable, TableStyle

    listing = of.listing
    size, wide = fit_columns(of.like or listing, room, of.strong)
    leading = size * 1.25
    grey = Color(ZEBRA, ZEBRA, ZEBRA)
    made: list[list[str]] = [[_lines_in_cell(h.title, w, size, True) for h, w in zip(listing.heads, wide)]]
    style: list[tuple[Any, ...]] = [
        ("FONT", (0, 0), (-1, -1), REGULAR, size, leading),
        ("FONT", (0, 0), (-1, 0), BOLD, size, leading),
        ("VALIGN", (0, 0), (-1, -1), "TOP"),
        ("LEFTPADDING", (0, 0), (-1, -1), PADDING * MM),
        ("RIGHTPADDING", (0, 0), (-1, -1), PADDING * MM),
        ("TOPPADDING", (0, 0), (-1, -1), 0.9 * MM),
        ("BOTTOMPADDING", (0, 0), (-1, -1), 1.1 * MM),
        ("LINEBELOW", (0, 0), (-1, 0), 0.8, Color(0, 0, 0)),
        ("LINEBELOW", (0, 1), (-1, -1), 0.25, Color(0.7, 0.7, 0.7)),
    ]
    for n, h in enumerate(listing.heads):
        if h.kind == "number":
            style.append(("ALIGN", (n, 0), (n, -1), "RIGHT"))
        if h.key in of.strong:
            style.append(("FONT", (n, 1), (n, -1), BOLD, size, leading))
    strong = [h.key in of.strong for h in listing.heads]
    for number, r in enumerate(listing.rows):
        if number % 2:
            style.append(("BACKGROUND", (0, len(made)), (-1, len(made)), grey))
        made.append([_lines_in_cell(c, w, size, b) for c, w, b in zip(r, wide, strong)])
    if len(made) == 1:
        made.append([printable_words("none"), *[""] * (len(listing.heads) - 1)])
    return LongTable(made, [w * MM for w in wide], style=TableStyle(style), repeatRows=1, hAlign="LEFT")


def _lines_in_cell(words: str, wide: float, size: float, bold: bool) -> str:
    if not words:
        return ""
    room = wide - 2 * PADDING - 0.2
    if len(words) * size * 0.75 * PT < room:  # no letter is that wide: nothing to measure
        return printable_words(words, bold)
    return "\n".join(wrap_lines(words, room, size, bold))


def fit_columns(listing: Listing, room: float, strong: Sequence[str] = ()) -> tuple[float, list[float]]:
    """Type size, and the widths of the columns in millimetres, so that all of them stand in the room."""
    for size in SIZES:
        natural, least = zip(
            *(_widths_of_column(h, n, listing, size, h.key in strong) for n, h in enumerate(listing.heads))
        )
        if sum(natural) <= room:
            spare = room - sum(natural)
            most = max(natural)
            stretched = [w + spare * w / sum(natural) if w > most * 0.5 else w for w in natural]
            return size, stretched if spare < room * 0.3 else list(natural)
        if sum(least) <= room and (size <= SIZES[-1] or sum(natural) <= room * 1.6):
            return size, share_width(list(natural), list(least), room)
    size = SIZES[-1]
    scale = room / sum(least)
    return size, [w * scale for w in least]


def share_width(natural: list[float], least: list[float], room: float) -> list[float]:
    """Widths where the natural ones are too many: the widest give way first, none below its least."""
    low, high = 0.0, max(natural)
    for _ in range(40):
        cap = (low + high) / 2
        if sum(max(b, min(a, cap)) for a, b in zip(natural, least)) > room:
            high = cap
        else:
            low = cap
    made = [max(b, min(a, low)) for a, b in zip(natural, least)]
    spare = room - sum(made)
    wide = max(range(len(made)), key=lambda n: natural[n] - made[n])
    made[wide] += spare
    return made


def _widths_of_column(head: ColumnHead, n: int, listing: Listing, size: float, bold: bool) -> tuple[float, float]:
    """The width a column would like, and the least it can do with: its longest word, to a point."""
    cells = sorted({r[n] for r in listing.rows}, key=len, reverse=True)[:12]
    words = head.title.split(" ")
    title = max((width_of_line(printable_words(w, True), size, True) for w in words), default=0.0)
    if len(words) > 2:  # a heading of many words takes two lines, not four
        title = max(title, width_of_line(printable_words(head.title, True), size, True) * 0.6)
    natural = (
        max([title, *(width_of_line(printable_words(line, bold), size, bold) for c in cells for line in c.split("\n"))])
        + 0.8
    )
    parts = sorted({w for c in cells for w in c.split(" ")}, key=len, reverse=True)[:6]
    longest = max([title, *(min(width_of_line(printable_words(w, bold), size, bold), 34.0) for w in parts)]) + 0.8
    if head.kind == "number" or (cells and len(cells[0]) <= 12):
        longest = natural
    return natural + 2 * PADDING, min(longest, natural) + 2 * PADDING
