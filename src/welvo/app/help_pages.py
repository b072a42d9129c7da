"""Help: what the focused field does, the keys, the guide, and what this program is."""

from __future__ import annotations

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QApplication, QLabel, QWidget

from welvo.app import commands
from welvo.app.session import Session
from welvo.app.widgets import dialogs
from welvo.app.widgets.literal import literal_paragraph
from welvo.app.widgets.theme import THEME


class Balloon(QLabel):
    """What a control does, beside it. It takes no focus, and the next key or click, which ends it, still does what it
    would have done: whoever asks while typing goes on typing."""

    def __init__(self, window: QWidget) -> None:
        super().__init__(window, Qt.WindowType.ToolTip)
        self.setObjectName("balloon")
        self.setWordWrap(True)
        self.setMargin(10)
        self.setAccessibleName("Help")
        self.setAttribute(Qt.WidgetAttribute.WA_ShowWithoutActivating)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)

    def explain(self, about: QWidget) -> None:
        self.setText(literal_paragraph(about.whatsThis()))
        self.setFixedWidth(THEME.scale_length(340))
        self.adjustSize()
        at = about.mapToGlobal(about.rect().bottomLeft())
        screen = about.screen().availableGeometry()
        x = max(screen.left(), min(at.x(), screen.right() - self.width()))
        y = at.y() + 4
        if y + self.height() > screen.bottom():
            y = about.mapToGlobal(about.rect().topLeft()).y() - self.height() - 4
        self.move(x, max(screen.top(), y))
        self.show()
        app = QApplication.instance()
        if app is not None:
            app.installEventFilter(self)

    def eventFilter(self, watched: QObject, e: QEvent) -> bool:
        if e.type() in ENDS and not (isinstance(e, QKeyEvent) and e.key() == Qt.Key.Key_F1):
            self._end()
        return False

    def _end(self) -> None:
        app = QApplication.instance()
        if app is not None:
            app.removeEventFilter(self)
        self.hide()


ENDS = (QEvent.Type.KeyPress, QEvent.Type.MouseButtonPress, QEvent.Type.Wheel, QEvent.Type.WindowDeactivate)


class Help:
    def __init__(self, window: QWidget, session: Session) -> None:
        self._window, self._session = window, session
        self.balloon = Balloon(window)

    def help_on_focused(self) -> None:
        """F1: what the focused field does and what it risks, beside it."""
        w: QObject | None = QApplication.focusWidget()
        while isinstance(w, QWidget) and not w.whatsThis():
            w = w.parentWidget()
        if isinstance(w, QWidget) and w.whatsThis():
            self.balloon.explain(w)
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
