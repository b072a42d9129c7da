"""What windows that ended without saving have left is offered back."""

from __future__ import annotations

import time

from PySide6.QtWidgets import QWidget

from welvo.app.disk import wait_for
from welvo.app.recovery import Keeper
from welvo.app.session import Session
from welvo.app.widgets import dialogs
from welvo.formats import journal
from welvo.rig.notation import say_count


class LostWork:
    def __init__(self, window: QWidget, session: Session, keeper: Keeper) -> None:
        self._window, self._session, self._keeper = window, session, keeper

    def look_for_lost(self) -> None:
        """Look for it, and offer it back."""
        found, damaged = wait_for(lambda: journal.find_abandoned(self._keeper.folder))
        self.offer_found(found)
        if damaged:
            self._session.say(
                f"{say_count(len(damaged), 'kept rig')} of an earlier window cannot be read, and is left as it is: "
                f"{damaged[0]}.",
                "warning",
            )

    def offer_found(self, found: list[journal.Recovered]) -> None:
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
                self.recover_rig(r)
                return
            if wanted == "discard":
                journal.remove_journal(r.file)

    def recover_rig(self, r: journal.Recovered) -> None:
        """Open it in place of the present rig. What was kept goes only when this window keeps it itself."""
        self._session.replace_rig(r.rig, r.path, saved=False)
        self._keeper.write_journal()
        if wait_for(self._keeper.wait_until_settled) and not self._keeper.problem:
            journal.remove_journal(r.file)
        self._session.say(f"“{r.name}” is back as it was; it is not saved yet.")
