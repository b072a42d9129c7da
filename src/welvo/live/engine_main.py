"""The process that streams: reads levels from shared memory, sends sACN and Art-Net, ends when told or orphaned.

Run as `python -m welvo.live.engine_main FRAMES_FD ROWS ARTNET_FD`. Commands are JSON lines on standard input,
answers JSON lines on standard output. The end of standard input is the end of the parent: streams are
terminated and the process exits. It imports as little as it can, to be ready fast.
"""

from __future__ import annotations

import heapq
import json
import os
import select
import signal
import socket
import sys
import time
from typing import Any

from welvo.live.frames import SLOTS, Frames
from welvo.protocols import artnet, sacn

KEEP_ALIVE = 0.9
"""Seconds after which an unchanged frame goes out again; both standards ask for 0.8 to 1 s."""
REPEATS = 3
"""Unchanged packets after the last change before sACN falls back to keep-alive (E1.31, 6.6.2)."""
PHASES = 8
"""Streams of one rate are spread over this many moments of a period, so that a switch is not flooded."""


class Stream:
    """One feed on its way out: a prebuilt packet of which only sequence and slots change."""

    def __init__(self, spec: dict[str, Any], cid: bytes, name: str) -> None:
        self.spec = spec
        self.row: int = spec["row"]
        self.slots: int = spec.get("slots", SLOTS)
        self.sacn = spec["protocol"] == "sacn"
        self.always = spec.get("rule") == "always"
        self.targets: list[tuple[str, int]] = [(ip, sacn.PORT if self.sacn else artnet.PORT) for ip in spec["to"]]
        if self.sacn:
            packet = sacn.Data(cid, spec["wire"], bytes(self.slots), name, spec.get("priority", 100))
            self.packet = bytearray(sacn.encode(packet))
            self.at = sacn.SLOTS_AT
        else:
            self.packet = bytearray(artnet.encode(artnet.Dmx(spec["wire"], bytes(self.slots), 1)))
            self.at = artnet.SLOTS_AT
        self.sequence = 0
        self.repeats = 0
        self.last_sent = -1e9
        self.sent = 0

    def frame(self, levels: bytes, now: float) -> bytearray | None:
        """The packet to send at this tick, or None when nothing is due."""
        start = self.row * SLOTS
        new = levels[start : start + self.slots]
        if new != self.packet[self.at : self.at + self.slots]:
            self.packet[self.at : self.at + self.slots] = new
            self.repeats = REPEATS + 1 if self.sacn else 1
        elif not self.sent:
            self.repeats = REPEATS + 1 if self.sacn else 1
        if not (self.always or self.repeats or now - self.last_sent >= KEEP_ALIVE):
            return None
        self.repeats = max(0, self.repeats - 1)
        return self._stamp(now)

    def _stamp(self, now: float) -> bytearray:
        if self.sacn:
            self.packet[sacn.SEQUENCE_AT] = self.sequence
            self.sequence = (self.sequence + 1) & 255
        else:
            self.sequence = self.sequence % 255 + 1
            self.packet[artnet.SEQUENCE_AT] = self.sequence
        self.last_sent = now
        self.sent += 1
        return self.packet

    def farewell(self, now: float) -> list[bytes]:
        """What ends the stream: three terminated packets, or Art-Net's chosen last frame and then silence."""
        if self.sacn:
            self.packet[sacn.OPTIONS_AT] |= sacn.TERMINATED
            return [bytes(self._stamp(now)) for _ in range(3)]
        last = self.spec.get("last")
        if last is None:
            return []
        self.packet[self.at : self.at + self.slots] = bytes.fromhex(last)[: self.slots].ljust(self.slots, b"\0")
        return [bytes(self._stamp(now))]


class Engine:
    def __init__(self, frames: Frames, artnet_fd: int) -> None:
        self.frames = frames
        self.artnet_fd = artnet_fd
        self.streams: dict[str, Stream] = {}
        self.heap: list[tuple[float, int, float, list[Stream]]] = []
        self.udp: socket.socket | None = None
        self.art: socket.socket | None = None
        self.start = 0.0
        self.errors = 0
        self.late = 0.0
        self.buffer = b""
        self.ending = False
        self.cid = b""
        self.name = ""
        self.interface = ""

    def open(self, interface: str, name: str, cid: str) -> None:
        self.interface, self.name, self.cid = interface, name, bytes.fromhex(cid)
        self.udp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self.udp.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(interface))
        self.udp.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_LOOP, 1)
        self.udp.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 1 << 20)
        self.udp.bind((interface, 0))
        self.udp.setblocking(False)
        if self.artnet_fd >= 0:
            self.art = socket.socket(fileno=self.artnet_fd)
        else:
            self.art = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            self.art.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
            self.art.bind((interface, 0))
            self.art.setblocking(False)

    def set_streams(self, specs: list[dict[str, Any]]) -> None:
        """Take over a new set: streams that stay keep their sequence, those that go are ended properly."""
        now = time.monotonic()
        fresh: dict[str, Stream] = {}
        for spec in specs:
            old = self.streams.get(spec["id"])
            if old and old.spec == spec:
                fresh[spec["id"]] = old
                continue
            stream = Stream(spec, self.cid, self.name)
            if old and (old.sacn, old.spec["wire"]) == (stream.sacn, spec["wire"]):
                stream.sequence = old.sequence
            elif old:
                self._end(old, now)
            fresh[spec["id"]] = stream
        for key in self.streams.keys() - fresh.keys():
            self._end(self.streams[key], now)
        self.streams = fresh
        by_rate: dict[float, list[Stream]] = {}
        for stream in fresh.values():
            by_rate.setdefault(float(stream.spec.get("rate", 44.0)), []).append(stream)
        self.start = now + 0.02
        self.heap = []
        for rate, streams in by_rate.items():
            phases = min(PHASES, len(streams))
            for n in range(phases):
                due = self.start + n / phases / rate
                self.heap.append((due, len(self.heap), 1.0 / rate, streams[n::phases]))
        heapq.heapify(self.heap)
        self.say(
            {
                "streams": len(fresh), "start": self.start + time.time() - time.monotonic(),
                "phases": [[due - self.start, period, [s.spec["id"] for s in group]] for due, _, period, group in self.heap],
            }
        )  # fmt: skip

    def _send(self, stream: Stream, data: bytes | bytearray) -> None:
        sock = self.udp if stream.sacn else self.art
        assert sock is not None
        for target in stream.targets:
            try:
                sock.sendto(data, target)
            except OSError:
                self.errors += 1

    def _end(self, stream: Stream, now: float) -> None:
        for data in stream.farewell(now):
            self._send(stream, data)

    def say(self, message: dict[str, Any]) -> None:
        try:
            sys.stdout.write(json.dumps(message) + "\n")
            sys.stdout.flush()
        except (BrokenPipeError, ValueError):
            self.ending = True

    def tick(self) -> None:
        """Send what is due now, and put each group's next moment on its fixed schedule."""
        now = time.monotonic()
        _, levels = self.frames.read()
        while self.heap and self.heap[0][0] <= now:
            due, order, period, group = heapq.heappop(self.heap)
            self.late = max(self.late, now - due)
            for stream in group:
                data = stream.frame(levels, now)
                if data is not None:
                    self._send(stream, data)
            following = due + period
            if now - following > 0.25:  # the computer slept: do not send a burst of old frames
                following += int((now - following) / period) * period
            heapq.heappush(self.heap, (following, order, period, group))
            now = time.monotonic()

    def hear(self, timeout: float) -> None:
        """Wait for a command, at most `timeout` seconds. The end of the pipe ends the engine."""
        ready, _, _ = select.select([0], [], [], max(0.0, timeout))
        if not ready:
            return
        got = os.read(0, 1 << 20)
        if not got:
            self.ending = True
            return
        self.buffer += got
        while b"\n" in self.buffer:
            line, self.buffer = self.buffer.split(b"\n", 1)
            self.obey(json.loads(line))

    def obey(self, command: dict[str, Any]) -> None:
        if "open" in command:
            try:
                self.open(**command["open"])
                self.say({"ready": True, "pid": os.getpid()})
            except OSError as e:
                self.say({"failed": f"{e.strerror or e}"})
                self.ending = True
        if "streams" in command:
            self.set_streams(command["streams"])
        if command.get("status"):
            self.say({"sent": sum(s.sent for s in self.streams.values()), "errors": self.errors, "late": self.late})
            self.late = 0.0
        if command.get("stop"):
            self.ending = True

    def run(self) -> None:
        while not self.ending:
            wait = self.heap[0][0] - time.monotonic() if self.heap else 0.25
            if wait > 0.0015:
                self.hear(min(wait - 0.001, 0.25))
            else:
                if wait > 0:
                    time.sleep(wait)
                self.hear(0.0)
                self.tick()
        now = time.monotonic()
        for stream in self.streams.values():
            self._end(stream, now)
        self.say({"ended": True})


def main() -> None:
    frames = Frames(int(sys.argv[1]), int(sys.argv[2]))
    engine = Engine(frames, int(sys.argv[3]))

    def stop(*_: object) -> None:
        engine.ending = True

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl+C reaches the whole group; the parent decides
    engine.run()


if __name__ == "__main__":
    main()
    os._exit(0)  # skip teardown: everything was sent, and nothing must keep a disarmed process alive
