"""From a page of a manual to a checked profile, with keys and clicks counted. Fewer is better; more fails."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from tests.app.conftest import field_of
from tests.app.test_profiles_station import show
from welvo.app.profiles import station as profiles
from welvo.app.screens import drawn_front, front_places, on_picture
from welvo.app.widgets.face_editor import FaceEditor
from welvo.app.widgets.fields import Field
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.window import Window
from welvo.rig.refs import Goto

PAGE_46 = "CH1 Dimmer\nCH2 Dimmer fine\nCH3 Shutter\nCH4 Control\n14 x (red green blue)"
PAGE_3 = "1 Dimmer\n2 Shutter\n3 Control"
SHUTTER = "0–6 closed\n7–121 strobe slow…fast\n122–255 open"


class Hand:
    """Counts what a hand does."""

    def __init__(self, window: Window, qtbot: QtBot) -> None:
        self.window, self.qtbot = window, qtbot
        self.clicks = self.keys = 0

    def click(self, where: QWidget, at: QPoint | None = None) -> None:
        self.clicks += 1
        self.qtbot.mouseClick(where, Qt.MouseButton.LeftButton, pos=at or where.rect().center())
        QApplication.processEvents()

    def drag(self, where: QWidget, start: QPoint, end: QPoint) -> None:
        self.clicks += 1
        self.qtbot.mousePress(where, Qt.MouseButton.LeftButton, pos=start)
        self.qtbot.mouseMove(where, end)
        self.qtbot.mouseRelease(where, Qt.MouseButton.LeftButton, pos=end)

    def press(self, words: str, root: QWidget | None = None) -> None:
        self.click(
            next(b for b in (root or self.window).findChildren(QPushButton) if b.text() == words and b.isVisible())
        )

    def paste(self, words: str) -> None:
        QApplication.clipboard().setText(words)
        self.keys += 4  # Ctrl+A, Ctrl+V
        line = self.window.profiles.line
        self.qtbot.keyClick(line, Qt.Key.Key_A, Qt.KeyboardModifier.ControlModifier)
        self.qtbot.keyClick(line, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)

    def type(self, field: Field, words: str) -> None:
        self.click(field)
        field.selectAll()
        self.keys += 2 + len(words) + 1
        self.qtbot.keyClicks(field, words)
        self.qtbot.keyClick(field, Qt.Key.Key_Return)


def test_a_staggered_blinder_with_two_modes_from_its_manual_page(
    window: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    hand = Hand(window, qtbot)
    show(window, "p2")
    station = window.profiles
    (tmp_path / "page.png").write_bytes(drawn_front())

    # the first mode: a new profile, and the manual's table pasted over its line
    hand.clicks += 2  # New, Empty profile: a menu, which cannot be clicked while it blocks
    station.new_profile()
    hand.paste(PAGE_46)
    station.line.commit()
    pid = station.profile_id
    hand.type(field_of(station.panel, "Name"), "Cask 14")
    hand.type(field_of(station.panel, "Mode"), "46 slot")
    mode = station.mode
    assert mode and mode.slots_needed == 46 and mode.count_pixels == 14
    assert next(c for c in mode.channels if c.function == "Dimmer").slots == (1, 2)

    # the shutter's table
    station.ruler.grab()
    place = next(r for r, c in station.ruler._drawn if c.slot == 3)
    hand.click(station.ruler, place.center().toPoint())
    assert station.channel and station.channel.function == "Shutter1"

    def ranges(dialog: object) -> bool:
        hand.keys += 4
        hand.clicks += 1
        dialog.edit.setPlainText(SHUTTER)  # type: ignore[attr-defined]
        return bool(dialog.go.isEnabled())  # type: ignore[attr-defined]

    monkeypatch.setattr("welvo.app.profiles.range_editor.PasteRanges.exec", ranges)
    hand.press("Paste table…")
    assert len(station.channel.ranges) == 3

    # the face, over the drawing: two rows, each with two clicks
    monkeypatch.setattr(FileDialog, "ask_to_open", lambda *a, **k: str(tmp_path / "page.png"))

    def face(dialog: FaceEditor) -> bool:
        dialog.show()
        QApplication.processEvents()
        hand.press("Load…", dialog)
        hand.clicks += 2  # the file in the system's dialog, and Open

        def spot(n: int) -> QPoint:
            return dialog.canvas.view.point_of_spot(dialog.canvas.spots[n - 1]).toPoint()

        def cell(n: int) -> QPoint:
            return dialog.canvas.view.point_of_spot(on_picture(dialog, front_places()[n - 1])).toPoint()

        hand.drag(dialog.canvas, spot(1) - QPoint(60, 60), spot(7) + QPoint(12, 60))
        assert dialog.canvas.selected == set(range(1, 8))
        hand.press("Line", dialog)
        for first, last in ((1, 7), (8, 14)):
            assert dialog.canvas.selected == set(range(first, last + 1))
            hand.click(dialog.canvas, cell(first))
            hand.click(dialog.canvas, cell(last))
        hand.press("Place 14 pixels", dialog)
        return bool(dialog.result())

    monkeypatch.setattr(profiles.FaceEditor, "exec", face)
    hand.press("Arrange…")
    mode = station.mode
    assert mode and mode.backdrop and mode.spots[7].x - mode.spots[0].x == pytest.approx(0.42, abs=0.05)

    # the second mode
    hand.clicks += 2  # Mode ▾, Add a mode like this one
    station._add_mode()
    hand.click(station.line)
    hand.paste(PAGE_3)
    station.line.commit()
    hand.type(field_of(station.panel, "Mode"), "3 slot")

    # checked: the try-out lights it, and nothing is found wrong with it
    made = window.session.rig.profiles[pid]
    assert [(m.name, m.slots_needed, m.count_pixels) for m in made.modes.values()] == [
        ("46 slot", 46, 14),
        ("3 slot", 3, 0),
    ]
    own = [
        f
        for f in window.session.report.findings
        if f.goes_to == Goto("profile", pid) or f.subject.startswith(pid + "/")
    ]
    assert [f.code for f in own if f.severity != "note"] == []
    print(f"{hand.clicks} clicks, {hand.keys} keys")
    assert hand.clicks <= 22 and hand.keys <= 41
