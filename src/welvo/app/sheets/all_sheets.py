"""All sheets…: which sheets of the rig, one folder, one click."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from PySide6.QtWidgets import QGridLayout, QWidget

from welvo.app.computer import Computer
from welvo.app.sheets.maker import SheetWish
from welvo.app.widgets.dialogs import Dialog, line_to_type_into
from welvo.app.widgets.fields import Tick
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.widgets.flow import flow_of_widgets
from welvo.app.widgets.painting import make_button, make_label
from welvo.formats.files import RigFileError, write_atomic
from welvo.rig.base import Refused
from welvo.rig.notation import say_count
from welvo.rig.steps import take_step
from welvo.sheets.catalogue import SHEETS, file_name, make_pdf

LEFT_OUT = "all sheets without"
"""Under which name the sheets that are not wanted are kept, so that one that is new is among the wanted."""


def write_sheets(wishes: Sequence[SheetWish], folder: Path) -> tuple[list[str], dict[str, str]]:
    """Make sheets and write each into a folder as a PDF of its own. Gives the names of the files, and by title why one
    could not be made. Raises Refused where nothing can be written there, Stopped."""
    made: list[str] = []
    failed: dict[str, str] = {}
    for n, wish in enumerate(wishes):
        take_step("sheet", n + 1, len(wishes), every=1)
        material = wish.material_of_wish()
        try:
            data = make_pdf(material, wish.key, wish.choices, lambda *_: take_step("sheet", n + 1, len(wishes), 1))  # noqa: B023
        except Refused as e:
            failed[SHEETS[wish.key].title] = str(e)
            continue
        name = f"{file_name(material, wish.key)}.pdf"
        try:
            write_atomic(folder / name, data, keep=True)
        except (RigFileError, OSError) as e:
            raise Refused(str(e)) from e
        made.append(name)
    return made, failed


class AllSheets(Dialog):
    """A tick for each sheet, and the folder; `write` gets the keys of those that are wanted and the folder."""

    def __init__(
        self, computer: Computer, folder: Path, write: Callable[[list[str], Path], object], parent: QWidget
    ) -> None:
        note = "Each sheet becomes a PDF of its own, with what is chosen for it. Files of the same name are replaced."
        super().__init__(parent, "All sheets", note=note, wide=620)
        self._computer, self._write = computer, write
        without = set(computer.sheets.get("", {}).get(LEFT_OUT, "").split("\t"))
        self.ticks: Mapping[str, Tick] = {
            key: Tick(sheet.title, sheet.help, lambda _: self._say()) for key, sheet in SHEETS.items()
        }
        grid = QGridLayout()
        grid.setSpacing(4)
        rows = (len(self.ticks) + 1) // 2
        for n, (key, tick) in enumerate(self.ticks.items()):
            tick.setChecked(key not in without)
            grid.addWidget(tick, n % rows, n // rows)
        self.body.addLayout(grid)
        every = make_button("Tick all", lambda: self._tick_all(True), "All sheets are wanted.")
        none = make_button("Tick none", lambda: self._tick_all(False), "No sheet is wanted, to begin anew.")
        self.body.addLayout(flow_of_widgets(every, none, None))
        self.folder = line_to_type_into("Folder", "Where the files go.", str(folder), 0)
        self.folder.textChanged.connect(lambda _: self._say())
        pick = make_button("Choose…", self._pick_folder, "Picks another folder.")
        self.body.addLayout(flow_of_widgets(make_label("Folder"), self.folder, pick))
        self.act = make_button("Write", self._do, "Makes and writes them; it can be stopped.", primary=True)
        self.finish(self.act, room=20)
        self._say()

    @property
    def wanted(self) -> list[str]:
        return [k for k, t in self.ticks.items() if t.isChecked()]

    def _tick_all(self, on: bool) -> None:
        for t in self.ticks.values():
            t.setChecked(on)
        self._say()

    def _say(self) -> None:
        count, folder = len(self.wanted), Path(self.folder.text().strip())
        there = folder.is_absolute() and folder.is_dir()
        self.act.setText(f"Write {say_count(count, 'sheet')}" if count else "Write")
        self.act.setEnabled(bool(count) and there)
        if not there:
            self.refused("There is no such folder.")
        else:
            self.say("" if count else "No sheet is ticked.")

    def _pick_folder(self) -> None:
        found = FileDialog.ask_for_folder(self, "Folder for the sheets", self.folder.text())
        if found:
            self.folder.setText(found)

    def _do(self) -> None:
        wanted = self.wanted
        kept = self._computer.sheets.get("", {})
        without = "\t".join(k for k in SHEETS if k not in wanted)
        self._computer.sheets = {**self._computer.sheets, "": {**kept, LEFT_OUT: without}}
        self._computer.save_settings()
        self._write(wanted, Path(self.folder.text().strip()))
        self.accept()
