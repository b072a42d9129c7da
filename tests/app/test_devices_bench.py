from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any
from unittest.mock import Mock

import pytest
from msgspec.structs import replace
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication, QLabel, QPushButton
from pytestqt.qtbot import QtBot

from tests.app.conftest import Recorder, field_of, hear, in_dialog, press_in_dialog
from tests.conftest import small_rig
from welvo.app.bench.station import read_typed_level
from welvo.app.computer import Computer
from welvo.app.devices.pairs import pairs_of
from welvo.app.devices.setting_form import say_where_it_came, states_of
from welvo.app.devices.settings import SettingRow
from welvo.app.jobs.hearing import Lateness
from welvo.app.jobs.output import MOST_REPLACED
from welvo.app.main import make_window
from welvo.app.session import Selection, Session
from welvo.app.widgets.add_device import AddDevice, guess_model, known_models
from welvo.app.widgets.fields import Field
from welvo.app.widgets.fixes import push_with_warning
from welvo.app.widgets.panels import Ways
from welvo.app.window import Window
from welvo.live.device_link import USUAL_PORT
from welvo.live.engine import EngineState
from welvo.live.engine_main import NOBODY
from welvo.live.worker import WorkerFaults
from welvo.observed.values import SILENT_AFTER, Event, Heard, HeardPort, Result, Written
from welvo.protocols import artnet
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.edits import set_feed
from welvo.rig.entered import Entered
from welvo.rig.refs import Goto
from welvo.rig.wiring import Sender, SettingSpec
from welvo.settings.compare import SettingLine


class Ears:
    """Stands in for the listener: keeps what is sent."""

    artnet_fd = -1
    faults = WorkerFaults()

    def __init__(self, window: Window) -> None:
        self.window = window
        self.sent: list[tuple[artnet.Packet, str]] = []

    def heard_devices(self) -> dict[str, Heard]:
        return self.window.session.observed.heard

    def send_artnet(self, packet: artnet.Packet, ip: str) -> None:
        self.sent.append((packet, ip))

    def heard_sources(self, now: float) -> list[Any]:
        return []

    def levels_on_wire(self, protocol: str, network: int) -> None:
        return None

    def sources_of_universe(self, protocol: str, wire: int, now: float) -> list[Any]:
        return []

    def own_streams(self, cid: bytes) -> None: ...
    def poll_everybody(self) -> None: ...
    def join_universes(self, universes: list[int]) -> None: ...
    def close(self) -> None: ...


@pytest.fixture
def ears(small: Window) -> Ears:
    made = Ears(small)
    small.network.hearing.listener = made  # type: ignore[assignment]
    return made


def button(window: Window, words: str) -> QPushButton:
    QApplication.processEvents()
    return next(b for b in window.findChildren(QPushButton) if b.text() == words and b.isVisible())


def test_planned_and_heard_stand_as_pairs(small: Window) -> None:
    (pair,) = pairs_of(small.session)
    assert pair.heard[0] == "silent" and pair.mark == "unknown"
    hear(small, wire_a=2, **{"127.0.0.99": Heard("127.0.0.99", "WHO", at=time.time())})
    known, stranger = pairs_of(small.session)
    assert (
        (known.mark, known.heard[2]) == ("differs", "1 setting differs")
        and stranger.device_id == ""
        and stranger.heard == ("WHO", "127.0.0.99", "not in the plan")
    )
    hear(small)
    assert pairs_of(small.session)[0].mark == "matches"


def test_only_what_differs_is_loud_and_its_buttons_name_the_value(small: Window, ears: Ears, qtbot: QtBot) -> None:
    hear(small, wire_a=2)
    small.go(Goto("device", "d"))
    QApplication.processEvents()
    rows = {r.line.key: r for r in small.devices.settings.findChildren(SettingRow) if r.isVisible()}
    assert [b.text() for b in rows["A.universe"].findChildren(QPushButton)] == ["Push 1", "Plan 2"]
    assert all(not r.findChildren(QPushButton) for k, r in rows.items() if k != "A.universe")
    qtbot.mouseClick(button(small, "Push 1"), Qt.MouseButton.LeftButton)
    ((packet, ip),) = ears.sent
    assert (
        isinstance(packet, artnet.Address)
        and ip == "127.0.0.60"
        and packet.sw_out[0] == 0x81
        and packet.bind_index == 1
    )
    line = next(x for x in small.devices.settings.lines if x.key == "A.universe")
    assert line.mark == "claimed"  # sent, and not read back yet
    hear(small, wire_a=1)
    assert next(x for x in small.devices.settings.lines if x.key == "A.universe").mark == "matches"
    assert small.session.observed.log[-1].what == "pushed A.universe 1"


def test_planning_what_the_box_has_changes_the_feed_and_can_be_undone(small: Window, ears: Ears, qtbot: QtBot) -> None:
    hear(small, wire_a=2)
    small.go(Goto("device", "d"))
    qtbot.mouseClick(button(small, "Plan 2"), Qt.MouseButton.LeftButton)
    assert small.session.rig.feeds["w1"].wire == 2
    small.session.undo_edit()
    assert small.session.rig.feeds["w1"].wire == 1


def test_the_panel_of_a_setting_shows_both_values_and_takes_a_plan(small: Window, ears: Ears, qtbot: QtBot) -> None:
    hear(small, wire_a=2)
    small.go(Goto("port", "d", "A"))
    QApplication.processEvents()
    plan = next(f for f in small.devices.panel.findChildren(Field) if f.accessibleName() == "Plan" and f.isVisible())
    words = " ".join(w.text() for w in small.devices.panel.findChildren(QLabel) if w.isVisible())
    assert "One more than planned. Its own page counts from 1 too" in words and "device's page says 2" in words
    plan.selectAll()
    qtbot.keyClicks(plan, "70000")
    qtbot.keyClick(plan, Qt.Key.Key_Return)
    assert small.session.rig.feeds["w1"].wire == 1 and plan.property("wrong")
    plan.selectAll()
    qtbot.keyClicks(plan, "9")
    qtbot.keyClick(plan, Qt.Key.Key_Return)
    assert small.session.rig.feeds["w1"].wire == 9


def test_identify_lets_the_box_blink_and_stop(small: Window, ears: Ears, qtbot: QtBot) -> None:
    hear(small)
    small.go(Goto("device", "d"))
    qtbot.mouseClick(button(small, "Identify"), Qt.MouseButton.LeftButton)
    qtbot.mouseClick(button(small, "Stop blinking"), Qt.MouseButton.LeftButton)
    assert [p.command for p, _ in ears.sent if isinstance(p, artnet.Address)] == [
        artnet.COMMAND_LOCATE,
        artnet.COMMAND_NORMAL,
    ]


def test_a_push_that_cannot_be_done_says_why(small: Window, ears: Ears) -> None:
    assert not small.network.pushing.push_planned("d", ("A.universe",))
    assert "has answered yet" in small.message.words and small.session.observed.log[-1].what.startswith("push failed")


def test_ports_of_one_page_are_shown_and_set_together(small: Window, ears: Ears, qtbot: QtBot) -> None:
    """Net and Sub-Net are common to a page: port A moves to 0x12/5, and B, planned as 2 of the same, with it."""
    page = (HeardPort(1, 0, True, "artnet", 5), HeardPort(1, 1, True, "artnet", 0x24))
    hear(small, **{"127.0.0.60": Heard("127.0.0.60", "NODE", ports=page, at=time.time())})
    small.session.make_edit(set_feed, "w1", "", protocol="artnet", wire=0x127, to="subscribers")
    said: list[str] = []

    def refuse(dialog: Any) -> None:
        said.append(" ".join(w.text() for w in dialog.findChildren(QLabel)))
        dialog.reject()

    assert not push_with_warning(small.session, small.network, "d", ("A.universe",), small)
    assert "Ports A, B of this device share one Net and Sub-Net" in small.message.words and ears.sent == []
    small.session.make_edit(set_feed, "w2", "", wire=0x122)
    in_dialog(refuse)
    assert not push_with_warning(small.session, small.network, "d", ("A.universe",), small) and ears.sent == []
    assert "port B from Art 0/2/4 to Art 1/2/2 (as planned)" in said[0]
    press_in_dialog("Push all of them")
    assert push_with_warning(small.session, small.network, "d", ("A.universe",), small)
    ((packet, _),) = ears.sent
    assert isinstance(packet, artnet.Address)
    assert (packet.net, packet.sub, packet.sw_out) == (0x81, 0x82, (0x87, 0x82, 0x7F, 0x7F))
    assert set(small.session.observed.written["d"]) == {"A.universe", "B.universe"}


def test_a_report_that_only_counts_on_takes_no_field_away(small: Window, qtbot: QtBot) -> None:
    """Every poll is answered with the next number of the report: that is no news, and the focus stays."""
    hear(small)
    small.go(Goto("device", "d"))
    QApplication.processEvents()
    note = field_of(small.devices.panel, "Note")
    note.setFocus()
    node = small.session.observed.heard["127.0.0.60"]
    for n in range(2, 6):
        hear(small, **{"127.0.0.60": replace(node, report=f"#0001 [{n:04d}] ok", at=time.time())})
        QApplication.processEvents()
    assert field_of(small.devices.panel, "Note") is note and note.hasFocus()
    hear(small, **{"127.0.0.60": replace(node, report="#0001 [0009] socket failed", at=time.time())})
    assert field_of(small.devices.panel, "Note") is not note


def test_planning_a_stranger_takes_what_is_known_of_it(small: Window) -> None:
    heard = Heard(
        "127.0.0.99",
        "FOYER",
        "Halden Lock Weir 2 (simulated)",
        ports=(HeardPort(1, 0, True, "sacn", 1), HeardPort(2, 0, True, "sacn", 2)),
        at=time.time(),
    )
    hear(small, **{heard.ip: heard})
    models = known_models(small.session.rig)
    assert guess_model(models, heard) == "Halden Lock Weir 2"
    dialog = AddDevice(small.session, small, heard)
    assert (dialog.name.text(), dialog.ip.text()) == ("FOYER", "127.0.0.99")
    for field, bad, says in (
        (dialog.ip, "10.0.40", "3 parts"),
        (dialog.ip, "127.0.0.60", "NODE is planned"),
        (dialog.name, "x" * 18, "17 at most"),
    ):
        good = field.text()
        field.setText(bad)
        assert not dialog.go.isEnabled() and says in dialog.saying.text()
        field.setText(good)
    dialog.go.click()
    assert small.session.rig.devices[dialog.made].ip == "127.0.0.99"
    assert [p.device_id for p in pairs_of(small.session)] == ["d", dialog.made]


# ---- the Bench


@pytest.fixture
def bench(small: Window, ears: Ears, engines: list[Recorder]) -> Window:
    small.show_station("Bench")
    QApplication.processEvents()
    return small


def pick(window: Window, qtbot: QtBot, typed: str) -> None:
    field = window.bench.pick
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, typed)
    qtbot.keyClick(field, Qt.Key.Key_Return)
    QApplication.processEvents()


def test_nothing_is_sent_before_arming(bench: Window, qtbot: QtBot, engines: list[Recorder]) -> None:
    pick(bench, qtbot, "101-102")
    bench.bench.bank.hold_fader(2, 1.0)
    assert engines == [] and not bench.network.output.is_armed
    assert bench.bench._sentence.text().startswith("Not armed")
    qtbot.mouseClick(bench.head.arm, Qt.MouseButton.LeftButton)
    (engine,) = engines
    assert [s.wire for s in engine.streams[0]] == [1, 2]
    assert engine.frames[-1][4] == engine.frames[-1][12] == 255
    bench.network.meant.levels.hold_function(["a"], "Dimmer", 0.0)
    bench.network.meant.note_touched()
    qtbot.waitUntil(lambda: engine.frames[-1][4] == 0, timeout=1000)
    qtbot.keyClick(bench, Qt.Key.Key_F9, Qt.KeyboardModifier.ShiftModifier)
    assert not bench.network.output.is_armed and not engine.alive


def test_what_is_armed_and_does_not_leave_is_said_everywhere(
    bench: Window, qtbot: QtBot, engines: list[Recorder], monkeypatch: pytest.MonkeyPatch
) -> None:
    network, tick = bench.network, bench.network._on_tick
    pick(bench, qtbot, "101")
    bench.bench.light_up.click()
    assert network.output.arm_output()
    (engine,) = engines
    tick()
    assert bench.head.arm.words_of_switch() == ("Armed · 2 univ", "lo")
    engine.state = EngineState("sending", {"w2": NOBODY})
    tick()
    assert bench.head.arm.words_of_switch()[0] == "Armed · 1 of 2 leave" and not bench.session.observed.stuck
    engine.state = EngineState("sending", {"w1": "Network is unreachable"})
    tick()
    assert bench.message.words == "1 universe of 2 cannot leave: Network is unreachable."
    assert "1 universe: Network is unreachable" in bench.head.arm.toolTip()
    assert bench.bench._sentence.text() == "What you mean does not leave this computer: Network is unreachable."
    shown = bench.ribbon.path_shown
    assert shown and [j.takes for j in shown.joints if j.mark == "differs"] == ["not sent"]
    assert "OUT-01" in bench.session.report.codes_found
    assert any("sACN 1 does not leave" in w.text() for w in bench.bench.panel.findChildren(QLabel))
    engine.state = EngineState("silent", silent_for=0.5)
    tick()
    assert bench.head.arm.words_of_switch()[0] == "Armed, nothing leaves" and "does not answer" in bench.message.words
    engine.state = EngineState("silent", silent_for=60.0)
    tick()
    assert engine.revived == 1 and "replaced" in bench.message.words
    engine.state = EngineState("sending")
    tick()
    assert bench.head.arm.words_of_switch()[0] == "Armed · 2 univ" and not bench.session.observed.stuck
    engine.revived = MOST_REPLACED
    engine.state = EngineState("silent", silent_for=60.0)
    tick()
    assert network.output.is_armed  # it is said first
    tick()
    assert not network.output.is_armed and "whatever is tried" in bench.message.words and not engine.alive
    assert network.output.arm_output()
    for n in range(MOST_REPLACED):
        engines[-1].state = EngineState("ended", why="it ended by itself")
        tick()
        assert (
            network.output.is_armed and engines[-1].revived == n + 1 and "was ended from outside" in bench.message.words
        )
    engines[-1].state = EngineState("ended")
    tick()
    assert not network.output.is_armed and "ends by itself, whatever is tried" in bench.message.words
    assert network.output.arm_output()
    engines[-1].state = EngineState("failed", why="no such luck")
    tick()
    assert not network.output.is_armed and "could not be opened on 127.0.0.1: no such luck" in bench.message.words
    assert network.output.arm_output()
    monkeypatch.setattr(engines[-1], "revive", Mock(side_effect=OSError(11, "Resource temporarily unavailable")))
    engines[-1].state = EngineState("ended")
    tick()
    assert not network.output.is_armed and "cannot be started" in bench.message.words
    assert bench.head.arm.words_of_switch()[0] == "Not armed"


def test_an_interface_that_goes_away_is_said_and_heard_anew_when_it_is_back(
    bench: Window, engines: list[Recorder], monkeypatch: pytest.MonkeyPatch
) -> None:
    listener = bench.network.hearing.listener
    assert bench.network.output.arm_output()
    monkeypatch.setattr("welvo.app.jobs.hearing.trouble_of", lambda _: "stage0 is gone")
    bench.network._on_tick()
    assert bench.message.words == "Stage0 is gone. Nothing is heard or sent there."
    assert (
        bench.head.arm.words_of_switch()[0] == "Armed · 2 univ"
        or bench.network.output.sending.trouble == "stage0 is gone"
    )
    monkeypatch.setattr("welvo.app.jobs.hearing.trouble_of", lambda _: "")
    bench.network._on_tick()
    assert bench.network.output.sending.trouble == "" and bench.message.words == "lo · 127.0.0.1 is back."
    assert (
        bench.network.output.is_armed and bench.network.hearing.listener is listener
    )  # which joins its groups again by itself


def test_an_interface_that_is_not_there_is_asked_about_and_never_replaced_unsaid(
    make: Callable[[Rig], Window], rig: Rig, monkeypatch: pytest.MonkeyPatch, engines: list[Recorder]
) -> None:
    computer = Computer(interface="192.0.2.77")
    window = make_window(Session(rig), computer, "")
    listened: list[bool] = []
    monkeypatch.setattr(window.network, "_listen_anew", lambda: listened.append(True))
    window.files.may_leave = lambda: True  # type: ignore[method-assign]
    window.show()
    window.network.start_network()
    assert listened == [] and window.head.arm.words_of_switch() == ("Not armed", "192.0.2.77 is gone")
    assert not window.network.output.arm_output() and "is not there" in window.message.words and engines == []
    window.close()
    assert Computer.load_settings().interface == "192.0.2.77"
    window = make_window(Session(rig), computer, "")
    monkeypatch.setattr(window.network, "_listen_anew", lambda: listened.append(True))
    window.show()
    window.network.start_network()
    press_in_dialog("Use it")
    window.output.ask_interface()
    assert (
        window.network.hearing.interface.ip == "127.0.0.1" and listened == [True] and not window.network.hearing.missing
    )
    window.end_everything()


def test_quiet_is_kept_for_the_next_start(small: Window) -> None:
    small.menus.actions["quiet"].trigger()
    assert (
        small.network.hearing.quiet
        and Computer.load_settings().quiet
        and small.message.words.startswith("Quiet: nothing at all")
    )
    small.menus.bring_up_to_date()
    assert "Ask for devices again" in small.menus.offered_commands()
    small.menus.actions["quiet"].trigger()
    assert not small.network.hearing.quiet and not Computer.load_settings().quiet


def test_arming_without_a_feed_is_refused(bench: Window, engines: list[Recorder]) -> None:
    from welvo.rig.edits import remove_feed

    bench.session.make_edit(remove_feed, "w1")
    bench.session.make_edit(remove_feed, "w2")
    assert not bench.network.output.arm_output() and engines == [] and "Nothing to arm" in bench.message.words


def test_other_universes_disarm_and_other_feeds_do_not(bench: Window, engines: list[Recorder]) -> None:
    from welvo.rig.edits import add_universe, set_feed

    assert bench.network.output.arm_output()
    bench.session.make_edit(set_feed, "w1", "x", priority=150)
    assert engines[0].streams[-1][0].priority == 150 and bench.network.output.is_armed
    bench.session.make_edit(add_universe)
    assert not bench.network.output.is_armed and "Disarmed" in bench.message.words


def test_picking_by_numbers_addresses_and_names(bench: Window, qtbot: QtBot) -> None:
    for typed, ids, shown in (
        ("101-102", ("a", "b"), "101–102"),
        ("2.005", ("c",), "201"),
        ("ribbon", ("e",), "ribbon"),
        ("101 201", ("a", "c"), "101, 201"),
    ):
        pick(bench, qtbot, typed)
        assert bench.session.selection.ids == ids and bench.bench.pick.text() == shown
    pick(bench, qtbot, "999")
    assert "There is no fixture 999" in bench.message.words and bench.session.selection.ids == ("a", "c")
    pick(bench, qtbot, "1.400")
    assert bench.bench.raw_place.text() == "1.400"


def test_faders_by_mouse_and_keys(bench: Window, qtbot: QtBot) -> None:
    pick(bench, qtbot, "101")
    bank, levels = bench.bench.bank, bench.network.meant.levels
    column = bank.column_of_fader(2)
    qtbot.mouseClick(bank, Qt.MouseButton.LeftButton, pos=QPoint(int(column.center().x()), 34))
    assert levels.held["a", "Dimmer"] == 1.0
    bank.setFocus()
    for key, value in (
        (Qt.Key.Key_Down, 254),
        (Qt.Key.Key_PageDown, 238),
        (Qt.Key.Key_Home, 0),
        (Qt.Key.Key_Up, 1),
        (Qt.Key.Key_End, 255),
    ):
        qtbot.keyClick(bank, key)
        assert round(255 * levels.held["a", "Dimmer"]) == value
    qtbot.keyClick(bank, Qt.Key.Key_Right)
    qtbot.keyClicks(bank, "128")
    assert round(255 * levels.held["a", "Shutter1"]) == 128
    qtbot.keyClick(bank, Qt.Key.Key_Delete)
    assert ("a", "Shutter1") not in levels.held


def test_buttons_of_the_bench(bench: Window, qtbot: QtBot) -> None:
    pick(bench, qtbot, "201")
    levels = bench.network.meant.levels
    qtbot.mouseClick(button(bench, "Light up"), Qt.MouseButton.LeftButton)
    assert bench.network.meant.meant_frames()["u2"][:5].tolist() == [255] * 5
    qtbot.keyClick(bench, Qt.Key.Key_F9)
    assert (
        levels.blackout
        and bench.network.meant.meant_frames()["u2"][:5].tolist() == [0] * 5
        and bench.bench.blackout.isChecked()
    )
    qtbot.keyClick(bench, Qt.Key.Key_F9)
    qtbot.mouseClick(button(bench, "Zero all"), Qt.MouseButton.LeftButton)
    assert bench.network.meant.meant_frames()["u2"][:5].tolist() == [0] * 5 and levels.held
    qtbot.mouseClick(button(bench, "Release all"), Qt.MouseButton.LeftButton)
    assert not levels.held


def test_raw_slots_are_held_and_bad_ones_refused(bench: Window, qtbot: QtBot) -> None:
    b = bench.bench
    for place, level, says in (
        ("1.513", "5", "no address 513"),
        ("9.001", "5", "no universe 9"),
        ("1.300", "256", "out of reach"),
        ("1.300", "x", "no level"),
    ):
        b.raw_place.setText(place)
        b.raw_level.setText(level)
        b._hold_raw()
        assert says in bench.message.words and not bench.network.meant.levels.raw
    b.raw_place.setText("1.005")
    b.raw_level.setText("50%")
    b._hold_raw()
    assert (
        bench.network.meant.levels.raw == {("u1", 5): 128} and b._raw_words.text() == "101 · dimmer · 128 = 50 % = 0x80"
    )


def test_levels_in_every_writing() -> None:
    assert [read_typed_level(t) for t in ("0", "255", "50 %", "100%", " 7 ")] == [0, 255, 128, 255, 7]
    for bad in ("256", "-1", "1.5", "101%", "", "full"):
        with pytest.raises(Refused):
            read_typed_level(bad)


def test_the_panel_names_the_cause_and_offers_the_fix(bench: Window, ears: Ears, qtbot: QtBot) -> None:
    hear(bench, wire_a=2)
    pick(bench, qtbot, "101")
    bench.network.output.arm_output()
    bench.network.meant.levels.hold_function(["a"], "Dimmer", 1.0)
    bench.network.meant.note_touched()
    bench.bench.panel.refresh()
    QApplication.processEvents()
    qtbot.mouseClick(button(bench, "Push sACN 1"), Qt.MouseButton.LeftButton)
    assert isinstance(ears.sent[0][0], artnet.Address)
    bench.network.output.disarm_output()


def test_settings_of_this_computer_survive_and_bad_ones_are_replaced() -> None:
    from welvo.app.computer import Computer

    Computer(theme="light", recent=["a"]).save_settings()
    found = Computer.load_settings()
    assert (found.theme, found.recent) == ("light", ["a"])
    found.remember_file("b")
    found.remember_file("a")
    assert found.recent == ["a", "b"]
    for bad in (b"{", b'{"theme": 5}', b'{"theme": "neon"}'):
        Computer.settings_file().write_bytes(bad)
        assert Computer.load_settings().theme == "desktop"


def test_a_generic_device_is_planned_by_its_ports_and_limits(bench: Window) -> None:
    dialog = AddDevice(bench.session, bench)
    dialog.model.setCurrentIndex(dialog.model.findData("generic node"))
    dialog.model.activated.emit(dialog.model.currentIndex())
    dialog.ports.setText("6")
    dialog.limit.setText("128")
    assert "NODE 6: Node with DMX ports, 6 ports" in dialog.saying.text() and dialog.go.isEnabled()
    dialog.limit.setText("900")
    assert "out of reach" in dialog.saying.text() and not dialog.go.isEnabled()
    dialog.limit.setText("128")
    dialog.go.click()
    rig = bench.session.rig
    made = rig.devices[dialog.made]
    assert (made.name, len(made.ports), rig.device_models[made.model].slots_per_port) == ("NODE 6", 6, 128)


def test_the_empty_bench_offers_groups_former_selections_and_universes(window: Window, qtbot: QtBot) -> None:
    window.show_station("Bench")
    session = window.session
    session.select_items(["f207", "f203"])
    session.select_items([])
    QApplication.processEvents()
    bench = window.bench

    def offered() -> dict[str, QPushButton]:
        return {b.text(): b for b in bench._nothing.findChildren(QPushButton) if b.isVisibleTo(bench)}

    assert {"Kelp left", "3 Ray basin"} <= set(offered())
    offered()["207, 203"].click()
    assert session.selection.ids == ("f207", "f203") and not bench._nothing.isVisibleTo(bench)
    session.select_items([])
    QApplication.processEvents()
    offered()["Kelp left"].click()
    assert session.selection.ids == tuple(next(g.members for g in session.rig.groups.values() if g.name == "Kelp left"))


def test_arming_borrows_the_routes_of_a_rig_that_another_program_drives(
    make: Callable[[Rig], Window], rig: Rig, qtbot: QtBot
) -> None:
    desk = put_entries(rig, "", senders={"s": Sender(name="Desk", kind="desk")})[0]
    window = make(desk)
    window.output.toggle_arm()
    assert not window.network.output.is_armed and "Other senders feed 2 universes" in window.message.words
    borrowed = window.bench.borrowed
    assert window.station == "Bench" and borrowed.isVisibleTo(window.bench)
    borrowed.setText("1")
    borrowed.commit()
    assert window.network.output.borrowed == {"u1"}
    window.output.toggle_arm()
    try:
        assert window.network.output.is_armed and "1 universe borrowed from Desk" in window.message.words
        assert [s.id for s in window.network.output._sent] == ["w1"]
        borrowed.setText("1, 2")
        borrowed.commit()
        assert window.network.output.borrowed == {"u1"}, "nothing more leaves than was armed"
        borrowed.setText("")
        borrowed.commit()
        assert window.network.output._sent == []
    finally:
        window.network.output.disarm_output()


def test_who_announces_a_page_is_asked_for_settings_unless_it_is_quiet(small: Window, ears: Ears) -> None:
    now = time.time()
    hear(
        small,
        **{
            "127.0.0.98": Heard("127.0.0.98", "PAGE", at=now, page=True),
            "127.0.0.99": Heard("127.0.0.99", "NONE", at=now),
            "10.9.9.9": Heard("10.9.9.9", "ELSEWHERE", at=now, page=True),  # a question would leave through another one
        },
    )
    watch = small.network.hearing._watch
    small.network.hearing._ask_pages()
    assert ("127.0.0.98", USUAL_PORT, "") in watch.asked and watch.strangers == {"127.0.0.98"}
    assert {ip for ip, _, _ in watch.asked} == {"127.0.0.98"}
    small.network.hearing.quiet = True
    small.network.hearing._ask_pages()
    assert watch.asked == ()


LINE = SettingLine(
    "6.brightness",
    "6",
    SettingSpec(key="brightness", label="Brightness", type="decimal", needs=("save", "apply"), help="Dims."),
    plan=0.8,
    reported=None,
    mark="unknown",
)


@pytest.mark.parametrize(
    "more, claimed, states",
    [
        ({"plan": None}, False, "silent silent silent silent silent"),
        ({}, False, "matches unknown unknown unknown unknown"),
        ({}, True, "matches claimed unknown unknown unknown"),
        ({"reported": 0.5, "mark": "differs"}, False, "matches unknown unknown differs unknown"),
        ({"reported": 0.5, "entered": 0.8, "saved": 0.5}, True, "matches matches differs differs unknown"),
        ({"reported": 0.5, "entered": 0.8, "saved": 0.8}, True, "matches matches matches differs unknown"),
        ({"reported": 0.8, "mark": "matches"}, False, "matches matches unknown matches matches"),
        ({"reported": 0.8, "entered": 0.8, "saved": 0.8, "mark": "matches"}, False, " ".join(["matches"] * 5)),
    ],
)
def test_five_states_of_a_setting(more: dict[str, Any], claimed: bool, states: str) -> None:
    assert " ".join(states_of(LINE._replace(**more), claimed)) == states


def test_when_a_setting_came_as_far_as_it_did_and_by_what() -> None:
    at = time.mktime((2026, 3, 1, 14, 5, 6, 0, 0, -1))
    assert say_where_it_came(LINE, None, None, "http") == "Nobody has entered it yet."
    line = LINE._replace(reported=0.8, at=at, result=Result("taken", 0.8, at=at - 2))
    assert say_where_it_came(line, Written(0.8, at - 4), Entered(value=0.8, who="Ann", at=at - 86400), "http") == (
        "Ticked off by Ann, 28.02. 14:05; pushed at 14:05:02, no answer yet; taken and read back at 14:05:04; last "
        "said by the device at 14:05:06 by HTTP."
    )
    assert say_where_it_came(LINE, None, Entered(value=0.5, who="Ann", at=at), "http") == "Nobody has entered it yet."


def test_every_page_of_every_kind_of_device_follows_every_other(window: Window) -> None:
    """The panel may hear of another device before the pages do, and must not ask them about the new one."""
    by_name = {d.name: k for k, d in window.session.rig.devices.items()}
    node, gateway, pixels = by_name["WEIR-2"], by_name["LEAT"], by_name["PENSTOCK"]
    places = [
        (Selection("device", (node,)), "Settings"),
        (Selection("port", (node, "A")), "Lamps"),
        (Selection("port", (gateway, "BUS 1")), "Bus"),
        (Selection("port", (gateway, "BUS 1"), place=3), "Bus"),
        (Selection("device", (gateway,)), "Settings"),
        (Selection("device", (pixels,)), "Settings"),
    ]
    window.show_station("Devices")
    for before in places:
        for after in places:
            for selection, page in (before, after):
                window.session.change_selection(selection)
                window.devices.show_page(page)
                QApplication.processEvents()
            device = window.session.rig.devices[after[0].first_selected]
            assert window.devices._title.text() == device.name
            assert (window.devices.page == "Bus") == window.devices.bus.isVisible()


def test_a_late_program_gives_devices_more_time_and_forgets_it_again() -> None:
    """A device does not flap between heard and silent while its answers wait for us to read them."""
    late = Lateness(0.3)
    assert [late.patience_at(t) for t in (100.0, 100.3, 100.9)] == [SILENT_AFTER] * 3
    assert late.patience_at(107.9) == SILENT_AFTER + 10  # 6.7 seconds late
    assert late.patience_at(108.2) == SILENT_AFTER + 10 and late.patience_at(120.0) == SILENT_AFTER + 15
    at, step = 120.0, 0.3
    while at < 180:
        at += step
        found = late.patience_at(at)
    assert found == SILENT_AFTER


def test_another_rig_takes_nothing_of_the_former_one_along(small: Window) -> None:
    session, device = small.session, next(iter(small.session.rig.devices))
    heard = {"127.0.0.60": Heard("127.0.0.60", "BOX", at=session.now())}
    session.observe(
        heard=heard, log=(Event(1.0, device, "name", "pushed"),), written={device: {}}, results={device: {}},
        stuck={"f": "no route"},
    )  # fmt: skip
    small.network.pushing.planned_before[device] = "127.0.0.60"
    small.session.say("Something of the former rig.")
    small.bench.panel._answers["a"] = ()
    session.replace_rig(small_rig(), None)
    seen = session.observed
    assert not (seen.log or seen.written or seen.results or seen.stuck or seen.lamps or seen.buses)
    assert seen.heard == heard  # who answers on the network is as true as before
    assert not small.network.pushing.planned_before and not small.bench.panel._answers
    assert small.message.label.text() == "" and small.message.said


@pytest.mark.parametrize(("ago", "there"), [(1.0, True), (30.0, False)])
def test_path_list_card_and_findings_say_the_same_of_a_device(small: Window, ago: float, there: bool) -> None:
    session = small.session
    small.show_station("Devices")
    device, d = next((k, d) for k, d in session.rig.devices.items() if d.ip)
    at = session.now() - ago
    session.observe(heard={d.ip: Heard(d.ip, d.name, at=at)}, listening=True)
    session.change_selection(Selection("device", (device,)))
    small.devices.panel.refresh()
    small.ribbon.refresh()
    QApplication.processEvents()
    (pair,) = [p for p in pairs_of(session) if p.device_id == device]
    hop = next(h for h in small.ribbon.path_shown.hops if h.role == "device")  # type: ignore[union-attr]
    titles = [w.accessibleDescription() or w._title for w in small.devices.panel.findChildren(Ways)]
    found = "DEV-02" in session.report.codes_found
    assert ("silent" in hop.fact, found, any("until" in t for t in titles)) == (not there,) * 3
    assert ("heard" in hop.fact) == there and (pair.heard[0] == "silent") != there
