"""What every list can: natural order, a filter, columns to hide, copying and export; and pages with nothing on them."""

from __future__ import annotations

import csv
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot

from tests.app.conftest import answer, in_dialog
from welvo.app.runs.supplies import Supplies
from welvo.app.widgets.dialogs import ask_act, ask_line, ask_which
from welvo.app.widgets.empty import EmptyPage
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.widgets.tables import Column, ListRow, RowList
from welvo.app.window import Window
from welvo.rig.base import Refused

HEADS = (Column("", 20, "mark"), Column("Port", 60), Column("Pixels", 60, "number"), Column("Full", 60, "bar"))


@pytest.fixture
def ports(qtbot: QtBot) -> RowList:
    made = RowList("Ports", HEADS)
    qtbot.addWidget(made)
    made.show_lines([ListRow(n, ("", f"A{n}", str(n * 10), "1/0/2"), ("", f"A{n}", n * 10)) for n in (10, 2, 1)])
    return made


def test_rows_stand_in_natural_order_both_ways(ports: RowList) -> None:
    ports.sortByColumn(1, Qt.SortOrder.AscendingOrder)
    assert ports.rows.ids == [1, 2, 10]
    ports.sortByColumn(2, Qt.SortOrder.DescendingOrder)
    assert ports.rows.ids == [10, 2, 1]


def test_the_selection_stays_with_its_row_when_rows_move(ports: RowList) -> None:
    ports.selectRow(ports.rows.row_of(2))
    ports.sortByColumn(1, Qt.SortOrder.AscendingOrder)
    assert ports.chosen_ids() == [2] and ports.rows.row_of(2) == 1


def test_a_filter_wants_every_word_and_hides_without_losing(ports: RowList) -> None:
    ports.rows.set_filter("a1 100")
    assert ports.rows.ids == [10] and ports.rows.row_of(2) == -1
    ports.rows.set_filter("")
    assert set(ports.rows.ids) == {1, 2, 10}


def test_copied_and_exported_are_headings_and_rows_as_shown(ports: RowList, tmp_path: Path) -> None:
    ports.sortByColumn(1, Qt.SortOrder.AscendingOrder)
    ports.selectRow(1)
    QTest.keyClick(ports, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    assert QGuiApplication.clipboard().text() == "Port\tPixels\nA2\t20\n"
    ports._toggle_column("Port")
    ports.export_to(tmp_path / "ports")
    with (tmp_path / "ports.csv").open() as file:
        assert list(csv.reader(file)) == [["Pixels"], ["10"], ["20"], ["100"]]
    with pytest.raises(Refused):
        ports.export_to(tmp_path / "none" / "ports.csv")


def test_every_list_of_the_window_can_be_copied_from(window: Window) -> None:
    window.show_station("Patch")
    for page, lists in (("Wires", ("feeds", "boxes")), ("Capacity", ("table",)), ("Senders", ("senders", "uses"))):
        window.patch.show_page(page)
        for name in lists:
            shown = getattr(window.patch.stack.currentWidget(), name)
            shown.copy_rows(whole=True)
            lines = QGuiApplication.clipboard().text().splitlines()
            assert len(lines) == len(shown.listed.ids) + 1 and lines[1].strip(), name
            assert "copied, with headings" in window.message.words
    window.toggle_findings()
    window.drawer.copy_findings()
    assert QGuiApplication.clipboard().text().startswith("Code\tSeverity\tWhere")


def test_what_a_list_in_a_dialog_does_is_said_there(window: Window) -> None:
    dialog = Supplies(window.session, window)
    dialog.list.copy_rows(whole=True)
    assert "2 rows copied" in dialog.saying.text() and dialog.saying.property("refusal") in (None, False)


def test_a_refused_line_stays_in_its_dialog_and_escape_leaves(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    taken: list[str] = []

    def act(words: str) -> None:
        if words != "good":
            raise Refused(f"“{words}” is not good.")
        taken.append(words)

    dialogs = answer("bad")
    assert not ask_line(window, "A line", "What?", act)
    assert "“bad” is not good." in dialogs[0].saying.text() and dialogs[0].saying.property("refusal") and not taken
    answer("good")
    assert ask_line(window, "A line", "What?", act) and taken == ["good"]
    in_dialog(lambda d: QTest.keyClick(d, Qt.Key.Key_Escape))
    assert ask_which(window, "Which", "Into which?", [("a", "A"), ("b", "B")]) is None
    in_dialog(lambda d: QTest.keyClick(d, Qt.Key.Key_Return))
    assert ask_which(window, "Which", "Into which?", [("a", "A"), ("b", "B")]) == "a"
    in_dialog(lambda d: QTest.keyClick(d, Qt.Key.Key_Return))
    assert ask_act(window, "Not saved", "It is not.", [("discard", "Discard"), ("save", "Save")], "Stay") == "save"
    in_dialog(lambda d: QTest.keyClick(d, Qt.Key.Key_Escape))
    assert ask_act(window, "Not saved", "It is not.", [("discard", "Discard"), ("save", "Save")], "Stay") == ""


def test_an_exported_list_asks_for_its_file(ports: RowList, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(FileDialog, "ask_to_save", lambda *a: str(tmp_path / "p.csv"))
    ports.export_list()
    assert (tmp_path / "p.csv").read_text().count("\n") == 4


def test_an_empty_page_says_what_belongs_here(qtbot: QtBot) -> None:
    page = EmptyPage("No lamps", ("One", "Two"), hint=True)
    qtbot.addWidget(page)
    assert [x.text() for x in page.findChildren(QLabel)][:3] == ["No lamps", "One", "Two"]
