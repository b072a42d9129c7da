"""Wherever the keys are, it is seen: every stop of Tab changes pixels when it has the focus."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QWidget

from tests.look.audit import settle
from tests.look.states import stations_and_selections
from welvo.app.window import Window
from welvo.demo.gallery import make_gallery
from welvo.rig.document import Rig

PAGES = (
    "Patch, Tapes, a fixture that meets others", "Patch, Wires, nothing", "Patch, Positions, nothing",
    "Patch, Capacity, nothing", "Patch, Senders, nothing", "Runs, a bridge", "Devices, PENSTOCK", "Devices, a setting",
    "Devices, lamps", "Devices, bus, Board", "Devices, bus, Groups", "Devices, bus, Scenes", "Devices, bus, Inputs",
    "Bench, Drive", "Bench, Test", "Bench, Wire", "Bench, Tested", "Sheets, Sheets", "Sheets, Versions", "Profiles, 2",
)  # fmt: skip


def test_the_focus_is_seen_on_every_stop(make: Callable[[Rig], Window]) -> None:
    window = make(make_gallery())
    window.activateWindow()
    states = stations_and_selections(window)
    known: set[tuple[str, str]] = set()
    unseen: list[tuple[str, str, str]] = []
    for page in PAGES:
        states[page](window)
        settle()
        for w in window.findChildren(QWidget):
            name = w.accessibleName() or getattr(w, "text", str)()
            if (type(w).__name__, name) in known or not w.focusPolicy() & Qt.FocusPolicy.TabFocus:
                continue
            if not w.isVisible() or not w.isEnabled() or w.visibleRegion().isEmpty():
                continue
            known.add((type(w).__name__, name))
            now = QApplication.focusWidget()
            if now is not None:
                now.clearFocus()
            without = w.grab().toImage()
            w.setFocus(Qt.FocusReason.TabFocusReason)
            if not w.hasFocus() or w.grab().toImage() == without:
                unseen.append((page, type(w).__name__, name))
    assert len(known) > 150 and not unseen, unseen
