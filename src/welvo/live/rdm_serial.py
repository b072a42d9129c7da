"""RDM on a serial line of this computer: requests put on it, answers read from it, and the search that resolves
collisions by halves (E1.20, 3.2 and 7.6).

A line carries one thing at a time, so every question waits for the one before. Adapters hand octets on in lumps some
milliseconds apart, which is far longer than the standard's own times: an answer is waited for as long as such a lump
takes, and read until it is whole. Some adapters hear what they send themselves; that is left out. While the line is
armed the process that streams holds the port, and nothing is asked.
"""

from __future__ import annotations

import asyncio
import threading
import time
from collections.abc import Callable
from typing import TypeVar

from welvo.live.links import LinkError
from welvo.live.rdm_link import OWN_UID, TRIES
from welvo.live.serial_line import Layer, LineError, open_layer
from welvo.protocols import dmx512, rdm
from welvo.protocols.rdm import Frame
from welvo.protocols.wire import WireError

WITHIN = 0.03
"""Seconds within which an answer must begin: the standard's 2.8 ms and what an adapter adds to it."""
QUIET = 0.006
"""Seconds without a further octet after which whatever came is taken for whole."""
BREAK = 200e-6
"""Seconds of the break before a request: 176 µs at the least (E1.20, 3.2.1)."""
LONGEST = 257
"""Octets of the longest answer, its start code included."""

T = TypeVar("T")


class SerialRdm:
    """One line as a port that responders are asked through. `name` is the serial port."""

    def __init__(self, name: str, opened: Callable[[str], Layer] = open_layer, within: float = WITHIN) -> None:
        self.name = name
        self._open, self._within = opened, within
        self._lock = threading.Lock()
        self._transaction = 0

    async def ask(self, request: Frame) -> Frame:
        return await asyncio.to_thread(self._with_line, lambda line: self._ask(line, request))

    async def table(self, anew: bool) -> list[int]:
        """Everybody on the line; it has no table that could be asked for, so it is searched each time."""
        return await asyncio.to_thread(self._with_line, self._search)

    def _with_line(self, do: Callable[[Layer], T]) -> T:
        with self._lock:
            try:
                line = self._open(self.name)
            except LineError as e:
                raise LinkError(f"The line cannot be asked: {e}. Disarm first, if it is armed.") from e
            try:
                return do(line)
            except OSError as e:
                raise LinkError(f"The line failed: {e.strerror or e}.") from e
            finally:
                line.close()

    # ---- in a thread of its own

    def _send(self, line: Layer, frame: Frame) -> bytes:
        raw = rdm.encode(frame)
        line.line_break(BREAK, dmx512.MARK)
        line.write(raw)
        return raw

    def _heard(self, line: Layer, sent: bytes) -> bytes:
        """What comes back within its time, without the break's zero and without the echo of what was sent."""
        end = time.monotonic() + self._within
        got = b""
        while time.monotonic() < end and len(got) < LONGEST + len(sent):
            more = line.read(LONGEST, QUIET if got else max(0.001, end - time.monotonic()))
            got += more
            if not more and got:
                break
            clean = self._clean(got, sent)
            if clean and _whole(clean):
                break
        return self._clean(got, sent)

    @staticmethod
    def _clean(got: bytes, sent: bytes) -> bytes:
        for echo in (sent, b"\0" + sent):
            if got.startswith(echo):
                got = got[len(echo) :]
        return got.lstrip(b"\0")

    def _next(self, f: Frame) -> Frame:
        self._transaction = (self._transaction + 1) & 0xFF
        return Frame(f.to, OWN_UID, f.command, f.pid, f.data, self._transaction, 1, 0, f.sub)

    def _ask(self, line: Layer, request: Frame) -> Frame:
        for _ in range(TRIES):
            frame = self._next(request)
            got = self._heard(line, self._send(line, frame))
            try:
                said = rdm.decode(got)
            except WireError:
                continue  # silence, or something damaged on the way
            if said.source == request.to and said.transaction == frame.transaction:
                return said
        raise LinkError(f"{rdm.say_uid(request.to)} does not answer.")

    def _search(self, line: Layer) -> list[int]:
        looking = rdm.search()
        ask = next(looking)
        try:
            while True:
                ask = looking.send(self._step(line, ask))
        except StopIteration as e:
            return list(e.value)

    def _step(self, line: Layer, ask: rdm.Ask) -> bytes | None:
        if ask.kind == "unmute":
            self._send(line, self._next(Frame(rdm.BROADCAST, OWN_UID, rdm.DISCOVERY, rdm.DISC_UN_MUTE)))
            return None
        if ask.kind == "mute":
            frame = self._next(Frame(ask.low, OWN_UID, rdm.DISCOVERY, rdm.DISC_MUTE))
            got = self._heard(line, self._send(line, frame))
            try:
                return got if rdm.decode(got).source == ask.low else None
            except WireError:
                return None
        bounds = rdm.uid_bytes(ask.low) + rdm.uid_bytes(ask.high)
        branch = Frame(rdm.BROADCAST, OWN_UID, rdm.DISCOVERY, rdm.DISC_UNIQUE_BRANCH, bounds)
        return self._heard(line, self._send(line, self._next(branch))) or None


def _whole(raw: bytes) -> bool:
    """Whether an answer is complete: by the length it states, or the 24 octets of an answered branch."""
    if raw[:2] == bytes([rdm.START, rdm.SUB_START]):
        return len(raw) > 2 and len(raw) >= raw[2] + 2
    return len(raw) >= 24
