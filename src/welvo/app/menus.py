"""The menus of a window, built from the table of commands, with their words and keys."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu, QMenuBar, QWidget

from welvo.app import always_keys, commands
from welvo.app.widgets.refusals import do_guarded


class Menus:
    """`window` is what the commands act on. A command that is in no menu has its keys all the same."""

    def __init__(self, window: QWidget) -> None:
        self._window = window
        self.bar = QMenuBar()
        self.bar.setNativeMenuBar(False)
        self.actions: dict[str, QAction] = {}
        """Every command by its id."""
        self.menus: dict[str, QMenu] = {
            name: self.bar.addMenu(words)
            for name, words in zip(commands.MENUS, commands.with_mnemonics(commands.MENUS))
        }
        for menu in self.menus.values():
            menu.setToolTipsVisible(True)
        for command in commands.COMMANDS:
            self._add_command(command)

    def _add_command(self, command: commands.Command) -> None:
        action = QAction(self._window)
        action.triggered.connect(lambda *_: do_guarded(self._window, command.act, self._window))
        action.setShortcuts([QKeySequence(k) for k in command.keys])
        action.setToolTip(commands.tip_of_command(command.id))
        self._window.addAction(action)
        self.actions[command.id] = action
        if command.id in ("blackout", "disarm"):
            always_keys.mark(action)
        if command.menu:
            menu = self.menus[command.menu]
            if command.line:
                menu.addSeparator()
            menu.addAction(action)

    def insert_menu(self, words: str, menu: str, before: str, fill: Callable[[QMenu], object]) -> None:
        """Put a menu of its own before a command of another one; `fill` is called whenever it opens."""
        made = QMenu(words, self._window)
        self.menus[menu].insertMenu(self.actions[before], made)
        made.aboutToShow.connect(lambda: fill(made))

    def bring_up_to_date(self) -> None:
        """Words, and whether each command applies now, with Alt letters that no two entries of a menu share."""
        for name in self.menus:
            of_menu = [c for c in commands.COMMANDS if c.menu == name]
            words_of = commands.with_mnemonics(c.shown(self._window) if c.shown else c.words for c in of_menu)
            for command, words in zip(of_menu, words_of):
                action = self.actions[command.id]
                if action.text() != words:
                    action.setText(words)
                action.setEnabled(command.when(self._window))

    def offered_commands(self) -> dict[str, Callable[[], object]]:
        """What the jump box can do: every command with words in a menu that applies now."""
        return {
            (c.shown(self._window) if c.shown else c.words): self.actions[c.id].trigger
            for c in commands.COMMANDS
            if c.menu and c.when(self._window)
        }
