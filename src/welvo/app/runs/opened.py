"""The selected cable opened: every pixel as a cell, numbers at every boundary, bridges with their DMX line below."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QLineF, QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QFocusEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QWheelEvent
from PySide6.QtWidgets import QScrollArea, QToolTip

from welvo.app.jobs.network import Network
from welvo.app.runs.opened_behind import (
    BOX_WIDE,
    CELL,
    LEFT_SIDE,
    PITCH,
    RIGHT_SIDE,
    TAPE,
    TOP,
    OpenedBehind,
)
from welvo.app.runs.riser_drawing import At
from welvo.app.session import Session
from welvo.app.widgets import marks
from welvo.app.widgets.fitting import fit_parts
from welvo.app.widgets.fixes import run_fix
from welvo.app.widgets.literal import literal_text
from welvo.app.widgets.painting import CENTRE, draw_frame, draw_text_line, width_of
from welvo.app.widgets.theme import THEME
from welvo.rig.notation import say_count, say_place, say_thousands
from welvo.rig.refs import PortRef
from welvo.rig.tints import tint_of
from welvo.runs.along import cable_order, element_pixel, part_name, piece_name
from welvo.runs.bridge import demands_of_bridge, goes_on, pixels_worth
from welvo.runs.cable import Piece
from welvo.runs.geometry import Stroke, course_of, place_along, seams_in_segment
from welvo.runs.lamps import say_functions


class OpenedCable(OpenedBehind):
    """Emits `picked` (port, segment, LED) for the cell that was clicked; `fixture` for a lamp behind a bridge."""

    picked = Signal(str, int, int)
    fixture = Signal(str)

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__(session, network)
        self._zoom = 1.0
        self._seen = (0, 1000)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("The selected cable, pixel by pixel")

    # ---- what is shown

    def show_port(self, device_id: str, chosen: At) -> None:
        stream = self._session.index.cables_and_sums.streams.get(PortRef(device_id, chosen.label))
        if stream is not self.stream or device_id != self.device_id:
            self._course = course_of(stream) if stream else None
        if (device_id, chosen.label) != (self.device_id, self.chosen.label):
            self._zoom = 1.0
        self.device_id, self.chosen, self.stream = device_id, chosen, stream
        self._measure()
        self.setMinimumSize(int(self._wide()), int(self._high()))
        self.update()

    def _boxes(self) -> int:
        """How many items of fixed width lie in the longest line: bridges and converters."""
        return sum(1 for s in self._course.strokes if not s.leds) if self._course else 0

    def _measure(self) -> None:
        """Take the width of the view over; everything is placed by it until the next painting."""
        self._scale = self._fit()

    def _fit(self) -> float:
        parent = self.parentWidget()
        view = parent.width() if parent else self.width()
        room = view - LEFT_SIDE - RIGHT_SIDE - self._boxes() * (BOX_WIDE + 16)
        leds = self._course.leds if self._course else 1
        return max(0.01, min(18.0, max(60, room) / max(1, leds)) * self._zoom)

    def _wide(self) -> float:
        if self._zoom <= 1 or self._course is None:
            return 200
        return LEFT_SIDE + RIGHT_SIDE + self._course.leds * self.scale + self._boxes() * (BOX_WIDE + 16)

    def _high(self) -> float:
        if self.stream is None:
            return 120
        lanes = self._course.lanes if self._course else 1
        extra = sum(TAPE + (28 if self._wrong(p) else 0) for p in self._bridges())
        return TOP + lanes * PITCH + extra + 10

    # ---- painting

    def paintEvent(self, e: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), THEME.color("ground"))
        self._measure()
        seen = QRectF(e.rect())
        self._seen = (int((seen.top() - TOP) // PITCH) - 1, int((seen.bottom() - TOP) // PITCH) + 1)
        self._buttons, self._lamps, self._errors, self._seam_words = [], [], [], []
        if self.stream is None or not self.stream.pieces:
            self._draw_else(p)
        else:
            assert self._course
            self._draw_bends(p)
            self._draw_ends(p)  # before the seams, whose words give way to these
            for s in self._visible():
                self._draw_stroke(p, s)
            self._draw_names(p)
            y = float(TOP + self._course.lanes * PITCH + 4)
            for piece in self._bridges():
                y = self._draw_behind(p, piece, y)
        if self.hasFocus():
            draw_frame(p, QRectF(self.rect()).adjusted(1, 1, -1, -1), None, "accent", 2, 2)

    def _visible(self) -> list[Stroke]:
        """The strokes whose lines are in view."""
        low, high = self._seen
        return [s for s in self._course.strokes if low <= s.lane <= high] if self._course else []

    def _draw_bends(self, p: QPainter) -> None:
        assert self._course
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setPen(QPen(THEME.color("edge"), 2))
        p.setBrush(Qt.BrushStyle.NoBrush)
        last: tuple[QPointF, bool] | None = None
        for s in self._course.strokes:
            r = self.rect_of(s)
            begin = QPointF(r.right() if s.up else r.left(), r.center().y())
            if last is None:
                start = QPointF(4, begin.y())
                if s.up:
                    p.drawPolyline(
                        [
                            start,
                            QPointF(4, r.bottom() + 6),
                            QPointF(r.right() + 10, r.bottom() + 6),
                            QPointF(r.right() + 10, begin.y()),
                            begin,
                        ]
                    )
                else:
                    p.drawLine(start, begin)
            else:
                at, up = last
                if abs(at.y() - begin.y()) < 1:
                    p.drawLine(at, begin)
                elif up != s.up:  # a real bend: half a circle at the far or the near end
                    x = min(at.x(), begin.x()) - 2 if up else max(at.x(), begin.x()) + 2
                    side = -14 if up else 14
                    p.drawPolyline([at, QPointF(x + side, at.y()), QPointF(x + side, begin.y()), begin])
                else:
                    x = max(at.x(), begin.x()) + 14
                    p.drawPolyline(
                        [
                            at,
                            QPointF(x, at.y()),
                            QPointF(x, begin.y() - 16),
                            QPointF(begin.x() - 12, begin.y() - 16),
                            QPointF(begin.x() - 12, begin.y()),
                            begin,
                        ]
                    )
            last = (QPointF(r.left() if s.up else r.right(), r.center().y()), s.up)
        p.setRenderHint(QPainter.RenderHint.Antialiasing, False)

    def _draw_stroke(self, p: QPainter, s: Stroke) -> None:
        assert self.stream
        piece = self.stream.pieces[s.n]
        r = self.rect_of(s)
        if s.kind == "extension":
            p.fillRect(r, THEME.color("edge"))
            return
        if not s.leds:
            self._draw_box(p, piece, r)
            return
        if s.kind == "null":
            self._draw_null(p, piece, s, r)
            return
        spine, body = THEME.colours_of_tint(tint_of(self._session.rig, piece.key))
        p.fillRect(r, body)
        p.fillRect(QRectF(r.left(), r.bottom() - 1, r.width(), 1), spine)
        order = cable_order(piece.segment, piece.leds)[s.first - 1 : s.first - 1 + s.leds]
        scale = self.scale
        if scale >= 4:
            p.setPen(THEME.color("field"))
            top, bottom = r.top(), r.bottom() - 2
            p.drawLines([QLineF(x, top, x, bottom) for x in (r.left() + n * scale for n in range(1, s.leds))])
        group = piece.segment.group
        often = 10 if group == 1 else 5 if group * scale >= 9 else 10
        for n in range(s.leds):
            px = int(order[n])
            if scale < 4 or (n and int(order[n - 1]) == px):
                continue
            if group > 1:  # where one data pixel ends and the next begins
                seam = r.right() - n * scale if s.up else r.left() + n * scale
                p.fillRect(QRectF(seam - 1, r.top(), 2, CELL - 1), spine)
            if px % often != 1:
                continue
            x = r.right() - (n + 1) * scale if s.up else r.left() + n * scale
            p.fillRect(QRectF(x, r.top(), scale, CELL - 1), spine)
            if scale >= 6 or px % 50 == 1:
                draw_text_line(
                    p,
                    QRectF(x - 20, r.top() - 18, 40 + scale, 14),
                    f"px {px}" if group > 1 else str(element_pixel(self._session.rig, piece, px) or px),
                    "quiet",
                    11,
                    align=CENTRE,
                )
        if scale < 4:
            p.fillRect(QRectF(r.left(), r.top(), 2, CELL), spine)
        self._draw_chevrons(p, s, r)
        self._draw_seams(p, s, piece)
        if piece.n == self.chosen.n:
            p.setPen(QPen(THEME.color("text"), 2))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(r.adjusted(-3, -3, 3, 3))
            at = place_along(self._course, piece.n, self.chosen.led) if self._course and self.chosen.led else None
            if at and at[0] is s:
                i = self.chosen.led - s.first
                x = r.right() - (i + 1) * scale if s.up else r.left() + i * scale
                p.setPen(QPen(THEME.color("accent"), 2))
                p.drawRect(QRectF(x - 1, r.top() - 4, max(4.0, scale + 2), CELL + 8))

    def _draw_null(self, p: QPainter, piece: Piece, s: Stroke, r: QRectF) -> None:
        p.setPen(QPen(THEME.color("edge"), 1))
        p.setBrush(Qt.BrushStyle.NoBrush)
        if self.scale >= 4:
            for n in range(s.leds):
                p.drawRect(QRectF(r.left() + n * self.scale + 1, r.top() + 2, self.scale - 2, CELL - 5))
        else:
            p.drawRect(r.adjusted(0.5, 2, -0.5, -2))
        draw_text_line(
            p, QRectF(r.left() - 20, r.top() - 18, r.width() + 40, 14), f"{piece.leds} null", "quiet", 11, align=CENTRE
        )

    def _draw_chevrons(self, p: QPainter, s: Stroke, r: QRectF) -> None:
        """Which way the data runs."""
        p.setPen(QPen(THEME.color("text"), 1.5))
        every = max(70.0, r.width() / 6)
        x = r.left() + every / 2
        while x < r.right() - 8:
            d = -3 if s.up else 3
            p.drawPolyline(
                QPolygonF(
                    [QPointF(x - d, r.top() + 6), QPointF(x, r.center().y() - 0.5), QPointF(x - d, r.bottom() - 7)]
                )
            )
            x += every

    def _draw_names(self, p: QPainter) -> None:
        """What each segment is: beside its line, or under it where the cable goes on."""
        assert self._course and self.stream
        for s in self._visible():
            if s.first != 1 or not s.leds or s.kind == "null":
                continue
            piece = self.stream.pieces[s.n]
            one = piece.segment
            says = [
                w
                for w in (
                    "reversed" if one.reverse else "",
                    f"folds every {one.fold}" if one.fold else "",
                    f"groups of {one.group}" if one.group > 1 else "",
                    f"set to {one.order}" if one.order else "",
                )
                if w
            ]
            name = part_name(self._session.rig, piece)
            r = self.rect_of(s)
            goes_on = any(
                o.lane == s.lane and self.rect_of(o).left() >= r.right() - 1 for o in self._course.strokes if o is not s
            )
            if goes_on:
                draw_text_line(
                    p, QRectF(r.left(), r.bottom() + 3, r.width(), 16), " · ".join((name, *says)), "quiet", 11
                )
                continue
            beside = r.right() + 22
            room = max(30.0, self._right() - beside - 4)
            draw_text_line(p, QRectF(beside, r.top() - 2, room, 18), name, "text", 13, piece.n == self.chosen.n)
            fits = fit_parts(" · ".join(says), room, partial(width_of, size=11))  # the panel says all of it
            draw_text_line(p, QRectF(beside, r.top() + 15, room, 16), fits, "quiet", 11)

    def _draw_seams(self, p: QPainter, s: Stroke, piece: Piece) -> None:
        assert self.stream
        for along, before, behind, cut in seams_in_segment(self.stream, piece):
            if not s.first <= along < s.first + s.leds:
                continue
            r = self.rect_of(s)
            i = along - s.first
            x = r.right() - i * self.scale if s.up else r.left() + i * self.scale
            if cut:  # the pixel itself is cut: hatch it, the end goes through it
                cell = QRectF(x - (self.scale if s.up else 0), r.top(), max(4.0, self.scale), CELL)
                marks.draw_hatch(p, cell, THEME.color("warning"), 4, 1.5)
                x += -self.scale / 2 if s.up else self.scale / 2
            p.fillRect(QRectF(x - 1, r.top() - 6, 2, CELL + 12), THEME.color("text"))
            left = say_place(*(before if not s.up else behind))
            right = say_place(*(behind if not s.up else before))
            y = r.bottom() + 4
            # where two seams are close, the first keeps its words; the pointer and the panel say the others
            wide = width_of(left, 11, True) + 2
            at_left = QRectF(x - 6 - wide, y, wide, 16)
            self._seam_word(p, at_left, left, "quiet" if not s.up else "text", s.up)
            at_right = QRectF(x + 6, y, width_of(right, 11, True) + 2, 16)
            self._seam_word(p, at_right, right, "text" if not s.up else "quiet", not s.up)
            if cut:
                at_cut = QRectF(at_right.right() + 6, y, width_of("cut pixel", 11, True) + 2, 16)
                self._seam_word(p, at_cut, "cut pixel", "warning", True)

    def _seam_word(self, p: QPainter, r: QRectF, words: str, token: str, bold: bool) -> None:
        r = r.adjusted(0, 0, 0, THEME.step)
        if not any(r.intersects(o) for o in self._seam_words):
            self._seam_words.append(r)
            draw_text_line(p, r, words, token, 11, bold)

    def _draw_ends(self, p: QPainter) -> None:
        """Numbers at every boundary: where each segment begins, and where the cable ends."""
        assert self.stream and self._course
        by_line: dict[int, list[tuple[float, float]]] = {}
        for s in self._visible():
            piece = self.stream.pieces[s.n]
            if not piece.slots:
                continue
            r = self.rect_of(s)
            order = cable_order(piece.segment, piece.leds) if piece.leds else None
            first = int(order[s.first - 1]) if order is not None and s.leds else 1
            last = int(order[s.first + s.leds - 2]) if order is not None and s.leds else piece.pixels
            for px, at_begin in ((first, True), (last, False)):
                if not s.leds and not at_begin:
                    continue
                place = piece.place_of_slot((px - 1) * piece.k + 1)
                words = say_place(*place) if place else "no address"
                more = (
                    f"px {say_thousands(piece.px + px - 1)} · slot {say_thousands(piece.stream + (px - 1) * piece.k)}"
                )
                wide = width_of(words, 13, True) + 6 + width_of(more, 11)
                at_left = at_begin != s.up
                x = r.left() if at_left else max(r.left(), r.right() - wide)
                taken = by_line.setdefault(s.lane, [])
                if any(a - 8 < x + wide and x < b + 8 for a, b in taken):
                    more, wide = "", width_of(words, 13, True)
                    x = r.left() if at_left else max(r.left(), r.right() - wide)
                    if any(a - 8 < x + wide and x < b + 8 for a, b in taken):
                        continue
                taken.append((x, x + wide))
                y = TOP + s.lane * PITCH - 4
                self._seam_words.append(QRectF(x, y, wide, 17 + THEME.step))
                draw_text_line(
                    p, QRectF(x, y, wide + 10, 17), words, "text" if place else "warning", 13, True, elide=False
                )
                if more:
                    draw_text_line(
                        p,
                        QRectF(x + width_of(words, 13, True) + 6, y + 1, width_of(more, 11) + 10, 16),
                        more,
                        "quiet",
                        11,
                        elide=False,
                    )

    def _draw_box(self, p: QPainter, piece: Piece, r: QRectF) -> None:
        s = piece.segment
        wrong = self._wrong(piece)
        draw_frame(p, r, "raised", "error" if wrong and wrong.severity == "error" else "text", 3, 2)
        title = {"bridge": "bridge", "lamps": "converter"}.get(s.kind, s.kind)
        draw_text_line(p, QRectF(r.left(), r.top() + 1, r.width(), 16), title, "text", 11, True, CENTRE)
        says = f"{s.width} slots" if s.kind == "bridge" else f"{piece.pixels} lamps"
        draw_text_line(p, QRectF(r.left(), r.top() + 14, r.width(), 16), says, "quiet", 11, False, CENTRE)
        if piece.n == self.chosen.n:
            p.setPen(QPen(THEME.color("text"), 2))
            p.setBrush(Qt.BrushStyle.NoBrush)
            p.drawRect(r.adjusted(-4, -4, 4, 4))
        beside = r.right() + 14
        room = self.width() - beside - 4
        if room > 60:
            _, says = (
                goes_on(self._session.index.cables_and_sums, piece)
                if s.kind == "bridge"
                else (True, say_functions(s.functions))
            )
            worth = f"takes {say_count(pixels_worth(piece), 'pixel')}' worth of the port"
            for y, words in ((-1, says), (14, worth)):
                if width_of(words, 11) <= room:  # else the panel says it
                    draw_text_line(p, QRectF(beside, r.top() + y, room, 17), words, "quiet", 11)

    # ---- behind a bridge or a converter

    # ---- hands

    def place_at_point(self, pos: QPointF) -> At:
        for s in self._course.strokes if self._course and self.stream else ():
            r = self.rect_of(s)
            if r.adjusted(0, -4, 0, 4).contains(pos):
                if not s.leds:
                    return At(self.chosen.label, s.n, 0)
                offset = (r.right() - pos.x() if s.up else pos.x() - r.left()) / self.scale
                return At(self.chosen.label, s.n, s.first + min(s.leds - 1, max(0, int(offset))))
        return At(self.chosen.label, -1, 0)

    def mousePressEvent(self, e: QMouseEvent) -> None:
        self.setFocus()
        for r, f in self._buttons:
            if r.contains(e.position()) and f.possible_fixes:
                run_fix(self._session, self._network, f.possible_fixes[0])
                return
        for r, key in self._lamps:
            if r.contains(e.position()):
                self.fixture.emit(key)
                return
        at = self.place_at_point(e.position())
        if at.label and at.n >= 0:
            self.picked.emit(*at)

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        at = self.place_at_point(e.position())
        for r, words in self._errors:
            if r.contains(e.position()):
                QToolTip.showText(e.globalPosition().toPoint(), literal_text(words), self)
        if self.stream is None or at.n < 0:
            return
        piece = self.stream.pieces[at.n]
        if not at.led or not piece.pixels:
            if piece.segment.kind == "bridge":
                lacks = [
                    d.what
                    for d in demands_of_bridge(self._session.index.cables_and_sums, self.stream, piece)
                    if not d.holds
                ]
                QToolTip.showText(
                    e.globalPosition().toPoint(),
                    f"Bridge: {'all is as it must be' if not lacks else 'not as it must be: ' + ', '.join(lacks)}",
                    self,
                )
            return
        px = int(cable_order(piece.segment, piece.leds)[at.led - 1])
        place = piece.place_of_slot((px - 1) * piece.k + 1)
        name = piece_name(self._session.rig, piece)
        own = element_pixel(self._session.rig, piece, px) or px
        QToolTip.showText(
            e.globalPosition().toPoint(),
            literal_text(
                f"{name}/{own} · {say_place(*place) if place else 'no address'} · px {piece.px + px - 1} of the port"
            ),
            self,
        )

    def wheelEvent(self, e: QWheelEvent) -> None:
        if not e.modifiers() & Qt.KeyboardModifier.ControlModifier:
            e.ignore()
            return
        self.zoom(1.25 if e.angleDelta().y() > 0 else 0.8)

    def zoom(self, by: float) -> None:
        """Wider or narrower cells; 1 is as wide as the view."""
        self._zoom = max(1.0, min(64.0, self._zoom * by))
        self._measure()
        self.setMinimumSize(int(self._wide()), int(self._high()))
        self.update()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        stream, at = self.stream, self.chosen
        k = e.key()
        if stream and k in (Qt.Key.Key_Left, Qt.Key.Key_Right) and at.n >= 0 and stream.pieces[at.n].leds:
            step = 1 if k == Qt.Key.Key_Right else -1
            led = min(stream.pieces[at.n].leds, max(1, (at.led or 1) + step))
            self.picked.emit(at.label, at.n, led)
        elif stream and k in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            n = at.n + (1 if k == Qt.Key.Key_Down else -1)
            if 0 <= n < len(stream.pieces):
                self.picked.emit(at.label, n, 1 if stream.pieces[n].leds else 0)
        else:
            super().keyPressEvent(e)

    def focusInEvent(self, e: QFocusEvent) -> None:
        super().focusInEvent(e)
        self.update()


class OpenedArea(QScrollArea):
    """The opened cable in its scroll area; it keeps what is chosen in view."""

    def __init__(self, opened: OpenedCable) -> None:
        super().__init__()
        self.opened = opened
        self.setWidgetResizable(True)
        self.setWidget(opened)
        self.setMinimumHeight(80)

    def follow(self) -> None:
        course, chosen = self.opened._course, self.opened.chosen
        s = next((x for x in course.strokes if x.n == chosen.n), None) if course else None
        if s:
            r = self.opened.rect_of(s)
            self.ensureVisible(int(min(r.center().x(), r.left() + 200)), int(r.center().y()), 60, 40)
