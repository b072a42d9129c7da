"""A worker that makes cyclic garbage all the time: whoever collects automatically would collect in it every 10 ms."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager


class Knot:
    """An object that only the collector can free."""

    def __init__(self) -> None:
        self.me = self


@contextmanager
def littering(every: float = 0.01, count: int = 3000) -> Iterator[None]:
    stop = threading.Event()

    def work() -> None:
        while not stop.wait(every):
            for _ in range(count):
                Knot()

    worker = threading.Thread(target=work, name="litter", daemon=True)
    worker.start()
    try:
        yield
    finally:
        stop.set()
        worker.join()
