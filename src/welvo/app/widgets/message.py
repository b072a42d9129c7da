"""What the program says, above the path."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from welvo.app.widgets import marks
from welvo.app.widgets.literal import visible_letters
from welvo.app.widgets.painting import make_button
from welvo.app.widgets.theme import THEME


class Message(QWidget):
    """One message; errors stay longer, a click takes it away. What says that something was done offers `undo`."""

    undo = Signal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.words, self.severity = "", "note"
        self._hide = QTimer(self, singleShot=True)
        self._hide.timeout.connect(self.hide)
        self.back = make_button("Undo", self._take_back, "Takes back what was just done.   Ctrl+Z")
        self.back.setParent(self)
        self.back.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # the keys stay where they were; Ctrl+Z does the same
        self.back.hide()
        self.setAccessibleName("Message")
        self.hide()

    def say(self, words: str, severity: str, undo: bool = False) -> None:
        if self.isVisible() and self.severity == "error" and severity == "note" and not undo:
            return  # a note must not wipe out an error nobody has read yet
        self.words, self.severity = visible_letters(words), severity
        self.back.setVisible(undo)
        self.place_message()
        self.show()
        self.raise_()
        self.update()
        self._hide.start(12_000 if severity == "error" else 6_000)

    def no_undo(self) -> None:
        """Something else was done since: the button would take back that."""
        self.back.hide()
        self.place_message()

    def _take_back(self) -> None:
        self.hide()
        self.undo.emit()

    def place_message(self) -> None:
        parent = self.parentWidget()
        assert parent
        room = parent.width() - 72 - 24
        more = self.back.sizeHint().width() + 12 if not self.back.isHidden() else 0
        wide = min(room, THEME.metrics(13).horizontalAdvance(self.words) + 56 + more)
        lines = 1 if wide < room else 2
        high = max(14 + lines * THEME.metrics(13).lineSpacing() + 6, 36 if more else 0)
        self.setGeometry(72 + 12, parent.height() - 84 - high - 12, wide, high)
        if more:
            self.back.setGeometry(wide - more, (high - 26) // 2, more - 8, 26)

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), THEME.color("raised"))
        p.setPen(THEME.color(self.severity))
        p.drawRect(self.rect().adjusted(0, 0, -1, -1))
        p.fillRect(0, 0, 4, self.height(), THEME.color(self.severity))
        marks.draw_mark(p, self.severity, 14, 12, 14)
        p.setFont(THEME.font(13))
        p.setPen(THEME.color("text"))
        more = self.back.width() + 12 if not self.back.isHidden() else 0
        p.drawText(
            QRectF(38, 6, self.width() - 48 - more, self.height() - 12),
            Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWordWrap,
            self.words,
        )

    def mousePressEvent(self, _: object) -> None:
        self.hide()
