"""Long work says how far it has come, and can be stopped, wherever it is.

Who reads a table or a scene does not know who waits for it, nor whether there is a window. So it calls `step` in its
loops, and whoever began the work watches: he is told what is being done, and may end it by raising `Stopped`, which is
a `Refused` and leaves the rig as it was. Where nobody watches a step costs next to nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from welvo.rig.base import Refused

Watcher = Callable[[str, int, int], object]
"""Is told what is being done, how much of it is done, and of how much (0: nobody knows)."""
_watcher: ContextVar[Watcher | None] = ContextVar("watcher", default=None)
EVERY = 32
"""Steps between two that are told."""


class Stopped(Refused):
    """The work was stopped by who had asked for it; nothing has changed."""

    def __init__(self) -> None:
        super().__init__("Stopped. Nothing has changed.")


def step(what: str, done: int, of: int = 0) -> None:
    """Say how far the work has come. Raises Stopped when it is to end."""
    if done % EVERY == 0:
        watcher = _watcher.get()
        if watcher:
            watcher(what, done, of)


@contextmanager
def watched(watcher: Watcher) -> Iterator[None]:
    """Have the steps of what is done inside, in this thread, told to a watcher."""
    before = _watcher.set(watcher)
    try:
        yield
    finally:
        _watcher.reset(before)
