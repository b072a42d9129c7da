"""RDM on a serial line of this computer: requests put on it, answers read from it, and the search that resolves
collisions by halves (E1.20, 3.2 and 7.6).

A line carries one thing at a time, so every question waits for the one before. Adapters hand octets on in lumps some
milliseconds apart, which is far longer than the standard's own times: an answer is waited for as long as such a lump
takes, and read until it is whole. Some adapters hear what they send themselves; that is left out. While the line is
armed the process that streams holds the port, and nothing is asked.
"""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable
from typing import TypeVar

from welvo.live.links import LinkError
from welvo.live.rdm_link import OWN_UID, TRIES
from welvo.live.serial_line import Layer, LineError, open_layer
from welvo.patience import PatienceLimit
from welvo.protocols import dmx512, rdm
from welvo.protocols.rdm import RdmPacket
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
GoOn = Callable[[], None]
"""Asked before each question; raises LinkError when the work was stopped."""


class SerialRdm:
    """One line as a port that responders are asked through. `name` is the serial port."""

    def __init__(self, name: str, opened: Callable[[str], Layer] = open_layer, within: float = WITHIN) -> None:
        self.name = name
        self._open, self._within = opened, within
        self._lock = threading.Lock()
        self._transaction = 0

    async def ask(self, request: RdmPacket) -> RdmPacket:
        return await self._do_beside(lambda line, go_on: self._ask_on_line(line, request, go_on))

    async def table(self, anew: bool) -> list[int]:
        """Everybody on the line; it has no table that could be asked for, so it is searched each time."""
        return await self._do_beside(self._search_on_line)

    async def _do_beside(self, do: Callable[[Layer, GoOn], T]) -> T:
        """Work on the line in a thread. Whoever cancels it has the line back within one question: the thread looks
        before each, and a thread that went on would keep the line from being armed and the program from ending."""
        import asyncio

        stopped = threading.Event()
        work = asyncio.get_running_loop().run_in_executor(None, self._with_line, do, stopped)
        try:
            return await asyncio.shield(work)
        except asyncio.CancelledError:
            stopped.set()
            with contextlib.suppress(LinkError):
                await work  # some hundredths of a second: then the line is free
            raise

    def _with_line(self, do: Callable[[Layer, GoOn], T], stopped: threading.Event) -> T:
        def go_on() -> None:
            if stopped.is_set():
                raise LinkError("Stopped.")

        while not self._lock.acquire(timeout=0.1):
            go_on()
        try:
            go_on()
            try:
                line = self._open(self.name)
            except LineError as e:
                raise LinkError(f"The line cannot be asked: {e}. Disarm first, if it is armed.") from e
            try:
                return do(line, go_on)
            except OSError as e:
                raise LinkError(f"The line failed: {e.strerror or e}.") from e
            finally:
                line.close()
        finally:
            self._lock.release()

    # ---- in a thread of its own

    def _send_frame(self, line: Layer, frame: RdmPacket) -> bytes:
        raw = rdm.encode_rdm(frame)
        line.line_break(BREAK, dmx512.MARK)
        line.write(raw)
        return raw

    def _hear_answer(self, line: Layer, sent: bytes) -> bytes:
        """What comes back within its time, without the break's zero and without the echo of what was sent."""
        limit = PatienceLimit(self._within, turn=self._within)
        got = b""
        while len(got) < LONGEST + len(sent):
            more = line.read(LONGEST, QUIET if got else self._within)
            got += more
            if not more and got:
                break
            clean = self._strip_echo(got, sent)
            if (clean and _is_whole_answer(clean)) or not limit.lasts():
                break
        return self._strip_echo(got, sent)

    @staticmethod
    def _strip_echo(got: bytes, sent: bytes) -> bytes:
        for echo in (sent, b"\0" + sent):
            if got.startswith(echo):
                got = got[len(echo) :]
        return got.lstrip(b"\0")

    def _next_frame(self, f: RdmPacket) -> RdmPacket:
        self._transaction = (self._transaction + 1) & 0xFF
        return RdmPacket(f.to, OWN_UID, f.command, f.pid, f.data, self._transaction, 1, 0, f.sub)

    def _ask_on_line(self, line: Layer, request: RdmPacket, go_on: GoOn) -> RdmPacket:
        for _ in range(TRIES):
            go_on()
            frame = self._next_frame(request)
            got = self._hear_answer(line, self._send_frame(line, frame))
            try:
                said = rdm.decode_rdm(got)
            except WireError:
                continue  # silence, or something damaged on the way
            if said.source == request.to and said.transaction == frame.transaction:
                return said
        raise LinkError(f"{rdm.say_uid(request.to)} does not answer.")

    def _search_on_line(self, line: Layer, go_on: GoOn) -> list[int]:
        looking = rdm.search_responders()
        ask = next(looking)
        try:
            while True:
                go_on()
                ask = looking.send(self._search_step(line, ask))
        except StopIteration as e:
            return list(e.value)
        except rdm.Disturbed as e:
            raise LinkError(
                f"The line {self.name} is disturbed: {rdm.MOST_FRUITLESS} questions in a row met only collisions"
                f"{f', after {len(e.found)} lamps were found' if e.found else ''}. Look at the terminator at its far "
                "end and at the two data wires, and take lamps off one by one: one of them may talk all the time."
            ) from e

    def _search_step(self, line: Layer, ask: rdm.Ask) -> bytes | None:
        if ask.kind == "unmute":
            self._send_frame(line, self._next_frame(RdmPacket(rdm.BROADCAST, OWN_UID, rdm.DISCOVERY, rdm.DISC_UN_MUTE)))
            return None
        if ask.kind == "mute":
            frame = self._next_frame(RdmPacket(ask.low, OWN_UID, rdm.DISCOVERY, rdm.DISC_MUTE))
            got = self._hear_answer(line, self._send_frame(line, frame))
            try:
                return got if rdm.decode_rdm(got).source == ask.low else None
            except WireError:
                return None
        bounds = rdm.uid_bytes(ask.low) + rdm.uid_bytes(ask.high)
        branch = RdmPacket(rdm.BROADCAST, OWN_UID, rdm.DISCOVERY, rdm.DISC_UNIQUE_BRANCH, bounds)
        return self._hear_answer(line, self._send_frame(line, self._next_frame(branch))) or None


def _is_whole_answer(raw: bytes) -> bool:
    """Whether an answer is complete: by the length it states, or the 24 octets of an answered branch."""
    if raw[:2] == bytes([rdm.START, rdm.SUB_START]):
        return len(raw) > 2 and len(raw) >= raw[2] + 2
    return len(raw) >= 24
