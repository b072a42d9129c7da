"""The face: a mode's pixels in place and in number order."""

from __future__ import annotations

import itertools

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from welvo.app.paint import CENTRE, text
from welvo.app.theme import THEME
from welvo.rig.layout import row
from welvo.rig.profile import Mode, Spot


class Face(QWidget):
    """Pixel 1 is filled; a dashed line follows the numbers. `walk` lights one pixel at a time."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(240)
        self.setAccessibleName("Face of the fixture")
        self.mode: Mode | None = None
        self.lit = 0

    def set_mode(self, mode: Mode | None) -> None:
        self.mode = mode
        self.lit = 0
        self.update()

    def spots(self) -> tuple[Spot, ...]:
        if not self.mode or not self.mode.pixels:
            return ()
        return self.mode.spots or row(self.mode.pixels)

    def walk(self) -> None:
        """Light the next pixel in number order."""
        if self.mode and self.mode.pixels:
            self.lit = self.lit % self.mode.pixels + 1
            self.update()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        room = QRectF(self.rect()).adjusted(1, 1, -1, -1)
        p.setPen(QPen(THEME.color("edge"), 1))
        p.setBrush(THEME.color("field"))
        p.drawRoundedRect(room, 8, 8)
        spots = self.spots()
        if not spots:
            words = "one light, no pixels" if self.mode else "the face of the lamp stands here"
            text(p, room, words, "quiet", 11, align=CENTRE)
            return
        xs, ys = [s.x for s in spots], [s.y for s in spots]
        wide, high = max(xs) - min(xs) + 1, max(ys) - min(ys) + 1
        scale = min((room.width() - 24) / wide, (room.height() - 24) / high, 42)
        cx, cy = (max(xs) + min(xs)) / 2, (max(ys) + min(ys)) / 2
        points = [
            QPointF(room.center().x() + (s.x - cx) * scale, room.center().y() + (s.y - cy) * scale) for s in spots
        ]
        if scale >= 8:
            pen = QPen(THEME.color("edge"), 1)
            pen.setStyle(Qt.PenStyle.DashLine)
            p.setPen(pen)
            for a, b in itertools.pairwise(points):
                p.drawLine(a, b)
        radius = max(1.5, min(19.0, scale * 0.43))
        for n, at in enumerate(points, 1):
            bright = n == (self.lit or 1)
            p.setPen(QPen(THEME.color("edge"), 1 if radius > 3 else 0.5))
            p.setBrush(THEME.color("accent" if bright else "raised"))
            p.drawEllipse(at, radius, radius)
            if radius >= 9:
                r = QRectF(at.x() - radius, at.y() - radius, 2 * radius, 2 * radius)
                text(
                    p,
                    r,
                    str(n),
                    "accent_ink" if bright else "text",
                    13 if radius >= 13 else 11,
                    bright,
                    CENTRE,
                    elide=False,
                )
