"""The strip: what is about to be done would do to others, before it is done, wherever it is done."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QEnterEvent
from PySide6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from tests.app.conftest import field_of
from welvo.app.patch.add_fixtures import AddFixtures
from welvo.app.patch.paste import PasteRows
from welvo.app.session import Selection
from welvo.app.widgets.fields import Choice, Field
from welvo.app.widgets.strip import AllEffects, Strip
from welvo.app.window import Window
from welvo.checks.foresee import foresee_once
from welvo.rig.refs import SegmentRef


@pytest.fixture
def patch(window: Window) -> Window:
    window.show_station("Patch")
    window.session.select_items(["f207"])
    QApplication.processEvents()
    return window


def type_address(window: Window, qtbot: QtBot, text: str) -> None:
    field = field_of(window.patch.panel, "Address")
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, text)
    qtbot.wait(20)


def test_what_is_typed_is_foreseen_as_the_engine_says_and_done_by_enter(patch: Window, qtbot: QtBot) -> None:
    before = patch.session.rig
    type_address(patch, qtbot, "3.100")
    assert patch.strip.isVisible() and patch.session.rig is before
    shown = patch.strip.shown
    assert shown and patch.strip.words.text() == foresee_once(before, (shown.rig, shown.change)).strip
    ghosts = {(g.words, g.first) for found in patch.patch.tapes.ghosts.values() for g in found}
    assert ghosts == {("207", 100), ("208", 382)}  # drawn hollow: the lamp, and the one that stands behind it
    qtbot.keyClick(field_of(patch.patch.panel, "Address"), Qt.Key.Key_Return)
    assert not patch.strip.isVisible() and not patch.patch.tapes.ghosts
    assert patch.session.rig.fixtures["f207"].at == shown.rig.fixtures["f207"].at


def test_what_is_refused_or_touches_nobody_makes_no_strip(patch: Window, qtbot: QtBot) -> None:
    type_address(patch, qtbot, "3.1000")
    assert not patch.strip.isVisible()
    qtbot.keyClick(field_of(patch.patch.panel, "Address"), Qt.Key.Key_Escape)
    name = field_of(patch.patch.panel, "Name")
    name.setFocus()
    qtbot.keyClicks(name, "x")
    qtbot.wait(20)
    assert name.pending and not patch.strip.isVisible()


def test_looking_at_the_whole_list_takes_nothing_over(
    patch: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    seen: list[tuple[str, ...]] = []

    def look(dialog: AllEffects) -> int:
        dialog.show()
        dialog.list.setFocus()  # the field loses the keys, as it does for a dialog that is really there
        QApplication.processEvents()
        seen.extend(line.cells for line in dialog.list.rows.lines)
        dialog.close()
        return 0

    monkeypatch.setattr(AllEffects, "exec", look)
    before = patch.session.rig
    type_address(patch, qtbot, "3.100")
    qtbot.mouseClick(patch.strip.all, Qt.MouseButton.LeftButton)
    field = field_of(patch.patch.panel, "Address")
    assert patch.session.rig is before and field.pending and field.text() == "3.100" and not field.held
    assert ("208", "moves", "3.427–448", "3.382–403") in seen
    assert {cells[1] for cells in seen} >= {"moves", "meets 207"}


def test_a_fix_and_a_button_are_foreseen_while_they_are_pointed_at(patch: Window) -> None:
    for words, said in (("Move 304 to 3.348 (next free)", ""), ("Remove", "")):
        button = next(b for b in patch.patch.panel.findChildren(QPushButton) if b.text() == words)
        at = QPointF(3, 3)
        QApplication.sendEvent(button, QEnterEvent(at, at, at))
        assert patch.strip.shown is not None and said in patch.strip.words.text(), words
        assert patch.strip.isVisible() == bool(patch.strip.shown.strip) and patch.strip.shown.effects
        QApplication.sendEvent(button, QEvent(QEvent.Type.Leave))
        assert patch.strip.shown is None and not patch.strip.isVisible()


def test_a_choice_is_foreseen_while_its_list_is_open(patch: Window) -> None:
    mode = next(c for c in patch.patch.panel.findChildren(Choice) if c.accessibleName() == "Mode")
    mode.highlighted.emit(1)
    assert patch.strip.shown is None  # filling a list highlights too
    mode.showPopup()
    mode.highlighted.emit(mode.findData("m2"))
    assert patch.strip.words.text() == "1 moves: 208 from 3.427 to 3.414."
    mode.hidePopup()
    assert patch.strip.shown is None and patch.session.rig.fixtures["f207"].mode == "m1"


def test_carrying_a_lamp_says_what_the_drop_would_do(patch: Window, qtbot: QtBot) -> None:
    tapes = patch.patch.tapes
    (span,) = patch.session.index.spans_of("f207")
    tapes._take_up(span, 0, by_keys=True)
    tapes._carry_to("u3", 100)
    assert "205 and 207" in patch.strip.words.text() and "208" in patch.strip.words.text()
    qtbot.keyClick(tapes, Qt.Key.Key_Escape)
    assert patch.strip.shown is None


def test_dialogs_have_the_same_strip(window: Window) -> None:
    table = "No.\tName\tProfile\tMode\tUniverse\tAddress\n207\tx\tEddy head\t22 slot\t3\t100"
    paste = PasteRows(window.session, table, window)
    strip = paste.findChild(Strip)
    assert strip and "205 and 207" in strip.words.text() and strip.shown is window.strip.shown
    paste.reject()
    assert window.strip.shown is None
    add = AddFixtures(window.session, window)
    add.start.setText("3.100")
    strip = add.findChild(Strip)
    assert strip and strip.shown and "pairs meet" in strip.words.text()
    add.count.setText("no number")
    assert strip.shown is None
    add.reject()


def test_the_riser_draws_hollow_what_would_lie_elsewhere(runs: Window, qtbot: QtBot) -> None:
    pen = next(d for d, v in runs.session.rig.devices.items() if v.name == "PENSTOCK")
    runs.session.change_selection(Selection("segment", (pen,), on=SegmentRef(pen, "6", 0)))
    QApplication.processEvents()
    pixels = field_of(runs.runs.panel, "Pixels")
    pixels.setFocus()
    pixels.selectAll()
    qtbot.keyClicks(pixels, "60")
    qtbot.waitUntil(lambda: runs.strip.shown is not None)
    hollow = runs.runs.riser._hollow
    assert len(hollow) == 2 and all(r.height() > 0 for r in hollow)  # the longer string, and the bridge behind it
    qtbot.keyClick(pixels, Qt.Key.Key_Escape)
    assert runs.runs.riser._hollow == []


def test_a_line_that_adds_and_a_cell_of_the_list_are_foreseen(patch: Window, qtbot: QtBot) -> None:
    quick = patch.patch.quick
    quick.setFocus()
    qtbot.keyClicks(quick, "2 x Bar 9 at 3.100")
    qtbot.waitUntil(lambda: "pairs meet" in patch.strip.words.text(), timeout=10_000)
    assert {e.kind for e in patch.strip.shown.effects} >= {"made", "meets"}  # type: ignore[union-attr]
    qtbot.keyClick(quick, Qt.Key.Key_Escape)
    assert patch.strip.shown is None
    rows, column = patch.patch.list.items, next(
        n for n, h in enumerate(patch.patch.list.items.heads) if h.key == "first"
    )  # fmt: skip
    patch.patch.list.edit(rows.index(rows.row_of("f207"), column))
    editor = next(f for f in patch.patch.list.findChildren(Field) if f.isVisible())
    editor.selectAll()
    qtbot.keyClicks(editor, "3.100")
    qtbot.waitUntil(lambda: "205 and 207" in patch.strip.words.text())
    qtbot.keyClick(editor, Qt.Key.Key_Escape)
    assert patch.strip.shown is None
