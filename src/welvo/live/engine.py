"""The engine as the rest of the program sees it: start, streams, levels, stop."""

from __future__ import annotations

import contextlib
import json
import os
import select
import subprocess
import sys
import time
import uuid
from typing import Any, Protocol

from welvo.live.frames import SLOTS, Frames


class EngineError(Exception):
    """The engine could not be started; the message says why."""


class Output(Protocol):
    """What arming needs. Tests put a recorder in its place."""

    def set_streams(self, specs: list[dict[str, Any]]) -> None: ...

    def write(self, levels: bytes) -> None: ...

    def stop(self) -> None: ...

    @property
    def alive(self) -> bool: ...


class EngineProcess:
    """One run of the streaming process, from arm to disarm, with one CID.

    `artnet_fd` is the program's own socket on UDP 6454, so that ArtDmx leaves from that port; -1 for none.
    """

    def __init__(self, interface: str, rows: int, name: str = "Welvo", artnet_fd: int = -1) -> None:
        self.frames = Frames.make(max(1, rows))
        self.rows = max(1, rows)
        self.cid = uuid.uuid4()
        self._buffer = b""
        self.answers: list[dict[str, Any]] = []
        handles = [self.frames.handle] + ([artnet_fd] if artnet_fd >= 0 else [])
        self._process = subprocess.Popen(
            [sys.executable, "-m", "welvo.live.engine_main", str(self.frames.handle), str(self.rows), str(artnet_fd)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            pass_fds=handles,
            bufsize=0,
        )
        self.command({"open": {"interface": interface, "name": name, "cid": self.cid.hex}})
        answer = self.wait_for(("ready", "failed"), 5.0)
        if not answer or "failed" in answer:
            self.stop()
            why = answer["failed"] if answer else "it did not answer"
            raise EngineError(f"Output could not be opened on {interface}: {why}.")

    @property
    def alive(self) -> bool:
        return self._process.poll() is None

    @property
    def pid(self) -> int:
        return self._process.pid

    def command(self, message: dict[str, Any]) -> None:
        assert self._process.stdin is not None
        with contextlib.suppress(BrokenPipeError, OSError):
            self._process.stdin.write(json.dumps(message).encode() + b"\n")

    def set_streams(self, specs: list[dict[str, Any]]) -> None:
        """Say which feeds go out: dicts of id, row, protocol, wire, to (addresses), priority, rate, rule, last."""
        self.command({"streams": specs})

    def write(self, levels: bytes) -> None:
        """Levels of all rows, rows × 512 octets."""
        if len(levels) != self.rows * SLOTS:
            raise ValueError(f"{len(levels)} octets instead of {self.rows * SLOTS}")
        self.frames.write(levels)

    def wait_for(self, keys: tuple[str, ...], seconds: float) -> dict[str, Any] | None:
        """The next answer that has one of the keys, or None when none comes in time."""
        assert self._process.stdout is not None
        handle = self._process.stdout.fileno()
        until = time.monotonic() + seconds
        while True:
            for n, answer in enumerate(self.answers):
                if any(k in answer for k in keys):
                    return self.answers.pop(n)
            left = until - time.monotonic()
            if left <= 0 or not select.select([handle], [], [], left)[0]:
                return None
            got = os.read(handle, 1 << 16)
            if not got:
                return None
            self._buffer += got
            while b"\n" in self._buffer:
                line, self._buffer = self._buffer.split(b"\n", 1)
                self.answers.append(json.loads(line))

    def status(self, seconds: float = 1.0) -> dict[str, Any]:
        self.command({"status": True})
        return self.wait_for(("sent",), seconds) or {}

    def stop(self) -> None:
        """End all streams properly and wait until the process is gone; never longer than three seconds."""
        if self.alive:
            self.command({"stop": True})
        with contextlib.suppress(OSError):
            if self._process.stdin:
                self._process.stdin.close()
        try:
            self._process.wait(2.0)
        except subprocess.TimeoutExpired:
            self._process.terminate()
            try:
                self._process.wait(1.0)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()
        if self._process.stdout and not self._process.stdout.closed:
            self._process.stdout.close()
            self.frames.close()
