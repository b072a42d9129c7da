"""From a pixel controller at its factory address, with factory settings, to one that gives the right level behind its
bridge: in the real window, clicks and keys counted."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import aiohttp  # noqa: F401  what the device jobs need; importing it takes a while, which is no part of the job
import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QPushButton, QWidget
from pytestqt.qtbot import QtBot

from tests.app.conftest import beside_stand_ins, field_of
from welvo.app.devices.find import FindDevice
from welvo.app.devices.rehearse import Rehearsal, RehearseRig, read_fault_value
from welvo.app.jobs.live_path import chain_of
from welvo.app.session import Selection, Session
from welvo.app.window import Window
from welvo.demo.gallery import make_gallery
from welvo.formats.models import shipped_models
from welvo.live.status import read_status
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.edits import add_device, add_feed, add_universe, plan_setting
from welvo.runs.bridge import set_right
from welvo.settings.compare import lines_that_differ
from welvo.survey.target import find_target

MOST_CLICKS, MOST_KEYS = 12, 4


STATE = """
["127.0.0.50"]
instead = "127.0.1.12"
["127.0.0.31"]
instead = "127.0.1.31"
"""
"""A pixel controller and a node stand at the factory addresses of their models."""


@pytest.fixture
def new(tmp_path: Path, qtbot: QtBot) -> Iterator[Window]:
    """The gallery with its bridge set right, and two devices that have just come out of their boxes."""
    rig = make_gallery()
    pen = next(k for k, d in rig.devices.items() if d.name == "PENSTOCK")
    rig, _ = set_right(rig, pen, "6", 2)
    with beside_stand_ins(rig, STATE, tmp_path) as (window, _):
        window.show_station("Devices")
        window.session.change_selection(Selection("device", (pen,)))
        yield window


def test_from_a_factory_address_to_the_right_level_behind_its_bridge(
    new: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    session, network, station = new.session, new.network, new.devices
    pen = session.selection.first_selected
    clicks = keys = 0
    monkeypatch.setattr("welvo.app.widgets.dialogs.ask_act", lambda *_, **__: "restart")

    def until(condition: Callable[[], bool], seconds: float = 20) -> None:
        qtbot.waitUntil(condition, timeout=int(1000 * seconds))

    def press(root: QWidget, begins: str) -> None:
        nonlocal clicks

        def found() -> list[QPushButton]:
            buttons = root.findChildren(QPushButton)
            return [b for b in buttons if b.text().startswith(begins) and b.isVisible() and b.isEnabled()]

        until(lambda: bool(found()))
        qtbot.mouseClick(found()[0], Qt.MouseButton.LeftButton)
        clicks += 1

    until(lambda: "DEV-02" in session.report.codes_found)
    find = FindDevice(session, network, pen, new)
    find.show()
    clicks += 1  # Find it…
    until(lambda: find.search is not None)
    assert find.search and find.search.likeliest_cause and find.search.likeliest_cause.code == "factory"
    press(find, "Give it 127.0.0.50")
    until(lambda: "127.0.0.50" in session.observed.said)
    press(find, "Close")
    until(lambda: len(lines_that_differ(station.settings.lines)) > 40)
    press(station, "Push")
    until(lambda: network.devices.push_under_way(pen) is None and any(x.waits for x in station.settings.lines), 40)
    assert not [r for r in session.observed.results[pen].values() if r.outcome not in ("taken", "waits")]
    press(station, "Save")
    until(lambda: not any("save" in x.waits for x in station.settings.lines))
    press(station, "Apply")
    until(lambda: not any("apply" in x.waits for x in station.settings.lines))
    assert {x.key for x in station.settings.lines if x.waits} <= {"mode", "7.chip"}
    press(station, "Restart")
    until(lambda: not any(x.waits for x in station.settings.lines) and network.devices.push_under_way(pen) is None)
    assert not lines_that_differ(station.settings.lines)
    assert session.rig.devices[pen].snapshots[-1].why == "before a restart"
    new.show_station("Bench")
    clicks += 1
    new.bench.pick.setFocus()
    qtbot.keyClicks(new.bench.pick, "534")
    qtbot.keyClick(new.bench.pick, Qt.Key.Key_Return)
    keys += 4
    press(new.bench, "Light up")
    qtbot.mouseClick(new.head.arm, Qt.MouseButton.LeftButton)
    clicks += 1

    def proved() -> bool:
        chain = chain_of(session, network, find_target(session.index, "534"))
        roles = [h.role for h in chain.hops]
        return "bridge" in roles and chain.joints[roles.index("bridge") - 1].mark == "matches"

    until(proved)
    chain = chain_of(session, network, find_target(session.index, "534"))
    assert chain.hops[-1].fact.startswith("DMX 33 gives ") and chain.joints[-1].mark == "matches"
    assert (clicks <= MOST_CLICKS, keys <= MOST_KEYS) == (True, True), (clicks, keys)


def test_a_node_is_given_its_address_by_art_net_and_followed(new: Window, qtbot: QtBot) -> None:
    session = new.session
    node = next(k for k, d in session.rig.devices.items() if d.ip == "127.0.0.31")
    told: list[str] = []
    session.said.connect(lambda words, _: told.append(words))
    qtbot.waitUntil(lambda: "127.0.1.31" in session.observed.heard, timeout=15_000)
    mac = session.observed.heard["127.0.1.31"].mac
    assert any(f.code == "DEV-10" and "127.0.1.31" in f.title for f in session.report.findings)
    find = FindDevice(session, new.network, node, new)
    qtbot.waitUntil(lambda: find.search is not None, timeout=15_000)
    assert find.search and find.search.likeliest_cause and find.search.likeliest_cause.code == "factory"
    assert find.renumber.text() == "Give it 127.0.0.31"
    find.renumber.click()
    qtbot.waitUntil(lambda: "SLUICE-N answers at 127.0.0.31 now." in told, timeout=15_000)
    qtbot.waitUntil(lambda: "127.0.0.31" in session.observed.heard, timeout=5000)
    assert session.observed.heard["127.0.0.31"].mac == mac
    assert [e.what for e in session.observed.log if e.device == node][-2:] == [
        "address 127.0.0.31 sent to 127.0.1.31; it restarts",
        "SLUICE-N answers at 127.0.0.31 now.",
    ]
    assert find.saying.text().startswith("Giving it 127.0.0.31")
    find.reject()
    # another address that is typed where the window offers it is followed in the same way
    session.change_selection(Selection("device", (node,)))
    panel = new.devices.panel
    qtbot.waitUntil(lambda: "SLUICE-N is silent" not in {f.title for f in session.report.findings}, timeout=10_000)
    line = field_of(panel, "Address")
    line.setText("127.0.0.41")
    line.commit()

    def give() -> list[QPushButton]:
        return [b for b in panel.findChildren(QPushButton) if b.text() == "Give it 127.0.0.41" and b.isVisible()]

    qtbot.waitUntil(lambda: bool(give()), timeout=5000)
    give()[0].click()
    qtbot.waitUntil(lambda: "SLUICE-N answers at 127.0.0.41 now." in told, timeout=15_000)
    qtbot.waitUntil(lambda: not give(), timeout=5000)


def test_a_silent_device_is_looked_for_wherever_it_is_said_to_be_silent(new: Window, qtbot: QtBot) -> None:
    session, wanted = new.session, []
    session.search_wanted.disconnect(new._find_device)
    session.search_wanted.connect(wanted.append)
    pen = session.selection.first_selected
    qtbot.waitUntil(lambda: "DEV-02" in session.report.codes_found, timeout=20_000)

    def press(root: QWidget, words: str) -> None:
        def found() -> list[QPushButton]:
            return [b for b in root.findChildren(QPushButton) if b.text() == words and b.isVisible()]

        qtbot.waitUntil(lambda: bool(found()), timeout=5000)
        found()[0].click()

    press(new.devices.panel, "Find it…")
    new.show_station("Bench")
    session.select_items([next(k for k, f in session.rig.fixtures.items() if f.number == 534)])
    press(new.bench.panel, "Find PENSTOCK…")
    assert wanted == [pen, pen]


def test_a_device_that_does_not_come_back_is_said(new: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    session, network = new.session, new.network
    brine = next(k for k, d in session.rig.devices.items() if d.name == "BRINE")
    told: list[str] = []
    session.said.connect(lambda words, _: told.append(words))
    qtbot.waitUntil(lambda: network.hearing.listener is not None, timeout=5000)
    session.make_edit(plan_setting, brine, "ip", "127.0.0.200")
    monkeypatch.setattr("welvo.app.jobs.pushing.FOLLOW_FOR", 0.5)
    network.pushing.give_address(brine, "127.0.0.201")  # nobody is at either
    qtbot.waitUntil(lambda: any("does not answer at 127.0.0.200" in t for t in told), timeout=10_000)
    assert not network.pushing._moving


def test_a_rig_is_rehearsed_and_broken_on_purpose(new: Window, qtbot: QtBot) -> None:
    """The stand-ins that `new` started hold the addresses: a second set says so."""
    rehearsal = Rehearsal()
    dialog = RehearseRig(new.session, rehearsal, new)
    rows = {r.cells[0]: r.cells for r in dialog.list.rows.lines}
    assert rows["PENSTOCK"][1:3] == ("127.0.0.50", "not yet") and not dialog.on.isEnabled()
    dialog.planned.click()
    assert rehearsal.stand_ins
    with pytest.raises(RuntimeError, match="cannot be had"):  # two sets of stand-ins at one address
        rehearsal.stand_ins.wait_ready()
    dialog._fill_devices()
    assert "cannot be had" in dialog.saying.text()
    rehearsal.stop_rehearsal()
    for fault, typed, value in (
        ("refuses", "6.brightness, 1.chip", ["6.brightness", "1.chip"]), ("slow", "1.5", 1.5), ("halts", "2", 2),
        ("twin", "", True), ("test", " red ", "red"),
    ):  # fmt: skip
        assert read_fault_value(fault, typed) == value
    for bad in ("many", "-1", "601"):
        with pytest.raises(Refused):
            read_fault_value("lossy", bad)
    with pytest.raises(Refused, match="Nothing is simulated"):
        rehearsal.switch_fault("127.0.0.50", "twin", True)
    dialog.reject()


def test_a_rig_with_nothing_but_a_serial_line_is_rehearsed(tmp_path: Path, qtbot: QtBot) -> None:
    window = QWidget()
    qtbot.addWidget(window)
    rig, _ = add_device(Rig(), shipped_models()["rush"], "LINES")
    rehearsal = Rehearsal()
    dialog = RehearseRig(Session(rig), rehearsal, window)
    assert not dialog.planned.isEnabled() and dialog.list.rows.lines[0].cells[2] == "no line is fed"
    dialog.reject()
    rig, _ = add_universe(rig, 1)
    rig, _ = add_feed(rig, next(iter(rig.universes)), "serial")
    dialog = RehearseRig(Session(rig), rehearsal, window)
    assert dialog.planned.isEnabled()
    dialog.planned.click()
    try:
        assert rehearsal.stand_ins and "line 1" in str(rehearsal.stand_ins.wait_ready())
    finally:
        rehearsal.stop_rehearsal()
        dialog.reject()


def test_faults_are_switched_from_the_window(tmp_path: Path, qtbot: QtBot) -> None:
    rehearsal = Rehearsal()
    rig = make_gallery()
    rehearsal.start_rehearsal(rig, True)
    try:
        assert rehearsal.stand_ins
        rehearsal.stand_ins.wait_ready()
        window = QWidget()
        qtbot.addWidget(window)
        dialog = RehearseRig(Session(rig), rehearsal, window)
        dialog.list.selectRow(next(n for n, r in enumerate(dialog.list.rows.lines) if r.cells[0] == "PENSTOCK"))
        dialog.fault.setCurrentIndex(dialog.fault.findData("test"))
        dialog.value.setText("green")
        dialog.on.click()
        qtbot.waitUntil(lambda: read_status("127.0.0.50", 8421).test == "green", timeout=5000)
        assert "a test pattern was left on green" in {r.cells[3] for r in dialog.list.rows.lines}
        dialog.ends.itemAt(0).widget().click()  # what was switched on ends where it is said
        qtbot.waitUntil(lambda: read_status("127.0.0.50", 8421).test == "", timeout=5000)
        assert not rehearsal.on and dialog.ends.count() == 0
        dialog.fault.setCurrentIndex(dialog.fault.findData("refuses"))
        assert [r.cells[3] for r in dialog.list.rows.lines if r.cells[0] == "PENSTOCK"] == [""]
        for label in ("Brightness of port 6", "Brightness"):
            dialog.setting.setCurrentIndex(dialog.setting.findText(label))
            assert dialog.setting.currentText() == label
            dialog.on.click()
        (row,) = (r for r in dialog.list.rows.lines if r.cells[0] == "PENSTOCK")
        assert row.cells[3] == "refuses Brightness of port 6, Brightness"  # by their names, not by their keys
        dialog.stop.click()
        assert not rehearsal.is_running
        dialog.reject()
    finally:
        rehearsal.stop_rehearsal()
