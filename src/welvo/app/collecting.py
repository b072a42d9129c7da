"""Python's cyclic garbage is collected in the window's thread only, from a timer, and nowhere else.

Why: Python collects in whatever thread happens to allocate. A worker that writes the journal can so be the one that
frees the Python side of a widget, while Qt destroys that very widget in the window's thread: inside a dialog's own loop
Qt deletes it, its destructor waits for the interpreter's lock, the worker that holds the lock frees the wrapper, and
the destructor goes on in freed memory. The process is gone, with all that was armed. So automatic collection is
switched off for good as soon as there is a window, and a timer of the application does the same work, generation by
generation, in the one thread that may touch widgets.
"""

from __future__ import annotations

import gc
import threading
import time
from collections import deque

from PySide6.QtCore import QObject, Qt, QTimer
from PySide6.QtGui import QGuiApplication

EVERY = 200
"""Milliseconds between two looks."""
YOUNG = 2000
"""Allocations after which the youngest generation is looked through; Python's own limit is 700 to 2000."""
OLDER = 10
"""Collections of one generation after which the next one is looked through as well."""
GROWN = 0.25
"""How much of what is looked through in a whole collection must be new since the last one, before there is another."""


class Collector(QObject):
    """Collects for the process. `pauses` holds the last collections as (generation, seconds)."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.pauses: deque[tuple[int, float]] = deque(maxlen=500)
        self._thread = threading.get_ident()
        self._since = [0, 0]
        gc.disable()
        leave_out_what_is_there()  # what the imports made stays as well, and would make the first look a long one
        self._whole = _count_objects()
        timer = QTimer(self)
        timer.timeout.connect(self.collect_what_is_due)
        timer.start(EVERY)

    def collect_what_is_due(self) -> None:
        """Collect the oldest generation that is due."""
        assert threading.get_ident() == self._thread
        if gc.get_count()[0] < YOUNG:
            return
        generation = 0
        if self._since[0] >= OLDER:
            generation = 2 if self._since[1] >= OLDER and _hands_are_still() and self._has_grown() else 1
        self.collect_generation(generation)

    def settle_after_start(self) -> None:
        """What the start has made stays as long as the program: collect once, and never look through it again."""
        self.collect_generation()
        leave_out_what_is_there()
        self._whole = _count_objects()

    def collect_generation(self, generation: int = 2) -> None:
        begun = time.perf_counter()
        gc.collect(generation)
        self.pauses.append((generation, time.perf_counter() - begun))
        if generation == 0:
            self._since[0] += 1
        else:
            self._since = [0, self._since[1] + 1 if generation == 1 else 0]
        if generation == 2:
            self._whole = _count_objects()

    def _has_grown(self) -> bool:
        """Python's own rule: what is old is looked through only when there is a good deal more of it."""
        return _count_objects() > self._whole * (1 + GROWN)


def _hands_are_still() -> bool:
    """A whole collection takes some hundredths of a second: not while something is dragged."""
    return QGuiApplication.mouseButtons() == Qt.MouseButton.NoButton


def _count_objects() -> int:
    return len(gc.get_objects(generation=2))


_ONE: list[Collector] = []


def collect_here(application: QObject) -> Collector:
    """From now on this process collects in the thread of its application, which is the caller's."""
    gc.disable()
    for known in _ONE:
        if known.parent() is application:
            return known
    _ONE[:] = [Collector(application)]
    return _ONE[0]


def leave_out_what_is_there() -> None:
    """Never look through what exists now: the values of a large rig, which hold no cycles."""
    gc.freeze()
