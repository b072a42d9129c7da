"""Buttons of edits: while one is pointed at, or has the keys, what it would do to others is shown."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent
from PySide6.QtGui import QEnterEvent, QFocusEvent
from PySide6.QtWidgets import QPushButton

from welvo.app.session import Session
from welvo.app.widgets.painting import make_button
from welvo.rig.document import Edit


class _ForeseeingButton(QPushButton):
    def __init__(self, session: Session, edit: Callable[[], Edit | None]) -> None:
        super().__init__()
        self._session, self._edit = session, edit

    def _show_foreseen(self, on: bool) -> None:
        if self.window().isVisible():  # a window that goes shows nothing more of its rig
            self._session.show_foreseen(self._edit() if on else None)

    def enterEvent(self, e: QEnterEvent) -> None:
        super().enterEvent(e)
        self._show_foreseen(True)

    def leaveEvent(self, e: QEvent) -> None:
        super().leaveEvent(e)
        self._show_foreseen(False)

    def focusInEvent(self, e: QFocusEvent) -> None:
        super().focusInEvent(e)
        self._show_foreseen(True)

    def focusOutEvent(self, e: QFocusEvent) -> None:
        super().focusOutEvent(e)
        self._show_foreseen(False)


def edit_button(
    session: Session, words: str, act: Callable[[], object], help_text: str, *, primary: bool = False
) -> QPushButton:
    """A button whose act is one edit and nothing before it."""
    made = _ForeseeingButton(session, lambda: session.edit_of_act(act))
    return make_button(words, act, help_text, primary=primary, made=made)
