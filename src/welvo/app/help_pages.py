"""Help: what the focused field does, the keys, the guide, and what this program is."""

from __future__ import annotations

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QApplication, QWhatsThis, QWidget

from welvo.app import commands
from welvo.app.session import Session
from welvo.app.widgets import dialogs
from welvo.app.widgets.literal import literal_paragraph


class Help:
    def __init__(self, window: QWidget, session: Session) -> None:
        self._window, self._session = window, session

    def help_on_focused(self) -> None:
        """F1: what the focused field does and what it risks, beside it."""
        w: QObject | None = QApplication.focusWidget()
        while isinstance(w, QWidget) and not w.whatsThis():
            w = w.parentWidget()
        if isinstance(w, QWidget) and w.whatsThis():
            at = w.mapToGlobal(w.rect().bottomLeft())
            QWhatsThis.showText(at, literal_paragraph(w.whatsThis()), w)
        else:
            self.show_keys()

    def show_keys(self) -> None:
        rows = "".join(
            f"<tr><td>{where}</td><td><b>{keys}</b></td><td>{what}</td></tr>"
            for where, keys, what in commands.key_rows()
        )
        dialogs.show_text(self._window, "Keys", f'<table cellpadding="3">{rows}</table>')

    def show_guide(self) -> None:
        from welvo.app.guide import open_guide

        if why := open_guide(self._window):
            self._session.say(why, "warning")

    def show_about(self) -> None:
        from welvo import __version__

        dialogs.show_text(
            self._window,
            "About Welvo",
            f"<p>Welvo {__version__}. Define fixture profiles, patch them into universes, set the devices, and prove "
            "it with light.</p>"
            "<p>Speaks Art-Net 4 and sACN (ANSI E1.31). Art-Net™ is a trademark of its owner.</p>",
        )
