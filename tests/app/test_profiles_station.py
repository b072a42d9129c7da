from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QLabel, QPushButton
from pytestqt.qtbot import QtBot

from tests.app.conftest import field_of
from welvo.app.profiles.ruler import cells_of_break
from welvo.app.session import Selection
from welvo.app.window import Window
from welvo.formats.chart import read_chart
from welvo.rig.edits import take_out_items


def show(window: Window, pid: str) -> None:
    window.show_station("Profiles")
    window.profiles.show_profile(pid)
    QApplication.processEvents()


def type_chart(window: Window, words: str) -> None:
    window.profiles.line.setPlainText(words)
    window.profiles.line.commit()
    QApplication.processEvents()


def press(window: Window, words: str, qtbot: QtBot) -> None:
    QApplication.processEvents()
    found = next(b for b in window.profiles.findChildren(QPushButton) if b.text() == words and b.isVisible())
    qtbot.mouseClick(found, Qt.MouseButton.LeftButton)


def test_typing_a_chart_changes_the_ruler_and_the_rig(small: Window, qtbot: QtBot) -> None:
    show(small, "head")
    station = small.profiles
    assert station.line.toPlainText() == "pan 16, tilt 16, dimmer, shutter = 255, zoom, gobo"
    station.line.setFocus()
    qtbot.keyClick(station.line, Qt.Key.Key_End, Qt.KeyboardModifier.ControlModifier)
    qtbot.keyClicks(station.line, ", iris")
    qtbot.waitUntil(lambda: station.ruler.mode is not None and station.ruler.mode.slots_needed == 9, timeout=2000)
    assert small.session.rig.profiles["head"].modes["m"].slots_needed == 8  # it waits: two lamps would move
    press(small, "Change 2 fixtures", qtbot)
    assert small.session.rig.profiles["head"].modes["m"].slots_needed == 9
    assert station.line.toPlainText().endswith(", iris")  # what was typed stays as it was typed
    small.session.undo_edit()
    assert small.session.rig.profiles["head"].modes["m"].slots_needed == 8 and not station.line.toPlainText().endswith(
        "iris"
    )


def test_a_word_that_is_not_known_is_underlined_and_offered(small: Window, qtbot: QtBot) -> None:
    small.session.make_edit(take_out_items, ["a", "b"])
    show(small, "head")
    type_chart(small, "pan, dimer, tilt")
    marked = small.profiles.line.extraSelections()
    assert [s.cursor.selectedText() for s in marked] == ["dimer"]
    assert "PROF-01" in small.session.report.codes_found
    offer = next(b for b in small.profiles.findChildren(QPushButton) if b.text() == "dimmer" and b.isVisible())
    qtbot.mouseClick(offer, Qt.MouseButton.LeftButton)
    assert (
        small.profiles.line.toPlainText() == "pan, dimmer, tilt" and "PROF-01" not in small.session.report.codes_found
    )
    type_chart(small, "pan, wobble")
    QApplication.processEvents()
    own = next(b for b in small.profiles.findChildren(QPushButton) if b.text() == "make it my own" and b.isVisible())
    qtbot.mouseClick(own, Qt.MouseButton.LeftButton)
    assert small.session.rig.profiles["head"].modes["m"].channels[1].function == "own:wobble"


def test_a_longer_mode_waits_until_its_clashes_were_shown(small: Window, qtbot: QtBot) -> None:
    show(small, "head")
    before = small.session.rig
    type_chart(small, "pan 16, tilt 16, dimmer, shutter, zoom, gobo, iris")
    said = " ".join(w.text() for w in small.profiles.findChildren(QLabel) if w.isVisible())
    assert "101" in said and "102" in said and small.session.rig is before
    press(small, "Leave as it was", qtbot)
    assert small.profiles.line.toPlainText() == "pan 16, tilt 16, dimmer, shutter = 255, zoom, gobo"
    type_chart(small, "pan 16, tilt 16, dimmer, shutter = 255, zoom, gobo, iris")
    type_chart(small, "pan 16, tilt 16, dimmer, shutter = 255, zoom, gobo")
    assert small.profiles.waiting is None and not any(
        b.text() == "Change 2 fixtures" and b.isVisible() for b in small.profiles.findChildren(QPushButton)
    )
    type_chart(small, "pan 16, tilt 16, dimmer, shutter = 255, zoom, gobo, iris")
    small.session.commit_pending()  # saving or arming says that something still waits, and takes nothing over
    assert "waits for your word" in small.message.words and small.session.rig is before
    press(small, "Change 2 fixtures", qtbot)
    assert {f.code for f in small.session.report.findings} == {"PATCH-01"}
    small.session.undo_edit()
    assert small.session.rig == before


def test_repeats_are_folded_under_a_bracket_with_their_count() -> None:
    mode = read_chart("dimmer, 14 x (red green blue white)").mode_of_chart("m")
    cells = cells_of_break(mode, 0)
    assert [c.slot for c in cells] == [1, 2, 3, 4, 5, 6]
    assert cells[1].bracket == "14 pixels × 4 = 56" and cells[-1].folded == "13 more, the same 4"
    assert len(cells_of_break(mode, 0, unfolded=True)) == 57
    gap = cells_of_break(read_chart("pan, gap 3, tilt").mode_of_chart("m"), 0)
    assert [(c.slot, c.slots, c.channel is None) for c in gap] == [(1, 1, False), (2, 3, True), (5, 1, False)]


def test_the_ruler_is_walked_by_keys_and_shows_the_channel(window: Window, qtbot: QtBot) -> None:
    show(window, "p2")
    ruler = window.profiles.ruler
    ruler.setFocus()
    ruler.pick_slot(0, 1)
    for _ in range(4):
        qtbot.keyClick(ruler, Qt.Key.Key_Right)
    assert window.profiles.channel and window.profiles.channel.function == "Shutter1"
    assert window.profiles.ranges.edited_channel is window.profiles.channel and not ruler.grab().isNull()


def test_modes_are_added_and_named_and_profiles_made_and_removed(small: Window, qtbot: QtBot) -> None:
    show(small, "head")
    small.profiles._add_mode()
    assert list(small.session.rig.profiles["head"].modes) == ["m", "m2"] and small.profiles.mode_id == "m2"
    field = field_of(small, "Mode")
    field.selectAll()
    qtbot.keyClicks(field, "short")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert small.session.rig.profiles["head"].modes["m2"].name == "short"
    code = field_of(small, "Code")
    code.selectAll()
    qtbot.keyClicks(code, "bar")
    qtbot.keyClick(code, Qt.Key.Key_Return)
    assert code.property("wrong") and small.session.rig.profiles["head"].code == "HEA"
    small.profiles._remove_profile()
    assert "head" in small.session.rig.profiles and "used by 2 fixtures" in small.message.words
    small.profiles.new_profile("red, green, blue")
    pid = small.profiles.profile_id
    assert small.session.rig.profiles[pid].name == "New profile"
    small.profiles._remove_profile()
    assert pid not in small.session.rig.profiles


def test_selecting_a_fixture_shows_its_profile(window: Window) -> None:
    window.session.select_items(["f701"])
    assert window.profiles.profile_id == "p5"
    window.session.change_selection(Selection("profile", ("p2",)))
    assert window.profiles.profile_id == "p2"


def test_the_face_walks_its_pixels_in_number_order(window: Window) -> None:
    show(window, "p5")
    face = window.profiles.panel.face
    assert len(face.spots_of_mode()) == 14
    for n in (1, 2, 3):
        face.walk_pixels()
        assert face.lit == n
    window.profiles.panel._toggle_walk()
    assert window.profiles.panel._walk_button.text() == "Stop"
    window.profiles.panel._toggle_walk()
    assert face.lit == 0
