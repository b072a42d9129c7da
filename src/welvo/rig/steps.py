"""Long work says how far it has come, and can be stopped, wherever it is.

Who reads a table or a scene does not know who waits for it, nor whether there is a window. So it calls `take_step` in
its loops, and whoever began the work watches: he is told what is being done, and may end it by raising `Stopped`,
which is a `Refused` and leaves the rig as it was. Where nobody watches a step costs next to nothing.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Protocol

from welvo.rig.base import Refused


class Watcher(Protocol):
    """Who watches work. Both may raise Stopped, which ends it."""

    def tell_step(self, what: str, done: int, of: int) -> None:
        """What is being done, how much of it is done, and of how much (0: nobody knows)."""

    def seal_work(self) -> None:
        """From here on the work is done to its end: a file is being written."""


_watcher: ContextVar[Watcher | None] = ContextVar("watcher", default=None)
EVERY = 32
"""Steps of some microseconds each between two that are told."""


class Stopped(Refused):
    """The work was stopped by who had asked for it. Nothing has changed, where nothing else is said."""

    def __init__(self, why: str = "Stopped. Nothing has changed.") -> None:
        super().__init__(why)


def take_step(what: str, done: int, of: int = 0, every: int = EVERY) -> None:
    """Say how far the work has come, once in so many steps. Raises Stopped when it is to end."""
    if done % every == 0:
        watcher = _watcher.get()
        if watcher:
            watcher.tell_step(what, done, of)


def last_step() -> None:
    """Say that what follows is not left half done. Raises Stopped when the work is to end before it."""
    watcher = _watcher.get()
    if watcher:
        watcher.seal_work()


@contextmanager
def watch_steps(watcher: Watcher) -> Iterator[None]:
    """Have the steps of what is done inside, in this thread, told to a watcher."""
    before = _watcher.set(watcher)
    try:
        yield
    finally:
        _watcher.reset(before)
