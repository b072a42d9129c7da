"""Runs in the real window: what is clicked, dragged, typed and refused there."""

from __future__ import annotations

from pathlib import Path

import pytest
from msgspec.structs import replace
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QApplication, QMenu, QPushButton
from pytestqt.qtbot import QtBot

from tests.app.conftest import field_of
from welvo.app.runs.element_face import ElementFace
from welvo.app.runs.pixel_kinds import PixelKinds
from welvo.app.runs.riser import write_mime
from welvo.app.runs.riser_drawing import At
from welvo.app.runs.split import SplitElement, read_ports
from welvo.app.runs.supplies import Supplies
from welvo.app.session import Selection
from welvo.app.widgets.fields import Choice, Field
from welvo.app.widgets.model_editor import ModelEditor, own_folder, read_labels, read_modes, say_labels, say_modes
from welvo.app.widgets.panels import Ways
from welvo.app.widgets.theme import THEME
from welvo.app.window import Window
from welvo.formats.models import from_folder, shipped_models
from welvo.rig.base import Refused
from welvo.rig.edits import set_profile
from welvo.rig.refs import Goto, SegmentRef
from welvo.rig.wiring import OutputMode
from welvo.runs.edits import change_segment, fix_addresses, set_model
from welvo.runs.wish import attach_wish


def pen(window: Window) -> str:
    return next(d for d, v in window.session.rig.devices.items() if v.name == "PENSTOCK")


def field(window: Window, name: str) -> Field:
    return next(f for f in window.runs.panel.findChildren(Field) if f.accessibleName() == name and f.isVisible())


def put(window: Window, name: str, text: str) -> Field:
    found = field(window, name)
    found.setText(text)
    found.commit()
    QApplication.processEvents()
    return found


def press(window: Window, words: str) -> None:
    next(b for b in window.runs.panel.findChildren(QPushButton) if b.text() == words and b.isVisible()).click()
    QApplication.processEvents()


def rows(window: Window) -> list[list[str]]:
    return [list(x.cells) for x in window.runs.list.rows.lines]


def test_a_click_on_a_cable_selects_its_pixel_everywhere(runs: Window, qtbot: QtBot) -> None:
    riser = runs.runs.riser
    stroke = riser.courses["1"].strokes[1]  # ceiling 2 comes back up
    r = riser.rect_of("1", stroke)
    qtbot.mouseClick(riser, Qt.MouseButton.LeftButton, pos=QPoint(int(r.center().x()), int(r.bottom() - 1)))
    sel = runs.session.selection
    # its data comes in at the bottom and it is attached reversed: there are its last pixels
    assert (sel.kind, sel.ids, sel.on) == ("item", ("c2",), (pen(runs), "1", 1))
    assert 1 <= sel.led < 8 and sel.pixel == 56 - sel.led
    runs.runs.pick_place("1", 1, 1)
    shown = runs.ribbon.path_shown
    assert shown and [h.value for h in shown.hops if h.role in ("universe", "port", "segment")] == [
        "201.328",
        "1",
        "px 110",
    ]
    assert runs.patch.tapes._selected_spans()[0].key == "c2"
    # and back: a slot, wherever it was picked, opens its cable
    runs.session.change_selection(
        Selection("slot", (), slot=(next(u for u, v in runs.session.rig.universes.items() if v.number == 206), 95))
    )
    assert runs.runs.at == At("6", 2, 0)
    assert runs.session.go_to("swarm/171")
    assert runs.runs.at == At("7", 0, 130)  # the second hundred lies back: 171 is place 130 of the cable


def test_the_list_filters_both_ways(runs: Window) -> None:
    assert len(rows(runs)) == 12 + 2 + 3 + 1

    def by(which: str) -> list[str]:
        runs.runs.filter.setCurrentIndex(runs.runs.filter.findData(which))
        runs.runs._fill_rows()
        return [r[3] for r in rows(runs)]

    assert by("loose") == ["ribbon", "drum", "pumps", "coat rail", "704 Undertow, in the case"]
    runs.session.change_selection(
        Selection("universe", (next(u for u, v in runs.session.rig.universes.items() if v.number == 206),))
    )
    assert by("selection") == ["rim", "sill bridge"]
    runs.session.select_items(["f533"])
    assert by("selection") == ["sill bridge"] and runs.runs.at.label == "6"
    runs.session.change_selection(Selection("universe", ("u3",)))
    assert by("selection") == ["Ray basin line"]
    runs.runs.pick_place("5", -1, 0)
    assert by("port") == ["bell 1", "bell 2"]


def test_the_bridge_is_set_right_by_the_row_below_it(runs: Window, qtbot: QtBot) -> None:
    runs.runs.pick_place("6", 2, 0)
    opened = runs.runs.opened
    opened.grab()
    ((r, finding),) = opened._buttons
    assert finding.code == "RUN-14"
    qtbot.mouseClick(opened, Qt.MouseButton.LeftButton, pos=r.center().toPoint())
    assert "RUN-14" not in runs.session.report.codes_found
    rig = runs.session.rig
    assert rig.devices[pen(runs)].ports["6"].brightness == 1.0 and rig.feeds["w206"].rate == 40
    opened.grab()
    block, key = next(x for x in opened._lamps if x[1] == "f534")
    qtbot.mouseClick(opened, Qt.MouseButton.LeftButton, pos=block.center().toPoint())
    assert runs.session.selection.ids == ("f534",) and key == "f534"
    runs.session.undo_edit()
    assert "RUN-14" in runs.session.report.codes_found


def test_fields_of_a_bridge_say_and_set_its_addresses(runs: Window) -> None:
    runs.runs.pick_place("6", 2, 0)
    QApplication.processEvents()
    bridge = lambda: runs.session.rig.devices[pen(runs)].ports["6"].run[2]  # noqa: E731
    assert field(runs, "534 DMX").text() == "33"
    put(runs, "534 DMX", "")
    assert bridge().dmx == {} and field(runs, "535 DMX").text() == "33"
    put(runs, "532 DMX", "3")
    assert "RUN-15" in runs.session.report.codes_found
    put(runs, "532 DMX", "free")
    assert "RUN-15" not in runs.session.report.codes_found
    wrong = put(runs, "532 DMX", "700")
    assert wrong.property("wrong") and bridge().dmx != {"f532": 700}
    wrong.revert()
    assert put(runs, "Fixtures", "531, 9999").property("wrong")
    put(runs, "Levels", "0 255 0")
    assert any(
        "green" in w.accessibleName()
        for w in runs.runs.panel.findChildren(type(runs.runs.panel.widget()))
        if w.isVisible()
    )
    put(runs, "Width", "20")
    assert (
        "the highest address behind it"
        in next(f for f in runs.session.report.findings if f.code == "RUN-14").reason.lower()
    )


def test_typing_hangs_and_what_cannot_be_hung_stays_in_the_field(runs: Window, qtbot: QtBot) -> None:
    station = runs.runs
    station.pick_place("8", -1, 0)
    qtbot.keyClicks(station.attach, "3 x 30 RGB algae, there and back")
    assert station.preview.text() == "Enter attaches: 3 × 30 pixels on port 8."
    qtbot.keyClick(station.attach, Qt.Key.Key_Return)
    assert [s.reverse for s in runs.session.rig.devices[pen(runs)].ports["8"].run] == [False, True, False]
    assert station.attach.text() == ""
    qtbot.keyClicks(station.attach, "5 wobbles on 99")
    assert "no port 99" in station.preview.text()
    qtbot.keyClick(station.attach, Qt.Key.Key_Return)
    assert station.attach.text() == "5 wobbles on 99" and "no port 99" in runs.message.words
    station.attach.setText("10 RGB moss on 1")
    station._preview_typed(station.attach.text())
    assert runs.strip.isVisible() and " move" in runs.strip.words.text()  # ports 2 to 8 follow
    station._preview_typed("")
    assert not runs.strip.isVisible()


def test_dragging_moves_a_segment_and_drops_what_is_not_hung_yet(runs: Window, qtbot: QtBot) -> None:
    station, riser, device_id = runs.runs, runs.runs.riser, pen(runs)
    runs.session.make_edit(_typed_away, "e1")
    a = riser.rect_of("1", riser.courses["1"].strokes[0]).center().toPoint()
    b = QPoint(int(riser.column_of_port("9").center().x()), 120)
    qtbot.mousePress(riser, Qt.MouseButton.LeftButton, pos=a)
    qtbot.mouseMove(riser, b)
    if riser._ghost is None:  # the offscreen platform moves without buttons
        riser._ghost = riser._say_move(At("1", 0, 1), riser.place_at_point(QPointF(b)))
    assert riser._ghost and riser._ghost[2] and "to port 9, place 1" in riser._ghost[1]
    assert runs.strip.isVisible() and "move" in runs.strip.words.text()
    qtbot.mouseRelease(riser, Qt.MouseButton.LeftButton, pos=b)
    ports = runs.session.rig.devices[device_id].ports
    assert [s.element for s in ports["9"].run] == ["c1"] and [s.element for s in ports["1"].run] == ["c2", "c3"]
    runs.session.undo_edit()
    riser.grab()
    # into the middle of the swarm, once it does not fold: it is cut at the very pixel
    runs.session.make_edit(change_segment, device_id, "7", 0, fold=0)
    riser.grab()
    swarm = riser.rect_of("7", riser.courses["7"].strokes[0])
    at = QPointF(swarm.center().x(), swarm.top() + 100 * riser.pixels_per_led + 0.1)
    mime = write_mime(["e1"])  # the event does not keep it alive
    event = QDropEvent(at, Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    riser.dropEvent(event)
    run = runs.session.rig.devices[device_id].ports["7"].run
    assert [(s.element, s.first, s.count) for s in run] == [("sw", 1, 100), ("e1", 1, 0), ("sw", 101, 300)]
    assert runs.session.rig.elements["e1"].at.origin_of_place == "run"
    # a DMX device refuses pixels, and says so
    runs.session.change_selection(Selection("device", ("d2",)))
    assert not station.riser.drop_items(["e2"], At("1", -1, 0), station.riser.segment_for)
    assert "gives DMX" in runs.message.words


def _typed_away(rig, key):  # type: ignore[no-untyped-def]
    from welvo.rig.document import put_entries as set_
    from welvo.rig.patched import Place

    return set_(rig, "", elements={key: replace(rig.elements[key], at=Place())})


def test_the_keyboard_walks_ports_segments_and_pixels(runs: Window, qtbot: QtBot) -> None:
    riser, opened = runs.runs.riser, runs.runs.opened
    runs.runs.pick_place("5", -1, 0)
    riser.setFocus()
    qtbot.keyClick(riser, Qt.Key.Key_Right)
    assert runs.runs.at == At("6", -1, 0)
    qtbot.keyClick(riser, Qt.Key.Key_Down)
    qtbot.keyClick(riser, Qt.Key.Key_N)
    qtbot.keyClick(riser, Qt.Key.Key_N)
    assert runs.runs.at == At("6", 0, 2) and runs.session.selection.pixel == 2
    qtbot.keyClick(opened, Qt.Key.Key_Right)
    assert runs.runs.at == At("6", 0, 3)
    qtbot.keyClick(opened, Qt.Key.Key_Down)
    assert runs.runs.at.n == 1
    qtbot.keyClick(runs.runs.list, Qt.Key.Key_Delete)
    assert [s.kind for s in runs.session.rig.devices[pen(runs)].ports["6"].run] == ["pixels", "bridge"]


def test_fields_of_a_segment_a_port_and_the_box(runs: Window) -> None:
    device_id = pen(runs)
    now = lambda: runs.session.rig.devices[device_id]  # noqa: E731
    runs.runs.pick_place("7", 0, 0)
    QApplication.processEvents()
    put(runs, "Attached here", "1-100")
    put(runs, "Group by", "2")
    put(runs, "Brightness", "50 %")
    put(runs, "Cable", "5 m")
    s = now().ports["7"].run[0]
    assert (s.first, s.count, s.group, s.brightness, s.length) == (1, 100, 2, 0.5, 5)
    for name, text in (
        ("Attached here", "90-600"),
        ("Sender order", "RGBX"),
        ("Brightness", "120"),
        ("Starts at", "999.1"),
        ("Cable", "far"),
        ("Gamma", "0"),
    ):
        wrong = put(runs, name, text)
        assert wrong.property("wrong"), name
        wrong.revert()
    press(runs, "Keep it")
    assert runs.session.rig.elements["sw"].at.origin_of_place == "typed"
    press(runs, "Follow it")
    assert runs.session.rig.elements["sw"].at.origin_of_place == "run"
    runs.runs.pick_place("7", -1, 0)
    QApplication.processEvents()
    put(runs, "Configured", "400")
    assert now().ports["7"].pixels == 400 and "RUN-20" in runs.session.report.codes_found
    runs.session.change_selection(Selection("device", (device_id,)))
    QApplication.processEvents()
    mode = next(c for c in runs.runs.panel.findChildren(Choice) if c.accessibleName() == "Mode" and c.isVisible())
    mode._apply("6 long ports")
    QApplication.processEvents()
    assert now().mode == "6 long ports" and "RUN-12" in runs.session.report.codes_found
    put(runs, "Universe size", "300")
    assert "RUN-19" in runs.session.report.codes_found
    put(runs, "First universe", "300")
    press(runs, "Packed")
    assert runs.session.index.cables_and_sums.streams[device_id, "1"].start == (300, 1)


def test_splitting_in_the_dialog(runs: Window) -> None:
    dialog = SplitElement(runs.session, runs, pen(runs), "9")
    dialog.element.setCurrentIndex(dialog.element.findData("e1"))
    dialog._fill_in()
    dialog.ports.setText("9-12")
    dialog.row_.setText("60")
    dialog.back.click()
    assert dialog.saying.text() == "4 ports, up to 60 pixels each." and dialog.go.isEnabled()
    dialog.row_.setText("7")
    assert "240 pixels are not whole rows of 7" in dialog.saying.text() and not dialog.go.isEnabled()
    dialog.row_.setText("60")
    dialog.ports.setText("9-99")
    assert "no port 9-99" in dialog.saying.text()
    dialog.ports.setText("9, 11")
    dialog.grab()
    dialog.go.click()
    ports = runs.session.rig.devices[pen(runs)].ports
    assert [(p, ports[p].run[0].first, ports[p].run[0].count, ports[p].run[0].reverse) for p in ("9", "11")] == [
        ("9", 1, 120, False),
        ("11", 121, 120, True),
    ]
    with pytest.raises(Refused, match="backwards"):
        read_ports("4-2", ["1", "2", "3", "4"])


def test_supplies_in_the_dialog(runs: Window) -> None:
    dialog = Supplies(runs.session, runs)
    assert [r.cells[0] for r in dialog.list.rows.lines] == ["Ceiling tin", "Swarm tin"]
    dialog.name.setText("Sill tin")
    dialog.volts.setText("twelve")
    dialog.add.click()
    assert "“twelve” is no number" in dialog.saying.text()
    dialog.volts.setText("12")
    dialog.add.click()
    assert [s.name for s in runs.session.rig.supplies.values()][-1] == "Sill tin"
    dialog.list.selectRow(0)
    dialog.remove.click()
    assert "Ceiling tin" not in [s.name for s in runs.session.rig.supplies.values()]
    assert runs.session.rig.devices[pen(runs)].ports["1"].run[0].supply == ""


def test_a_model_is_made_in_the_window_and_kept(runs: Window) -> None:
    editor = ModelEditor(runs.session, runs, runs.session.rig.devices[pen(runs)].model)
    assert editor.model.name == "Penstock 12"
    editor.text.setPlainText(editor.text.toPlainText().replace("pixels_per_port = 680", "pixels_per_port = 300"))
    assert editor.model.pixels_per_port == 300
    editor.in_rig.click()
    assert "RUN-01" in runs.session.report.codes_found  # the swarm has 400
    runs.session.undo_edit()
    assert "RUN-01" not in runs.session.report.codes_found
    editor._new_model()
    for name, words in (("Name", "Tub 8"), ("Ports", "A1-A4, B1-B4")):
        line = editor.form.fields[name]
        assert isinstance(line, Field)
        line.setText(words)
        assert line.commit()
    assert 'name = "Tub 8"' in editor.text.toPlainText() and editor.keep.isEnabled()
    editor.modes.setPlainText("half: off B1-B4; pixels 500")
    assert editor.model.modes == (OutputMode(name="half", off=("B1", "B2", "B3", "B4"), pixels_per_port=500),)
    editor.modes.setPlainText("half: off C9")
    assert "port C9 off, which is not there" in editor.saying.text() and not editor.keep.isEnabled()
    editor.modes.setPlainText("")
    editor.text.setPlainText("ports = 3")
    assert not editor.keep.isEnabled() and editor.model.name == "Tub 8"
    editor._show_model()
    editor._save_model()
    kept, problems = from_folder(own_folder())
    assert kept["tub-8"].ports == ("A1", "A2", "A3", "A4", "B1", "B2", "B3", "B4") and not problems
    assert Path(own_folder(), "tub-8.toml").read_text().startswith('name = "Tub 8"')


def test_labels_and_modes_are_written_as_they_are_read() -> None:
    for model in shipped_models().values():
        assert read_labels(say_labels(model.ports)) == model.ports
        again = read_modes(say_modes(model.modes))
        assert [(m.name, m.off, m.gives, m.pixels_per_port) for m in again] == [
            (m.name, m.off, m.gives, m.pixels_per_port) for m in model.modes
        ]
    for text in ("x: wobble 3", "x: gives light"):
        with pytest.raises(Refused):
            read_modes(text)


def test_a_finding_leads_to_its_segment(runs: Window) -> None:
    runs.show_station("Patch")
    for f in runs.session.report.findings:
        if f.goes_to.kind == "run":
            runs.go(f.goes_to)
            assert runs.station == "Runs" and runs.runs.device_id == f.goes_to.id
            assert not f.goes_to.port or runs.runs.at.label == f.goes_to.port
    runs.go(Goto("unattached"))
    assert rows(runs)[0][3] == "ribbon"


@pytest.mark.parametrize("step", [0, 2])
def test_nothing_in_the_panel_is_wider_than_the_panel(runs: Window, step: int) -> None:
    runs.looks.choose_look("dark", step)
    device_id = pen(runs)
    runs.session.make_edit(attach_wish, device_id, "8", "lamps 3: dimmer red green")
    for device, port, n in (
        (device_id, "", -1),
        (device_id, "1", -1),
        (device_id, "1", 1),
        (device_id, "6", 1),
        (device_id, "6", 2),
        (device_id, "8", 0),
        ("d1", "A", 0),
    ):
        runs.session.change_selection(
            Selection("segment" if port else "device", (device,), on=SegmentRef(device, port, n) if port else None)
        )
        QApplication.processEvents()
        inner = runs.runs.panel.widget()
        room = THEME.scale_length(290)  # the panel is wider with larger text
        assert inner.minimumSizeHint().width() <= room, (port, n, inner.minimumSizeHint().width())


def test_a_pixel_picked_on_the_drawing_is_the_same_on_the_cable(runs: Window, qtbot: QtBot) -> None:
    runs.runs.pick_place("5", 0, 0)
    QApplication.processEvents()
    face = next(f for f in runs.runs.panel.findChildren(ElementFace) if f.isVisible())
    at = face._view().point_of_spot(face._spots[11])  # bell 1/12, in the second row of eight
    qtbot.mouseClick(face, Qt.MouseButton.LeftButton, pos=at.toPoint())
    sel = runs.session.selection
    # the row lies back: number 12 is the 4th of its row, so the 5th from the turn: place 13 on the cable
    assert (sel.ids, sel.pixel, sel.led) == (("b1",), 12, 13) and runs.runs.picked_pixel == 12


def test_cables_boosters_and_plugs_of_a_line(runs: Window) -> None:
    runs.session.change_selection(Selection("segment", ("d1",), on=SegmentRef("d1", "A", 0)))
    QApplication.processEvents()
    line = lambda: runs.session.rig.devices["d1"].ports["A"].run[0]  # noqa: E731
    put(runs, "Cables m", "30")
    assert set(line().lengths.values()) == {30} and "LINE-02" in runs.session.report.codes_found
    put(runs, "Boosters", "305")
    assert line().boosters == ("f305",) and "LINE-02" not in runs.session.report.codes_found
    put(runs, "Cables m", "30; 2; 2; 2; 2; 2; 2; 2; 2; 2; 2; 2.5")
    assert line().lengths["f307"] == 2.5 and line().lengths["f202"] == 2
    assert put(runs, "Cables m", "3; 4").property("wrong")
    runs.session.make_edit(set_profile, "p2", "", connector="3-pin")
    models = runs.session.rig.device_models
    runs.session.make_edit(
        set_model,
        runs.session.rig.devices["d1"].model,
        replace(models[runs.session.rig.devices["d1"].model], connector="5-pin"),
    )
    QApplication.processEvents()
    ways = " ".join(w.accessibleName() for w in runs.runs.panel.findChildren(Ways) if w.isVisible())
    assert "5-pin to 3-pin" in ways and "data − 2 → 2" in ways and "LINE-04" in runs.session.report.codes_found


def test_kinds_of_pixels_are_named_while_hanging_and_changed_in_their_dialog(runs: Window) -> None:
    station = runs.runs
    station.pick_place("8", -1, 0)
    station.attach.setText("4 x 50 moss of Silk 60 W")
    assert station.attach_typed()
    rig = runs.session.rig
    made = [e for e in rig.elements.values() if e.name.startswith("moss")]
    assert len(made) == 4 and {(e.order, rig.pixel_types[e.type].name) for e in made} == {("RGBW", "Silk 60 W")}
    assert {s.order for s in rig.devices[pen(runs)].ports["8"].run} == {
        "GRBW"
    } and "RUN-08" not in runs.session.report.codes_found
    station.attach.setText("10 RGB spare at 60")
    assert station.attach_typed()
    run = runs.session.rig.devices[pen(runs)].ports["8"].run
    assert [(s.first, s.count) for s in run[:4]] == [(1, 0), (1, 9), (1, 0), (10, 41)]
    station.attach.setText("5 RGB of Velvet")
    assert not station.attach_typed() and "no kind of pixels" in runs.message.words
    dialog = PixelKinds(runs.session, runs)
    dialog._choose_kind("silk")
    by = {f.accessibleName(): f for f in dialog.findChildren(Field)}
    by["mA at full"].setText("40 40 40")
    by["mA at full"].commit()
    assert runs.session.rig.pixel_types["silk"].currents == (40, 40, 40) and "PWR-01" in runs.session.report.codes_found
    for name, text in (
        ("mA at full", "40 40"),
        ("Chips take", "RGX"),
        ("At least", "9"),
        ("Wires", "red"),
        ("Name", " "),
        ("Volts", "x"),
    ):
        by[name].setText(text)
        assert not by[name].commit(), name
        by[name].revert()
    dialog._add_kind()
    assert runs.session.rig.pixel_types["kind-1"].name == "New kind 1"


def test_only_what_hangs_on_a_port_can_be_shown_in_patch(runs: Window) -> None:
    runs.runs.pick_place("6", 2, 0)
    act = next(a for a in runs.runs.make_menu().actions() if a.text().startswith("Show in Patch"))
    act.trigger()
    assert runs.station == "Patch" and sorted(runs.patch.list.items.ids) == [
        "f531",
        "f532",
        "f533",
        "f534",
        "f535",
        "rim",
    ]
    assert runs.patch.list.items.text_of_cell("rim", "port") == "PENSTOCK · 6"


def test_the_element_itself_is_changed_where_it_hangs_and_all_behind_it_moves(runs: Window) -> None:
    runs.runs.pick_place("1", 0, 0)
    QApplication.processEvents()
    put(runs, "Name", "keel")
    put(runs, "Pixels", "65")
    rig = runs.session.rig
    assert (rig.elements["c1"].name, rig.elements["c1"].pixels) == ("keel", 65)
    spans = runs.session.index.spans_of("c2")
    assert [(s.universe, s.first) for s in spans] == [("u201", 196)]
    put(runs, "Folded every", "13")
    assert "RUN-09" in runs.session.report.codes_found
    for name, text in (("Name", " "), ("Pixels", "0"), ("Sender order", "RGQ"), ("Folded every", "-1")):
        wrong = put(runs, name, text)
        assert wrong.property("wrong"), name
        wrong.revert()


def test_ctrl_enter_gives_a_value_to_all_that_the_list_shows(runs: Window, qtbot: QtBot) -> None:
    runs.runs.pick_place("1", 0, 0)
    runs.runs.filter.setCurrentIndex(runs.runs.filter.findData("port"))
    runs.runs._fill_rows()
    QApplication.processEvents()
    order = field(runs, "Controller order")
    order.setFocus()
    order.setText("BGR")
    qtbot.keyClick(order, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    ports = runs.session.rig.devices[pen(runs)].ports
    assert {s.order for s in ports["1"].run} == {"BGR"} and {s.order for s in ports["2"].run} == {"GRB"}
    supply = next(c for c in runs.runs.panel.findChildren(Choice) if c.accessibleName() == "Fed by" and c.isVisible())
    supply._apply("v2")
    QApplication.processEvents()
    press(runs, "Kind and supply to all listed")
    ports = runs.session.rig.devices[pen(runs)].ports
    assert {s.supply for s in ports["1"].run} == {"v2"} and {s.supply for s in ports["2"].run} == {"v1"}
    runs.session.undo_edit()
    assert {s.supply for s in runs.session.rig.devices[pen(runs)].ports["1"].run} == {"v1", "v2"}


def test_a_pixel_of_a_port_is_found_by_its_number(runs: Window) -> None:
    assert runs.session.go_to("penstock 6 px 31") and runs.runs.at == At("6", 2, 0)
    assert runs.session.go_to("PENSTOCK 1 px 56") and runs.session.selection.ids == ("c2",)
    assert not runs.session.go_to("PENSTOCK 1 px 999") and not runs.session.go_to("PENSTOCK 12 px 1")
    assert runs.session.go_to("PENSTOCK run 500")


def test_a_segment_is_carried_with_shift_and_the_arrows(runs: Window, qtbot: QtBot) -> None:
    riser, device_id = runs.runs.riser, pen(runs)
    shift = Qt.KeyboardModifier.ShiftModifier
    runs.runs.pick_place("1", 0, 0)
    qtbot.keyClick(riser, Qt.Key.Key_Down, shift)
    assert [s.element for s in runs.session.rig.devices[device_id].ports["1"].run] == [
        "c2",
        "c1",
        "c3",
    ] and runs.runs.at == At("1", 1, 0)
    qtbot.keyClick(riser, Qt.Key.Key_Right, shift)
    assert [s.element for s in runs.session.rig.devices[device_id].ports["2"].run][-1] == "c1" and runs.runs.at == At(
        "2", 3, 0
    )
    qtbot.keyClick(riser, Qt.Key.Key_Down, shift)  # there is no later place
    qtbot.keyClick(riser, Qt.Key.Key_Left, shift)
    assert [s.element for s in runs.session.rig.devices[device_id].ports["1"].run] == ["c2", "c3", "c1"]
    runs.runs.device_id = "d1"
    runs.runs.pick_place("A", 0, 0)
    assert runs.runs.attach.placeholderText() == "line: 101-112"


def test_menus_pick_the_place_under_the_pointer_and_devices_lead_here(
    runs: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(QMenu, "popup", lambda *_: None)
    r = runs.runs.riser.rect_of("7", runs.runs.riser.courses["7"].strokes[0])
    runs.runs._menu_at(runs.runs.riser, r.center().toPoint())
    assert runs.runs.at.label == "7" and 40 < runs.runs.at.led < 60
    act = next(a for a in runs.runs.make_menu().actions() if a.text().startswith("Insert here"))
    act.trigger()
    assert (
        runs.runs.attach.text() == f"10 RGB spare at {runs.runs.at.led}"
        and runs.runs.attach.selectedText() == "10 RGB spare"
    )
    runs.session.change_selection(Selection("device", (pen(runs),)))
    runs.show_station("Devices")
    QApplication.processEvents()
    next(b for b in runs.devices.panel.findChildren(QPushButton) if b.text() == "Its runs" and b.isVisible()).click()
    assert runs.station == "Runs" and runs.runs.device_id == pen(runs)


def test_an_element_is_arranged_like_a_lamps_face(runs: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    from welvo.app.widgets.face_editor import FaceEditor

    station = runs.runs
    station.pick_place("8", -1, 0)
    station.attach.setText("ring 24 GRB halo; block 16 valves")
    assert station.attach_typed()
    halo = next(k for k, e in runs.session.rig.elements.items() if e.name == "halo")
    assert runs.session.rig.elements[halo].kind == "ring" and len(runs.session.rig.elements[halo].spots) == 24
    assert [s.slots for s in runs.session.index.cables_and_sums.streams[pen(runs), "8"].pieces] == [72, 16]

    def answer(dialog: FaceEditor) -> int:
        assert dialog.mode.count_pixels == 24
        dialog.canvas.mode = replace(dialog.mode, spots=tuple(replace(s, x=s.x + 1) for s in dialog.mode.spots))
        return 1

    monkeypatch.setattr(FaceEditor, "exec", answer)
    before = runs.session.rig.elements[halo].spots
    station.pick_place("8", 0, 3)
    QApplication.processEvents()
    press(runs, "Arrange…")
    after = runs.session.rig.elements[halo]
    assert after.kind == "free" and [round(b.x - a.x, 3) for a, b in zip(before, after.spots)] == [1.0] * 24


def test_another_length_says_whom_it_would_move_before_it_is_taken(runs: Window, qtbot: QtBot) -> None:
    rig = runs.session.rig
    runs.runs.pick_place("1", 0, 1)
    QApplication.processEvents()
    pixels = field_of(runs.runs.panel, "Pixels")
    assert not runs.strip.isVisible()
    pixels.setFocus()
    pixels.selectAll()
    qtbot.keyClicks(pixels, "60")
    qtbot.waitUntil(runs.strip.isVisible)
    assert "ceiling 2 from 201.166 to 201.181" in runs.strip.words.text() and runs.session.rig is rig
    qtbot.keyClick(pixels, Qt.Key.Key_Escape)
    assert not runs.strip.isVisible() and runs.session.rig is rig and pixels.text() == "55"
    fixed = next(k for k, e in rig.elements.items() if e.name == "ceiling 2")
    runs.session.make_edit(fix_addresses, runs.session.index.cables_and_sums, [fixed])
    pixels = field_of(runs.runs.panel, "Pixels")
    pixels.setFocus()
    pixels.selectAll()
    qtbot.keyClicks(pixels, "60")
    qtbot.waitUntil(runs.strip.isVisible)
    assert "ceiling 2 is fixed at 201.166 and the cable is elsewhere" in runs.strip.words.text()
