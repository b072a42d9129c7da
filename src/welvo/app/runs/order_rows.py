"""The colour order of a segment drawn in rows of letters: as sent, as put out, as taken, and what lights then."""

from __future__ import annotations

from PySide6.QtCore import QRectF
from PySide6.QtGui import QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from welvo.app.widgets import marks
from welvo.app.widgets.painting import CENTRE, draw_text_line
from welvo.app.widgets.theme import LIGHT, THEME
from welvo.rig.colours import FUNCTIONS, word_of
from welvo.runs.orders import Orders

_PITCH = 22
_CELL = 26


class OrderRows(QWidget):
    """Three rows of letters, one cell for each component of a pixel, and a sentence of what that comes to."""

    def __init__(self) -> None:
        super().__init__()
        self._orders: Orders | None = None
        self.setFixedHeight(4 * _PITCH + 4)
        self.setAccessibleName("Colour order from the sender to the chips")

    def show_orders(self, orders: Orders | None) -> None:
        self._orders = orders
        self.setVisible(orders is not None)
        self.setAccessibleDescription(words_of_orders(orders) if orders else "")
        self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        o = self._orders
        if o is None:
            return
        p = QPainter(self)
        set_to = f"Put out, set to {o.set_to}" if o.set_to else "Put out as it comes"
        left = self.width() - _CELL * len(o.sent)
        for n, (words, letters) in enumerate((("Sent", o.sent), (set_to, o.put_out), ("Taken by the chips", o.taken))):
            y = n * _PITCH
            draw_text_line(p, QRectF(0, y, left - 8, _PITCH), words, "quiet", 11)
            for i, letter in enumerate(letters):
                cell = QRectF(left + i * _CELL, y + 2, _CELL - 3, _PITCH - 4)
                wrong = n == 2 and i < len(o.put_out) and o.put_out[i] != letter
                p.fillRect(cell, THEME.color("error_wash" if wrong else "field"))
                draw_text_line(p, cell, letter, bold=True, align=CENTRE)
                p.fillRect(QRectF(cell.left(), cell.bottom() - 3, cell.width(), 3), QColor(LIGHT[FUNCTIONS[letter]]))
        marks.draw_mark(p, "matches" if o.is_right else "differs", 0, 3 * _PITCH + 5, 12)
        draw_text_line(p, QRectF(18, 3 * _PITCH, self.width() - 18, _PITCH), words_of_orders(o), size=11)


def words_of_orders(orders: Orders) -> str:
    """What a colour order comes to, in one sentence."""
    if orders.is_right:
        return "Every component lights what it is sent for."
    return (
        ", ".join(f"{word_of(a)} lights {word_of(b) if b else 'nothing'}" for a, b in orders.shown_components if a != b)
        + "."
    )
