from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from PySide6.QtCore import QEvent, QPointF, Qt, QTimer
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from welvo.app.computer import Computer
from welvo.app.main import make_window
from welvo.app.session import Session
from welvo.app.widgets.fields import Choice, Field, Tick
from welvo.app.widgets.theme import THEME
from welvo.app.window import Window
from welvo.demo.gallery import make_gallery
from welvo.formats import rigfile
from welvo.live.beside import Act
from welvo.live.engine import EngineState
from welvo.live.messages import Out
from welvo.observed.values import Heard, HeardPort
from welvo.patience import PatienceLimit
from welvo.rig.document import Rig
from welvo.standins.process import StandIns


@pytest.fixture(autouse=True)
def own_folders(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Settings and journals of a test stay in its folder."""
    for name in ("XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_DATA_HOME"):
        monkeypatch.setenv(name, str(tmp_path / "home"))


@contextmanager
def beside_stand_ins(rig: Rig, state: str, folder: Path) -> Iterator[tuple[Window, StandIns]]:
    """A real window that listens, over a rig whose devices are simulated as a state (TOML) says."""
    file, as_is = folder / "rig.welvo", folder / "state.toml"
    rigfile.save_rig_file(rig, file)
    as_is.write_text(state)
    stand_ins = StandIns(file, as_is)
    stand_ins.wait_ready()
    window = make_window(Session(rig), Computer(), "127.0.0.1", folder / "own")
    window.resize(1280, 800)  # the screen of a test may be smaller
    window.files.may_leave = lambda: True  # type: ignore[method-assign]
    window.show()
    window.network.start_network()
    try:
        yield window, stand_ins
    finally:
        window.end_everything()
        stand_ins.stop_process()
        window.close()
        window.deleteLater()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)


@pytest.fixture
def make(qtbot: QtBot, tmp_path: Path) -> Iterator[Callable[[Rig], Window]]:
    """Opens a real window over a rig, without listening."""
    made: list[Window] = []

    def open_(rig: Rig) -> Window:
        window = make_window(Session(rig), Computer(), "127.0.0.1", tmp_path / "state")
        window.files.may_leave = lambda: True  # type: ignore[method-assign]
        window.resize(1280, 800)  # the screen of a test may be smaller
        window.show()
        qtbot.waitExposed(window)
        made.append(window)
        return window

    yield open_
    for n, w in enumerate(made):  # whatever a test did by hand, what stands there can be saved and opened again
        file = tmp_path / f"at-the-end-{n}.welvo"
        rigfile.save_rig_file(w.session.rig, file)
        assert rigfile.load_rig_file(file) == w.session.rig
    for w in made:
        w.end_everything()
        w.close()
        w.deleteLater()
    # Without an event loop of its own a test run never gets to deferred deletes, and each window would slow the next.
    QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    THEME.name, THEME.step = "dark", 0


@pytest.fixture
def window(make: Callable[[Rig], Window]) -> Window:
    return make(make_gallery())


@pytest.fixture
def runs(window: Window) -> Window:
    """The demo's window in Runs, its pixel controller chosen."""
    window.show_station("Runs")
    QApplication.processEvents()
    return window


@pytest.fixture
def small(make: Callable[[Rig], Window], rig: Rig) -> Window:
    return make(rig)


def field_of(root: Any, name: str) -> Any:
    """The field, choice or tick of that name that can be seen below a widget; below a window, in its whole."""
    QApplication.processEvents()
    for w in root.findChildren(QWidget):
        if isinstance(w, Field | Choice | Tick) and w.accessibleName() == name and w.isVisibleTo(root):
            return w
    raise AssertionError(f"no field {name} can be seen")


def in_dialog(act: Callable[[Any], object]) -> list[Any]:
    """Does something in the next dialog that opens. It is closed afterwards, and stands in what is given back."""
    done: list[Any] = []
    limit = PatienceLimit(5.0)

    def when_open() -> None:
        dialog: Any = QApplication.activeModalWidget()
        if dialog is None and limit.lasts():
            QTimer.singleShot(5, when_open)  # something may have to be written or read before it opens
            return
        done.append(dialog)
        try:
            act(dialog)
        finally:
            if dialog.isVisible():
                dialog.reject()

    QTimer.singleShot(0, when_open)
    return done


def answer(words: str) -> list[Any]:
    """Types a line into the next dialog and presses Enter."""

    def type_it(dialog: Any) -> None:
        dialog.line.setText(words)
        QTest.keyClick(dialog.line, Qt.Key.Key_Return)

    return in_dialog(type_it)


def press_in_dialog(words: str) -> list[Any]:
    """Presses the button with those words in the next dialog."""
    return in_dialog(lambda d: next(b for b in d.findChildren(QPushButton) if b.text() == words).click())


def hear(window: Window, wire_a: int = 1, **more: Any) -> None:
    """As if the node of the small rig had answered just now."""
    ports = (HeardPort(1, 0, True, "sacn", wire_a), HeardPort(2, 0, True, "artnet", 2))
    heard = {
        "127.0.0.60": Heard(
            "127.0.0.60", "NODE", "a node", "02:57:7f:00:00:3c", 0x0102, "#0001 [0001] ok", ports, time.time()
        )
    }
    window.session.observe(heard={**heard, **more}, listening=True)


def pointer_moved(to: QPointF, held: Qt.MouseButton = Qt.MouseButton.LeftButton) -> QMouseEvent:
    """The pointer at a place, said by hand: moving it to where it stands already tells nobody anything."""
    return QMouseEvent(QEvent.Type.MouseMove, to, to, held, held, Qt.KeyboardModifier.NoModifier)


class Recorder:
    """Stands in for the streaming process."""

    def __init__(
        self, interface: str, rows: int, name: str = "", fd: int = -1, wait: bool = True, keys: bool = False
    ) -> None:
        import uuid

        self.stays = b""
        self.done_beside: list[Act] = []
        self.dealt: list[Act] = []

        self.state = EngineState("sending")
        self.revived = 0

        self.rows, self.cid = rows, uuid.uuid4()
        self.streams: list[list[Out]] = []
        self.frames: list[bytes] = []
        self.alive = True

    def set_streams(self, specs: list[Out]) -> None:
        self.streams.append(specs)

    def write(self, levels: bytes) -> None:
        self.frames.append(levels)

    def set_stays(self, bits: bytes) -> None:
        self.stays = bits

    def dealt_with(self, act: Act) -> None:
        self.dealt.append(act)

    def was_done(self, act: Act) -> bool:
        return False

    def forget_presses(self) -> None:
        pass

    def take_done(self) -> list[Act]:
        found, self.done_beside = self.done_beside, []
        return found

    def lighten(self) -> None:
        pass

    def stop(self) -> None:
        self.alive = False

    end = stop

    def revive(self) -> None:
        self.revived += 1
        self.state = EngineState("sending")


@pytest.fixture
def engines(monkeypatch: pytest.MonkeyPatch) -> list[Recorder]:
    """The engines that were started instead of real ones."""
    made: list[Recorder] = []

    def start(*args: Any, **more: Any) -> Recorder:
        made.append(Recorder(*args, **more))
        return made[-1]

    monkeypatch.setattr("welvo.app.jobs.output.EngineProcess", start)
    return made
