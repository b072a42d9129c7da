"""The audit of the screens: it sees what is wrong when something is, and finds nothing in the window."""

from __future__ import annotations

from pathlib import Path

import pytest
from PySide6.QtCore import QRectF
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QPushButton, QScrollArea, QVBoxLayout, QWidget
from pytestqt.qtbot import QtBot

from tests.look.audit import Eyes, settle
from tests.look.looking import Look, both_rigs, look_through, shown_window
from welvo.app.computer import Computer
from welvo.app.main import put_on
from welvo.app.widgets.fields import Choice
from welvo.app.widgets.painting import draw_text_line, make_button
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.app.widgets.theme import THEME, apply_theme
from welvo.demo.gallery import make_gallery
from welvo.rig.document import Rig

FAST = (Look((960, 540), 0, "dark"), Look((1280, 800), 2, "light"))
"""What is looked at with every change: all of them are by `make look`."""
NTH = 13
"""Every so many states in each of them, each time others."""


@pytest.fixture(scope="module")
def gallery() -> Rig:
    return make_gallery()


def seen(qtbot: QtBot, rig: Rig, *widgets: QWidget, wide: int = 200, colours: bool = False) -> list[str]:
    """What is found in a box of that width with these widgets below each other."""
    put_on(Computer(theme="dark", text_step=0))
    from PySide6.QtWidgets import QApplication

    app = QApplication.instance()
    assert isinstance(app, QApplication)
    apply_theme(app)
    root = QWidget()
    qtbot.addWidget(root)
    body = QVBoxLayout(root)
    for w in widgets:
        body.addWidget(w)
    root.setFixedWidth(wide)
    root.show()
    settle()
    eyes = Eyes()
    eyes.look_at(root, "a box", rig, colours=colours)
    return [s.kind for s in eyes.found]


class Painting(QWidget):
    def __init__(self, *lines: tuple[QRectF, str]) -> None:
        super().__init__()
        self.setFixedSize(160, 60)
        self._lines = lines

    def paintEvent(self, _: QPaintEvent) -> None:
        p = QPainter(self)
        for r, words in self._lines:
            draw_text_line(p, r, words)


def narrow(w: QWidget, wide: int = 60) -> QWidget:
    w.setFixedWidth(wide)
    return w


def test_what_is_cut_is_seen(qtbot: QtBot, gallery: Rig) -> None:
    field = QLineEdit("3.427 and 3.511")
    choice = Choice("help", lambda _: None)
    choice.set_options([("a", "multicast to everybody")], "a")
    for w in (QLabel("3.427 and 3.511"), QPushButton("Push 12 changes"), field, choice):
        assert seen(qtbot, gallery, narrow(w)) == ["cut"], w
    wraps = QLabel("as many lines as there are words here")
    wraps.setWordWrap(True)
    wraps.setFixedSize(60, 20)
    assert seen(qtbot, gallery, wraps) == ["cut"]
    assert seen(qtbot, gallery, QLabel("3.427"), QPushButton("Push")) == []


def test_what_is_painted_and_cut_covered_or_outside_is_seen(qtbot: QtBot, gallery: Rig) -> None:
    room = QRectF(0, 0, 150, 20)
    assert seen(qtbot, gallery, Painting((room, "3.427 to 3.511"))) == []
    assert seen(qtbot, gallery, Painting((QRectF(0, 0, 30, 20), "3.427 to 3.511"))) == ["cut"]
    assert seen(qtbot, gallery, Painting((QRectF(120, 0, 100, 20), "3.427 to 3.511"))) == ["cut"]
    assert seen(qtbot, gallery, Painting((room, "3.427 to 3.511"), (room.translated(20, 0), "304"))) == ["overlap"]


def test_a_name_that_somebody_gave_may_end_but_not_the_number_behind_it(qtbot: QtBot, gallery: Rig) -> None:
    from msgspec.structs import replace

    name = "Kreuzgewölbe über dem großen Becken"
    rig = replace(gallery, fixtures={"f207": replace(gallery.fixtures["f207"], name=name)})
    room = QRectF(0, 0, 150, 20)
    assert seen(qtbot, rig, Painting((room, f"{name} · 12"))) == []
    assert seen(qtbot, gallery, Painting((room, f"{name} · 12"))) == ["cut"]
    assert seen(qtbot, rig, Painting((QRectF(0, 0, 40, 20), f"{name}, 12.001 to 12.024"))) == ["cut"]


def test_what_reaches_out_or_lies_over_another_is_seen(qtbot: QtBot, gallery: Rig) -> None:
    row = QWidget()
    inside = QHBoxLayout(row)
    inside.addWidget(narrow(QLabel("3.427"), 300))
    area = QScrollArea()
    area.setWidget(row)
    area.setHorizontalScrollBarPolicy(area.horizontalScrollBarPolicy().ScrollBarAlwaysOff)
    assert "outside" in seen(qtbot, gallery, area)
    holder = QWidget()
    holder.setFixedSize(150, 60)
    for x in (0, 30):
        QPushButton("Push", holder).setGeometry(x, 0, 80, 28)
    assert seen(qtbot, gallery, holder) == ["overlap"]


def test_what_is_left_over_and_what_is_accented_twice_is_seen(qtbot: QtBot, gallery: Rig) -> None:
    def kinds(*widgets: QWidget) -> set[str]:
        root = QWidget()
        qtbot.addWidget(root)
        body = QVBoxLayout(root)
        for w in widgets:
            body.addWidget(w)
        root.show()
        settle()
        eyes = Eyes()
        eyes.former_rig = "Old hall"
        eyes.look_at(root, "a box", gallery)
        return {s.kind for s in eyes.found}

    assert kinds(QLabel("PENSTOCK of the Old hall")) == {"left over"}
    assert kinds(Painting((QRectF(0, 0, 150, 20), "Old hall"))) == {"left over"}
    assert kinds(QLabel("PENSTOCK")) == set()
    one, two = make_button("Push", primary=True), make_button("Save", primary=True)
    assert kinds(one, two) == {"accents"}
    one, two = make_button("Push", primary=True), make_button("Save", primary=True)
    two.setEnabled(False)
    assert kinds(one, two) == set()


def test_what_is_too_pale_is_seen(qtbot: QtBot, gallery: Rig) -> None:
    pale = QLabel("3.427")
    pale.setStyleSheet("color: #555555; background: #404040;")
    assert seen(qtbot, gallery, pale, colours=True) == ["pale"]
    assert seen(qtbot, gallery, QLabel("3.427"), colours=True) == []


def test_columns_are_as_wide_as_their_numbers_and_headings(qtbot: QtBot, gallery: Rig) -> None:
    heads = (Column("Wire", 20), Column("Frames a second", 20, "number"), Column("Name", 60))

    def table() -> RowList:
        made = RowList("Feeds", heads)
        made.setFixedSize(360, 120)
        made.show_lines([ListRow("a", ("sACN 62003", "44.125", "Kelp wall"))])
        return made

    assert seen(qtbot, gallery, table(), wide=400) == []
    dragged = table()
    dragged._dragged.add(0)  # a column that was made narrow by hand stays so
    dragged.setColumnWidth(0, 40)
    assert seen(qtbot, gallery, dragged, wide=400) == ["cut"]


def test_nothing_is_cut_covered_or_left_over_in_the_window(qtbot: QtBot, tmp_path: Path) -> None:
    THEME.name = "dark"
    eyes = Eyes()
    with shown_window(tmp_path) as window:
        look_through(eyes, window, FAST, both_rigs(window.session.rig), every=NTH)
    assert eyes.states > 20 and eyes.texts > 1000
    assert not eyes.found, "\n".join(f"{seen}: {state}" for seen, state in eyes.found.items())
