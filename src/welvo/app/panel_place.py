"""Where the detail panel stands: beside the station, or on a narrow window over it, behind an edge that opens it.

Below 1120 pixels a station and the panel beside it would both be cut. So there the station gets the whole width, and
the panel comes over its right side when it is wanted: by the edge, by its command, or when something is to be typed
into it.
"""

from __future__ import annotations

from PySide6.QtCore import QObject, QRectF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QSizePolicy, QStackedWidget, QWidget

from welvo.app.computer import Computer
from welvo.app.widgets.painting import CENTRE, draw_text_line
from welvo.app.widgets.theme import THEME

NARROW = 1120
"""Below this width of the window the panel stands over the station."""
WIDE = 1600
NARROW_FOR_STEP = 40
"""By how much that width is more for each step of larger text."""
EDGE = 22
LEAST, USUAL, LARGE = 300, 300, 400
"""Widths of the panel in normal text: the smallest, what it has by itself, and that in a wide window."""
STATION = 560
"""What is left to the station however wide the panel is drawn."""
STEP = 20
"""How far an arrow key moves the border between station and panel."""


class Edge(QAbstractButton):
    """The strip at the right that opens and closes the panel."""

    def __init__(self) -> None:
        super().__init__()
        self.setCheckable(True)
        self.setFixedWidth(EDGE)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Panel")
        self.setToolTip("Show or hide the panel: what is selected, with its settings")

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), THEME.color("select" if self.underMouse() or self.isChecked() else "raised"))
        p.setPen(THEME.color("line"))
        p.drawLine(0, 0, 0, self.height())
        p.save()
        p.translate(self.width() / 2, self.height() / 2)
        p.rotate(-90)
        words = "Panel ▾" if self.isChecked() else "Panel ▴"
        draw_text_line(p, QRectF(-60, -12, 120, 24), words, bold=True, align=CENTRE)
        p.restore()
        if self.hasFocus():
            p.setPen(THEME.color("accent"))
            p.drawRect(self.rect().adjusted(1, 1, -2, -2))


class Border(QWidget):
    """What stands between station and panel: drawing it makes the panel wider, a double click as wide as usual."""

    moved = Signal(int)
    """By how many pixels the panel is to be wider."""
    usual = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.setFixedWidth(5)
        self.setCursor(Qt.CursorShape.SplitHCursor)
        self.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.setAccessibleName("Width of the panel")
        self.setToolTip("Drag, or press Left and Right, to make the panel wider; a double click makes it as usual")
        self._at: float | None = None

    def mousePressEvent(self, e: QMouseEvent) -> None:
        self._at = e.globalPosition().x()

    def mouseMoveEvent(self, e: QMouseEvent) -> None:
        if self._at is not None:
            by = round(self._at - e.globalPosition().x())
            self._at -= by
            self.moved.emit(by)

    def mouseReleaseEvent(self, _: QMouseEvent) -> None:
        self._at = None

    def mouseDoubleClickEvent(self, _: QMouseEvent) -> None:
        self.usual.emit()

    def keyPressEvent(self, e: QKeyEvent) -> None:
        step = {Qt.Key.Key_Left: STEP, Qt.Key.Key_Right: -STEP}.get(Qt.Key(e.key()))
        if step is None:
            super().keyPressEvent(e)
        else:
            self.moved.emit(step)

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), THEME.color("station"))
        p.fillRect(2, 0, 1, self.height(), THEME.color("line"))
        if self.hasFocus():
            p.fillRect(1, 0, 3, self.height(), THEME.color("accent"))


class PanelPlace(QObject):
    """Keeps the panels of a window in their place. `station` is the part they stand beside or over."""

    def __init__(
        self, window: QWidget, computer: Computer, panels: QStackedWidget, station: QWidget, layout: QHBoxLayout
    ) -> None:
        super().__init__(window)
        self._computer = computer
        self._window, self._panels, self._station, self._layout = window, panels, station, layout
        self.edge = Edge()
        self.edge.clicked.connect(self.toggle_panel)
        self._beside = True
        """Whether the panel is shown where there is room for it."""
        self.narrow = False
        self.border = Border()
        self.border.moved.connect(self._draw_wider)
        self.border.usual.connect(self._take_usual)
        layout.addWidget(self.border)
        layout.addWidget(panels)
        layout.addWidget(self.edge)
        self.edge.hide()

    @property
    def is_shown(self) -> bool:
        return not self._panels.isHidden()

    def toggle_panel(self) -> None:
        self._show_panel(not self.is_shown)

    def open_panel(self) -> None:
        """Something is to be typed into the panel."""
        if not self.is_shown:
            self._show_panel(True)

    def _show_panel(self, on: bool) -> None:
        if not self.narrow:
            self._beside = on
        self._panels.setVisible(on)
        self.border.setVisible(on and not self.narrow)
        self.edge.setChecked(self.narrow and on)
        self.place_panel()

    def fit_to_window(self) -> None:
        """Follow the width of the window."""
        narrow = self._window.width() < NARROW + NARROW_FOR_STEP * THEME.step
        self._panels.setFixedWidth(self._width())
        if narrow != self.narrow:
            self.narrow = narrow
            if narrow:
                self._layout.removeWidget(self._panels)
                self._panels.setParent(self._window)
                self._panels.setAutoFillBackground(True)
            else:
                self._layout.insertWidget(self._layout.indexOf(self.edge), self._panels)
            self.edge.setVisible(narrow)
            self._show_panel(not narrow and self._beside)
        self.place_panel()

    def _width(self) -> int:
        """What was drawn by hand, as far as the window leaves room for it; else by the width of the window."""
        whole = self._window.width()
        least = THEME.scale_length(LEAST)
        drawn = self._computer.panel_width or (LARGE if whole >= WIDE else USUAL)
        return max(least, min(THEME.scale_length(drawn), whole - THEME.scale_length(STATION)))

    def _draw_wider(self, by: int) -> None:
        """The width is kept as it is in normal text, so that it grows and shrinks with the size of text."""
        one = THEME.scale_length(1000) / 1000
        drawn = round((self._panels.width() + by) / one)
        self._computer.panel_width = max(LEAST, min(drawn, 16_000))
        self._panels.setFixedWidth(self._width())

    def _take_usual(self) -> None:
        self._computer.panel_width = 0
        self.fit_to_window()

    def place_panel(self) -> None:
        if self.narrow and self.is_shown:
            at = self._station.mapTo(self._window, self._station.rect().topRight())
            wide = self._panels.width()
            self._panels.setGeometry(at.x() + 1 - wide, at.y(), wide, self._station.height())
            self._panels.raise_()
