"""Threads that go on: an error in one packet or one page must not end what the window relies on.

Whatever ends the work of such a thread is kept with its trace, and the work begins again. The window asks for what was
kept and says it; nothing is printed where nobody looks.
"""

from __future__ import annotations

import threading
import traceback
from collections import deque
from collections.abc import Callable

PAUSE = 0.2
"""Seconds before work that failed begins again, so that a lasting fault does not take a whole core."""


class Fault:
    """An unexpected error in a thread: where, in a few words, and the whole trace."""

    def __init__(self, where: str, error: BaseException) -> None:
        self.where = where
        self.words = f"{type(error).__name__}: {error}" if str(error) else type(error).__name__
        self.trace = "".join(traceback.format_exception(error))


class WorkerFaults:
    """What went wrong and was not told yet. One kind of fault is kept once, however often it comes."""

    def __init__(self) -> None:
        self.count = 0
        self._known: set[str] = set()
        self._untold: deque[Fault] = deque(maxlen=20)

    def note_fault(self, where: str, error: BaseException) -> None:
        self.count += 1
        at = error.__traceback__
        while at and at.tb_next:
            at = at.tb_next
        kind = f"{type(error).__name__} {at.tb_frame.f_code.co_filename}:{at.tb_lineno}" if at else repr(error)
        if kind not in self._known and len(self._known) < 1000:
            self._known.add(kind)
            self._untold.append(Fault(where, error))

    def take_faults(self) -> list[Fault]:
        """What is to be told now; each fault is given once."""
        found: list[Fault] = []
        while self._untold:
            found.append(self._untold.popleft())
        return found


class Worker:
    """A thread that does `work` until `stop_thread`. Work that ends with an error is noted and begins again."""

    def __init__(self, name: str, work: Callable[[], object], faults: WorkerFaults) -> None:
        self.stopping = threading.Event()
        self.faults = faults
        self.restarts = 0
        self._work = work
        self._thread = threading.Thread(target=self._run_again, name=name, daemon=True)

    @property
    def is_alive(self) -> bool:
        return self._thread.is_alive()

    def start_thread(self) -> None:
        self._thread.start()

    def _run_again(self) -> None:
        while not self.stopping.is_set():
            try:
                self._work()
            except Exception as e:  # whatever it is: the thread has to go on
                self.faults.note_fault(self._thread.name, e)
                self.restarts += 1
                self.stopping.wait(PAUSE)

    def stop_thread(self, seconds: float = 2.0) -> None:
        self.stopping.set()
        if self._thread.is_alive() and self._thread is not threading.current_thread():
            self._thread.join(seconds)
