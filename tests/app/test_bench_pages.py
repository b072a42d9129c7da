"""The Bench's pages in the real window: driving anything, test cycles by keys alone, the wire, recordings, record."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from tests.app.conftest import Recorder, answer, hear
from welvo.app.bench.holding import HeldList, HoldColour, Spread
from welvo.app.bench.solving import Solving, fitting_solvers, hold_for
from welvo.app.session import Selection
from welvo.app.widgets.painting import clear_layout
from welvo.app.window import Window
from welvo.bench.levels import read_function_value
from welvo.bench.questions import LAMP_QUESTIONS, behind_the_facts
from welvo.bench.record import record_tests
from welvo.formats.pcap import Datagram
from welvo.live.recording import Recording
from welvo.live.worker import WorkerFaults
from welvo.observed.values import SourceSeen
from welvo.protocols import sacn
from welvo.rig.base import Refused
from welvo.rig.edits import move_item


@pytest.fixture
def bench(small: Window, engines: list[Recorder]) -> Window:
    small.show_station("Bench")
    QApplication.processEvents()
    return small


def pick(window: Window, qtbot: QtBot, typed: str) -> None:
    window.bench.pick.setFocus()
    window.bench.pick.selectAll()
    qtbot.keyClicks(window.bench.pick, typed)
    qtbot.keyClick(window.bench.pick, Qt.Key.Key_Return)


def frame(window: Window, universe: str = "u1") -> bytes:
    found = window.network.meant.meant_frame(universe)
    assert found is not None
    return found.tobytes()


def press(window: Window, words: str) -> None:
    found = next(b for b in window.bench.findChildren(QPushButton) if b.text().startswith(words) and b.isVisible())
    found.click()


def test_single_pixels_are_picked_and_driven(bench: Window, qtbot: QtBot) -> None:
    pick(bench, qtbot, "ribbon/2-3")
    assert bench.session.selection.ids == ("e",) and bench.bench.pixels == {"e": (2, 3)}
    assert [f.word for f in bench.bench.bank.faders] == ["red", "green", "blue"]
    bench.bench.bank.setFocus()
    qtbot.keyClick(bench.bench.bank, Qt.Key.Key_End)
    assert frame(bench, "u2")[100:112] == bytes((0, 0, 0, 255, 0, 0, 255, 0, 0, 0, 0, 0))
    assert bench.bench.pick.text() == "ribbon/2-3"
    pick(bench, qtbot, "201/1, 201/4")
    assert "dimmer" not in [f.word for f in bench.bench.bank.faders]  # it is not the pixels' own
    pick(bench, qtbot, "101, 201")
    assert not bench.bench.pixels
    assert bench.bench.bank.having["Dimmer"] == 2 and bench.bench.bank.having["Pan"] == 1


def test_light_up_lights_the_pixel_that_is_picked_and_not_its_string(bench: Window, qtbot: QtBot) -> None:
    pick(bench, qtbot, "ribbon/2")
    press(bench, "Light up")
    lit = [n for n, v in enumerate(frame(bench, "u2")) if v]
    assert lit == [103, 104, 105]
    press(bench, "Zero all")
    assert not any(frame(bench, "u2"))
    press(bench, "Release all")
    # a pixel that was picked in another station
    bench.session.select_items([])
    bench.session.change_selection(Selection("item", ("e",), pixel=3))
    assert bench.bench.pixels == {"e": (3,)} and bench.bench.pick.text() == "ribbon/3"
    press(bench, "Reveal")
    assert sum(v > 0 for v in frame(bench, "u2")) == 3
    bench.session.change_selection(Selection("item", ("e",)))
    assert not bench.bench.pixels
    press(bench, "Reveal")
    assert sum(v > 0 for v in frame(bench, "u2")) == 30  # all ten pixels of it
    # a lamp with pixels and a dimmer of its own: the dimmer is needed as well, the other pixels are not
    press(bench, "Release all")
    pick(bench, qtbot, "201/1")
    press(bench, "Light up")
    held = bench.network.meant.levels
    item = bench.session.selection.first_selected
    assert held.held[item, "Dimmer"] == 1.0 and {n for n, _ in held.pixels[item]} == {1}


def test_values_are_typed_in_percent_and_refused_outside(bench: Window, qtbot: QtBot) -> None:
    pick(bench, qtbot, "101")
    bench.bench.bank.setFocus()
    bench.bench.bank.current = 2
    answer("50 %")
    qtbot.keyClick(bench.bench.bank, Qt.Key.Key_Return)
    assert bench.network.meant.levels.held["a", "Dimmer"] == 0.5
    with pytest.raises(Refused, match="degrees"):
        read_function_value(bench.session.index, "a", "Dimmer", "45°")


def test_reveal_only_these_master_and_what_is_held(bench: Window, qtbot: QtBot) -> None:
    pick(bench, qtbot, "101")
    press(bench, "Reveal")
    assert frame(bench)[4] == 255
    pick(bench, qtbot, "102")
    press(bench, "Light up")
    press(bench, "Only these")
    assert (frame(bench)[4], frame(bench)[12]) == (0, 255)
    assert bench.bench.only.text() == "Only 1"
    press(bench, "Only 1")
    assert frame(bench)[4] == 255
    master = bench.bench.master
    master.setFocus()
    master.selectAll()
    qtbot.keyClicks(master, "50")
    qtbot.keyClick(master, Qt.Key.Key_Return)
    assert frame(bench)[4] == 128 and master.text() == "50 %"
    master.selectAll()
    qtbot.keyClicks(master, "101")
    qtbot.keyClick(master, Qt.Key.Key_Return)
    assert bench.network.meant.levels.master == 0.5 and "0 to 100" in bench.message.words
    held = HeldList(bench.session, bench.network, bench, bench.bench._follow_levels)
    assert [r.cells[0] for r in held.list.rows.lines].count("102") >= 1
    held.list.selectAll()
    held.release.click()
    assert not bench.network.meant.levels.held
    held.reject()


def test_spreading_and_colours(bench: Window, qtbot: QtBot) -> None:
    pick(bench, qtbot, "101, 102, 201")
    keys = bench.bench.selected_keys
    spread = Spread(bench.session, bench.network, keys, bench.bench.bank.faders, bench, bench.bench._follow_levels)
    spread.function.set_options([("Dimmer", "dimmer")], "Dimmer")
    spread.first.setText("0 %")
    spread.last.setText("100 %")
    assert "0, 50, 100 %" in spread.saying.text()
    spread.go.click()
    assert [bench.network.meant.levels.held[k, "Dimmer"] for k in keys] == [0, 0.5, 1]
    colour = HoldColour(bench.session, bench.network, ["c", "e"], bench, bench.bench._follow_levels)
    colour.line.setText("nonsense")
    assert not colour.go.isEnabled() and "is no colour" in colour.saying.text()
    colour.line.setText("255 0 0")
    colour.go.click()
    assert frame(bench, "u2")[2:5] == b"\xff\0\0" and frame(bench, "u2")[100:103] == b"\xff\0\0"


def test_slots_in_a_row_are_held_together(bench: Window, qtbot: QtBot) -> None:
    b = bench.bench
    pick(bench, qtbot, "1.300-303")
    assert b.raw_place.text() == "1.300–303"
    b.raw_level.setText("9")
    b._hold_raw()
    assert frame(bench)[299:304] == b"\x09\x09\x09\x09\0"


def test_a_cycle_goes_by_keys_alone_and_its_result_is_kept(bench: Window, qtbot: QtBot) -> None:
    pick(bench, qtbot, "201")
    bench.bench.show_page("Test")
    page = bench.bench.cycles
    page.kinds["components"].click()
    assert page.words.text() == "Red" and frame(bench, "u2")[2:5] == b"\xff\0\0"
    assert "Not armed" in page.said.text()
    qtbot.keyClick(page, Qt.Key.Key_Right)
    assert page.words.text() == "Green" and frame(bench, "u2")[2:5] == b"\0\xff\0"
    qtbot.keyClick(page, Qt.Key.Key_Space)
    assert page.cycle and page.cycle.held and page.hold.text() == "Go on"
    qtbot.keyClick(page, Qt.Key.Key_Left)
    qtbot.keyClick(page, Qt.Key.Key_Plus)
    assert page.words.text() == "Red" and page.speed.text() == "1.5"
    page.note.setText("pixel 3 is dim")
    qtbot.keyClick(page, Qt.Key.Key_D)
    kept = bench.session.rig.tests["item/c"].tests[-1]
    assert (kept.result, kept.note, kept.what) == ("doubtful", "pixel 3 is dim", "every component alone")
    qtbot.keyClick(page, Qt.Key.Key_Escape)
    assert not page.is_running and frame(bench, "u2")[2:5] == b"\0\0\0"
    bench.session.select_items([])
    page.kinds["ramp"].click()
    assert "Pick what is to be tested" in bench.message.words and not page.kinds["ramp"].isChecked()


@pytest.mark.parametrize("typed", ["21 x 55", "nan", "0", "1e9", "-1", "½"])
def test_steps_a_second_that_are_none_are_refused_and_no_test_begins(bench: Window, typed: str) -> None:
    page = bench.bench.cycles
    bench.session.select_items(["a"])
    bench.show_station("Bench")
    bench.bench.show_page("Test")
    page.speed.setText(typed)
    with pytest.raises(Refused, match="steps a second"):
        page.begin_cycle("ramp")
    assert not page.is_running and page.speed.text() == typed  # what was typed stays, to be put right
    page.speed.setText("2,5")
    page.begin_cycle("ramp")
    assert page.cycle is not None and page.cycle.speed == 2.5
    page.stop_cycle()


def test_a_cycle_moves_on_by_itself(bench: Window, qtbot: QtBot) -> None:
    pick(bench, qtbot, "ribbon")
    bench.bench.show_page("Test")
    page = bench.bench.cycles
    page.speed.set_value("20")
    page.begin_cycle("pixels")
    qtbot.waitUntil(lambda: page.cycle is not None and page.cycle.at >= 3, timeout=3000)
    page.stop_cycle()


def test_the_halving_search_in_the_window(bench: Window, qtbot: QtBot) -> None:
    bench.bench.show_page("Test")
    page = bench.bench.cycles
    page.where.setText("2")
    page.begin_search()
    there = 77
    for _ in range(9):
        lit = frame(bench, "u2")[there - 1] == 255
        qtbot.keyClick(page, Qt.Key.Key_Y if lit else Qt.Key.Key_N)
    assert page.words.text() == "It answers at 2.077"
    page.stop_cycle()


def test_the_record_lists_what_is_left_and_wakes(bench: Window, qtbot: QtBot) -> None:
    page = bench.bench.record
    bench.bench.show_page("Tested")
    QApplication.processEvents()
    rows = [r.cells for r in page.list.rows.lines]
    assert [r[0] for r in rows] == ["101", "102", "201", "ribbon"] and {r[1] for r in rows} == {"not tested"}
    page.list.selectRow(0)
    page.record_result("passed")
    assert page.progress.text() == "1 of 4 things passed"
    bench.session.make_edit(move_item, "a", 0, "u1", 200)
    assert page.list.rows.lines[0].cells[1] == "changed since, was passed"
    page.show_.setCurrentIndex(page.show_.findData("woken"))
    page.refresh()
    assert [r.cells[0] for r in page.list.rows.lines] == ["101"]
    page.list.clearSelection()
    with pytest.raises(Refused, match="pick what was tested"):
        page.record_result("failed")


class Wire:
    """Stands in for the listener of the Wire page."""

    def __init__(self, heard: list[tuple[SourceSeen, bytes]]) -> None:
        self.heard_ = heard
        self.recorder: Any = None

    def sources_of_universe(self, protocol: str, wire: int, now: float) -> list[tuple[SourceSeen, bytes]]:
        return [x for x in self.heard_ if (x[0].protocol, x[0].wire) == (protocol, wire)]

    def source_levels(self, protocol: str, wire: int, key: str) -> bytes | None:
        return next((v for s, v in self.heard_ if (s.protocol, s.wire, s.key) == (protocol, wire, key)), None)

    def record_into(self, recorder: Any) -> None:
        self.recorder = recorder

    artnet_fd = -1
    faults = WorkerFaults()

    def heard_devices(self) -> dict[str, Any]:
        return {}

    def heard_sources(self, now: float) -> list[SourceSeen]:
        return []

    def own_streams(self, cid: bytes) -> None: ...
    def join_universes(self, universes: list[int]) -> None: ...
    def count_anew(self) -> None: ...
    def own_drops(self) -> int:
        return 7

    def levels_on_wire(self, protocol: str, wire: int) -> None: ...
    def close(self) -> None: ...


def source(name: str, **more: Any) -> SourceSeen:
    return SourceSeen("sacn", 1, name, name, "127.0.0.9", 100, 44.0, False, time.time(), frames=99, **more)


def test_the_wire_shows_whose_each_slot_is_and_what_changed(bench: Window, qtbot: QtBot) -> None:
    heard = [(source("One"), b"\x05\x00" + bytes(510)), (source("Two"), b"\x00\x09" + bytes(510))]
    wire = Wire(heard)
    bench.network.hearing.listener = wire  # type: ignore[assignment]
    hear(bench)
    bench.session.observe(sources=tuple(s for s, _ in heard))
    page = bench.bench.wire
    bench.bench.show_page("Wire")
    page._pick_wire(("sacn", 1))
    assert page.cells.levels[:2] == b"\x05\x09" and page.cells.owners[:2] == (0, 1)
    assert page.note.text().endswith("; 7 packets lost in this computer")
    assert "both send sACN 1" in page.said.text() and len(page.sources.rows.lines) == 2
    rows = {r.cells[1]: r.cells for r in page.list.rows.lines}
    assert (rows["sACN 1"][0], rows["sACN 1"][3]) == ("error", "2") and rows["Art 0/0/2"][3] == "–"
    page._say_slot(2)
    assert page.said.text().startswith("Slot 2: 9, from Two. 101 · pan")
    page.hold.click()
    wire.heard_ = [(source("One"), b"\x05\x07" + bytes(510))]
    page.tick()
    assert page.cells.differing_slots() == [2] and page.said.text().startswith("1 slot not as held, the first is 2.")
    qtbot.mouseClick(page.cells, Qt.MouseButton.LeftButton, pos=QPoint(60, 5))
    assert "Slot 2" in page.said.text()
    page.all.click()
    assert page.stack.currentIndex() == 1 and page.rows.names[0] == "sACN 1"
    page.takes.setCurrentIndex(1)
    page.tick()
    assert not page.grab().isNull()
    bench.network.hearing.listener = None


def packets() -> list[Datagram]:
    cid = b"D" * 16
    return [
        Datagram(
            1000 + n / 10,
            "127.0.0.9",
            5568,
            "239.255.0.1",
            5568,
            sacn.encode_sacn(sacn.Data(cid, 1, bytes((n,)) + bytes(511), "Desk", sequence=n)),
        )
        for n in range(21)
    ]


def test_a_recording_is_looked_at_saved_opened_and_sent_only_when_armed(
    bench: Window, qtbot: QtBot, tmp_path: Path, engines: list[Recorder]
) -> None:
    wire = Wire([])
    bench.network.hearing.listener = wire  # type: ignore[assignment]
    page = bench.bench.wire
    bench.bench.show_page("Wire")
    page._start_recording()
    for d in packets():
        wire.recorder.take_datagram(d)
    page._start_recording()
    assert wire.recorder is None and page.recording and page.recording.length_in_seconds == pytest.approx(2.0)
    page.slider.setValue(1000)
    page._pick_wire(("sacn", 1))
    assert page.cells.levels[0] == 10 and page.moment.text() == "1.0 of 2.0 s"
    page.save_file(tmp_path / "x.pcap")
    page.to_live()
    with pytest.raises(Refused, match="no recording"):
        page.save_file(tmp_path / "y.pcap")
    page.open_file(tmp_path / "x.pcap")
    with pytest.raises(Refused, match="no capture"):
        (tmp_path / "z.pcap").write_bytes(b"nothing")
        page.open_file(tmp_path / "z.pcap")
    page.slider.setValue(500)
    page.onto.setChecked(True)
    with pytest.raises(Refused, match="Arm first"):
        page._play_onto_wire()
    assert not page.onto.isChecked() and not bench.network.meant.levels.playback
    bench.network.output.arm_output()
    page.onto.setChecked(True)
    page._play_onto_wire()
    assert frame(bench)[0] == 5
    page.run.click()
    qtbot.waitUntil(lambda: frame(bench)[0] >= 8, timeout=4000)
    bench.network.output.disarm_output()
    qtbot.waitUntil(lambda: not bench.network.meant.levels.playback, timeout=3000)
    page.to_live()
    bench.network.hearing.listener = None
    with pytest.raises(Refused, match="Nothing is listened to"):
        page._start_recording()


def test_a_recording_of_nothing_is_said(bench: Window) -> None:
    wire = Wire([])
    bench.network.hearing.listener = wire  # type: ignore[assignment]
    page = bench.bench.wire
    page._start_recording()
    with pytest.raises(Refused, match="Nothing was heard"):
        page._start_recording()
    assert page.recording is None and Recording([]).length_in_seconds == 0
    bench.network.hearing.listener = None


def test_solvers_light_what_they_ask_for(bench: Window, qtbot: QtBot) -> None:
    index = bench.session.index
    assert fitting_solvers(index, "e") == ["order", "lies", "base"] and fitting_solvers(index, "c") == [
        "address",
        "base",
    ]
    dialog = Solving(bench.session, bench.network, "order", "e", bench, bench.network.meant.note_touched)
    assert frame(bench, "u2")[100:103].count(255) == 1
    for _ in range(2):
        test = dialog.solver.next_test
        dialog._answer_test(test, dialog.solver.predict("BGR", test))
    assert dialog.solver.words_of_verdict == "It is BGR." and not any(frame(bench, "u2")[100:103])
    dialog._take_back(dialog.solver.sights[0].test)
    assert len(dialog.solver.still_possible) == 2
    dialog.reject()
    assert bench.network.meant.levels.test is None
    hold, keys = hold_for(index, "base", "a", "universe 1")
    assert keys == ["a", "b"] and hold.functions["a", "Dimmer"] == 1.0
    hold, _ = hold_for(index, "lies", "e", "pixel 3")
    assert set(hold.pixels["e"]) == {(3, f"ColorAdd_{x}") for x in "RGB"}


def test_where_facts_end_one_question_is_asked_and_answers_are_taken_back(bench: Window, qtbot: QtBot) -> None:
    panel = bench.bench.panel
    bench.session.select_items(["a"])
    panel._answers.clear()
    clear_layout(panel.body)
    panel._ask_question("a")
    first = {b.text() for b in panel.findChildren(QPushButton)}
    asked = behind_the_facts(bench.session.index, "a").next_test
    assert set(next(q.answers for q in LAMP_QUESTIONS if q.name == asked)) <= first
    panel._answer_question("a", "life", "no")
    clear_layout(panel.body)
    panel._ask_question("a")
    assert any("It has no power." in w.text() for w in panel.findChildren(type(bench.bench._what)))
    panel._take_back("a", "life")
    assert panel._answers["a"] == ()


def test_what_was_tested_is_marked_on_the_tapes_and_the_riser(runs: Window, qtbot: QtBot) -> None:
    s = runs.session
    pen = next(k for k, d in s.rig.devices.items() if d.name == "PENSTOCK")
    runs.show_station("Runs")
    s.change_selection(Selection("device", (pen,)))
    QApplication.processEvents()
    riser = runs.runs.riser.grab().toImage()
    runs.show_station("Patch")
    QApplication.processEvents()
    tapes = runs.patch.tapes.grab().toImage()
    s.amend_record("tests", record_tests(s.index, ["item/f101", f"port/{pen}/1"], "passed", "x", "Ann", 1.0))
    QApplication.processEvents()
    assert runs.patch.tapes.grab().toImage() != tapes
    runs.show_station("Runs")
    QApplication.processEvents()
    assert runs.runs.riser.grab().toImage() != riser
