"""The try-out: levels of one mode by hand, what the lamp would show, and which levels give a colour. Nothing is
sent."""

from __future__ import annotations

import math

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QColorDialog, QScrollArea, QWidget

from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.painting import (
    CENTRE,
    break_lines,
    column_of_widgets,
    draw_frame,
    draw_text_block,
    draw_text_line,
    make_button,
    make_label,
    row_of_widgets,
)
from welvo.app.widgets.theme import LIGHT, THEME
from welvo.rig.lamp import drive_colour, highlight_values, look_at_levels, range_at, slot_bytes
from welvo.rig.modes import channels_in_order
from welvo.rig.profile import Mode

WIDE, TRACK_TOP = 40, 16


def colour_on_screen(rgb: tuple[float, float, float]) -> QColor:
    """Linear light as a colour on the screen."""
    return QColor.fromRgbF(
        *(v * 12.92 if v <= 0.0031308 else 1.055 * v ** (1 / 2.4) - 0.055 for v in (min(1.0, max(0.0, c)) for c in rgb))
    )


def say_signed(degrees: float) -> str:
    """`+90°`, `−45°`, and a plain `0°`."""
    n = round(degrees)
    return f"{'+' if n > 0 else '−' if n < 0 else ''}{abs(n)}°"


class LampView(QWidget):
    """The lamp as it would look: its pixels in place, where it points, what its ranges mean."""

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumSize(250, 120)
        self.setAccessibleName("The lamp as it would look")
        self.mode: Mode | None = None
        self.levels: dict[int, int] = {}

    def _face_width(self) -> float:
        """The lamp is drawn as large as there is room beside its words."""
        return max(116.0, min(self.height() - 1.0, self.width() - 64.0 - THEME.scale_length(150)))

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        beside = self._face_width()
        face = QRectF(0, 0, beside, min(self.height() - 1, max(119.0, beside)))
        draw_frame(p, face, "field", "edge", 6)
        mode = self.mode
        if mode is None:
            return
        shown = look_at_levels(mode, self.levels)
        spots = mode.spots if len(mode.spots) == len(shown.pixels) else ()
        points = [(s.x, s.y) for s in spots] or [(float(n), 0.0) for n in range(len(shown.pixels))]
        x0, y0 = min(x for x, _ in points), min(y for _, y in points)
        wide, high = max(x for x, _ in points) - x0 + 1, max(y for _, y in points) - y0 + 1
        scale = min((face.width() - 12) / wide, (face.height() - 12) / high, 60)
        radius = max(1.0, scale * 0.44)
        p.setRenderHint(QPainter.RenderHint.Antialiasing, True)
        for (x, y), rgb in list(zip(points, shown.pixels))[:4000]:
            c = QPointF(
                face.center().x() + (x - x0 + 0.5 - wide / 2) * scale,
                face.center().y() + (y - y0 + 0.5 - high / 2) * scale,
            )
            p.setPen(QPen(THEME.color("edge"), 1 if radius > 3 else 0.4))
            p.setBrush(colour_on_screen(rgb))
            p.drawEllipse(c, radius, radius)
        words = (
            [("dark", shown.dark)] if shown.dark else [("light", f"{100 * max(max(c) for c in shown.pixels):.0f} %")]
        )
        if shown.pan is not None or shown.tilt is not None:
            words.append(
                (
                    "points",
                    " · ".join(
                        f"{w} {say_signed(v)}" for w, v in (("pan", shown.pan), ("tilt", shown.tilt)) if v is not None
                    ),
                )
            )
            self._draw_pointer(p, shown.pan or 0.0, shown.tilt or 0.0, face)
        if shown.strobe is not None:
            words.append(("strobe", f"{shown.strobe:.1f} Hz"))
        words += list(shown.words)
        left = beside + 64.0 + 4 * THEME.step
        y_, room = 2.0, self.width() - left
        for a, b in words:
            lines, line = 1 + break_lines(b, room, 11).count("\n"), 18 + THEME.step
            if y_ + line * lines > self.height():
                break
            draw_text_line(p, QRectF(beside + 10, y_, 52 + 4 * THEME.step, line), a, "quiet", 11)
            draw_text_block(p, QRectF(left, y_, room, line * lines), b, "warning" if a == "dark" else "text", 11)
            y_ += line * lines

    def _draw_pointer(self, p: QPainter, pan: float, tilt: float, face: QRectF) -> None:
        """A little arrow for where the head points: turn is pan, length is tilt."""
        c = QPointF(face.right() - 18, face.top() + 18)
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QPen(THEME.color("edge"), 1))
        p.drawEllipse(c, 13, 13)
        length = 13 * math.sin(math.radians(min(90.0, abs(tilt))))
        turn = math.radians(pan + (180 if tilt < 0 else 0))
        p.setPen(QPen(THEME.color("text"), 2))
        p.drawLine(c, QPointF(c.x() + length * math.sin(turn), c.y() - length * math.cos(turn)))


class Sliders(QWidget):
    """One slim fader per channel, in slot order; a repeat's pixels after the first stand for all of them."""

    moved = Signal()
    pointed = Signal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumHeight(122 + 10 * THEME.step)  # and as high as there is room
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Try-out faders")
        self.mode: Mode | None = None
        self.levels: dict[int, int] = {}
        self.current = 0
        self.columns: list[list[int]] = []

    def set_mode(self, mode: Mode | None) -> None:
        self.mode = mode
        self.columns = []
        if mode:
            by_function: dict[tuple[str, bool, str], list[int]] = {}
            for n in channels_in_order(mode):
                c = mode.channels[n]
                key = (
                    (c.function, True, "")
                    if c.pixel and c.function
                    else (c.function, False, f"{c.break_no}.{c.slots[0]}")
                )
                by_function.setdefault(key, []).append(n)
            self.columns = list(by_function.values())
        self.current = min(self.current, max(0, len(self.columns) - 1))
        self.setMinimumWidth(WIDE * max(1, len(self.columns)))
        self.updateGeometry()
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(WIDE * max(1, len(self.columns)), 122)

    def value_of_slider(self, n: int) -> int:
        assert self.mode
        return self.levels.get(n, self.mode.channels[n].default)

    def set_column(self, at: int, share: float) -> None:
        assert self.mode
        for n in self.columns[at]:
            self.levels[n] = round(max(0.0, min(1.0, share)) * self.mode.channels[n].highest_value)
        self.update()
        self.moved.emit()
        self.pointed.emit(self.columns[at][0], self.levels[self.columns[at][0]])

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        if not self.mode:
            return
        track = self.height() - TRACK_TOP - 24
        for at, members in enumerate(self.columns):
            c = self.mode.channels[members[0]]
            x = at * WIDE
            share = self.value_of_slider(members[0]) / c.highest_value
            held = members[0] in self.levels
            draw_text_line(
                p, QRectF(x, 0, WIDE, 14), c.short or "?", "text" if held else "quiet", 11, held, CENTRE, elide=False
            )
            r = QRectF(x + WIDE / 2 - 5, TRACK_TOP, 10, track)
            draw_frame(p, r, "field", "edge", 2)
            y = TRACK_TOP + track * (1 - share)
            if held:
                p.fillRect(
                    QRectF(r.left() + 1, y, 8, TRACK_TOP + track - y - 1),
                    QColor(LIGHT.get(c.function, THEME.color("accent").name())),
                )
            draw_frame(
                p,
                QRectF(x + WIDE / 2 - 10, y - 3, 20, 6),
                "text" if held else "station",
                "text" if held else "quiet",
                1,
            )
            value = self.value_of_slider(members[0])
            words = str(value) if len(c.slots) == 1 else f"{100 * share:.0f}%"
            draw_text_line(
                p,
                QRectF(x, TRACK_TOP + track + 2, WIDE, 16),
                words,
                "text" if held else "quiet",
                11,
                held,
                CENTRE,
                elide=False,
            )
            named = range_at(c, value)
            if named and named.does == "closed":
                p.fillRect(QRectF(x + 8, self.height() - 3, WIDE - 16, 2), THEME.color("warning"))
            if at == self.current and self.hasFocus():
                draw_frame(p, QRectF(x + 1, 0, WIDE - 2, self.height()), None, "accent", 3, 2)

    def _share_at(self, y: float) -> float:
        return 1 - (y - TRACK_TOP) / max(1, self.height() - TRACK_TOP - 24)

    def mousePressEvent(self, e: QMouseEvent) -> None:
        at = int(e.position().x() // WIDE)
        if not 0 <= at < len(self.columns):
            return
        self.current = at
        if e.button() == Qt.MouseButton.RightButton:
            for n in self.columns[at]:
                self.levels.pop(n, None)
            self.moved.emit()
        else:
            self.set_column(at, self._share_at(e.position().y()))
        self.update()

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        if e.buttons() & Qt.MouseButton.LeftButton and self.columns:
            self.set_column(self.current, self._share_at(e.position().y()))

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if not self.columns or not self.mode:
            return super().keyPressEvent(e)
        c = self.mode.channels[self.columns[self.current][0]]
        share = self.value_of_slider(self.columns[self.current][0]) / c.highest_value
        step = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1, Qt.Key.Key_PageUp: 16, Qt.Key.Key_PageDown: -16}.get(
            Qt.Key(e.key())
        )
        if step:
            self.set_column(self.current, share + step / 255)
        elif e.key() in (Qt.Key.Key_Home, Qt.Key.Key_End):
            self.set_column(self.current, 1.0 if e.key() == Qt.Key.Key_End else 0.0)
        elif e.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.current = max(0, min(len(self.columns) - 1, self.current + (1 if e.key() == Qt.Key.Key_Right else -1)))
            self.update()
        else:
            return super().keyPressEvent(e)
        return None


class TryOut(QWidget):
    """Faders, the lamp beside them, the raw slots under them."""

    pointed = Signal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.sliders = Sliders()
        self.lamp = LampView()
        self.sliders.moved.connect(self._follow_slider)
        self.sliders.pointed.connect(self.pointed)
        self._slots = make_label("", 11, quiet=True, wrap=True)
        self._slots.setMinimumWidth(10)
        self._warning = make_label("", 11, wrap=True)
        self.defaults = make_button("Defaults", self.to_defaults, "All faders back to the channels' defaults.")
        self.highlight = make_button("Highlight", self.to_highlight, "All faders to the channels' highlight values.")
        self.colour = make_button(
            "From a colour…", self.pick_colour, "Choose a colour; the faders go to the levels that give it."
        )
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.sliders)
        scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setMinimumHeight(134 + 10 * THEME.step)
        body = column_of_widgets((16, 0, 16, 8), 2)
        body.addLayout(
            flow_of_widgets(
                make_label("Try-out", 13, True),
                make_label("nothing is sent from here", 11, quiet=True),
                None,
                self.defaults,
                self.highlight,
                self.colour,
            )
        )
        middle = row_of_widgets(scroll, 12, self.lamp)
        middle.setStretch(0, 3)
        middle.setStretch(2, 2)
        body.addLayout(middle, 1)
        body.addWidget(self._slots)
        body.addWidget(self._warning)
        self.setLayout(body)

    @property
    def mode(self) -> Mode | None:
        return self.sliders.mode

    def set_mode(self, mode: Mode | None) -> None:
        """Show a mode; levels stay where the channels are still the same."""
        old = self.mode
        if mode != old:
            kept: dict[int, int] = {}
            if old and mode:
                before = {(c.function, c.pixel, c.break_no): n for n, c in enumerate(old.channels)}
                for n, c in enumerate(mode.channels):
                    was = before.get((c.function, c.pixel, c.break_no))
                    if was in self.sliders.levels and old.channels[was].highest_value == c.highest_value:
                        kept[n] = self.sliders.levels[was]
            self.sliders.levels = kept
            self.sliders.set_mode(mode)
            self._follow_slider()

    def _follow_slider(self) -> None:
        mode = self.mode
        self.lamp.mode, self.lamp.levels = mode, self.sliders.levels
        self.lamp.update()
        self._warning.setText("")
        parts = slot_bytes(mode, self.sliders.levels) if mode else []
        self._slots.setText(
            "slots  " + "  |  ".join(" ".join(map(str, b[:40])) + (" …" if len(b) > 40 else "") for b in parts)
        )

    def to_defaults(self) -> None:
        self.sliders.levels = {}
        self.sliders.update()
        self._follow_slider()

    def to_highlight(self) -> None:
        mode = self.mode
        if mode:
            self.sliders.levels = highlight_values(mode)
            self.sliders.update()
            self._follow_slider()

    def pick_colour(self) -> None:
        found = QColorDialog.getColor(THEME.color("text"), self, "Which colour should it give?")
        if found.isValid():
            self.show_colour(found)

    def show_colour(self, colour: QColor) -> None:
        """Set the faders so that the lamp gives a colour; its brightness goes to the dimmer."""
        mode = self.mode
        if mode is None:
            return
        linear = [
            v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4
            for v in (colour.redF(), colour.greenF(), colour.blueF())
        ]
        brightness = max(linear)
        rgb = tuple(v / brightness if brightness else 0.0 for v in linear)
        answer = drive_colour(mode, (rgb[0], rgb[1], rgb[2]), brightness)
        self.sliders.levels = dict(answer.levels)
        self.sliders.update()
        self._follow_slider()
        self._warning.setText(" ".join(answer.warnings))
