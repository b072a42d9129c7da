"""What is said: in a line of its own, one message after the other, each long enough, and all of it read again."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from tests.app.conftest import in_dialog
from welvo.app.widgets import message as message_line
from welvo.app.widgets.message import Message, Said
from welvo.app.window import Window
from welvo.rig.edits import rename_rig


@pytest.fixture
def line(qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> Message:
    monkeypatch.setattr(message_line, "LEAST_OF_NOTE", 60)
    monkeypatch.setattr(message_line, "LEAST", {"error": 120, "warning": 80})
    monkeypatch.setattr(message_line, "FRESH", {"error": 400})
    monkeypatch.setattr(message_line, "FRESH_OF_NOTE", 300)
    made = Message(lambda: 1000.0)
    qtbot.addWidget(made)
    made.resize(900, 30)
    made.show()
    return made


def words(line: Message) -> str:
    return line.shown.words if line.shown else ""


def test_several_are_queued_and_none_is_lost(line: Message, qtbot: QtBot) -> None:
    line.say("it is refused", "error")
    line.say("first note", "note")
    line.say("second note", "note")
    assert words(line) == "it is refused" and line.more.text() == "and 2 more" and line.words == "second note"
    qtbot.waitUntil(lambda: words(line) == "first note", timeout=2000)
    assert line.more.text() == "and 1 more"
    qtbot.mouseClick(line, Qt.MouseButton.LeftButton, pos=QPoint(200, 10))  # read: the next one
    assert words(line) == "second note" and not line.more.isVisible()
    assert [s.words for s in line.said] == ["it is refused", "first note", "second note"]
    qtbot.waitUntil(lambda: not line.is_fresh, timeout=2000)
    assert "second note" in line.label.text()  # quiet, and still to be read


def test_what_was_done_is_said_at_once_with_its_way_back(line: Message, qtbot: QtBot) -> None:
    undone: list[int] = []
    line.undo.connect(lambda: undone.append(1))
    line.say("it is refused", "error")
    line.say("3 moved", "note", undo=True)
    assert words(line) == "3 moved" and line.back.isVisible()
    qtbot.mouseClick(line.back, Qt.MouseButton.LeftButton)
    assert undone == [1] and not line.back.isVisible()
    line.say("4 moved", "note", undo=True)
    line.no_undo()  # something else was done since
    assert not line.back.isVisible()


def test_a_long_message_takes_lines_while_it_is_read_and_is_folded_afterwards(line: Message, qtbot: QtBot) -> None:
    long = "Ports A, B of this device share one Net and Sub-Net. " * 7
    low = line.sizeHint().height()
    line.say(long, "error")
    assert line.heightForWidth(900) > low and line.label.text() == long
    qtbot.waitUntil(lambda: not line.is_fresh, timeout=2000)
    assert line.label.text().endswith("see Messages.") and line.said[-1].words == long
    line.say("x" * 2000, "error")
    assert line.label.text().endswith(" …") and len(line.label.text()) < 500


def test_a_flood_is_kept_in_the_list_and_not_queued_for_ever(line: Message) -> None:
    for n in range(600):
        line.say(f"note {n}", "note")
    assert len(line.waiting) == message_line.WAITING and len(line.said) == message_line.KEPT
    assert line.said[-1] == Said(1000.0, "note 599", "note")
    line.forget_shown()
    assert not line.waiting and line.label.text() == "" and len(line.said) == message_line.KEPT


def test_it_covers_nothing_and_is_read_again_in_the_window(small: Window, qtbot: QtBot) -> None:
    small.resize(1280, 800)
    small.session.make_edit(rename_rig, "Hall")
    small.session.say("Ports A, B of this device share one Net and Sub-Net. " * 6, "error")
    QApplication.processEvents()
    line = small.message
    at = line.geometry()
    for other in (small.ribbon, small.stations.stack, small.rail, small.head):
        assert not at.intersects(other.geometry()), other
    assert at.bottom() == small.rect().bottom()
    shown = in_dialog(lambda d: d.list.selectRow(0))
    qtbot.mouseClick(line.all, Qt.MouseButton.LeftButton)
    (dialog,) = shown
    rows = [r.cells for r in dialog.list.rows.lines]
    assert rows[0][1].startswith("Error: Ports A, B") and len(rows[0][0]) == 8


def test_the_border_of_the_panel_is_drawn_and_remembered(small: Window, qtbot: QtBot) -> None:
    small.resize(1280, 800)
    QApplication.processEvents()
    place, panels = small.panel_place, small.stations.panels
    usual = panels.width()
    border = place.border
    qtbot.mousePress(border, Qt.MouseButton.LeftButton, pos=QPoint(2, 100))
    qtbot.mouseMove(border, QPoint(-78, 100))
    qtbot.mouseRelease(border, Qt.MouseButton.LeftButton, pos=QPoint(-78, 100))
    wider = panels.width()
    assert usual < wider <= usual + 90 and small.computer.panel_width >= usual
    border.setFocus()
    qtbot.keyClick(border, Qt.Key.Key_Right)
    assert panels.width() < wider
    small.resize(1900, 800)
    QApplication.processEvents()
    assert panels.width() == small.computer.panel_width  # as it was drawn, not as a large window has it by itself
    qtbot.mouseDClick(border, Qt.MouseButton.LeftButton)
    assert small.computer.panel_width == 0 and panels.width() == 400
    for _ in range(100):
        qtbot.keyClick(border, Qt.Key.Key_Left)
    assert small.stations.stack.width() >= 500 and isinstance(border, QWidget)
    assert not [b for b in small.findChildren(QPushButton) if b.isVisible() and b.width() < 8]
