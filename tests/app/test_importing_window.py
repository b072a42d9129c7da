"""A new user's way: somebody else's table and scene into the rig, lists out of it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from tests.app.conftest import field_of, in_dialog, press_in_dialog
from tests.formats.test_mvr import scene
from welvo.app.patch.export import export_list
from welvo.app.patch.import_table import ImportTable
from welvo.app.patch.scenes import ImportScene, export_scene
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.window import Window
from welvo.demo.gallery import make_gallery
from welvo.formats.workbooks import read_grid, table_bytes
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.survey.spreadsheet import DRAFT

HEADS = ["Lamp", "What", "U", "Adr.", "Truss", "Shop"]


def sixty() -> list[list[str]]:
    """Sixty rows of someone else's: 40 floods, 12 bars under a name of their own, 8 of a type nobody here knows."""
    rows = [[str(1001 + n), "Lagoon flood", "40", str(1 + 8 * n), f"T{n // 10}", "x"] for n in range(40)]
    rows += [[str(1101 + n), "B9 long", "41", str(1 + 40 * n), "Floor", "x"] for n in range(12)]
    return rows + [[str(1201 + n), "Ghost", "42", str(1 + 10 * n), "Floor", "x"] for n in range(8)]


def choose(dialog: ImportTable, name: str, words: str) -> None:
    made = field_of(dialog, name)
    made.setCurrentIndex(made.findText(words))
    made.activated.emit(made.currentIndex())


@pytest.mark.parametrize("suffix", [".xlsx", ".ods", ".csv"])
def test_sixty_fixtures_of_somebody_else_s_table(
    make: Callable[[Rig], Window], tmp_path: Path, qtbot: QtBot, suffix: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / f"theirs{suffix}"
    file.write_bytes(table_bytes(suffix, "Lamps", HEADS, sixty(), [0, 2, 3]))
    window = make(make_gallery())
    s = window.session
    before = len(s.rig.fixtures)
    dialog = ImportTable(s, window.computer, file, window)
    dialog.show()
    assert not dialog.go.isEnabled() and "which column is the number" in dialog.saying.text()
    choose(dialog, "Column Lamp", "No.")
    choose(dialog, "Column What", "Profile or type")
    choose(dialog, "Column Adr.", "Address")
    choose(dialog, "Column Truss", "Hang point")
    assert dialog.columns == ["number", "profile", "universe", "first", "own:Hang point", ""]
    assert "40 added, 20 left out" in dialog.saying.text() and "Not read: Shop" in dialog.saying.text()
    choose(dialog, "Type B9 long", "Bar 9 · 38 slot")
    assert "52 added, 8 left out" in dialog.saying.text() and dialog.go.text() == "Import 52 rows"
    dialog.go.click()
    assert len(s.rig.fixtures) == before + 52 and len(s.selection.ids) == 52
    made = next(f for f in s.rig.fixtures.values() if f.number == 1102)
    assert made.fields == {"Hang point": "Floor"} and s.rig.profiles[made.profile].name == "Bar 9"
    # the next table of that kind is understood at once
    again = ImportTable(s, window.computer, file, window)
    assert (
        again.columns[0] == "number" and "52 as it is, 8 left out" in again.saying.text() and not again.go.isEnabled()
    )
    again.reject()
    s.undo_edit()
    assert len(s.rig.fixtures) == before


def test_a_clash_is_shown_before_anything_is_done_and_a_draft_is_made(
    make: Callable[[Rig], Window], tmp_path: Path
) -> None:
    file = tmp_path / "few.csv"
    file.write_text("No.;Type;Slots;Universe;Address;Colour\n901;Eel;20;1;30;L201\n902;Eel;20;44;1;L202\n")
    window = make(make_gallery())
    dialog = ImportTable(window.session, window.computer, file, window)
    dialog.take_type("Eel", DRAFT)
    dialog.take_column(5, "new")
    rows = {r.cells[2]: r.cells for r in dialog.list.rows.lines}
    assert rows["901"][1] == "clash" and "meets 101, 102" in rows["901"][4] and rows["902"][1] == "added"
    assert "1 row would meet others" in dialog.saying.text()
    dialog.take_wish()
    rig = window.session.rig
    assert rig.columns[-1] == "Colour" and any(p.name == "Eel" for p in rig.profiles.values())
    assert next(f for f in rig.fixtures.values() if f.number == 902).fields == {"Colour": "L202"}


def test_what_is_no_table_is_refused_before_a_dialog_opens(make: Callable[[Rig], Window], tmp_path: Path) -> None:
    window = make(make_gallery())
    bad = tmp_path / "bad.xlsx"
    bad.write_bytes(b"PK\x03\x04nonsense")
    window.files.take_dropped([bad])
    assert "is damaged" in window.message.words
    window.files.take_dropped([bad, bad])
    assert "Drop one rig" in window.message.words
    with pytest.raises(Refused, match="cannot be read"):
        window.files.import_file(tmp_path / "missing.csv")


def test_lists_are_exported_in_every_kind(
    make: Callable[[Rig], Window], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = make(make_gallery())
    for suffix in (".csv", ".xlsx", ".ods"):
        file = tmp_path / f"x{suffix}"
        monkeypatch.setattr(FileDialog, "ask_to_save", lambda *_, file=file: str(file))
        press_in_dialog("Choose a file…")
        window.menus.actions["export"].trigger()
        grid = read_grid(file)
        assert len(grid.rows) == 1 + len(window.session.rig.fixtures) + len(window.session.rig.elements)
        dialog = ImportTable(window.session, window.computer, file, window)
        assert not dialog.go.isEnabled() and "left out" not in dialog.saying.text()  # 118 is there twice, and the same
        dialog.reject()
    window.patch.list.items.sort(-1)
    window.patch.list.export_to(tmp_path / "list.xlsx")
    assert read_grid(tmp_path / "list.xlsx").rows[0][:2] == ("No.", "Name")
    export_list(window.session, "findings", tmp_path / "f.csv")
    assert "PATCH-01" in (tmp_path / "f.csv").read_text()
    with pytest.raises(Refused, match="is written as"):
        export_list(window.session, "ports", tmp_path / "f.doc")


def test_a_scene_is_taken_in_and_given_back(make: Callable[[Rig], Window], tmp_path: Path) -> None:
    file = tmp_path / "reef.mvr"
    file.write_bytes(scene("1"))
    window = make(make_gallery())
    seen = in_dialog(lambda d: d.go.click())
    window.files.take_dropped([file])
    assert isinstance(seen[0], ImportScene) and "2 added, 1 left out" in seen[0].saying.text()
    s = window.session
    assert len(s.selection.ids) == 2 and s.rig.scenes and s.history.undo_label == "import reef.mvr"
    export_scene(s, tmp_path / "out.mvr")
    again = ImportScene(s, tmp_path / "out.mvr", window)
    assert "left out" in again.saying.text() and "added" not in again.saying.text()
    again.reject()
    s.undo_edit()
    assert not s.rig.scenes
    (tmp_path / "bad.mvr").write_bytes(b"no")
    with pytest.raises(Refused, match="is no scene"):
        window.files.import_file(tmp_path / "bad.mvr")
