"""The window on other people's desktops: light or dark, contrast, size of text, and the smallest screen."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QFont, QFontDatabase, QPalette
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from welvo.app.computer import Computer
from welvo.app.main import make_window, put_on, size_on
from welvo.app.panel_place import NARROW
from welvo.app.session import Session
from welvo.app.widgets import desktop_look
from welvo.app.widgets.desktop_look import DesktopLook
from welvo.app.widgets.theme import STRONG, THEME, TOKENS, contrast_of_colours
from welvo.app.window import SMALLEST, Window
from welvo.demo.gallery import make_gallery
from welvo.rig.document import Rig


@pytest.fixture(autouse=True)
def as_before() -> object:
    kept = (THEME.name, THEME.step, THEME.strong)
    yield
    THEME.name, THEME.step, THEME.strong = kept


def wish(monkeypatch: pytest.MonkeyPatch, look: DesktopLook) -> None:
    for module in ("welvo.app.main", "welvo.app.looks"):
        monkeypatch.setattr(f"{module}.desktop_look", lambda: look)


def test_the_desktop_is_followed_until_something_is_chosen(monkeypatch: pytest.MonkeyPatch, qtbot: QtBot) -> None:
    wish(monkeypatch, DesktopLook("light", 3, False))
    computer = Computer()
    window = make_window(Session(Rig()), computer, "127.0.0.1")
    qtbot.addWidget(window)
    window.files.may_leave = lambda: True  # type: ignore[method-assign]
    assert (THEME.name, THEME.step) == ("light", 3) and window.looks.follows_desktop
    wish(monkeypatch, DesktopLook("dark", 0, False))
    window.looks.desktop_changed()  # the desktop goes dark in the evening
    assert (THEME.name, THEME.step) == ("dark", 0)
    window.menus.actions["theme"].trigger()
    assert THEME.name == "light" and (computer.theme, computer.text_step) == ("light", 0)
    window.looks.desktop_changed()
    assert THEME.name == "light" and not window.looks.follows_desktop  # what was chosen stays
    window.menus.actions["follow-desktop"].trigger()
    assert THEME.name == "dark" and computer.theme == "desktop"
    window.end_everything()


def test_what_was_chosen_on_this_computer_is_not_asked_of_the_desktop(monkeypatch: pytest.MonkeyPatch) -> None:
    wish(monkeypatch, DesktopLook("light", 4, True))
    put_on(Computer(theme="dark", text_step=2))
    assert (THEME.name, THEME.step, THEME.strong) == ("dark", 2, True)


def test_a_large_system_font_makes_text_larger(monkeypatch: pytest.MonkeyPatch, qtbot: QtBot) -> None:
    for pixels, step in ((10, 0), (13, 0), (14, 0), (16, 3), (60, 6)):
        font = QFont()
        font.setPixelSize(pixels)
        monkeypatch.setattr(QFontDatabase, "systemFont", lambda _, f=font: f)
        assert desktop_look.text_step() == step, pixels


def test_a_palette_for_high_contrast_is_honoured(monkeypatch: pytest.MonkeyPatch, qtbot: QtBot) -> None:
    app = QApplication.instance()
    assert app is not None
    before = app.property("desktop palette")
    palette = QPalette()
    for text, strong in ((Qt.GlobalColor.white, True), (Qt.GlobalColor.gray, False)):
        palette.setColor(QPalette.ColorRole.Window, Qt.GlobalColor.black)
        palette.setColor(QPalette.ColorRole.WindowText, text)
        app.setProperty("desktop palette", QPalette(palette))
        assert desktop_look.desktop_look().strong is strong
    app.setProperty("desktop palette", before)


@pytest.mark.parametrize("theme", ["dark", "light"])
def test_high_contrast_is_high(theme: str) -> None:
    assert set(STRONG[theme]) <= set(TOKENS[theme])
    THEME.name, THEME.strong = theme, True
    t = THEME.tokens
    for ground in ("station", "raised", "field", "ground"):
        assert contrast_of_colours(t["text"], t[ground]) >= 18 and contrast_of_colours(t["quiet"], t[ground]) >= 12
        assert contrast_of_colours(t["edge"], t[ground]) >= 12
        for token in ("accent", "error", "warning", "note"):
            assert contrast_of_colours(t[token], t[ground]) >= 7, (token, ground)
    assert contrast_of_colours(t["text"], t["select"]) >= 7


def test_the_window_fits_the_smallest_screen(make: Callable[[Rig], Window], qtbot: QtBot) -> None:
    assert SMALLEST == (960, 540) == size_on(1280, 800, 960, 540)
    window = make(make_gallery())
    window.resize(*SMALLEST)
    window.session.select_items(["f207"])
    for name in ("Profiles", "Patch", "Runs", "Devices", "Bench", "Sheets"):
        window.show_station(name)
        qtbot.waitUntil(lambda: window.stations.stack.currentWidget().isVisible())
        station = window.stations.stack.currentWidget()
        assert (window.width(), window.height()) == SMALLEST, name
        assert station.minimumSizeHint().width() <= station.width(), name
    for page in ("Drive", "Test", "Wire", "Tested"):
        window.show_station("Bench")
        window.bench.show_page(page)
        shown = window.bench.stack.currentWidget()
        assert shown.minimumSizeHint().height() <= shown.height(), page  # what is higher scrolls


def test_on_a_narrow_window_the_panel_comes_over_the_station_when_it_is_wanted(
    make: Callable[[Rig], Window], qtbot: QtBot
) -> None:
    window = make(make_gallery())
    assert window.panel_shown and not window.panel_place.narrow
    window.resize(*SMALLEST)
    place = window.panel_place
    qtbot.waitUntil(lambda: place.narrow)
    assert not window.panel_shown and place.edge.isVisible()
    QTest.mouseClick(place.edge, Qt.MouseButton.LeftButton)
    assert window.panel_shown
    qtbot.waitUntil(
        lambda: window.stations.panels.geometry().right() < place.edge.mapTo(window, place.edge.rect().topLeft()).x()
    )
    assert window.stations.panels.height() == window.stations.stack.height()
    QTest.mouseClick(place.edge, Qt.MouseButton.LeftButton)
    assert not window.panel_shown
    window.session.select_items(["f207"])
    window.focusing.focus_name(window.panel_place)  # something is to be typed into it
    assert window.panel_shown and window.focusWidget() is not None
    window.resize(NARROW, 700)
    qtbot.waitUntil(lambda: not place.narrow)
    assert window.panel_shown and not place.edge.isVisible()
    window.toggle_panel()
    window.resize(*SMALLEST)
    window.resize(1280, 800)
    assert not window.panel_shown  # hidden by hand, it stays hidden where there is room again
