"""Long work with devices, off the window's thread: one thread with an event loop, in which any number of jobs run."""

from __future__ import annotations

import threading
from collections.abc import Callable, Coroutine
from typing import TYPE_CHECKING, Any, TypeVar

if TYPE_CHECKING:
    import asyncio
    import concurrent.futures

T = TypeVar("T")


class Jobs:
    """Begins when the first job does; `close` ends whatever still runs."""

    def __init__(self) -> None:
        self._loop: asyncio.AbstractEventLoop | None = None
        self._thread: threading.Thread | None = None
        self._running: set[concurrent.futures.Future[Any]] = set()

    def start_coroutine(self, make: Callable[[], Coroutine[Any, Any, T]]) -> concurrent.futures.Future[T]:
        """Run a coroutine. Its result, or its error, stands in the future that is given back."""
        import asyncio  # not before the first job: the window shows itself without

        if self._loop is None:
            self._loop = asyncio.new_event_loop()
            self._thread = threading.Thread(target=self._loop.run_forever, name="device jobs", daemon=True)
            self._thread.start()
        future = asyncio.run_coroutine_threadsafe(make(), self._loop)
        self._running.add(future)
        future.add_done_callback(self._running.discard)
        return future

    def close(self, seconds: float = 2.0) -> None:
        if self._loop is None or self._thread is None:
            return
        import asyncio

        loop = self._loop

        async def end() -> None:
            others = asyncio.all_tasks() - {asyncio.current_task()}
            for task in others:
                task.cancel()
            if others:  # what is cancelled still has to put away what it holds
                await asyncio.wait(others, timeout=seconds)
            loop.stop()

        asyncio.run_coroutine_threadsafe(end(), loop)
        self._thread.join(seconds + 0.5)
        if not self._thread.is_alive():
            self._loop.close()
        self._loop = self._thread = None
