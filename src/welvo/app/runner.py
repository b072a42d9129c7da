"""The one door to work beside the window, and the one way back.

Whoever has something to do that takes time hands over a coroutine, and what is to become of its result. The coroutine
runs in a thread of its own, beside all others; its result waits until its owner, in the window's thread, takes it over.
So nothing that a thread does ever touches a widget, and an owner that is no longer interested takes over nothing.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Coroutine
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from welvo.live.jobs import Jobs

if TYPE_CHECKING:
    import concurrent.futures

T = TypeVar("T")


def begin_thread(name: str, work: Callable[[], object]) -> threading.Thread:
    """Begin a short piece of work that waits for the system, as for a disk. It must touch no widget."""
    thread = threading.Thread(target=work, name=name, daemon=True)
    thread.start()
    return thread


class Job(Generic[T]):
    """One piece of work: whether it is over, how it ended, and what it gave."""

    def __init__(self, future: concurrent.futures.Future[T], owner: object, then: Callable[[Job[T]], None]) -> None:
        self._future, self.owner, self.then = future, owner, then

    @property
    def is_over(self) -> bool:
        return self._future.done()

    @property
    def was_cancelled(self) -> bool:
        return self._future.cancelled()

    @property
    def error(self) -> BaseException | None:
        """What it broke off with; None while it runs, when it was cancelled, and when all went well."""
        return self._future.exception() if self._future.done() and not self._future.cancelled() else None

    @property
    def result(self) -> T:
        """What it gave. Raises what it raised."""
        return self._future.result(0)

    def cancel(self) -> None:
        self._future.cancel()

    def wait(self, seconds: float) -> None:
        """Wait for its end. Raises what it raised, or TimeoutError."""
        self._future.result(seconds)


class JobRunner:
    """Runs the jobs of all owners; each of them calls `take_over` a few times a second."""

    def __init__(self) -> None:
        self._jobs = Jobs()
        self._running: list[Job[Any]] = []

    def start(
        self, owner: object, make: Callable[[], Coroutine[Any, Any, T]], then: Callable[[Job[T]], None]
    ) -> Job[T]:
        """Begin a coroutine. `then` is called with the job in the window's thread once it is over."""
        job = Job(self._jobs.start_coroutine(make), owner, then)
        self._running.append(job)
        return job

    def take_over(self, owner: object, most: int | None = None) -> int:
        """Call what is to follow for each job of an owner that is over, for `most` of them at the most. Gives how
        many."""
        taken = 0
        for job in [j for j in self._running if j.owner is owner and j.is_over][:most]:
            if job not in self._running:
                continue  # what followed from one before had its owner forget the rest
            self._running.remove(job)  # one by one: where taking one over fails, the others wait for the next turn
            taken += 1
            job.then(job)
        return taken

    def forget(self, owner: object) -> None:
        """Nothing of what an owner has begun is taken over any more; it ends by itself, or with the program."""
        self._running = [j for j in self._running if j.owner is not owner]

    def close(self, seconds: float = 2.0) -> None:
        """End whatever still runs, and the thread; nothing of it is taken over."""
        self._running.clear()
        self._jobs.close(seconds)
