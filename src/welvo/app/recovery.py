"""Keeps the recovery journal: within a second of an edit the rig stands on disk, written out of the window's way."""

from __future__ import annotations

import contextlib
import os
import threading
import time
from pathlib import Path

from PySide6.QtCore import QObject, QTimer

from welvo.app.session import Session
from welvo.formats import journal
from welvo.formats.rigfile import RigFileError

DELAY = 400
"""Milliseconds between an edit and the writing: edits of one drag make one file, and none waits a second."""


class Keeper(QObject):
    """Writes while the rig differs from its file; `discard` when it was saved or given up on purpose."""

    def __init__(self, session: Session, folder: Path) -> None:
        super().__init__()
        self._session = session
        self.folder = folder
        self.keep = False
        """True when the program is being ended from outside: the journal must stay for the next start."""
        self._timer = QTimer(self, singleShot=True, interval=DELAY)
        self._timer.timeout.connect(self.write)
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None
        session.changed.connect(self._on_change)

    def _on_change(self, _: object) -> None:
        if not self._session.dirty:
            self.discard()
        elif not self._timer.isActive():
            self._timer.start()

    def write(self) -> None:
        """Write the present rig, in a thread: a rig is a value, so it cannot change meanwhile."""
        rig, path = self._session.rig, str(self._session.path or "")

        def work() -> None:
            with self._lock, contextlib.suppress(RigFileError, OSError):
                journal.write(self.folder, rig, path, os.getpid(), _process_start(), time.time())

        self._thread = threading.Thread(target=work, name="journal")
        self._thread.start()

    def discard(self) -> None:
        self._timer.stop()
        if self._thread:
            self._thread.join(5.0)
        if self.keep:
            return
        with self._lock, contextlib.suppress(OSError):
            journal.discard(self.folder, os.getpid())


def _process_start() -> float:
    import psutil

    return float(psutil.Process().create_time())
