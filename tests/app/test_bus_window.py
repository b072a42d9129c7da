"""Lamp buses in the real window, against a simulated gateway: twenty gear in the wrong order are put right with clicks
and keys counted; searched, addressed anew and put back; groups, scenes and settings planned, written and read back."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from msgspec import UNSET
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QApplication, QLabel, QPushButton
from pytestqt.qtbot import QtBot

from tests.app.conftest import beside_stand_ins, field_of, pointer_moved
from tests.app.test_lamps_window import found, named, press, until
from tests.app.test_manual_page import Hand
from welvo.app.devices.bus_groups import HEAD, group_mark
from welvo.app.session import Selection
from welvo.app.widgets.fields import CommandLine, Field
from welvo.app.widgets.panels import Ways
from welvo.app.window import Window
from welvo.buses.edits import set_bus, set_gear
from welvo.buses.plan import bus_at
from welvo.demo.gallery import make_gallery
from welvo.live.status import read_status
from welvo.matching.gear import say_time
from welvo.matching.plan_back import copy_port, copy_targets
from welvo.protocols.status_page import GearOnBus
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.refs import Goto, PortRef

ORDER = [7, 0, 13, 2, 19, 4, 1, 16, 8, 3, 11, 10, 6, 5, 18, 9, 12, 15, 14, 17]
"""At which short address the gear stands that is planned at 0, 1, 2 …"""
MOST_CLICKS, MOST_KEYS = 7, 60


def beside(tmp_path: Path, gear: str) -> Iterator[Window]:
    state = f'["127.0.0.70"]\nplanned = true\nbus_speed = 200\ngear = {{ "BUS 1" = {{ {gear} }} }}\n'
    with beside_stand_ins(make_gallery(), state, tmp_path) as (window, _):
        window.resize(1280, 800)
        yield window


@pytest.fixture
def mixed(tmp_path: Path, qtbot: QtBot) -> Iterator[Window]:
    yield from beside(tmp_path, ", ".join(f'"{n}" = {{ short = {s} }}' for n, s in enumerate(ORDER)))


@pytest.fixture
def few(tmp_path: Path, qtbot: QtBot) -> Iterator[Window]:
    """Six of the twenty, in another order."""
    gone = [f'"{n}" = {{ gone = true }}' for n in range(6, 20)]
    yield from beside(tmp_path, ", ".join([f'"{n}" = {{ short = {30 - 3 * n} }}' for n in range(6)] + gone))


@pytest.fixture
def faulty(tmp_path: Path, qtbot: QtBot) -> Iterator[Window]:
    """Gear 3 and 4 share an address, the lamp of 11 is dead, 17 is gone, one more has no address."""
    gear = '"4" = { short = 3 }, "11" = { fault = "lamp" }, "17" = { gone = true }, extra = 1'
    yield from beside(tmp_path, gear)


def ref_of(window: Window) -> PortRef:
    return PortRef(next(k for k, d in window.session.rig.devices.items() if d.name == "LEAT"), "BUS 1")


def at_bus(window: Window, qtbot: QtBot) -> Any:
    until(qtbot, lambda: "127.0.0.70" in window.session.observed.heard)
    window.go(Goto("bus", *ref_of(window)))
    return window.devices.bus


def done(window: Window, qtbot: QtBot) -> None:
    until(qtbot, lambda: not window.network.buses.progress)


def gear_now() -> dict[str, GearOnBus]:
    """What stands on the simulated bus, by the name that is planned for it."""
    status = read_status("127.0.0.70", 8421)
    assert status
    port = status.port_labelled("BUS 1")
    assert port and port.gear is not UNSET
    return {g.name: g for g in port.gear}


def test_twenty_gear_in_the_wrong_order_are_put_right(mixed: Window, qtbot: QtBot) -> None:
    """The page of the bus, a search, for each gear that blinks its place, one write. More clicks or keys fail."""
    page = at_bus(mixed, qtbot)
    hand = Hand(mixed, qtbot)
    hand.clicks += 3  # Devices, the gateway, Bus
    names = [g.name for g in bus_at(mixed.session.rig, ref_of(mixed)).gear]
    hand.click(page.search)
    done(mixed, qtbot)
    assert page._counts.text() == "20 answered · 10 set otherwise"  # they have the groups of other places
    hand.click(found(page, QPushButton, "Tell apart"))
    while page._apart:
        done(mixed, qtbot)
        who: list[str] = []

        def blinking(who: list[str] = who) -> bool:
            who[:] = [n for n, g in gear_now().items() if g.short == page._apart[0] and g.blinks]
            return bool(who)

        until(qtbot, blinking)
        blinks = who[0]
        number = str(names.index(blinks))
        field = found(page, CommandLine, "")
        field = next(
            f for f in page.findChildren(CommandLine) if f.accessibleName().startswith("Place") and f.isVisible()
        )
        here = page.work.staged.get(page.bus_shown, {}).get(page._apart[0], page._apart[0])
        if number != str(here):
            qtbot.keyClicks(field, number)
            hand.keys += len(number)
        qtbot.keyClick(field, Qt.Key.Key_Return)
        hand.keys += 1
    assert {n: g.short for n, g in gear_now().items()} == dict(zip(names, ORDER))  # nothing has happened yet
    hand.click(found(page, QPushButton, "Write 1"))
    done(mixed, qtbot)
    assert {n: g.short for n, g in gear_now().items()} == {n: k for k, n in enumerate(names)}
    assert page._counts.text() == "20 answered"
    print(f"{hand.clicks} clicks, {hand.keys} keys")
    assert hand.clicks <= MOST_CLICKS and hand.keys <= MOST_KEYS
    press(page, "Put back")
    done(mixed, qtbot)
    assert {n: g.short for n, g in gear_now().items()} == dict(zip(names, ORDER))


def test_from_a_search_to_a_stored_and_recalled_scene(faulty: Window, qtbot: QtBot) -> None:
    page = at_bus(faulty, qtbot)
    session = faulty.session
    page.search.click()
    done(faulty, qtbot)
    assert page._counts.text().startswith("18 answered · 2 missing · gear without address")
    codes = {f.code for f in session.report.findings if f.code.startswith("BUS")}
    assert codes == {"BUS-06", "BUS-07", "BUS-08", "BUS-09"}
    press(page, "Set apart")
    done(faulty, qtbot)
    press(page, "Address it")
    done(faulty, qtbot)
    assert page._counts.text().startswith("20 answered") and "without address" not in page._counts.text()
    assert len({g.short for g in gear_now().values()}) == 20
    page._pick_place(0)
    panel = faulty.devices.panel
    level = named(qtbot, panel, "Level now")
    level.setText("10 %")
    assert level.commit()
    done(faulty, qtbot)
    assert gear_now()["Arch 1L"].level == 170
    page.show_page("Scenes")
    page._choose_scene("7")
    press(page, "Store present levels")
    done(faulty, qtbot)
    page.work.set_level(page.bus_shown, None, 0)
    done(faulty, qtbot)
    assert all(g.level == 0 for g in gear_now().values())
    press(page, "Recall")
    done(faulty, qtbot)
    assert gear_now()["Arch 1L"].level == 170 and gear_now()["Arch 1R"].level == 254
    press(page, "Plan what is stored")
    assert dict(bus_at(session.rig, page.bus_shown).gear_at(0).scenes)[7] == 170
    page.scene_list.selectRow(0)
    field = named(qtbot, page, "Scene level of gear 0")
    field.setText("12")
    page.refresh()  # as when something new is heard
    assert field.text() == "12"  # what is being typed stays
    field.setText("300")
    assert not field.commit() and "is no level" in field.toolTip()
    field.setText("none")
    assert field.commit() and dict(bus_at(session.rig, page.bus_shown).gear_at(0).scenes)[7] == 255
    rows = page.scene_list.rows
    assert [rows.cell(0, n) for n in (2, 3, 4)] == ["none", "differs", "170 (10 %)"]  # plan, mark, what it has stored
    page.scene_list.sortByColumn(0, Qt.SortOrder.DescendingOrder)
    assert rows.ids[-1] == 0 and len(rows.ids) == 20
    page.scene_list.copy_rows(whole=True)
    assert QGuiApplication.clipboard().text().count("\n") >= 20
    page.show_page("Inputs")
    inputs = page.input_list.rows
    assert len(inputs.ids) > 3 and {inputs.cell(i, 1) for i in inputs.ids} <= {"matches", "warning"}
    assert all(inputs.cell(i, 3) for i in inputs.ids) and "nothing" in {inputs.cell(i, 3) for i in inputs.ids}


def test_initialising_warns_remembers_and_can_be_put_back(
    few: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    page, mixed = at_bus(few, qtbot), few
    assert not page.address.isEnabled()  # it is not known yet what would change
    page.search.click()
    done(mixed, qtbot)
    asked: list[tuple[str, str, list[tuple[str, str]]]] = []
    answer = [""]

    def ask(_: object, title: str, words: str, acts: list[tuple[str, str]], *more: object, **how: object) -> str:
        asked.append((title, words, acts))
        return answer[0]

    monkeypatch.setattr("welvo.app.widgets.dialogs.ask_act", ask)
    before = {n: g.short for n, g in gear_now().items()}
    page.address.click()
    assert asked[0][0] == "Initialise BUS 1" and "All 6 gear on BUS 1 of LEAT" in asked[0][1]
    assert asked[0][2] == [("all", "Address all 6 anew")] and not page.work.progress
    answer[0] = "all"
    page.address.click()
    done(mixed, qtbot)
    after = {n: g.short for n, g in gear_now().items()}
    assert after != before and sorted(after.values()) == list(range(6))
    kept = mixed.session.rig.devices[page.device_id].readdressed[-1]
    assert {now: was for was, now in kept.changes} == {after[n]: before[n] for n in after}
    press(page, "Put back")
    done(mixed, qtbot)
    assert {n: g.short for n, g in gear_now().items()} == before


def test_gear_is_dragged_planned_grouped_and_written(faulty: Window, qtbot: QtBot) -> None:
    page = at_bus(faulty, qtbot)
    session, board = faulty.session, page.board
    page.search.click()
    done(faulty, qtbot)

    def drag(one: int, two: int) -> None:
        a, b = board.cell_of_place(one).center(), board.cell_of_place(two).center()
        qtbot.mousePress(board, Qt.MouseButton.LeftButton, pos=a.toPoint())
        page.board.mouseMoveEvent(pointer_moved(b))
        qtbot.mouseRelease(board, Qt.MouseButton.LeftButton, pos=b.toPoint())

    board.chosen = 5
    board.setFocus()
    qtbot.keyClick(board, Qt.Key.Key_Space)
    assert page.work.blinking == (page.bus_shown, 5) and board.blinking == 5
    page.work._blinks_until = 0.0  # ten seconds later
    until(qtbot, lambda: board.blinking == -1)
    drag(0, 40)
    drag(1, 2)
    assert page.work.staged[page.bus_shown] == {0: 40, 1: 2, 2: 1}
    drag(40, 0)
    assert page.work.staged[page.bus_shown] == {1: 2, 2: 1}
    with pytest.raises(Refused, match="“x” is no place"):
        page.move_to(5, "x")
    with pytest.raises(Refused, match="There is no place 64"):
        page.move_to(5, "64")
    press(page, "Discard")
    assert page.bus_shown not in page.work.staged
    page.quick.setText("40–41 Niche")
    assert page.quick.commit() and bus_at(session.rig, page.bus_shown).gear_at(41).name == "Niche 2"
    page.show_page("Groups")
    matrix = page.groups
    qtbot.waitUntil(lambda: matrix._cell_of_group(5, 3).center().y() > HEAD and matrix.isVisible())
    cell = matrix._cell_of_group(5, 3).center()
    assert cell.y() > HEAD
    qtbot.mouseClick(matrix, Qt.MouseButton.LeftButton, pos=cell.toPoint())
    planned = matrix.places[5]
    assert group_mark(planned, 3) == "differs" and bus_at(session.rig, page.bus_shown).gear_at(planned.at).groups == (
        1,
        3,
    )
    session.make_edit(lambda rig: _fade(rig, page.bus_shown, planned.at))
    assert "BUS-10" in {f.code for f in session.report.findings}
    press(page, "Write 2 settings")
    done(faulty, qtbot)
    assert "2 settings taken and read back" in faulty.message.words
    assert group_mark(matrix.places[5], 3) == "matches"
    with pytest.raises(Refused, match="set as planned"):
        page.work.write_planned(page.bus_shown)
    session.undo_edit()
    before = session.observed.buses
    page.search.click()
    page.work.forget()  # another rig: what ends now is not its
    qtbot.waitUntil(lambda: not page.work.progress)
    qtbot.wait(700)  # what it must not do would come now
    assert session.observed.buses is before and not page.work.progress
    faulty.network.hearing.quiet = True
    with pytest.raises(Refused, match="nothing may be sent"):
        page._search_bus()


def _fade(rig: Any, ref: PortRef, short: int) -> Any:
    from welvo.buses.edits import set_gear

    return set_gear(rig, ref, [short], "", fade_time=9)


def test_several_gear_are_set_at_once(make: Callable[[Rig], Window], qtbot: QtBot) -> None:
    window = make(make_gallery())
    window.resize(1280, 800)
    ref = ref_of(window)
    window.go(Goto("bus", *ref, 2))
    page, session = window.devices.bus, window.session
    board = page.board
    Hand(window, qtbot).click(board, board.cell_of_place(2).center().toPoint())
    keys = Qt.KeyboardModifier
    for place, key in ((5, keys.ShiftModifier), (4, keys.ControlModifier), (9, keys.ControlModifier)):
        qtbot.mouseClick(board, Qt.MouseButton.LeftButton, key, board.cell_of_place(place).center().toPoint())
    assert page.chosen_places == [2, 3, 5, 9] and board.also == {3, 5, 9}
    panel = window.devices.panel
    before = {g.at: g for g in bus_at(session.rig, ref).gear}
    assert not [f for f in panel.findChildren(Field) if f.accessibleName() == "Name" and f.isVisible()]
    fade = field_of(panel, "Fade time")
    fade.setText("8 s")
    fade.commit()
    after = {g.at: g for g in bus_at(session.rig, ref).gear}
    assert {n for n in after if after[n].fade_time != before[n].fade_time} == {2, 3, 5, 9}
    assert len({after[n].fade_time for n in (2, 3, 5, 9)}) == 1 and after[2].fade_time
    panel.refresh()  # as the next word of the network does
    assert field_of(panel, "Fade time").text() == say_time(after[2].fade_time)
    session.undo_edit()
    assert {g.at: g for g in bus_at(session.rig, ref).gear} == before
    # what differs is shown as nothing, and is not made alike by looking at it
    session.make_edit(set_gear, ref, [3], "", least=20)
    session.make_edit(set_gear, ref, [5], "", least=30)
    assert field_of(panel, "Least level").text() == ""
    assert bus_at(session.rig, ref).gear_at(3).least == 20  # type: ignore[union-attr]
    qtbot.mouseClick(board, Qt.MouseButton.LeftButton, keys.NoModifier, board.cell_of_place(7).center().toPoint())
    assert page.chosen_places == [7] and not board.also


def test_a_bus_is_a_bus_in_runs_and_its_settings_are_copied(make: Callable[[Rig], Window], qtbot: QtBot) -> None:
    window = make(make_gallery())
    ref = ref_of(window)
    window.show_station("Runs")
    window.session.change_selection(Selection("port", (ref.device, ref.port)))
    QApplication.processEvents()
    runs = window.runs
    assert runs.port_attached_to == "" and not runs.attach.isEnabled() and not runs.go.isEnabled()
    words = [x.text() for x in runs.panel.findChildren(QLabel) if x.isVisible()]
    table = next(w for w in runs.panel.findChildren(Ways) if w.isVisible() and "Gear" in w.accessibleName())
    assert "Gear 20 planned" in table.accessibleName() and not [w for w in words if "pixel" in w.lower()]
    press(runs.panel, "Show the bus")
    assert window.station == "Devices" and window.devices.bus.isVisible() and window.devices.bus.port == "BUS 1"
    # Copy to…: how the bus follows its universe; its gear stays
    rig = window.session.rig
    slow, _ = set_bus(rig, ref, "", every=9.0, control="white")
    (other,) = (t for t in copy_targets(slow, ref.device, ref.port) if t.label == "BUS 2")
    assert ("may take, in seconds", "2", "9") in other.changes and ("control", "intensity", "white") in other.changes
    copied, _ = copy_port(slow, ref.device, ref.port, [(ref.device, "BUS 2")])
    two = bus_at(copied, ref._replace(port="BUS 2"))
    assert (two.every, two.control) == (9.0, "white")
    assert two.gear == bus_at(rig, ref._replace(port="BUS 2")).gear


def test_a_gateway_follows_its_universe(faulty: Window, qtbot: QtBot) -> None:
    """A level that is armed and held for a slot of the bus comes out at its gear, 255 as 254."""
    page: Callable[[], dict[str, GearOnBus]] = gear_now
    at_bus(faulty, qtbot)
    faulty.show_station("Bench")
    network = faulty.network
    faulty.session.select_items([])
    assert network.output.arm_output()
    network.meant.levels.hold_slot("u31", 1, 255)
    network.meant.levels.hold_slot("u31", 2, 100)
    network.meant.note_touched()
    until(qtbot, lambda: page()["Arch 1L"].level == 254 and page()["Arch 1R"].level == 100)
    network.output.disarm_output()


def test_typed_times_say_the_step_they_become_and_what_is_wrong_stays_in_its_field(
    faulty: Window, qtbot: QtBot
) -> None:
    page = at_bus(faulty, qtbot)
    page._pick_place(3)
    panel, session = faulty.devices.panel, faulty.session

    def field(name: str) -> Field:
        return named(qtbot, panel, name)

    time_ = field("Fade time")
    time_.setFocus()
    time_.selectAll()
    qtbot.keyClicks(time_, "2.1")
    said = [x.text() for x in panel.findChildren(QLabel) if "becomes" in x.text()]
    assert said == ["2.1 becomes 2.0 s, the nearest there is."]
    qtbot.keyClick(time_, Qt.Key.Key_Return)
    assert bus_at(session.rig, page.bus_shown).gear_at(3).fade_time == 4
    for name, wrong, right, key, value in (
        ("Groups", "16", "0, 5", "groups", (0, 5)), ("Least level", "0", "10 %", "least", 170),
        ("At power-on", "300", "last", "power_on", 255), ("Drives", "9999", "201", "fixture", "f201"),
        ("Fade rate", "fast", "45", "fade_rate", 7), ("At bus failure", "x", "off", "failure", 0),
    ):  # fmt: skip
        f = field(name)
        f.setText(wrong)
        assert not f.commit() and f.refusal.text(), name
        f.setText(right)
        assert f.commit(), name
        assert getattr(bus_at(session.rig, page.bus_shown).gear_at(3), key) == value, name
    page._choose_port("BUS 2")
    start = field("First slot")
    start.setText("513")
    assert not start.commit() and "from 1 to 512" in start.refusal.text()
    while session.history.undo_label:
        session.undo_edit()
    assert session.rig == make_gallery()
