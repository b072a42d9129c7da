"""The stand-ins of a rig as a process beside this one: started, ordered, and ended with it."""

from __future__ import annotations

import contextlib
import subprocess
import sys
import threading
from collections import deque
from pathlib import Path
from typing import IO

import msgspec

from welvo.patience import crowding, wait_until

OBEYED = "obeyed"
"""What the process prints once an order was carried out, or could not be."""


class StandIns:
    """The stand-ins of a rig as a process of their own, which ends with this one.

    What it prints is read along all the time, and the last of it kept: a pipe that nobody empties would stop it.
    """

    def __init__(self, rig_file: Path, state: Path | None = None, as_planned: bool = False) -> None:
        command = [sys.executable, "-m", "welvo.cli", "standins", str(rig_file), "--with-parent"]
        if state:
            command += ["--state", str(state)]
        if as_planned:
            command.append("--as-planned")
        self._process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, errors="replace"
        )
        self._ready = threading.Event()
        self._ordered = self._obeyed = 0
        self._said: deque[str] = deque(maxlen=1)
        self._complained: deque[str] = deque(maxlen=40)
        self._threads = [
            threading.Thread(target=self._read_pipe, args=(self._process.stdout, self._said), daemon=True),
            threading.Thread(target=self._read_pipe, args=(self._process.stderr, self._complained), daemon=True),
        ]
        for thread in self._threads:
            thread.start()

    def _read_pipe(self, pipe: IO[str], into: deque[str]) -> None:
        with contextlib.suppress(ValueError, OSError):  # closed by `stop_process`
            for line in pipe:
                if into is self._said and line.rstrip() == OBEYED:
                    self._obeyed += 1
                    continue
                into.append(line[:2000].rstrip())
                if into is self._said:
                    self._ready.set()
        self._ready.set()

    @property
    def is_running(self) -> bool:
        return self._process.poll() is None

    def wait_ready(self, seconds: float = 15.0) -> str:
        """The line that says which devices are there. Raises RuntimeError with the reason when they are not."""
        wait_until(self._ready.is_set, seconds)
        if not self._said:
            with contextlib.suppress(subprocess.TimeoutExpired):
                self._process.wait(2)
            self._threads[1].join(1)
            raise RuntimeError("\n".join(self._complained) or "the stand-ins did not start")
        return self._said[-1]

    def order_fault(self, ip: str, fault: str, value: object = True) -> None:
        """Switch a fault of a stand-in on or off (see `welvo.standins.host.obey`)."""
        if self._process.stdin:
            with contextlib.suppress(OSError):
                self._ordered += 1
                self._process.stdin.write(f"{ip} {fault} {msgspec.json.encode(value).decode()}\n")
                self._process.stdin.flush()

    def wait_until_settled(self, seconds: float = 10.0) -> bool:
        """Wait until all that was ordered was carried out."""
        return wait_until(lambda: self._obeyed >= self._ordered or not self.is_running, seconds)

    def why_failed(self) -> str:
        """Why the stand-ins are not running any more; empty while they are."""
        if self.is_running:
            return ""
        self._threads[1].join(0.1)
        return "\n".join(self._complained) or f"exit code {self._process.returncode}"

    def stop_process(self) -> None:
        if self._process.stdin:
            with contextlib.suppress(OSError):
                self._process.stdin.close()
        try:
            self._process.wait(3 * crowding())
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        for thread in self._threads:
            thread.join(1)
        for pipe in (self._process.stdout, self._process.stderr):
            if pipe:
                pipe.close()
