"""The rig from above: dragged, typed, snapped, chosen everywhere at once."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from pytestqt.qtbot import QtBot

from tests.app.conftest import field_of
from tests.conftest import small_rig
from welvo.app.patch.positions import GroundPicture, PositionsPage
from welvo.app.window import Window
from welvo.patch.positions import place_fixtures
from welvo.rig.base import Refused
from welvo.rig.document import Rig

LEFT = Qt.MouseButton.LeftButton
NONE, CTRL, ALT = Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.AltModifier


@pytest.fixture
def page(make: Callable[[Rig], Window]) -> PositionsPage:
    rig, _ = place_fixtures(small_rig(), ["a", "b"], "1, 1, 4 to 5, 1, 4")
    window = make(rig)
    window.show_station("Patch")
    window.patch.show_page("Positions")
    window.patch.positions_page.plan.fit_everything()
    return window.patch.positions_page


def spot(page: PositionsPage, key: str) -> tuple[float, float, float] | None:
    return page._session.rig.fixtures[key].spot


def point(page: PositionsPage, x: float, y: float) -> QPoint:
    return page.plan.point_of_metres(x, y).toPoint()


def drag(
    page: PositionsPage, start: tuple[float, float], end: tuple[float, float], keys: Qt.KeyboardModifier = NONE
) -> None:
    QTest.mousePress(page.plan, LEFT, NONE, point(page, *start))
    QTest.mouseMove(page.plan, point(page, *[(a + b) / 2 for a, b in zip(start, end)]))  # type: ignore[misc]
    from PySide6.QtCore import QEvent
    from PySide6.QtGui import QMouseEvent

    at = QPointF(point(page, *end))
    page.plan.mouseMoveEvent(QMouseEvent(QEvent.Type.MouseMove, at, at, Qt.MouseButton.NoButton, LEFT, keys))
    QTest.mouseRelease(page.plan, LEFT, keys, point(page, *end))


def test_a_drag_snaps_moves_all_that_is_selected_and_can_be_undone(page: PositionsPage) -> None:
    s = page._session
    drag(page, (1, 1), (2.2, 1.9))
    assert spot(page, "a") == (2.0, 2.0, 4.0) and spot(page, "b") == (5.0, 1.0, 4.0) and s.selection.ids == ("a",)
    s.undo_edit()
    QTest.mouseClick(page.plan, LEFT, CTRL, point(page, 5, 1))
    assert set(s.selection.ids) == {"a", "b"}
    drag(page, (5, 1), (5.8, 1.0))
    assert spot(page, "a") == (2.0, 1.0, 4.0) and spot(page, "b") == (6.0, 1.0, 4.0)
    drag(page, (6, 1), (6.21, 1.0), ALT)  # Alt leaves the grid
    found = spot(page, "b")
    assert found and abs(found[0] - 6.2) < 0.05 and found[0] != 6.0


def test_a_frame_selects_for_every_station_and_a_click_beside_lets_go(page: PositionsPage) -> None:
    window = page.window()
    assert isinstance(window, Window)
    drag(page, (0.2, 0.2), (5.6, 1.8))
    assert window.session.selection.ids == ("a", "b")
    window.patch.show_page("Tapes")
    assert [i.data() for i in window.patch.list.selectionModel().selectedRows(1)] == ["101", "102"]
    window.patch.show_page("Positions")
    QTest.mouseClick(page.plan, LEFT, NONE, point(page, 3, 1.9))
    assert window.session.selection.kind == "none"


def test_the_keyboard_moves_and_fits_and_typing_places(page: PositionsPage, qtbot: QtBot) -> None:
    s = page._session
    s.select_items(["a"])
    page.plan.setFocus()
    qtbot.keyClick(page.plan, Qt.Key.Key_Right)
    qtbot.keyClick(page.plan, Qt.Key.Key_Up, Qt.KeyboardModifier.ShiftModifier)
    assert spot(page, "a") == (1.5, 3.0, 4.0)
    field = field_of(page, "Place")
    assert field.text() == "1.5, 3, 4"
    s.select_items(["a", "b", "c"])
    field.setFocus()
    field.setText("0, 0, 3 to 4, 0, 3")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert [spot(page, k) for k in "abc"] == [(0, 0, 3), (2, 0, 3), (4, 0, 3)]
    field.setText("high up")
    assert not field.commit()
    field.revert()
    page.plan.zoom_by(8)
    far = page.plan.point_of_metres(0, 0)
    qtbot.keyClick(page.plan, Qt.Key.Key_Home)
    assert page.plan.point_of_metres(0, 0) != far and page.plan.rect().contains(
        page.plan.point_of_metres(4, 0).toPoint()
    )


def test_what_has_no_place_is_listed_and_placed(page: PositionsPage) -> None:
    assert [r.cells for r in page.list.rows.lines] == [("201", "Bar")]
    page.put.click()
    assert spot(page, "c") and not page.list.rows.lines and not page.put.isEnabled()
    assert page._session.selection.ids == ("c",)


def test_a_picture_lies_under_the_rig_and_travels_with_it(page: PositionsPage, tmp_path: Path) -> None:
    s = page._session
    file = tmp_path / "hall.png"
    page.window().grab().save(str(file))
    dialog = GroundPicture(s, page)
    assert not dialog.go.isEnabled()
    (tmp_path / "bad.png").write_bytes(b"nothing")
    with pytest.raises(Refused, match="no picture that can be shown"):
        dialog.load_picture(tmp_path / "bad.png")
    dialog.load_picture(file)
    dialog.wide.setText("wide")
    assert not dialog.go.isEnabled()
    dialog.wide.setText("16")
    dialog.left.setText("-1")
    before = page.plan.grab().toImage()
    dialog.take_wish()
    ground = s.rig.ground
    assert ground and (ground.wide, ground.left, ground.fade) == (16.0, -1.0, 0.5) and ground.picture in s.rig.pictures
    assert page.plan.grab().toImage() != before
    again = GroundPicture(s, page)
    again.drop.click()
    assert s.rig.ground is None
    s.undo_edit()
    assert s.rig.ground == ground
