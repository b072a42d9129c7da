"""The hands on ruler, scale, faders and previews: mouse and keys."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QHelpEvent, QMouseEvent
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from tests.app.conftest import answer
from tests.app.test_profile_work import fresh, mode_of
from tests.app.test_profiles_station import show, type_chart
from welvo.app.profiles import compare
from welvo.app.profiles.tryout import TRACK_TOP, WIDE
from welvo.app.window import Window

CTRL = Qt.KeyboardModifier.ControlModifier


def places(station: Any) -> dict[int, QPoint]:
    station.ruler.resize(900, station.ruler.height())
    station.ruler.grab()
    return {c.slot: r.center().toPoint() for r, c in station.ruler._drawn}


def test_ctrl_adds_and_takes_away_and_a_fold_opens(small: Window, qtbot: QtBot) -> None:
    station = fresh(small, "dimmer, pan, 8 x (red green)")
    ruler, left = station.ruler, Qt.MouseButton.LeftButton
    at = places(station)
    qtbot.mouseClick(ruler, left, pos=at[1])
    qtbot.mouseClick(ruler, left, CTRL, pos=at[2])
    assert len(ruler.chosen_places()) == 2
    qtbot.mouseClick(ruler, left, CTRL, pos=at[2])
    assert len(ruler.chosen_places()) == 1
    assert 6 not in at or not ruler.unfolded
    fold = max(at)
    qtbot.mouseClick(ruler, left, CTRL, pos=at[fold])
    assert len(ruler.chosen_places()) == 1 + 14  # what is folded goes along
    qtbot.mouseClick(ruler, left, pos=at[fold])
    assert ruler.unfolded and len(places(station)) == 18
    qtbot.mouseClick(ruler, left, pos=QPoint(20, 30))
    assert not ruler.unfolded
    for n in (1, fold):
        QApplication.sendEvent(
            ruler,
            QMouseEvent(
                QEvent.Type.MouseMove, QPointF(at[n]), QPointF(at[n]), Qt.MouseButton.NoButton,
                Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier
            ),
        )  # fmt: skip


def test_many_slots_wrap_and_none_is_lost(small: Window) -> None:
    station = fresh(small, ", ".join(["dimmer"] * 60))
    station.ruler.resize(900, station.ruler.height())
    station.ruler.grab()
    rects = [r for r, _ in station.ruler._drawn]
    assert len(rects) == 60 and len({r.top() for r in rects}) > 1 and max(r.right() for r in rects) <= 900
    assert all(not a.intersects(b) for n, a in enumerate(rects) for b in rects[n + 1 :])


def test_the_scale_is_walked_by_keys(small: Window, qtbot: QtBot) -> None:
    station = fresh(small, "1 shutter\n0-6 closed\n7-121 strobe\n122-255 open")
    station.ruler.pick_slot(0, 1)
    scale = station.ranges.scale
    scale.setFocus()
    for key in (Qt.Key.Key_Right, Qt.Key.Key_Right):
        qtbot.keyClick(scale, key)
    moved = [(r.first, r.last) for r in station.channel.ranges]
    assert moved[0][0] == 0 and moved[-1][1] == 255  # a border moves, or the next range is chosen; no value is lost
    assert all(a[1] + 1 == b[0] for a, b in pairwise(moved))
    station.ranges._remove_range()
    assert len(station.channel.ranges) < 3


def test_faders_of_the_try_out_follow_the_hand(small: Window, qtbot: QtBot) -> None:
    station = fresh(small, "pan, tilt, dimmer, 3 x (red green blue)")
    sliders = station.tryout.sliders
    top, bottom = TRACK_TOP, sliders.height() - 24
    x = WIDE * 2 + WIDE // 2
    qtbot.mousePress(sliders, Qt.MouseButton.LeftButton, pos=QPoint(x, bottom))
    qtbot.mouseMove(sliders, QPoint(x, top))
    qtbot.mouseRelease(sliders, Qt.MouseButton.LeftButton, pos=QPoint(x, top))
    assert sliders.levels[2] == 255 and station.channel.function == "Dimmer"
    qtbot.mouseClick(sliders, Qt.MouseButton.RightButton, pos=QPoint(x, top))
    assert 2 not in sliders.levels
    sliders.setFocus()
    sliders.current = 3
    before = dict(sliders.levels)
    for key in (
        Qt.Key.Key_End, Qt.Key.Key_Up, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown, Qt.Key.Key_Down, Qt.Key.Key_Right,
        Qt.Key.Key_Left
    ):  # fmt: skip
        qtbot.keyClick(sliders, key)
    assert sliders.levels != before and all(0 <= v <= 255 for v in sliders.levels.values())
    reds = {sliders.levels.get(n) for n in sliders.columns[3]}
    assert len(reds) == 1  # one fader stands for all pixels
    station.tryout.to_highlight()
    assert not station.tryout.grab().isNull()


def test_what_a_change_would_do_is_listed_before_it_is_done(small: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    show(small, "head")
    station = small.profiles
    type_chart(small, "pan 16, tilt 16, dimmer, shutter, zoom, gobo, iris")
    seen: list[str] = []

    def look(dialog: compare.AddressPreview) -> int:
        assert not dialog.grab().isNull()
        seen.extend(line.cells[0] for line in dialog.list.rows.lines)
        return 1

    monkeypatch.setattr(compare.AddressPreview, "exec", look)
    station.show_waiting()
    assert "101" in seen and mode_of(small).slots_needed == 9


def test_the_menus_of_modes_and_new_profiles_do_what_they_say(small: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    show(small, "head")
    station = small.profiles
    names = [a.text() for menu in (station.mode_menu(), station.new_menu()) for a in menu.actions()]
    assert {"Compare modes…", "Remove this mode…", "Plain strip of pixels…", "From the library…"} <= set(names)
    answer("30 GRB")
    station.ask_strip()
    assert station.mode.slots_needed == 90 and station.mode.channels[0].function == "ColorAdd_G"
    answer("RGX")
    station.pixel_order()
    assert station.mode.channels[0].function == "ColorAdd_G"  # refused, and left
    answer("RGB")
    station.pixel_order()
    assert station.mode.channels[0].function == "ColorAdd_R"
    opened: list[object] = []
    monkeypatch.setattr(compare.CompareModes, "exec", lambda self: opened.append(self))
    station.compare_revisions()
    assert opened


def test_hovering_over_the_face_names_pixel_channels_and_colours(small: Window) -> None:
    station = fresh(small, "dimmer, 4 x (red green blue)")
    face = station.panel.face
    face.grab()
    at = face._view_of_face().point_of_spot(face.spots_of_mode()[1]).toPoint()
    assert face.pixel_at(QPointF(at)) == 2
    assert face.event(QHelpEvent(QEvent.Type.ToolTip, at, face.mapToGlobal(at)))
    assert face.event(QHelpEvent(QEvent.Type.ToolTip, QPoint(1, 1), face.mapToGlobal(QPoint(1, 1))))
    from welvo.app.widgets.face import pixel_words

    words = pixel_words(station.mode, 2)
    assert [a for a, _ in words] == ["red", "green", "blue"] and "5" in words[0][1]


def test_a_profile_with_many_modes_lists_them(small: Window) -> None:
    show(small, "head")
    for _ in range(5):
        small.profiles._add_mode()
    assert len(small.session.rig.profiles["head"].modes) == 6
    small.profiles.show_mode("m")
    assert small.profiles.mode_key == "m" and small.profiles.minimumSizeHint().width() <= 908
