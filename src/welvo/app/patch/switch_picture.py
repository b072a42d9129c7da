"""The address switches of a lamp, drawn for its address; a click sets one and says what address that is."""

from __future__ import annotations

from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from welvo.app.widgets.painting import CENTRE, LEFT, draw_frame, draw_text_line
from welvo.app.widgets.theme import THEME
from welvo.rig.base import Refused
from welvo.rig.profile import AddressSetting
from welvo.rig.switches import address_of, dial_digits, switch_positions, weights_of_switches

PITCH = 26


class SwitchPicture(QWidget):
    """Nine or ten switches, or three dials. Emits `read` with the address that the picture says."""

    read = Signal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setting: AddressSetting | None = None
        self.address = 1
        self.states: tuple[bool, ...] = ()
        self.digits: tuple[int, ...] = ()
        self._at = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFixedHeight(96)
        self.setToolTip("Click a switch, or arrows and Space: the address it then says stands below.")
        self.setWhatsThis(
            "The lamp's address switches as they must stand. Clicking one only reads; nothing is changed."
        )

    def sizeHint(self) -> QSize:
        return QSize(272, 96)

    def show_address(self, setting: AddressSetting, address: int) -> None:
        """Draw the switches for an address; one they cannot say leaves them all off."""
        self.setting, self.address = setting, address
        try:
            self.states = switch_positions(setting, address) if setting.by == "switches" else ()
        except Refused:
            self.states = (False,) * setting.switches
        self.digits = dial_digits(setting, address) if setting.by == "dials" else ()
        self._emit_address()
        self.update()

    @property
    def address_it_says(self) -> int:
        """The address the picture says now."""
        if self.setting is None:
            return 0
        if self.setting.by == "dials":
            return self.digits[0] * 100 + self.digits[1] * 10 + self.digits[2] + 1 - self.setting.base
        return address_of(self.setting, self.states)

    def _emit_address(self) -> None:
        if self.setting and self.setting.by == "switches":
            on = [str(n) for n, s in enumerate(self.states, 1) if s]
            self.setAccessibleName(f"Address switches; on: {', '.join(on) or 'none'}")
        else:
            self.setAccessibleName(f"Address dials {' '.join(map(str, self.digits))}")

    def flip_switch(self, n: int) -> None:
        """Set switch n (from 0) the other way, or turn dial n on by one."""
        if self.digits:
            self.digits = tuple((d + 1) % (10 if i else 6) if i == n else d for i, d in enumerate(self.digits))
        elif 0 <= n < len(self.states):
            self.states = tuple(not s if i == n else s for i, s in enumerate(self.states))
        self._at = n
        self._emit_address()
        self.update()
        self.read.emit(self.address_it_says)

    def _count_switches(self) -> int:
        return len(self.digits) or len(self.states)

    def _box(self, n: int) -> QRectF:
        return QRectF(4 + n * (44 if self.digits else PITCH), 16, 36 if self.digits else 20, 44)

    def mousePressEvent(self, e: QMouseEvent) -> None:
        for n in range(self._count_switches()):
            if self._box(n).adjusted(-3, -14, 3, 20).contains(e.position()):
                self.flip_switch(n)
                return

    def keyPressEvent(self, e: QKeyEvent) -> None:
        if e.key() in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._at = max(0, min(self._count_switches() - 1, self._at + (1 if e.key() == Qt.Key.Key_Right else -1)))
            self.update()
        elif e.key() == Qt.Key.Key_Space:
            self.flip_switch(self._at)
        else:
            super().keyPressEvent(e)

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.digits:
            self._paint_dials(p)
        elif self.setting:
            self._paint_switches(p, self.setting)

    def _paint_dials(self, p: QPainter) -> None:
        for n, d in enumerate(self.digits):
            r = self._box(n)
            chosen = self.hasFocus() and n == self._at
            draw_frame(p, r, "field", "accent" if chosen else "edge", 3, 2 if chosen else 1)
            draw_text_line(p, r, str(d), size=22, bold=True, align=CENTRE)
            draw_text_line(p, QRectF(r.left(), 0, r.width(), 14), ("100", "10", "1")[n], "quiet", 11, align=CENTRE)
        draw_text_line(p, QRectF(4, 66, self.width() - 8, 16), "click turns a dial on by one", "quiet", 11)

    def _paint_switches(self, p: QPainter, setting: AddressSetting) -> None:
        right = positions_or_off(setting, self.address)
        for n, (on, weight) in enumerate(zip(self.states, weights_of_switches(setting))):
            r = self._box(n)
            chosen = self.hasFocus() and n == self._at
            draw_frame(p, r, "field", "accent" if chosen else "edge", 3, 2 if chosen else 1)
            up = on == (setting.on == "up")
            knob = QRectF(r.left() + 3, r.top() + (3 if up else 23), 14, 18)
            draw_frame(p, knob, "text" if on else "edge", None, 2)
            draw_text_line(p, QRectF(r.left() - 4, 0, 28, 14), str(weight), "quiet", 11, align=CENTRE)
            draw_text_line(p, QRectF(r.left() - 3, 62, 26, 14), str(n + 1), size=11, bold=on, align=CENTRE)
            if on != right[n]:
                p.setPen(THEME.color("warning"))
                p.drawLine(QPointF(r.left() + 2, 78), QPointF(r.right() - 2, 78))
        last = self._box(self._count_switches() - 1).right()
        draw_text_line(
            p, QRectF(last + 5, 18 if setting.on == "up" else 40, 30, 16), "ON", size=11, bold=True, align=LEFT
        )
        draw_text_line(
            p, QRectF(4, 80, self.width() - 8, 15), "above: what each weighs · below: its number", "quiet", 11
        )


def positions_or_off(setting: AddressSetting, address: int) -> tuple[bool, ...]:
    """The right picture, or all off for an address that cannot be set."""
    try:
        return switch_positions(setting, address)
    except Refused:
        return (False,) * setting.switches
