"""The channel ruler: one strip per break, slots left to right to scale, repeated pixels folded."""

from __future__ import annotations

from msgspec import Struct
from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QToolTip, QWidget

from welvo.app.widgets import marks
from welvo.app.widgets.literal import rows_tip
from welvo.app.widgets.painting import CENTRE, RIGHT, draw_frame, draw_text_line, width_of
from welvo.app.widgets.theme import LIGHT, THEME
from welvo.rig.attributes import word_for
from welvo.rig.profile import Channel, Mode

GUTTER = 112
ROW = 84


class Cell(Struct, frozen=True):
    """One drawn cell: a channel, a gap, or the folded rest of a repeat."""

    break_no: int
    slot: int
    slots: int
    units: float
    channel: Channel | None
    folded: str = ""
    fold_note: str = ""
    bracket: str = ""


def cells_of_break(mode: Mode, break_no: int, unfolded: bool = False) -> list[Cell]:
    """The cells of one break in slot order; pixels after the first of a repeat stand as one folded cell."""
    by_slot: dict[int, Channel] = {}
    by_pixel: dict[int, list[Channel]] = {}
    for channel in mode.channels:
        if channel.break_no == break_no:
            for s in channel.slots:
                by_slot.setdefault(s, channel)
            if channel.pixel:
                by_pixel.setdefault(channel.pixel, []).append(channel)
    last = mode.breaks[break_no].slots
    found: list[Cell] = []
    slot = 1
    while slot <= last:
        c = by_slot.get(slot)
        if c is None:
            end = slot
            while end < last and end + 1 not in by_slot:
                end += 1
            found.append(Cell(break_no, slot, end - slot + 1, min(2.0, float(end - slot + 1)), None))
            slot = end + 1
            continue
        fold = _fold_pixels(by_pixel, c) if c.pixel and not unfolded and slot == c.slots[0] else None
        if fold:
            count, first, stride, end = fold
            words = f"{count} pixels × {stride} = {count * stride}"
            for n, x in enumerate(first):
                found.append(
                    Cell(break_no, x.slots[0], len(x.slots), float(len(x.slots)), x, bracket=words if n == 0 else "")
                )
            top = max(s for x in first for s in x.slots)
            note = f"pixels {c.pixel + 1} to {c.pixel + count - 1}"
            found.append(
                Cell(break_no, top + 1, end - top, 3.4, None, f"{count - 1} more, the same {len(first)}", note)
            )
            slot = end + 1
            continue
        run = 1
        while c.slots[0] + run in c.slots and slot == c.slots[0] and run < len(c.slots):
            run += 1
        found.append(Cell(break_no, slot, run, float(run), c))
        slot += run
    return found


def _fold_pixels(by_pixel: dict[int, list[Channel]], c: Channel) -> tuple[int, list[Channel], int, int] | None:
    """From channel c on: pixels that repeat, the first one's channels, slots from one to the next, the last slot."""
    first = sorted(by_pixel[c.pixel], key=lambda x: x.slots[0])
    slots = [s for x in first for s in x.slots]
    if first[0] is not c or slots != list(range(slots[0], slots[0] + len(slots))):
        return None
    start, count, stride = slots[0], 1, len(slots)
    alike = [(x.function, tuple(s - start for s in x.slots)) for x in first]
    end = slots[-1]
    while c.pixel + count in by_pixel:
        mine = sorted(by_pixel[c.pixel + count], key=lambda x: x.slots[0])
        if count == 1:
            stride = mine[0].slots[0] - start
        if (
            stride < len(slots)
            or [(x.function, tuple(s - start - count * stride for s in x.slots)) for x in mine] != alike
        ):
            break
        end = max(s for x in mine for s in x.slots)
        count += 1
    return (count, first, stride, end) if count > 1 else None


class Ruler(QWidget):
    """`picked` carries break and slot of the cell that was clicked or walked to."""

    picked = Signal(int, int)
    moved = Signal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.mode: Mode | None = None
        self.selected: tuple[int, int] = (0, 1)
        self.also: set[tuple[int, int]] = set()
        """Further selected slots, by break and first slot of their channel."""
        self._press: tuple[float, float, Cell] | None = None
        self._drop: tuple[int, int] | None = None
        self.unfolded = False
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setAccessibleName("Channel ruler")
        self._drawn: list[tuple[QRectF, Cell]] = []

    def set_mode(self, mode: Mode | None) -> None:
        self.mode = mode
        self.setMinimumHeight(ROW * len(mode.breaks) if mode else ROW)
        self._lay_out_cells()
        self.update()

    def _lay_out_cells(self) -> None:
        self._drawn = []
        if not self.mode:
            return
        room = self.width() - GUTTER - 16
        y = 0.0
        for b in range(len(self.mode.breaks)):
            cells = cells_of_break(self.mode, b, self.unfolded)
            units = sum(c.units for c in cells) or 1
            unit = max(30.0, min(64.0, room / units))
            x = float(GUTTER)
            for c in cells:
                self._drawn.append((QRectF(x, y, c.units * unit, 44), c))
                x += c.units * unit
            if x > self.width() - 4 and unit <= 30:  # wrap long breaks
                self._wrap_line(b, y)
            y = max((r.bottom() for r, c in self._drawn if c.break_no == b), default=y + 44) + ROW - 44
        if int(y) != self.minimumHeight():
            self.setMinimumHeight(int(y))

    def _wrap_line(self, break_no: int, y: float) -> None:
        x = float(GUTTER)
        for n, (r, c) in enumerate(self._drawn):
            if c.break_no != break_no:
                continue
            if x + r.width() > self.width() - 12:
                x, y = float(GUTTER), y + 66
            self._drawn[n] = (QRectF(x, y, r.width(), 44), c)
            x += r.width()

    def resizeEvent(self, _: object) -> None:
        self._lay_out_cells()

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        if not self.mode:
            for n in range(8):
                draw_frame(p, QRectF(GUTTER + 64 * n, 0, 62, 44), None, "line", 2, 1, dashed=True)
            return
        seen: set[int] = set()
        for r, c in self._drawn:
            if c.break_no not in seen:
                seen.add(c.break_no)
                part = self.mode.breaks[c.break_no]
                draw_text_line(
                    p, QRectF(16, r.top() + 2, GUTTER - 20, 20), f"{c.break_no + 1}  {part.name or 'all'}", bold=True
                )
                draw_text_line(p, QRectF(16, r.top() + 22, GUTTER - 20, 16), f"{part.slots} slots", "quiet", 11)
            self._draw_cell(p, r, c)
        if self._drop:
            for r, c in self._drawn:
                if (c.break_no, c.slot) == self._drop or (c.break_no, c.slot + c.slots) == self._drop:
                    x = r.left() - 2 if (c.break_no, c.slot) == self._drop else r.right() - 2
                    p.fillRect(QRectF(x, r.top() - 6, 3, 56), THEME.color("accent"))
                    break
        for r, c in self._drawn:
            if self._is_selected(c):
                draw_frame(p, r.adjusted(-1, -1, 0, 1), None, "text", 2, 2)
                if self.hasFocus():
                    draw_frame(p, r.adjusted(-3, -3, 2, 3), None, "accent", 3, 2)

    def _is_selected(self, c: Cell) -> bool:
        mine = c.break_no == self.selected[0] and c.slot <= self.selected[1] < c.slot + c.slots
        return not c.folded and (mine or (c.break_no, c.channel.slots[0] if c.channel else c.slot) in self.also)

    def _draw_cell(self, p: QPainter, r: QRectF, c: Cell) -> None:
        r = r.adjusted(0, 0, -2, 0)
        if c.folded:
            for n in (0, 5):
                draw_frame(p, QRectF(r.left() + n, r.top(), 8, 44), "field", "edge", 0)
            inner = r.adjusted(10, 0, 0, 0)
            draw_frame(p, inner, "field", "edge", 0)
            draw_text_line(p, QRectF(inner.left() + 8, r.top() + 4, inner.width() - 10, 20), c.folded)
            draw_text_line(p, QRectF(inner.left() + 8, r.top() + 23, inner.width() - 10, 16), c.fold_note, "quiet", 11)
            draw_text_line(p, QRectF(inner.left(), r.bottom() + 2, 50, 16), str(c.slot), "quiet", 11)
            draw_text_line(
                p, QRectF(r.right() - 50, r.bottom() + 2, 48, 16), str(c.slot + c.slots - 1), "quiet", 11, align=RIGHT
            )
            return
        channel = c.channel
        if channel is None:
            draw_frame(p, r, None, "edge", 0, 1, dashed=True)
            draw_text_line(p, r, "gap", "quiet", 11, align=CENTRE)
        else:
            wrong = not channel.is_described
            draw_frame(p, r, "warning_wash" if wrong else "field", "warning" if wrong else "edge", 0)
            words = channel.name if wrong else word_for(channel.function)
            words = (words or "?") + (" ?" if wrong and words else "")
            bold = self._is_selected(c)
            top = QRectF(r.left() + 1, r.top() + 3, r.width() - 2, 20)
            if width_of(words[:1].upper() + words[1:], 13, bold) <= top.width() - 2:
                draw_text_line(p, top, words[:1].upper() + words[1:], bold=bold, align=CENTRE)
            elif width_of(words, 11) <= top.width() - 2:
                draw_text_line(p, top, words[:1].upper() + words[1:], size=11, align=CENTRE)
            else:
                short = channel.short or words[:4]
                size = 13 if width_of(short, 13, bold) <= top.width() else 11
                while len(short) > 2 and width_of(short, size, bold) > top.width():
                    short = short[:-1]  # three letters say more than two and dots
                draw_text_line(p, top, short, size=size, bold=bold, align=CENTRE)
            light = LIGHT.get(channel.function)
            if wrong:
                marks.draw_mark(p, "warning", r.center().x() - 6, r.top() + 25, 12)
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
                    draw_text_line(p, part, names[n], "quiet", 11, align=CENTRE)
                    if n:
                        p.fillRect(QRectF(part.left(), part.top(), 1, 14), THEME.color("edge"))
        every = r.width() / c.slots >= 20
        for n in range(c.slots):
            if every or n in (0, c.slots - 1):
                part = QRectF(r.left() + n * r.width() / c.slots, r.bottom() + 2, max(24.0, r.width() / c.slots), 16)
                draw_text_line(
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
                if x.break_no == c.break_no
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
            draw_text_line(p, QRectF(middle - wide / 2, y - 9, wide, 18), c.bracket, size=11, align=CENTRE)

    def _cell_at(self, x: float, y: float) -> Cell | None:
        return next((c for r, c in self._drawn if r.contains(x, y)), None)

    def chosen_places(self) -> list[int]:
        """Places in `mode.channels` of all selected channels, the one in focus first."""
        if not self.mode:
            return []
        break_no, slot = self.selected
        found = [n for n, c in enumerate(self.mode.channels) if c.break_no == break_no and slot in c.slots]
        found += [n for n, c in enumerate(self.mode.channels) if (c.break_no, c.slots[0]) in self.also]
        return list(dict.fromkeys(found))

    def choose_alike(self) -> None:
        """Select every channel of the mode that has the function of the one in focus."""
        if not self.mode:
            return
        break_no, slot = self.selected
        here = next((c for c in self.mode.channels if c.break_no == break_no and slot in c.slots), None)
        if here:
            self.also = {
                (c.break_no, c.slots[0])
                for c in self.mode.channels
                if c.function == here.function and c.name == here.name
            }
            self.picked.emit(break_no, slot)
            self.update()

    def mousePressEvent(self, e: QMouseEvent) -> None:
        c = self._cell_at(e.position().x(), e.position().y())
        add = e.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        if c and c.folded and add and self.mode:
            last = c.slot + c.slots
            self.also |= {
                (x.break_no, x.slots[0])
                for x in self.mode.channels
                if x.break_no == c.break_no and c.slot <= x.slots[0] < last
            }
            self.picked.emit(*self.selected)
            self.update()
        elif c and c.folded:
            self.unfolded = True
            self._lay_out_cells()
            self.update()
        elif c and add and c.channel:
            self.also.symmetric_difference_update({(c.break_no, c.channel.slots[0])})
            self.picked.emit(*self.selected)
            self.update()
        elif c:
            if (c.break_no, c.channel.slots[0] if c.channel else 0) not in self.also:
                self.also = set()
            self.pick_slot(c.break_no, c.slot)
            self._press = (e.position().x(), e.position().y(), c)
        elif self.unfolded:
            self.unfolded = False
            self._lay_out_cells()
            self.update()

    def _gap_at(self, x: float, y: float) -> tuple[int, int] | None:
        """Break and slot before which a dragged channel would land."""
        rows = [(r, c) for r, c in self._drawn if r.top() - 20 <= y <= r.bottom() + 30]
        if not rows:
            return None
        r, c = min(rows, key=lambda rc: abs(rc[0].center().x() - x))
        return (c.break_no, c.slot) if x < r.center().x() else (c.break_no, c.slot + c.slots)

    def mouseReleaseEvent(self, _: QMouseEvent) -> None:
        drop, self._drop, self._press = self._drop, None, None
        self.update()
        if drop:
            self.moved.emit(*drop)

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        if self._press and e.buttons() & Qt.MouseButton.LeftButton:
            x, y = e.position().x(), e.position().y()
            if abs(x - self._press[0]) + abs(y - self._press[1]) > 12 and self._press[2].channel:
                self._drop = self._gap_at(x, y)
                self.update()
            return
        c = self._cell_at(e.position().x(), e.position().y())
        if c and c.channel:
            over = c.channel
            words = f"{word_for(over.function, over.name or '?')} · slot {c.slot} of break {c.break_no + 1}" + (
                f" · pixel {over.pixel}" if over.pixel else ""
            )
            under = f"{8 * len(over.slots)} bit · default {over.default} · short {over.short}"
            QToolTip.showText(e.globalPosition().toPoint(), rows_tip(words, under=under), self)
        elif c and c.folded:
            QToolTip.showText(
                e.globalPosition().toPoint(), "Click unfolds the repeat; click beside it folds it again.", self
            )

    def pick_slot(self, break_no: int, slot: int) -> None:
        self.selected = (break_no, slot)
        self.picked.emit(break_no, slot)
        self.update()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        cells = [c for _, c in self._drawn if not c.folded]
        now = next((n for n, c in enumerate(cells) if self._is_selected(c)), -1)
        by = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(e.key()))
        if by is None or not cells:
            return super().keyPressEvent(e)
        c = cells[max(0, min(len(cells) - 1, now + by))]
        self.pick_slot(c.break_no, c.slot)
        return None
