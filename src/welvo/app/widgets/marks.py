"""Marks: drawn shapes that say how something stands. Never a colour alone."""

from __future__ import annotations

import math
from functools import lru_cache

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPixmap, QPolygonF
from PySide6.QtWidgets import QWidget

from welvo.app.widgets.theme import THEME

WORDS = {
    "error": "error", "warning": "warning", "note": "note", "matches": "matches", "differs": "differs",
    "upstream": "differs upstream", "unknown": "not known", "claimed": "said, not read back",
    "silent": "plan is silent",
}  # fmt: skip


def _hexagon_in(r: QRectF) -> QPolygonF:
    q, w = r.width() / 4, r.height() / 2
    return QPolygonF([
        QPointF(r.left(), r.top() + q), QPointF(r.left() + w, r.top()), QPointF(r.right(), r.top() + q),
        QPointF(r.right(), r.bottom() - q), QPointF(r.left() + w, r.bottom()), QPointF(r.left(), r.bottom() - q),
    ])  # fmt: skip


def _diamond_in(r: QRectF) -> QPolygonF:
    c = r.center()
    return QPolygonF(
        [QPointF(c.x(), r.top()), QPointF(r.right(), c.y()), QPointF(c.x(), r.bottom()), QPointF(r.left(), c.y())]
    )


@lru_cache(64)
def _solid_shape(mark: str, size: float) -> QPainterPath:
    """The filled shape of an error or a warning at the origin, its sign cut out."""
    r = QRectF(0, 0, size, size)
    path, sign = QPainterPath(), QPainterPath()
    if mark == "error":
        path.addPolygon(_hexagon_in(r))
        path.closeSubpath()
        sign.addRect(QRectF(r.left() + size * 0.24, r.center().y() - size * 0.09, size * 0.52, size * 0.18))
        return path.subtracted(sign)
    path.addPolygon(_diamond_in(r.adjusted(-0.5, -0.5, 0.5, 0.5)))
    path.closeSubpath()
    w = max(1.4, size * 0.14)
    sign.addRect(QRectF(r.center().x() - w / 2, r.top() + size * 0.22, w, size * 0.36))
    sign.addRect(QRectF(r.center().x() - w / 2, r.top() + size * 0.67, w, max(1.4, size * 0.13)))
    return path.subtracted(sign)


@lru_cache(128)
def _stamp_of_mark(mark: str, size: float, color: str, ratio: float) -> QPixmap:
    """An error or a warning as a picture, with a pixel of room around it: long lists carry many of them."""
    picture = QPixmap(int((size + 2) * ratio + 0.5), int((size + 2) * ratio + 0.5))
    picture.setDevicePixelRatio(ratio)
    picture.fill(Qt.GlobalColor.transparent)
    p = QPainter(picture)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    p.translate(1, 1)
    p.fillPath(_solid_shape(mark, size), QColor(color))
    p.end()
    return picture


def draw_mark(p: QPainter, mark: str, x: float, y: float, size: float = 12, none: bool = False) -> None:
    """Draw a mark with its top left corner at x, y. `none`: the same outline in edge, for a count of zero."""
    p.save()
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    r = QRectF(x, y, size, size)
    c = THEME.color
    if none:
        p.setPen(QPen(c("edge"), 1.2))
        p.setBrush(Qt.BrushStyle.NoBrush)
        inner = r.adjusted(1, 1, -1, -1)
        if mark == "error":
            p.drawPolygon(_hexagon_in(inner))
        elif mark == "warning":
            p.drawPolygon(_diamond_in(inner))
        else:
            p.drawEllipse(inner)
    elif mark in ("error", "warning"):
        p.drawPixmap(QPointF(x - 1, y - 1), _stamp_of_mark(mark, size, c(mark).name(), p.device().devicePixelRatioF()))
    elif mark == "note":
        stroke = size * 0.16
        p.setPen(QPen(c("note"), stroke))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawEllipse(r.adjusted(stroke / 2, stroke / 2, -stroke / 2, -stroke / 2))
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(c("note"))
        p.drawEllipse(r.center(), size * 0.13, size * 0.13)
    elif mark == "matches":
        p.fillRect(r.adjusted(1, 1, -1, -1), c("accent"))
    elif mark in ("differs", "upstream"):
        _cut_square(p, r, c("error") if mark == "differs" else c("quiet"), mark == "differs")
    elif mark in ("unknown", "claimed"):
        p.setPen(QPen(c("quiet"), 1.4))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawRect(r.adjusted(1.5, 1.5, -1.5, -1.5))
        if mark == "claimed":
            inset = size * 0.33
            p.fillRect(r.adjusted(inset, inset, -inset, -inset), c("quiet"))
    elif mark == "silent":
        p.fillRect(QRectF(r.left() + size * 0.15, r.center().y() - 1, size * 0.7, 2), c("quiet"))
    p.restore()


def _cut_square(p: QPainter, r: QRectF, color: QColor, filled: bool) -> None:
    """A square cut corner to corner: the upper half filled, or both halves outlined."""
    gap = max(1.0, r.width() * 0.12)
    upper = QPolygonF([r.topLeft(), QPointF(r.right() - gap, r.top()), QPointF(r.left(), r.bottom() - gap)])
    lower = QPolygonF([r.bottomRight(), QPointF(r.left() + gap, r.bottom()), QPointF(r.right(), r.top() + gap)])
    pen = QPen(color, 1.3)
    pen.setJoinStyle(Qt.PenJoinStyle.MiterJoin)
    p.setPen(pen)
    p.setBrush(color if filled else Qt.BrushStyle.NoBrush)
    p.drawPolygon(upper)
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawPolygon(lower)


class MarkLabel(QWidget):
    """A mark as a small widget; its word is its tooltip."""

    def __init__(self, mark: str, size: int = 14, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._size = size
        self.setFixedSize(QSize(size + 2, size + 2))
        self.set_mark(mark)

    def set_mark(self, mark: str) -> None:
        self.mark = mark
        self.setToolTip(WORDS.get(mark, ""))
        self.setAccessibleName(WORDS.get(mark, ""))
        self.update()

    def paintEvent(self, _: object) -> None:
        p = QPainter(self)
        draw_mark(p, self.mark, 1, 1, self._size)


def draw_changed_corner(p: QPainter, kind: str, x: float, y: float, wide: float, small: bool) -> None:
    """A corner that says what has changed since the version that is compared: a plus where it is new, an arrow where
    it moved, a bare corner for anything else."""
    p.save()
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    p.setPen(Qt.PenStyle.NoPen)
    p.setBrush(THEME.color("note"))
    side = min(wide, 7.0 if small else 13.0)
    p.drawPolygon(QPolygonF([QPointF(x, y), QPointF(x + side, y), QPointF(x, y + side)]))
    if not small and side > 10:
        p.setPen(QPen(THEME.color("field"), 1.4))
        at = QPointF(x + 4, y + 4)
        if kind in ("added", "re-addressed"):
            p.drawLine(at + QPointF(-2.5, 0), at + QPointF(2.5, 0))
        if kind == "added":
            p.drawLine(at + QPointF(0, -2.5), at + QPointF(0, 2.5))
        elif kind == "re-addressed":
            p.drawLine(at + QPointF(2.5, 0), at + QPointF(0.5, -2))
            p.drawLine(at + QPointF(2.5, 0), at + QPointF(0.5, 2))
    p.restore()


def station_icon(p: QPainter, name: str, x: float, y: float, color: QColor) -> None:
    """The drawn sign of a station in a 24 × 18 device."""
    p.save()
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    p.translate(x, y)
    p.setPen(QPen(color, 2))
    p.setBrush(Qt.BrushStyle.NoBrush)
    if name == "Profiles":
        p.drawRect(QRectF(3, 8, 18, 8))
        for n in range(4):
            p.drawLine(QPointF(6 + 4 * n, 12), QPointF(6 + 4 * n, 15))
        p.drawLine(QPointF(4, 3), QPointF(4, 5))
        p.drawLine(QPointF(9, 3), QPointF(9, 5))
    elif name == "Patch":
        for row, (a, b) in enumerate(((0, 14), (5, 20), (0, 9))):
            p.drawRect(QRectF(2, 1 + 6 * row, 20, 4))
            p.fillRect(QRectF(2 + a, 1 + 6 * row, b - a, 4), color)
    elif name == "Runs":
        path = QPainterPath(QPointF(2, 3))
        path.lineTo(20, 3)
        path.lineTo(20, 10)
        path.lineTo(5, 10)
        path.lineTo(5, 16)
        path.lineTo(22, 16)
        p.drawPath(path)
    elif name == "Devices":
        p.drawRect(QRectF(4, 2, 16, 8))
        for n in range(3):
            p.drawLine(QPointF(7 + 5 * n, 10), QPointF(7 + 5 * n, 17))
    elif name == "Bench":
        for n, at in enumerate((11, 5, 9)):
            p.drawLine(QPointF(5 + 7 * n, 1), QPointF(5 + 7 * n, 17))
            p.fillRect(QRectF(2 + 7 * n, at - 2, 6, 4), color)
    elif name == "Sheets":
        p.drawRect(QRectF(5, 0, 14, 17))
        for n in range(3):
            p.drawLine(QPointF(8, 5 + 4 * n), QPointF(16, 5 + 4 * n))
    p.restore()


def draw_hatch(p: QPainter, r: QRectF, color: QColor, step: float = 5, width: float = 2) -> None:
    """Lines rising 45° to the right across a rectangle."""
    p.save()
    p.setClipRect(r)
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    p.setPen(QPen(color, width))
    run = step * math.sqrt(2)
    x = r.left() - r.height()
    while x < r.right():
        p.drawLine(QPointF(x, r.bottom()), QPointF(x + r.height(), r.top()))
        x += run
    p.restore()


def draw_padlock(p: QPainter, x: float, y: float, color: QColor) -> None:
    """A small padlock, 8 wide: a place that is locked."""
    p.setRenderHint(QPainter.RenderHint.Antialiasing)
    p.setPen(QPen(color, 1.2))
    p.setBrush(Qt.BrushStyle.NoBrush)
    p.drawArc(QRectF(x + 1.6, y, 4.8, 6), 0, 180 * 16)
    p.fillRect(QRectF(x, y + 3.5, 8, 6), color)
    p.setRenderHint(QPainter.RenderHint.Antialiasing, False)


def draw_tested(p: QPainter, how: str, x: float, y: float) -> None:
    """The mark of what was tested: passed, failed, or to be looked at again."""
    p.fillRect(QRectF(x - 1, y - 1, 9, 9), THEME.color("field"))
    draw_mark(p, {"passed": "matches", "failed": "differs"}.get(how, "claimed"), x, y, 7)
