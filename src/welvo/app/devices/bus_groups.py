"""Which gear of a lamp bus is in which group: the plan, and what the gear says, in one matrix."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from welvo.app.widgets import marks
from welvo.app.widgets.painting import CENTRE, draw_frame, draw_text_line, width_of
from welvo.app.widgets.theme import THEME
from welvo.matching.gear import GearPlace
from welvo.protocols.dali import GROUPS

HEAD = 40
NAME = 132


def group_mark(place: GearPlace, group: int) -> str:
    """How a cell stands: empty where the gear is in no such group by plan and by its own word."""
    planned = None if place.planned is None else place.planned.groups
    seen = place.seen if place.seen and not place.seen.doubled else None
    has = bool(seen and group in seen.groups)
    if planned is None:
        return "silent" if has else ""
    if group in planned:
        return "unknown" if seen is None else "matches" if has else "differs"
    return "upstream" if has else ""


class GroupMatrix(QWidget):
    """`toggled` carries a place and a group that is planned in or out."""

    toggled = Signal(int, int)
    picked = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.places: list[GearPlace] = []
        self.counts_from = 1
        self.at = (0, 0)
        """Row and group of the keyboard's cell."""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Groups")

    @property
    def height_of_row(self) -> int:
        return 24 + THEME.step

    @property
    def _left(self) -> int:
        """How wide the names of the rows are."""
        return THEME.scale_length(NAME)

    def show_places(self, places: list[GearPlace], counts_from: int) -> None:
        shown = [p for p in places if p.planned or p.seen]
        if shown == self.places and counts_from == self.counts_from:
            return
        self.places, self.counts_from = shown, counts_from
        self.setMinimumHeight(HEAD + self.height_of_row * max(1, len(shown)))
        self.setMinimumWidth(self._left + 8 + GROUPS * (width_of("15", 13, True) + 6))
        self.setAccessibleDescription(
            "; ".join(
                f"{p.at}: {', '.join(str(g) for g in range(GROUPS) if group_mark(p, g)) or 'none'}" for p in shown
            )
        )
        self.update()

    def _cell_of_group(self, n: int, group: int) -> QRectF:
        wide = (min(self.width(), THEME.scale_length(900)) - self._left - 8) / GROUPS
        return QRectF(self._left + group * wide, HEAD + n * self.height_of_row, wide, self.height_of_row)

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        draw_text_line(p, QRectF(8, 0, self._left - 8, 20), "Group, as on the bus", "quiet", 11)
        if self.counts_from:
            draw_text_line(p, QRectF(8, 18, self._left - 8, 20), "as its page counts", "quiet", 11)
        for g in range(GROUPS):
            r = self._cell_of_group(0, g)
            draw_text_line(p, QRectF(r.x(), 0, r.width(), 20), str(g), "text", 13, True, align=CENTRE)
            if self.counts_from:
                draw_text_line(
                    p, QRectF(r.x(), 18, r.width(), 20), str(g + self.counts_from), "quiet", 11, align=CENTRE
                )
        p.fillRect(0, HEAD - 1, self.width(), 1, THEME.color("edge"))
        for n, place in enumerate(self.places):
            y = HEAD + n * self.height_of_row
            name = f"{place.at}  {place.planned.name if place.planned else ''}".strip()
            draw_text_line(
                p, QRectF(8, y, self._left - 12, self.height_of_row), name, "text" if place.planned else "quiet"
            )
            p.fillRect(0, y + self.height_of_row - 1, self.width(), 1, THEME.color("line"))
            for g in range(GROUPS):
                r = self._cell_of_group(n, g)
                if g % 4 == 0:
                    p.fillRect(QRectF(r.x(), y, 1, self.height_of_row), THEME.color("line"))
                mark = group_mark(place, g)
                if mark:
                    marks.draw_mark(p, mark, r.center().x() - 6, r.center().y() - 6, 12)
        if self.hasFocus() and self.places:
            draw_frame(p, self._cell_of_group(*self.at).adjusted(1, 1, -1, -1), None, "accent", 2, 2)

    def mousePressEvent(self, e: QMouseEvent) -> None:
        n = int((e.position().y() - HEAD) // self.height_of_row)
        if not 0 <= n < len(self.places) or e.position().y() < HEAD:
            return
        for g in range(GROUPS):
            if self._cell_of_group(n, g).contains(e.position()):
                self.at = (n, g)
                self.toggled.emit(self.places[n].at, g)
                return
        self.picked.emit(self.places[n].at)

    def keyPressEvent(self, e: QKeyEvent) -> None:
        n, g = self.at
        steps = {Qt.Key.Key_Left: (0, -1), Qt.Key.Key_Right: (0, 1), Qt.Key.Key_Up: (-1, 0), Qt.Key.Key_Down: (1, 0)}
        if Qt.Key(e.key()) in steps and self.places:
            down, right = steps[Qt.Key(e.key())]
            self.at = (max(0, min(len(self.places) - 1, n + down)), max(0, min(GROUPS - 1, g + right)))
            self.update()
        elif e.key() in (Qt.Key.Key_Space, Qt.Key.Key_Return) and n < len(self.places):
            self.toggled.emit(self.places[n].at, g)
        else:
            super().keyPressEvent(e)
