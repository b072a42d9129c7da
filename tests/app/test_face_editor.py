"""Arranging pixels: by rule, by clicks over a picture, by keys."""

from __future__ import annotations

from collections.abc import Iterator
from math import hypot
from pathlib import Path

import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from tests.app.test_profile_work import fresh, type_into
from welvo.app.screens import drawn_front, front_places, on_picture
from welvo.app.widgets.face_editor import FaceEditor
from welvo.app.window import Window
from welvo.rig.base import Refused
from welvo.rig.profile import Break, Channel, Mode, Spot


@pytest.fixture
def blinder(small: Window, tmp_path: Path) -> Iterator[FaceEditor]:
    station = fresh(small, "dimmer, 14 x (red green blue)")
    dialog = FaceEditor(station.mode, None, small)
    (tmp_path / "front.png").write_bytes(drawn_front())
    dialog.load_path(tmp_path / "front.png")
    dialog.show()
    QApplication.processEvents()
    yield dialog
    dialog.close()


def click(dialog: FaceEditor, n: int, qtbot: QtBot) -> None:
    """Click on cell n of the drawn front, counted from 1."""
    at = dialog.canvas.view.point_of_spot(on_picture(dialog, front_places()[n - 1])).toPoint()
    qtbot.mouseClick(dialog.canvas, Qt.MouseButton.LeftButton, pos=at)


def off(dialog: FaceEditor, n: int, cell: int) -> float:
    """How far, in pitches, pixel n stands from a cell of the picture."""
    want, got = on_picture(dialog, front_places()[cell - 1]), dialog.canvas.spots[n - 1]
    return hypot(want.x - got.x, want.y - got.y)


def test_pixels_are_placed_by_clicking_the_picture_in_order(blinder: FaceEditor, qtbot: QtBot) -> None:
    blinder.set_tool("Place")
    for n in range(1, 15):
        click(blinder, n, qtbot)
    assert max(off(blinder, n, n) for n in range(1, 15)) < 0.05
    assert blinder.mode.arrangement and blinder.mode.arrangement.kind == "free"
    near = sorted(hypot(a.x - b.x, a.y - b.y) for a in blinder.mode.spots for b in blinder.mode.spots if a is not b)
    assert near[13] == pytest.approx(1.0, abs=0.05)  # the usual distance of neighbours is one pitch again


def test_two_lines_place_the_two_rows_and_clicking_through_renumbers(blinder: FaceEditor, qtbot: QtBot) -> None:
    for first, last in ((1, 7), (8, 14)):
        blinder.set_tool("Line")
        blinder.canvas.selected = set(range(first, last + 1))
        click(blinder, first, qtbot)
        click(blinder, last, qtbot)
    assert max(off(blinder, n, n) for n in range(1, 15)) < 0.05
    blinder.set_tool("Number")
    for n in range(1, 8):
        click(blinder, n, qtbot)
        click(blinder, n + 7, qtbot)  # one above, one below, and so on
    order = [c for pair in zip(range(1, 8), range(8, 15)) for c in pair]
    assert max(off(blinder, n, cell) for n, cell in enumerate(order, 1)) < 0.05


def test_an_arc_goes_through_its_three_points(blinder: FaceEditor) -> None:
    blinder.canvas.place_in_series([Spot(x=-4, y=0), Spot(x=0, y=-4), Spot(x=4, y=0)])
    radii = {round(hypot(s.x, s.y), 2) for s in blinder.mode.spots}
    assert len(radii) == 1


def test_pixels_are_dragged_nudged_and_framed(blinder: FaceEditor, qtbot: QtBot) -> None:
    canvas = blinder.canvas
    blinder.set_tool("Move")
    start = canvas.view.point_of_spot(canvas.spots[0]).toPoint()
    before = list(canvas.spots)
    qtbot.mousePress(canvas, Qt.MouseButton.LeftButton, pos=start)
    qtbot.mouseMove(canvas, start + QPoint(0, -40))
    qtbot.mouseRelease(canvas, Qt.MouseButton.LeftButton, pos=start + QPoint(0, -40))
    assert canvas.spots[0].y < before[0].y and canvas.spots[1:] == before[1:]
    canvas.setFocus()
    y = canvas.spots[0].y
    qtbot.keyClick(canvas, Qt.Key.Key_Down)
    assert canvas.spots[0].y == pytest.approx(y + 0.1)
    qtbot.keyClick(canvas, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    assert canvas.spots[0].y == pytest.approx(y + 1.1)
    corner, far = QPoint(2, 2), QPoint(canvas.width() - 2, canvas.height() - 2)
    qtbot.mousePress(canvas, Qt.MouseButton.LeftButton, pos=corner)
    qtbot.mouseMove(canvas, far)
    qtbot.mouseRelease(canvas, Qt.MouseButton.LeftButton, pos=far)
    assert canvas.selected == set(range(1, 15))


@pytest.mark.parametrize(
    "kind, fields, first, last",
    [
        ("rows", {"Rows": "2"}, (0.0, 0.0), (6.0, 1.0)),
        ("rows", {"Rows": "2", "Staggered by": "0.5"}, (0.0, 0.0), (6.5, 1.0)),
        ("line", {}, (0.0, 0.0), (13.0, 0.0)),
    ],
)
def test_an_arrangement_places_all_pixels(
    blinder: FaceEditor, qtbot: QtBot, kind: str, fields: dict[str, str], first: tuple[float, float],
    last: tuple[float, float]
) -> None:  # fmt: skip
    blinder.arrange_pixels(kind=kind)
    for name, words in fields.items():
        type_into(blinder.field_of_name(name), words, qtbot)
    spots = blinder.mode.spots
    assert (spots[0].x, spots[0].y) == first and (spots[-1].x, spots[-1].y) == last


def test_rings_must_add_up_and_say_so(blinder: FaceEditor, qtbot: QtBot) -> None:
    blinder.arrange_pixels(kind="rings")
    type_into(blinder.field_of_name("Pixels a ring"), "10 3", qtbot)
    assert (
        blinder.field_of_name("Pixels a ring").property("wrong")
        and "10 + 3 is 13" in blinder.field_of_name("Pixels a ring").toolTip()
    )
    type_into(blinder.field_of_name("Pixels a ring"), "10 4", qtbot)
    assert blinder.mode.arrangement and blinder.mode.arrangement.rings == (10, 4)
    type_into(blinder.field_of_name("Length"), "abc", qtbot)
    assert blinder.mode.arrangement.length == 0


def test_the_picture_is_cropped_turned_faded_and_locked(blinder: FaceEditor, qtbot: QtBot) -> None:
    type_into(blinder.field_of_name("Crop"), "5 10 5 20", qtbot)
    type_into(blinder.field_of_name("Strength"), "40 %", qtbot)
    type_into(blinder.field_of_name("Turned"), "90", qtbot)
    b = blinder.mode.backdrop
    assert b and (b.left, b.top, b.right, b.bottom) == (0.05, 0.1, 0.95, 0.8) and (b.fade, b.turn) == (0.4, 90)
    type_into(blinder.field_of_name("Crop"), "60 0 50 0", qtbot)
    assert blinder.field_of_name("Crop").property("wrong") and blinder.mode.backdrop == b
    blinder.field_of_name("Locked").click()
    blinder.show_background(turn=0)
    assert (
        blinder.mode.backdrop and blinder.mode.backdrop.turn == 90 and not blinder.field_of_name("Turned").isEnabled()
    )
    assert not blinder.grab().isNull()


@pytest.mark.parametrize(
    "name, data, why",
    [
        ("x.png", b"\x89PNG\r\n\x1a\nnonsense", "no PNG"), ("x.gif", b"GIF89a", "no PNG"),
        ("y.png", None, "cannot be read")
    ]
)  # fmt: skip
def test_a_bad_picture_is_refused_and_changes_nothing(
    blinder: FaceEditor, tmp_path: Path, name: str, data: bytes | None, why: str
) -> None:
    before = blinder.mode
    if data is not None:
        (tmp_path / name).write_bytes(data)
    with pytest.raises(Refused, match=why):
        blinder.load_path(tmp_path / name)
    assert blinder.mode is before and blinder.picture == drawn_front()


def test_the_face_goes_into_the_rig_with_its_picture_and_is_undone_as_one(
    small: Window, blinder: FaceEditor, qtbot: QtBot
) -> None:
    blinder.set_tool("Place")
    for n in range(1, 15):
        click(blinder, n, qtbot)
    before = small.session.rig
    small.profiles.take_face(blinder.mode, blinder.picture, blinder.media)
    rig = small.session.rig
    (picture,) = rig.pictures.values()
    mode = rig.profiles[small.profiles.profile_id].modes["m1"]
    assert picture.data == drawn_front() and mode.backdrop and mode.backdrop.picture in rig.pictures
    assert small.profiles.panel.face.grab() and len(small.profiles.panel.face.spots_of_mode()) == 14
    small.session.undo_edit()
    assert small.session.rig == before and not small.session.rig.pictures


def test_ten_thousand_pixels_are_shown_walked_and_hit(small: Window, qtbot: QtBot) -> None:
    channels = [Channel(function="Dimmer", break_no=n // 500, slots=(n % 500 + 1,), pixel=n + 1) for n in range(10_000)]
    mode = Mode(name="wall", breaks=tuple(Break(slots=500) for _ in range(20)), channels=tuple(channels))
    dialog = FaceEditor(mode, None, small)
    type_into(dialog.field_of_name("Rows"), "100", qtbot)
    canvas = dialog.canvas
    assert len(canvas.spots) == 10_000 and canvas.pixel_at(canvas.view.point_of_spot(canvas.spots[6549])) == 6550
    canvas.selected = {1, 2, 3}
    canvas.nudge_pixels(0, 0.5)
    assert canvas.mode.spots[0].y == 0.5 and canvas.mode.spots[3].y == 0 and not dialog.grab().isNull()
    dialog.walk_pixels()
    dialog._step_walk()
    assert dialog.canvas.lit == 2
    dialog.walk_pixels()
