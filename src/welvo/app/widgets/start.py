"""Where an empty rig begins: a rig that is there already, one of the last ones, or the demo."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.literal import literal_text
from welvo.app.widgets.painting import clear_layout, column_of_widgets, make_button, make_label
from welvo.formats.files import path_to_text, shown_name

MOST_RECENT = 4


class Start(QWidget):
    """Emits `open_file` for Open…, `open_recent` with a path, `demo`. Shown only while the rig has nothing in it."""

    open_file = Signal()
    open_recent = Signal(object)
    demo = Signal()

    def __init__(self) -> None:
        super().__init__()
        self._lines = column_of_widgets(spacing=8)
        self._offered: tuple[Path, ...] | None = None
        self.setLayout(self._lines)
        self.hide()

    def offer_recent(self, recent: Iterable[Path]) -> None:
        """Build the buttons for the rigs that were opened last, the latest first."""
        last_files = tuple(recent)[:MOST_RECENT]
        if last_files == self._offered:
            return
        self._offered = last_files
        clear_layout(self._lines)
        begin = [
            make_button("Open a rig…", self.open_file.emit, "Opens a rig file.   Ctrl+O"),
            make_button(
                "Look at the demo", self.demo.emit, "The opening night of the Drift Gallery, with devices to try."
            ),
        ]
        last = [
            make_button(shown_name(p), lambda p=p: self.open_recent.emit(p), literal_text(path_to_text(p)))
            for p in last_files
        ]
        self._lines.addSpacing(24)
        self._lines.addLayout(flow_of_widgets(None, make_label("Or begin with", 13, quiet=True), *begin, None))
        if last:
            self._lines.addLayout(flow_of_widgets(None, make_label("Opened last", 13, quiet=True), *last, None))
