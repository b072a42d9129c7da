"""The real window, driven as its user would."""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QComboBox, QLineEdit, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from tests.app.conftest import answer, field_of, hear, press_in_dialog
from tests.checks.test_together import unfed
from tests.conftest import slowed
from welvo.app.commands import PATCH_PAGES
from welvo.app.computer import Computer
from welvo.app.findings import BundleRow, FindingRow
from welvo.app.main import size_on
from welvo.app.patch.add_fixtures import AddFixtures
from welvo.app.patch.laying_form import LayForm, ModeForm, PackForm
from welvo.app.patch.pages import RenumberBlock
from welvo.app.patch.paste import PasteRows
from welvo.app.profiles.compare import CompareModes
from welvo.app.profiles.library import Library
from welvo.app.profiles.range_editor import PasteRanges
from welvo.app.runs.pixel_kinds import PixelKinds
from welvo.app.runs.split import SplitElement
from welvo.app.runs.supplies import Supplies
from welvo.app.session import Selection
from welvo.app.widgets.add_device import AddDevice
from welvo.app.widgets.face_editor import FaceEditor
from welvo.app.widgets.fields import Field, editable_fields
from welvo.app.widgets.fixes import run_fix
from welvo.app.widgets.model_editor import ModelEditor
from welvo.app.widgets.refusals import GONE
from welvo.app.widgets.theme import THEME
from welvo.app.window import Window
from welvo.formats import journal
from welvo.formats.rigfile import load_rig_file, save_rig_file
from welvo.rig.document import Rig, put_entries
from welvo.rig.edits import add_feed, rename_rig
from welvo.rig.patched import Element
from welvo.rig.refs import SegmentRef
from welvo.runs.wish import attach_wish

SELECTIONS = [
    Selection("item", ("f207",)), Selection("item", ("f701",)), Selection("item", ("e1",)), Selection("item", ("e3",)),
    Selection("item", ("f101", "f102")), Selection("universe", ("u3",)), Selection("feed", ("w4",)),
    Selection("slot", (), slot=("u3", 500)), Selection("device", ("d1",)),
    Selection("port", ("d1", "A"), setting="A.universe"), Selection("port", ("d1", "A"), setting="A.merge"),
    Selection("device", ("d1",), setting="name"), Selection("profile", ("p5",)), Selection("item", ("f503",)),
    Selection("item", ("f601",)), Selection("sender", ("s2",)), Selection("use", ("y1",)), Selection(),
]  # fmt: skip


def everywhere(window: Window) -> list[QWidget]:
    """All editors that any station, panel, drawer or dialog shows for any selection."""
    found: list[QWidget] = []
    for name in window.stations.all_stations():
        window.show_station(name)
        for s in SELECTIONS:
            window.session.change_selection(s)
            QApplication.processEvents()
            found += editable_fields(window)
    window.show_station("Runs")
    pen = next(d for d, v in window.session.rig.devices.items() if v.name == "PENSTOCK")
    window.session.make_edit(attach_wish, pen, "8", "lamps 3: dimmer red =9")
    window.session.make_edit(attach_wish, pen, "8", "null 3")
    for device, port, n in (
        (pen, "", -1),
        (pen, "1", -1),
        (pen, "1", 1),
        (pen, "6", 1),
        (pen, "6", 2),
        (pen, "8", 0),
        (pen, "8", 1),
        ("d1", "A", 0),
        ("d1", "A", -1),
    ):
        window.session.change_selection(
            Selection("segment" if port else "device", (device,), on=SegmentRef(device, port, n) if port else None)
        )
        QApplication.processEvents()
        found += editable_fields(window)
    window.session.make_edit(add_feed, "u1", "ddp")
    window.session.make_edit(add_feed, "u1", "serial")
    window.show_station("Patch")
    for page in PATCH_PAGES:
        window.patch.show_page(page)
        window.session.change_selection(Selection("universe", ("u1",)))
        QApplication.processEvents()
        found += editable_fields(window)
    window.patch.show_page("Tapes")
    panel = window.patch.panel
    for form in (
        LayForm(window.session, ["f101", "f701"]),
        PackForm(window.session, "u3"),
        ModeForm(window.session, ["f201"], "p2", "m2"),
    ):
        panel.open_form(form)
        QApplication.processEvents()
        found += editable_fields(window)
    panel.close_form()
    mode = window.session.rig.profiles["p5"].modes["m1"]
    for dialog in (
        AddFixtures(window.session, window), AddDevice(window.session, window), Library(window.session, window, "p5"),
        FaceEditor(mode, None, window), CompareModes(window.session.rig.profiles["p2"], "m1", window),
        PasteRanges(mode.channels[0], window), PasteRows(window.session, "", window),
        RenumberBlock(window.session, window), SplitElement(window.session, window, pen),
        Supplies(window.session, window), PixelKinds(window.session, window), ModelEditor(window.session, window),
    ):  # fmt: skip
        found += editable_fields(dialog)
    return found


def test_every_editor_says_what_it_does_and_what_it_risks(window: Window) -> None:
    found = everywhere(window)
    assert len(found) > 100
    for w in found:
        words = w.whatsThis()
        assert len(words) > 25 and words.rstrip().endswith((".", "F")), (type(w).__name__, words, w.objectName())
        assert w.toolTip()


def test_every_button_is_named_and_every_edit_field_has_a_name(window: Window) -> None:
    for name in window.stations.all_stations():
        window.show_station(name)
        for s in SELECTIONS:
            window.session.change_selection(s)
            for b in window.findChildren(QPushButton):
                assert b.text(), b
                assert b.text() not in ("OK", "Apply", "Take")


@pytest.mark.parametrize("how", ["enter", "station", "save", "arm", "undo", "focus"])
def test_a_value_being_typed_is_committed(small: Window, qtbot: QtBot, tmp_path: Path, how: str, engines: Any) -> None:
    small.session.select_items(["a"])
    small.show_station("Patch")
    QApplication.processEvents()
    name = next(f for f in small.patch.panel.findChildren(Field) if f.accessibleName() == "Name" and f.isVisible())
    name.setFocus()
    name.selectAll()
    qtbot.keyClicks(name, "Over the door")
    assert name.pending and name.property("pending")
    if how == "enter":
        qtbot.keyClick(name, Qt.Key.Key_Return)
    elif how == "station":
        small.show_station("Bench")
    elif how == "save":
        assert small.session.save_file(tmp_path / "x.welvo")
        assert load_rig_file(tmp_path / "x.welvo").fixtures["a"].name == "Over the door"
    elif how == "arm":
        assert small.network.output.arm_output()
    elif how == "undo":
        small.session.undo_edit()  # the value is taken over first, and then undone: redo has it
        small.session.redo_edit()
    else:
        small.jump.setFocus()
    assert small.session.rig.fixtures["a"].name == "Over the door"


def test_undo_reaches_the_rig_through_a_field_that_has_nothing_pending(small: Window, qtbot: QtBot) -> None:
    small.session.select_items(["a"])
    small.show_station("Patch")
    field = small.patch.panel.address
    assert field
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, "1.100")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert small.session.rig.fixtures["a"].at[0].address == 100
    qtbot.keyClick(field, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert small.session.rig.fixtures["a"].at[0].address == 1 and field.text() == "1.001"
    qtbot.keyClick(field, Qt.Key.Key_Y, Qt.KeyboardModifier.ControlModifier)
    assert small.session.rig.fixtures["a"].at[0].address == 100


@pytest.mark.parametrize("typed", ["1.513", "0.5", "70000.1", "nonsense", "3.001", "1.510"])
def test_a_wrong_value_stays_marked_and_the_rig_is_untouched(small: Window, qtbot: QtBot, typed: str) -> None:
    before = small.session.rig
    small.session.select_items(["a"])
    field = small.patch.panel.address
    assert field
    field.setFocus()
    field.selectAll()
    qtbot.keyClicks(field, typed)
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert small.session.rig is before and field.property("wrong") and field.text() == typed
    assert field.refusal.isVisible() and field.toolTip() == field.refusal.text() != ""
    qtbot.keyClick(field, Qt.Key.Key_Escape)
    assert field.text() == "1.001" and not field.property("wrong")


def test_the_jump_box_goes_where_it_is_told(window: Window, qtbot: QtBot) -> None:
    def jump(typed: str) -> None:
        window.focusing.focus_jump_box()
        window.jump.clear()
        qtbot.keyClicks(window.jump, typed)
        qtbot.keyClick(window.jump, Qt.Key.Key_Return)

    jump("207")
    assert window.session.selection.ids == ("f207",) and window.station == "Patch"
    jump("3.150")
    assert window.session.selection.slot == ("u3", 150) and window.session.selection.first_selected == "f207"
    jump("ribbon/27")
    assert (window.session.selection.first_selected, window.session.selection.pixel) == ("e1", 27)
    jump("127.0.0.31")
    assert window.station == "Devices" and window.session.selection.ids == ("d2",)
    jump("Undertow")
    jump("lift lobby")
    assert window.session.selection == Selection("universe", ("u12",))
    jump("Previous finding")
    assert window.drawer.isVisible()
    window.focusing.focus_jump_box()
    qtbot.keyClicks(window.jump, "zzz")
    assert window.jump._list.item(0).text().startswith("Nothing called “zzz”")
    window.jump._list.hide()


@pytest.mark.parametrize(
    ("typed", "said"),
    [
        ("207", "207  Eddy, ray pool left  ·  fixture  ·  3.145"),
        ("207:5", "207:5  ·  slot of 207  ·  3.149"),
        ("run 1169", "run 1169  ·  slot of 207  ·  3.145"),
        ("WEIR-2 run 145", "WEIR-2 run 145  ·  slot of 207  ·  3.145"),
        ("PENSTOCK 6 px 31", "PENSTOCK 6 px 31  ·  slot of 531  ·  206.091"),
        ("3.500", "3.500  ·  nothing patched there  ·  3.500"),
        ("weir-2", "WEIR-2  ·  device  ·  127.0.0.21"),
        ("universe 3", "Ray basin  ·  universe 3"),
        ("sacn 3", "sACN 3  ·  feed  ·  of universe 3"),
        ("art 0/0/4", "Art 0/0/4  ·  feed  ·  of universe 4"),
    ],
)
def test_the_jump_box_says_what_a_hit_is_and_where(window: Window, qtbot: QtBot, typed: str, said: str) -> None:
    qtbot.keyClicks(window.jump, typed)
    assert window.jump._list.item(0).text() == said
    qtbot.keyClick(window.jump, Qt.Key.Key_Return)
    where = window.session.selection.slot
    if "slot of" in said or "nothing" in said:
        assert where and f"{window.session.rig.universes[where[0]].number}.{where[1]:03d}" == said.split()[-1]


def test_of_many_hits_the_first_are_shown_and_the_rest_counted(window: Window, qtbot: QtBot) -> None:
    qtbot.keyClicks(window.jump, "1")
    shown = [window.jump._list.item(n).text() for n in range(window.jump._list.count())]
    numbers = sorted(f.number for f in window.session.rig.fixtures.values() if str(f.number).startswith("1"))
    assert len(numbers) > 9 and [int(t.split()[0]) for t in shown[:9]] == numbers[:9]
    rest = re.fullmatch(r"and (\d+) more: type on to find them", shown[9])
    assert rest and int(rest[1]) >= len(numbers) - 9
    for _ in range(12):
        qtbot.keyClick(window.jump, Qt.Key.Key_Down)
    assert window.jump._list.currentRow() == 8  # what is only counted cannot be chosen
    window.jump._list.hide()


def test_keys_go_to_stations_and_regions(window: Window, qtbot: QtBot) -> None:
    for key, name in (("1", "Profiles"), ("4", "Devices"), ("5", "Bench"), ("2", "Patch")):
        qtbot.keyClick(window, key, Qt.KeyboardModifier.AltModifier)
        assert window.station == name
    window.jump.setFocus()
    seen = []
    for _ in range(5):
        qtbot.keyClick(QApplication.focusWidget(), Qt.Key.Key_F6)
        focus = QApplication.focusWidget()
        seen.append(
            next(
                n
                for n, r in (
                    ("rail", window.rail),
                    ("station", window.stations.stack),
                    ("panel", window.stations.panels),
                    ("path", window.ribbon),
                    ("head", window.head),
                )
                if focus is r or r.isAncestorOf(focus)
            )
        )
    assert seen == ["rail", "station", "panel", "path", "head"]


def test_selection_steps_back_and_forth(window: Window) -> None:
    for key in ("f101", "f102", "f103"):
        window.session.select_items([key])
    window.session.step_selection(True)
    assert window.session.selection.first_selected == "f102"
    window.session.step_selection(False)
    assert window.session.selection.first_selected == "f103"


def test_findings_open_explain_and_fix(window: Window, qtbot: QtBot) -> None:
    qtbot.keyClick(window, "0", Qt.KeyboardModifier.AltModifier)
    assert window.drawer.isVisible()
    clash = next(f for f in window.session.report.findings if f.code == "PATCH-01")
    window.drawer.open_finding(clash)
    assert window.session.selection.first_selected == "f304"
    fix = next(b for b in window.drawer.findChildren(QPushButton) if b.text() == "Move 304 to 3.348 (next free)")
    qtbot.mouseClick(fix, Qt.MouseButton.LeftButton)
    assert "PATCH-01" not in window.session.report.codes_found
    window.session.undo_edit()
    assert "PATCH-01" in window.session.report.codes_found
    window.drawer.filter.setText("nothing like it")
    assert window.drawer.listed_findings() == []
    window.drawer.filter.setText("DEV-")
    assert {f.code for f in window.drawer.listed_findings()} == {"DEV-01"}
    window.drawer.filter.clear()
    first = window.drawer.listed_findings()[0]
    window.drawer.open_subject = None
    qtbot.keyClick(window, Qt.Key.Key_F8)
    assert window.drawer.open_subject == (first.code, first.subject)
    qtbot.keyClick(window.drawer, Qt.Key.Key_Escape)
    assert not window.drawer.isVisible()


def test_a_waived_finding_is_listed_apart_and_can_be_woken(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    from welvo.app.findings import FindingRow, OpenedFinding

    window.toggle_findings()
    note = next(f for f in window.session.report.findings if f.code == "FEED-03")
    window.drawer.open_finding(note)
    answer("kept for the band")
    window.drawer.findChild(OpenedFinding)._waive_finding(window.session)
    assert "FEED-03" not in window.session.report.codes_found
    window.drawer._set_by("waived")
    QApplication.processEvents()
    row = next(r for r in window.drawer.findChildren(FindingRow) if r.finding.code == "FEED-03" and r.isVisible())
    assert "kept for the band" in row.toolTip()
    row.clicked.emit()
    assert "FEED-03" in window.session.report.codes_found


def test_a_rig_that_cannot_be_opened_changes_nothing(small: Window, tmp_path: Path) -> None:
    before = small.session.rig
    (tmp_path / "bad.welvo").write_bytes(b"PK\x03\x04 rubbish")
    assert not small.files.open(tmp_path / "bad.welvo")
    assert small.session.rig is before and "damaged" in small.message.words
    good = tmp_path / "good.welvo"
    save_rig_file(Rig(name="Other"), good)
    assert small.files.open(good) and small.session.rig.name == "Other" and small.session.path == good
    assert small.computer.recent[0] == str(good) and small.station == "Profiles"


def test_saving_asks_for_a_name_once_and_the_ring_goes_out(
    small: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from welvo.rig.edits import rename_rig

    monkeypatch.setattr("welvo.app.rig_files.FileDialog.ask_to_save", lambda *a: str(tmp_path / "hall"))
    small.session.make_edit(rename_rig, "Hall")
    assert small.session.has_unsaved_edits and "not saved" in small.windowTitle()
    assert (
        small.files.save()
        and load_rig_file(tmp_path / "hall.welvo").name == "Hall"
        and not small.session.has_unsaved_edits
    )
    small.session.make_edit(rename_rig, "Hall 2")
    assert small.files.save() and load_rig_file(tmp_path / "hall.welvo").name == "Hall 2"


@pytest.mark.parametrize(("words", "stays"), [("Save them", False), ("Discard them", False), ("Stay here", True)])
def test_leaving_with_unsaved_edits_asks(small: Window, tmp_path: Path, words: str, stays: bool) -> None:
    from welvo.rig.edits import rename_rig

    del small.files.may_leave  # the fixture's short cut
    small.session.path = tmp_path / "a.welvo"
    small.session.make_edit(rename_rig, "Changed")

    press_in_dialog(words)
    assert small.files.may_leave() is not stays
    assert (tmp_path / "a.welvo").exists() is (words == "Save them")
    small.files.may_leave = lambda: True  # type: ignore[method-assign]


def test_edits_are_journalled_within_a_second_and_given_up_on_save(small: Window, qtbot: QtBot, tmp_path: Path) -> None:
    from welvo.rig.edits import rename_rig

    file = small.keeper.journal.file
    begun = time.monotonic()
    small.session.make_edit(rename_rig, "Kept")
    qtbot.waitUntil(file.exists, timeout=2000)
    assert time.monotonic() - begun < slowed(1.0)
    small.session.save_file(tmp_path / "a.welvo")
    assert small.keeper.wait_until_settled() and not file.exists()


def test_a_recovered_rig_comes_back_unsaved(small: Window, rig: Rig, tmp_path: Path) -> None:
    from msgspec.structs import replace

    file = tmp_path / "journal-1.json"
    file.write_text("{}")
    small.lost.recover_rig(journal.Recovered(file, "Lost", tmp_path / "lost.welvo", 0.0, replace(rig, name="Lost")))
    assert small.session.rig.name == "Lost" and small.session.has_unsaved_edits and not file.exists()


def test_both_themes_and_larger_text_draw_every_station(window: Window) -> None:
    for theme, step in (("light", 0), ("light", 2), ("dark", 2)):
        window.looks.choose_look(theme, step)
        for name in window.stations.all_stations():
            window.show_station(name)
            assert not window.grab().isNull()
    window.looks.choose_look("dark", 0)
    assert (THEME.name, THEME.step) == ("dark", 0)


def test_larger_text_fits_at_1280_and_leaves_the_menus(window: Window) -> None:
    window.resize(1280, 800)
    window.looks.choose_look("dark", 2)
    QApplication.processEvents()
    picture = window.menus.bar.grab().toImage()
    shades = {picture.pixel(x, y) for x in range(picture.width()) for y in range(picture.height())}
    assert len(shades) > 100  # words, not an empty bar
    for name, station in window.stations.all_stations().items():
        window.show_station(name)
        QApplication.processEvents()
        assert station.minimumSizeHint().width() <= 1280 - 72 - 300, name


def test_at_1280_by_740_every_station_fits(window: Window) -> None:
    window.resize(1280, 740)
    QApplication.processEvents()
    assert (window.width(), window.height()) == (1280, 740)
    for name, station in window.stations.all_stations().items():
        window.show_station(name)
        QApplication.processEvents()
        assert station.minimumSizeHint().height() <= 740 - 44 - 84, name
        assert station.minimumSizeHint().width() <= 1280 - 72 - 300, name
        assert window.ribbon.geometry().bottom() < 740


def test_no_label_or_button_is_cut_off_at_1280(window: Window) -> None:
    hear(window)
    window.resize(1280, 800)
    for name in window.stations.all_stations():
        window.show_station(name)
        for s in SELECTIONS:
            window.session.change_selection(s)
            QApplication.processEvents()
            for w in window.stations.all_stations()[name].findChildren(QPushButton):
                if w.isVisible():
                    need = w.fontMetrics().horizontalAdvance(w.text())
                    assert w.width() >= need, (name, w.text(), w.width(), need)


def test_help_on_what_has_focus_swallows_no_key(window: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> None:
    shown: list[str] = []
    monkeypatch.setattr("welvo.app.widgets.dialogs.show_text", lambda parent, title, words: shown.append(title))
    window.activateWindow()
    window.session.select_items(["f207"])
    QApplication.processEvents()
    address, balloon = window.patch.panel.address, window.help.balloon
    assert address
    address.setFocus()
    address.selectAll()
    qtbot.keyClick(address, Qt.Key.Key_F1)
    assert balloon.isVisible() and "Where it starts" in balloon.text() and address.hasFocus()
    qtbot.keyClicks(address, "3.2")
    assert not balloon.isVisible() and address.text() == "3.2"
    address.revert()
    window.rail.setFocus()
    window.help.help_on_focused()
    assert shown == ["Keys"]


def test_undo_is_the_rigs_wherever_nothing_of_its_own_was_typed(window: Window, qtbot: QtBot) -> None:
    window.activateWindow()
    before = window.session.rig

    def undo() -> None:
        at = QApplication.focusWidget()
        assert at is not None
        qtbot.keyClick(at, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)

    window.session.make_edit(rename_rig, "Other")
    window.focusing.focus_jump_box()
    qtbot.keyClicks(window.jump, "207")
    undo()
    assert window.session.rig.name == "Other" and window.jump.text() != "207"  # what is being typed is undone first
    window.jump.clear()
    undo()  # the box stands empty again, though it could bring back what was typed
    assert window.session.rig == before and window.jump.text() == ""
    window.session.make_edit(rename_rig, "Other")
    window.session.select_items(["f207"])
    QApplication.processEvents()
    name = field_of(window.patch.panel, "Name")
    name.setFocus()
    name.selectAll()
    qtbot.keyClicks(name, "Ray")
    qtbot.keyClick(name, Qt.Key.Key_Return)
    assert window.session.rig.fixtures["f207"].name == "Ray"
    undo()
    assert window.session.rig.fixtures["f207"].name == before.fixtures["f207"].name
    undo()
    assert window.session.rig == before
    undo()  # nothing is left: the field does not bring back what was taken over long ago
    assert field_of(window.patch.panel, "Name").text() == before.fixtures["f207"].name


@pytest.mark.parametrize(
    ("typed", "wanted"),
    [
        ("PENSTOCK 1", ("Devices", ("PENSTOCK", "1"), -1)), ("penstock port 1", ("Devices", ("PENSTOCK", "1"), -1)),
        ("bus 1 gear 3", ("Devices", ("LEAT", "BUS 1"), 3)), ("gear Arch 2L", ("Devices", ("LEAT", "BUS 1"), 2)),
        ("leat bus 2", ("Devices", ("LEAT", "BUS 2"), -1)),
    ],
)  # fmt: skip
def test_the_jump_box_knows_ports_and_gear_and_gives_the_keys_away(
    window: Window, qtbot: QtBot, typed: str, wanted: tuple[str, tuple[str, str], int]
) -> None:
    window.activateWindow()
    window.focusing.focus_jump_box()
    qtbot.keyClicks(window.jump, typed)
    qtbot.keyClick(window.jump, Qt.Key.Key_Return)
    at, (name, port), place = window.session.selection, wanted[1], wanted[2]
    assert window.station == wanted[0]
    assert (window.session.rig.devices[at.ids[0]].name, at.ids[1], at.place) == (name, port, place)
    assert QApplication.focusWidget() is not window.jump and window.jump.text() == ""


def test_a_place_that_was_jumped_to_has_the_keys(window: Window, qtbot: QtBot) -> None:
    window.activateWindow()
    for typed in ("3.150", "ribbon/27", "207"):
        window.focusing.focus_jump_box()
        qtbot.keyClicks(window.jump, typed)
        qtbot.keyClick(window.jump, Qt.Key.Key_Return)
        assert QApplication.focusWidget() is window.patch.tapes, typed


def test_an_empty_rig_says_what_to_do_first(make: Callable[[Rig], Window], qtbot: QtBot) -> None:
    window = make(Rig())
    assert window.station == "Profiles" and window.profiles.first.isVisible()
    qtbot.keyClicks(window.profiles.first, "pan 16, tilt 16, dimmer, 7 x (amber white)")
    qtbot.keyClick(window.profiles.first, Qt.Key.Key_Return)
    (profile,) = window.session.rig.profiles.values()
    assert next(iter(profile.modes.values())).slots_needed == 19
    window.show_station("Patch")
    assert window.patch.wish.isVisible()
    qtbot.keyClicks(window.patch.wish, "4 x New profile at 1.001 +20")
    qtbot.keyClick(window.patch.wish, Qt.Key.Key_Return)
    assert [f.at[0].address for f in window.session.rig.fixtures.values()] == [1, 21, 41, 61]
    assert window.session.rig.universes and window.patch.tapes.isVisible()


def test_combos_are_never_changed_by_a_wheel(window: Window) -> None:
    assert all(type(w).__name__ == "Choice" for w in window.findChildren(QComboBox))
    assert all(isinstance(w, QLineEdit) for w in window.findChildren(Field))


def test_what_was_done_is_said_with_a_way_back_until_something_else_is_done(window: Window, qtbot: QtBot) -> None:
    window.activateWindow()
    before = window.session.rig
    finding = next(f for f in window.session.report.findings if f.code == "PATCH-01")
    run_fix(window.session, window.network, finding.possible_fixes[0])
    message = window.message
    assert (
        message.isVisible()
        and message.words == f"Done: {finding.possible_fixes[0].label}."
        and message.back.isVisible()
    )
    qtbot.mouseClick(message.back, Qt.MouseButton.LeftButton)
    assert window.session.rig == before and message.words.startswith("Undone")
    run_fix(window.session, window.network, finding.possible_fixes[0])
    window.session.make_edit(rename_rig, "Other")
    assert not message.back.isVisible()  # it would take back the new name


def test_the_focus_comes_home_to_the_station(window: Window, qtbot: QtBot) -> None:
    window.activateWindow()
    for name, home in (("Runs", "riser"), ("Devices", "pairs"), ("Profiles", "line"), ("Patch", "tapes")):
        window.show_station(name)
        widget = getattr(window.stations.stack.currentWidget(), home)
        qtbot.waitUntil(widget.hasFocus, timeout=1000)
    window.jump.setFocus()
    window.session.go_to("304")
    QApplication.processEvents()
    fix = next(
        b for b in window.patch.panel.findChildren(QPushButton) if b.text().startswith("Move 304") and b.isVisible()
    )
    fix.setFocus()
    qtbot.mouseClick(fix, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: QApplication.focusWidget() not in (None, window.jump), timeout=1000)
    assert window.patch.isAncestorOf(QApplication.focusWidget()) or window.patch.panel.isAncestorOf(
        QApplication.focusWidget()
    )


def test_many_findings_of_one_kind_are_one_line_with_one_fix(make: Callable[[Rig], Window], qtbot: QtBot) -> None:
    window = make(unfed(30))
    window.toggle_findings()
    drawer = window.drawer

    def rows() -> list[FindingRow]:
        QApplication.processEvents()
        return [r for r in drawer.findChildren(FindingRow) if r.finding.code == "FEED-02" and r.isVisible()]

    (one,) = rows()
    assert isinstance(one, BundleRow) and one.finding.where == "30 of them" and len(drawer.listed_findings()) >= 30
    assert not [b for b in drawer.findChildren(QPushButton) if b.text().startswith("Feed 30")]
    qtbot.mouseClick(one, Qt.MouseButton.LeftButton)
    bundle, *members = rows()
    assert [m.finding.where for m in members] == [f"universe {n}" for n in range(1, 31)]
    qtbot.mouseClick(bundle, Qt.MouseButton.LeftButton)
    assert len(rows()) == 1
    # stepping to one of them opens what it stands in
    drawer.open_finding(next(f for f in drawer.listed_findings() if f.where == "universe 10"))
    assert len(rows()) == 30  # the line, and all but the one that is opened
    before = window.session.rig
    fix = next(
        b for b in drawer.findChildren(QPushButton) if b.text().startswith("Feed 30 universes") and b.isVisible()
    )
    primary = [b for b in drawer.findChildren(QPushButton) if b.property("primary") and b.isVisible()]
    assert primary == [fix]
    qtbot.mouseClick(fix, Qt.MouseButton.LeftButton)
    assert not rows() and sorted(f.wire for f in window.session.rig.feeds.values()) == list(range(1, 31))
    window.session.undo_edit()
    assert window.session.rig == before


def test_findings_are_walked_and_put_right_by_keys(window: Window, qtbot: QtBot) -> None:
    window.activateWindow()
    qtbot.keyClick(window, Qt.Key.Key_F8)
    fixable = next(
        n for n, f in enumerate(window.drawer.listed_findings()) if f.possible_fixes and f.possible_fixes[0].edit
    )
    for _ in range(fixable):
        qtbot.keyClick(QApplication.focusWidget(), Qt.Key.Key_F8)
    finding = window.drawer.listed_findings()[fixable]
    focus = QApplication.focusWidget()
    assert isinstance(focus, QPushButton) and focus.text() == finding.possible_fixes[0].label
    before = window.session.rig
    qtbot.keyClick(focus, Qt.Key.Key_Return)
    assert window.session.rig != before and finding not in window.session.report.findings
    QApplication.processEvents()
    window.drawer.filter.setFocus()
    qtbot.keyClick(window.drawer.filter, Qt.Key.Key_Down)
    first = QApplication.focusWidget()
    assert isinstance(first, FindingRow) and first.finding
    qtbot.keyClick(first, Qt.Key.Key_Down)
    second = QApplication.focusWidget()
    assert isinstance(second, FindingRow) and second is not first
    wanted = second.finding
    qtbot.keyClick(second, Qt.Key.Key_Return)
    assert window.drawer.open_subject == (wanted.code, wanted.subject)
    assert isinstance(QApplication.focusWidget(), QPushButton)


def test_the_window_fits_the_screen_it_opens_on() -> None:
    assert size_on(1280, 800, 1280, 800) == (1276, 756)  # a title bar has to fit as well
    assert size_on(2560, 1400, 1366, 768) == (1362, 724)
    assert size_on(1300, 700, 3840, 2160) == (1300, 700)
    assert size_on(1300, 700, 800, 500) == (960, 540)  # what it needs


def test_splits_are_kept_for_each_station(window: Window, make: Callable[[Rig], Window]) -> None:
    window.show_station("Runs")
    window.runs.splitter.setSizes([150, 300, 170])
    window.patch.splitter.setSizes([330, 240])
    QApplication.processEvents()
    kept = window.runs.splitter.sizes(), window.patch.splitter.sizes()
    window.close()
    again = make(window.session.rig)
    again.computer.splits = Computer.load_settings().splits
    other = Window(again.session, again.network, again.computer, None)
    other.resize(window.size())
    other.show()
    other.show_station("Runs")
    QApplication.processEvents()
    assert (other.runs.splitter.sizes(), other.patch.splitter.sizes()) == kept
    other.files.may_leave = lambda: True  # type: ignore[method-assign]
    other.close()
    other.deleteLater()


def test_files_that_are_dropped_open_or_say_what_they_are_not(window: Window, tmp_path: Path) -> None:
    rig = window.session.rig
    window.files.take_dropped([tmp_path / "photo.jpg"])
    assert "photo.jpg is no rig (.welvo, .json), no profile" in window.message.words
    chart = tmp_path / "Moss 4.txt"
    chart.write_text("dimmer, red, green, blue")
    window.files.take_dropped([chart])
    assert len(window.session.rig.profiles) == len(rig.profiles) + 1 and window.message.back.isVisible()
    file = tmp_path / "hall.welvo"
    save_rig_file(rename_rig(rig, "Hall")[0], file)
    window.files.take_dropped([file, chart])
    assert window.session.path is None and "Drop one rig" in window.message.words
    window.files.take_dropped([file])
    assert window.session.path == file and window.windowTitle() == "Hall · hall.welvo · Welvo"


def test_an_empty_rig_offers_where_to_begin_until_there_is_something(
    make: Callable[[Rig], Window], tmp_path: Path
) -> None:
    known = tmp_path / "Reef hall.welvo"
    save_rig_file(Rig(name="Reef hall"), known)
    window = make(Rig())
    QApplication.processEvents()
    assert window.focusWidget() is window.profiles.first, "what is typed first is a channel table"
    window.computer.remember_file(known)
    window.session.replace_rig(Rig(), None)
    for page in (window.profiles, window.patch):
        offered = {b.text(): b for b in page.start.findChildren(QPushButton) if not b.property(GONE)}
        assert page.start.isVisibleTo(page) and {"Open a rig…", "Look at the demo", "Reef hall.welvo"} <= set(offered)
    opened: list[bool] = []
    window.open_demo = lambda: opened.append(True)
    offered["Look at the demo"].click()
    assert opened == [True]
    window.profiles.first.setText("red green blue")
    window.profiles.first.commit()
    assert not window.profiles.start.isVisibleTo(window.profiles) and window.patch.start.isHidden()
    window.session.undo_edit()
    offered["Reef hall.welvo"].click()
    assert window.session.path == known and window.profiles.start.isHidden(), "an opened rig has begun already"


def test_the_name_of_what_was_just_made_is_one_chord_away(window: Window, qtbot: QtBot) -> None:
    window.show_station("Profiles")
    window.profiles.new_profile("red green blue")
    QApplication.processEvents()
    window.menus.actions["name"].trigger()
    field = window.focusWidget()
    assert isinstance(field, Field) and field.accessibleName() == "Name" and field.hasSelectedText()
    qtbot.keyClicks(field, "Lagoon par")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert "Lagoon par" in {p.name for p in window.session.rig.profiles.values()}
    window.show_station("Patch")
    window.session.select_items([])
    QApplication.processEvents()
    window.menus.actions["name"].trigger()
    assert "Nothing is selected" in window.message.words


def test_names_of_what_is_not_attached_yet_complete(window: Window, qtbot: QtBot) -> None:
    window.show_station("Runs")
    runs, session = window.runs, window.session
    session.make_edit(
        put_entries, "a loose ribbon", elements={"loose": Element(name="Moon ribbon", pixels=4, order="RGB")}
    )
    QApplication.processEvents()
    completer = runs.attach.completer()
    completer.setCompletionPrefix("oon")
    assert completer.currentCompletion() == "Moon ribbon"
    completer.activated.emit("Moon ribbon")
    assert "Moon ribbon" in runs.preview.text(), "what would be attached is said at once"
    runs.attach.setText("Moon ribbon")
    assert runs.attach_typed() and session.index.cables_and_sums.ports_of_item("loose")
    completer.setCompletionPrefix("oon")
    assert not completer.currentCompletion()
