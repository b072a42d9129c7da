"""An element drawn as it sits: its pixels in place, the part that is attached here, the chosen one, the way its cable
runs."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from welvo.app.widgets.face import View
from welvo.app.widgets.painting import RIGHT, draw_text_line
from welvo.app.widgets.theme import THEME
from welvo.rig import layout
from welvo.rig.patched import Element
from welvo.rig.profile import Spot
from welvo.rig.runs import Segment
from welvo.runs.along import cable_order, number_order

MOST = 2048
"""Longer elements are drawn by every so many of their pixels."""


def spots_of_element(element: Element) -> tuple[Spot, ...]:
    """Where its pixels are: as they were placed, else by its kind."""
    if len(element.spots) == element.pixels:
        return element.spots
    if element.kind == "ring":
        return layout.lay_out_ring(element.pixels)
    fold = element.fold or element.pixels
    if element.fold and element.fold < element.pixels:
        return tuple(Spot(x=float(n % fold), y=float(n // fold)) for n in range(element.pixels))
    return tuple(Spot(x=float(n), y=0.0) for n in range(element.pixels))


class ElementFace(QWidget):
    """A click picks the nearest pixel: `pick` gets its number."""

    def __init__(self, pick: Callable[[int], object]) -> None:
        super().__init__()
        self._pick = pick
        self._element: Element | None = None
        self._segment = Segment(kind="null")
        self._chosen = 0
        self._spots: tuple[Spot, ...] = ()
        self.setFixedHeight(96)
        self.setAccessibleName("The element, its pixels in place")

    def show_element(self, element: Element | None, segment: Segment, chosen: int) -> None:
        if element is not self._element:
            self._spots = spots_of_element(element) if element and element.kind != "block" else ()
            xs, ys = [s.x for s in self._spots] or [0.0], [s.y for s in self._spots] or [0.0]
            shape = (max(ys) - min(ys) + 1.2) / (max(xs) - min(xs) + 1.2)
            self.setFixedHeight(int(min(120, max(44, 26 + 240 * shape))))
        self._element, self._segment, self._chosen = element, segment, chosen
        self.update()

    def _view(self) -> View:
        return View(QRectF(self.rect()).adjusted(8, 6, -8, -18), self._spots, 20.0)

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.fillRect(self.rect(), THEME.color("field"))
        e, s = self._element, self._segment
        if e is None or not self._spots:
            return
        view = self._view()
        size = max(2.0, min(14.0, view.scale * 0.8))
        last = s.first + s.count - 1 if s.count else e.pixels
        spine, body = THEME.colours_of_tint(e.tint)
        step = max(1, e.pixels // MOST)
        attach = max(0, min(last, e.pixels) - s.first + 1)
        ungrouped = replace(s, group=1)
        order = number_order(e, s, attach)[cable_order(ungrouped, attach) - 1] if attach else ()
        p.setPen(QPen(THEME.color("edge"), 1, Qt.PenStyle.DashLine))
        along = [
            view.point_of_spot(self._spots[int(n) - 1]) for n in list(order)[::step] if 0 < int(n) <= len(self._spots)
        ]
        if len(along) > 1:
            p.drawPolyline(along)
        p.setPen(Qt.PenStyle.NoPen)
        for n in range(0, e.pixels, step):
            at = view.point_of_spot(self._spots[n])
            here = s.first <= n + 1 <= last
            p.setBrush(spine if here and n + 1 == s.first else body if here else THEME.color("line"))
            p.drawEllipse(at, size / 2, size / 2)
        if 0 < self._chosen <= len(self._spots):
            p.setBrush(THEME.color("accent"))
            p.drawEllipse(
                view.point_of_spot(self._spots[self._chosen - 1]), max(3.0, size / 2 + 1), max(3.0, size / 2 + 1)
            )
        words = f"{e.name}/{self._chosen}" if self._chosen else f"{s.first}–{last} of {e.pixels}"
        draw_text_line(p, QRectF(6, self.height() - 17, self.width() - 12, 16), words, "quiet", 11, align=RIGHT)

    def mousePressEvent(self, e: QMouseEvent) -> None:
        if not self._spots:
            return
        view = self._view()
        at = e.position()

        def far(n: int) -> float:
            d: QPointF = view.point_of_spot(self._spots[n]) - at
            return d.x() * d.x() + d.y() * d.y()

        self._pick(min(range(len(self._spots)), key=far) + 1)
