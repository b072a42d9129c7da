"""The ranges of a channel: one scale whose borders are dragged, one line to edit the chosen range, a table to paste."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace
from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QPlainTextEdit, QWidget

from welvo.app.widgets import marks
from welvo.app.widgets.dialogs import WishDialog
from welvo.app.widgets.fields import set_help
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.forms import Form, Subject, Typed, ValueChoice
from welvo.app.widgets.painting import (
    RIGHT,
    column_of_widgets,
    draw_frame,
    draw_text_line,
    make_button,
    make_label,
    width_of,
)
from welvo.app.widgets.refusals import do_guarded
from welvo.app.widgets.theme import THEME
from welvo.formats.ranges import read_ranges, write_ranges
from welvo.rig.attributes import word_for
from welvo.rig.base import Refused
from welvo.rig.modes import move_border, range_gaps, range_overlaps, remove_range, set_range, sorted_ranges, split_range
from welvo.rig.notation import say_count
from welvo.rig.profile import Channel, Does, Range

LEFT, TOP, HIGH = 16, 40, 34
HINTS: tuple[tuple[Does, str], ...] = (
    ("", "no hint"),
    ("open", "open"),
    ("closed", "closed"),
    ("strobe", "strobe"),
    ("colour", "colour"),
    ("rotation", "rotation"),
    ("index", "index"),
    ("macro", "macro"),
    ("reset", "reset"),
)


class Scale(QWidget):
    """0 to the channel's highest value. Drag a border; double click splits; click chooses; the arrows move a border."""

    chosen = Signal(int)
    changed = Signal(object, str)

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(96)
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Ranges")
        self.channel: Channel | None = None
        self.current = 0
        self.pointer: int | None = None
        self._drag = -1
        self._shown: Channel | None = None

    def show_channel(self, channel: Channel | None) -> None:
        self.channel = self._shown = channel
        self.current = min(self.current, max(0, len(channel.ranges) - 1)) if channel else 0
        self._drag = -1
        self.update()

    # ---- geometry

    def _x_of_value(self, value: float) -> float:
        assert self._shown
        return LEFT + (self.width() - 2 * LEFT) * value / (self._shown.highest_value + 1)

    def value_at(self, x: float) -> int:
        assert self._shown
        share = (x - LEFT) / max(1, self.width() - 2 * LEFT)
        return max(0, min(self._shown.highest_value, round(share * (self._shown.highest_value + 1))))

    def _border_at(self, x: float) -> int:
        """Number of the range that begins at the border under x, or −1; a grip is 12 wide."""
        c = self._shown
        ranges = sorted_ranges(c.ranges) if c else ()
        near = [(abs(self._x_of_value(r.first) - x), n) for n, r in enumerate(ranges) if n]
        best = min(near, default=(99.0, -1))
        return best[1] if best[0] <= 6 else -1

    # ---- painting

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        c = self._shown
        if c is None:
            draw_frame(p, QRectF(LEFT, TOP, self.width() - 2 * LEFT, HIGH), None, "line", 0, 1, dashed=True)
            draw_text_line(p, QRectF(LEFT, 0, 400, 22), "Ranges", "quiet", 13, True)
            if self.hasFocus():
                draw_frame(p, QRectF(LEFT - 4, TOP - 6, self.width() - 2 * LEFT + 8, HIGH + 12), None, "accent", 2, 2)
            return
        word = word_for(c.function, c.name or "?")
        draw_text_line(p, QRectF(LEFT, 0, 300, 22), f"Ranges of {word}", bold=True)
        said = f"default {c.default}" + (f" · highlight {c.highlight}" if c.highlight is not None else "")
        draw_text_line(p, QRectF(self.width() - 320, 0, 304, 22), said, "accent", 11, align=RIGHT)
        wide = self.width() - 2 * LEFT
        if not c.ranges:
            draw_frame(p, QRectF(LEFT, TOP, wide, HIGH), "field", "edge", 0)
            draw_text_line(
                p,
                QRectF(LEFT + 10, TOP, wide - 20, HIGH),
                f"one stretch, 0 to {c.highest_value}; double click splits it, or paste the manual's table",
                "quiet",
                11,
            )
        for first, last in range_gaps(c):
            r = QRectF(self._x_of_value(first), TOP, self._x_of_value(last + 1) - self._x_of_value(first), HIGH)
            marks.draw_hatch(p, r, THEME.color("warning"))
            draw_frame(p, r, None, "warning", 0, 1, dashed=True)
        free = -99.0
        for n, r_ in enumerate(sorted_ranges(c.ranges)):
            free = self._draw_range(p, r_, n, free)
        for first, last, *_names in range_overlaps(c):
            r = QRectF(
                self._x_of_value(first), TOP, max(3.0, self._x_of_value(last + 1) - self._x_of_value(first)), HIGH
            )
            marks.draw_hatch(p, r, THEME.color("error"))
            draw_frame(p, r, None, "error", 0, 1)
        at = self._x_of_value(c.default + 0.5)
        p.fillRect(QRectF(at - 1, TOP - 4, 2, HIGH + 8), THEME.color("accent"))
        if self.pointer is not None:
            x = self._x_of_value(self.pointer + 0.5)
            p.fillRect(QRectF(x - 1, TOP - 12, 2, 12), THEME.color("text"))
        if self.hasFocus():
            around = QRectF(LEFT - 4, TOP - 6, self.width() - 2 * LEFT + 8, HIGH + 12)
            draw_frame(p, around, None, "accent", 2, 2)

    def _draw_range(self, p: QPainter, r_: Range, n: int, free: float) -> float:
        """Draw one range; gives the x from which the next first value may be written."""
        r = QRectF(
            self._x_of_value(r_.first), TOP, max(1.0, self._x_of_value(r_.last + 1) - self._x_of_value(r_.first)), HIGH
        )
        here = n == self.current
        draw_frame(
            p,
            r.adjusted(0, 0, -1, 0),
            "select" if here else "field",
            "text" if here and self.hasFocus() else "edge",
            0,
            2 if here and self.hasFocus() else 1,
        )
        if r_.light:
            p.fillRect(QRectF(r.left() + 1, r.bottom() - 6, r.width() - 3, 5), QColor(r_.light))
            p.setPen(THEME.color("edge"))
            p.drawRect(QRectF(r.left() + 1, r.bottom() - 6, r.width() - 3, 5))
        words = r_.name or r_.does or "–"
        if width_of(words, 13, here) + 12 < r.width():
            draw_text_line(p, QRectF(r.left() + 7, TOP, r.width() - 10, HIGH), words, bold=here)
        elif here:
            room = min(self.width() - LEFT - r.left(), 220.0)
            draw_text_line(p, QRectF(min(r.left(), self.width() - LEFT - 220), 20, max(room, 220), 16), words, size=11)
        if r.left() >= free:
            draw_text_line(p, QRectF(r.left(), TOP + HIGH + 2, 46, 16), str(r_.first), "quiet", 11)
            return r.left() + width_of(str(r_.first), 11) + 6
        return free

    # ---- acting

    def mousePressEvent(self, e: QMouseEvent) -> None:
        if self._shown is None or not TOP - 6 <= e.position().y() <= TOP + HIGH + 6:
            return
        self._drag = self._border_at(e.position().x())
        if self._drag < 0:
            value = self.value_at(e.position().x() - (self.width() - 2 * LEFT) / (self._shown.highest_value + 1) / 2)
            hit = next((n for n, r in enumerate(sorted_ranges(self._shown.ranges)) if r.first <= value <= r.last), -1)
            if hit >= 0:
                self.current = hit
                self.chosen.emit(hit)
        self.update()

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        if self._shown is None:
            return
        if self._drag > 0 and self.channel:
            self._shown = move_border(self.channel, self._drag, self.value_at(e.position().x()))
            self.update()
        else:
            over = self._border_at(e.position().x()) >= 0
            self.setCursor(Qt.CursorShape.SizeHorCursor if over else Qt.CursorShape.ArrowCursor)

    def mouseReleaseEvent(self, e: QMouseEvent) -> None:
        if self._drag > 0 and self._shown is not None and self._shown != self.channel:
            self.changed.emit(self._shown, "move a border of ranges")
        self._drag = -1

    def mouseDoubleClickEvent(self, e: QMouseEvent) -> None:
        if self.channel is not None:
            self.split_range(self.value_at(e.position().x()))

    def split_range(self, value: int) -> None:
        try:
            assert self.channel
            self.changed.emit(split_range(self.channel, value), "split a range")
        except Refused:
            return

    def keyPressEvent(self, e: QKeyEvent) -> None:
        c = self.channel
        if c is None or not c.ranges:
            return super().keyPressEvent(e)
        key, step = e.key(), 16 if e.modifiers() & Qt.KeyboardModifier.ShiftModifier else 1
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self.current = max(0, min(len(c.ranges) - 1, self.current + (1 if key == Qt.Key.Key_Right else -1)))
            self.chosen.emit(self.current)
            self.update()
        elif key in (Qt.Key.Key_Up, Qt.Key.Key_Down) and self.current:
            first = sorted_ranges(c.ranges)[self.current].first
            self.changed.emit(
                move_border(c, self.current, first + (step if key == Qt.Key.Key_Up else -step)),
                "move a border of ranges",
            )
        elif key == Qt.Key.Key_Delete:
            self.changed.emit(remove_range(c, self.current), "remove a range")
        else:
            return super().keyPressEvent(e)
        return None


class PasteRanges(WishDialog):
    """The table of a manual as text, with what it would become; `ranges` once it is taken."""

    def __init__(self, channel: Channel, parent: QWidget) -> None:
        super().__init__(
            parent,
            "Ranges from the manual",
            "Put in",
            f"Ranges of {word_for(channel.function, channel.name or '?')}",
            "One line each: 0–6 closed, 007-121 strobe slow…fast, 122 to 255: open",
            wide=460,
            high=440,
        )
        self.channel = channel
        self.ranges: tuple[Range, ...] = ()
        self.edit = QPlainTextEdit(write_ranges(sorted_ranges(channel.ranges)))
        set_help(
            self.edit,
            "The manual's table of values and what they do. Wrong borders make the lamp strobe where it should "
            "be open.",
        )
        self.edit.textChanged.connect(self.look)
        self.body.addWidget(self.edit, 1)
        self.finish(room=48)

    def foresee(self) -> tuple[str, str]:
        self.ranges, problems = read_ranges(self.edit.toPlainText(), self.channel.highest_value)
        if problems:
            raise Refused(" ".join(f"Line {p.line + 1}: {p.message}" for p in problems[:2]))
        trial = replace(self.channel, ranges=self.ranges)
        words = [f"Nothing is said of {a}–{b}." for a, b in range_gaps(trial)[:1]]
        words += [f"“{a}” and “{b}” overlap." for _, _, a, b in range_overlaps(trial)[:1]]
        found = say_count(len(self.ranges), "range")
        return " ".join(words) or f"{found}, 0 to {self.channel.highest_value} without a gap.", f"Put in {found}"

    def do(self) -> object:
        return self.ranges


FIRST = Typed("From", "The first value of this range. What is before it keeps its own values.", "first", width=64)
LAST = Typed(
    "To", "The last value of this range. A gap or an overlap behind it is shown on the scale.", "last", width=64
)
NAME = Typed(
    "Name", "What the manual says of these values. Shown on faders and sheets.", "name", width=190, name="Range name"
)
DOES = ValueChoice(
    "What it does",
    "What the lamp does in this range. “Closed” keeps it dark; a wrong hint makes diagnosis wrong.",
    "does",
    HINTS,
)
LOW = Typed(
    "Means from",
    "What the first value means physically, in the channel's unit, such as 1 (Hz). Empty when unknown.",
    "low",
    width=56,
)
HIGH_END = Typed(
    "Means to",
    "What the last value means physically, in the channel's unit, such as 20 (Hz). Empty when unknown.",
    "high",
    width=56,
)


class RangeEditor(QWidget):
    """Scale and edit line. `change(channel, label)` takes a new channel over, or raises Refused."""

    def __init__(self, change: Callable[[Channel, str], object]) -> None:
        super().__init__()
        self._change = change
        self.scale = Scale()
        self.scale.chosen.connect(lambda _: self.refresh())
        self.scale.changed.connect(lambda c, words: do_guarded(self.scale, change, c, words))
        body = column_of_widgets(spacing=2)
        self.form = Form(body, Subject(self._chosen_range, self._set_range), Range)
        between = {"From": make_label("–"), "Means from": make_label("…")}
        self.first, self.last, self.name, self.does, self.low, self.high = (
            self.form.widget_of_row(r) for r in (FIRST, LAST, NAME, DOES, LOW, HIGH_END)
        )
        self.paste = make_button("Paste table…", self.paste_table, "Reads the manual's table of values at once.")
        remove = make_button(
            "Remove", self._remove_range, "Takes this range out; the one before it takes over its values."
        )
        self._of_range: list[QWidget] = []
        for made in self.form.fields.values():
            self._of_range.append(made)
            if made.accessibleName() in between:
                self._of_range.append(between[made.accessibleName()])
        self._of_range.append(remove)
        line = flow_of_widgets(*self._of_range[:-1], None, remove, self.paste, spacing=6)
        line.setContentsMargins(LEFT, 0, LEFT, 0)
        body.addWidget(self.scale)
        body.addLayout(line)
        self.setLayout(body)
        self.show_channel(None)

    @property
    def edited_channel(self) -> Channel | None:
        return self.scale.channel

    def show_channel(self, channel: Channel | None) -> None:
        self.scale.show_channel(channel)
        self.refresh()

    def _chosen_range(self) -> Range | None:
        c = self.edited_channel
        ranges = sorted_ranges(c.ranges) if c else ()
        return ranges[self.scale.current] if self.scale.current < len(ranges) else None

    def refresh(self) -> None:
        there = self._chosen_range() is not None
        for w in self._of_range:
            w.setVisible(there)
        self.paste.setEnabled(self.edited_channel is not None)
        self.form.refresh()

    def _set_range(self, _: str, **fields: object) -> object:
        if self.edited_channel is None:
            return None
        return self._change(set_range(self.edited_channel, self.scale.current, **fields), "change a range")

    def _remove_range(self) -> None:
        if self.edited_channel and self._chosen_range():
            self._change(remove_range(self.edited_channel, self.scale.current), "remove a range")

    def paste_table(self) -> None:
        if self.edited_channel:
            dialog = PasteRanges(self.edited_channel, self)
            if dialog.exec():
                made = say_count(len(dialog.ranges), "range")
                self._change(replace(self.edited_channel, ranges=dialog.ranges), f"put in {made}")
