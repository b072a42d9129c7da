"""The channel ruler: one strip per break, slots left to right to scale, repeated pixels folded."""

from __future__ import annotations

from dataclasses import dataclass

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from welvo.app import marks
from welvo.app.paint import CENTRE, RIGHT, box, text, width_of
from welvo.app.theme import LIGHT, THEME
from welvo.rig.attributes import word_for
from welvo.rig.profile import Channel, Mode

GUTTER = 112
ROW = 84


@dataclass(frozen=True)
class Cell:
    """One drawn cell: a channel, a gap, or the folded rest of a repeat."""

    brk: int
    slot: int
    slots: int
    units: float
    channel: Channel | None
    folded: str = ""
    fold_note: str = ""
    bracket: str = ""


def cells_of(mode: Mode, brk: int, unfolded: bool = False) -> list[Cell]:
    """The cells of one break in slot order; pixels after the first of a repeat stand as one folded cell."""
    by_slot: dict[int, Channel] = {}
    for c in mode.channels:
        if c.brk == brk:
            for s in c.slots:
                by_slot.setdefault(s, c)
    last = mode.breaks[brk].slots
    found: list[Cell] = []
    slot = 1
    while slot <= last:
        here = by_slot.get(slot)
        if here is None:
            end = slot
            while end < last and end + 1 not in by_slot:
                end += 1
            found.append(Cell(brk, slot, end - slot + 1, min(2.0, float(end - slot + 1)), None))
            slot = end + 1
            continue
        c = here
        if c.pixel and not unfolded:
            first = [x for x in mode.channels if x.brk == brk and x.pixel == c.pixel]
            block = [x for x in mode.channels if x.brk == brk and x.pixel > c.pixel]
            alike = [(x.function, len(x.slots)) for x in first]
            count = 1
            number = c.pixel + 1
            while block:
                mine = [x for x in block if x.pixel == number]
                if [(x.function, len(x.slots)) for x in mine] != alike:
                    break
                block = [x for x in block if x.pixel > number]
                count, number = count + 1, number + 1
            top = max(s for x in first for s in x.slots)
            end_ = max(
                s for x in mode.channels if x.brk == brk and c.pixel <= x.pixel < c.pixel + count for s in x.slots
            )
            width = top - c.slots[0] + 1
            stride = (end_ - top) // (count - 1) if count > 1 else width
            words = f"{count} pixels × {stride} = {count * stride}"
            for n, x in enumerate(first):
                found.append(
                    Cell(
                        brk,
                        x.slots[0],
                        len(x.slots),
                        float(len(x.slots)),
                        x,
                        bracket=words if n == 0 and count > 1 else "",
                    )
                )
            if count > 1:
                note = f"pixels {c.pixel + 1} to {c.pixel + count - 1}"
                found.append(
                    Cell(brk, top + 1, end_ - top, 3.4, None, f"{count - 1} more, the same {len(first)}", note)
                )
            slot = end_ + 1
            continue
        run = 1
        while run < len(c.slots) and c.slots[0] + run in c.slots:
            run += 1
        found.append(Cell(brk, slot, run, float(run), c))
        slot += run
    return found


class Ruler(QWidget):
    """`picked` carries break and slot of the cell that was clicked or walked to."""

    picked = Signal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.mode: Mode | None = None
        self.selected: tuple[int, int] = (0, 1)
        self.unfolded = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Channel ruler")
        self._drawn: list[tuple[QRectF, Cell]] = []

    def set_mode(self, mode: Mode | None) -> None:
        self.mode = mode
        self.setMinimumHeight(ROW * len(mode.breaks) if mode else ROW)
        self._layout()
        self.update()

    def _layout(self) -> None:
        self._drawn = []
        if not self.mode:
            return
        room = self.width() - GUTTER - 16
        y = 0.0
        for b in range(len(self.mode.breaks)):
            cells = cells_of(self.mode, b, self.unfolded)
            units = sum(c.units for c in cells) or 1
            unit = max(22.0, min(64.0, room / units))
            x = float(GUTTER)
            for c in cells:
                self._drawn.append((QRectF(x, y, c.units * unit, 44), c))
                x += c.units * unit
            if x > self.width() - 4 and unit <= 22:  # wrap long breaks
                self._wrap(b, y)
            y = max((r.bottom() for r, c in self._drawn if c.brk == b), default=y + 44) + ROW - 44
        if int(y) != self.minimumHeight():
            self.setMinimumHeight(int(y))

    def _wrap(self, brk: int, y: float) -> None:
        x = float(GUTTER)
        for n, (r, c) in enumerate(self._drawn):
            if c.brk != brk:
                continue
            if x + r.width() > self.width() - 12:
                x, y = float(GUTTER), y + 66
            self._drawn[n] = (QRectF(x, y, r.width(), 44), c)
            x += r.width()

    def resizeEvent(self, _: object) -> None:
        self._layout()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        if not self.mode:
            for n in range(8):
                box(p, QRectF(GUTTER + 64 * n, 0, 62, 44), None, "line", 2, 1, dashed=True)
            return
        seen: set[int] = set()
        for r, c in self._drawn:
            if c.brk not in seen:
                seen.add(c.brk)
                part = self.mode.breaks[c.brk]
                text(p, QRectF(16, r.top() + 2, GUTTER - 20, 20), f"{c.brk + 1}  {part.name or 'all'}", bold=True)
                text(p, QRectF(16, r.top() + 22, GUTTER - 20, 16), f"{part.slots} slots", "quiet", 11)
            self._cell(p, r, c)
        for r, c in self._drawn:
            if self._is_selected(c):
                box(p, r.adjusted(-1, -1, 0, 1), None, "text", 2, 2)
                if self.hasFocus():
                    box(p, r.adjusted(-3, -3, 2, 3), None, "accent", 3, 2)

    def _is_selected(self, c: Cell) -> bool:
        return c.brk == self.selected[0] and c.slot <= self.selected[1] < c.slot + c.slots and not c.folded

    def _cell(self, p: QPainter, r: QRectF, c: Cell) -> None:
        r = r.adjusted(0, 0, -2, 0)
        if c.folded:
            for n in (0, 5):
                box(p, QRectF(r.left() + n, r.top(), 8, 44), "field", "edge", 0)
            inner = r.adjusted(10, 0, 0, 0)
            box(p, inner, "field", "edge", 0)
            text(p, QRectF(inner.left() + 8, r.top() + 4, inner.width() - 10, 20), c.folded)
            text(p, QRectF(inner.left() + 8, r.top() + 23, inner.width() - 10, 16), c.fold_note, "quiet", 11)
            text(p, QRectF(inner.left(), r.bottom() + 2, 50, 16), str(c.slot), "quiet", 11)
            text(p, QRectF(r.right() - 50, r.bottom() + 2, 48, 16), str(c.slot + c.slots - 1), "quiet", 11, align=RIGHT)
            return
        channel = c.channel
        if channel is None:
            box(p, r, None, "edge", 0, 1, dashed=True)
            text(p, r, "gap", "quiet", 11, align=CENTRE)
        else:
            wrong = not channel.described
            box(p, r, "warning_wash" if wrong else "field", "warning" if wrong else "edge", 0)
            words = channel.name if wrong else word_for(channel.function)
            words = (words or "?") + (" ?" if wrong and words else "")
            bold = self._is_selected(c)
            top = QRectF(r.left() + 1, r.top() + 3, r.width() - 2, 20)
            if width_of(words[:1].upper() + words[1:], 13, bold) <= top.width() - 2:
                text(p, top, words[:1].upper() + words[1:], bold=bold, align=CENTRE)
            elif width_of(words, 11) <= top.width() - 2:
                text(p, top, words[:1].upper() + words[1:], size=11, align=CENTRE)
            else:
                text(
                    p,
                    top,
                    channel.short or words[:4],
                    size=13 if width_of(channel.short, 13) <= top.width() else 11,
                    bold=bold,
                    align=CENTRE,
                )
            light = LIGHT.get(channel.function)
            if wrong:
                marks.draw(p, "warning", r.center().x() - 6, r.top() + 25, 12)
            elif light:
                p.setPen(QPen(THEME.color("edge"), 1))
                p.setBrush(QColor(light))
                p.setRenderHint(QPainter.RenderHint.Antialiasing)
                p.drawEllipse(QRectF(r.center().x() - 5, r.top() + 26, 10, 10))
                p.setRenderHint(QPainter.RenderHint.Antialiasing, False)
            elif c.slots > 1:
                names = ("coarse", "fine", "fine 2", "fine 3") if r.width() / c.slots > 40 else ("1", "2", "3", "4")
                for n in range(c.slots):
                    part = QRectF(r.left() + n * r.width() / c.slots, r.top() + 26, r.width() / c.slots, 14)
                    text(p, part, names[n], "quiet", 11, align=CENTRE)
                    if n:
                        p.fillRect(QRectF(part.left(), part.top(), 1, 14), THEME.color("edge"))
        every = r.width() / c.slots >= 20
        for n in range(c.slots):
            if every or n in (0, c.slots - 1):
                part = QRectF(r.left() + n * r.width() / c.slots, r.bottom() + 2, max(24.0, r.width() / c.slots), 16)
                text(
                    p,
                    part,
                    str(c.slot + n),
                    "text" if self._is_selected(c) else "quiet",
                    11,
                    self._is_selected(c),
                    CENTRE if every else Qt.AlignmentFlag.AlignLeft,
                )
        if c.bracket:
            whole = [
                q
                for q, x in self._drawn
                if x.brk == c.brk
                and x.slot >= c.slot
                and (x.folded or (x.channel and x.channel.pixel == (c.channel.pixel if c.channel else 0)))
            ]
            left, right = min(q.left() for q in whole), max(q.right() for q in whole) - 2
            y = r.bottom() + 26
            wide = width_of(c.bracket, 11) + 16
            p.setPen(QPen(THEME.color("edge"), 1))
            middle = (left + right) / 2
            for a, b in ((left, middle - wide / 2), (middle + wide / 2, right)):
                p.drawLine(int(a), int(y), int(b), int(y))
            p.drawLine(int(left), int(y - 5), int(left), int(y))
            p.drawLine(int(right), int(y - 5), int(right), int(y))
            text(p, QRectF(middle - wide / 2, y - 9, wide, 18), c.bracket, size=11, align=CENTRE)

    def _at(self, x: float, y: float) -> Cell | None:
        return next((c for r, c in self._drawn if r.contains(x, y)), None)

    def mousePressEvent(self, e: QMouseEvent) -> None:
        c = self._at(e.position().x(), e.position().y())
        if c and c.folded:
            self.unfolded = True
            self._layout()
            self.update()
        elif c:
            self.pick(c.brk, c.slot)
        elif self.unfolded:
            self.unfolded = False
            self._layout()
            self.update()

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        c = self._at(e.position().x(), e.position().y())
        if c and c.channel:
            x = c.channel
            words = f"<b>{word_for(x.function, x.name or '?')}</b> · slot {c.slot} of break {c.brk + 1}" + (
                f" · pixel {x.pixel}" if x.pixel else ""
            )
            QToolTip.showText(
                e.globalPosition().toPoint(),
                f"{words}<br>{8 * len(x.slots)} bit · default {x.default} · short {x.short}",
                self,
            )
        elif c and c.folded:
            QToolTip.showText(
                e.globalPosition().toPoint(), "Click unfolds the repeat; click beside it folds it again.", self
            )

    def pick(self, brk: int, slot: int) -> None:
        self.selected = (brk, slot)
        self.picked.emit(brk, slot)
        self.update()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        cells = [c for _, c in self._drawn if not c.folded]
        now = next((n for n, c in enumerate(cells) if self._is_selected(c)), -1)
        by = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(e.key()))
        if by is None or not cells:
            return super().keyPressEvent(e)
        c = cells[max(0, min(len(cells) - 1, now + by))]
        self.pick(c.brk, c.slot)
        return None
