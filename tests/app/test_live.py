"""The window on a real network of stand-ins on loopback: heard, wrong, pushed, armed, and light at the lamp."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import QEvent, Qt
from PySide6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from welvo.app.computer import Computer
from welvo.app.devices.papers import DeviceTables, SettingCard, Snapshots
from welvo.app.devices.settings import SettingRow
from welvo.app.main import Demo, make_window
from welvo.app.session import Selection, Session
from welvo.app.window import Window
from welvo.demo.gallery import EXPECTED_LIVE
from welvo.matching.plan_back import plan_reported
from welvo.rig.base import Refused
from welvo.runs.bridge import set_right
from welvo.runs.edits import change_segment
from welvo.settings.compare import SettingLine, lines_that_differ


@pytest.fixture
def demo() -> Demo:  # type: ignore[misc]
    made = Demo()
    made.stand_ins.wait_ready()
    yield made
    made.stop()


def test_from_dark_to_light_in_the_window(demo: Demo, qtbot: QtBot, tmp_path: Path) -> None:
    window = make_window(Session(demo.rig), Computer(), "127.0.0.1", tmp_path)
    window.resize(1280, 800)  # the screen of a test may be smaller
    window.files.may_leave = lambda: True  # type: ignore[method-assign]
    window.show()
    window.network.start_network()
    try:
        live(window, qtbot)
    finally:
        window.end_everything()
        window.close()
        window.deleteLater()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)


def live(window: object, qtbot: QtBot) -> None:
    assert isinstance(window, Window)
    session, network = window.session, window.network

    def until(condition: Callable[[], bool]) -> None:
        qtbot.waitUntil(condition, timeout=15_000)

    def dimmer_at_the_lamp() -> int:
        given = network.hearing.port_gives("d1", "A")
        return given[149] if given else -1

    until(lambda: len(session.observed.heard) == 6)
    until(lambda: dimmer_at_the_lamp() == 0)
    session.select_items(["f207"])
    window.show_station("Bench")
    qtbot.mouseClick(window.head.arm, Qt.MouseButton.LeftButton)
    assert network.output.is_armed and "Forgotten laptop sends there now (sACN 6)" in window.message.words
    for function, value in (("Dimmer", 1.0), ("Shutter1", 1.0), ("ColorAdd_R", 1.0)):
        network.meant.levels.hold_function(["f207"], function, value)
    network.meant.note_touched()
    until(lambda: (network.hearing.on_wire("u3") or bytes(512))[149] == 255)
    until(lambda: session.report.codes_found == EXPECTED_LIVE)
    until(lambda: window.bench._sentence.text().startswith("Port A of WEIR-2 puts out other levels"))
    assert dimmer_at_the_lamp() != 255
    assert window.ribbon.path_shown and any(
        j.mark == "differs" and j.takes == "takes 2" for j in window.ribbon.path_shown.joints
    )

    def pushes() -> list[QPushButton]:
        every = window.bench.panel.findChildren(QPushButton)
        return [b for b in every if b.text() == "Push sACN 3" and b.isVisible()]

    until(lambda: bool(pushes()))  # the panel is laid out anew when something was heard
    qtbot.mouseClick(pushes()[0], Qt.MouseButton.LeftButton)
    until(lambda: "WIRE-01" not in session.report.codes_found)
    until(lambda: dimmer_at_the_lamp() == 255)
    until(lambda: window.bench._sentence.text() == "What you mean is on the wire and at the port.")
    wanted = [
        "matches",
        "matches",
        "matches",
        "matches",
        "claimed",
        "matches",
    ]  # the port's own, once the device was read again
    until(lambda: bool(window.ribbon.path_shown) and [j.mark for j in window.ribbon.path_shown.joints] == wanted)
    engine = network.output.engine
    assert engine
    network.output.disarm_output()
    until(lambda: not engine.alive)
    until(lambda: not [s for s in session.observed.sources if s.own and s.protocol == "sacn"])


@pytest.fixture
def devices(demo: Demo, qtbot: QtBot, tmp_path: Path) -> Iterator[Window]:
    """The demo's window in Devices, its pixel controller chosen and read."""
    window = make_window(Session(demo.rig), Computer(), "127.0.0.1", tmp_path)
    window.resize(1280, 800)  # the screen of a test may be smaller
    window.files.may_leave = lambda: True  # type: ignore[method-assign]
    window.show()
    window.network.start_network()
    pen = next(k for k, d in demo.rig.devices.items() if d.name == "PENSTOCK")
    window.show_station("Devices")
    window.session.change_selection(Selection("device", (pen,)))
    qtbot.waitUntil(lambda: "127.0.0.50" in window.session.observed.said, timeout=15_000)
    yield window
    window.end_everything()
    window.close()
    window.deleteLater()
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)


def test_a_pixel_controller_is_set_saved_and_restarted_from_the_window(
    devices: Window, demo: Demo, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    session, station = devices.session, devices.devices
    pen = session.selection.first_selected

    def line(key: str) -> SettingLine:
        return next(x for x in station.settings.lines if x.key == key)

    def until(condition: Callable[[], bool]) -> None:
        qtbot.waitUntil(condition, timeout=15_000)

    def shown(words: str) -> QPushButton:
        def found() -> list[QPushButton]:
            return [b for b in station.findChildren(QPushButton) if b.text() == words and b.isVisible()]

        until(lambda: bool(found()))
        return found()[0]

    assert not lines_that_differ(station.settings.lines) and len(station.settings.findChildren(SettingRow)) < 20
    session.make_edit(set_right, pen, "6", 2)
    session.make_edit(change_segment, pen, "1", 0, fold=5)
    assert {x.key for x in lines_that_differ(station.settings.lines)} == {"6.brightness", "1/1.fold"}
    station.only.click()

    def rows() -> set[str]:
        return {w.line.key for w in station.settings.findChildren(SettingRow) if w.isVisible()}

    until(lambda: rows() == {"6.brightness", "1/1.fold"})  # only what differs
    demo.stand_ins.order_fault("127.0.0.50", "refuses", ["1/1.fold"])
    assert demo.stand_ins.wait_until_settled()
    shown("Push 2 changes").click()
    until(lambda: line("6.brightness").mark == "matches" and line("1/1.fold").result is not None)
    assert line("1/1.fold").result.outcome == "refused" and line("6.brightness").waits == ("save",)  # type: ignore[union-attr]
    assert (
        "Fold of segment 1 on port 1: this device refuses it." in devices.message.words
        and devices.message.severity == "error"
    )
    demo.stand_ins.order_fault("127.0.0.50", "refuses", [])
    assert demo.stand_ins.wait_until_settled()
    shown("Push 1 change").click()
    until(lambda: line("1/1.fold").waits == ("save", "apply"))
    assert "DEV-11" in session.report.codes_found
    shown("Save").click()
    until(lambda: line("1/1.fold").waits == ("apply",))
    shown("Apply").click()
    until(lambda: line("1/1.fold").mark == "matches" and not line("1/1.fold").waits)
    assert "DEV-11" not in session.report.codes_found and not lines_that_differ(station.settings.lines)
    demo.stand_ins.order_fault("127.0.0.50", "test", "red")
    until(lambda: "DEV-12" in session.report.codes_found)
    shown("End the test").click()
    until(lambda: "DEV-12" not in session.report.codes_found)


def test_what_the_device_has_becomes_the_plan_and_what_a_run_decides_is_refused(devices: Window, qtbot: QtBot) -> None:
    session = devices.session
    pen = session.selection.first_selected
    session.make_edit(plan_reported, pen, "2/2.order", "BGR")
    assert session.rig.devices[pen].ports["2"].run[1].order == "BGR"
    session.make_edit(plan_reported, pen, "2.brightness", 40)
    assert session.rig.devices[pen].ports["2"].brightness == 0.4
    session.make_edit(plan_reported, pen, "mode", "6 long ports")
    assert session.rig.devices[pen].mode == "6 long ports"
    for key, value in (("2/2.pixels", 50), ("2.segments", 9), ("2/9.order", "RGB"), ("2.universe", 9), ("2.slot", 4)):
        with pytest.raises(Refused):
            session.make_edit(plan_reported, pen, key, value)


def test_card_tables_and_snapshots_of_a_device(devices: Window, qtbot: QtBot) -> None:
    session, network = devices.session, devices.network
    pen = session.selection.first_selected
    card = SettingCard(session, pen, devices)
    assert "0 settings to enter" in card.saying.text()
    session.make_edit(set_right, pen, "6", 2)
    assert "1 setting to enter" in card.saying.text()
    row = next(n for n, r in enumerate(card.list.rows.lines) if r.cells[1:3] == ("port 6", "Brightness"))
    card.list.selectRow(row)
    card.tick.click()
    assert session.rig.devices[pen].entered["6.brightness"].value == 100
    assert "0 settings to enter" in card.saying.text() and "ticked" in card.list.rows.lines[row].cells[4]
    card.list.selectRow(row)
    card.back.click()
    assert not session.rig.devices[pen].entered
    tables = DeviceTables(session, pen, devices)
    QApplication.clipboard().setText("universe\tslots\n201\t512\n202\t510\n")
    tables.compare.click()
    assert "Row 2, slots: plan 512, page 510." in tables.saying.text() and "2 slots early" in tables.saying.text()
    QApplication.clipboard().setText("hello")
    tables.compare.click()
    assert "needs a line of headings" in tables.saying.text()
    kept = Snapshots(session, network, pen, devices)
    assert "No snapshot yet" in kept.saying.text() and not kept.write.isEnabled()
    kept.take.click()
    assert len(session.rig.devices[pen].snapshots) == 1
    assert network.pushing.push_planned(pen, ("6.brightness",))
    qtbot.waitUntil(lambda: session.observed.said["127.0.0.50"].active["6.brightness"] == 100, timeout=15_000)
    qtbot.waitUntil(lambda: "1 setting differs" in kept.saying.text(), timeout=5_000)
    qtbot.waitUntil(lambda: network.devices.push_under_way(pen) is None, timeout=5_000)
    kept.write.click()
    qtbot.waitUntil(lambda: "0 settings differ" in kept.saying.text(), timeout=15_000)
    assert session.observed.said["127.0.0.50"].saved["6.brightness"] == 80
    for dialog in (card, tables, kept):
        dialog.reject()
