"""Limits of waiting that grow when this computer is busy.

A limit in plain seconds blames others for what is our own doing: on a crowded machine the answer of a device lies in
the socket while this process waits for its turn, and a process that was just started has not run yet. So a limit here
is spent in turns: a turn that came late counts no more than one that came in time, and where several processes want
each processor, a second counts for less than a second. On a quiet machine both are the plain seconds.
"""

from __future__ import annotations

import os
import threading
import time
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager

TURN = 0.02
"""Seconds between two looks while something is waited for."""
MOST_CROWDED = 12.0
HURRIED = 0.12
"""Seconds in which what is under way may still end by itself after somebody stopped it."""
LONGEST = 15
"""How many times its plain seconds a limit lasts at the most."""
ASKED_EVERY = 0.1


_BEGUN = time.time() - time.monotonic()


def steady() -> float:
    """Seconds since the epoch by a clock that nobody sets: by the computer's own as it was when the program began.

    Ages, silences and limits of what is heard go by it. The computer's clock may be put an hour or a year forward or
    back while a show runs; by that clock every source would be lost at once, or none ever again.
    """
    return _BEGUN + time.monotonic()


def clock_moved() -> float:
    """Seconds by which the computer's clock was put forward (back: negative) since the program began; 0 for less than
    one. What is written down for people takes it into account."""
    moved = time.time() - steady()
    return moved if abs(moved) >= 1 else 0.0


def crowding() -> float:
    """How many processes want each processor now, from 1 (nobody waits); Linux says it in /proc/loadavg."""
    try:
        with open("/proc/loadavg", "rb") as f:
            running = int(f.read(64).split()[3].split(b"/")[0])
    except (OSError, ValueError, IndexError):
        return 1.0
    return min(MOST_CROWDED, max(1.0, running / (os.cpu_count() or 1)))


class PatienceLimit:
    """A time that is spent in turns; `lasts` is asked at every turn. One thread at a time asks it."""

    def __init__(
        self,
        seconds: float,
        clock: Callable[[], float] = time.monotonic,
        crowd: Callable[[], float] = crowding,
        turn: float = TURN,
    ) -> None:
        self.seconds = seconds
        self._clock, self._crowd, self._turn = clock, crowd, turn
        self._begun = self._last = clock()
        self._spent = 0.0
        self._crowded = 1.0
        self._asked = -ASKED_EVERY

    @property
    def waited(self) -> float:
        """Seconds by the clock since the limit began."""
        return self._clock() - self._begun

    @property
    def stretched(self) -> bool:
        """Whether the machine was so busy that the limit lasted markedly longer than its plain seconds."""
        return self.waited > 1.5 * self.seconds + 1.0

    def lasts(self) -> bool:
        """Whether there is time left; the turn that ends now is counted."""
        now = self._clock()
        if now - self._asked >= ASKED_EVERY:
            self._crowded, self._asked = self._crowd(), now
        self._spent += min(now - self._last, 2 * self._turn) / self._crowded
        self._last = now
        return self._spent < self.seconds and self.waited < LONGEST * self.seconds


def wait_until(condition: Callable[[], bool], seconds: float) -> bool:
    """Wait in turns for something to come true; gives whether it did."""
    limit = PatienceLimit(seconds)
    while True:
        if condition():
            return True
        if not limit.lasts():
            return condition()
        time.sleep(TURN)


def wait_for_news(news: threading.Condition, condition: Callable[[], bool], seconds: float) -> bool:
    """The same on a condition that is notified. The caller holds its lock."""
    limit = PatienceLimit(seconds)
    while not condition():
        if not limit.lasts():
            return False
        news.wait(TURN)
    return True


async def rest(seconds: float) -> None:
    """Let the event loop's others work for that long."""
    import asyncio

    await asyncio.sleep(seconds)


@asynccontextmanager
async def patient(seconds: float, hurry: Callable[[], bool] = lambda: False) -> AsyncIterator[None]:
    """Ends what is awaited inside with TimeoutError when the limit is spent; in a moment once there is a `hurry`, which
    is somebody who stopped it."""
    import asyncio  # only those who wait inside an event loop need it

    limit = PatienceLimit(seconds)
    loop = asyncio.get_running_loop()
    async with asyncio.timeout(None) as inner:
        next_turn: list[asyncio.TimerHandle] = []

        hurried: list[PatienceLimit] = []

        def turn() -> None:
            if not hurried and hurry():
                hurried.append(PatienceLimit(HURRIED))
            if limit.lasts() and all(short.lasts() for short in hurried):
                next_turn[:] = [loop.call_later(TURN, turn)]
            else:
                inner.reschedule(loop.time())

        turn()
        try:
            yield
        finally:
            for handle in next_turn:  # none where the computer stood still so long that the first turn was the last
                handle.cancel()
