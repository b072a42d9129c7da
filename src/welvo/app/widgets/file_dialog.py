"""Asking for a file: Qt's own dialog in the look of the window, with plain words and the folders used lately.

The desktop's own dialog would come in the desktop's colours, bright over a dark window in a dark hall.
"""

from __future__ import annotations

import re
from pathlib import Path

from PySide6.QtCore import QUrl
from PySide6.QtWidgets import QFileDialog, QHeaderView, QSplitter, QTreeView, QWidget

from welvo.app.computer import Computer
from welvo.app.widgets.theme import THEME
from welvo.formats.files import path_to_text

KEPT = 6
"""How many folders are offered."""


class Folders:
    """The folders that files were opened from and saved to lately, kept with the settings of this computer."""

    def __init__(self) -> None:
        self._computer = Computer()

    def keep_in(self, computer: Computer) -> None:
        self._computer = computer

    @property
    def recent(self) -> list[Path]:
        """Those that are there, the latest first; folders of recent rigs come after them."""
        known = [Path(f) for f in self._computer.folders] + [Path(f).parent for f in self._computer.recent]
        return [f for f in dict.fromkeys(known) if f.is_absolute() and f.is_dir()][:KEPT]

    def remember(self, folder: Path) -> None:
        text = path_to_text(folder)
        self._computer.folders = [text, *[f for f in self._computer.folders if f != text]][:KEPT]


FOLDERS = Folders()


class FileDialog(QFileDialog):
    """`start` is a folder or a whole file name; without one, or with the home folder, it begins where it was last."""

    def __init__(
        self, parent: QWidget | None, title: str, start: str, kinds: str, *, save: bool = False, folder: bool = False
    ) -> None:
        recent = FOLDERS.recent
        if recent and (not start or Path(start) == Path.home()):
            start = str(recent[0])
        name = Path(start).name if save or not Path(start).is_dir() else ""
        within = str(Path(start).parent if name else start)
        super().__init__(parent.window() if parent else None, title, within, kinds)
        self.setOption(QFileDialog.Option.DontUseNativeDialog)
        self.setAcceptMode(QFileDialog.AcceptMode.AcceptSave if save else QFileDialog.AcceptMode.AcceptOpen)
        self.setFileMode(QFileDialog.FileMode.AnyFile if save else QFileDialog.FileMode.ExistingFile)
        if folder:
            self.setFileMode(QFileDialog.FileMode.Directory)
            self.setOption(QFileDialog.Option.ShowDirsOnly)
        self.setSizeGripEnabled(False)
        self.setViewMode(QFileDialog.ViewMode.Detail)
        words = {
            QFileDialog.DialogLabel.LookIn: "Folder",
            QFileDialog.DialogLabel.FileName: "Name",
            QFileDialog.DialogLabel.FileType: "Kind",
            QFileDialog.DialogLabel.Accept: "Save" if save else "Choose" if folder else "Open",
            QFileDialog.DialogLabel.Reject: "Cancel",
        }
        for label, word in words.items():
            self.setLabelText(label, word)
        places = [Path.home(), *(f for f in recent if f != Path.home())]
        self.setSidebarUrls([QUrl.fromLocalFile(str(p)) for p in places])
        if save:
            self.filterSelected.connect(self._take_suffix)
            self._take_suffix(self.selectedNameFilter())
        if name:
            self.selectFile(name)
        self.resize(THEME.scale_length(800), THEME.scale_length(460))
        for view in self.findChildren(QTreeView):
            view.header().setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        for between in self.findChildren(QSplitter):
            between.setSizes([THEME.scale_length(180), THEME.scale_length(600)])

    def _take_suffix(self, kind: str) -> None:
        """A name without a suffix gets the first one of the kind that is chosen."""
        found = re.search(r"\(\*\.(\w+)", kind)
        self.setDefaultSuffix(found[1] if found else "")

    @classmethod
    def ask_to_open(cls, parent: QWidget | None, title: str, start: str, kinds: str) -> str:
        """The file that was picked; empty where the question was left."""
        return cls._ask(parent, title, start, kinds, save=False)

    @classmethod
    def ask_to_save(cls, parent: QWidget | None, title: str, start: str, kinds: str) -> str:
        """The file to be written, asked about where it is there already; empty where the question was left."""
        return cls._ask(parent, title, start, kinds, save=True)

    @classmethod
    def ask_for_folder(cls, parent: QWidget | None, title: str, start: str) -> str:
        """The folder that was picked; empty where the question was left."""
        return cls._ask(parent, title, start, "", folder=True)

    @classmethod
    def _ask(
        cls, parent: QWidget | None, title: str, start: str, kinds: str, *, save: bool = False, folder: bool = False
    ) -> str:
        dialog = cls(parent, title, start, kinds, save=save, folder=folder)
        try:
            if not dialog.exec() or not dialog.selectedFiles():
                return ""
            found = dialog.selectedFiles()[0]
            FOLDERS.remember(Path(found) if folder else Path(found).parent)
            return found
        finally:
            dialog.deleteLater()
