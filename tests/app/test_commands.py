"""The table of commands: what is made from it, and that each of them does something or says why not."""

from __future__ import annotations

from collections import Counter

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QKeySequence
from PySide6.QtWidgets import QApplication, QLabel, QMenu
from pytestqt.qtbot import QtBot

from tests.app.conftest import in_dialog
from welvo.app.commands import (
    BY_ID,
    COMMANDS,
    KEYS_OF_WIDGETS,
    MENUS,
    key_rows,
    said_keys,
    tip_of_command,
    with_mnemonics,
)
from welvo.app.window import Window


def test_no_key_and_no_id_is_given_twice() -> None:
    keys = Counter(QKeySequence(k).toString() for c in COMMANDS for k in c.keys)
    assert [k for k, n in keys.items() if n > 1] == [] and "" not in keys
    assert len(BY_ID) == len(COMMANDS) and {c.menu for c in COMMANDS} == {*MENUS, ""}


def test_every_entry_has_an_alt_letter_of_its_own(window: Window) -> None:
    assert with_mnemonics(["Save", "Save as…", "Quit"]) == ["&Save", "S&ave as…", "&Quit"]
    assert with_mnemonics(["R&D", "…"]) == ["&R&&D", "…"]
    assert [a.text() for a in window.menus.bar.actions()] == ["&File", "&Edit", "&View", "&Output", "&Help"]
    for menu in window.menus.bar.actions():
        inside = menu.menu()
        assert isinstance(inside, QMenu)
        marked = [a.text()[a.text().index("&") + 1].lower() for a in inside.actions() if "&" in a.text()]
        assert len(marked) == len(set(marked)), menu.text()


def test_the_pages_name_every_key_of_the_table(window: Window) -> None:
    rows = key_rows()
    assert len(rows) == sum(bool(c.keys) for c in COMMANDS) + len(KEYS_OF_WIDGETS)
    shown: list[str] = []
    in_dialog(lambda d: shown.append(" ".join(x.text() for x in d.findChildren(QLabel))))
    window.menus.actions["keys"].trigger()
    for c in COMMANDS:
        for k in c.keys:
            assert f"{k}" in shown[0], k
    assert said_keys("redo") == "Ctrl+Shift+Z, Ctrl+Y" and tip_of_command("findings").endswith(
        f".   {said_keys('findings')}"
    )


def test_words_follow_what_is_there(window: Window) -> None:
    from welvo.rig.edits import rename_rig

    plain = lambda i: window.menus.actions[i].text().replace("&", "")  # noqa: E731
    assert not window.menus.actions["undo"].isEnabled() and "Undo" not in window.menus.offered_commands()
    window.session.make_edit(rename_rig, "Second night")
    assert plain("undo").startswith("Undo: ") and window.menus.actions["undo"].isEnabled()
    assert plain("theme") == "Light theme"
    window.menus.actions["theme"].trigger()
    assert plain("theme") == "Dark theme" and window.looks.is_light
    window.menus.actions["panel"].trigger()
    assert plain("panel") == "Show the panel" and not window.panel_shown
    window.menus.actions["panel"].trigger()
    window.menus.actions["theme"].trigger()
    assert (plain("panel"), plain("theme")) == ("Hide the panel", "Light theme")


OF_FILES = {"open", "save", "save-as", "quit", "demo", "new"}
"""They ask for a file or end the window; other tests drive them."""


@pytest.mark.parametrize("command", [c for c in COMMANDS if c.id not in OF_FILES], ids=lambda c: c.id)
def test_every_command_can_be_done_from_the_keyboard_or_the_menu(window: Window, command: object, qtbot: QtBot) -> None:
    c = BY_ID[command.id]  # type: ignore[attr-defined]
    window.session.select_items(["f207"])
    opened: list[object] = []

    def close_it(dialog: object) -> None:
        opened.append(dialog)

    from PySide6.QtCore import QTimer

    def look() -> None:
        dialog = QApplication.activeModalWidget()
        if dialog is not None:
            close_it(dialog)
            dialog.close()

    looked: list[bool] = []

    def look_once() -> None:
        look()
        looked.append(True)

    QTimer.singleShot(50, look_once)
    window.menus.actions[c.id].trigger()
    qtbot.waitUntil(lambda: bool(looked))
    assert window.message.severity != "error" or not window.message.isVisible(), window.message.words
    if c.id in ("rename", "about", "keys", "add", "paste"):
        assert opened, c.id
    window.setWindowState(Qt.WindowState.WindowNoState)
