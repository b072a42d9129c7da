"""Faders by function for a selection: filled where held, outlined where at default."""

from __future__ import annotations

from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QWidget

from welvo.app.session import Session
from welvo.app.widgets.painting import CENTRE, draw_frame, draw_text_line, fitting_size
from welvo.app.widgets.theme import LIGHT, THEME
from welvo.bench.levels import Fader, Levels, count_having, faders_of_selection, function_key, pixel_functions
from welvo.rig.document import Rig
from welvo.rig.lookup import mode_of

TOP, FOOT = 34, 40
LOWEST, HIGHEST = 110, 320
"""How long a fader's track may be, by the room there is."""


def range_word(rig: Rig, keys: list[str], fader: Fader, value: int) -> str:
    """The name of the range a value lies in, by the first fixture that has the function."""
    for key in keys:
        fixture = rig.fixtures.get(key)
        mode = mode_of(rig, fixture) if fixture else None
        for c in mode.channels if mode else ():
            if function_key(c) == fader.function:
                return next((r.name for r in c.ranges if r.first <= value <= r.last), "")
    return ""


class FaderBank(QWidget):
    """Left and Right walk, Up and Down step by 1, PgUp and PgDn by 16, Home and End go to 0 and full, Del gives
    back."""

    moved = Signal()
    heads = Signal()
    """Heads begin to move."""
    asked = Signal(int)
    """A value is to be typed for this fader."""

    def __init__(self, session: Session, levels: Levels) -> None:
        super().__init__()
        self._session = session
        self._levels = levels
        self.keys: list[str] = []
        self.pixels: dict[str, tuple[int, ...]] = {}
        """Items of which single pixels are driven, and which."""
        self.faders: list[Fader] = []
        self.having: dict[str, int] = {}
        """How many of the items have each function."""
        self.current = 0
        self._typed = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Faders")
        self.setMinimumHeight(TOP + LOWEST + FOOT)

    def sizeHint(self) -> QSize:
        return QSize(64 * max(1, len(self.faders)), TOP + 176 + FOOT)

    @property
    def height_of_track(self) -> int:
        return max(LOWEST, min(HIGHEST, self.height() - TOP - FOOT))

    def show_items(self, keys: list[str], pixels: dict[str, tuple[int, ...]] | None = None) -> None:
        index = self._session.index
        self.keys, self.pixels = keys, pixels or {}
        self.faders = faders_of_selection(index, keys)
        if self.pixels:
            mine = {f for k in self.pixels for f in pixel_functions(index, k)}
            self.faders = [f for f in self.faders if f.function in mine]
        self.having = count_having(index, keys) if len(keys) > 1 else {}
        self.current = min(self.current, max(0, len(self.faders) - 1))
        self.setMinimumWidth(64 * len(self.faders))
        self.updateGeometry()
        self.update()

    def column_of_fader(self, n: int) -> QRectF:
        wide = min(88.0, max(64.0, self.width() / max(1, len(self.faders))))
        return QRectF(n * wide, 0, wide, self.height())

    def _state_of_fader(self, fader: Fader) -> tuple[float, bool, bool]:
        """Share of full, whether it is held, whether the items disagree."""
        held = [self._held_value(k, fader.function) for k in self.keys]
        mine = [h for h in held if h is not None]
        if not mine:
            return fader.default / fader.top, False, False
        return mine[0], True, len(set(mine)) > 1

    def _held_value(self, key: str, function: str) -> float | None:
        if key in self.pixels:
            single = self._levels.pixels.get(key, {})
            return next((single[n, function] for n in self.pixels[key] if (n, function) in single), None)
        return self._levels.held.get((key, function))

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        foot = TOP + self.height_of_track
        for n, fader in enumerate(self.faders):
            r = self.column_of_fader(n)
            value, held, mixed = self._state_of_fader(fader)
            words = fader.word[:1].upper() + fader.word[1:]
            size = 13 if fitting_size(words, r.width() - 6, (13, 11)) == 13 else 11
            fits = fitting_size(words, r.width() - 2, (13, 11, 1)) != 1
            draw_text_line(
                p,
                QRectF(r.left(), 4, r.width(), 22),
                words if fits else fader.short,
                size=size if fits else 13,
                bold=held,
                align=CENTRE,
            )
            track = QRectF(r.center().x() - 7, TOP, 14, self.height_of_track)
            draw_frame(p, track, "field", "edge", 3)
            y = foot - value * self.height_of_track
            if held:
                draw_frame(p, QRectF(track.left() + 1, y, 12, foot - y), "accent", None, 2)
            knob = QRectF(r.center().x() - 16, y - 5, 32, 10)
            draw_frame(p, knob, "text" if held else "station", "text" if held else "quiet", 2)
            number = round(value * fader.top)
            shown = str(number) if fader.slots == 1 else f"{100 * value:.1f} %"
            name = range_word(self._session.rig, self.keys, fader, number)
            pointing = fader.degrees_at(value)
            if pointing is not None and not name:
                name = f"{pointing:.0f}°" if abs(pointing) >= 10 else f"{pointing:.1f}°"
            if mixed:
                shown, name = "mixed", ""
            with_name = f"{shown} {name}" if name and (fader.slots == 1 or pointing is not None) else shown
            if pointing is not None and fitting_size(with_name, r.width() - 4, (11, 1)) != 11:
                with_name = name  # where it points is what is looked for
            if name and fitting_size(with_name, r.width() - 4, (11, 1)) == 11:
                draw_text_line(
                    p,
                    QRectF(r.left(), foot + 6, r.width(), 18),
                    with_name,
                    "text" if held else "quiet",
                    11,
                    held,
                    CENTRE,
                )
            else:
                draw_text_line(
                    p,
                    QRectF(r.left(), foot + 6, r.width(), 18),
                    shown,
                    "text" if held else "quiet",
                    13 if fader.slots == 1 else 11,
                    held,
                    CENTRE,
                )
            many = self.having.get(fader.function, len(self.keys))
            if many < len(self.keys):
                of = f"{many} of {len(self.keys)}"
                draw_text_line(p, QRectF(r.left(), TOP - 12, r.width(), 12), of, "quiet", 11, align=CENTRE)
            light = LIGHT.get(fader.function)
            if light:
                p.setPen(QPen(THEME.color("edge"), 1))
                p.setBrush(QColor(light))
                p.drawRect(QRectF(r.center().x() - 16, foot + 27, 32, 4))
            if n == self.current and self.hasFocus():
                draw_frame(p, r.adjusted(2, 1, -2, -3), None, "accent", 4, 2)
        if not self.faders:
            for n in range(10):
                track = QRectF(60 + 80 * n, TOP, 14, self.height_of_track)
                draw_frame(p, track, None, "line", 3, 1, dashed=True)

    def hold_fader(self, n: int, value: float) -> None:
        function = self.faders[n].function
        if self._levels.move_from(self._session.index, self.keys, function):
            self.heads.emit()
        self._levels.hold_function([k for k in self.keys if k not in self.pixels], function, value)
        for key, pixels in self.pixels.items():
            self._levels.hold_pixels(key, pixels, function, value)
        self.update()
        self.moved.emit()

    def mouseDoubleClickEvent(self, e: QMouseEvent) -> None:
        if self.faders and e.position().y() < TOP - 8:
            self.asked.emit(self.current)

    def _drag_fader(self, y: float) -> None:
        self.hold_fader(self.current, 1.0 - (y - TOP) / self.height_of_track)

    def mousePressEvent(self, e: QMouseEvent) -> None:
        n = next((n for n in range(len(self.faders)) if self.column_of_fader(n).contains(e.position())), -1)
        if n < 0:
            return
        self.current = n
        self._typed = ""
        if e.button() == Qt.MouseButton.RightButton:
            self.give_back(n)
        elif e.position().y() > TOP - 8:
            self._drag_fader(e.position().y())
        self.update()

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        if self.faders and e.buttons() & Qt.MouseButton.LeftButton:
            self._drag_fader(e.position().y())

    def give_back(self, n: int) -> None:
        """Let one function go back to its default."""
        for k in self.keys:
            self._levels.held.pop((k, self.faders[n].function), None)
            for pixel in self.pixels.get(k, ()):
                self._levels.pixels.get(k, {}).pop((pixel, self.faders[n].function), None)
        self.update()
        self.moved.emit()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        key = e.key()
        if not self.faders:
            return super().keyPressEvent(e)
        value, _, _ = self._state_of_fader(self.faders[self.current])
        step = {Qt.Key.Key_Up: 1, Qt.Key.Key_Down: -1, Qt.Key.Key_PageUp: 16, Qt.Key.Key_PageDown: -16}.get(Qt.Key(key))
        plain = not e.modifiers() & ~Qt.KeyboardModifier.KeypadModifier
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.current = max(0, min(len(self.faders) - 1, self.current + (1 if key == Qt.Key.Key_Right else -1)))
        elif step and plain:
            self.hold_fader(self.current, value + step / 255)
        elif key == Qt.Key.Key_Home:
            self.hold_fader(self.current, 0.0)
        elif key == Qt.Key.Key_End:
            self.hold_fader(self.current, 1.0)
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.asked.emit(self.current)
        elif key in (Qt.Key.Key_Delete, Qt.Key.Key_Backspace):
            self.give_back(self.current)
        elif e.text() and e.text() in "0123456789" and plain:
            top = self.faders[self.current].top
            self._typed = self._typed + e.text() if int(self._typed + e.text()) <= top else e.text()
            self.hold_fader(self.current, min(1.0, int(self._typed) / top))
            self.update()
            return None
        else:
            return super().keyPressEvent(e)
        self._typed = ""
        self.update()
        return None
