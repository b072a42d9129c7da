"""What the pages of a device have in common: a washed strip with its acts, and a line of plan beside reported."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QFrame, QWidget

from welvo.app.widgets import marks
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.painting import draw_text_line, make_label
from welvo.app.widgets.theme import THEME


def make_notice(severity: str, words: str, *acts: QWidget) -> QFrame:
    """Words on the wash of a severity, with the acts that belong to them."""
    frame = QFrame()
    c = THEME.color
    frame.setObjectName("strip")
    frame.setStyleSheet(
        f"#strip {{ background: {c(f'{severity}_wash').name()}; border-left: 4px solid {c(severity).name()}; }}"
    )
    inside = flow_of_widgets(make_label(words, 13, wrap=True), *acts, spacing=8)
    inside.setContentsMargins(12, 4, 8, 4)
    frame.setLayout(inside)
    return frame


class BothLine(QWidget):
    """One setting in a panel: what it is, the plan, the mark, what is reported. `by` says who reports."""

    def __init__(self, title: str, plan: str, reported: str, mark: str, by: str) -> None:
        super().__init__()
        self._title, self._plan, self._reported, self._mark = title, plan, reported, mark
        self.setFixedHeight(42 + 2 * THEME.step)
        self.setAccessibleName(f"{title}: plan {plan}, {by} {reported}, {marks.WORDS[mark]}")

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        w, h, off = self.width(), self.height(), self._mark == "differs"
        draw_text_line(p, QRectF(0, 0, w, 18), self._title, "quiet", 11)
        half = w / 2
        for x, words in ((0.0, self._plan), (half + 12, self._reported)):
            draw_text_line(p, QRectF(x, 17, half - 20, h - 19), words, "text" if off else "quiet", 13, off)
        marks.draw_mark(p, self._mark, half - 8, 17 + (h - 19) / 2 - 6, 12)
