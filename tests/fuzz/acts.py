"""Random acts in the real window: keys, clicks, typed extremes, commands, edits by chance, another rig now and then.

After every few acts the index and the findings must be those of a rig built anew; at the end undo leads back to the
start, what stands there can be saved and opened, and the window has not grown.
"""

from __future__ import annotations

import contextlib
import sys
import time
import traceback
from collections.abc import Iterator
from types import TracebackType
from typing import Any

from msgspec.structs import replace
from PySide6.QtCore import QEvent, QPoint, Qt, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QComboBox,
    QDialog,
    QLineEdit,
    QMenu,
    QPlainTextEdit,
    QWidget,
)

from tests.fuzz.random_edits import EDITS, Chance, difference, state
from welvo.app import commands
from welvo.app.session import Selection
from welvo.app.widgets.file_dialog import FileDialog
from welvo.app.window import Window
from welvo.checks.checker import check_rig
from welvo.formats.files import RigFileError
from welvo.formats.rigfile import rig_from_bytes, rig_to_bytes
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import PARTS, Rig
from welvo.rig.refs import SegmentRef

TYPED = (
    "", "0", "1", "-1", "512", "513", "65535", "70000", "1e9", "1e999", "inf", "nan", "3.145", "3.1 +8", "free",
    "101+", "after 101", "999999999999999999999", "x" * 300, "<img src=/etc/passwd>", "\u202eabc", "a\tb", "½", "RGBW",
    "21 x 55", "12 x Bar 9 at 1.001", "dimmer, red, green", "10.0.0.5", "127.0.0.1", "#", "C#", "100 %", "7-12",
    "1,2;3",
)  # fmt: skip
KEYS = (
    Qt.Key.Key_Return, Qt.Key.Key_Escape, Qt.Key.Key_Tab, Qt.Key.Key_Backtab, Qt.Key.Key_Up, Qt.Key.Key_Down,
    Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Home, Qt.Key.Key_End, Qt.Key.Key_Delete, Qt.Key.Key_Space,
    Qt.Key.Key_PageUp, Qt.Key.Key_PageDown, Qt.Key.Key_F2, Qt.Key.Key_F5, Qt.Key.Key_F6, Qt.Key.Key_F8, Qt.Key.Key_N,
    Qt.Key.Key_M, Qt.Key.Key_7,
)  # fmt: skip
NEVER = {"quit", "open", "save-as", "demo", "full-screen", "save", "new"}
"""Commands that would end or leave the trial."""


class Acts:
    """A window that is knocked about by chance; `errors` holds what broke."""

    def __init__(self, window: Window, seed: int | str) -> None:
        self.window = window
        self.chance = Chance(seed)
        self.errors: list[str] = []
        self.trail: list[str] = []
        self.count = 0
        self.slowest = 0.0
        self.start = window.session.rig
        window.session.replaced.connect(self._another_rig)
        self._watching = False
        self._knocks = 0

    def _another_rig(self) -> None:
        self.start = self.window.session.rig  # the jump box can begin a new rig: undo leads back to that one

    # ---- finding something to knock

    def _visible(self, root: QWidget, *kinds: type) -> list[Any]:
        return [w for w in root.findChildren(QWidget) if isinstance(w, kinds) and w.isVisible() and w.isEnabled()]

    def _root(self) -> QWidget:
        return QApplication.activeModalWidget() or self.window

    def act(self) -> None:
        kinds = (
            self._key, self._key, self._click, self._click, self._double, self._type, self._type, self._choose,
            self._press, self._press, self._command, self._edit, self._edit, self._select, self._station, self._undo,
        )  # fmt: skip
        kind = self.chance.choice(kinds)
        self.count += 1
        begun = time.monotonic()
        with contextlib.suppress(Refused):
            kind()
        QApplication.processEvents()
        self.slowest = max(self.slowest, time.monotonic() - begun)

    def _note(self, words: str) -> None:
        self.trail = [*self.trail[-11:], words]

    def _key(self) -> None:
        w = QApplication.focusWidget() or self._root()
        key = self.chance.choice(KEYS)
        mods = self.chance.choice(
            (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.ShiftModifier,
             Qt.KeyboardModifier.ControlModifier)
        )  # fmt: skip
        if mods == Qt.KeyboardModifier.ControlModifier and key == Qt.Key.Key_N:
            return
        self._note(f"key {key.name} on {type(w).__name__}")
        QTest.keyClick(w, key, mods)

    def _at(self, w: QWidget) -> QPoint:
        return QPoint(self.chance.randrange(max(1, w.width())), self.chance.randrange(max(1, w.height())))

    def _click(self) -> None:
        some = [w for w in self._visible(self._root(), QWidget) if not isinstance(w, QMenu)]
        if some:
            w = self.chance.choice(some)
            self._note(f"click on {type(w).__name__}")
            button = Qt.MouseButton.LeftButton if self.chance.random() < 0.85 else Qt.MouseButton.RightButton
            QTest.mouseClick(w, button, Qt.KeyboardModifier.NoModifier, self._at(w))

    def _double(self) -> None:
        some = [w for w in self._visible(self._root(), QWidget) if not isinstance(w, QMenu)]
        if some:
            w = self.chance.choice(some)
            self._note(f"double click on {type(w).__name__}")
            QTest.mouseDClick(w, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, self._at(w))

    def _type(self) -> None:
        some = self._visible(self._root(), QLineEdit, QPlainTextEdit)
        if not some:
            return
        w = self.chance.choice(some)
        words = self.chance.choice(TYPED)
        self._note(f"type {words[:12]!r} into {w.accessibleName() or type(w).__name__}")
        w.setFocus()
        if isinstance(w, QLineEdit):
            w.setText(words)
            w.textEdited.emit(words)
        else:
            w.setPlainText(words)
        if self.chance.random() < 0.7:
            QTest.keyClick(w, Qt.Key.Key_Return)

    def _choose(self) -> None:
        some = [w for w in self._visible(self._root(), QComboBox) if w.count()]
        if some:
            w = self.chance.choice(some)
            n = self.chance.randrange(w.count())
            self._note(f"choose {w.itemText(n)[:20]!r} of {w.accessibleName()}")
            w.setCurrentIndex(n)
            w.activated.emit(n)

    def _press(self) -> None:
        some = self._visible(self._root(), QAbstractButton)
        if some:
            w = self.chance.choice(some)
            self._note(f"press {w.text()[:24]!r}")
            w.click()

    def _command(self) -> None:
        c = self.chance.choice([c for c in commands.COMMANDS if c.id not in NEVER])
        self._note(f"command {c.id}")
        self.window.menus.bring_up_to_date()
        self.window.menus.actions[c.id].trigger()

    def _edit(self) -> None:
        s = self.window.session
        name = self.chance.choice(list(EDITS))
        try:
            made = EDITS[name](self.chance, s.rig, s.index)
        except (Refused, IndexError):
            return
        self._note(f"edit {name}")
        s.take_over_edit(made)

    def _select(self) -> None:
        rig, c, s = self.window.session.rig, self.chance, self.window.session
        options: list[Selection] = [Selection()]
        if rig.fixtures or rig.elements:
            options += [Selection("item", (c.item(rig),)), Selection("item", tuple(c.items(rig)))]
        for kind, part in (("universe", rig.universes), ("feed", rig.feeds), ("device", rig.devices)):
            if part:
                options.append(Selection(kind, (c.key_of(part),)))  # type: ignore[arg-type]
        if rig.profiles:
            options.append(Selection("profile", (c.key_of(rig.profiles),)))
        if rig.universes:
            options.append(Selection("slot", (), slot=(c.key_of(rig.universes), c.randint(1, 512))))
        with contextlib.suppress(Refused, IndexError):
            on = SegmentRef(*c.run(rig))
            options.append(Selection("segment", (on.device,), on=on))
        one = c.choice(options)
        self._note(f"select {one.kind}")
        s.change_selection(one)

    def _station(self) -> None:
        name = self.chance.choice(commands.STATIONS)
        self._note(f"station {name}")
        self.window.show_station(name)

    def _undo(self) -> None:
        self._note("undo or redo")
        self.window.session.undo_edit() if self.chance.random() < 0.6 else self.window.session.redo_edit()

    # ---- what opens above the window

    def _knock_what_is_open(self) -> None:
        if not self._watching:
            return
        QTimer.singleShot(2, self._knock_what_is_open)  # first of all: what follows may run an event loop of its own
        popup = QApplication.activePopupWidget()
        if popup is not None:
            if isinstance(popup, QMenu) and self.chance.random() < 0.5:
                actions = [a for a in popup.actions() if a.isEnabled() and not a.isSeparator() and not a.menu()]
                actions = [a for a in actions if "Export" not in a.text() and "Import" not in a.text()]
                if actions:
                    act = self.chance.choice(actions)
                    self._note(f"menu {act.text()[:24]!r}")
                    popup.close()
                    act.trigger()
                    return
            popup.close()
            return
        dialog = QApplication.activeModalWidget()
        if not isinstance(dialog, QDialog):
            self._knocks = 0
            return
        self._knocks += 1
        if self._knocks > 6:
            dialog.done(0)
        elif self.chance.random() < 0.5:
            kind = self.chance.choice((self._type, self._press, self._choose, self._key))
            with contextlib.suppress(Refused):
                kind()

    # ---- judging

    def wrong(self) -> str:
        """What is not as it must be now; empty when all is."""
        s = self.window.session
        if self.errors:
            return self.errors[0]
        built = Index(s.rig)
        found = difference(state(s.index), state(built))
        if found:
            return found
        mine, theirs = s.report, check_rig(s.rig, s.observed, s.checker.context.now)
        if mine != theirs:
            a, b = set(map(repr, mine.findings)), set(map(repr, theirs.findings))
            return f"findings: only followed {sorted(a - b)[:2]}, only built {sorted(b - a)[:2]}"
        try:
            again = rig_from_bytes(rig_to_bytes(s.rig))
        except RigFileError as e:
            return f"what stands there cannot be opened: {e}"
        if again != s.rig:
            return "what stands there reads as another rig"
        return ""

    def back_to_the_start(self, start: Rig) -> str:
        s = self.window.session
        for _ in range(2000):
            if not s.history._past:
                break
            s.undo_edit()
        plan = replace(s.rig, tests=start.tests)  # the record of tests is no plan, and undo leaves it
        if len(s.history._future) < 490 and plan != start:  # the history holds 500 steps
            parts = [p for p in PARTS if getattr(plan, p) != getattr(start, p)]
            return f"undo does not lead back to the start: {parts} differ after {len(s.history._future)} steps"
        return self.wrong()

    @contextlib.contextmanager
    def watched(self) -> Iterator[None]:
        """Errors in handlers are kept, file dialogs answer nothing, and what opens is closed again."""
        hook = sys.excepthook

        def keep(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
            if not isinstance(error, Refused):
                self.errors.append("".join(traceback.format_exception(kind, error, trace))[-1800:])

        sys.excepthook = keep
        ask = {n: getattr(FileDialog, n) for n in ("ask_to_open", "ask_to_save")}
        for name in ask:
            setattr(FileDialog, name, staticmethod(lambda *_, **__: ""))
        self._watching = True
        self._knock_what_is_open()
        try:
            yield
        finally:
            self._watching = False
            sys.excepthook = hook
            for name, was in ask.items():
                setattr(FileDialog, name, was)
            for w in QApplication.topLevelWidgets():
                if isinstance(w, QDialog):
                    w.done(0)
            QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)

    def run(self, acts: int, seconds: float, every: int = 20) -> str:
        """So many acts, or so long; gives what went wrong, with the last acts."""
        until = time.monotonic() + seconds
        self.start = self.window.session.rig
        with self.watched():
            for n in range(acts):
                if time.monotonic() > until:
                    break
                try:
                    self.act()
                except Exception as e:  # from an act that does not go through Qt
                    self.errors.append("".join(traceback.format_exception(e))[-1800:])
                if self.errors or n % every == every - 1:
                    found = self.wrong()
                    if found:
                        return f"after {self.count} acts, {self.trail}: {found}"
            found = self.back_to_the_start(self.start)
            self.window.session.replace_rig(self.start, None)
            found = found or (self.errors[0] if self.errors else "")
        return f"after {self.count} acts: {found}" if found else ""


def widgets(window: Window) -> int:
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    QApplication.processEvents()
    return len(window.findChildren(QWidget))
