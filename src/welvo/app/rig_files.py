"""Files of a window's rig: opening, saving, importing, exporting, and what to do with a rig that is not saved."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PySide6.QtCore import QObject, Qt, Signal
from PySide6.QtWidgets import QMenu, QWidget

from welvo.app.computer import Computer
from welvo.app.disk import Newest, wait_for
from welvo.app.session import Session
from welvo.app.widgets import dialogs
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.widgets.literal import literal_text, menu_words, visible_letters
from welvo.app.widgets.refusals import do_guarded
from welvo.app.widgets.start import Start
from welvo.formats.files import (
    ChangedOnDisk,
    RigFileError,
    Stamp,
    backup_words,
    free_name,
    path_to_text,
    shown_name,
    text_to_path,
)
from welvo.formats.rigfile import save_rig_file as write_rig
from welvo.live.worker import WorkerFaults
from welvo.rig.document import Rig
from welvo.rig.edits import rename_rig

RIGS = (".welvo", ".json")
PROFILES = (".gdtf", ".csv", ".txt")
TABLES = (".xlsx", ".ods", ".mvr")


class RigFiles(QObject):
    """Saving goes on beside the window; a save that comes while another is under way follows it."""

    _ended = Signal(object)
    """A save beside the window has ended: the rig, its path, and what came of it."""

    def __init__(self, window: QWidget, session: Session, computer: Computer, faults: WorkerFaults) -> None:
        super().__init__(window)
        self._window, self._session, self._computer = window, session, computer
        self._saver = Newest("saving", faults)
        self._followed_by: dict[Stamp | None, Stamp] = {}
        """What each file that was saved over has become."""
        self._starts: list[Start] = []
        self._ended.connect(self._saved_soon, Qt.ConnectionType.QueuedConnection)

    def close(self) -> None:
        """Finish what is being saved."""
        self._saver.finish_and_stop(60.0)

    # ---- leaving and opening

    def may_leave(self) -> bool:
        """Ask what to do with a rig that is not saved. False means stay."""
        self._session.commit_pending()
        if not self._session.has_unsaved_edits:
            return True
        wanted = dialogs.ask_act(
            self._window,
            "Not saved",
            f"“{self._session.rig.name}” has changes that are in no file yet.",
            [("discard", "Discard them"), ("save", "Save them")],
            "Stay here",
        )
        return self.save() if wanted == "save" else wanted == "discard"

    def begin_new(self) -> None:
        if self.may_leave():
            self._session.replace_rig(Rig(), None)

    def ask_open(self) -> None:
        if self.may_leave():
            name = FileDialog.ask_to_open(
                self._window, "Open a rig", self._folder(), "Rigs (*.welvo *.json);;All files (*)"
            )
            if name:
                self.open(Path(name))

    def open(self, path: Path) -> bool:
        """Open a file in place of the present rig; what cannot be opened changes nothing."""
        if not self._session.open_file(path):
            return False
        self._computer.remember_file(path)
        self._computer.save_settings()
        return True

    def fill_recent(self, menu: QMenu) -> None:
        """The menu of the rigs that were opened last."""
        menu.clear()
        for path in self._recent():
            entry = menu.addAction(menu_words(shown_name(path)), partial(self.open_recent, path))
            entry.setToolTip(literal_text(path_to_text(path)))
        if not self._computer.recent:
            menu.addAction("nothing opened yet").setEnabled(False)

    def open_recent(self, path: Path) -> None:
        if self.may_leave():
            self.open(path)

    def begin_at(self, start: Start) -> None:
        """Let a station's empty page offer rigs to begin with."""
        start.open_file.connect(self.ask_open)
        start.open_recent.connect(self.open_recent)
        self._starts.append(start)
        self.offer_starts()

    def offer_starts(self) -> None:
        """Where there is nothing at all yet, the empty pages also say where else to begin."""
        rig = self._session.rig
        nothing = not (rig.profiles or rig.fixtures or rig.elements or rig.devices or self._session.path)
        for start in self._starts:
            if nothing:
                start.offer_recent(self._recent())
            start.setVisible(nothing)

    def _recent(self) -> list[Path]:
        return [p for p in map(text_to_path, self._computer.recent) if p]

    def _folder(self) -> str:
        return str(self._session.path.parent) if self._session.path else str(Path.home())

    # ---- taking in

    def take_dropped(self, files: list[Path]) -> None:
        """Open a rig, take profiles into the rig; of anything else is said what it is not."""
        rigs = [f for f in files if f.suffix.lower() in RIGS]
        profiles = [f for f in files if f.suffix.lower() in PROFILES]
        tables = [f for f in files if f.suffix.lower() in TABLES]
        others = [f for f in files if f not in rigs and f not in profiles and f not in tables]
        if others:
            name = visible_letters(others[0].name)
            words = f"{name} is no rig (.welvo, .json), no profile (.gdtf, .csv, .txt), no table and no scene."
            self._session.say(words, "warning")
        elif tables and len(files) == 1:
            do_guarded(self._window, self.import_file, tables[0])
        elif len(rigs) > 1 or tables or (rigs and profiles):
            self._session.say("Drop one rig, or profiles for the one that is open.", "warning")
        elif rigs:
            self.open_recent(rigs[0])
        elif profiles:
            from welvo.app.profiles.library import import_profile

            for file in profiles:
                do_guarded(self._window, import_profile, self._session, file)

    def ask_import(self) -> None:
        kinds = "What can be imported (*.csv *.xlsx *.ods *.mvr *.gdtf);;All files (*)"
        name = FileDialog.ask_to_open(self._window, "Import", self._folder(), kinds)
        if name:
            self.import_file(Path(name))

    def import_file(self, path: Path) -> None:
        """A table, a scene or a fixture type into the rig that is open. Raises Refused for what cannot be read."""
        kind = path.suffix.lower()
        if kind == ".gdtf":
            from welvo.app.profiles.library import import_profile

            import_profile(self._session, path)
        elif kind == ".mvr":
            from welvo.app.patch.scenes import ImportScene

            ImportScene(self._session, path, self._window).exec()
        else:
            from welvo.app.patch.import_table import ImportTable

            ImportTable(self._session, self._computer, path, self._window).exec()

    # ---- giving out

    def export_list(self) -> None:
        from welvo.app.patch.export import ask_export

        ask_export(self._session, self._window)

    def export_scene(self) -> None:
        from welvo.app.patch.scenes import ask_export_scene

        ask_export_scene(self._session, self._window)

    def rename(self) -> None:
        self._session.commit_pending()
        dialogs.ask_line(
            self._window,
            "Rename the rig",
            "What this installation is called.",
            lambda name: self._session.make_edit(rename_rig, name.strip()),
            value=self._session.rig.name,
            go="Rename",
        )

    # ---- saving

    def save(self) -> bool:
        """Save and wait until it is done; the window goes on meanwhile."""
        if self._session.path is None:
            return self.save_as()
        return self._save_to(self._session.path)

    def save_soon(self) -> None:
        """Save without waiting for the disk; what comes of it is said."""
        session = self._session
        session.commit_pending()
        path = session.path
        if path is None:
            self.save_as()
            return
        rig, expected = session.rig, session.expected_on_disk(path)

        def work() -> None:
            now = expected
            while now in self._followed_by:  # a save before this one, which nobody knew the end of yet
                now = self._followed_by[now]
            try:
                outcome: object = write_rig(rig, path, now)
            except RigFileError as e:
                outcome = e
            if now and isinstance(outcome, Stamp) and outcome != now:
                self._followed_by[now] = outcome
            self._ended.emit((rig, path, outcome))

        self._saver.put_job(work)

    def _saved_soon(self, what: tuple[Rig, Path, object]) -> None:
        rig, path, outcome = what
        if isinstance(outcome, ChangedOnDisk):
            self._save_beside(path, str(outcome))
        elif isinstance(outcome, RigFileError):
            self._session.say(str(outcome), "error")
        elif path == self._session.path:  # else another rig was opened meanwhile
            assert outcome is None or isinstance(outcome, Stamp)
            self._session.was_saved(rig, path, outcome)
            self._say_saved(path)

    def save_as(self) -> bool:
        self._session.commit_pending()
        start = str(Path(self._folder()) / f"{self._session.rig.name or 'rig'}.welvo")
        name = FileDialog.ask_to_save(self._window, "Save the rig", start, "Rig (*.welvo);;Rig as bare JSON (*.json)")
        if not name:
            return False
        path = Path(name)
        path = path if path.suffix in RIGS else path.with_name(path.name + ".welvo")
        return self._save_to(path, over=True)

    def _save_to(self, path: Path, over: bool = False) -> bool:
        wait_for(lambda: self._saver.wait_until_settled(60.0))
        try:
            if not self._session.save_file(path, over):
                return False
        except ChangedOnDisk as e:
            return self._save_beside(path, str(e))
        self._say_saved(path)
        return True

    def _save_beside(self, path: Path, why: str) -> bool:
        """The file is another one than was opened: keep both, or write over it, as the operator says."""
        other = free_name(path)
        wanted = dialogs.ask_act(
            self._window,
            "Changed meanwhile",
            f"{why} Your rig is not saved yet. Keep both, yours as {shown_name(other)}? Written over, the other is "
            f"kept as {backup_words(path)}.",
            [("over", "Write over it"), ("keep", "Keep both")],
            "Not now",
        )
        if wanted == "over":
            return self._save_to(path, over=True)
        return wanted == "keep" and self._save_to(other, over=True)

    def _say_saved(self, path: Path) -> None:
        self._computer.remember_file(path)
        self._computer.save_settings()
        self._session.say(f"Saved as {shown_name(path)}.")
