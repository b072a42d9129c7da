"""What would move, line by line."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from welvo.app.widgets.painting import RIGHT, draw_text_line
from welvo.app.widgets.theme import THEME


class Moves(QWidget):
    """Lines of `item   old → new`, at most some, and how many more there are."""

    def __init__(self, rows: list[tuple[str, str, str]], most: int = 14) -> None:
        super().__init__()
        self._rows, self._more = rows[:most], max(0, len(rows) - most)
        self.setFixedHeight(20 * (len(self._rows) + bool(self._more)) + 4)
        self.setAccessibleName("; ".join(f"{a}: {b} to {c}" for a, b, c in rows[:most]))

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        w = self.width()
        for n, (who, old, new) in enumerate(self._rows):
            y = 20 * n
            draw_text_line(p, QRectF(0, y, w * 0.3, 20), who, size=11, bold=True)
            draw_text_line(p, QRectF(w * 0.3, y, w * 0.31, 20), old, "quiet", 11, align=RIGHT)
            draw_text_line(p, QRectF(w * 0.62, y, 16, 20), "→", "quiet", 11)
            draw_text_line(p, QRectF(w * 0.66, y, w * 0.34, 20), new, size=11)
            p.fillRect(QRectF(0, y + 19, w, 1), THEME.color("line"))
        if self._more:
            draw_text_line(p, QRectF(0, 20 * len(self._rows), w, 20), f"and {self._more} more", "quiet", 11)
