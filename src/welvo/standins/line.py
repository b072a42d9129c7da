"""The far end of a simulated DMX line: reads breaks and octets as a receiver would, and tells what it has.

It takes the datagrams that `welvo.live.serial_line` sends in place of a serial port's lowest layer. A datagram `?` is
answered with JSON: levels, packets and short breaks so far, the start code, and how long ago the last packet came.
"""

from __future__ import annotations

import contextlib
import json
import os
import socket
import struct
import time
from collections.abc import Iterable

from welvo.protocols import rdm
from welvo.protocols.dmx512 import LineReader
from welvo.protocols.wire import WireError
from welvo.standins.lamps import LampPort, Responder

HEAD = struct.Struct("<cff")
"""What a datagram begins with: B and the times of break and mark in seconds, or D and zeros before octets."""


def rehearsal_address(number: str) -> str:
    """The local socket of a simulated line: in the abstract namespace, one of each number for each user."""
    return f"\0welvo-line-{os.getuid()}-{number}"


class LineEnd:
    """One receiver. `take_waiting` has to be called whenever its socket has something to read. Raises OSError when
    there is one of this number already."""

    def __init__(self, number: int, lamps: Iterable[Responder] = ()) -> None:
        self.number = number
        self.lamps = LampPort(lamps)
        self.socket = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        try:
            self.socket.bind(rehearsal_address(str(number)))
        except OSError:
            self.socket.close()
            raise
        self.socket.setblocking(False)
        self.levels = b""
        self.start_code = -1
        self.packets = 0
        self.last = 0.0
        self._reader = LineReader(self._take_packet)

    def _take_packet(self, start_code: int, slots: bytes) -> None:
        self.packets += 1
        self.start_code, self.last = start_code, time.monotonic()
        if start_code == 0:
            self.levels = slots

    def take_waiting(self) -> None:
        while True:
            try:
                got, asker = self.socket.recvfrom(2048)
            except BlockingIOError:
                return
            if got == b"?" and asker:
                self._answer_asker(asker)
            elif len(got) >= HEAD.size:
                kind, line_break, mark = HEAD.unpack_from(got)
                if kind == b"B":
                    self._reader.line_break(line_break, mark)
                else:
                    self._reader.take_octets(got[HEAD.size :])
                    self._answer_rdm(self._reader.packet_begun, asker)

    def _answer_rdm(self, raw: bytes, asker: str | bytes | None) -> None:
        """Let the lamps on the line answer a request, once it is whole."""
        if len(raw) < 3 or raw[0] != rdm.START or len(raw) < raw[2] + 2 or not asker:
            return
        try:
            request = rdm.decode_rdm(raw)
        except WireError:
            return
        if request.pid == rdm.DISC_UNIQUE_BRANCH and request.command == rdm.DISCOVERY:
            low, high = int.from_bytes(request.data[:6], "big"), int.from_bytes(request.data[6:12], "big")
            said = self.lamps.answer_branch(low, high)
        else:
            answer = self.lamps.ask_line(request)
            said = b"\0" + rdm.encode_rdm(answer) if answer else None  # a break is read as a zero
        if said:
            with contextlib.suppress(OSError):  # whoever asked is gone
                self.socket.sendto(said, asker)

    def _answer_asker(self, asker: str | bytes) -> None:
        said = {
            "levels": list(self.levels),
            "start_code": self.start_code,
            "packets": self.packets,
            "short_breaks": self._reader.short_breaks,
            "age": time.monotonic() - self.last,
        }
        try:
            self.socket.sendto(json.dumps(said).encode(), asker)
        except OSError:
            return  # whoever asked is gone

    def close(self) -> None:
        self.socket.close()


def ask_line_end(number: int, seconds: float = 1.0) -> dict[str, object]:
    """What the far end of a simulated line has. Raises OSError when there is none, or it does not answer in time."""
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as asking:
        asking.settimeout(seconds)
        asking.bind(b"")  # any free name of the abstract namespace, so that it can be answered
        asking.connect(rehearsal_address(str(number)))
        asking.send(b"?")
        found: dict[str, object] = json.loads(asking.recv(1 << 16))
        return found
