"""What would move, line by line."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PySide6.QtWidgets import QWidget

from welvo.app.widgets.painting import RIGHT, break_lines, draw_text_block, draw_text_line, width_of
from welvo.app.widgets.theme import THEME


class Moves(QWidget):
    """Lines of `item   old → new`, at most some, and how many more there are."""

    def __init__(self, rows: list[tuple[str, str, str]], most: int = 14) -> None:
        super().__init__()
        self._rows, self._more = rows[:most], max(0, len(rows) - most)
        self.setAccessibleName("; ".join(f"{a}: {b} to {c}" for a, b, c in rows[:most]))
        self._fit()

    def _line(self) -> int:
        return 20 + THEME.step

    def _columns(self) -> tuple[float, float]:
        """Where the arrow and what it goes to begin: behind the longest name and the longest place before."""
        who = min(self.width() * 0.45, max((width_of(a, 11, True) for a, _, _ in self._rows), default=0) + 10.0)
        old = max((width_of(b, 11) for _, b, _ in self._rows), default=0) + 6.0
        return who, min(old, (self.width() - who) * 0.45)

    def _lines_of(self, words: str, room: float) -> int:
        return break_lines(words, room, 11).count("\n") + 1

    def _fit(self) -> None:
        who, old = self._columns()
        lines = sum(self._lines_of(c, self.width() - who - old - 26) for _, _, c in self._rows)
        high = self._line() * (lines + bool(self._more)) + 4
        if self.minimumHeight() != high:
            self.setFixedHeight(high)

    def resizeEvent(self, _: QResizeEvent) -> None:
        self._fit()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        w, line = self.width(), self._line()
        who, old_wide = self._columns()
        room = w - who - old_wide - 26
        y = 0
        for name, old, new in self._rows:
            high = line * self._lines_of(new, room)
            draw_text_line(p, QRectF(0, y, who - 4, line), name, size=11, bold=True)
            draw_text_line(p, QRectF(who, y, old_wide, line), old, "quiet", 11, align=RIGHT)
            draw_text_line(p, QRectF(who + old_wide + 6, y, 16, line), "→", "quiet", 11)
            draw_text_block(p, QRectF(who + old_wide + 24, y, room + 2, high), new, size=11)
            y += high
            p.fillRect(QRectF(0, y - 1, w, 1), THEME.color("line"))
        if self._more:
            draw_text_line(p, QRectF(0, y, w, line), f"and {self._more} more", "quiet", 11)
