"""Rows that break where there is no room, and widths that grow with what stands in them and with the size of text.

A row of Qt squeezes what does not fit, or reaches out of the window, and both cut a number in half. Here a row takes
another line instead, so that every control keeps the room it needs.
"""

from __future__ import annotations

from typing import NamedTuple

from PySide6.QtCore import QEvent, QObject, QRect, QSize, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QComboBox, QLayout, QLayoutItem, QLineEdit, QSizePolicy, QSpacerItem, QWidget

from welvo.app.widgets.theme import THEME

WIDEST = 252
"""To how many pixels a field grows with its text, in normal text: as wide as the panel leaves it."""


class _Measured(NamedTuple):
    """What an item of a row says of its size: asked once for each layout, because every question goes to Qt."""

    item: QLayoutItem
    is_space: bool
    need: int
    hint: int
    most: int
    is_eager: bool
    """Whether it likes to be wider than its hint."""
    low: int
    """Its height, unless that follows from its width."""
    wraps: bool
    high: int
    least_high: int


class FlowRow(QLayout):
    """Widgets side by side, on as many lines as they need.

    A spacer that expands takes what is left of its line; without one, widgets that like to be wider share it. What was
    worked out is kept until Qt says that something in it is another: it is asked for its height again and again.
    """

    def __init__(self, spacing: int = 8) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self._measured: list[_Measured] | None = None
        self._heights: dict[int, int] = {}
        self._placed: QRect | None = None
        self._hint: QSize | None = None
        self._least: QSize | None = None
        self.setContentsMargins(0, 0, 0, 0)
        self.setSpacing(spacing)
        self._gap = spacing

    # ---- Qt's side

    def invalidate(self) -> None:
        self._measured, self._placed, self._hint, self._least = None, None, None, None
        self._heights.clear()
        super().invalidate()

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)
        self.invalidate()

    def addStretch(self) -> None:
        self.addItem(QSpacerItem(0, 0, QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum))

    def addSpacing(self, wide: int) -> None:
        self.addItem(QSpacerItem(wide, 0, QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Minimum))

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        if not 0 <= index < len(self._items):
            return None
        self.invalidate()
        return self._items.pop(index)

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation.Horizontal

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, wide: int) -> int:
        known = self._heights.get(wide)
        if known is None:
            known = self._heights[wide] = self._lay_out(QRect(0, 0, wide, 0), place=False)
        return known

    def sizeHint(self) -> QSize:
        if self._hint is None:
            shown, m = self._measure(), self.contentsMargins()
            wide = sum(x.hint for x in shown) + self._gap * max(0, len(shown) - 1)
            high = max((x.high for x in shown), default=0)
            self._hint = QSize(wide + m.left() + m.right(), high + m.top() + m.bottom())
        return self._hint

    def minimumSize(self) -> QSize:
        if self._least is None:
            shown, m = self._measure(), self.contentsMargins()
            wide = max((x.need for x in shown), default=0)
            high = max((x.least_high for x in shown), default=0)
            self._least = QSize(wide + m.left() + m.right(), high + m.top() + m.bottom())
        return self._least

    def setGeometry(self, r: QRect) -> None:
        super().setGeometry(r)
        if r != self._placed:
            self._lay_out(r, place=True)
            self._placed = QRect(r)

    # ---- laying out

    def _measure(self) -> list[_Measured]:
        if self._measured is None:
            self._measured = [m for i in self._items if (m := _measure_item(i)) is not None]
        return self._measured

    def _lay_out(self, r: QRect, *, place: bool) -> int:
        """Put the items into a rectangle, or only work out how high they are. Gives that height."""
        m = self.contentsMargins()
        inside = r.adjusted(m.left(), m.top(), -m.right(), -m.bottom())
        y = inside.top()
        lines = self._lines(max(1, inside.width()))
        for n, line in enumerate(lines):
            widths = self._widths(line, inside.width())
            heights = [x.item.heightForWidth(w) if x.wraps else x.low for x, w in zip(line, widths)]
            high = max(heights, default=0)
            if place:
                if len(lines) == 1:  # one line stands in the middle of what there is
                    y += max(0, (inside.height() - high) // 2)
                left = inside.left()
                for x, wide, tall in zip(line, widths, heights):
                    if not x.is_space:
                        x.item.setGeometry(QRect(left, y + (high - tall) // 2, wide, tall))
                    left += wide + self._gap
            y += high + (self._gap if n + 1 < len(lines) else 0)
        return y - r.top() + m.bottom()

    def _lines(self, room: int) -> list[list[_Measured]]:
        lines: list[list[_Measured]] = [[]]
        used = 0
        for x in self._measure():
            more = x.need + (self._gap if lines[-1] else 0)
            if lines[-1] and used + more > room:
                lines.append([])
                used, more = 0, x.need
            if x.is_space and not lines[-1] and len(lines) > 1:
                continue  # nothing to be pushed aside at the beginning of a line
            lines[-1].append(x)
            used += more
        return lines

    def _widths(self, line: list[_Measured], room: int) -> list[int]:
        """Everyone gets what it needs, then what it would like, and who likes to be wider shares what is left."""
        widths = [min(room, x.need) for x in line]
        left = room - sum(widths) - self._gap * max(0, len(line) - 1)
        for n, x in enumerate(line):
            more = min(left, min(x.hint, x.most) - widths[n])
            if more > 0:
                widths[n] += more
                left -= more
        eager = [n for n, x in enumerate(line) if x.is_eager]
        spacers = [n for n in eager if line[n].is_space]
        for k, n in enumerate(spacers or eager):
            share = left // (len(spacers or eager) - k)
            more = min(share, line[n].most - widths[n])
            if more > 0:
                widths[n] += more
                left -= more
        return widths


_HORIZONTAL = Qt.Orientation.Horizontal


def _measure_item(item: QLayoutItem) -> _Measured | None:
    """What an item says of itself; None where it is not shown."""
    if item.spacerItem() is not None:
        hint = item.sizeHint().width()
        stretches = bool(item.expandingDirections() & _HORIZONTAL)
        return _Measured(item, True, 0, hint, 1 << 20 if stretches else hint, stretches, 0, False, 0, 0)
    if item.isEmpty():
        return None
    least, hint_, most = item.minimumSize(), item.sizeHint(), item.maximumSize()
    wraps = item.hasHeightForWidth()  # words that go on in another line are the better the more of a line they have
    low = 0 if wraps else max(least.height(), min(hint_.height(), most.height()))
    eager = wraps or bool(item.expandingDirections() & _HORIZONTAL)
    need, high = max(least.width(), 1), hint_.height()
    return _Measured(item, False, need, hint_.width(), most.width(), eager, low, wraps, high, least.height())


def flow_of_widgets(*widgets: QWidget | int | None, spacing: int = 8) -> FlowRow:
    """Widgets side by side that break into lines; None stretches, a number is a fixed space."""
    made = FlowRow(spacing)
    for w in widgets:
        if w is None:
            made.addStretch()
        elif isinstance(w, int):
            made.addSpacing(w)
        else:
            made.addWidget(w)
    return made


class HoldsLines(QWidget):
    """Is never lower than what it holds needs at its width: rows in it may take several lines. For parts of a splitter,
    which asks nobody how high they would be."""

    def resizeEvent(self, e: QResizeEvent) -> None:
        super().resizeEvent(e)
        self._fit()

    def event(self, e: QEvent) -> bool:
        done = super().event(e)
        if e.type() == QEvent.Type.LayoutRequest:  # what stands in it says something longer
            self._fit()
        return done

    def _fit(self) -> None:
        layout = self.layout()
        need = layout.minimumHeightForWidth(self.width()) if layout is not None else 0
        if need != self.minimumHeight():
            self.setMinimumHeight(need)


# ---- widths


class _Width(QObject):
    """Keeps a widget as wide as it was meant in normal text, and wider where its words or the size of text need it."""

    def __init__(self, of: QWidget, least: int, may_be_wider: bool) -> None:
        super().__init__(of)
        self._of, self._least, self._may_be_wider = of, least, may_be_wider
        of.installEventFilter(self)
        if isinstance(of, QLineEdit):
            of.textChanged.connect(self.fit)
        elif isinstance(of, QComboBox):
            of.currentTextChanged.connect(self.fit)
        self.fit()

    def fit(self, *_: object) -> None:
        wide = THEME.scale_length(self._least)
        need = min(need_of_words(self._of), THEME.scale_length(WIDEST))
        if self._of.minimumWidth() != max(wide, need):
            self._of.setMinimumWidth(max(wide, need))
            if not self._may_be_wider:
                self._of.setMaximumWidth(max(wide, need))

    def eventFilter(self, of: QObject, e: QEvent) -> bool:
        if e.type() in (QEvent.Type.FontChange, QEvent.Type.StyleChange):
            self.fit()
        return False


def keep_width(of: QWidget, least: int) -> None:
    """Make a widget `least` pixels wide in normal text, and as much wider as larger text or its own words need."""
    _Width(of, least, False)


def keep_least(of: QWidget, least: int) -> None:
    """As `keep_width`, but it may become as wide as there is room."""
    _Width(of, least, True)


def need_of_words(of: QWidget) -> int:
    """How wide a field or a choice has to be to show what stands in it; 0 for anything else."""
    measure = of.fontMetrics().horizontalAdvance
    if isinstance(of, QLineEdit):
        return measure(of.text() or of.placeholderText()) + 24
    if isinstance(of, QComboBox):
        return measure(of.currentText().split(" · ")[0]) + 38
    return 0
