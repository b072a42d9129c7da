"""Work on files, out of the window's way: a stick, a shared folder or a sleeping disk may take its time.

`wait_for` does a piece of work in a thread and gives what comes of it; the window paints and output runs on meanwhile,
and what is typed waits until it is over. `Newest` is for what nobody waits for: one thread, which does the newest of
what it was asked for, so that a slow disk is never given work that is out of date already. `SMALL_FILES` writes the
settings of this computer in that way, a file after the other.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import TypeVar

from PySide6.QtCore import QCoreApplication, QEventLoop, QObject, QTimer, Signal
from PySide6.QtWidgets import (
    QApplication,
    QDialog,
    QHBoxLayout,
    QLabel,
    QProgressBar,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from welvo.app.always_keys import carry_over
from welvo.app.runner import begin_thread
from welvo.live.worker import Worker, WorkerFaults
from welvo.rig.notation import say_thousands
from welvo.rig.steps import Stopped, watch_steps

T = TypeVar("T")
AT_ONCE = 0.02
"""Seconds in which most work is over, before an event loop is begun for it."""
SHOWN_AFTER = 400
"""Milliseconds after which work that may be stopped is shown."""


class Progress:
    """How far work has come, written by the thread that does it and read by the window, which may stop it."""

    def __init__(self) -> None:
        self.now: tuple[str, int, int] = ("", 0, 0)
        self.sealed = False
        self._stopped = False
        self._lock = threading.Lock()

    def tell_step(self, what: str, done: int, of: int) -> None:
        if self._stopped:
            raise Stopped
        self.now = (what, done, of)

    def seal_work(self) -> None:
        with self._lock:
            if self._stopped:
                raise Stopped
            self.sealed = True

    def stop(self) -> bool:
        """End the work at its next step. Gives False when it is past its last one, and will be done in a moment."""
        with self._lock:
            self._stopped = not self.sealed
            return self._stopped


class Waiting(QDialog):
    """Says what is being done and how far it has come; *Stop* or Esc leave it before the end. It is put together from
    Qt's own parts, because the parts of our own need files themselves."""

    def __init__(self, parent: QWidget | None, words: str, progress: Progress) -> None:
        super().__init__(parent)
        carry_over(self, parent)
        self._progress = progress
        self.setWindowTitle(words)
        self.setMinimumWidth(420)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setAccessibleName("How far it has come")
        self.far = QLabel()
        self.far.setMinimumHeight(20)
        stop = QPushButton("Stop")
        stop.clicked.connect(self.reject)
        lines, foot = QVBoxLayout(), QHBoxLayout()
        lines.setContentsMargins(20, 16, 20, 16)
        lines.setSpacing(10)
        for part in (QLabel(words), self.bar, self.far):
            lines.addWidget(part)
        foot.addStretch(1)
        foot.addWidget(stop)
        lines.addLayout(foot)
        self.setLayout(lines)
        look = QTimer(self, interval=100)
        look.timeout.connect(self.show_progress)
        look.start()
        self.show_progress()

    def show_progress(self) -> None:
        what, done, of = self._progress.now
        self.bar.setRange(0, of)
        self.bar.setValue(min(done, of))
        count = f"{say_thousands(done)} of {say_thousands(of)}" if of else say_thousands(done)
        self.far.setText(f"{what} {count}".capitalize() if what else "")

    def reject(self) -> None:
        if self._progress.stop():
            super().reject()
        else:
            self.far.setText("It is being written now, and is done in a moment.")


class _Done(QObject):
    """Carries the end of a thread's work into the thread that waits."""

    came = Signal()


def wait_for(work: Callable[[], T], words: str = "") -> T:
    """Do work in a thread and give its result, or raise what it raised.

    With `words` it may be stopped: when it takes longer than a moment they are shown with how far it has come and with
    *Stop*. Then Stopped is raised at once; the thread ends at its next step, and what it would have given is dropped.
    """
    if QCoreApplication.instance() is None:
        return work()
    found: list[T] = []
    failed: list[BaseException] = []
    done = _Done()
    progress = Progress()

    def run() -> None:
        try:
            with watch_steps(progress):
                found.append(work())
        except BaseException as e:  # raised again where it was asked for
            failed.append(e)
        done.came.emit()

    def over() -> bool:
        return bool(found or failed)

    loop = QEventLoop()
    done.came.connect(loop.quit)
    thread = begin_thread("disk", run)
    thread.join(AT_ONCE)
    if words and not over():
        QTimer.singleShot(SHOWN_AFTER, loop, loop.quit)
    if not over():
        loop.exec(QEventLoop.ProcessEventsFlag.ExcludeUserInputEvents)
    if words and not over():
        waiting = Waiting(QApplication.activeWindow(), words, progress)
        done.came.connect(waiting.accept)
        try:
            if not over() and not waiting.exec():
                raise Stopped
        finally:
            waiting.deleteLater()
    thread.join()
    if failed:
        raise failed[0]
    return found[0]


class Newest:
    """A thread that does the newest job it is given; one that was not begun when the next comes is never done."""

    def __init__(self, name: str, faults: WorkerFaults) -> None:
        self._news = threading.Condition()
        self._next: Callable[[], object] | None = None
        self._busy = False
        self._worker = Worker(name, self._do_newest, faults)

    def put_job(self, job: Callable[[], object]) -> None:
        if self._worker.stopping.is_set():
            return
        with self._news:
            self._next = job
            self._news.notify_all()
        if not self._worker.is_alive:
            self._worker.start_thread()

    def _do_newest(self) -> None:
        while not self._worker.stopping.is_set():
            with self._news:
                if self._next is None:
                    self._news.wait(0.5)
                job, self._next = self._next, None
                self._busy = job is not None
            try:
                if job:
                    job()
            finally:
                with self._news:
                    self._busy = False
                    self._news.notify_all()

    def wait_until_settled(self, seconds: float) -> bool:
        """Wait until nothing is left to do; gives whether that came in time."""
        with self._news:
            return self._news.wait_for(lambda: self._next is None and not self._busy, seconds)

    def finish_and_stop(self, seconds: float) -> None:
        """Finish what is left, as far as the time allows, and end the thread."""
        self.wait_until_settled(seconds)
        self._worker.stopping.set()
        with self._news:
            self._news.notify_all()


class SmallFiles:
    """Settings of this computer, written soon and out of the window's way: of each file the newest version."""

    def __init__(self) -> None:
        self._writers: dict[str, Newest] = {}
        self.faults = WorkerFaults()

    def write_soon(self, name: str, write: Callable[[], object]) -> None:
        """Have a file written. Without a window, and so with nobody who would wait, it is written at once."""
        if QCoreApplication.instance() is None:
            write()
            return
        if name not in self._writers:
            self._writers[name] = Newest(f"writing {name}", self.faults)
        self._writers[name].put_job(write)

    def settle(self, seconds: float = 2.0) -> bool:
        """Wait until all of it is written, as before it is read again; gives whether that came in time."""
        return all(w.wait_until_settled(seconds) for w in self._writers.values())

    def close(self, seconds: float = 2.0) -> None:
        """Write what is left, as far as the time allows, and end the threads; what comes afterwards begins anew."""
        for writer in self._writers.values():
            writer.finish_and_stop(seconds)
        self._writers.clear()


SMALL_FILES = SmallFiles()
