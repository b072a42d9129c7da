"""Words that are made to fit never lose a digit; rows break into lines; widths follow words and the size of text."""

from __future__ import annotations

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget
from pytestqt.qtbot import QtBot

from welvo.app.widgets.fitting import fit_parts, fit_words
from welvo.app.widgets.flow import HoldsLines, flow_of_widgets, keep_least, keep_width


def letters(words: str) -> float:
    return float(len(words))


@pytest.mark.parametrize(
    ("words", "room", "fits"),
    [
        ("3.427", 5, "3.427"), ("PENSTOCK over the basin, port 6", 20, "PENSTOCK ov…, port 6"),
        ("sACN 1, sACN 2 and sACN 3", 20, "sACN 1 and 2 more"), ("207, 208, 209 and 4 more", 16, "207 and 6 more"),
        ("207, 208, 209", 9, "207 + 2"), ("Kelp wall", 6, "Kelp…"), ("Kelp wall A · 12", 12, "Kelp… A · 12"),
    ],
)  # fmt: skip
def test_numbers_stay_whole_where_names_are_shortened(words: str, room: int, fits: str) -> None:
    assert fit_words(words, room, letters) == fits
    assert len(fits) <= room


@pytest.mark.parametrize(
    ("words", "room", "fits"),
    [("fold 100 · BGR", 14, "fold 100 · BGR"), ("fold 100 · BGR", 10, "fold 100"), ("a · b · c", 5, "a · b")],
)
def test_parts_behind_a_dot_go_as_a_whole(words: str, room: int, fits: str) -> None:
    assert fit_parts(words, room, letters) == fits


def test_a_row_takes_another_line_instead_of_squeezing(qtbot: QtBot) -> None:
    box = QWidget()
    qtbot.addWidget(box)
    body = QVBoxLayout(box)
    buttons = [QPushButton(f"Push {n} changes") for n in range(4)]
    body.addLayout(flow_of_widgets(*buttons, None))
    body.addStretch(1)
    need = sum(b.sizeHint().width() for b in buttons)
    for wide, lines in ((need + 200, 1), (need // 2 + 60, 2), (buttons[0].sizeHint().width() + 40, 4)):
        box.resize(wide, 300)
        box.show()
        QApplication.processEvents()
        assert len({b.y() for b in buttons}) == lines
        assert all(b.width() >= b.minimumSizeHint().width() for b in buttons)
        assert all(b.geometry().right() < wide for b in buttons)


def test_what_stretches_pushes_the_rest_to_the_right(qtbot: QtBot) -> None:
    box = QWidget()
    qtbot.addWidget(box)
    left, right = QPushButton("Left"), QPushButton("Right")
    row = flow_of_widgets(left, None, right)
    box.setLayout(row)
    box.resize(500, 40)
    box.show()
    QApplication.processEvents()
    assert left.x() == 0 and right.geometry().right() >= 498
    right.hide()
    QApplication.processEvents()
    assert row.count() == 3 and left.width() < 200


def test_a_holder_is_as_high_as_its_lines(qtbot: QtBot) -> None:
    holder = HoldsLines()
    qtbot.addWidget(holder)
    body = QVBoxLayout(holder)
    body.addLayout(flow_of_widgets(*(QPushButton(f"Push {n} changes") for n in range(3))))
    holder.show()
    holder.resize(900, 60)
    QApplication.processEvents()
    low = holder.minimumHeight()
    holder.resize(180, 60)
    QApplication.processEvents()
    assert holder.minimumHeight() > 2 * low - 20 and holder.height() >= holder.minimumHeight()


def test_a_field_grows_with_its_words(qtbot: QtBot) -> None:
    box = QWidget()
    qtbot.addWidget(box)
    body = QVBoxLayout(box)
    fixed, least = QLineEdit(), QLineEdit()
    for w, keep in ((fixed, keep_width), (least, keep_least)):
        body.addWidget(w)
        keep(w, 60)
    box.resize(600, 100)
    box.show()
    QApplication.processEvents()
    assert fixed.width() == 60 and least.width() > 400
    fixed.setText("12.001 to 12.090")
    assert fixed.minimumWidth() == fixed.maximumWidth() > 60
    assert fixed.minimumWidth() >= fixed.fontMetrics().horizontalAdvance(fixed.text())
    fixed.setText("1")
    assert fixed.minimumWidth() == 60
    assert QLabel().alignment() & Qt.AlignmentFlag.AlignVCenter
