"""Drawing on a page in millimetres from its upper left corner, in a face that has the letters that are needed.

The faces that every PDF reader has lack most of the world's letters, and names of fixtures are any text. So a face of
the computer is embedded, of those that are nearly everywhere; what it lacks is printed as a box, and counted, so that
whoever prints can be told.
"""

from __future__ import annotations

import io
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from reportlab.pdfgen.canvas import Canvas

MM = 72 / 25.4
PT = 1 / MM
"""Points in a millimetre, and millimetres in a point."""
REGULAR, BOLD = "welvo", "welvo-bold"
_FOLDERS = ("/usr/share/fonts", "/usr/local/share/fonts", "~/.local/share/fonts", "~/.fonts")
_FACES = (
    ("DejaVuSans.ttf", "DejaVuSans-Bold.ttf"),
    ("NotoSans-Regular.ttf", "NotoSans-Bold.ttf"),
    ("LiberationSans-Regular.ttf", "LiberationSans-Bold.ttf"),
)
_INSTEAD = {"☐": "[ ]", "☑": "[x]", "→": "->", "\u202f": " ", "×": "x", "…": "...", "−": "-"}
"""What is written where a face lacks a sign that Welvo itself uses."""


@cache
def _font_files() -> tuple[Path | None, Path | None]:
    for regular, bold in _FACES:
        for folder in _FOLDERS:
            found = next(Path(folder).expanduser().rglob(regular), None)
            if found is not None:
                beside = found.with_name(bold)
                return found, beside if beside.exists() else found
    return None, None  # then the one that comes with the package is taken


@cache
def register_faces() -> dict[str, frozenset[int]]:
    """Register the faces; the code points each of them has."""
    from reportlab.pdfbase import pdfmetrics
    from reportlab.pdfbase.ttfonts import TTFont

    regular, bold = _font_files()
    found = {}
    for name, file, own in ((REGULAR, regular, "Vera.ttf"), (BOLD, bold, "VeraBd.ttf")):
        font = TTFont(name, str(file) if file else own)
        pdfmetrics.registerFont(font)
        found[name] = frozenset(font.face.charToGlyph)
    return found


def printable_words(words: str, bold: bool = False) -> str:
    """Words with signs that the face lacks written otherwise."""
    has = register_faces()[BOLD if bold else REGULAR]
    if all(ord(c) in has for c in words):
        return words
    said = (
        c if ord(c) in has else _INSTEAD.get(c, " " if c.isspace() else "□")
        for c in words
        if c.isprintable() or c.isspace()
    )
    return "".join(c if all(ord(x) in has for x in c) else "?" for c in said)


def count_lacking(words: str) -> int:
    """How many signs of a text the face has nothing for."""
    has = register_faces()[REGULAR]
    return sum(1 for c in words if ord(c) not in has and c not in _INSTEAD and not c.isspace() and c.isprintable())


def width_of_line(words: str, size: float, bold: bool = False) -> float:
    """How wide a line is, in millimetres; `size` in points."""
    from reportlab.pdfbase.pdfmetrics import stringWidth

    register_faces()
    return float(stringWidth(words, BOLD if bold else REGULAR, size)) * PT


def fit_line(words: str, room: float, size: float, bold: bool = False) -> str:
    """A line, cut with an ellipsis where it is wider than the room."""
    words = printable_words(words, bold)
    if width_of_line(words, size, bold) <= room:
        return words
    low, high = 0, len(words)
    while low < high:
        middle = (low + high + 1) // 2
        if width_of_line(words[:middle].rstrip() + "…", size, bold) <= room:
            low = middle
        else:
            high = middle - 1
    return words[:low].rstrip() + printable_words("…", bold) if low else ""


def wrap_lines(words: str, room: float, size: float, bold: bool = False, most: int = 12) -> list[str]:
    """A text as lines that fit; a word that is wider than the room is cut. No more than `most` lines."""
    lines: list[str] = []
    for paragraph in printable_words(words, bold).split("\n"):
        line = ""
        for word in paragraph.split(" "):
            while width_of_line(word, size, bold) > room and len(word) > 1:
                if line:
                    lines.append(line)
                    line = ""
                cut = max(1, int(len(word) * room / width_of_line(word, size, bold)))
                while cut > 1 and width_of_line(word[:cut], size, bold) > room:
                    cut -= 1
                lines.append(word[:cut])
                word = word[cut:]
            longer = f"{line} {word}" if line else word
            if line and width_of_line(longer, size, bold) > room:
                lines.append(line)
                line = word
            else:
                line = longer
        lines.append(line)
    if len(lines) > most:
        lines = [*lines[: most - 1], fit_line(lines[most - 1] + " …", room, size, bold)]
    return lines


class Pen:
    """Draws on a canvas of reportlab in millimetres; (0, 0) is the upper left corner of what is drawn."""

    def __init__(self, canvas: Canvas, left: float, top: float) -> None:
        self.canvas = canvas
        self._left, self._top = left, top
        """Where the corner lies, in points from the lower left of the page."""

    @classmethod
    def on_page(cls, canvas: Canvas, high: float) -> Pen:
        return cls(canvas, 0, high * MM)

    def _point_on_page(self, x: float, y: float) -> tuple[float, float]:
        return self._left + x * MM, self._top - y * MM

    def draw_text(
        self,
        x: float,
        y: float,
        words: str,
        size: float = 9,
        bold: bool = False,
        align: str = "left",
        grey: float = 0.0,
        room: float = 0.0,
    ) -> None:
        """A line whose base is at y; with a room it is cut to it."""
        said = fit_line(words, room, size, bold) if room else printable_words(words, bold)
        self.canvas.setFont(BOLD if bold else REGULAR, size)
        self.canvas.setFillGray(grey)
        draw: Any = {
            "left": self.canvas.drawString,
            "right": self.canvas.drawRightString,
            "centre": self.canvas.drawCentredString,
        }[align]
        draw(*self._point_on_page(x, y), said)

    def draw_line(self, x1: float, y1: float, x2: float, y2: float, thick: float = 0.2, grey: float = 0.0) -> None:
        self.canvas.setStrokeGray(grey)
        self.canvas.setLineWidth(thick * MM)
        self.canvas.line(*self._point_on_page(x1, y1), *self._point_on_page(x2, y2))

    def draw_frame(
        self,
        x: float,
        y: float,
        wide: float,
        high: float,
        fill: str | float | None = None,
        edge: str | float | None = 0.0,
        thick: float = 0.2,
    ) -> None:
        """A rectangle; a colour is `#rrggbb`, a number a grey from 0 (black) to 1."""
        from reportlab.lib.colors import HexColor

        if fill is not None:
            self.canvas.setFillColor(HexColor(fill)) if isinstance(fill, str) else self.canvas.setFillGray(fill)
        if edge is not None:
            self.canvas.setStrokeColor(HexColor(edge)) if isinstance(edge, str) else self.canvas.setStrokeGray(edge)
            self.canvas.setLineWidth(thick * MM)
        left, top = self._point_on_page(x, y)
        self.canvas.rect(
            left, top - high * MM, wide * MM, high * MM, stroke=int(edge is not None), fill=int(fill is not None)
        )

    def draw_circle(self, x: float, y: float, radius: float, fill: str | None = None, thick: float = 0.2) -> None:
        from reportlab.lib.colors import HexColor

        if fill:
            self.canvas.setFillColor(HexColor(fill))
        self.canvas.setStrokeGray(0)
        self.canvas.setLineWidth(thick * MM)
        self.canvas.circle(*self._point_on_page(x, y), radius * MM, stroke=1, fill=int(bool(fill)))

    def draw_picture(self, x: float, y: float, wide: float, high: float, data: bytes) -> None:
        """A picture inside a box, as large as it fits, at its left. What is no picture is left out."""
        from reportlab.lib.utils import ImageReader

        try:
            image = ImageReader(io.BytesIO(data))
            across, down = image.getSize()
            scale = min(wide / across, high / down)
        except Exception:  # any of the many errors of a damaged picture; a sheet is printed without its logo
            return
        left, top = self._point_on_page(x, y)
        w, h = across * scale * MM, down * scale * MM
        self.canvas.drawImage(image, left, top - h, w, h, mask="auto")
