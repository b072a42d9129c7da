"""Rows that break where there is no room, and widths that grow with what stands in them and with the size of text.

A row of Qt squeezes what does not fit, or reaches out of the window, and both cut a number in half. Here a row takes
another line instead, so that every control keeps the room it needs.
"""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, QPoint, QRect, QSize, Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QComboBox, QLayout, QLayoutItem, QLineEdit, QSizePolicy, QSpacerItem, QWidget

from welvo.app.widgets.theme import THEME

WIDEST = 252
"""To how many pixels a field grows with its text, in normal text: as wide as the panel leaves it."""


class FlowRow(QLayout):
    """Widgets side by side, on as many lines as they need.

    A spacer that expands takes what is left of its line; without one, widgets that like to be wider share it.
    """

    def __init__(self, spacing: int = 8) -> None:
        super().__init__()
        self._items: list[QLayoutItem] = []
        self.setContentsMargins(0, 0, 0, 0)
        self.setSpacing(spacing)

    # ---- Qt's side

    def addItem(self, item: QLayoutItem) -> None:
        self._items.append(item)

    def addStretch(self) -> None:
        self.addItem(QSpacerItem(0, 0, QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum))

    def addSpacing(self, wide: int) -> None:
        self.addItem(QSpacerItem(wide, 0, QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Minimum))

    def count(self) -> int:
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        return Qt.Orientation.Horizontal

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, wide: int) -> int:
        return self._lay_out(QRect(0, 0, wide, 0), place=False)

    def sizeHint(self) -> QSize:
        shown = self._shown()
        wide = sum(i.sizeHint().width() for i in shown) + self.spacing() * max(0, len(shown) - 1)
        m = self.contentsMargins()
        return QSize(
            wide + m.left() + m.right(), max((i.sizeHint().height() for i in shown), default=0) + m.top() + m.bottom()
        )

    def minimumSize(self) -> QSize:
        shown, m = self._shown(), self.contentsMargins()
        return QSize(
            max((i.minimumSize().width() for i in shown), default=0) + m.left() + m.right(),
            max((i.minimumSize().height() for i in shown), default=0) + m.top() + m.bottom(),
        )

    def setGeometry(self, r: QRect) -> None:
        super().setGeometry(r)
        self._lay_out(r, place=True)

    # ---- laying out

    def _shown(self) -> list[QLayoutItem]:
        return [i for i in self._items if i.spacerItem() is not None or not i.isEmpty()]

    def _lay_out(self, r: QRect, *, place: bool) -> int:
        """Put the items into a rectangle, or only work out how high they are. Gives that height."""
        m = self.contentsMargins()
        inside = r.adjusted(m.left(), m.top(), -m.right(), -m.bottom())
        y = inside.top()
        lines = self._lines(max(1, inside.width()))
        for n, line in enumerate(lines):
            widths = self._widths(line, inside.width())
            high = max((self._height(i, w) for i, w in zip(line, widths)), default=0)
            if place and len(lines) == 1:  # one line stands in the middle of what there is
                y += max(0, (inside.height() - high) // 2)
            x = inside.left()
            for item, wide in zip(line, widths):
                if place and item.spacerItem() is None:
                    tall = min(high, self._height(item, wide))
                    item.setGeometry(QRect(QPoint(x, y + (high - tall) // 2), QSize(wide, tall)))
                x += wide + self.spacing()
            y += high + (self.spacing() if n + 1 < len(lines) else 0)
        return y - r.top() + m.bottom()

    def _lines(self, room: int) -> list[list[QLayoutItem]]:
        lines: list[list[QLayoutItem]] = [[]]
        used = 0
        for item in self._shown():
            need = 0 if item.spacerItem() is not None else _need(item)
            more = need + (self.spacing() if lines[-1] else 0)
            if lines[-1] and used + more > room:
                lines.append([])
                used, more = 0, need
            if item.spacerItem() is not None and not lines[-1] and len(lines) > 1:
                continue  # nothing to be pushed aside at the beginning of a line
            lines[-1].append(item)
            used += more
        return lines

    def _widths(self, line: list[QLayoutItem], room: int) -> list[int]:
        """Everyone gets what it needs, then what it would like, and who likes to be wider shares what is left."""
        widths = [min(room, 0 if i.spacerItem() is not None else _need(i)) for i in line]
        left = room - sum(widths) - self.spacing() * max(0, len(line) - 1)
        for n, item in enumerate(line):
            more = max(0, min(left, min(item.sizeHint().width(), item.maximumSize().width()) - widths[n]))
            widths[n] += more
            left -= more
        eager = [n for n, i in enumerate(line) if i.expandingDirections() & Qt.Orientation.Horizontal or _wraps(i)]
        spacers = [n for n in eager if line[n].spacerItem() is not None]
        for k, n in enumerate(spacers or eager):
            share = left // (len(spacers or eager) - k)
            more = max(0, min(share, line[n].maximumSize().width() - widths[n]))
            widths[n] += more
            left -= more
        return widths

    def _height(self, item: QLayoutItem, wide: int) -> int:
        if item.spacerItem() is not None:
            return 0
        if item.hasHeightForWidth():
            return item.heightForWidth(wide)
        return max(item.minimumSize().height(), min(item.sizeHint().height(), item.maximumSize().height()))


def _wraps(item: QLayoutItem) -> bool:
    """Words that go on in another line are the better the more of a line they have."""
    return item.spacerItem() is None and item.hasHeightForWidth()


def _need(item: QLayoutItem) -> int:
    return max(item.minimumSize().width(), 1)


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
