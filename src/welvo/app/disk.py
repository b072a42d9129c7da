"""Work on files, out of the window's way: a stick, a shared folder or a sleeping disk may take its time.

`wait_for` does a piece of work in a thread and gives what comes of it; the window paints and output runs on meanwhile,
and what is typed waits until it is over. `Newest` is for what nobody waits for: one thread, which does the newest of
what it was asked for, so that a slow disk is never given work that is out of date already.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import Any, TypeVar

from PySide6.QtCore import QCoreApplication, QEventLoop, QObject, Signal

from welvo.live.worker import Faults, Worker

T = TypeVar("T")
AT_ONCE = 0.02
"""Seconds in which most work is over, before an event loop is begun for it."""


class _Done(QObject):
    """Carries the end of a thread's work into the thread that waits."""

    came = Signal()


def wait_for(work: Callable[[], T]) -> T:
    """Do work in a thread and give its result, or raise what it raised."""
    if QCoreApplication.instance() is None:
        return work()
    found: list[Any] = []
    failed: list[BaseException] = []
    done = _Done()

    def run() -> None:
        try:
            found.append(work())
        except BaseException as e:  # raised again where it was asked for
            failed.append(e)
        done.came.emit()

    thread = threading.Thread(target=run, name="disk", daemon=True)
    loop = QEventLoop()
    done.came.connect(loop.quit)
    thread.start()
    thread.join(AT_ONCE)
    if not found and not failed:
        loop.exec(QEventLoop.ProcessEventsFlag.ExcludeUserInputEvents)
    thread.join()
    if failed:
        raise failed[0]
    result: T = found[0]
    return result


class Newest:
    """A thread that does the newest job it is given; one that was not begun when the next comes is never done."""

    def __init__(self, name: str, faults: Faults) -> None:
        self._news = threading.Condition()
        self._next: Callable[[], object] | None = None
        self._busy = False
        self._worker = Worker(name, self._run, faults)

    def put(self, job: Callable[[], object]) -> None:
        if self._worker.stopping.is_set():
            return
        with self._news:
            self._next = job
            self._news.notify_all()
        if not self._worker.alive:
            self._worker.start()

    def _run(self) -> None:
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

    def settle(self, seconds: float) -> bool:
        """Wait until nothing is left to do; gives whether that came in time."""
        with self._news:
            return self._news.wait_for(lambda: self._next is None and not self._busy, seconds)

    def stop(self, seconds: float) -> None:
        """Finish what is left, as far as the time allows, and end the thread."""
        self.settle(seconds)
        self._worker.stopping.set()
        with self._news:
            self._news.notify_all()
