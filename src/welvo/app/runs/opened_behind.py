"""What is opened below a cable: the DMX line behind a bridge or a converter, a port's own line, faults with their
fix."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter, QPen
from PySide6.QtWidgets import QWidget

from welvo.app.jobs.network import Network
from welvo.app.runs.riser_drawing import At
from welvo.app.session import Session
from welvo.app.widgets import marks
from welvo.app.widgets.painting import CENTRE, RIGHT, draw_frame, draw_text_line, width_of
from welvo.app.widgets.theme import THEME
from welvo.checks.registry import Finding
from welvo.rig.document import Rig
from welvo.rig.notation import say_count, say_place
from welvo.rig.refs import PortRef, to_run
from welvo.rig.runs import Segment
from welvo.rig.tints import tint_of
from welvo.runs.bridge import Slots, gaps_behind, meetings_behind, rows_behind_bridge
from welvo.runs.cable import Piece, PortStream
from welvo.runs.geometry import Course, Stroke
from welvo.runs.lamps import slot_map
from welvo.survey.lines import line_sum, plug_of

LEFT_SIDE, RIGHT_SIDE = 20, 156
CELL, PITCH, TOP = 20, 72, 8
BOX_WIDE, BOX_HIGH = 72, 32
TAPE = 96
"""Height of a bridge's opened tape with the numbers over and under it."""


class OpenedBehind(QWidget):
    """Knows where the cable lies, paints the tapes below it, and remembers where lamps, fixes and faults stand."""

    def __init__(self, session: Session, network: Network) -> None:
        super().__init__()
        self._session, self._network = session, network
        self.device_id = ""
        self.chosen = At("", -1, 0)
        self.stream: PortStream | None = None
        self._course: Course | None = None
        self._scale = 1.0
        self._buttons: list[tuple[QRectF, Finding]] = []
        self._lamps: list[tuple[QRectF, str]] = []
        self._errors: list[tuple[QRectF, str]] = []
        self._seam_words: list[QRectF] = []

    @property
    def scale(self) -> float:
        """Pixels of the screen per LED: what fits the width, times the zoom."""
        return self._scale

    def _boxes_before(self, s: Stroke) -> int:
        """How many items of fixed width come before a stroke on its cable."""
        if not s.fixed or self._course is None:
            return 0
        return sum(1 for o in self._course.strokes if o.fixed < s.fixed and not o.leds and o.kind != "extension")

    def rect_of(self, s: Stroke) -> QRectF:
        """Where a stroke lies: the riser's lanes are lines here, its depth is the way to the right."""
        scale = self.scale
        boxes = self._boxes_before(s)
        y = float(TOP + s.lane * PITCH + 32)
        x = LEFT_SIDE + boxes * (BOX_WIDE + 16) + scale * (s.led - s.leds if s.up else s.led)
        if s.leds:
            return QRectF(x, y, max(1.0, s.leds * scale), CELL)
        if s.kind == "extension":
            return QRectF(x, y + CELL / 2 - 1, 12, 2)
        return QRectF(x + 12, y - 6, BOX_WIDE, BOX_HIGH)

    def _bridges(self) -> list[Piece]:
        return [p for p in self.stream.pieces if p.segment.kind in ("bridge", "lamps")] if self.stream else []

    def _wrong(self, piece: Piece) -> Finding | None:
        """The error row of a bridge."""
        where = to_run(self.device_id, self.chosen.label, piece.n)
        codes = ("RUN-14", "RUN-15", "RUN-21", "RUN-11", "RUN-23", "RUN-30", "RUN-33")
        return next((f for f in self._session.report.findings if f.code in codes and f.goes_to == where), None)

    def _draw_else(self, p: QPainter) -> None:
        rig = self._session.rig
        device = rig.devices.get(self.device_id)
        port = device.ports.get(self.chosen.label) if device else None
        segment = next((s for s in port.run if s.kind == "line"), None) if port else None
        if segment is not None and segment.fixtures:
            self._draw_line(p, rig, segment)
            return
        words = (
            f"Nothing is attached to port {self.chosen.label} yet. Type what is to be attached there below, or drag "
            "it up from the list."
            if self.chosen.label
            else "Pick a port above to open its cable."
        )
        draw_text_line(p, QRectF(LEFT_SIDE, 20, self.width() - 40, 24), words, "quiet", 13)

    def _draw_line(self, p: QPainter, rig: Rig, segment: Segment) -> None:
        """A DMX line in cable order: each lamp with its address, metres and loads."""
        cables = self._session.index.cables_and_sums
        line = cables.lines.get(PortRef(self.device_id, self.chosen.label))
        total = line_sum(
            self._session.index, segment, None, line.universe if line else "", plug_of(rig, self.device_id)
        )
        step = min(96.0, (self.width() - LEFT_SIDE - 30) / max(1, len(total.stops)))
        y = 44
        p.setPen(QPen(THEME.color("edge"), 1.5))
        p.drawLine(QPointF(LEFT_SIDE, y + 12), QPointF(LEFT_SIDE + step * len(total.stops), y + 12))
        for n, stop in enumerate(total.stops):
            r = QRectF(LEFT_SIDE + step * n + 10, y, max(4.0, step - 18), 24)
            spine, body = THEME.colours_of_tint(tint_of(rig, stop.key))
            p.fillRect(r, body)
            p.fillRect(QRectF(r.left(), r.top(), 3, 24), spine)
            self._lamps.append((r, stop.key))
            if r.width() > 28:
                size = 13 if width_of(stop.name, 13, True) <= r.width() - 9 else 11
                if width_of(stop.name, size, True) <= r.width() - 8:  # else the pointer and the list say it
                    draw_text_line(p, r.adjusted(7, 0, -1, 0), stop.name, "text", size, True)
                draw_text_line(
                    p,
                    QRectF(r.left(), y - 20, r.width() + 10, 18),
                    f"{stop.dmx:03d}" if stop.dmx else "—",
                    "text",
                    13,
                    True,
                )
                if stop.metres or stop.booster:
                    draw_text_line(
                        p,
                        QRectF(r.left(), y + 28, r.width() + 14, 16),
                        f"{'booster · ' if stop.booster else ''}{stop.metres:g} m",
                        "quiet",
                        11,
                    )
        in_order = "in address order" if total.in_order else "not in address order"
        words = (
            f"{say_count(len(total.stops), 'lamp')} · {total.heaviest:g} of 32 unit loads · {total.metres:g} m · "
            f"{in_order}"
        )
        if segment.terminated is not None:
            words += " · terminated" if segment.terminated else " · open end"
        if total.adapters:
            words += f" · adapters {', '.join(total.adapters)}"
        draw_text_line(p, QRectF(LEFT_SIDE, y + 56, self.width() - 40, 20), words, "quiet", 13)

    def _draw_behind(self, p: QPainter, piece: Piece, y: float) -> float:
        assert self.stream
        tape = QRectF(120, y + 18, self._right() - 132, 32)
        box_rect = (
            next((self.rect_of(s) for s in self._course.strokes if s.n == piece.n), tape) if self._course else tape
        )
        p.setPen(QPen(THEME.color("edge"), 1))
        x = box_rect.center().x()
        p.drawPolyline(
            [
                QPointF(x, box_rect.bottom()),
                QPointF(x, y + 2),
                QPointF(tape.left(), y + 2),
                QPointF(tape.left(), tape.top()),
            ]
        )
        p.drawPolyline([QPointF(x, y + 2), QPointF(tape.right(), y + 2), QPointF(tape.right(), tape.top())])
        draw_text_line(p, QRectF(0, y + 3, tape.left() - 6, 14), "DMX address", "quiet", 11, align=RIGHT)
        draw_text_line(
            p, QRectF(0, tape.bottom() + 3, tape.left() - 6, 14), "universe.address", "quiet", 11, align=RIGHT
        )
        p.fillRect(tape, THEME.color("field"))
        if piece.segment.kind == "bridge":
            self._draw_bridge_tape(p, piece, tape)
        else:
            self._draw_lamp_tape(p, piece, tape)
        p.setPen(QPen(THEME.color("edge"), 1))
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.drawRect(tape)
        y = tape.bottom() + 24
        wrong = self._wrong(piece)
        if wrong:
            self._draw_error(p, wrong, QRectF(120, y, self._right() - 132, 24))
            y += 28
        return y + TAPE - 74

    def _right(self) -> float:
        view = self.parentWidget()
        return min(self.width(), view.width() if view else self.width())

    def _draw_bridge_tape(self, p: QPainter, piece: Piece, tape: QRectF) -> None:
        assert self.stream
        cables = self._session.index.cables_and_sums
        behind = rows_behind_bridge(cables, self.stream, piece)
        top = max([piece.segment.width, *(r.last for r in behind)], default=1)
        per = tape.width() / max(1, top)
        if top > piece.segment.width:
            marks.draw_hatch(
                p,
                QRectF(
                    tape.left() + piece.segment.width * per,
                    tape.top(),
                    (top - piece.segment.width) * per,
                    tape.height(),
                ),
                THEME.color("error"),
                7,
                2,
            )
        reach = tape.left() - 10.0
        under = reach
        for r in behind:
            if not r.dmx:
                continue
            x = tape.left() + (r.dmx - 1) * per
            block = QRectF(x, tape.top(), max(2.0, (r.last - r.dmx + 1) * per), tape.height())
            spine, body = THEME.colours_of_tint(tint_of(self._session.rig, r.key))
            p.fillRect(block, body)
            p.fillRect(QRectF(x, tape.top(), 3, tape.height()), spine)
            self._lamps.append((block, r.key))
            words = self._words(r)
            draw_text_line(
                p,
                block.adjusted(7, 0, -2, 0),
                words if width_of(words, 13, True) < block.width() - 8 else r.name,
                "text",
                13,
                True,
            )
            if x > reach + 4:
                draw_text_line(p, QRectF(x, tape.top() - 16, 40, 14), str(r.dmx), "text", 11, elide=False)
                reach = x + width_of(str(r.dmx), 11)
            place = say_place(*r.places[0][0]) if r.places else "not carried"
            if x > under + 6:
                draw_text_line(p, QRectF(x, tape.bottom() + 3, 90, 14), place, "text", 11, elide=False)
                under = x + width_of(place, 11)
        for a, b in gaps_behind(behind, piece.segment.width):
            x, wide = tape.left() + (a - 1) * per, (b - a + 1) * per
            if wide > 44:
                draw_text_line(
                    p, QRectF(x, tape.top(), wide, tape.height()), f"{b - a + 1} free", "quiet", 11, align=CENTRE
                )
        for _, _, low, high in meetings_behind(behind):
            both = QRectF(tape.left() + (low - 1) * per, tape.top(), max(4.0, (high - low + 1) * per), tape.height())
            p.fillRect(both, THEME.color("ground"))
            marks.draw_hatch(p, both, THEME.color("error"), 5, 2)
        wide = top - 1
        words = str(top)
        if tape.left() + wide * per > reach + 12:
            draw_text_line(p, QRectF(tape.right() - 30, tape.top() - 16, 30, 14), words, "quiet", 11, align=RIGHT)

    def _words(self, r: Slots) -> str:
        fixture = self._session.rig.fixtures.get(r.key)
        profile = self._session.rig.profiles.get(fixture.profile) if fixture else None
        return f"{r.name} {profile.name if profile else ''}".strip()

    def _draw_lamp_tape(self, p: QPainter, piece: Piece, tape: QRectF) -> None:
        assert self.stream
        slots = slot_map(self._session.index.cables_and_sums, self.stream, piece)
        if not slots:
            draw_text_line(
                p, tape, "No lamp has an address yet: say what each channel does.", "quiet", 11, align=CENTRE
            )
            return
        low, top = slots[0].dmx, slots[-1].dmx
        per = tape.width() / max(1, top - low + 1)
        under = tape.left() - 10.0
        for s in slots:
            x = tape.left() + (s.dmx - low) * per
            cell = QRectF(x, tape.top(), max(1.0, per), tape.height())
            spine, body = THEME.colours_of_tint(tint_of(self._session.rig, piece.key))
            p.fillRect(cell, body)
            first = s.dmx == low or s.function is piece.segment.functions[0]
            p.fillRect(
                QRectF(x, tape.top(), 3 if first else 1, tape.height()), spine if first else THEME.color("field")
            )
            if per > 12:
                words = s.function.removeprefix("=")
                if width_of(words, 11) < per - 5:
                    draw_text_line(p, cell.adjusted(4, 0, 0, 0), words, "text", 11, elide=False)
            if first and x > under + 4:
                words = f"{s.dmx} · px {s.pixel}"
                draw_text_line(p, QRectF(x, tape.top() - 16, 80, 14), words, "text", 11, elide=False)
                place = say_place(*s.place) if s.place else "no address"
                draw_text_line(p, QRectF(x, tape.bottom() + 3, 80, 14), place, "text", 11, elide=False)
                under = x + max(width_of(words, 11), width_of(place, 11))

    def _draw_error(self, p: QPainter, f: Finding, r: QRectF) -> None:
        p.fillRect(r, THEME.color(f"{f.severity}_wash"))
        p.fillRect(QRectF(r.left(), r.top(), 3, r.height()), THEME.color(f.severity))
        marks.draw_mark(p, f.severity, r.left() + 8, r.top() + 6, 12)
        fixes = f.possible_fixes
        room = r.width() - 34
        if fixes:
            wide = width_of(fixes[0].label) + 20.0
            press = QRectF(r.right() - wide - 3, r.top() + 1, wide, 22)
            draw_frame(p, press, "raised", "text", 4)
            draw_text_line(p, press, fixes[0].label, "text", 13, align=CENTRE)
            self._buttons.append((press, f))
            room -= wide + 10
        first, *more = f.reason.rstrip(".").split("; ")
        behind = f" · {len(more)} more" if more else ""
        said = (first + behind, first.split(": ")[0] + behind, f.where)  # the pointer and the panel say all of it
        words = next((w for w in said if width_of(w, 11) <= room), f.code)
        draw_text_line(p, QRectF(r.left() + 26, r.top(), room, 24), words, "text", 11)
        self._errors.append((r, f.reason))
