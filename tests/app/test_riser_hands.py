"""What the riser and the opened cable say and do under the hand: every place, every key, every row of their menu."""

from __future__ import annotations

from typing import Any

import pytest
from msgspec.structs import replace
from PySide6.QtCore import QPoint, QPointF, QRectF, Qt
from PySide6.QtGui import QDragLeaveEvent, QDragMoveEvent, QWheelEvent
from PySide6.QtWidgets import QApplication, QToolTip
from pytestqt.qtbot import QtBot

from tests.app.conftest import pointer_moved
from tests.app.test_runs_station import field, pen, put
from tests.runs.test_sums import box, strip
from welvo.app.runs.riser import write_mime
from welvo.app.runs.riser_drawing import MARKS_APART, At, ruler_of
from welvo.app.runs.riser_layout import lay_out, rect_of, room_for
from welvo.app.session import Selection
from welvo.app.widgets.model_editor import ModelEditor
from welvo.app.window import Window
from welvo.rig.document import put_entries as change_rig
from welvo.rig.lookup import name_of_item
from welvo.rig.refs import SegmentRef
from welvo.rig.runs import Segment
from welvo.runs.cable import Cables
from welvo.runs.edits import attach_segments, set_device_way
from welvo.runs.geometry import course_of, place_along
from welvo.runs.wish import attach_wish


def test_every_place_of_the_riser_says_what_it_is(runs: Window) -> None:
    riser = runs.runs.riser
    assert riser.words_at(At("1", -1, 0)).startswith("Port 1: 165 pixels on the cable, 495 slots, ")
    assert riser.words_at(At("12", -1, 0)) == "Port 12" and riser.words_at(At("", -1, 0)) == ""
    assert riser.words_at(At("6", 2, 0)) == "Port 6 · sill bridge"
    # what is said of a place is what the sums say of it, at every pixel of a cable that comes back up
    stream = runs.session.index.cables_and_sums.streams[pen(runs), "1"]
    for led in (1, 28, 55):
        words, px = riser.words_at(At("1", 1, led)), stream.pieces[1].px + 55 - led
        universe, slot = stream.pieces[1].place_of_slot((px - stream.pieces[1].px) * 3 + 1)
        # attached reversed: the first on the cable is the last of the element
        assert f"/{56 - led} · {universe}.{slot:03d} · slot {(px - 1) * 3 + 1} of the stream" in words, words


def test_a_point_on_every_stroke_is_the_pixel_that_is_drawn_there(runs: Window) -> None:
    riser = runs.runs.riser
    for label, lay in riser.courses.items():
        for n, piece in enumerate(riser._of[label].pieces):
            for led in {1, piece.leds // 2, piece.leds} if piece.segment.kind == "pixels" else ():
                found = place_along(lay, n, led)
                assert found
                stroke, behind = found
                r = riser.rect_of(label, stroke)
                c = riser.column_of_port(label)
                y = c.top() + stroke.fixed + riser.pixels_per_led * behind
                assert riser.place_at_point(QPointF(r.center().x(), y)) == At(label, n, led), (label, n, led)


def test_a_cable_too_thin_for_lanes_is_drawn_whole_as_blocks() -> None:
    run = tuple(Segment(kind="pixels", element=f"e{n}", reverse=bool(n % 2)) for n in range(60))
    rig = box((*run, Segment(kind="null", count=20)), elements={f"e{n}": strip(50) for n in range(60)}, many=40)
    stream = Cables(rig).streams["d", "1"]
    lay = course_of(stream)
    wide = lay_out(stream, lay, room_for(QRectF(0, 60, 1200, 500), lay, 2.0), {})
    thin = lay_out(stream, lay, room_for(QRectF(0, 60, 24, 500), lay, 2.0), {})
    assert not wide.block and len(wide.strings[0]) == 60 and len(wide.nulls) == 1 and wide.seams
    assert thin.block and len(thin.strings[0]) <= 24 and len(thin.cables) == 1
    # every string that is drawn alone lies inside what is drawn as a block
    room = room_for(QRectF(0, 60, 24, 500), lay, 2.0)
    for s in lay.strokes:
        r = rect_of(room, s)
        if s.leds and s.kind != "null":
            near = [b for b in thin.strings[0] if abs(b.left() - r.left()) <= 1.5]
            assert any(b.top() - 1 <= r.top() and r.bottom() <= b.bottom() + 1 for b in near)


def test_moving_by_hand_to_no_port_and_to_a_wrong_one_changes_nothing(runs: Window) -> None:
    riser, before = runs.runs.riser, runs.session.rig
    assert not riser.drop_segment(At("1", 0, 1), At("", -1, 0))
    assert "Drop it on a port" in runs.message.words and runs.session.rig is before
    _at, words, fits = riser._say_move(At("1", 0, 1), At("", -1, 0))
    assert not fits and "Drop it on a port" in words
    # along its own cable: to the end, and back by one
    assert riser.drop_segment(At("1", 0, 1), At("1", 2, 54))
    names = lambda: [s.element for s in runs.session.rig.devices[pen(runs)].ports["1"].run]  # noqa: E731
    assert names() == ["c2", "c3", "c1"]
    runs.session.undo_edit()
    assert names() == ["c1", "c2", "c3"]
    runs.session.make_edit(set_device_way, pen(runs), "mode", mode="6 long ports")
    assert not riser.drop_segment(At("1", 0, 1), At("12", -1, 0))
    assert "switches port 12 of PENSTOCK off" in runs.message.words


def test_something_dragged_over_a_port_is_announced_and_forgotten(runs: Window) -> None:
    riser, before = runs.runs.riser, runs.session.rig

    def over(pos: QPoint, *keys: str) -> str:
        mime = write_mime(list(keys))
        e = QDragMoveEvent(
            pos, Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        )
        riser.dragLeaveEvent(QDragLeaveEvent())
        riser.dragMoveEvent(e)
        assert riser._ghost
        riser.grab()  # it paints
        return ("" if riser._ghost[2] else "refused: ") + riser._ghost[1]

    name = name_of_item(before, "e1")
    assert over(riser.column_of_port("9").center().toPoint(), "e1").startswith(f"{name} to port 9, place 1")
    assert over(riser.column_of_port("9").center().toPoint(), "e1", "e2").startswith("2 items to port 9, place 1")
    # inside a long string, here one that folds: at the very pixel, which is where it lands then
    swarm = riser.rect_of("7", riser.courses["7"].strokes[1]).center()
    at = riser.place_at_point(QPointF(swarm.toPoint()))
    assert 140 < at.led < 160 and over(swarm.toPoint(), "e1").startswith(f"{name} to port 7, pixel {at.led}")
    assert runs.session.rig is before
    bridge = riser.rect_of("6", riser.courses["6"].strokes[2]).center()
    assert over(bridge.toPoint(), "e1").startswith(f"{name} to port 6, place 4")
    runs.session.make_edit(set_device_way, pen(runs), "mode", mode="6 long ports")
    words = over(riser.column_of_port("12").center().toPoint(), "e1")
    assert words.startswith("refused: ") and "switches port 12 of PENSTOCK off" in words
    riser.dragLeaveEvent(QDragLeaveEvent())
    assert riser._ghost is None
    assert riser.drop_items(["e1"], at, riser.segment_for)
    stream = Cables(runs.session.rig).streams[pen(runs), "7"]
    assert next(p.px for p in stream.pieces if p.key == "e1") == at.led


def test_the_opened_cable_is_picked_zoomed_and_walked(runs: Window, qtbot: QtBot) -> None:
    runs.runs.pick_place("3", 0, 0)
    opened = runs.runs.opened
    QApplication.processEvents()
    for stroke in opened._course.strokes:
        if stroke.leds:
            r = opened.rect_of(stroke)
            qtbot.mouseClick(opened, Qt.MouseButton.LeftButton, pos=QPoint(int(r.left() + 1), int(r.center().y())))
            assert runs.runs.at == At("3", stroke.n, stroke.first + (stroke.leds - 1 if stroke.up else 0))
    wide = opened.minimumWidth()

    def wheel(delta: int, keys: Qt.KeyboardModifier) -> bool:
        e = QWheelEvent(
            QPointF(20, 20), QPointF(20, 20), QPoint(), QPoint(0, delta), Qt.MouseButton.NoButton, keys,
            Qt.ScrollPhase.NoScrollPhase, False
        )  # fmt: skip
        opened.wheelEvent(e)
        return e.isAccepted()

    wheel(120, Qt.KeyboardModifier.ControlModifier)
    wheel(120, Qt.KeyboardModifier.ControlModifier)
    assert opened.minimumWidth() > wide
    assert not wheel(120, Qt.KeyboardModifier.NoModifier)  # that scrolls
    for _ in range(9):
        wheel(-120, Qt.KeyboardModifier.ControlModifier)
    assert opened.minimumWidth() == wide
    runs.runs.pick_place("3", 0, 55)
    qtbot.keyClick(opened, Qt.Key.Key_Right)
    assert runs.runs.at == At("3", 0, 55)  # the last of it
    qtbot.keyClick(opened, Qt.Key.Key_Up)
    assert runs.runs.at == At("3", 0, 55)  # the first segment
    qtbot.mouseMove(opened, QPoint(3, 3))


def test_the_pointer_over_the_opened_cable_says_the_pixel_and_what_a_bridge_lacks(runs: Window, qtbot: QtBot) -> None:
    opened = runs.runs.opened
    runs.runs.pick_place("6", 2, 0)
    QApplication.processEvents()

    def over(n: int) -> str:
        QToolTip.hideText()
        stroke = next(s for s in opened._course.strokes if s.n == n)
        at = opened.rect_of(stroke).center()

        def pointed() -> bool:  # a tooltip that is just going away takes the next one along
            opened.mouseMoveEvent(pointer_moved(at, Qt.MouseButton.NoButton))
            return bool(QToolTip.text())

        qtbot.waitUntil(pointed)
        return QToolTip.text()

    assert over(2).startswith("Bridge: not as it must be: ") and "brightness" in over(2).lower()
    words = over(0)
    at = opened.place_at_point(opened.rect_of(next(s for s in opened._course.strokes if s.n == 0)).center())
    stream = runs.session.index.cables_and_sums.streams[pen(runs), "6"]
    assert at.n == 0 and at.led and words.endswith(f"px {at.led} of the port")
    assert "206." in words and stream.pieces[0].place_of_slot(1)[0] == 206


def test_the_menu_inserts_at_the_very_pixel_and_leads_to_patch(runs: Window) -> None:
    station = runs.runs
    station.pick_place("1", 1, 10)
    acts = {a.text(): a for a in station.make_menu().actions()}
    px = station.riser.pixel_at(At("1", 1, 10))
    acts[f"Insert here, as pixel {px} of port 1…"].trigger()
    assert station.attach.text() == f"10 RGB spare at {px}" and station.attach.selectedText() == "10 RGB spare"
    assert station.attach_typed()
    run = runs.session.rig.devices[pen(runs)].ports["1"].run
    assert [s.element for s in run] == ["c1", "c2", run[2].element, "c2", "c3"]
    # attached there and back: what comes first on the cable are the last pixels of the ribbon
    assert [(s.first, s.count, s.reverse) for s in (run[1], run[3])] == [(47, 9, True), (1, 46, True)]
    assert runs.session.rig.elements[run[2].element].name == "spare"
    stream = runs.session.index.cables_and_sums.streams[pen(runs), "1"]
    assert stream.pieces[2].px == px and stream.pixels == 175
    runs.session.undo_edit()
    assert len(runs.session.rig.devices[pen(runs)].ports["1"].run) == 3
    acts["Show in Patch what is attached to port 1"].trigger()
    assert runs.station == "Patch" and runs.patch.filter.text() == 'on:"PENSTOCK/1"'
    shown = runs.patch.list.items.ids
    assert sorted(shown) == ["c1", "c2", "c3"]


def test_an_empty_line_and_a_rig_without_boxes_hang_nothing(runs: Window) -> None:
    from welvo.rig.edits import remove_device

    station, start = runs.runs, runs.session.rig
    assert not station.attach_typed() and runs.session.rig is start
    for device_id in list(runs.session.rig.devices):
        runs.session.make_edit(remove_device, device_id)
    QApplication.processEvents()
    station.riser.grab()
    station.opened.grab()
    have = set(runs.session.rig.elements)
    station.attach.setText("3 x 30 RGB moss")
    station._preview_typed(station.attach.text())
    assert not station.attach_typed() and station.attach.text() == "3 x 30 RGB moss"
    assert set(runs.session.rig.elements) == have


def test_a_converters_colour_is_tried_and_wrong_ones_stay_in_the_field(runs: Window) -> None:
    device_id = pen(runs)
    runs.session.make_edit(attach_wish, device_id, "8", "lamps 3: dimmer red green")
    runs.session.change_selection(Selection("segment", (device_id,), on=SegmentRef(device_id, "8", 0)))
    QApplication.processEvents()
    for text in ("255 0 0", "256 0 0 0", "red"):
        wrong = put(runs, "Colour", text)
        assert wrong.property("wrong")
        wrong.revert()
    assert not put(runs, "Colour", "10 20 30 128").property("wrong")
    assert field(runs, "Colour").text() == "10 20 30 128"


def test_facts_of_a_model_that_cannot_be_read_stay_and_are_said(runs: Window) -> None:
    editor = ModelEditor(runs.session, runs, "")
    editor._new_model()
    fields: dict[str, Any] = editor.form.fields

    def type_in(name: str, text: str) -> bool:
        fields[name].setText(text)
        return bool(fields[name].commit())

    for name, text, words in (
        ("Protocols", "sacn, smoke", "“smoke” is none of sacn"),
        ("Counts from", "sacn 3", "“sacn 3” says nothing"),
        ("A of a port", "lots", "no number"),
        ("Ports", "8-2", ""),
        ("DMX slots", "513", "512"),
    ):
        kept = editor.model
        assert not type_in(name, text) and words in fields[name].refusal.text(), name
        assert editor.model == kept and fields[name].text() == text
    for name, text in (
        ("Ports", "1-4"), ("Protocols", "DDP, sacn"), ("Counts from", "artnet 0, pixel 1"), ("A of a port", "2,5"),
        ("A in all", "20"), ("DMX slots", "96")
    ):  # fmt: skip
        assert type_in(name, text)
    made = editor.model
    assert (made.protocols, made.counts, made.port_amps, made.amps) == (
        ("ddp", "sacn"),
        {"artnet": 0, "pixel": 1},
        2.5,
        20.0,
    )
    assert made.slots_per_port == 96 and editor.keep.isEnabled()
    editor.in_rig.click()
    assert "No device of this rig is a New model" in editor.saying.text()
    for old, new, words in (
        ('kind = "pixel"', 'kind = "kettle"', "kettle"),
        ('    "2",\n', '    "1",\n', ""),
        ('name = "New model"', "name = 7", ""),
    ):
        whole = editor.text.toPlainText()
        assert old in whole
        editor.text.setPlainText(whole.replace(old, new))
        assert not editor.keep.isEnabled() and words in editor.saying.text(), (new, editor.saying.text())
        editor.text.setPlainText(whole)
        assert editor.keep.isEnabled()


@pytest.mark.parametrize("share", [0.25, 0.9])
def test_what_is_dropped_lands_by_the_half_it_is_over(runs: Window, share: float) -> None:
    riser = runs.runs.riser
    runs.session.make_edit(
        attach_segments, pen(runs), "9", [Segment(kind="null", count=40), Segment(kind="null", count=40)]
    )
    riser.grab()
    stroke = riser.courses["9"].strokes[0]
    r = riser.rect_of("9", stroke)
    assert riser._landing_place(riser.place_at_point(QPointF(r.center().x(), r.top() + r.height() * share))) == (
        0 if share < 0.5 else 1
    )
    assert riser._landing_place(At("9", -1, 0)) == 2 and riser._landing_place(At("12", -1, 0)) == 0


def test_the_ruler_counts_metres_where_the_pitch_is_known_and_pixels_where_not() -> None:
    assert ruler_of(2.0, 0) == (20, 40) and ruler_of(12.0, 0) == (5, 60)
    assert ruler_of(100.0, 0) == (1, 100), "half an LED is no mark"
    step, apart = ruler_of(2.0, 16.7)  # 2 px to an LED of 16.7 mm: 119.8 px to the metre
    assert step == pytest.approx(0.5) and apart == pytest.approx(59.9, abs=0.05)
    for scale in (1e-5, 0.003, 0.2, 7.0):
        for pitch in (0.0, 5.0, 33.3, 200.0):
            step, apart = ruler_of(scale, pitch)
            assert MARKS_APART - 0.01 <= apart <= 2.6 * MARKS_APART, "marks neither crowd nor leave the ruler empty"


def test_the_ruler_is_in_metres_only_if_all_strings_of_the_device_share_a_pitch(runs: Window) -> None:
    riser, session = runs.runs.riser, runs.session
    used = {p.key for s in riser._of.values() for p in s.pieces if p.leds and p.key in session.rig.elements}
    types = {session.rig.elements[key].type for key in used}
    assert len({session.rig.pixel_types[t].pitch if t else 0 for t in types}) > 1 and riser._common_pitch() == 0
    one = {key: replace(session.rig.elements[key], type="silk") for key in used}
    session.make_edit(change_rig, "strings of one kind", elements=one)
    QApplication.processEvents()
    assert riser._common_pitch() == 16.7 and not riser.grab().isNull()
