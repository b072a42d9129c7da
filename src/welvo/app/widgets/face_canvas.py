"""The face of a mode at full size: pixels are moved, placed, numbered and put along lines and arcs."""

from __future__ import annotations

from msgspec.structs import replace
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import (
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QPolygonF,
    QResizeEvent,
)
from PySide6.QtWidgets import QWidget

from welvo.app.widgets.face import (
    View,
    backdrop_area,
    paint_backdrop,
    paint_pixels,
    pixel_words,
    places_of_pixels,
    show_pixel_tip,
)
from welvo.app.widgets.painting import CENTRE, draw_frame, draw_text_line
from welvo.app.widgets.theme import THEME
from welvo.rig.layout import along_arc, along_line, pitch_of, renumber_spots
from welvo.rig.profile import Arrangement, Mode, Spot


class Canvas(QWidget):
    """The face at full size. `edited` comes after every finished act; the mode at hand is `mode`."""

    edited = Signal()

    def __init__(self, mode: Mode, picture: bytes | None) -> None:
        super().__init__()
        self.mode = mode
        self.picture = picture
        self.spots = list(places_of_pixels(mode))
        self.selected: set[int] = set()
        self.tool = "Move"
        self.clicked: list[int] = []
        self.points: list[Spot] = []
        self.placing = 0
        self.lit = 1
        self.labels = False
        self._view: View | None = None
        self._still: QPixmap | None = None
        self._grab: QPointF | None = None
        self._frame: tuple[QPointF, QPointF] | None = None
        self._before: list[Spot] = []
        self.setMinimumSize(520, 420)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Face, full size")

    # ---- state

    def set_mode(self, mode: Mode) -> None:
        """Another arrangement, shape or picture; the spots come from the mode."""
        self.mode = mode
        self.spots = list(places_of_pixels(mode))
        self.refresh(True)

    def set_tool(self, tool: str) -> None:
        self.tool = tool
        self.clicked, self.points, self.placing = [], [], 0
        self.refresh()

    def refresh(self, anew: bool = False) -> None:
        if anew:
            self._view = None
        self._still = None
        self.update()

    @property
    def view(self) -> View:
        if self._view is None:
            room = QRectF(self.rect()).adjusted(16, 16, -16, -16)
            around = backdrop_area(self.mode.backdrop, self.picture)
            self._view = View(room, self.spots, 60.0 if around is None else 400.0, around)
        return self._view

    def resizeEvent(self, e: QResizeEvent) -> None:
        self.refresh(True)
        super().resizeEvent(e)

    # ---- painting: everything that stands still is kept as a picture, so that a drag of a few among thousands is fluid

    def _picture_layer(self) -> QPixmap:
        if self._still is None:
            ratio = self.devicePixelRatioF()
            made = QPixmap(int(self.width() * ratio), int(self.height() * ratio))
            made.setDevicePixelRatio(ratio)
            made.fill(THEME.color("field"))
            p = QPainter(made)
            paint_backdrop(p, self.view, self.mode.backdrop, self.picture)
            moving = self.selected if self._grab is not None else set()
            points = [self.view.point_of_spot(s) for s in self.spots]
            if self.view.scale >= 6 and not moving:
                pen = QPen(THEME.color("edge"), 1)
                pen.setStyle(Qt.PenStyle.DashLine)
                p.setPen(pen)
                p.drawPolyline(QPolygonF(points))
            renamed = set(self.clicked)
            paint_pixels(
                p,
                self.mode,
                points,
                self.view.scale,
                0,
                True,
                [n for n in range(len(points)) if n + 1 not in moving and n + 1 not in renamed],
                self.mode.backdrop is not None,
            )
            p.end()
            self._still = made
        return self._still

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.drawPixmap(0, 0, self._picture_layer())
        view = self.view
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self._grab is not None and self.selected:
            some = [view.point_of_spot(self.spots[n - 1]) for n in sorted(self.selected)]
            paint_pixels(p, self.mode, some, view.scale, 0, False)
        radius = max(4.0, view.scale * self.mode.pixel_size / 2 + 2)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(THEME.color("text"), 2))
        for n in list(self.selected)[:3000]:
            p.drawEllipse(view.point_of_spot(self.spots[n - 1]), radius, radius)
        if 0 < self.lit <= len(self.spots):
            p.setPen(QPen(THEME.color("accent"), 3))
            p.drawEllipse(view.point_of_spot(self.spots[self.lit - 1]), radius + 1, radius + 1)
        if self.clicked:  # already in their new order: a full disc with the new number
            p.setPen(QPen(THEME.color("accent"), 1))
            p.setBrush(THEME.color("accent"))
            for order, n in enumerate(self.clicked, 1):
                at = view.point_of_spot(self.spots[n - 1])
                p.drawEllipse(at, max(9.0, radius - 3), max(9.0, radius - 3))
                draw_text_line(
                    p, QRectF(at.x() - 20, at.y() - 9, 40, 18), str(order), "accent_ink", 13, True, CENTRE, elide=False
                )
            p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(THEME.color("accent"), 2))
        for s in self.points:
            at = view.point_of_spot(s)
            p.drawLine(at + QPointF(-6, 0), at + QPointF(6, 0))
            p.drawLine(at + QPointF(0, -6), at + QPointF(0, 6))
        if self.labels and view.scale >= 20:
            for n, s in enumerate(self.spots[:800], 1):
                words = " ".join(b.removeprefix("slot ") for _, b in pixel_words(self.mode, n)[:4])
                at = view.point_of_spot(s)
                draw_text_line(
                    p,
                    QRectF(at.x() - 40, at.y() + radius, 80, 14),
                    words,
                    "text",
                    11,
                    align=Qt.AlignmentFlag.AlignCenter,
                    elide=False,
                )
        if self._frame:
            draw_frame(p, QRectF(*self._frame).normalized(), None, "accent", 0, 1, dashed=True)
        if self.hasFocus():
            draw_frame(p, QRectF(self.rect()), None, "accent", 2, 2)

    # ---- acting

    def pixel_at(self, at: QPointF) -> int:
        view = self.view
        reach = max(6.0, view.scale * 0.55)
        near = [
            (abs(q.x() - at.x()) + abs(q.y() - at.y()), n)
            for n, q in enumerate((view.point_of_spot(s) for s in self.spots), 1)
        ]
        best = min(near, default=(99.0, 0))
        return best[1] if best[0] <= reach * 1.3 else 0

    def _take_spots(self, spots: list[Spot]) -> None:
        """A finished act: the arrangement is by hand from now on."""
        self.spots = spots
        free = replace(self.mode.arrangement or Arrangement(), kind="free")
        self.mode = replace(self.mode, spots=tuple(spots), arrangement=free)
        self.refresh()
        self.edited.emit()

    def mousePressEvent(self, e: QMouseEvent) -> None:
        self.setFocus()
        at, n = e.position(), self.pixel_at(e.position())
        if self.tool == "Place" and self.spots:
            spots = list(self.spots)
            spots[self.placing] = self.view.spot_of_point(at)
            self.placing = (self.placing + 1) % len(spots)
            self.lit = self.placing + 1
            self._take_spots(spots)
            if self.placing == 0:
                self.make_pitch_one()
        elif self.tool == "Number" and n:
            self.clicked = [x for x in self.clicked if x != n] if n in self.clicked else [*self.clicked, n]
            if len(self.clicked) == len(self.spots):
                self.finish_numbers()
            self.refresh()
        elif self.tool in ("Line", "Arc"):
            self.points.append(self.view.spot_of_point(at))
            if len(self.points) == (2 if self.tool == "Line" else 3):
                self.place_in_series(self.points)
            self.update()
        elif n:
            if e.modifiers() & Qt.KeyboardModifier.ControlModifier:
                self.selected ^= {n}
            elif n not in self.selected:
                self.selected = {n}
            self.lit = n
            self._grab, self._before = at, list(self.spots)
            self.refresh()
        else:
            self.selected = set()
            self._frame = (at, at)
            self.refresh()

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        if self._grab is not None:
            by = (e.position() - self._grab) / self.view.scale
            for n in self.selected:
                s = self._before[n - 1]
                self.spots[n - 1] = Spot(x=round(s.x + by.x(), 3), y=round(s.y + by.y(), 3))
            self.update()
        elif self._frame:
            self._frame = (self._frame[0], e.position())
            r = QRectF(*self._frame).normalized()
            self.selected = {n for n, s in enumerate(self.spots, 1) if r.contains(self.view.point_of_spot(s))}
            self.update()

    def mouseReleaseEvent(self, _: QMouseEvent) -> None:
        moved = self._grab is not None and self.spots != self._before
        self._grab = self._frame = None
        if moved:
            self._take_spots(list(self.spots))
        self.refresh()

    def finish_numbers(self) -> None:
        """Take the clicked order over; pixels that were not clicked keep their order behind."""
        if self.clicked:
            order, self.clicked = self.clicked, []
            self._take_spots(list(renumber_spots(self.spots, order)))

    def place_in_series(self, ends: list[Spot]) -> None:
        """Put the selected pixels (or all) evenly along a line or an arc."""
        which = sorted(self.selected) or list(range(1, len(self.spots) + 1))
        found = (
            along_line(ends[0], ends[1], len(which))
            if len(ends) == 2
            else along_arc(ends[0], ends[1], ends[2], len(which))
        )
        spots = list(self.spots)
        for n, s in zip(which, found):
            spots[n - 1] = s
        self.points = []
        if len(which) < len(spots):  # the next row has as many: it is already chosen for the next two clicks
            self.selected = set(range(which[-1] + 1, which[-1] + 1 + len(which))) & set(range(1, len(spots) + 1))
        self._take_spots(spots)
        self.make_pitch_one()

    def make_pitch_one(self) -> None:
        """Make the usual distance of neighbours one pitch again, the picture along with it: nothing moves on it."""
        by = pitch_of(self.spots)
        if not by or abs(by - 1) < 0.001:
            return
        b = self.mode.backdrop
        self.mode = replace(
            self.mode, backdrop=replace(b, x=b.x / by, y=b.y / by, wide=b.wide / by) if b is not None else None
        )
        self._view = None
        self._take_spots([Spot(x=round(s.x / by, 3), y=round(s.y / by, 3)) for s in self.spots])

    def nudge_pixels(self, dx: float, dy: float) -> None:
        if self.selected:
            self._take_spots(
                [
                    Spot(x=round(s.x + dx, 3), y=round(s.y + dy, 3)) if n in self.selected else s
                    for n, s in enumerate(self.spots, 1)
                ]
            )

    def keyPressEvent(self, e: QKeyEvent) -> None:
        step = 1.0 if e.modifiers() & Qt.KeyboardModifier.ShiftModifier else 0.1
        by = {
            Qt.Key.Key_Left: (-step, 0.0),
            Qt.Key.Key_Right: (step, 0.0),
            Qt.Key.Key_Up: (0.0, -step),
            Qt.Key.Key_Down: (0.0, step),
        }.get(Qt.Key(e.key()))
        if by:
            self.nudge_pixels(*by)
        elif e.key() == Qt.Key.Key_N and self.spots:
            self.lit = self.lit % len(self.spots) + 1
            self.selected = {self.lit}
            self.refresh()
        elif e.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.clicked:
            self.finish_numbers()
        elif e.key() == Qt.Key.Key_A and e.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.selected = set(range(1, len(self.spots) + 1))
            self.refresh()
        else:
            super().keyPressEvent(e)

    def event(self, e: object) -> bool:
        if isinstance(e, QHelpEvent):
            return show_pixel_tip(self, e, self.mode, self.pixel_at(QPointF(e.pos())))
        return super().event(e)  # type: ignore[arg-type]
