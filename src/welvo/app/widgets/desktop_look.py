"""What the desktop wishes: light or dark, high contrast, how large its text is. Followed until something is chosen."""

from __future__ import annotations

from msgspec import Struct
from PySide6.QtCore import Qt
from PySide6.QtGui import QFontDatabase, QFontInfo, QGuiApplication, QPalette

from welvo.app.widgets.theme import contrast_of_colours

USUAL_TEXT = 13
"""Pixels of the text that one reads and types; a desktop's 10 points at the usual 96 dots an inch are 13."""
MOST_STEP = 6
HIGHEST = 18.0
"""From this contrast of text and ground on, the desktop's palette is one for high contrast: black and white have 21."""


class DesktopLook(Struct, frozen=True):
    name: str = "dark"
    step: int = 0
    strong: bool = False


def desktop_look() -> DesktopLook:
    """The wishes now. A desktop that says nothing about light or dark gets the dark theme, which is for dark rooms."""
    hints = QGuiApplication.styleHints()
    light = hints.colorScheme() == Qt.ColorScheme.Light
    strong = hints.accessibility().contrastPreference() == Qt.ContrastPreference.HighContrast
    return DesktopLook("light" if light else "dark", text_step(), strong or _palette_is_strong())


def text_step() -> int:
    """How many pixels the desktop's text is larger than usual. One that is a little larger is not worth the room."""
    system = QFontInfo(QFontDatabase.systemFont(QFontDatabase.SystemFont.GeneralFont)).pixelSize()
    more = system - USUAL_TEXT
    return min(MOST_STEP, more) if more >= 2 else 0


def _palette_is_strong() -> bool:
    theme = QGuiApplication.instance()
    wished = theme.property("desktop palette") if theme else None
    if not isinstance(wished, QPalette):
        return False
    text, ground = (wished.color(r).name() for r in (QPalette.ColorRole.WindowText, QPalette.ColorRole.Window))
    return contrast_of_colours(text, ground) >= HIGHEST
