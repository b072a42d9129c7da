"""How a window looks: its theme and size of text, chosen here or as the desktop has them."""

from __future__ import annotations

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QApplication

from welvo.app.computer import Computer
from welvo.app.widgets import theme
from welvo.app.widgets.desktop_look import desktop_look
from welvo.app.widgets.theme import THEME


class Looks(QObject):
    """`changing` before the theme is another one, `changed` after it."""

    changing = Signal()
    changed = Signal()

    def __init__(self, computer: Computer) -> None:
        super().__init__()
        self._computer = computer
        hints = QGuiApplication.styleHints()
        hints.colorSchemeChanged.connect(self.desktop_changed)
        hints.accessibility().contrastPreferenceChanged.connect(self.desktop_changed)

    @property
    def is_light(self) -> bool:
        return THEME.name == "light"

    @property
    def is_large(self) -> bool:
        return bool(THEME.step)

    def toggle_theme(self) -> None:
        self.choose_look("dark" if self.is_light else "light", THEME.step)

    def toggle_text(self) -> None:
        self.choose_look(THEME.name, 0 if THEME.step else 2)

    def choose_look(self, name: str, step: int) -> None:
        """Choose a theme and a size of text; from now on the desktop's wishes are not followed."""
        self._computer.theme, self._computer.text_step = "light" if name == "light" else "dark", step
        self._computer.save_settings()
        THEME.name, THEME.step = name, step
        self._put_on()

    @property
    def follows_desktop(self) -> bool:
        return self._computer.theme == "desktop" and self._computer.text_step < 0

    def follow_desktop(self) -> None:
        """Light or dark, and how large text is, as the desktop has it, also when it changes its mind."""
        self._computer.theme, self._computer.text_step = "desktop", -1
        self._computer.save_settings()
        self.desktop_changed()

    def desktop_changed(self) -> None:
        """What was not chosen here follows the desktop."""
        wished = desktop_look()
        THEME.strong = wished.strong
        THEME.name = wished.name if self._computer.theme == "desktop" else THEME.name
        THEME.step = wished.step if self._computer.text_step < 0 else THEME.step
        self._put_on()

    def _put_on(self) -> None:
        self.changing.emit()
        app = QApplication.instance()
        if isinstance(app, QApplication):
            theme.apply_theme(app)
        self.changed.emit()
