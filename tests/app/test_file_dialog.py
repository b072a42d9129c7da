"""The questions for files: plain words, the look of the window, and the folders that were used lately."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtWidgets import QFileDialog, QPushButton
from pytestqt.qtbot import QtBot

from welvo.app.computer import Computer
from welvo.app.widgets.file_dialog import FOLDERS, KEPT, FileDialog


@pytest.fixture
def computer() -> Iterator[Computer]:
    made = Computer()
    FOLDERS.keep_in(made)
    yield made
    FOLDERS.keep_in(Computer())


def folders(tmp_path: Path, count: int) -> list[Path]:
    made = [tmp_path / f"folder {n}" for n in range(count)]
    for f in made:
        f.mkdir()
    return made


def test_the_folders_used_lately_are_offered_and_those_that_are_gone_are_not(
    computer: Computer, tmp_path: Path, qtbot: QtBot
) -> None:
    some = folders(tmp_path, KEPT + 2)
    computer.recent = [str(some[0] / "hall.welvo"), "no absolute path"]
    for f in some[1:]:
        FOLDERS.remember(f)
    assert FOLDERS.recent == list(reversed(some[2:]))  # the latest first, and no more than are kept
    some[-1].rmdir()
    assert some[-1] not in FOLDERS.recent and some[0] in FOLDERS.recent  # then folders of recent rigs
    dialog = FileDialog(None, "Open a rig", str(Path.home()), "Rigs (*.welvo *.json);;All files (*)")
    qtbot.addWidget(dialog)
    assert Path(dialog.directory().absolutePath()) == some[-2]  # begins where it was last
    places = [Path(u.toLocalFile()) for u in dialog.sidebarUrls()]
    assert places == [Path.home(), *FOLDERS.recent]
    words = {b.text().replace("&", "") for b in dialog.findChildren(QPushButton)}
    assert {"Open", "Cancel"} <= words and dialog.testOption(QFileDialog.Option.DontUseNativeDialog)


@pytest.mark.parametrize(
    ("kind", "suffix"), [("Rig (*.welvo)", "welvo"), ("PDF (*.pdf)", "pdf"), ("All files (*)", "")]
)
def test_a_name_without_a_suffix_gets_that_of_its_kind(
    computer: Computer, tmp_path: Path, qtbot: QtBot, kind: str, suffix: str
) -> None:
    dialog = FileDialog(None, "Save", str(tmp_path / "hall"), f"{kind};;Rig as bare JSON (*.json)", save=True)
    qtbot.addWidget(dialog)
    assert dialog.defaultSuffix() == suffix and dialog.selectedFiles()[0].startswith(str(tmp_path / "hall"))
    dialog.filterSelected.emit("Rig as bare JSON (*.json)")
    assert dialog.defaultSuffix() == "json"


def test_what_was_picked_is_given_and_its_folder_remembered(
    computer: Computer, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, qtbot: QtBot
) -> None:
    home, other = folders(tmp_path, 2)
    file = home / "hall.welvo"
    file.write_text("{}")
    picked: list[str] = []
    monkeypatch.setattr(FileDialog, "exec", lambda _: bool(picked))
    monkeypatch.setattr(FileDialog, "selectedFiles", lambda _: picked)
    assert FileDialog.ask_to_save(None, "Save", str(other / "x.welvo"), "Rigs (*.welvo)") == ""
    assert computer.folders == []  # a question that was left is no use of a folder
    picked.append(str(file))
    assert FileDialog.ask_to_open(None, "Open a rig", str(home), "Rigs (*.welvo)") == str(file)
    assert computer.folders == [str(home)]
    picked[:] = [str(other)]
    assert FileDialog.ask_for_folder(None, "Folder", str(tmp_path)) == str(other)
    assert computer.folders == [str(other), str(home)]
