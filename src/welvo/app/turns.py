"""Whose turn it is while other threads of Python are busy: the window's, soon.

Python lets a thread run for 5 ms before another one gets its turn. Each of the window's many small calls into Qt may
have to wait that long, and with two busy threads it stands still for a tenth of a second. So as long as anything big is
done beside it, threads hand over sooner; who does it says when it begins and ends, and several may at once.
"""

from __future__ import annotations

import sys
import threading

HAND_OVER = 0.0003
"""Seconds after which the window gets its turn while something big is done beside it."""


class Turns:
    """Counts what is going on. Threads may call it."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._busy = 0
        self._usual = sys.getswitchinterval()

    def begin_busy(self) -> None:
        with self._lock:
            self._busy += 1
            if self._busy == 1:
                self._usual = sys.getswitchinterval()
                sys.setswitchinterval(HAND_OVER)

    def end_busy(self) -> None:
        with self._lock:
            self._busy -= 1
            if not self._busy:
                sys.setswitchinterval(self._usual)

    def __enter__(self) -> None:
        self.begin_busy()

    def __exit__(self, *_: object) -> None:
        self.end_busy()


TURNS = Turns()
