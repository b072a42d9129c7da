from __future__ import annotations

import itertools
from collections.abc import Callable

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtGui import QWheelEvent
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from tests.app.conftest import field_of
from welvo.app.commands import ZOOMS
from welvo.app.patch.add_fixtures import AddFixtures
from welvo.app.patch.tape_frame import HEADER
from welvo.app.patch.tape_painting import blocks_of
from welvo.app.session import Selection
from welvo.app.widgets.fields import Field
from welvo.app.window import Window
from welvo.rig.document import Rig
from welvo.rig.patched import Place

LEFT, CTRL, SHIFT = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier


def point(window: Window, universe: str, address: int) -> QPoint:
    found = window.patch.tapes.place_of(universe, address)
    assert found
    return found.toPoint()


def start(window: Window, key: str) -> tuple[str, int]:
    s = window.session.index.spans_of(key)[0]
    return s.universe, s.first


def drag(window: Window, qtbot: QtBot, a: tuple[str, int], b: tuple[str, int], drop: bool = True) -> None:
    view = window.patch.tapes.viewport()
    qtbot.mousePress(view, LEFT, pos=point(window, *a))
    qtbot.mouseMove(view, point(window, *b))
    if drop:
        qtbot.mouseRelease(view, LEFT, pos=point(window, *b))


@pytest.fixture
def patch(small: Window) -> Window:
    small.show_station("Patch")
    QApplication.processEvents()
    return small


def test_zooms_have_names_and_steps_in_between(window: Window, qtbot: QtBot) -> None:
    window.show_station("Patch")
    tapes = window.patch.tapes
    for n, name in enumerate(ZOOMS, 1):
        qtbot.keyClick(window, str(n), CTRL)
        assert tapes.level_name == name and window.patch._zoom[name].isChecked()
        assert not tapes.grab().isNull()
    steps = tapes.zoom_steps()
    assert all(b >= 1.3 * a for a, b in itertools.pairwise(steps)) and steps[0] == 0.25 and steps[-1] == 36.0
    tapes.set_level("Fit")
    wheel = QWheelEvent(
        QPointF(400, 100),
        QPointF(400, 100),
        QPoint(),
        QPoint(0, 120),
        Qt.MouseButton.NoButton,
        CTRL,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    QApplication.sendEvent(tapes.viewport(), wheel)
    assert tapes.pixels_per_slot == steps[2]


def test_every_zoom_hits_the_slot_that_is_drawn_there(window: Window) -> None:
    tapes = window.patch.tapes
    for level in ZOOMS:
        tapes.set_level(level)
        for universe, address in (("u1", 1), ("u1", 41), ("u2", 300)):
            tapes._centre_on_slot(address)
            tapes.verticalScrollBar().setValue(0)
            r = tapes.row_of(universe)
            where = tapes.place_of(universe, address)
            assert r and where
            if level == "Field":
                where = QPointF(r.x + (address - 0.5) * 0.25, r.y + 6 + HEADER)
            assert tapes.slot_at_point(where) == (universe, address), level
    tapes.set_level("Fit")
    assert tapes.slot_at_point(QPointF(20, 40)) == ("u1", 0) and tapes.slot_at_point(QPointF(20, 5)) is None


def test_a_click_selects_and_the_roll_follows(patch: Window, qtbot: QtBot) -> None:
    view = patch.patch.tapes.viewport()
    qtbot.mouseClick(view, LEFT, pos=point(patch, "u1", 12))
    assert patch.session.selection.ids == ("b",) and patch.patch.list.chosen_ids() == ["b"]
    qtbot.mouseClick(view, LEFT, CTRL, pos=point(patch, "u1", 4))
    assert set(patch.session.selection.ids) == {"a", "b"} and patch.patch.list.chosen_ids() == ["a", "b"]
    qtbot.mouseClick(view, LEFT, pos=point(patch, "u1", 300))
    assert patch.session.selection == Selection("slot", (), slot=("u1", 300))
    qtbot.mouseClick(view, LEFT, pos=QPoint(60, point(patch, "u2", 1).y()))
    assert patch.session.selection == Selection("universe", ("u2",))


def test_dragging_shows_what_it_would_meet_before_the_drop(patch: Window, qtbot: QtBot) -> None:
    tapes = patch.patch.tapes
    drag(patch, qtbot, ("u1", 2), ("u2", 8), drop=False)
    carry = tapes._carry
    assert carry and (carry.land.universe, carry.land.first) == ("u2", 7)
    assert tapes.carry_words(carry.land) == ("error", "meets 201 on 8 slots: 2.007–014")
    assert not tapes.grab().isNull() and start(patch, "a") == ("u1", 1)
    qtbot.keyClick(tapes, Qt.Key.Key_Escape)
    assert tapes._carry is None
    qtbot.mouseRelease(tapes.viewport(), LEFT, pos=point(patch, "u2", 8))
    assert start(patch, "a") == ("u1", 1)


def test_dropping_moves_and_a_clash_becomes_a_finding(patch: Window, qtbot: QtBot) -> None:
    drag(patch, qtbot, ("u1", 1), ("u2", 200))
    universe, address = start(patch, "a")
    assert universe == "u2" and abs(address - 200) <= 1 and patch.session.report.codes_found == {"RUN-26"}
    drag(patch, qtbot, (universe, address), ("u2", 3))
    assert {f.code for f in patch.session.report.findings} == {"PATCH-01", "RUN-26"}
    patch.session.undo_edit()
    patch.session.undo_edit()
    assert start(patch, "a") == ("u1", 1)


def test_a_drop_never_leaves_the_universe(patch: Window, qtbot: QtBot) -> None:
    drag(patch, qtbot, ("u1", 1), ("u1", 511))
    assert start(patch, "a") == ("u1", 505)


def test_locked_things_stay_where_they_are(patch: Window, qtbot: QtBot) -> None:
    from welvo.rig.edits import set_fixtures

    patch.session.make_edit(set_fixtures, "lock", {"a": {"at": (Place(universe="u1", address=1, locked=True),)}})
    drag(patch, qtbot, ("u1", 1), ("u2", 200))
    assert start(patch, "a") == ("u1", 1) and "101 is locked" in patch.message.words


def test_the_keyboard_picks_up_moves_types_and_drops(patch: Window, qtbot: QtBot) -> None:
    tapes = patch.patch.tapes
    patch.session.select_items(["a"])
    tapes.setFocus()
    qtbot.keyClick(tapes, Qt.Key.Key_M, CTRL)
    for key, modifier in (
        (Qt.Key.Key_Right, Qt.KeyboardModifier.NoModifier),
        (Qt.Key.Key_Right, SHIFT),
        (Qt.Key.Key_Down, Qt.KeyboardModifier.NoModifier),
    ):
        qtbot.keyClick(tapes, key, modifier)
    assert tapes._carry and (tapes._carry.land.universe, tapes._carry.land.first) == ("u2", 18)
    qtbot.keyClick(tapes, Qt.Key.Key_Return)
    assert start(patch, "a") == ("u2", 18)
    qtbot.keyClick(tapes, Qt.Key.Key_M, CTRL)
    qtbot.keyClicks(tapes, "1.300")
    qtbot.keyClick(tapes, Qt.Key.Key_Return)
    assert start(patch, "a") == ("u1", 300)


def test_arrows_walk_along_and_across_tapes(patch: Window, qtbot: QtBot) -> None:
    tapes = patch.patch.tapes
    patch.session.select_items(["a"])
    for key, wanted in (
        (Qt.Key.Key_Right, ("b",)),
        (Qt.Key.Key_Right, ("b",)),
        (Qt.Key.Key_Down, ("c",)),
        (Qt.Key.Key_End, ("e",)),
        (Qt.Key.Key_Home, ("c",)),
        (Qt.Key.Key_Up, ("a",)),
    ):
        qtbot.keyClick(tapes, key)
        assert patch.session.selection.ids == wanted, key
    qtbot.keyClick(tapes, Qt.Key.Key_Right, SHIFT)
    assert patch.session.selection.ids == ("a", "b")


def test_the_lens_opens_on_the_selection_and_closes(patch: Window, qtbot: QtBot) -> None:
    tapes = patch.patch.tapes
    patch.session.select_items(["e"])
    before = tapes.verticalScrollBar().maximum()
    qtbot.keyClick(tapes, Qt.Key.Key_Space)
    assert tapes.lens and tapes.lens[0] == "u2" and tapes.lens[1] <= 101 <= tapes.lens[1] + 40
    assert tapes.verticalScrollBar().maximum() >= before
    r = tapes.row_of("u2")
    assert r
    inside = QPointF(
        tapes.gutter + 12 + 14 * (101 - tapes.lens[1]) + 5,
        r.y + r.height + 40 + HEADER - tapes.verticalScrollBar().value(),
    )
    assert tapes.slot_at_point(inside) == ("u2", 101) and not tapes.grab().isNull()
    qtbot.keyClick(tapes, Qt.Key.Key_Escape)
    assert tapes.lens is None
    qtbot.mouseDClick(tapes.viewport(), LEFT, pos=point(patch, "u1", 5))
    assert tapes.lens and tapes.lens[0] == "u1"


def test_overlaps_lie_in_lanes_and_shares_in_one_block(patch: Window) -> None:
    from welvo.rig.edits import move_item, share_places

    patch.session.make_edit(move_item, "b", 0, "u1", 1)
    blocks, lanes = blocks_of(patch.session.index, "u1")
    assert lanes == 2 and [b.lane for b in blocks] == [0, 1]
    patch.session.make_edit(share_places, ["a", "b"])
    blocks, lanes = blocks_of(patch.session.index, "u1")
    assert lanes == 1 and len(blocks[0].spans) == 2


def test_why_a_share_is_one_can_be_typed_and_stands_in_its_finding(patch: Window) -> None:
    from welvo.rig.edits import end_share, move_item, share_places

    session = patch.session
    session.make_edit(move_item, "b", 0, "u1", 1)
    session.select_items(["a"])
    QApplication.processEvents()
    assert not [f for f in patch.patch.panel.findChildren(Field) if f.accessibleName() == "Reason" and f.isVisible()]
    session.make_edit(share_places, ["a", "b"])
    reason = field_of(patch.patch.panel, "Reason")
    reason.setText("one above the other")
    assert reason.commit()
    (sid,) = session.rig.shares
    assert session.rig.shares[sid].reason == "one above the other"
    (told,) = [f for f in session.report.findings if f.code == "PATCH-06"]
    assert told.reason == "one above the other"
    session.undo_edit()
    assert session.rig.shares[sid].reason == ""
    session.make_edit(end_share, sid)
    QApplication.processEvents()
    assert not reason.isVisible()


def edit_cell(window: Window, qtbot: QtBot, row: int, column: int, typed: str, to_all: bool = False) -> None:
    from welvo.app.widgets.fields import Field

    list_ = window.patch.list
    list_.setFocus()
    list_.edit(list_.items.index(row, column))
    editor = list_.viewport().findChildren(Field)[-1]
    editor.selectAll()
    qtbot.keyClicks(editor, typed)
    qtbot.keyClick(editor, Qt.Key.Key_Return, CTRL if to_all else Qt.KeyboardModifier.NoModifier)
    QApplication.processEvents()


def test_the_roll_edits_one_and_series_through_many(patch: Window, qtbot: QtBot) -> None:
    edit_cell(patch, qtbot, 0, 2, "Wing left")
    assert patch.session.rig.fixtures["a"].name == "Wing left"
    edit_cell(patch, qtbot, 0, 4, "2.300")
    assert start(patch, "a") == ("u2", 300)
    patch.session.select_items(["a", "b", "c"])
    edit_cell(patch, qtbot, 0, 4, "1.1 +20", to_all=True)
    assert [start(patch, k)[1] for k in "abc"] == [1, 21, 41]
    patch.session.select_items(["a", "b", "c"])
    edit_cell(patch, qtbot, 0, 1, "301+", to_all=True)
    assert [patch.session.rig.fixtures[k].number for k in "abc"] == [301, 302, 303]
    edit_cell(patch, qtbot, 0, 4, "9.999")
    assert start(patch, "a") == ("u1", 1) and "no address 999" in patch.message.words


def test_the_roll_sorts_filters_and_removes(window: Window, qtbot: QtBot) -> None:
    list_ = window.patch.list
    assert list_.items.ids[0] == "f101" and len(list_.items.ids) == 108
    list_.sortByColumn(4, Qt.SortOrder.DescendingOrder)
    assert window.session.index.spans_of(list_.items.ids[0]) == ()  # what is nowhere stands at one end
    window.patch.filter.setText("lagoon flood")
    assert len(list_.items.ids) == 25 and all(window.session.rig.fixtures[k].profile == "p4" for k in list_.items.ids)
    window.patch.filter.setText("")
    window.session.select_items(["f101", "f102"])
    qtbot.keyClick(list_, Qt.Key.Key_Delete)
    assert "f101" not in window.session.rig.fixtures and len(list_.items.ids) == 106
    window.session.undo_edit()
    assert len(list_.items.ids) == 108


def test_adding_says_what_it_will_do_first(patch: Window) -> None:
    dialog = AddFixtures(patch.session, patch)
    dialog.count.setText("200")
    dialog.start.setText("1.300 +20")
    assert (
        "From there 11 fit into the universe, the rest goes on in the next." in dialog.saying.text()
        and dialog.go.text() == "Add 200"
    )
    dialog.start.setText("1.600")
    assert not dialog.go.isEnabled() and "no address 600" in dialog.saying.text()
    dialog.start.setText("free")
    dialog.count.setText("3")
    dialog.number.setText("101")
    dialog.go.click()
    assert "Number 101 is taken" in dialog.saying.text() and dialog.made == []
    dialog.number.setText("401")
    dialog.name.setText("New #")
    dialog.go.click()
    assert [patch.session.rig.fixtures[k].name for k in dialog.made] == ["New 1", "New 2", "New 3"]


def test_the_panel_edits_elements_universes_and_feeds(patch: Window, qtbot: QtBot) -> None:
    from welvo.app.widgets.fields import Field

    def field(name: str) -> Field:
        QApplication.processEvents()
        return next(f for f in patch.patch.panel.findChildren(Field) if f.accessibleName() == name and f.isVisible())

    def type_in(name: str, words: str) -> None:
        f = field(name)
        f.selectAll()
        qtbot.keyClicks(f, words)
        qtbot.keyClick(f, Qt.Key.Key_Return)

    patch.session.select_items(["e"])
    type_in("Pixels", "200")
    type_in("Colour order", "grbw")
    assert (patch.session.rig.elements["e"].pixels, patch.session.rig.elements["e"].order) == (200, "GRBW")
    type_in("Address", "after 201 + 6")
    assert start(patch, "e") == ("u2", 21)
    patch.session.change_selection(Selection("universe", ("u1",)))
    type_in("On the wire", "0")
    assert patch.session.rig.feeds["w1"].wire == 1 and "no sACN universe 0" in field("On the wire").refusal.text()
    type_in("On the wire", "12")
    type_in("Priority", "150")
    type_in("To", "127.0.0.9")
    feed = patch.session.rig.feeds["w1"]
    assert (feed.wire, feed.priority, feed.to) == (12, 150, "127.0.0.9")
    type_in("Universe size", "510")
    assert patch.session.rig.universes["u1"].size == 510
    patch.session.change_selection(Selection("universe", ("u2",)))
    type_in("On the wire", "255.255.255.0")
    assert "mask" in field("On the wire").refusal.text()
    type_in("On the wire", "1/2/3")
    assert patch.session.rig.feeds["w2"].wire == 0x123


def test_a_thousand_universes_are_drawn_and_found(make: Callable[[Rig], Window]) -> None:
    from welvo.rig.wiring import Universe

    window = make(Rig(universes={f"u{n}": Universe(number=n) for n in range(1, 1001)}))
    window.session.change_selection(Selection("universe", ("u700",)))
    for level in ZOOMS:
        window.patch.tapes.set_level(level)
        assert not window.patch.tapes.grab().isNull()


def test_shift_and_a_click_take_everything_in_between(patch: Window, qtbot: QtBot) -> None:
    view = patch.patch.tapes.viewport()
    qtbot.mouseClick(view, LEFT, pos=point(patch, "u1", 3))
    qtbot.mouseClick(view, LEFT, SHIFT, pos=point(patch, "u2", 3))
    assert patch.session.selection.ids == ("a", "b", "c")
    qtbot.mouseClick(view, LEFT, CTRL, pos=point(patch, "u1", 12))
    assert patch.session.selection.ids == ("a", "c")
