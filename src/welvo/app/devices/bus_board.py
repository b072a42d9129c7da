"""The 64 places of a lamp bus as they are counted on it, planned beside found, and where moved gear will be.

A place is dragged onto another, and the two change places; nothing happens on the bus until that is written. The cell
says what is there in words and in a shape: what is planned in its first line, what answered in its second.
"""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from welvo.app.widgets import marks
from welvo.app.widgets.painting import RIGHT, draw_frame, draw_text_line
from welvo.app.widgets.theme import THEME
from welvo.matching.gear import GearPlace, faults_of_gear
from welvo.protocols.dali import HIGHEST_LEVEL

COLUMNS, ROWS = 8, 8


def mark_of_place(place: GearPlace) -> str:
    """The mark of a place; empty where nothing is planned and nothing answered."""
    seen = place.seen
    if seen and (seen.doubled or faults_of_gear(seen)):
        return "error"
    if place.planned is None:
        return "note" if seen else ""
    if seen is None:
        return "warning"
    return "differs" if place.differs_from_plan else "matches"


def place_words(place: GearPlace, searched: bool) -> str:
    """One place in words, for tooltips and screen readers."""
    if place.planned is None and place.seen is None:
        return f"{place.at}: nothing planned, nothing found" if searched else f"{place.at}: nothing planned"
    name = place.planned.name or "planned" if place.planned else "not planned"
    if place.seen is None:
        return f"{place.at}: {name}, {'did not answer' if searched else 'not searched'}"
    if place.seen.doubled:
        return f"{place.at}: several gear answer here at once"
    wrong = faults_of_gear(place.seen)
    more = f", {', '.join(wrong)}" if wrong else ", set otherwise than planned" if place.differs_from_plan else ""
    return f"{place.at}: {name}, level {place.seen.level}{more}"


class BusBoard(QWidget):
    """`picked` carries a place, `added` one that is taken to what is chosen (or away again), with whether all between
    are, `moved` two of them that shall change what is at them, `blink` one for Space."""

    picked = Signal(int)
    added = Signal(int, bool)
    moved = Signal(int, int)
    blink = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.places: list[GearPlace] = []
        self.searched = False
        self.chosen = -1
        self.also: frozenset[int] = frozenset()
        """Places that are chosen besides."""
        self.blinking = -1
        self.staged: dict[int, int] = {}
        """Where the gear at a short address is to be; only gear that moves."""
        self._press: int | None = None
        self._drag: QPointF | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumHeight(ROWS * (52 + 3 * THEME.step) + 2)
        self.setAccessibleName("Board of the bus")

    def show_places(self, places: list[GearPlace], searched: bool, staged: dict[int, int], blinking: int) -> None:
        state = (places, searched, staged, blinking)
        if state == (self.places, self.searched, self.staged, self.blinking):
            return
        self.places, self.searched, self.staged, self.blinking = places, searched, staged, blinking
        self.setAccessibleDescription("; ".join(place_words(p, searched) for p in places if p.planned or p.seen))
        self.update()

    def choose_place(self, place: int, also: frozenset[int] = frozenset()) -> None:
        if (place, also) != (self.chosen, self.also):
            self.chosen, self.also = place, also
            self.update()

    # ---- where

    def cell_of_place(self, place: int) -> QRectF:
        w, h = self.width() / COLUMNS, (self.height() - 2) / ROWS
        return QRectF(place % COLUMNS * w, place // COLUMNS * h, w, h)

    def place_at(self, p: QPointF) -> int:
        """The place under a point; −1 outside."""
        column, line = int(p.x() // (self.width() / COLUMNS)), int(p.y() // ((self.height() - 2) / ROWS))
        return line * COLUMNS + column if 0 <= column < COLUMNS and 0 <= line < ROWS else -1

    def _gear_to_be_at(self, place: int) -> int | None:
        """The short address, as it is now, of the gear that is to be at a place."""
        at = {self.staged.get(p.at, p.at): p.at for p in self.places if p.seen}
        return at.get(place)

    # ---- painting

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        for place in self.places:
            self._draw_cell(p, place)
        if self._drag is not None and self._press is not None:
            target = self.place_at(self._drag)
            if target >= 0 and target != self._press:
                draw_frame(p, self.cell_of_place(target).adjusted(2, 2, -2, -2), None, "accent", 3, 2, dashed=True)
        if self.hasFocus():
            draw_frame(p, QRectF(self.rect()).adjusted(0, 0, -1, -1), None, "accent", 2, 2)

    def _draw_cell(self, p: QPainter, place: GearPlace) -> None:
        r = self.cell_of_place(place.at).adjusted(2, 2, -2, -2)
        who = self._gear_to_be_at(place.at)
        moved = who is not None and who != place.at
        left = place.seen is not None and self.staged.get(place.at, place.at) != place.at and who is None
        there = place.planned is not None or place.seen is not None or moved
        draw_frame(p, r, "raised" if there else None, "edge" if there else "line", 3, 1)
        if place.at == self.chosen or place.at in self.also:
            draw_frame(p, r.adjusted(-1, -1, 1, 1), "select", "text", 4, 2)
        inside = r.adjusted(5, 3, -5, -3)
        line = inside.height() / 3
        draw_text_line(
            p, QRectF(inside.x(), inside.y(), 26, line), str(place.at), "text" if there else "quiet", 11, there
        )
        if place.planned:
            name = place.planned.name or "planned"
            draw_text_line(p, QRectF(inside.x(), inside.y() + line, inside.width() + 3, line), name, "text", 11)
        mark = mark_of_place(place) if self.searched else "unknown" if place.planned else ""
        if mark:
            marks.draw_mark(p, mark, inside.right() - 11, inside.y() + line / 2 - 6, 11)
        below = QRectF(inside.x(), inside.y() + 2 * line, inside.width(), line)
        if self.blinking == place.at:
            p.setBrush(THEME.color("accent"))
            p.setPen(Qt.PenStyle.NoPen)
            p.drawEllipse(QRectF(below.x(), below.y() + line / 2 - 4, 8, 8))
            draw_text_line(p, below.adjusted(13, 0, 0, 0), "blinks", "accent", 11, True)
        elif moved:
            draw_text_line(p, below, f"from {who}", "accent", 11, True)
        elif left:
            draw_text_line(p, below, "moves", "quiet", 11)
        elif place.seen and place.seen.doubled:
            draw_text_line(p, below, "several", "error", 11, True)
        elif place.seen and place.seen.level >= 0:
            bar = QRectF(below.x(), below.y() + line / 2 - 2, below.width() - 26, 4)
            p.fillRect(bar, THEME.color("line"))
            share = place.seen.level / HIGHEST_LEVEL
            p.fillRect(QRectF(bar.x(), bar.y(), bar.width() * share, 4), THEME.color("accent"))
            draw_text_line(p, below, str(place.seen.level), "quiet", 11, align=RIGHT)
        elif place.planned and self.searched:
            draw_text_line(p, below, "missing", "text", 11)

    # ---- hands

    def mousePressEvent(self, e: QMouseEvent) -> None:
        place = self.place_at(e.position())
        if place < 0:
            return
        self.setFocus()
        keys = e.modifiers()
        if keys & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier):
            self.added.emit(place, bool(keys & Qt.KeyboardModifier.ShiftModifier))
            return
        self._press = place
        self.picked.emit(place)

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        place = self.place_at(e.position())
        if (
            e.buttons() & Qt.MouseButton.LeftButton
            and self._press is not None
            and self._gear_to_be_at(self._press) is not None
        ):
            self._drag = e.position()
            self.update()
        elif 0 <= place < len(self.places):
            self.setToolTip(place_words(self.places[place], self.searched))

    def mouseReleaseEvent(self, e: QMouseEvent) -> None:
        pressed, dragged = self._press, self._drag is not None
        self._press = self._drag = None
        target = self.place_at(e.position())
        if dragged and pressed is not None and target >= 0 and target != pressed:
            self.moved.emit(pressed, target)
        self.update()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: -COLUMNS, Qt.Key.Key_Down: COLUMNS}
        if e.key() == Qt.Key.Key_Escape and self._drag is not None:
            self._press = self._drag = None
            self.update()
        elif Qt.Key(e.key()) in steps:
            to = max(0, self.chosen) + steps[Qt.Key(e.key())] if self.chosen >= 0 else 0
            if 0 <= to < COLUMNS * ROWS:
                if e.modifiers() & Qt.KeyboardModifier.ControlModifier:
                    self.added.emit(to, True)
                    return
                if e.modifiers() & Qt.KeyboardModifier.ShiftModifier and self._gear_to_be_at(self.chosen) is not None:
                    self.moved.emit(self.chosen, to)
                self.picked.emit(to)
        elif e.key() == Qt.Key.Key_Space and self.chosen >= 0:
            self.blink.emit(self.chosen)
        else:
            super().keyPressEvent(e)
