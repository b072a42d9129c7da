"""Starts the window: `run([FILE])` or `run(["--demo"])`."""

from __future__ import annotations

import contextlib
import signal
import sys
import tempfile
import threading
from importlib.resources import files
from pathlib import Path
from types import TracebackType

from PySide6.QtCore import QCoreApplication, QEvent, QRect, QSocketNotifier, QTimer
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QApplication

from welvo import APP_ID
from welvo.app.collecting import collect_here
from welvo.app.computer import Computer, load_passwords, save_passwords
from welvo.app.jobs.network import Network
from welvo.app.one_window import Doorbell, raise_other
from welvo.app.session import Session
from welvo.app.widgets import theme
from welvo.app.widgets.desktop_look import desktop_look
from welvo.app.widgets.theme import THEME
from welvo.app.window import SMALLEST, Window
from welvo.live.groups import raise_limit
from welvo.live.worker import Fault
from welvo.rig.document import Rig


def program_icon() -> QIcon:
    return QIcon(str(files("welvo") / "data" / "desktop" / "welvo.svg"))


class Demo:
    """The Drift Gallery with its stand-ins, which live as long as the window."""

    def __init__(self) -> None:
        from welvo.demo.gallery import make_gallery, state_file
        from welvo.formats.rigfile import save_rig_file
        from welvo.standins.process import StandIns

        self.rig: Rig = make_gallery()
        self._folder = tempfile.TemporaryDirectory(prefix="welvo-demo-")
        file = Path(self._folder.name) / "drift-gallery.welvo"
        save_rig_file(self.rig, file)
        self.stand_ins = StandIns(file, state_file())

    def stop(self) -> None:
        self.stand_ins.stop_process()
        self._folder.cleanup()


def make_window(session: Session, computer: Computer, interface: str = "", state_folder: Path | None = None) -> Window:
    """A window over a session, not yet shown and not yet listening."""
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    collect_here(app)
    put_on(computer)
    theme.apply_theme(app)
    network = Network(session, interface or computer.interface, computer.quiet)
    network.devices.passwords, network.devices.remember = load_passwords(), save_passwords
    network.output.lines = dict(computer.lines)

    def keep_lines(lines: dict[str, str]) -> None:
        computer.lines = lines
        computer.save_settings()

    network.output.remember_lines = keep_lines
    window = Window(session, network, computer, state_folder)
    screen = QApplication.primaryScreen()
    room = screen.availableGeometry() if screen else QRect(0, 0, computer.width, computer.height)
    window.resize(*size_on(computer.width, computer.height, room.width(), room.height()))
    return window


def put_on(computer: Computer) -> None:
    """Set the theme to what was chosen, and what was not to the desktop's wishes."""
    wished = desktop_look()
    THEME.name = wished.name if computer.theme == "desktop" else computer.theme
    THEME.step = wished.step if computer.text_step < 0 else computer.text_step
    THEME.strong = wished.strong


FRAME = (4, 44)
"""Room for a window's frame and title bar, which nobody knows before it is shown."""


def size_on(width: int, height: int, wide: int, high: int) -> tuple[int, int]:
    """The size of the window as it was left, made to fit a screen of `wide` × `high` with its frame; never below what
    the window needs."""
    return max(SMALLEST[0], min(width, wide - FRAME[0])), max(SMALLEST[1], min(height, high - FRAME[1]))


def start_demo(window: Window) -> None:
    """Put the demo rig in and start its stand-ins. It listens on loopback and nowhere else."""
    from welvo.live.interfaces import LOOPBACK

    if not window.files.may_leave():
        return
    try:
        demo = Demo()
    except OSError as e:
        window.session.say(f"The demo's stand-ins cannot be started: {e}", "error")
        return
    window.on_close.append(demo.stop)
    if window.network.hearing.interface != LOOPBACK:
        window.network.use_interface(LOOPBACK)
    window.session.replace_rig(demo.rig, None)
    window.rehearsal.stand_ins = demo.stand_ins  # another rig ends the simulated devices of the one before
    window.session.select_items(["f207"])

    def look() -> None:
        problem = demo.stand_ins.why_failed()
        if problem:
            window.session.say(f"The demo's stand-ins ended: {problem}", "error")

    QTimer.singleShot(3000, window, look)


def run(arguments: list[str]) -> int:
    """Open the window and stay until it is closed. Gives the exit code."""
    raise_limit()
    app = QApplication([sys.argv[0]])
    app.setApplicationName("welvo")
    app.setDesktopFileName(APP_ID)
    app.setWindowIcon(program_icon())
    demo = "--demo" in arguments
    if arguments and not demo and raise_other(Path(arguments[0])):
        return 0
    app.setStyle("Fusion")
    computer, said = Computer.load_said()
    session = Session()
    window = make_window(session, computer, "127.0.0.1" if demo else "")
    window.open_demo = lambda: start_demo(window)
    notifier = _quit_on_signals(window)
    _tell_faults(window)
    window.show()
    window.network.start_network()
    if demo:
        start_demo(window)
    elif arguments:
        window.files.open(Path(arguments[0]))
    bell = Doorbell(window)
    window.on_close.append(bell.close)
    QTimer.singleShot(300, window, lambda: window.bench)  # so that the first blackout does not wait for it
    QTimer.singleShot(500, window, lambda: _know_library(session))  # not before the first picture
    QTimer.singleShot(
        2500, window, collect_here(app).settle_after_start
    )  # nor before everything that comes with the start
    if said:
        session.say(said, "warning")
    QTimer.singleShot(0, window, window.lost.look_for_lost)
    if window.network.hearing.missing:
        QTimer.singleShot(0, window, window.output.ask_interface)
    code = app.exec()
    window.end_everything()
    destroy_window(window)
    sys.excepthook, threading.excepthook = sys.__excepthook__, threading.__excepthook__
    del notifier
    return code


def destroy_window(window: Window) -> None:
    """Take a window apart while Python is whole. Left to the end of the process, Qt would still tell its widgets that
    they lose the keys when what they are made of is gone, and the program would end with a crash."""
    window.hide()
    window.deleteLater()
    QCoreApplication.sendPostedEvents(window, QEvent.Type.DeferredDelete.value)


def _tell_faults(window: Window) -> None:
    """An error that nobody expected, in a handler or in a thread, is said and logged, and the window goes on."""

    def in_window(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        if issubclass(kind, KeyboardInterrupt):
            sys.__excepthook__(kind, error, trace)
            return
        window.tell_fault(Fault("", error.with_traceback(trace)))

    def in_thread(args: threading.ExceptHookArgs) -> None:
        if args.exc_value is not None:
            window.network.failed.emit(Fault(args.thread.name if args.thread else "", args.exc_value))

    sys.excepthook, threading.excepthook = in_window, in_thread


def _know_library(session: Session) -> None:
    from welvo.app.profiles.library import know_library

    know_library(session)


def _quit_on_signals(window: Window) -> QSocketNotifier:
    """Ctrl+C and SIGTERM end output properly; unsaved edits stay in the recovery journal for the next start."""
    import socket

    reader, writer = socket.socketpair()
    writer.setblocking(False)
    signal.set_wakeup_fd(writer.fileno())
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: None)
    notifier = QSocketNotifier(reader.fileno(), QSocketNotifier.Type.Read, window)

    def leave() -> None:
        with contextlib.suppress(OSError):
            reader.recv(64)
        if window.session.has_unsaved_edits:
            window.keeper.write_journal()
            window.keeper.keep = True  # it is waited for at the end
        window.end_everything()
        app = QApplication.instance()
        if app:
            app.quit()

    notifier.activated.connect(leave)
    window.on_close += [reader.close, writer.close]
    return notifier
