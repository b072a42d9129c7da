from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from welvo.app.session import Selection
from welvo.app.stations.ruler import cells_of
from welvo.app.window import Window
from welvo.formats.chart import read_chart


def show(window: Window, pid: str) -> None:
    window.show_station("Profiles")
    window.profiles.show_profile(pid)
    QApplication.processEvents()


def type_chart(window: Window, words: str) -> None:
    window.profiles.line.setPlainText(words)
    window.profiles.line.commit()
    QApplication.processEvents()


def test_typing_a_chart_changes_the_ruler_and_the_rig(small: Window, qtbot: QtBot) -> None:
    show(small, "head")
    station = small.profiles
    assert station.line.toPlainText() == "pan 16, tilt 16, dimmer, shutter = 255, zoom, gobo"
    station.line.setFocus()
    qtbot.keyClick(station.line, Qt.Key.Key_End, Qt.KeyboardModifier.ControlModifier)
    qtbot.keyClicks(station.line, ", iris")
    qtbot.waitUntil(lambda: small.session.rig.profiles["head"].modes["m"].footprint == 9, timeout=2000)
    assert station.ruler.mode and station.ruler.mode.footprint == 9
    assert station.line.toPlainText().endswith(", iris")  # what was typed stays as it was typed
    small.session.undo()
    assert small.session.rig.profiles["head"].modes["m"].footprint == 8 and not station.line.toPlainText().endswith(
        "iris"
    )


def test_a_word_that_is_not_known_is_underlined_and_offered(small: Window, qtbot: QtBot) -> None:
    show(small, "head")
    type_chart(small, "pan, dimer, tilt")
    marked = small.profiles.line.extraSelections()
    assert [s.cursor.selectedText() for s in marked] == ["dimer"]
    assert {f.code for f in small.session.report.findings} == {"PROF-01"}
    offer = next(b for b in small.profiles.findChildren(QPushButton) if b.text() == "dimmer" and b.isVisible())
    qtbot.mouseClick(offer, Qt.MouseButton.LeftButton)
    assert small.profiles.line.toPlainText() == "pan, dimmer, tilt" and small.session.report.findings == ()
    type_chart(small, "pan, wobble")
    QApplication.processEvents()
    own = next(b for b in small.profiles.findChildren(QPushButton) if b.text() == "make it my own" and b.isVisible())
    qtbot.mouseClick(own, Qt.MouseButton.LeftButton)
    assert small.session.rig.profiles["head"].modes["m"].channels[1].function == "own:wobble"


def test_a_longer_mode_shows_its_clashes_at_once(small: Window) -> None:
    show(small, "head")
    type_chart(small, "pan 16, tilt 16, dimmer, shutter, zoom, gobo, iris")
    assert {f.code for f in small.session.report.findings} == {"PATCH-01"}


def test_repeats_are_folded_under_a_bracket_with_their_count() -> None:
    mode = read_chart("dimmer, 14 x (red green blue white)").mode("m")
    cells = cells_of(mode, 0)
    assert [c.slot for c in cells] == [1, 2, 3, 4, 5, 6]
    assert cells[1].bracket == "14 pixels × 4 = 56" and cells[-1].folded == "13 more, the same 4"
    assert len(cells_of(mode, 0, unfolded=True)) == 57
    gap = cells_of(read_chart("pan, gap 3, tilt").mode("m"), 0)
    assert [(c.slot, c.slots, c.channel is None) for c in gap] == [(1, 1, False), (2, 3, True), (5, 1, False)]


def test_the_ruler_is_walked_by_keys_and_shows_the_channel(window: Window, qtbot: QtBot) -> None:
    show(window, "p2")
    ruler = window.profiles.ruler
    ruler.setFocus()
    ruler.pick(0, 1)
    for _ in range(4):
        qtbot.keyClick(ruler, Qt.Key.Key_Right)
    assert window.profiles.channel and window.profiles.channel.function == "Shutter1"
    assert window.profiles.ranges.channel is window.profiles.channel and not ruler.grab().isNull()


def test_modes_are_added_and_named_and_profiles_made_and_removed(small: Window, qtbot: QtBot) -> None:
    show(small, "head")
    small.profiles._add_mode()
    assert list(small.session.rig.profiles["head"].modes) == ["m", "m2"] and small.profiles.mode_id == "m2"
    field = small.profiles.panel._fields["mode"]
    field.selectAll()
    qtbot.keyClicks(field, "short")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert small.session.rig.profiles["head"].modes["m2"].name == "short"
    code = small.profiles.panel._fields["code"]
    code.selectAll()
    qtbot.keyClicks(code, "bar")
    qtbot.keyClick(code, Qt.Key.Key_Return)
    assert code.property("wrong") and small.session.rig.profiles["head"].code == "HEA"
    small.profiles._remove()
    assert "head" in small.session.rig.profiles and "used by 2 fixtures" in small.message.words
    small.profiles.new_profile("red, green, blue")
    pid = small.profiles.profile_id
    assert small.session.rig.profiles[pid].name == "New profile"
    small.profiles._remove()
    assert pid not in small.session.rig.profiles


def test_selecting_a_fixture_shows_its_profile(window: Window) -> None:
    window.session.select_things(["f701"])
    assert window.profiles.profile_id == "p5"
    window.session.select(Selection("profile", ("p2",)))
    assert window.profiles.profile_id == "p2"


def test_the_face_walks_its_pixels_in_number_order(window: Window) -> None:
    show(window, "p5")
    face = window.profiles.panel.face
    assert len(face.spots()) == 14
    for n in (1, 2, 3):
        face.walk()
        assert face.lit == n
    window.profiles.panel._set_shape("row")
    assert [s.x for s in face.spots()] == [float(n) for n in range(14)]
