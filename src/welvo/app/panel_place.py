"""Where the detail panel stands: beside the station, or on a narrow window over it, behind an edge that opens it.

Below 1120 pixels a station and the panel beside it would both be cut. So there the station gets the whole width, and
the panel comes over its right side when it is wanted: by the edge, by its command, or when something is to be typed
into it.
"""

from __future__ import annotations

from PySide6.QtCore import QObject, QRect, Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QAbstractButton, QHBoxLayout, QSizePolicy, QStackedWidget, QWidget

from welvo.app.widgets.theme import THEME

NARROW = 1120
"""Below this width of the window the panel stands over the station."""
WIDE = 1600
EDGE = 22


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
        p.setPen(THEME.color("text"))
        p.setFont(THEME.font(13, bold=True))
        p.save()
        p.translate(self.width() / 2, self.height() / 2)
        p.rotate(-90)
        words = "Panel ▾" if self.isChecked() else "Panel ▴"
        p.drawText(QRect(-60, -12, 120, 24), Qt.AlignmentFlag.AlignCenter, words)
        p.restore()
        if self.hasFocus():
            p.setPen(THEME.color("accent"))
            p.drawRect(self.rect().adjusted(1, 1, -2, -2))


class PanelPlace(QObject):
    """Keeps the panels of a window in their place. `station` is the part they stand beside or over."""

    def __init__(self, window: QWidget, panels: QStackedWidget, station: QWidget, layout: QHBoxLayout) -> None:
        super().__init__(window)
        self._window, self._panels, self._station, self._layout = window, panels, station, layout
        self.edge = Edge()
        self.edge.clicked.connect(self.toggle_panel)
        self._beside = True
        """Whether the panel is shown where there is room for it."""
        self.narrow = False
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
        self.edge.setChecked(self.narrow and on)
        self.place_panel()

    def fit_to_window(self) -> None:
        """Follow the width of the window."""
        narrow = self._window.width() < NARROW
        self._panels.setFixedWidth(360 if self._window.width() >= WIDE else 300)
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

    def place_panel(self) -> None:
        if self.narrow and self.is_shown:
            at = self._station.mapTo(self._window, self._station.rect().topRight())
            wide = self._panels.width()
            self._panels.setGeometry(at.x() + 1 - wide, at.y(), wide, self._station.height())
            self._panels.raise_()
