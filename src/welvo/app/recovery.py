"""Keeps the recovery journal: within a second of an edit the rig stands on disk, written out of the window's way."""

from __future__ import annotations

import contextlib
import time
from pathlib import Path

from PySide6.QtCore import QObject, QTimer

from welvo.app.disk import Newest
from welvo.app.session import Session
from welvo.formats.files import RigFileError
from welvo.formats.journal import Journal
from welvo.live.worker import WorkerFaults

DELAY = 400
"""Milliseconds between an edit and the writing: edits of one drag make one file, and none waits a second."""
AT_THE_END = 5.0
"""Seconds that the end of the program waits for the journal; a disk that is slower has the state before."""


class Keeper(QObject):
    """Writes while the rig differs from its file; `discard_journal` when it was saved or given up on purpose."""

    def __init__(self, session: Session, folder: Path) -> None:
        super().__init__()
        self._session = session
        self.folder = folder
        self.journal = Journal(folder)
        self.faults = WorkerFaults()
        self.problem = ""
        """Why the journal cannot be written at present; empty when it can."""
        self.keep = False
        """True when the program is being ended from outside: the journal must stay for the next start."""
        self._writer = Newest("journal", self.faults)
        self._timer = QTimer(self, singleShot=True, interval=DELAY)
        self._timer.timeout.connect(self.write_journal)
        session.changed.connect(self._on_change)

    def _on_change(self, _: object) -> None:
        if not self._session.has_unsaved_edits:
            self.discard_journal()
        elif not self._timer.isActive():
            self._timer.start()

    def write_journal(self) -> None:
        """Have the present rig written: a rig is a value, so it cannot change meanwhile."""
        rig, path = self._session.rig, self._session.path

        def work() -> None:
            try:
                self.journal.write_journal(rig, path, time.time())
                self.problem = ""
            except RigFileError as e:
                self.problem = str(e)

        self._writer.put_job(work)

    def discard_journal(self) -> None:
        self._timer.stop()
        if not self.keep:
            self._writer.put_job(self.journal.discard_journal)

    def wait_until_settled(self, seconds: float = AT_THE_END) -> bool:
        """Wait until what was asked for stands on disk."""
        return self._writer.wait_until_settled(seconds)

    def close(self) -> None:
        """The end of the window: the journal goes, or stays for the next start when it is kept."""
        self.discard_journal()
        with contextlib.suppress(RuntimeError):
            self._writer.finish_and_stop(AT_THE_END)
