"""The Sheets station: pages as they are printed, what is chosen for them, versions, merging."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

import pytest
from msgspec.structs import replace
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from tests.app.conftest import field_of, press_in_dialog
from tests.conftest import small_rig
from welvo.app.computer import save_passwords
from welvo.app.sheets.all_sheets import AllSheets
from welvo.app.sheets.merging import MergeRigs
from welvo.app.sheets.printing import PrintSheet, command_to_print, print_pdf
from welvo.app.sheets.station import SheetsStation
from welvo.app.sheets.versions import NOW
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.window import Window
from welvo.demo.gallery import make_gallery
from welvo.formats.rigfile import load_rig_file, save_rig_file
from welvo.formats.versions import in_time, name_version
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.sheets.catalogue import SHEETS
from welvo.sheets.pages import Pages


def ready(station: SheetsStation, qtbot: QtBot) -> list[str]:
    """Wait until the pages are made and drawn; their words."""
    qtbot.waitUntil(
        lambda: not station.is_making and (station.preview.is_drawn() or station.data is None), timeout=20_000
    )
    if station.data is None:
        return [station.preview.words]
    pages = Pages(station.data)
    try:
        return [pages.text_of_page(n) for n in range(len(pages))]
    finally:
        pages.close_pages()


def choice(station: SheetsStation, name: str, key: str) -> None:
    made = field_of(station.choices, name)
    made.setCurrentIndex(made.findData(key))
    made.activated.emit(made.currentIndex())


@pytest.fixture
def station(make: Callable[[Rig], Window], qtbot: QtBot) -> SheetsStation:
    window = make(make_gallery())
    window.show_station("Sheets")
    return window.sheets


def press(station: SheetsStation, words: str) -> None:
    found = next(b for b in station.window().findChildren(QPushButton) if b.text().startswith(words) and b.isVisible())
    found.click()


def test_what_is_shown_is_what_is_written(
    station: SheetsStation, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    words = ready(station, qtbot)
    assert "Universe 1" in words[0] and station.place.text() == f"1 of {len(words)}"
    file = tmp_path / "sheet.pdf"
    monkeypatch.setattr(FileDialog, "ask_to_save", lambda *_: str(file))
    press(station, "PDF…")
    assert file.read_bytes() == station.data
    station.write_png(tmp_path / "page.png")
    assert len(list(tmp_path.glob("page *.png"))) == len(words)
    with pytest.raises(Refused, match="could not be written"):
        station.write_pdf(tmp_path / "no folder" / "x.pdf")


def test_the_very_pdf_goes_to_the_printing_system(
    station: SheetsStation, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    ready(station, qtbot)
    lp = tmp_path / "lp"
    lp.write_text(f'#!/bin/sh\ncat > "{tmp_path}/printed.pdf"\necho "$@" > "{tmp_path}/asked"\n')
    lp.chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}:{os.environ['PATH']}")

    def fill() -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, PrintSheet)
        dialog.pages.setText("2-99")
        assert not dialog.act.isEnabled() and "not among them" in dialog.saying.text()
        dialog.copies.setText("none")
        assert "a number from 1 to 99" in dialog.saying.text()
        dialog.pages.setText("1, 2–2")
        dialog.copies.setText("3")
        assert dialog.saying.text() == "Prints pages 1, 2, 3 copies."
        dialog.act.click()

    QTimer.singleShot(0, fill)
    station.print_sheet()
    assert (tmp_path / "printed.pdf").read_bytes() == station.data
    assert (tmp_path / "asked").read_text().strip() == f"-s -t {SHEETS[station.choices.key].title} -n 3 -P 1,2"
    lp.write_text("#!/bin/sh\necho 'lp: no default destination' >&2\nexit 1\n")
    assert station.data
    with pytest.raises(Refused, match="refused: lp: no default destination"):
        print_pdf(station.data, command_to_print("", "x"))
    lp.unlink()
    monkeypatch.setenv("PATH", str(tmp_path))
    with pytest.raises(Refused, match="no printing system"):
        print_pdf(station.data, command_to_print("Hall", "x", sides="one-sided"))


def test_all_sheets_are_ticked_once_and_written_into_one_folder(
    station: SheetsStation, qtbot: QtBot, tmp_path: Path
) -> None:
    ready(station, qtbot)

    def fill(keep: tuple[str, ...]) -> None:
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, AllSheets)
        asked.append(dialog.wanted)
        dialog.folder.setText(str(tmp_path / "nowhere"))
        assert not dialog.act.isEnabled() and "no such folder" in dialog.saying.text()
        dialog.folder.setText(str(tmp_path))
        for key, tick in dialog.ticks.items():
            if tick.isChecked() != (key in keep):
                tick.click()
        assert dialog.act.text() == f"Write {len(keep)} sheets"
        dialog.act.click()

    asked: list[list[str]] = []
    for _ in range(2):
        QTimer.singleShot(0, lambda: fill(("patch", "labels", "changes")))
        station.ask_all()
    assert asked == [list(SHEETS), ["patch", "labels", "changes"]]  # what was ticked is known the next time
    written = sorted(p.name for p in tmp_path.glob("*.pdf"))
    said = station.window().message.words  # type: ignore[attr-defined]
    assert f"Drift Gallery {SHEETS['patch'].title}.pdf" in written and said.startswith(f"{len(written)} sheets written")
    with pytest.raises(Refused, match="could not be written"):
        station.write_all(["patch"], tmp_path / "nowhere")


def test_pages_of_another_sheet_are_never_shown_under_its_title(station: SheetsStation, qtbot: QtBot) -> None:
    """What is being made is said over what was shown before, and what is stopped is not shown at all."""
    ready(station, qtbot)
    station.choose_sheet("labels")
    assert station.preview.is_dimmed and SHEETS["labels"].title in station.preview.waits_for
    assert station.place.text() == "…"
    ready(station, qtbot)
    assert not station.preview.is_dimmed and station.place.text().startswith("1 of ")
    station.choose_sheet(next(iter(SHEETS)))
    station.stop_making()
    assert station.preview.pages is None and "Stopped" in station.preview.words and station.place.text() == "no pages"


def test_every_sheet_is_reached_by_the_keyboard_and_turned_through(station: SheetsStation, qtbot: QtBot) -> None:
    ready(station, qtbot)
    station.list.setFocus()
    for key in list(SHEETS)[1:]:
        qtbot.keyClick(station.list, Qt.Key.Key_Down)
        assert station.choices.key == key
        assert ready(station, qtbot)[0]
    station.choose_sheet("map")
    count = len(ready(station, qtbot))
    station.preview.setFocus()
    qtbot.keyClick(station.preview, Qt.Key.Key_PageDown)
    qtbot.keyClick(station.preview, Qt.Key.Key_PageDown)
    assert station.preview.page_in_view == 3 and station.place.text() == f"3 of {count}"
    qtbot.keyClick(station.preview, Qt.Key.Key_End)
    assert station.preview.page_in_view == count
    before = station.preview.zoom_in_use
    qtbot.keyClick(station.window(), Qt.Key.Key_Plus, Qt.KeyboardModifier.ControlModifier)
    assert station.preview.zoom_in_use > before and station.preview.page_in_view == count


def test_choices_shape_the_pages_and_are_kept_for_the_next_time(
    station: SheetsStation, qtbot: QtBot, make: Callable[[Rig], Window]
) -> None:
    station.choose_sheet("numbers")
    ready(station, qtbot)
    choice(station, "Paper", "A5")
    choice(station, "Split by", "universe")
    choice(station, "Dates", "%d.%m.%Y")
    station.choices.set_column("note", False)
    header = field_of(station.choices, "Header")
    header.setText("Hall 2, opening night")
    assert header.commit()
    words = ready(station, qtbot)
    assert "Universe 1" in words[0] and "Hall 2, opening night" in words[0] and "Remark" not in words[0]
    again = make(make_gallery()).computer
    assert (
        again.load_settings().sheets["numbers"]["group"] == "universe"
        and again.load_settings().sheets[""]["paper"] == "A5"
    )
    window = station.window()
    assert isinstance(window, Window)
    window.session.select_items(["f207"])
    only = field_of(station.choices, "Only what is selected")
    only.click()
    assert "1 item" in ready(station, qtbot)[0]
    window.session.select_items(["f207", "f206"])
    assert "2 items" in ready(station, qtbot)[0]
    for key in ("number", "name"):
        with pytest.raises(Refused, match="one column at least"):
            station.choices.take_choice("columns", key)
            station.choices.set_column(key, False)


def test_labels_take_any_stock_and_refuse_what_does_not_fit(station: SheetsStation, qtbot: QtBot) -> None:
    station.choose_sheet("labels")
    ready(station, qtbot)

    measures = field_of(station.choices, "Measures")
    measures.setText("70 x 37, 4 x 8 on A4")
    assert not measures.commit() and "do not fit" in measures.refusal.text()
    measures.setText("100 x 50, 2 x 5 on A4")
    assert measures.commit()
    assert len(ready(station, qtbot)) == -(-len([f for f in make_gallery().fixtures if f != "f704"]) // 10)
    first = field_of(station.choices, "First label")
    first.setText("11")
    assert not first.commit()
    first.setText("10")
    assert first.commit()
    assert "102" in ready(station, qtbot)[1] and station.choices.chosen_choices().first_label == 10


def test_an_edit_makes_the_pages_anew_and_a_logo_travels_with_the_rig(
    station: SheetsStation, qtbot: QtBot, tmp_path: Path
) -> None:
    ready(station, qtbot)
    window = station.window()
    assert isinstance(window, Window)
    window.session.make_edit(edits.move_item, "f101", 0, "u1", 490 - 20)
    station.choose_sheet("numbers")
    assert "1.470" in ready(station, qtbot)[0]
    picture = tmp_path / "logo.png"
    picture.write_bytes(b"GIF89a")
    with pytest.raises(Refused, match="no PNG or JPEG"):
        station.choices.set_logo(picture)
    station.window().grab().save(str(picture))
    station.choices.set_logo(picture)
    plain = len(station.data or b"")
    ready(station, qtbot)
    assert "logo" in window.session.rig.pictures and len(station.data or b"") > plain + 1000
    station.choices.drop_logo()
    ready(station, qtbot)
    assert "logo" not in window.session.rig.pictures


def test_making_can_be_stopped_and_an_empty_rig_says_what_to_do(make: Callable[[Rig], Window], qtbot: QtBot) -> None:
    lamp = small_rig().fixtures["a"]
    many = {f"f{n}": replace(lamp, number=n + 1, at=()) for n in range(4000)}
    window = make(replace(small_rig(), fixtures=many))
    window.show_station("Sheets")
    station = window.sheets
    qtbot.waitUntil(lambda: station.stop_button.isVisible(), timeout=5000)
    station.stop_button.click()
    qtbot.waitUntil(lambda: station.maker.wait_until_settled(0.01), timeout=5000)
    assert station.data is None and "Stopped" in station.progress.text()
    empty = make(Rig())
    empty.show_station("Sheets")
    assert empty.sheets.empty.isVisible()
    press(empty.sheets, "Go to Patch")
    assert empty.station == "Patch"


# ---- versions


def test_a_version_is_named_compared_shown_on_tapes_and_taken_back(
    make: Callable[[Rig], Window], qtbot: QtBot, tmp_path: Path
) -> None:
    window = make(make_gallery())
    s = window.session
    window.show_station("Sheets")
    page = window.sheets.versions
    window.sheets.show_page("Versions")
    press_in_dialog("Name it Issue 1")
    page.name.click()
    (version,) = s.rig.versions.values()
    assert version.name == "Issue 1" and "nothing is different" in page.counts.text()
    s.make_edit(edits.move_item, "f112", 0, "u1", 470)
    s.make_edit(edits.take_out_items, ["f101"])
    assert "1 removed, 1 re-addressed" in page.counts.text()
    rows = {r.cells[1]: r.cells for r in page.differences.rows.lines}
    assert rows["112"][3:] == ("1.441", "1.470") and rows["101"][0] == "removed"
    page.on_tapes.click()
    assert s.since.kinds == {"f101": "removed", "f112": "re-addressed"}
    assert s.since.before["u1"] == ((1, 38, "101"), (441, 478, "112"))
    shown = window.patch.tapes.grab().toImage()
    page.on_tapes.click()
    assert not s.since.kinds
    window.show_station("Patch")
    page.on_tapes.setChecked(True)
    page._mark_in_stations(True)
    assert window.patch.tapes.grab().toImage() != shown
    window.show_station("Sheets")
    n = next(n for n, d in enumerate(page.found) if d.who == "101")
    page.differences.selectRow(page.differences.rows.row_of(n))
    page.back.click()
    assert "f101" in s.rig.fixtures and s.history.undo_label == "take back: 101 removed"
    s.undo_edit()
    assert "f101" not in s.rig.fixtures
    page.differences.clearSelection()
    with pytest.raises(Refused, match="Choose what to take back"):
        page.take_back()
    other = tmp_path / "other.welvo"
    save_rig_file(make_gallery(), other)
    page.choose_versions(page.add_file(other), NOW)
    assert "From other.welvo to now" in page.counts.text()
    page.choose_versions(NOW, str(other))
    assert not page.back.isEnabled() and {d.kind for d in page.found} >= {"added", "re-addressed"}
    page.list.selectRow(0)
    page.drop_chosen()
    assert not s.rig.versions


def test_the_sheet_of_changes_counts_from_the_last_issue(make: Callable[[Rig], Window], qtbot: QtBot) -> None:
    rig, _ = name_version(make_gallery(), "Issue 1", "Ines", "", 5.0)
    window = make(rig)
    window.session.make_edit(edits.move_item, "f112", 0, "u1", 470)
    window.show_station("Sheets")
    window.sheets.choose_sheet("changes")
    words = ready(window.sheets, qtbot)
    assert "Changes since Issue 1" in words[0] and "1.441" in words[0] and "Issue 1, changed since" in words[0]
    s = window.session
    s.make_edit(name_version, "Issue 2", "Ines", "", 9.0)
    s.make_edit(edits.move_item, "f111", 0, "u1", 470)
    first, second = in_time(s.rig)
    choice(window.sheets, "Changes since", first)
    choice(window.sheets, "Up to", second)
    words = ready(window.sheets, qtbot)
    assert "Changes since Issue 1, up to Issue 2" in words[0] and "1.441" in words[0] and "1.401" not in words[0]


def test_passwords_are_printed_only_when_they_are_asked_for_and_that_is_forgotten(
    station: SheetsStation, qtbot: QtBot
) -> None:
    save_passwords({"127.0.0.50": "kelp and salt"})
    station.choose_sheet("cards")
    assert "kelp and salt" not in " ".join(ready(station, qtbot))
    field_of(station.choices, "With passwords").click()
    assert "kelp and salt" in " ".join(ready(station, qtbot))
    station.choose_sheet("numbers")
    ready(station, qtbot)
    station.choose_sheet("cards")
    assert "kelp and salt" not in " ".join(ready(station, qtbot))


def test_two_people_s_work_is_merged_with_a_word_for_what_both_changed(
    make: Callable[[Rig], Window], tmp_path: Path
) -> None:
    base, _ = name_version(make_gallery(), "Issue 1", "", "", 1.0)
    theirs, _ = edits.move_item(base, "f112", 0, "u1", 470)
    theirs, _ = edits.set_field(theirs, ["f101"], "Circuit", ["C9"])
    file = tmp_path / "theirs.welvo"
    save_rig_file(theirs, file)
    window = make(base)
    s = window.session
    s.make_edit(edits.move_item, "f112", 0, "u1", 475)
    s.make_edit(edits.set_field, ["f102"], "Circuit", ["C7"])
    dialog = MergeRigs(s, window)
    dialog.set_theirs(file)  # the version that both have is found by itself
    assert [r.cells for r in dialog.list.rows.lines] == [("112", "address", "1.475", "1.470", "?")]
    assert not dialog.go.isEnabled() and "1 still to be decided" in dialog.saying.text()
    dialog.decide("theirs")
    assert dialog.go.isEnabled()
    dialog.take_wish()
    f = s.rig.fixtures
    assert (
        f["f112"].at[0].address == 470 and f["f101"].fields["Circuit"] == "C9" and f["f102"].fields["Circuit"] == "C7"
    )
    assert s.history.undo_label == "merge" and load_rig_file(file).name == s.rig.name
    s.undo_edit()
    assert s.rig.fixtures["f112"].at[0].address == 475
    (tmp_path / "bad.welvo").write_bytes(b"PK junk")
    with pytest.raises(Refused, match="damaged"):
        dialog.set_theirs(tmp_path / "bad.welvo")
    dialog.reject()
