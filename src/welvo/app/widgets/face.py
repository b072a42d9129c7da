"""The face: a mode's pixels in place and in number order, over a reference picture where there is one."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QHelpEvent, QImage, QPainter, QPaintEvent, QPen, QPolygonF, QTransform
from PySide6.QtWidgets import QToolTip, QWidget

from welvo.app.widgets.literal import rows_tip
from welvo.app.widgets.painting import CENTRE, draw_text_line
from welvo.app.widgets.theme import THEME
from welvo.rig.attributes import word_for
from welvo.rig.layout import lay_out_row
from welvo.rig.profile import Backdrop, Mode, Spot


def places_of_pixels(mode: Mode | None) -> tuple[Spot, ...]:
    """Where the pixels of a mode sit; a plain row when nobody placed them."""
    if mode is None or not mode.count_pixels:
        return ()
    return mode.spots if len(mode.spots) == mode.count_pixels else lay_out_row(mode.count_pixels)


@lru_cache(16)
def image_of(data: bytes) -> QImage:
    """A picture's bytes as an image; null when they are none."""
    return QImage.fromData(data)


def shape_picture(backdrop: Backdrop, image: QImage) -> QImage:
    """The part of a picture that is shown, turned."""
    w, h = image.width(), image.height()
    left, top = int(min(backdrop.left, backdrop.right - 0.01) * w), int(min(backdrop.top, backdrop.bottom - 0.01) * h)
    part = image.copy(left, top, max(1, int(backdrop.right * w) - left), max(1, int(backdrop.bottom * h) - top))
    return (
        part.transformed(QTransform().rotate(backdrop.turn), Qt.TransformationMode.SmoothTransformation)
        if backdrop.turn
        else part
    )


class View:
    """From pitches to the screen and back: everything fits into a rectangle with a margin."""

    def __init__(
        self, room: QRectF, spots: Sequence[Spot], largest: float = 42.0, around: QRectF | None = None
    ) -> None:
        xs, ys = [s.x for s in spots] or [0.0], [s.y for s in spots] or [0.0]
        area = QRectF(min(xs) - 0.6, min(ys) - 0.6, max(xs) - min(xs) + 1.2, max(ys) - min(ys) + 1.2)
        if around is not None:
            area = area.united(around)
        self.scale = min(room.width() / max(0.1, area.width()), room.height() / max(0.1, area.height()), largest)
        self._cx, self._cy = area.center().x(), area.center().y()
        self._x, self._y = room.center().x(), room.center().y()

    def point_of_spot(self, s: Spot) -> QPointF:
        return QPointF(self._x + (s.x - self._cx) * self.scale, self._y + (s.y - self._cy) * self.scale)

    def spot_of_point(self, at: QPointF) -> Spot:
        return Spot(
            x=round((at.x() - self._x) / self.scale + self._cx, 3),
            y=round((at.y() - self._y) / self.scale + self._cy, 3),
        )


def paint_backdrop(p: QPainter, view: View, backdrop: Backdrop | None, data: bytes | None) -> None:
    if backdrop is None or not data:
        return
    image = image_of(data)
    if image.isNull():
        return
    part = shape_picture(backdrop, image)
    wide = backdrop.wide * view.scale
    high = wide * part.height() / max(1, part.width())
    middle = view.point_of_spot(Spot(x=backdrop.x, y=backdrop.y))
    p.save()
    p.setOpacity(backdrop.fade)
    p.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    p.drawImage(QRectF(middle.x() - wide / 2, middle.y() - high / 2, wide, high), part)
    p.restore()


def backdrop_area(backdrop: Backdrop | None, data: bytes | None) -> QRectF | None:
    """What the picture covers, in pitches."""
    image = image_of(data) if backdrop and data else None
    if backdrop is None or image is None or image.isNull():
        return None
    high = (
        backdrop.wide
        * image.height()
        * (backdrop.bottom - backdrop.top)
        / max(1.0, image.width() * (backdrop.right - backdrop.left))
    )
    side = max(backdrop.wide, high) if backdrop.turn else 0.0
    w, h = side or backdrop.wide, side or high
    return QRectF(backdrop.x - w / 2, backdrop.y - h / 2, w, h)


def paint_pixels(
    p: QPainter,
    mode: Mode,
    points: Sequence[QPointF],
    scale: float,
    lit: int = 1,
    numbers: bool = True,
    only: Sequence[int] | None = None,
    clear: bool = False,
) -> None:
    """The pixels of a face: shape and size as the mode says, numbers where they fit. `only` names those to draw;
    `clear` lets a picture below shine through."""
    radius = max(0.6, scale * mode.pixel_size / 2)
    which = only if only is not None else range(len(points))
    p.setRenderHint(QPainter.RenderHint.Antialiasing, radius > 2)
    if radius <= 2.5:
        pen = QPen(THEME.color("quiet"), 2 * radius)
        pen.setCapStyle(Qt.PenCapStyle.RoundCap if mode.pixel_shape == "round" else Qt.PenCapStyle.SquareCap)
        p.setPen(pen)
        p.drawPoints(QPolygonF([points[n] for n in which]))
        if 0 < lit <= len(points):
            p.setPen(QPen(THEME.color("accent"), max(4.0, 2 * radius)))
            p.drawPoint(points[lit - 1])
        return
    p.setPen(QPen(THEME.color("edge"), 1 if radius > 3 else 0.5))
    fill = QColor(THEME.color("raised"))
    fill.setAlpha(150 if clear else 255)
    p.setBrush(fill)
    for n in which:
        if n + 1 != lit:
            _draw_pixel(p, mode.pixel_shape, points[n], radius)
    if 0 < lit <= len(points):
        p.setBrush(THEME.color("accent"))
        _draw_pixel(p, mode.pixel_shape, points[lit - 1], radius)
    if numbers and radius >= 8:
        for n in which:
            at, bright = points[n], n + 1 == lit
            r = QRectF(at.x() - radius - 4, at.y() - radius, 2 * radius + 8, 2 * radius)
            draw_text_line(
                p,
                r,
                str(n + 1),
                "accent_ink" if bright else "text",
                13 if radius >= 13 else 11,
                bright,
                CENTRE,
                elide=False,
            )


def _draw_pixel(p: QPainter, shape: str, at: QPointF, radius: float) -> None:
    if shape == "round":
        p.drawEllipse(at, radius, radius)
    elif shape == "square":
        p.drawRect(QRectF(at.x() - radius, at.y() - radius, 2 * radius, 2 * radius))
    else:
        p.drawRect(QRectF(at.x() - radius * 0.45, at.y() - radius, radius * 0.9, 2 * radius))


def pixel_words(mode: Mode, pixel: int) -> list[tuple[str, str]]:
    """What is known of one pixel: its channels with slot and component."""
    mine = sorted((c for c in mode.channels if c.pixel == pixel), key=lambda c: (c.break_no, c.slots[0]))
    several = len(mode.breaks) > 1
    return [
        (
            word_for(c.function, c.name or "?"),
            (f"break {c.break_no + 1}, " if several else "") + "slot " + ", ".join(map(str, c.slots)),
        )
        for c in mine
    ]


class Face(QWidget):
    """Pixel 1 is filled; a dashed line follows the numbers. `walk_pixels` lights one pixel at a time."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(220)
        self.setMouseTracking(True)
        self.setAccessibleName("Face of the fixture")
        self.mode: Mode | None = None
        self.picture: bytes | None = None
        self.lit = 0

    def set_mode(self, mode: Mode | None, picture: bytes | None = None) -> None:
        if mode is not self.mode or picture is not self.picture:
            if mode is None or self.mode is None or mode.count_pixels != self.mode.count_pixels:
                self.lit = 0
            self.mode, self.picture = mode, picture
            self.update()

    def spots_of_mode(self) -> tuple[Spot, ...]:
        return places_of_pixels(self.mode)

    def walk_pixels(self) -> None:
        """Light the next pixel in number order."""
        if self.mode and self.mode.count_pixels:
            self.lit = self.lit % self.mode.count_pixels + 1
            self.update()

    def _view_of_face(self) -> View:
        backdrop = self.mode.backdrop if self.mode else None
        return View(
            QRectF(self.rect()).adjusted(6, 6, -6, -6),
            self.spots_of_mode(),
            42.0,
            backdrop_area(backdrop, self.picture),
        )

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        room = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        p.setPen(QPen(THEME.color("edge"), 1))
        p.setBrush(THEME.color("field"))
        p.drawRoundedRect(room, 8, 8)
        spots = self.spots_of_mode()
        mode = self.mode
        if not spots or mode is None:
            words = "one light, no pixels" if mode else "the face of the lamp stands here"
            draw_text_line(p, room, words, "quiet", 11, align=CENTRE)
            return
        view = self._view_of_face()
        p.setClipRect(room.adjusted(2, 2, -2, -2))
        paint_backdrop(p, view, mode.backdrop, self.picture)
        points = [view.point_of_spot(s) for s in spots]
        if view.scale >= 8:
            pen = QPen(THEME.color("edge"), 1)
            pen.setStyle(Qt.PenStyle.DashLine)
            p.setPen(pen)
            p.drawPolyline(QPolygonF(points))
        paint_pixels(p, mode, points, view.scale, self.lit or 1)

    def pixel_at(self, at: QPointF) -> int:
        """Number of the pixel under a point, or 0."""
        view, spots = self._view_of_face(), self.spots_of_mode()
        reach = max(4.0, view.scale * 0.5)
        best = (
            min(((view.point_of_spot(s) - at).manhattanLength(), n) for n, s in enumerate(spots, 1))
            if spots
            else (99.0, 0)
        )
        return best[1] if best[0] <= reach * 1.4 else 0

    def event(self, e: object) -> bool:
        if isinstance(e, QHelpEvent) and self.mode:
            return show_pixel_tip(self, e, self.mode, self.pixel_at(QPointF(e.pos())))
        return super().event(e)  # type: ignore[arg-type]


def show_pixel_tip(widget: QWidget, e: QHelpEvent, mode: Mode, pixel: int) -> bool:
    """Show what a pixel's channels are beside the pointer, or nothing when there is no pixel."""
    if pixel:
        QToolTip.showText(e.globalPos(), rows_tip(f"pixel {pixel}", pixel_words(mode, pixel)), widget)
    else:
        QToolTip.hideText()
    return True
