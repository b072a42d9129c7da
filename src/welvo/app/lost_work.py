"""What windows that ended without saving have left is offered back."""

from __future__ import annotations

import time

from PySide6.QtWidgets import QWidget

from welvo.app.disk import wait_for
from welvo.app.recovery import Keeper
from welvo.app.session import Session
from welvo.app.widgets import dialogs
from welvo.formats import journal
from welvo.rig.notation import plural


class LostWork:
    def __init__(self, window: QWidget, session: Session, keeper: Keeper) -> None:
        self._window, self._session, self._keeper = window, session, keeper

    def look(self) -> None:
        """Look for it, and offer it back."""
        found, damaged = wait_for(lambda: journal.abandoned(self._keeper.folder))
        self.offer(found)
        if damaged:
            self._session.say(
                f"{plural(len(damaged), 'kept rig')} of an earlier window cannot be read, and is left as it is: "
                f"{damaged[0]}.",
                "warning",
            )

    def offer(self, found: list[journal.Recovered]) -> None:
        """Ask what is to become of each, newest first."""
        for r in found:
            when = time.strftime("%d %b, %H:%M:%S", time.localtime(r.written))
            wanted = dialogs.ask_act(
                self._window,
                "Not saved last time",
                f"“{r.name}” was open when Welvo ended without saving. Its last edits, of {when}, are kept.",
                [("discard", "Discard it"), ("open", "Open it")],
                "Ask again later",
            )
            if wanted == "open":
                self.recover(r)
                return
            if wanted == "discard":
                journal.discard(r.file)

    def recover(self, r: journal.Recovered) -> None:
        """Open it in place of the present rig. What was kept goes only when this window keeps it itself."""
        self._session.replace(r.rig, r.path, saved=False)
        self._keeper.write()
        if wait_for(self._keeper.settle) and not self._keeper.problem:
            journal.discard(r.file)
        self._session.say(f"“{r.name}” is back as it was; it is not saved yet.")
