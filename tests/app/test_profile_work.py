"""Channels, ranges, breaks, modes and the try-out, on the real station."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QColor
from PySide6.QtWidgets import QApplication, QDialog
from pytestqt.qtbot import QtBot

from tests.app.conftest import field_of, press_in_dialog
from tests.app.test_profiles_station import press, show, type_chart
from welvo.app.profiles import compare, range_editor
from welvo.app.widgets.fields import Field
from welvo.app.window import Window
from welvo.formats.chart import read_chart
from welvo.rig.base import Refused
from welvo.rig.edits import set_fixtures
from welvo.rig.lamp import look_at_levels
from welvo.rig.profile import Mode, Range


def mode_of(window: Window) -> Mode:
    s = window.profiles
    return window.session.rig.profiles[s.profile_id].modes[s.mode_key]


def type_into(field: Field, words: str, qtbot: QtBot) -> None:
    field.setFocus()
    field.selectAll()
    qtbot.keyClick(field, Qt.Key.Key_Delete)
    qtbot.keyClicks(field, words)
    qtbot.keyClick(field, Qt.Key.Key_Return)


LABELS = {
    "function": "Function", "short": "Short", "default": "Default", "release": "When released", "low": "Low",
    "unit": "Unit", "needs": "Dimmed by", "slots": "Slots",
}  # fmt: skip


def fresh(window: Window, chart: str) -> Any:
    """A profile that nothing uses yet."""
    window.show_station("Profiles")
    window.profiles.new_profile(chart)
    QApplication.processEvents()
    return window.profiles


def test_highlight_of_72_channels_is_one_act(small: Window, qtbot: QtBot) -> None:
    station = fresh(small, "72 x (red green blue)")
    station.ruler.pick_slot(0, 1)
    press(small, "All alike", qtbot)
    assert len(station.ruler.chosen_places()) == 72
    type_into(station.panel.channel.field_of_name("Highlight"), "100 %", qtbot)
    channels = mode_of(small).channels
    assert [c.highlight for c in channels if c.function == "ColorAdd_R"] == [255] * 72
    assert all(c.highlight is None for c in channels if c.function != "ColorAdd_R")
    small.session.undo_edit()
    assert all(c.highlight is None for c in mode_of(small).channels)


@pytest.mark.parametrize(
    "field, typed, key, value",
    [
        ("function", "iris", "function", "Iris"), ("short", "Ab", "short", "Ab"), ("default", "50 %", "default", 128),
        ("release", "7", "release", 7), ("low", "-270", "low", -270.0), ("unit", "°", "unit", "°"),
        ("needs", "none", "needs", ()),
    ],
)  # fmt: skip
def test_a_channel_is_edited_in_the_panel(
    small: Window, qtbot: QtBot, field: str, typed: str, key: str, value: object
) -> None:
    station = fresh(small, "dimmer, red, zoom")
    station.ruler.pick_slot(0, 2)
    type_into(station.panel.channel.field_of_name(LABELS[field]), typed, qtbot)
    assert getattr(mode_of(small).channels[1], key) == value
    small.session.undo_edit()
    assert getattr(mode_of(small).channels[1], key) != value


@pytest.mark.parametrize(
    "field, typed, why",
    [
        ("function", "dimer", "dimmer"), ("default", "300", "255"), ("default", "much", "no value"),
        ("slots", "x", "slots"), ("short", "toolong", "four"), ("low", "a lot", "no number"),
        ("needs", "Nope", "no channel"), ("slots", "1", "1"),
    ],
)  # fmt: skip
def test_a_wrong_word_in_the_panel_is_refused_with_the_reason_and_changes_nothing(
    small: Window, qtbot: QtBot, field: str, typed: str, why: str
) -> None:
    station = fresh(small, "dimmer, red, zoom")
    before = small.session.rig
    station.ruler.pick_slot(0, 2)
    editor = station.panel.channel.field_of_name(LABELS[field])
    type_into(editor, typed, qtbot)
    assert small.session.rig is before and editor.property("wrong") and why in editor.refusal.text()
    assert editor.text() == typed  # what was typed stays to be put right


def test_ranges_are_split_dragged_named_and_pasted(
    small: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    station = fresh(small, "dimmer, shutter")
    station.ruler.pick_slot(0, 2)
    scale = station.ranges.scale
    QApplication.processEvents()

    def at(value: float) -> QPoint:
        return QPoint(round(scale._x_of_value(value)), range_editor.TOP + 10)

    qtbot.mouseDClick(scale, Qt.MouseButton.LeftButton, pos=at(128))
    first, second = station.channel.ranges
    assert (first.first, first.last + 1, second.last) == (0, second.first, 255) and abs(second.first - 128) <= 1
    qtbot.mousePress(scale, Qt.MouseButton.LeftButton, pos=at(second.first))
    qtbot.mouseMove(scale, at(60))
    assert station.channel.ranges[1].first == second.first  # nothing is taken over before the button is let go
    qtbot.mouseRelease(scale, Qt.MouseButton.LeftButton, pos=at(60))
    assert abs(station.channel.ranges[1].first - 60) <= 1
    assert station.channel.ranges[0].last + 1 == station.channel.ranges[1].first
    qtbot.mouseClick(scale, Qt.MouseButton.LeftButton, pos=at(20))
    type_into(station.ranges.name, "closed", qtbot)
    type_into(station.ranges.last, "10", qtbot)
    assert station.channel.ranges[0] == Range(name="closed", first=0, last=10)
    type_into(station.ranges.last, "999", qtbot)
    assert station.ranges.last.property("wrong") and station.channel.ranges[0].last == 10
    assert any(f.code == "PROF-05" and f.facts["first"] == 11 for f in small.session.report.findings)  # the gap

    def paste(dialog: range_editor.PasteRanges) -> int:
        dialog.edit.setPlainText("0–6 closed\n007-121 strobe slow…fast\n122 to 99 nothing")
        assert not dialog.go.isEnabled() and "Line 3" in dialog.saying.text()
        dialog.edit.setPlainText("0–6 closed\n007-121 strobe slow…fast\n122 to 255: open")
        assert dialog.go.text() == "Put in 3 ranges"
        return QDialog.DialogCode.Accepted

    monkeypatch.setattr(range_editor.PasteRanges, "exec", paste)
    press(small, "Paste table…", qtbot)
    assert [(r.first, r.last, r.does) for r in station.channel.ranges] == [
        (0, 6, "closed"), (7, 121, "strobe"), (122, 255, "open")
    ]  # fmt: skip
    assert not station.ranges.grab().isNull()


def test_breaks_are_split_joined_and_channels_moved_on_the_ruler(small: Window, qtbot: QtBot) -> None:
    station = fresh(small, "pan 16, tilt 16, dimmer, 2 x (red green blue)")
    station.ruler.pick_slot(0, 6)
    press(small, "Split break", qtbot)
    assert [b.slots for b in mode_of(small).breaks] == [5, 6]
    station.ruler.pick_slot(1, 1)
    press(small, "Join breaks", qtbot)
    assert [b.slots for b in mode_of(small).breaks] == [11]
    station.ruler.unfolded = True
    station.ruler.set_mode(station.mode)
    station.ruler.resize(900, station.ruler.height())
    station.ruler.grab()
    places = {c.slot: r for r, c in station.ruler._drawn}
    start, end = places[5].center().toPoint(), places[1].topLeft().toPoint() + QPoint(3, 10)
    qtbot.mousePress(station.ruler, Qt.MouseButton.LeftButton, pos=start)
    qtbot.mouseMove(station.ruler, end)
    qtbot.mouseRelease(station.ruler, Qt.MouseButton.LeftButton, pos=end)
    by_slot = sorted((c.slots, c.function) for c in mode_of(small).channels)
    assert by_slot[:3] == [((1,), "Dimmer"), ((2, 3), "Pan"), ((4, 5), "Tilt")]
    station.set_pixel_order(0, "GRB planes")
    assert [c.function for c in sorted(mode_of(small).channels, key=lambda c: c.slots)][3:] == [
        "ColorAdd_G", "ColorAdd_G", "ColorAdd_R", "ColorAdd_R", "ColorAdd_B", "ColorAdd_B"
    ]  # fmt: skip
    before = small.session.rig
    with pytest.raises(Refused, match="no colour order"):
        station.set_pixel_order(0, "XYZ")
    assert small.session.rig is before
    station.ruler.pick_slot(0, 1)
    press(small, "Remove", qtbot)
    assert mode_of(small).slots_needed == 10


def test_the_try_out_shows_what_the_lamp_does_and_what_keeps_it_dark(small: Window, qtbot: QtBot) -> None:
    station = fresh(small, "pan 16, tilt 16, dimmer, shutter, red, green, blue")
    tried = station.tryout
    tried.show_colour(QColor("#ff0000"))
    mode = station.mode
    level = {mode.channels[n].function: v for n, v in tried.sliders.levels.items()}
    assert level["ColorAdd_R"] == 255 and level["ColorAdd_G"] == level["ColorAdd_B"] == 0 and level["Dimmer"] == 255
    assert "slots" in tried._slots.text() and " 255 0 0" in tried._slots.text()
    tried.sliders.setFocus()
    column = next(n for n, c in enumerate(tried.sliders.columns) if mode.channels[c[0]].function == "Dimmer")
    tried.sliders.current = column
    qtbot.keyClick(tried.sliders, Qt.Key.Key_Home)
    assert tried.sliders.levels[tried.sliders.columns[column][0]] == 0 and station.channel.function == "Dimmer"
    assert "dimmer" in look_at_levels(mode, tried.sliders.levels).dark
    assert not tried.grab().isNull()
    tried.to_defaults()
    assert tried.sliders.levels == {}


def test_a_lamp_without_a_way_to_its_light_is_said_when_a_colour_is_asked_for(small: Window) -> None:
    station = fresh(small, "dimmer, pan")
    station.tryout.show_colour(QColor("#00ff00"))
    assert station.tryout._warning.text()


def test_modes_are_compared_moved_and_removed_with_their_users_shown(
    small: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    show(small, "head")
    station = small.profiles
    station._add_mode()
    type_chart(small, "dimmer, zoom")
    assert list(small.session.rig.profiles["head"].modes) == ["m", "m2"]
    dialog = compare.CompareModes(small.session.rig.profiles["head"], "m", small)
    words = {r.word: (r.left, r.right) for r in dialog.table.rows}
    assert words["dimmer"] == ("5", "1") and words["pan"] == ("1–2", "–") and not dialog.grab().isNull()
    station.move_mode(-1)
    assert list(small.session.rig.profiles["head"].modes) == ["m2", "m"]
    station.show_mode("m")
    shown: list[Any] = []
    monkeypatch.setattr(compare.AddressPreview, "exec", lambda self: shown.append(self.windowTitle()) or 0)
    press_in_dialog("Look at it")
    station.remove_mode()
    assert shown and "m" in small.session.rig.profiles["head"].modes  # left as it was
    monkeypatch.setattr(compare.AddressPreview, "exec", lambda self: 1)
    press_in_dialog("Look at it")
    station.remove_mode()
    rig = small.session.rig
    assert list(rig.profiles["head"].modes) == ["m2"] and {rig.fixtures[k].mode for k in "ab"} == {"m2"}
    small.session.undo_edit()
    assert list(small.session.rig.profiles["head"].modes) == ["m2", "m"]
    assert small.session.rig.fixtures["a"].mode == "m"


def test_the_last_mode_in_use_is_not_removed(small: Window) -> None:
    show(small, "head")
    before = small.session.rig
    small.profiles.remove_mode()
    assert small.session.rig is before and small.message.words


@pytest.mark.parametrize("typed, slots", [("60 RGB", 180), ("144 grbw", 576), ("50 RGB 16 bit", 300)])
def test_a_plain_strip_is_made_in_one_step(small: Window, typed: str, slots: int) -> None:
    pid = small.profiles.new_strip(typed)
    mode = small.session.rig.profiles[pid].modes["m1"]
    assert mode.slots_needed == slots and mode.count_pixels == int(typed.split()[0])


@pytest.mark.parametrize("typed", ["", "RGB", "0 RGB", "60 QQQ", "60"])
def test_a_strip_that_cannot_be_is_refused(small: Window, typed: str) -> None:
    before = small.session.rig
    with pytest.raises(Refused):
        small.profiles.new_strip(typed)
    assert small.session.rig is before


def test_facts_of_the_lamp_are_kept(small: Window, qtbot: QtBot, tmp_path: Path) -> None:
    show(small, "head")
    field = field_of(small, "Power W")
    type_into(field, "350", qtbot)
    facts = small.session.rig.profiles["head"].facts
    assert facts and facts.watts == 350
    beam = field_of(small, "Beam")
    beam.setCurrentIndex(beam.findData("wash"))
    beam.activated.emit(beam.currentIndex())
    facts = small.session.rig.profiles["head"].facts
    assert facts and (facts.beam, facts.watts) == ("wash", 350) and field_of(small, "Beam").currentData() == "wash"
    type_into(field, "a lot", qtbot)
    assert field.property("wrong") and small.session.rig.profiles["head"].facts == facts


def test_a_change_that_waits_is_dropped_when_the_profile_changes_under_it(small: Window) -> None:
    show(small, "head")
    type_chart(small, "pan 16")
    assert small.profiles.waiting
    small.session.make_edit(set_fixtures, "rename", {"a": {"name": "elsewhere"}})
    assert small.profiles.waiting  # another edit does not hurt it
    small.session.undo_edit()
    other = read_chart("pan").mode_of_chart("only")
    small.profiles.take_waiting()
    assert small.session.rig.profiles["head"].modes["m"].slots_needed == 2 and other.slots_needed == 1
    small.session.undo_edit()
    assert small.session.rig.profiles["head"].modes["m"].slots_needed == 8 and not small.profiles.waiting


def test_a_new_profile_keeps_its_text_while_another_change_waits(small: Window) -> None:
    show(small, "head")
    type_chart(small, "pan 16")
    station = fresh(small, "1 dimmer\n2 shutter\n0-6 closed\n7-255 open\n3-5 red green blue")
    assert station.line.toPlainText().startswith("1 dimmer\n2 shutter") and station.mode.slots_needed == 5
    assert station.waiting and station.waiting[0] == "head"
    small.profiles.show_profile("head")
    small.profiles.leave_waiting()
    assert small.profiles.line.toPlainText().startswith("pan 16, tilt 16")


def test_an_offer_that_is_taken_keeps_the_label_that_was_typed(small: Window, qtbot: QtBot) -> None:
    fresh(small, "zoom")
    type_chart(small, "levl_x, dimmr")
    press(small, "dimmer", qtbot)  # for a word of the manual's own
    assert next((c.function, c.name) for c in mode_of(small).channels) == ("Dimmer", "levl_x")
    press(small, "dimmer", qtbot)  # a slip of the pen is no label
    assert [(c.function, c.name) for c in mode_of(small).channels] == [("Dimmer", "levl_x"), ("Dimmer", "")]
    type_chart(small, "dimmer, dimmer, red")
    assert mode_of(small).channels[0].name == "levl_x"
