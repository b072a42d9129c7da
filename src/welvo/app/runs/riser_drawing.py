"""The riser's picture: the device as a bar, its cables attached to it to scale, and what is chosen or dragged on
them."""

from __future__ import annotations

from collections.abc import Sequence
from math import floor, log10
from typing import NamedTuple

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import (
    QFocusEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPixmap,
    QResizeEvent,
)
from PySide6.QtWidgets import QWidget

from welvo.app.runs.riser_layout import FIRST_BEND, PortLayout, Room, lay_out, rect_of, room_for
from welvo.app.session import Session
from welvo.app.widgets import marks
from welvo.app.widgets.painting import CENTRE, LEFT, RIGHT, draw_frame, draw_text_line, width_of
from welvo.app.widgets.theme import THEME
from welvo.bench.record import all_standings
from welvo.checks.foresee import Foreseen
from welvo.rig.abilities import ability_of_port
from welvo.rig.notation import say_thousands
from welvo.rig.plan import model_of
from welvo.rig.refs import PortRef, to_run
from welvo.rig.tints import tint_of
from welvo.rig.wiring import Port
from welvo.runs.cable import Piece, PortStream
from welvo.runs.geometry import Course, Stroke, course_of, place_along

BAR = 58
"""Height of the device's bar with the loads under it."""
RULER = 46
"""Width of the ruler at the left."""
MARKS_APART = 36
"""So far apart are the ruler's marks at least."""
NARROW = 44
"""Columns narrower than that have room for a port's label alone."""


class At(NamedTuple):
    """A place on the riser: port, segment (−1: none), LED along the segment (from 1; 0: none)."""

    label: str
    n: int
    led: int


class Header(NamedTuple):
    """What stands at a port: its load in words and as a share of what it takes (below 0: no limit), whether that is too
    much, and the mode that switches it off."""

    words: str
    share: float
    over: bool
    off: str


def ruler_of(scale: float, pitch: float) -> tuple[float, float]:
    """How far the marks of the ruler are from each other: in metres (with a pitch in mm) or LEDs, and in pixels of the
    screen, of which there are `pixels_per_led` to an LED. Steps are 1, 2 or 5 of a power of ten."""
    per = scale * 1000 / pitch if pitch else scale
    power = floor(log10(MARKS_APART / per))
    step = next(x for x in (1, 2, 5, 10) if x * 10.0**power * per >= MARKS_APART - 1e-6) * 10.0**power
    step = step if pitch else max(1.0, step)
    return step, step * per


MOST_HOLLOW = 200
"""Segments of a port up to which it is drawn hollow where an edit would move it."""


class RiserDrawing(QWidget):
    """Lays a device and its cables out to scale and paints them; whatever did not change is not laid out again."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.device_id = ""
        self._shown: object = None
        self.chosen = At("", -1, 0)
        self.courses: dict[str, Course] = {}
        self._of: dict[str, PortStream] = {}
        self._picture: QPixmap | None = None
        self._scale: float | None = None
        self._rooms: dict[str, Room] = {}
        self._layouts: dict[str, tuple[PortStream, Room, PortLayout]] = {}
        self._ghost: tuple[At, str, bool] | None = None
        self._hollow: list[QRectF] = []
        """Where strings and devices would lie that an edit moves, before it is done."""
        session.foreseen.connect(self._show_foreseen)
        self.setMinimumHeight(90)

    # ---- what is shown

    @property
    def labels_of_ports(self) -> list[str]:
        rig = self._session.rig
        if self.device_id not in rig.devices:
            return []
        model = model_of(rig, self.device_id)
        return list(model.ports if model else rig.devices[self.device_id].ports)

    def show_device(self, device_id: str, chosen: At) -> None:
        """Show a device with a place of it chosen; only streams that changed are laid out anew."""
        streams = {k[1]: s for k, s in self._session.index.cables_and_sums.streams.items() if k[0] == device_id}
        same = device_id == self.device_id
        for label, stream in streams.items():
            if not same or self._of.get(label) is not stream:
                self.courses[label] = course_of(stream)
        for label in [x for x in self.courses if x not in streams]:
            del self.courses[label]
        rig = self._session.rig
        shown = (device_id, len(streams), rig.devices.get(device_id), self._session.report, id(rig.tests), THEME.name)
        fresh = not same or shown != self._shown or any(self._of.get(k) is not v for k, v in streams.items())
        self.device_id, self._of, self.chosen = device_id, streams, chosen
        self._shown = shown
        if fresh:
            self._forget_layouts()
        self.update()

    def _show_foreseen(self, found: Foreseen | None) -> None:
        """Draw hollow what would lie elsewhere on the cables of the device that is shown."""
        before, self._hollow = self._hollow, []
        for label in self.labels_of_ports if found else ():
            stream = found.streams.get(PortRef(self.device_id, label)) if found else None
            if stream is None or stream is self._of.get(label) or len(stream.pieces) > MOST_HOLLOW:
                continue
            course, column = course_of(stream), self.column_of_port(label)
            room = room_for(column, course, self.pixels_per_led)
            now = {rect_of(self.room_of_cable(label), s).getRect() for s in self.strokes_of_port(label)}
            fresh = (rect_of(room, s) for s in course.strokes if s.kind not in ("null", "extension"))
            self._hollow += [r for r in fresh if r.getRect() not in now]
        if before or self._hollow:
            self.update()

    def strokes_of_port(self, label: str) -> Sequence[Stroke]:
        course = self.courses.get(label)
        return course.strokes if course else ()

    def restyle(self) -> None:
        self._forget_layouts()
        self.update()

    def column_of_port(self, label: str) -> QRectF:
        """The room of a port: below the bar, from side to side of its share of the width."""
        return self.room_of_cable(label).column

    @property
    def pixels_per_led(self) -> float:
        """Pixels of the screen per LED, one for all cables: the longest fits."""
        if self._scale is None:
            room = self.height() - BAR - (32 if any(s.start is None and s.slots for s in self._of.values()) else 14)
            best = 12.0
            for course in self.courses.values():
                if course.leds:
                    best = min(best, max(8.0, room - course.fixed) / course.leds)
            self._scale = best
        return self._scale

    def room_of_cable(self, label: str) -> Room:
        """Where a port's cable may lie; kept until the widget or the streams change."""
        found = self._rooms.get(label)
        if found is None:
            labels = self.labels_of_ports
            wide = (self.width() - RULER - 12) / max(1, len(labels))
            column = QRectF(RULER + wide * labels.index(label), BAR, wide, self.height() - BAR - 8)
            found = self._rooms[label] = room_for(column, self.courses.get(label), self.pixels_per_led)
        return found

    def rect_of(self, label: str, s: Stroke) -> QRectF:
        """Where a stroke is drawn."""
        return rect_of(self.room_of_cable(label), s)

    def _layout_of_port(self, label: str) -> PortLayout:
        """What is painted for a port; kept as long as its stream and its room are the same."""
        stream, room = self._of[label], self.room_of_cable(label)
        kept = self._layouts.get(label)
        if kept is None or kept[0] is not stream or kept[1] != room:
            tints = {x.key: tint_of(self._session.rig, x.key) for x in stream.pieces if x.key}
            kept = (stream, room, lay_out(stream, self.courses[label], room, tints))
            self._layouts[label] = kept
        return kept[2]

    def _forget_layouts(self) -> None:
        self._picture, self._scale = None, None
        self._rooms.clear()

    # ---- painting

    def paintEvent(self, _: QPaintEvent) -> None:
        ratio = self.devicePixelRatioF()
        if self._picture is None or self._picture.size() != self.size() * ratio:
            self._picture = QPixmap(self.size() * ratio)
            self._picture.setDevicePixelRatio(ratio)
            self._draw_riser(self._picture)
        p = QPainter(self)
        p.drawPixmap(0, 0, self._picture)
        self._draw_chosen(p)
        for r in self._hollow:
            draw_frame(p, r, None, "accent", 2, 1.5, dashed=True)
        if self._ghost:
            self._draw_ghost(p)
        if self.hasFocus():
            draw_frame(p, QRectF(self.rect()).adjusted(1, 1, -1, -1), None, "accent", 2, 2)

    def _draw_riser(self, target: QPixmap) -> None:
        target.fill(THEME.color("station"))
        if self.device_id not in self._session.rig.devices:
            return
        p = QPainter(target)
        labels = self.labels_of_ports
        draw_frame(p, QRectF(8, 4, self.width() - 16, 26), "raised", "edge", 3)
        self._draw_ports(p, labels)
        self._draw_ruler(p)
        shown = [label for label in labels if label in self._of]
        for label in shown:
            self._draw_cable(p, label)
        self._draw_strings(p, shown)
        ends = [line for label in shown for line in self._layout_of_port(label).seams]
        if ends:
            p.setPen(QPen(THEME.color("text"), 2))
            p.drawLines(ends)
        for label in labels:
            if label not in self._of:
                self._draw_line(p, label)

    def _common_pitch(self) -> float:
        """Millimetres from LED to LED, where all strings of the device have one pitch; 0: they have not, or nobody
        said."""
        rig = self._session.rig
        kinds = {
            rig.pixel_types.get(rig.elements[p.key].type)
            for s in self._of.values()
            for p in s.pieces
            if p.leds and p.key in rig.elements
        }
        pitches = {k.pitch if k else 0.0 for k in kinds}
        return pitches.pop() if len(pitches) == 1 else 0.0

    def _draw_ruler(self, p: QPainter) -> None:
        """How long the cables are, down the left side: in metres where the pitch is known, else in LEDs."""
        longest = max((c.leds for c in self.courses.values()), default=0)
        if not longest:
            return
        pitch = self._common_pitch()
        step, apart = ruler_of(self.pixels_per_led, pitch)
        top, bottom = FIRST_BEND + 8.0, self.height() - 8.0
        p.setPen(QPen(THEME.color("edge"), 1))
        p.drawLine(QPointF(RULER - 10, top), QPointF(RULER - 10, bottom))
        draw_text_line(p, QRectF(4, top - 20, RULER - 8, 16), "m" if pitch else "LEDs", "quiet", 11)
        for n in range(int(max(0.0, bottom - top) / apart) + 1):
            y = top + n * apart
            p.setPen(QPen(THEME.color("edge"), 1))
            p.drawLine(QPointF(RULER - 14, y), QPointF(RULER - 10, y))
            draw_text_line(p, QRectF(0, y - 8, RULER - 17, 16), f"{n * step:g}", "quiet", 11, align=RIGHT)

    def _worst_by_port(self) -> dict[str, str]:
        """The worst severity at each port of the device."""
        order = {"error": 3, "warning": 2, "note": 1}
        found: dict[str, str] = {}
        for f in self._session.report.findings:
            to = f.goes_to
            here = to.kind == "run" and to.id == self.device_id and to.port
            if here and order[f.severity] > order.get(found.get(to.port, ""), 0):
                found[to.port] = f.severity
        return found

    def _draw_ports(self, p: QPainter, labels: list[str]) -> None:
        """The labels on the bar and the loads under it, one kind of shape after the other: fonts change twice in
        all."""
        worst = self._worst_by_port()
        tested = all_standings(self._session.index) if self._session.rig.tests else {}
        heads = [self._head_of_port(label) for label in labels]
        narrow = self.column_of_port(labels[0]).width() < NARROW if labels else False
        wide = THEME.metrics(11 if narrow else 13, True)
        for label, head in zip(labels, heads):
            c = self.column_of_port(label)
            room = wide.horizontalAdvance(label)
            words = label if room <= c.width() - 2 else label[-2:]
            token = "quiet" if head.off else "text"
            draw_text_line(p, QRectF(c.left(), 6, c.width(), 20), words, token, 11 if narrow else 13, True, CENTRE)
            if head.off:
                p.drawLine(QPointF(c.left() + 6, 17), QPointF(c.right() - 6, 17))
            if label in worst and narrow:  # many ports: the mark stands where the load has no room
                marks.draw_mark(p, worst[label], c.center().x() - 5, 32, 10)
            how = tested.get(f"port/{self.device_id}/{label}", "")
            if how and not narrow:
                marks.draw_tested(p, how, c.center().x() - min(room, c.width()) / 2 - 12, 12)
            if label in worst and not narrow:
                marks.draw_mark(p, worst[label], c.center().x() + min(room, c.width()) / 2 + 3, 11, 11)
        grounds: list[QRectF] = []
        fills: dict[str, list[QRectF]] = {}
        for label, head in zip(labels, heads):
            c = self.column_of_port(label)
            if head.words and (not narrow or label not in worst):
                room_of_load = QRectF(c.left() - 4, 31, c.width() + 8, 14)
                draw_text_line(p, room_of_load, head.words, "error" if head.over else "quiet", 11, align=CENTRE)
            if head.share >= 0:
                bar = QRectF(c.left() + 8, 47, c.width() - 16, 4)
                grounds.append(bar)
                part = QRectF(bar.left(), bar.top(), bar.width() * min(1.0, head.share), 4)
                fills.setdefault("error" if head.over else "quiet", []).append(part)
        p.setPen(Qt.PenStyle.NoPen)
        p.setBrush(THEME.color("field"))
        p.drawRects(grounds)
        for token, rects in fills.items():
            p.setBrush(THEME.color(token))
            p.drawRects(rects)
        p.setBrush(Qt.BrushStyle.NoBrush)

    def _head_of_port(self, label: str) -> Header:
        """What stands under a port's label: its load, of what it can take."""
        able = ability_of_port(self._session.rig, self.device_id, label)
        stream = self._of.get(label)
        leds = (stream.leds or stream.pixels) if stream else 0
        narrow = (self.width() - RULER - 12) / max(1, len(self.labels_of_ports)) < NARROW
        if leds:
            over = bool(able.pixels and leds > able.pixels)
            return Header(
                _say_short_count(leds) if narrow else f"{say_thousands(leds)} px",
                leds / able.pixels if able.pixels else -1.0,
                over,
                able.off,
            )
        words = "" if narrow or stream or able.gives == "pixels" else "DMX"
        if able.gives == "bus":
            planned = self._session.rig.devices[self.device_id].ports.get(label, Port()).bus
            words = f"{len(planned.gear)} gear" if planned and planned.gear and not narrow else "bus"
        return Header(words, -1.0, False, able.off)

    def _draw_strings(self, p: QPainter, labels: list[str]) -> None:
        """The strings of all ports, one tint after the other: few calls for many of them."""
        p.setPen(Qt.PenStyle.NoPen)
        bodies: dict[int, list[QRectF]] = {}
        spines: dict[int, list[QRectF]] = {}
        for label in labels:
            made = self._layout_of_port(label)
            for own, by_tint in ((made.strings, bodies), (made.spines, spines)):
                for tint, rects in own.items():
                    by_tint.setdefault(tint, []).extend(rects)
        for which, by_tint in ((1, bodies), (0, spines)):
            for tint, rects in by_tint.items():
                p.setBrush(THEME.colours_of_tint(tint)[which])
                p.drawRects(rects)

    def _draw_cable(self, p: QPainter, label: str) -> None:
        made = self._layout_of_port(label)
        p.setPen(QPen(THEME.color("edge"), 1.5))
        if made.cables:
            p.drawLines(made.cables)
        if made.bare:
            p.setPen(QPen(THEME.color("edge"), 1.5, Qt.PenStyle.DotLine))
            p.drawLines(made.bare)
        p.setBrush(Qt.BrushStyle.NoBrush)
        if made.nulls:
            p.setPen(QPen(THEME.color("edge"), 1))
            p.drawRects([r.adjusted(0.5, 0.5, -0.5, -0.5) for r in made.nulls])
        for r, piece in made.segments:
            self._draw_box(p, r, piece, label)
        stream, c = self._of[label], self.column_of_port(label)
        if stream.start is None and stream.slots:
            draw_text_line(
                p, QRectF(c.left() + 2, c.bottom() - 16, c.width() - 4, 16), "no universe", "warning", 11, align=CENTRE
            )

    def _draw_box(self, p: QPainter, r: QRectF, piece: Piece, label: str) -> None:
        s = piece.segment
        wrong = (
            any(
                f.code == "RUN-14" and f.goes_to == to_run(self.device_id, label, piece.n)
                for f in self._session.report.findings
            )
            if s.kind == "bridge"
            else False
        )
        draw_frame(p, r, "raised", "error" if wrong else "text", 3, 2)
        words = s.kind
        draw_text_line(
            p,
            r.adjusted(3, 0, -3, 0),
            _bridge_words(s.width, r.width() - 6) if s.kind == "bridge" else words,
            "text",
            11,
            True,
            CENTRE,
        )
        if s.fixtures and s.kind == "bridge":
            y = r.bottom() + 2
            for n, key in enumerate(s.fixtures[: int(r.width() // 6)]):
                p.fillRect(
                    QRectF(r.left() + 2 + 6 * n, y, 4, 4), THEME.colours_of_tint(tint_of(self._session.rig, key))[0]
                )

    def _draw_line(self, p: QPainter, label: str) -> None:
        """A DMX line on a port: its lamps as beads along the cable."""
        rig = self._session.rig
        port = rig.devices[self.device_id].ports.get(label)
        c = self.column_of_port(label)
        for s in port.run if port else ():
            if s.kind != "line" or not s.fixtures:
                continue
            room = c.height() - 10
            step = min(22.0, room / len(s.fixtures))
            x = c.center().x() - (18 if c.width() > 60 else 0)
            p.setPen(QPen(THEME.color("edge"), 1.5))
            p.drawLine(QPointF(x, 53), QPointF(x, c.top() + step * (len(s.fixtures) - 0.5)))
            for n, key in enumerate(s.fixtures):
                spine, body = THEME.colours_of_tint(tint_of(rig, key))
                r = QRectF(x - 5, c.top() + step * n + 2, 10, max(2.0, min(14.0, step - 4)))
                p.fillRect(r, body)
                p.fillRect(QRectF(r.left(), r.top(), 3, r.height()), spine)
                fixture = rig.fixtures.get(key)
                if step >= 14 and fixture and c.width() > 60:
                    draw_text_line(
                        p,
                        QRectF(x + 10, r.top() - 3, c.right() - x - 12, 18),
                        str(fixture.number),
                        "text",
                        11,
                        align=LEFT,
                    )

    def _draw_chosen(self, p: QPainter) -> None:
        if not self.chosen.label or self.chosen.label not in self.labels_of_ports:
            return
        c = self.column_of_port(self.chosen.label)
        p.fillRect(QRectF(c.left() + 2, 27, c.width() - 4, 3), THEME.color("accent"))
        course = self.courses.get(self.chosen.label)
        if course is None or self.chosen.n < 0:
            return
        pen = QPen(THEME.color("text"), 2)
        p.setBrush(Qt.BrushStyle.NoBrush)
        for s in course.strokes:
            if s.n == self.chosen.n:
                p.setPen(pen)
                p.drawRect(self.rect_of(self.chosen.label, s).adjusted(-3, -2, 3, 2))
        at = place_along(course, self.chosen.n, self.chosen.led) if self.chosen.led else None
        if at:
            s, led = at
            y = c.top() + s.fixed + self.pixels_per_led * led
            r = self.rect_of(self.chosen.label, s)
            p.fillRect(QRectF(r.left() - 5, y - 2, r.width() + 10, 4), THEME.color("accent"))

    def _draw_ghost(self, p: QPainter) -> None:
        assert self._ghost
        at, words, fits = self._ghost
        if at.label not in self.labels_of_ports:
            return
        c = self.column_of_port(at.label)
        draw_frame(p, c.adjusted(1, -28, -1, 0), None, "accent" if fits else "error", 3, 2, dashed=True)
        found = place_along(self.courses[at.label], at.n, at.led) if at.led and at.label in self.courses else None
        if found:
            y = c.top() + found[0].fixed + self.pixels_per_led * found[1]
            r = self.rect_of(at.label, found[0])
            p.fillRect(QRectF(r.left() - 3, y - 2, r.width() + 6, 4), THEME.color("accent"))
        wide = min(self.width() - 16.0, width_of(words) + 40.0)
        x = min(max(8.0, c.center().x() - wide / 2), self.width() - wide - 8)
        r = QRectF(x, self.height() - 40, wide, 30)
        draw_frame(p, r, "raised", "accent" if fits else "error", 4, 1)
        draw_text_line(p, r.adjusted(10, 0, -10, 0), words, "text", 13)

    def focusInEvent(self, e: QFocusEvent) -> None:
        super().focusInEvent(e)
        self.update()

    def resizeEvent(self, e: QResizeEvent) -> None:
        self._forget_layouts()
        super().resizeEvent(e)


def _say_short_count(n: int) -> str:
    """A count for little room: `850`, `3.1k`."""
    return str(n) if n < 1000 else f"{n / 1000:.1f}k" if n < 10_000 else f"{n // 1000}k"


def _bridge_words(width: int, room: float) -> str:
    """As much of `bridge 64` as there is room for."""
    return next((w for w in (f"bridge {width}", "bridge") if width_of(w, 11, True) <= room), "br")
