"""Keys that work in every window of the program: blackout and disarming, in a dialog as well.

A dialog keeps the keys of the window below it from working, which is right for all keys but these.
"""

from __future__ import annotations

from PySide6.QtGui import QAction
from PySide6.QtWidgets import QWidget

_ALWAYS = "works in every window"


def mark(action: QAction) -> None:
    """Have an action's keys work in the dialogs of its window too."""
    action.setProperty(_ALWAYS, True)


def carry_over(dialog: QWidget, below: QWidget | None) -> None:
    """Give a dialog the keys that work in every window."""
    for action in below.window().actions() if below is not None else ():
        if action.property(_ALWAYS):
            dialog.addAction(action)
