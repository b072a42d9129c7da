"""Laying out, packing, what-if, switches, spreadsheet rows, the other pages, and dropping as a copy or a swap."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication, QLabel, QPushButton
from pytestqt.qtbot import QtBot

from tests.app.test_patch_station import CTRL, LEFT, SHIFT, drag, patch, point, start  # noqa: F401
from welvo.app.patch.copy_form import CopyForm
from welvo.app.patch.laying_form import LayForm, ModeForm, PackForm
from welvo.app.patch.pages import RenumberBlock, Trim
from welvo.app.patch.paste import PasteRows
from welvo.app.patch.size_form import SizeForm
from welvo.app.patch.switch_picture import SwitchPicture
from welvo.app.session import Selection
from welvo.app.widgets.fields import Choice, Field
from welvo.app.window import Window
from welvo.checks.checker import check_rig
from welvo.formats.wishes import add_wished
from welvo.patch import table
from welvo.patch.index import Index
from welvo.rig.document import Rig
from welvo.rig.edits import add_universe, remove_universe
from welvo.rig.refs import Goto, SegmentRef
from welvo.rig.wiring import Universe


def press(window: Window, words: str) -> None:
    next(b for b in window.findChildren(QPushButton) if b.text() == words and b.isVisible()).click()
    QApplication.processEvents()


def field(window: Window, name: str) -> Field:
    return next(f for f in window.patch.panel.findChildren(Field) if f.accessibleName() == name and f.isVisible())


def choose(window: Window, name: str, value: str) -> None:
    box = next(c for c in window.patch.panel.findChildren(Choice) if c.accessibleName() == name and c.isVisible())
    box.setCurrentIndex(box.findData(value))
    box.activated.emit(box.currentIndex())
    QApplication.processEvents()


def starts(window: Window, *keys: str) -> list[str]:
    return [table.text_of_cell(window.session.index, k, "first") for k in keys]


LAGOONS = ("f503", "f504", "f505", "f506")


def test_laying_out_shows_ghosts_first_and_is_one_undo(window: Window, qtbot: QtBot) -> None:
    window.show_station("Patch")
    window.session.select_items(list(LAGOONS))
    press(window, "Lay out…")
    form = window.patch.panel.form
    assert isinstance(form, LayForm) and window.session.history.undo_label == ""
    form.start.setText("10.1")
    choose(window, "Pattern", "spacing")
    form.by.setText("40")
    form.update_preview()
    ghosts = window.patch.tapes.ghosts["u10"]
    assert [(g.words, g.first, g.last) for g in ghosts] == [
        ("503", 1, 8),
        ("504", 41, 48),
        ("505", 81, 88),
        ("506", 121, 128),
    ]
    assert "10.001 to 10.128" in form.saying.text() and "9 more of 8 slots would fit" in form.saying.text()
    assert starts(window, "f503") == ["4.411"] and not window.patch.tapes.grab().isNull()
    for level in ("Field", "Block", "Slot"):
        window.patch.tapes.set_level(level)
        assert not window.patch.tapes.viewport().grab().isNull()
    press(window, "Lay out 4")
    assert starts(window, *LAGOONS) == ["10.001", "10.041", "10.081", "10.121"]
    assert window.patch.panel.form is None and not window.patch.tapes.ghosts
    window.session.undo_edit()
    assert starts(window, *LAGOONS) == ["4.411", "4.421", "4.431", "4.441"]


def test_a_click_on_a_tape_sets_where_it_starts_and_wrong_wishes_are_said(window: Window, qtbot: QtBot) -> None:
    window.show_station("Patch")
    window.session.select_items(list(LAGOONS[:2]))
    window.patch.panel.lay_out()
    form = window.patch.panel.form
    assert isinstance(form, LayForm)
    qtbot.mouseClick(window.patch.tapes.viewport(), LEFT, pos=point(window, "u10", 100))
    assert form.start.text().startswith("10.") and window.patch.panel.form is form
    for typed, why in (("99.1", "no universe 99"), ("nonsense", "is no address"), ("10.600", "no address 600")):
        form.start.setText(typed)
        form.update_preview()
        assert why in form.saying.text() and not form.go.isEnabled() and not window.patch.tapes.ghosts
    form.start.setText("9.1")
    form.into.setText("9")
    form.update_preview()
    assert "found no place" in form.saying.text() or form.laid.steps
    window.session.select_items(["f101", "f102"])  # other items are laid out instead
    assert form.keys == ["f101", "f102"] and window.patch.panel.form is form
    qtbot.keyClick(window, Qt.Key.Key_Escape)
    assert window.patch.panel.form is None and not window.patch.tapes.ghosts


def test_packing_a_universe_and_another_mode_are_looked_at_first(window: Window) -> None:
    window.show_station("Patch")
    window.session.change_selection(Selection("universe", ("u3",)))
    QApplication.processEvents()
    press(window, "Pack…")
    assert (
        isinstance(window.patch.panel.form, PackForm) and "342 instead of 347" in window.patch.panel.form.saying.text()
    )
    press(window, "Move 4")
    assert starts(window, "f304", "f305") == ["3.167", "3.211"]
    window.session.undo_edit()
    window.session.select_items(["f207"])
    QApplication.processEvents()
    choose(window, "Mode", "m2")
    form = window.patch.panel.form
    assert isinstance(form, ModeForm) and window.session.rig.fixtures["f207"].mode == "m1"
    assert form.saying.text().startswith("1 moves: 208 from 3.427 to 3.414; 1 takes other slots: 207 ")
    assert window.strip.isVisible() and window.strip.words.text() == "1 moves: 208 from 3.427 to 3.414."
    assert form.go.text() == "Change 1 to mode “9 slot”"
    press(window, "Leave it")
    assert window.session.rig.fixtures["f207"].mode == "m1" and window.patch.panel.form is None
    assert not window.strip.isVisible()
    window.session.select_items(["f201"])
    QApplication.processEvents()
    choose(window, "Mode", "m2")  # it meets nobody and nobody follows: done at once, undo brings it back
    assert window.session.rig.fixtures["f201"].mode == "m2" and window.patch.panel.form is None


def test_the_switch_picture_reads_back_and_explains(window: Window, qtbot: QtBot) -> None:
    window.show_station("Patch")
    window.session.select_items(["f503"])
    QApplication.processEvents()
    picture = window.patch.panel.findChildren(SwitchPicture)[-1]
    assert picture.address_it_says == 411 and picture.states == (
        True,
        True,
        False,
        True,
        True,
        False,
        False,
        True,
        True,
    )
    qtbot.mouseClick(picture, LEFT, pos=picture._box(0).center().toPoint())
    assert picture.address_it_says == 410
    press(window, "Plan 410")
    assert starts(window, "f503") == ["4.410"]
    window.session.undo_edit()
    QApplication.processEvents()
    picture = window.patch.panel.findChildren(SwitchPicture)[-1]
    picture.setFocus()
    for key in (Qt.Key.Key_Right, Qt.Key.Key_Right, Qt.Key.Key_Space):
        qtbot.keyClick(picture, key)
    assert picture.address_it_says == 415 and not picture.grab().isNull()
    answers = field(window, "Answers at")
    answers.setText("155")
    answers.commit()
    assert any("Switch 9 stands the other way" in w.text() for w in window.patch.panel.findChildren(QLabel))
    choose(window, "Set", "dials")
    QApplication.processEvents()
    dials = window.patch.panel.findChildren(SwitchPicture)[-1]
    assert dials.digits == (4, 1, 1) and not dials.grab().isNull()
    dials.flip_switch(2)
    assert dials.address_it_says == 412
    choose(window, "Set", "menu")
    assert window.session.rig.profiles["p4"].address.by == "menu"  # type: ignore[union-attr]


def test_rows_are_edited_with_series_in_any_column_and_locked_with_a_key(window: Window, qtbot: QtBot) -> None:
    window.show_station("Patch")
    list_ = window.patch.list
    window.session.select_items(list(LAGOONS))
    assert (
        list_.items.change_column(list(LAGOONS), "own:Circuit", "C#8")
        and window.session.rig.fixtures["f506"].fields["Circuit"] == "C11"
    )
    assert list_.items.change_column(list(LAGOONS), "first", "+40") and starts(window, "f506") == ["4.481"]
    assert not list_.items.change_column(list(LAGOONS), "first", "+40") and window.message.severity == "error"
    qtbot.keyClick(list_, Qt.Key.Key_L, CTRL)
    assert all(window.session.rig.fixtures[k].at[0].locked for k in LAGOONS) and list_.items.is_locked("f503")
    window.patch.filter.setText("is:locked circuit:c1")
    assert set(list_.items.ids) == {"f505", "f506"}
    window.patch.filter.setText("")
    assert [a.text() for a in list_.column_menu().actions()][-1] == "Name the rig's own columns…"
    list_._toggle_column("groups")
    assert list_.isColumnHidden(list_.items.columns.index("groups"))
    assert {"Lay out…", "Unlock", "Duplicate…"} <= {a.text() for a in window.patch.item_menu().actions()}
    window.patch._select_group("g1")
    assert window.session.selection.ids == tuple(f"f{n}" for n in range(101, 107))


def test_copied_rows_come_back_through_the_paste_dialog(window: Window, qtbot: QtBot) -> None:
    window.show_station("Patch")
    window.session.select_items(["f503", "f504"])
    window.patch.list.copy_rows()
    text = QApplication.clipboard().text()
    assert text.splitlines()[0].startswith("No.\tName") and len(text.splitlines()) == 3
    dialog = PasteRows(window.session, text, window)
    assert "0 new, 0 changed, 2 as they are" in dialog.saying.text() and not dialog.go.isEnabled()
    dialog.text.setPlainText(text.replace("\t4\t411\t", "\t10\t1\t").replace("504", "904") + "x\n")
    assert (
        "1 new, 1 changed" in dialog.saying.text()
        and "1 row left out" in dialog.saying.text()
        and not dialog.grab().isNull()
    )
    dialog.go.click()
    assert starts(window, "f503") == ["10.001"] and any(f.number == 904 for f in window.session.rig.fixtures.values())
    dialog = PasteRows(window.session, "no headings", window)
    assert "headings" in dialog.saying.text() and not dialog.go.isEnabled()


def test_dropped_with_ctrl_it_is_a_copy_and_with_shift_the_two_change_places(patch: Window, qtbot: QtBot) -> None:  # noqa: F811
    view = patch.patch.tapes.viewport()
    drag(patch, qtbot, ("u1", 3), ("u1", 103), drop=False)
    qtbot.mouseRelease(view, LEFT, CTRL, pos=point(patch, "u1", 103))
    assert start(patch, "a") == ("u1", 1)
    (copy,) = patch.session.selection.ids
    assert (
        start(patch, copy)[0] == "u1"
        and abs(start(patch, copy)[1] - 101) <= 1
        and patch.session.rig.fixtures[copy].number == 202
    )
    patch.session.undo_edit()
    drag(patch, qtbot, ("u1", 3), ("u2", 6), drop=False)
    mark, words = patch.patch.tapes.carry_words(patch.patch.tapes._carry.land)  # type: ignore[union-attr]
    assert (
        mark == "error" and words.startswith("meets 201") and "Shift swaps with 201" in patch.patch.tapes.carry_more()
    )
    qtbot.mouseRelease(view, LEFT, SHIFT, pos=point(patch, "u2", 6))
    assert (start(patch, "a"), start(patch, "c")) == (("u2", 1), ("u1", 1))


def test_all_that_is_selected_is_carried_by_the_same_step(patch: Window, qtbot: QtBot) -> None:  # noqa: F811
    patch.session.select_items(["a", "b"])
    drag(patch, qtbot, ("u1", 3), ("u2", 203), drop=False)
    carry = patch.patch.tapes._carry
    assert carry and len(carry.landings) == 1 and patch.patch.tapes.carry_words(carry.land)[1] == "free for all 2"
    assert not patch.patch.tapes.viewport().grab().isNull()
    qtbot.mouseRelease(patch.patch.tapes.viewport(), LEFT, pos=point(patch, "u2", 203))
    assert start(patch, "b")[0] == "u2" and start(patch, "b")[1] - start(patch, "a")[1] == 8
    assert patch.session.history.undo_label.startswith("move 2 items to 2.")
    patch.session.undo_edit()
    qtbot.mouseClick(
        patch.patch.tapes.viewport(), LEFT, pos=point(patch, "u1", 3)
    )  # a plain click on one of them picks it alone
    assert patch.session.selection.ids == ("a",)
    patch.session.select_items(["a", "b"])
    qtbot.mouseClick(patch.patch.tapes.viewport(), LEFT, CTRL, pos=point(patch, "u1", 3))
    assert patch.session.selection.ids == ("b",)
    patch.session.select_items(["a", "b"])
    patch.patch.tapes.pick_up()
    patch.patch.tapes._carry_to("u2", 509)
    patch.patch.tapes._drop_carried()
    assert start(patch, "a") == ("u1", 1) and patch.message.severity == "warning"


def test_wires_capacity_and_senders(window: Window) -> None:
    for name in ("Wires", "Capacity", "Senders"):
        window.patch.show_page(name)
        QApplication.processEvents()
        assert window.patch.stack.currentWidget() is not None and not window.patch.grab().isNull()
    page = window.patch.wires_page
    window.patch.show_page("Wires")
    assert [x.cells[1] for x in page.feeds.rows.lines][:2] == ["sACN 1", "sACN 2"] and "21 feeds" in page.total.text()
    page.feeds.rows.sort(5, Qt.SortOrder.DescendingOrder)
    assert page.feeds.rows.lines[0].cells[5] == "208"
    page.filter.setText("broadcast")
    assert [x.id for x in page.feeds.rows.lines] == ["w12"]
    page.feeds.selectRow(0)
    assert window.session.selection == Selection("feed", ("w12",))
    block = RenumberBlock(window.session, window)
    block.block.setText("7-9")
    block.first.setText("21")
    assert "number" in block.go.text() and block.go.isEnabled()
    block.do()
    assert [window.session.rig.universes[u].number for u in ("u7", "u8", "u9")] == [
        21,
        22,
        23,
    ] and window.session.rig.feeds["w7"].wire == 21
    block.block.setText("21-23")
    block.first.setText("1")
    assert "already" in block.saying.text() and not block.go.isEnabled()
    window.session.undo_edit()
    window.patch.show_page("Capacity")
    assert "1 universe holds nothing" in window.patch.capacity_page.words.text()
    trim = Trim(window.session, window)
    trim.do()
    assert "u10" not in window.session.rig.universes and not window.patch.capacity_page.trim.isEnabled()
    window.session.undo_edit()
    window.patch.show_page("Senders")
    window.patch.senders_page.add_sender()
    QApplication.processEvents()
    sid = window.session.selection.first_selected
    field(window, "Highest").setText("64")
    field(window, "Highest").commit()
    assert window.session.rig.senders[sid].highest == 64
    lowest = field(window, "Lowest")
    lowest.setText("100")
    lowest.commit()
    assert lowest.property("wrong") and window.session.rig.senders[sid].lowest == 1


def test_a_use_switches_universes_off_without_taking_anything_away(window: Window) -> None:
    before = window.session.rig
    window.patch.show_page("Senders")
    window.session.change_selection(Selection("use", ("y1",)))
    QApplication.processEvents()
    press(window, "Use this show")
    assert window.session.rig.use == "y1" and window.session.rig.universes == before.universes
    assert "USE-01" in window.session.report.codes_found and "FEED-01" not in window.session.report.codes_found
    from welvo.live.output import streams_to_send

    assert {s.id for s in streams_to_send(window.session.rig, window.network.hearing.interface, {}, {})} == {
        "w1",
        "w2",
        "w3",
        "w4",
        "w5",
        "w6",
        "w31",
        "w10",
        "w11",
        "w12",
        *(f"w{n}" for n in range(201, 209)),
    }
    off = field(window, "Universes off")
    off.setText("7, 99")
    off.commit()
    assert off.property("wrong")
    off.setText("1-2")
    off.commit()
    assert window.session.rig.uses["y1"].universes_off == ("u1", "u2")
    window.go(Goto("use", "y1"))
    press(window, "Use everything")
    assert window.session.rig.use == ""
    window.patch.senders_page.add_show()
    assert window.session.selection.kind == "use"


def test_reserve_gaps_and_feeds_in_the_panel(window: Window) -> None:
    window.show_station("Patch")
    window.session.change_selection(Selection("universe", ("u1",)))
    QApplication.processEvents()
    reserve = field(window, "Reserve")
    reserve.setText("490-512, 480")
    reserve.commit()
    assert window.session.rig.universes["u1"].reserve == ((480, 480), (490, 512)) and reserve.text() == "480, 490–512"
    reserve.setText("600")
    reserve.commit()
    assert reserve.property("wrong")
    for words, protocol in (("DDP", "ddp"), ("Serial line", "serial")):
        press(window, words)
        assert any(f.protocol == protocol and f.universe == "u1" for f in window.session.rig.feeds.values())
        assert not window.patch.panel.grab().isNull()
    window.session.change_selection(Selection("slot", (), slot=("u3", 400)))
    QApplication.processEvents()
    gap = field(window, "Next gap of")
    gap.setText("100")
    gap.commit()
    assert window.session.selection.slot == ("u4", 112)
    window.session.select_items(["f307"])
    window.patch.next_gap()
    assert window.session.selection.slot == ("u3", 348)  # 44 slots are free right behind it
    window.session.select_items(["f503", "f505"])
    QApplication.processEvents()
    press(window, "Swap places")
    assert starts(window, "f503", "f505") == ["4.431", "4.411"]
    window.patch.panel.copy_items(["f503"])
    window.patch.panel.form.patched.click()
    window.patch.panel.form.go.click()
    assert len(window.session.selection.ids) == 1 and starts(window, *window.session.selection.ids) == ["not patched"]


def test_lines_of_wishes_take_generics_in_and_are_one_undo(small: Window) -> None:
    rig = small.session.rig
    assert small.patch.quick._apply("2 x Head at 2.300; 3 x Strobe at 2.400") is True
    made = [f for k, f in small.session.rig.fixtures.items() if k not in rig.fixtures]
    assert [small.session.rig.profiles[f.profile].name for f in made] == ["Head", "Head", "Strobe", "Strobe", "Strobe"]
    small.session.undo_edit()
    assert small.session.rig == rig
    with pytest.raises(Exception, match="There is no profile “Nothing”"):
        small.patch.quick._apply("2 x Head at 2.300; 3 x Nothing at 2.400")
    assert small.session.rig == rig
    small.patch.quick._apply("80 x Head at 7.1")  # 64 fit into universe 7: the next one is made too
    assert [u.number for u in small.session.rig.universes.values()] == [1, 2, 7, 8] and not Index(
        small.session.rig
    ).universes_with_overlaps()


def test_tapes_scroll_at_field_with_many_universes(make: Callable[[Rig], Window]) -> None:
    bare = Rig(universes={f"u{n}": Universe(number=n) for n in range(1, 1500)})
    window = make(add_wished(bare, "5 x RGBW at 700.1")[0])
    window.show_station("Patch")
    tapes = window.patch.tapes
    tapes.set_level("Field")
    tapes.viewport().grab()
    tapes.verticalScrollBar().setValue(400)
    found = tapes.slot_at_point(QPointF(60, 200))
    assert not tapes.viewport().grab().isNull() and found and found[0] in window.session.rig.universes


def test_a_selected_slot_goes_with_its_universe(window: Window) -> None:
    window.show_station("Patch")
    window.session.change_selection(Selection("slot", (), slot=("u10", 7)))
    window.session.make_edit(remove_universe, "u10")
    QApplication.processEvents()
    assert window.session.selection == Selection() and not window.grab().isNull()


def test_a_bridges_own_slots_stand_on_the_tapes_and_are_selected_there(window: Window) -> None:
    window.show_station("Patch")
    tapes = window.patch.tapes
    index = window.session.index
    own = next(
        x for u in window.session.rig.universes for x in index.spans_on_universe(u) if isinstance(x.key, SegmentRef)
    )
    window.session.select_taker(own.key)
    QApplication.processEvents()
    said = [x.text() for x in window.patch.panel.findChildren(QLabel) if x.isVisible()]
    assert any(t.startswith("It takes 206.091 to 156") for t in said) and any("531, 532" in t for t in said)
    assert [x.key for x in tapes._selected_spans()] == [own.key] * len(index.spans_of(own.key))
    assert not tapes._carry
    tapes._take_up(own, 0)
    assert not tapes._carry  # it moves with its cable


def test_another_size_shows_what_it_would_move_before_it_does(window: Window) -> None:
    window.show_station("Patch")
    rig = window.session.rig
    uid = next(u for u, v in rig.universes.items() if v.number == 201)
    window.session.change_selection(Selection("universe", (uid,)))
    QApplication.processEvents()
    size = field(window, "Universe size")
    size.setText("300")
    size.commit()
    form = window.patch.panel.form
    QApplication.processEvents()
    assert isinstance(form, SizeForm) and window.session.rig is rig
    assert "ceiling 7" in form._list.itemAt(0).widget().accessibleName()
    assert "universe 202 from 102 913 to 102 701" in form.saying.text() and "move" in window.strip.words.text()
    press(window, "Take 300")
    assert window.session.rig.universes[uid].size == 300 and window.patch.panel.form is None
    window.session.undo_edit()
    window.session.make_edit(add_universe, 900)
    empty = next(u for u, v in window.session.rig.universes.items() if v.number == 900)
    window.session.change_selection(Selection("universe", (empty,)))
    QApplication.processEvents()
    size = field(window, "Universe size")
    size.setText("500")
    size.commit()
    assert window.session.rig.universes[empty].size == 500  # nothing moves: done at once


def test_copies_are_counted_named_and_placed_before_they_are_made(window: Window) -> None:
    window.show_station("Patch")
    window.session.go_to("104")
    window.patch.duplicate_items()
    form = window.patch.panel.form
    assert isinstance(form, CopyForm)
    before = window.session.rig
    form.count.setText("3")
    rows = form._list.itemAt(0).widget()._rows
    assert [name for _, name, _ in rows] == ["Kelp 13", "Kelp 14", "Kelp 15"] and window.session.rig is before
    assert all("." in place for _, _, place in rows)
    form.go.click()
    made = [window.session.rig.fixtures[k] for k in window.session.selection.ids]
    assert [f.name for f in made] == ["Kelp 13", "Kelp 14", "Kelp 15"] and window.message.back.isVisible()
    assert not {f.code for f in window.session.report.findings} - {f.code for f in check_rig(before).findings}
    window.session.undo_edit()
    assert window.session.rig == before
    window.session.go_to("104")
    window.patch.duplicate_items()
    form = window.patch.panel.form
    form.count.setText("0")
    assert not form.go.isEnabled() and "out of reach" in form.saying.text()
