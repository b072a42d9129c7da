"""The process that streams: reads levels from shared memory, sends sACN and Art-Net, ends when told or orphaned.

Run as `python -m welvo.live.engine_main FRAMES_FD ROWS ARTNET_FD`. Commands are JSON lines on standard input,
answers JSON lines on standard output. The end of standard input is the end of the parent: streams are
terminated and the process exits. It imports as little as it can, to be ready fast.

Ten times a second it reports how it goes: which streams leave, and which the network does not take, and why. Nothing
here ever waits for the parent: an answer that the pipe has no room for is kept, and dropped when too many wait, because
light must not depend on somebody reading along.
"""

from __future__ import annotations

import contextlib
import heapq
import json
import os
import select
import signal
import socket
import sys
import time
from collections import deque
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any, Protocol

from welvo.live.beside import Act, Presses, listen
from welvo.live.frames import SLOTS, Frames
from welvo.live.mass import Mass, possible
from welvo.protocols import artnet, ddp, sacn

if TYPE_CHECKING:
    from welvo.live.serial_line import Line

KEEP_ALIVE = 0.9
"""Seconds after which an unchanged frame goes out again; both standards ask for 0.8 to 1 s."""
REPEATS = 3
"""Unchanged packets after the last change before sACN falls back to keep-alive (E1.31, 6.6.2)."""
DISCOVERY_EVERY = 10.0
"""Seconds between the lists of universes that a source announces (E1.31, 4.3)."""
PHASES = 8
"""Streams of one rate are spread over this many moments of a period, so that a switch is not flooded."""
REPORT_EVERY = 0.1
"""Seconds between two reports to the parent."""
MOST_UNREAD = 1 << 20
"""Octets of answers that wait for the parent at most."""
MOST_PROBES = 64
"""Ways out that are looked at for each report."""
_EIGHT = [bytes(255 * (n >> bit & 1) for bit in range(8)) for n in range(256)]
"""Eight slots for each octet of bits, the lowest bit first."""
NOBODY = "no node asks for it"
NO_PORT = "no serial port of this computer is chosen for it"
GROUPS = "multicast"


class FeedStream:
    """One feed on its way out: a prebuilt packet of which only sequence and slots change."""

    def __init__(
        self, spec: dict[str, Any], cid: bytes, name: str, sendto: Callable[[bytes | bytearray, tuple[str, int]], int]
    ) -> None:
        self.spec = spec
        self.sendto = sendto
        self.row: int = spec["row"]
        self.slots: int = spec.get("slots", SLOTS)
        self.sacn = spec["protocol"] == "sacn"
        self.always = spec.get("rule") == "always"
        self.bare = spec.get("rule") == "bare"
        self.sync: int = spec.get("sync", 0)
        self.targets: list[tuple[str, int]] = [(ip, sacn.PORT if self.sacn else artnet.PORT) for ip in spec["to"]]
        if self.sacn:
            options = sacn.FORCE_SYNC if self.sync else 0  # without the signal receivers show the frames as they come
            packet = sacn.Data(
                cid, spec["wire"], bytes(self.slots), name, spec.get("priority", 100), options=options, sync=self.sync
            )
            self.packet = bytearray(sacn.encode(packet))
            self.at = sacn.SLOTS_AT
        else:
            self.packet = bytearray(artnet.encode(artnet.Dmx(spec["wire"], bytes(self.slots), 1)))
            self.at = artnet.SLOTS_AT
        self.first = self.row * SLOTS
        self.behind = self.first + self.slots
        self.levels = bytes(self.slots)
        self.fresh = REPEATS + 1 if self.sacn else 1
        self.repeats = self.fresh
        self.seen = -1
        self.sequence_at = sacn.SEQUENCE_AT if self.sacn else artnet.SEQUENCE_AT
        self.wraps_to = 0 if self.sacn else 1  # Art-Net keeps 0 for “no sequence”
        self.sequence = self.wraps_to
        self.last_sent = -1e9
        self.sent = 0
        self.wrong = "" if self.targets else NOBODY

    def due(self, number: int, levels: bytes, now: float) -> bool:
        """Make the packet ready if one is due. `number` is that of the frame `levels` belong to."""
        if number != self.seen:
            self.seen = number
            new = levels[self.first : self.behind]
            if new != self.levels:
                self.levels = new
                self.packet[self.at : self.at + self.slots] = new
                self.repeats = self.fresh
        if self.repeats:
            self.repeats -= 1
        elif not self.always and (self.bare or now - self.last_sent < KEEP_ALIVE):
            return False
        sequence = self.sequence
        self.packet[self.sequence_at] = sequence
        self.sequence = sequence + 1 if sequence < 255 else self.wraps_to
        self.last_sent = now
        self.sent += 1
        return True

    def tick(self, number: int, levels: bytes, now: float) -> int:
        """Send the packet if one is due; gives how many targets the network did not take it for."""
        if not self.due(number, levels, now):
            return 0
        failed = 0
        for target in self.targets:
            try:
                self.sendto(self.packet, target)
            except OSError as e:
                failed += 1
                self.wrong = e.strerror or str(e)
        if self.wrong and self.targets and not failed:
            self.wrong = ""
        return failed

    def end(self, now: float) -> None:
        """End the stream: three terminated packets, or Art-Net's chosen last frame and then silence."""
        if self.sacn:
            self.packet[sacn.OPTIONS_AT] |= sacn.TERMINATED
            times, last = 3, self.levels
        elif self.spec.get("last") is None:
            return
        else:
            times, last = 1, bytes.fromhex(self.spec["last"])[: self.slots].ljust(self.slots, b"\0")
        for _ in range(times):
            self.repeats = 1
            self.tick(-2, bytes(self.first) + last, now)


class DeviceStream:
    """One DDP stream to a device: octets gathered out of several universes, sent in packets of which the last pushes.

    `parts` are (row, first slot from 0, octets, offset in the stream).
    """

    sacn = False
    sync = 0

    def __init__(self, spec: dict[str, Any], sendto: Callable[[bytes | bytearray, tuple[str, int]], int]) -> None:
        self.spec = spec
        self.sendto = sendto
        self.always = spec.get("rule") == "always"
        self.bare = spec.get("rule") == "bare"
        self.targets: list[tuple[str, int]] = [(ip, ddp.PORT) for ip in spec["to"]]
        self.parts = [(row * SLOTS + first, count, offset) for row, first, count, offset in spec["parts"]]
        self.levels = bytes(spec["length"])
        self.frame = bytearray(self.levels)
        self.packets = [bytearray(ddp.encode(p)) for p in ddp.packets(self.levels, spec["wire"])]
        self.repeats = 1
        self.seen = -1
        self.sequence = 0
        self.last_sent = -1e9
        self.sent = 0
        self.wrong = ""

    def tick(self, number: int, levels: bytes, now: float) -> int:
        """Send the frame if it is due; gives how many targets the network did not take a packet for."""
        if number != self.seen:
            self.seen = number
            for at, count, offset in self.parts:
                self.frame[offset : offset + count] = levels[at : at + count]
            self._load(bytes(self.frame))
        if self.repeats:
            self.repeats -= 1
        elif not self.always and (self.bare or now - self.last_sent < KEEP_ALIVE):
            return 0
        return self._send(now)

    def _load(self, frame: bytes) -> None:
        if frame == self.levels:
            return
        self.levels = frame
        self.repeats = 1
        for n, packet in enumerate(self.packets):
            packet[ddp.HEAD :] = frame[n * ddp.MOST : (n + 1) * ddp.MOST]

    def _send(self, now: float) -> int:
        self.last_sent = now
        self.sent += 1
        failed = 0
        for packet in self.packets:
            self.sequence = self.sequence % 15 + 1
            packet[ddp.SEQUENCE_AT] = self.sequence
            for target in self.targets:
                try:
                    self.sendto(packet, target)
                except OSError as e:
                    failed += 1
                    self.wrong = e.strerror or str(e)
        if not failed:
            self.wrong = ""
        return failed

    def end(self, now: float) -> None:
        """DDP has no end of stream: zeros if they were chosen, else the device keeps what it has."""
        if self.spec.get("last") == "zero":
            self._load(bytes(len(self.levels)))
            self._send(now)


class LineStream:
    """One feed on its way out on a DMX line of this computer.

    A line without a frame for a second is dead to its receivers, so repeats are left out for less than that, however
    the feed is planned.
    """

    sacn = False
    sync = 0
    targets: list[tuple[str, int]] = []

    def __init__(self, spec: dict[str, Any], line: Line | None) -> None:
        self.spec = spec
        self.line = line
        self.always = spec.get("rule") == "always"
        self.first: int = spec["row"] * SLOTS
        self.behind: int = self.first + spec.get("slots", SLOTS)
        self.levels = b""
        self.seen = -1
        self.last_offered = -1e9

    @property
    def sent(self) -> int:
        return self.line.sent if self.line else 0

    @property
    def wrong(self) -> str:
        return self.line.wrong if self.line else NO_PORT

    def tick(self, number: int, levels: bytes, now: float) -> int:
        """Offer the frame to the line if it is due. What goes wrong there is in `wrong`; it counts as no packet."""
        changed = False
        if number != self.seen:
            self.seen = number
            new = levels[self.first : self.behind]
            changed, self.levels = new != self.levels, new
        if self.line and (changed or self.always or now - self.last_offered >= KEEP_ALIVE):
            self.last_offered = now
            self.line.offer(self.levels)
        return 0

    def end(self, now: float) -> None:
        """A line has no end of stream: the chosen last frame, then nothing. The engine closes its port."""
        if self.line and self.spec.get("last") is not None:
            self.line.offer(bytes.fromhex(self.spec["last"]))


Stream = FeedStream | DeviceStream | LineStream


def way_of(target: tuple[str, int]) -> str:
    """What a target is looked up by: its address, and all groups as one."""
    return GROUPS if target[0].startswith("239.") else target[0]


class Sends(Protocol):
    """What the engine needs of a socket; tests put a recorder in its place."""

    def sendto(self, data: bytes | bytearray, address: tuple[str, int], /) -> int: ...


class Engine:
    """Streams on a fixed schedule. `clock` gives seconds that never go back."""

    def __init__(self, frames: Frames, artnet_fd: int, clock: Callable[[], float] = time.monotonic) -> None:
        self.frames = frames
        self.clock = clock
        self.artnet_fd = artnet_fd
        self.streams: dict[str, Stream] = {}
        self.masses: dict[int, list[Mass]] = {}
        """By place in the heap: groups that leave in one call."""
        self.lines: dict[str, Line] = {}
        """The lines that are open, by serial port."""
        self.heap: list[tuple[float, int, float, list[Stream]]] = []
        self.udp: Sends | None = None
        self.art: Sends | None = None
        self.start = 0.0
        self.errors = 0
        self.late = 0.0
        self.buffer = b""
        self.ending = False
        self.cid = b""
        self.name = ""
        self.interface = ""
        self.announce_at = 0.0
        self.report_at = 0.0
        self.beats = 0
        self.outbox = bytearray()
        self.probe: socket.socket | None = None
        self.probe_from = 0
        self.ways: dict[str, tuple[str, int]] = {}
        """The ways out that the streams need: a target's address, or GROUPS for all multicast."""
        self.no_way: dict[str, str] = {}
        """Ways that the computer does not have at present, and why."""
        self.told: dict[str, str] = {}
        self.frame: tuple[int, bytes] | None = None
        self.dark = False
        """Whether a blackout was asked for beside the window: then only what may stay lit does."""
        self.stays = b""
        """What may stay as it is at blackout, as 255, all else as 0; what is not known goes dark."""
        self.presses = Presses(clock)
        self.asked: deque[Act] = deque()
        """What was asked for by a signal."""
        self._darkened: tuple[int, bytes, bytes] | None = None
        self.sequences: dict[int, int] = {}
        """The last sequence number of each synchronization universe."""

    def open(self, interface: str, name: str, cid: str, keys: bool = False) -> None:
        if keys:
            listen(os.getppid(), self.presses)
        self.interface, self.name, self.cid = interface, name, bytes.fromhex(cid)
        self.udp = self._for_groups()
        if self.artnet_fd >= 0:
            self.art = socket.socket(fileno=self.artnet_fd)
        else:
            art = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            art.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
            art.bind((interface, 0))
            art.setblocking(False)
            self.art = art

    def _for_groups(self) -> socket.socket:
        udp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            udp.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(self.interface))
            udp.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_LOOP, 1)
            udp.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 1 << 20)
            udp.bind((self.interface, 0))
        except OSError:
            udp.close()
            raise
        udp.setblocking(False)
        return udp

    def renew(self) -> None:
        """Send to groups through the interface as it is now.

        The socket keeps the interface's number in the kernel, which is another one after an adapter was pulled and put
        in again. The fresh socket takes the old one's descriptor, which all streams know.
        """
        if not isinstance(self.udp, socket.socket):
            return
        with contextlib.suppress(OSError), self._for_groups() as fresh:
            os.dup2(fresh.fileno(), self.udp.fileno(), inheritable=False)

    def set_streams(self, specs: list[dict[str, Any]]) -> None:
        """Take over a new set: streams that stay keep their sequence, those that go are ended properly."""
        now = self.clock()
        fresh: dict[str, Stream] = {}
        for spec in specs:
            old = self.streams.get(spec["id"])
            if old and old.spec == spec:
                fresh[spec["id"]] = old
                continue
            if spec["protocol"] == "serial":
                fresh[spec["id"]] = LineStream(spec, self.line(spec, fresh))
                continue
            sock = self.art if spec["protocol"] == "artnet" else self.udp
            assert sock is not None
            if spec["protocol"] == "ddp":
                fresh[spec["id"]] = box = DeviceStream(spec, sock.sendto)
                if isinstance(old, DeviceStream):
                    box.sequence = old.sequence
                continue
            stream = FeedStream(spec, self.cid, self.name, sock.sendto)
            if isinstance(old, FeedStream) and (old.sacn, old.spec["wire"]) == (stream.sacn, spec["wire"]):
                old.targets = [t for t in old.targets if t not in stream.targets]
                if old.targets:  # it goes on, but no longer to these
                    old.end(now)
                stream.sequence = old.sequence
            elif old:
                old.end(now)
            fresh[spec["id"]] = stream
        for key in self.streams.keys() - fresh.keys():
            self.streams[key].end(now)
        self.streams = fresh
        used = {s.line.name for s in fresh.values() if isinstance(s, LineStream) and s.line}
        for name in self.lines.keys() - used:
            self.lines.pop(name).close()
        self.ways = {way_of(t): t for stream in fresh.values() for t in stream.targets}
        self.announce_at = now
        by_rate: dict[tuple[float, bool, int], list[Stream]] = {}
        for any_stream in fresh.values():
            kind = (float(any_stream.spec.get("rate", 44.0)), any_stream.sacn, any_stream.sync)
            by_rate.setdefault(kind if any_stream.sync else (kind[0], True, 0), []).append(any_stream)
        self.start = now + 0.02
        self.heap = []
        for (rate, _, sync), streams in by_rate.items():
            phases = 1 if sync else min(PHASES, len(streams))  # what is released together is sent together
            for n in range(phases):
                due = self.start + n / phases / rate
                self.heap.append((due, len(self.heap), 1.0 / rate, streams[n::phases]))
        heapq.heapify(self.heap)
        self.masses = {order: made for _, order, _, group in self.heap if (made := self.mass(group))}
        self.say(
            {
                "streams": len(fresh),
                "start": self.start + time.time() - self.clock(),
                "phases": [
                    [due - self.start, period, [s.spec["id"] for s in group]] for due, _, period, group in self.heap
                ],
            }
        )

    def mass(self, group: Sequence[Stream]) -> list[Mass]:
        """A group as calls that send many packets at once; empty where that is not possible, or not worth it."""
        feeds = [s for s in group if isinstance(s, FeedStream)]
        by_socket = [(self.udp, [s for s in feeds if s.sacn]), (self.art, [s for s in feeds if not s.sacn])]
        whole = len(feeds) == len(group) and all(possible(sock, mine) for sock, mine in by_socket if mine)
        return (
            [Mass(sock, mine) for sock, mine in by_socket if mine and isinstance(sock, socket.socket)] if whole else []
        )

    def line(self, spec: dict[str, Any], others: dict[str, Stream]) -> Line | None:
        """The line a stream goes out on: that of its port, which no other stream may use."""
        name: str = spec.get("line", "")
        if not name or any(isinstance(s, LineStream) and s.line and s.line.name == name for s in others.values()):
            return None
        if name not in self.lines:
            from welvo.live.serial_line import Line  # few rigs need it, and starting must be fast

            self.lines[name] = Line(name)
        return self.lines[name]

    def announce(self, now: float) -> None:
        """Say which sACN universes are being sent, in pages of 512 (E1.31, 8). Nothing sent, nothing said."""
        self.announce_at = now + DISCOVERY_EVERY
        universes = sorted({s.spec["wire"] for s in self.streams.values() if s.sacn})
        pages = [tuple(universes[n : n + 512]) for n in range(0, len(universes), 512)]
        for n, page in enumerate(pages):
            data = sacn.encode(sacn.Discovery(self.cid, self.name, page, n, len(pages) - 1))
            try:
                assert self.udp is not None
                self.udp.sendto(data, (sacn.group(sacn.DISCOVERY_UNIVERSE), sacn.PORT))
            except OSError:
                self.errors += 1

    def release(self, stream: Stream) -> None:
        """Tell receivers to show what they hold: the synchronization universe's packet, or ArtSync to everyone
        (3.7)."""
        try:
            if stream.sacn:
                self.sequences[stream.sync] = sequence = (self.sequences.get(stream.sync, -1) + 1) % 256
                assert self.udp is not None
                data = sacn.encode(sacn.SyncPacket(self.cid, stream.sync, sequence))
                self.udp.sendto(data, (sacn.group(stream.sync), sacn.PORT))
            elif stream.spec.get("sync_to"):
                assert self.art is not None
                self.art.sendto(artnet.encode(artnet.ArtSync()), (stream.spec["sync_to"], artnet.PORT))
        except OSError:
            self.errors += 1

    def say(self, message: dict[str, Any]) -> None:
        """Answer the parent; what it does not read in time is dropped, whole lines at a time."""
        if len(self.outbox) < MOST_UNREAD:
            self.outbox += json.dumps(message).encode() + b"\n"
        self.flush()

    def flush(self) -> None:
        try:
            while self.outbox:
                del self.outbox[: os.write(1, self.outbox[:65536])]
        except BlockingIOError:
            pass
        except OSError:
            self.ending = True

    def look_for_ways(self) -> None:
        """Find targets that the computer has no way to, before the next packet would tell: nothing is sent for it.

        Connecting a datagram socket looks up the route and no more. Many groups share one way, so one of them is
        looked at for all.
        """
        ways, names = self.ways, sorted(self.ways)
        begin = self.probe_from if self.probe_from < len(names) else 0
        looked = names[begin : begin + MOST_PROBES]
        self.probe_from = begin + MOST_PROBES
        before = self.no_way
        self.no_way = {name: why for name, why in before.items() if name in ways and name not in looked}
        for name in looked:
            why = self._no_way_to(ways[name])
            if why:
                self.no_way[name] = why
        if any(name in before and name not in self.no_way for name in looked):
            self.renew()

    def _no_way_to(self, target: tuple[str, int]) -> str:
        try:
            if self.probe is None:
                self.probe = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
                self.probe.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(self.interface))
                self.probe.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
                self.probe.bind((self.interface, 0))
            self.probe.connect(target)
        except OSError as e:
            if self.probe:
                self.probe.close()
                self.probe = None
            return e.strerror or str(e)
        return ""

    def report(self, now: float) -> None:
        """Tell the parent how it goes, as one line: what is counted, and by stream what is wrong."""
        self.report_at = now + REPORT_EVERY
        self.beats += 1
        for act in self.presses.due():
            self.act(act)
        while self.asked:
            self.act(self.asked.popleft())
        if self.outbox:
            self.flush()
            return  # it does not read: nothing new before it has read what is there
        self.look_for_ways()
        wrong: dict[str, str] = {}
        for key, stream in self.streams.items():
            why = stream.wrong
            for target in stream.targets if self.no_way and not why else ():
                why = why or self.no_way.get(way_of(target), "")
            if why:
                wrong[key] = why
        sent = sum(s.sent for s in self.streams.values())
        said: dict[str, Any] = {"beat": self.beats, "sent": sent, "errors": self.errors, "late": self.late}
        if wrong != self.told:
            said["wrong"], self.told = wrong, wrong
        self.say(said)

    def _levels(self) -> tuple[int, bytes]:
        """The levels to send, and a number that is another one when they are."""
        self.frame = self.frames.read(self.frame)
        number, levels = self.frame
        if not self.dark:
            return 2 * number, levels
        if self._darkened is None or self._darkened[:2] != (number, self.stays):
            mask = int.from_bytes(self.stays[: len(levels)].ljust(len(levels), b"\0"), "little")
            dark = (int.from_bytes(levels, "little") & mask).to_bytes(len(levels), "little")
            self._darkened = (number, self.stays, dark)
        return 2 * number + 1, self._darkened[2]

    def act(self, act: Act) -> None:
        """Blackout, or its end, or disarming, asked for beside the window; the parent is told."""
        if act == "blackout":
            self.dark = not self.dark
        else:
            self.ending = True
        self.say({"did": act})

    def tick(self) -> None:
        """Send what is due now, and put each group's next moment on its fixed schedule."""
        now = self.clock()
        if now >= self.announce_at:
            self.announce(now)
        if now >= self.report_at:
            self.report(now)
        number, levels = self._levels()
        while self.heap and self.heap[0][0] <= now:
            due, order, period, group = heapq.heappop(self.heap)
            self.late = max(self.late, now - due)
            before = sum(stream.sent for stream in group) if group[0].sync else 0
            masses = self.masses.get(order)
            if masses is None:
                for stream in group:
                    self.errors += stream.tick(number, levels, now)
            else:
                for mass in masses:
                    self.errors += mass.tick(number, levels, now)
            if group[0].sync and sum(stream.sent for stream in group) > before:
                self.release(group[0])
            following = due + period
            if now - following > 0.25:  # the computer slept: do not send a burst of old frames
                following += int((now - following) / period) * period
            heapq.heappush(self.heap, (following, order, period, group))
            now = self.clock()

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
        *lines, self.buffer = self.buffer.split(b"\n")
        for line in lines:
            self.obey(json.loads(line))

    def obey(self, command: dict[str, Any]) -> None:
        if "open" in command:
            try:
                self.open(**command["open"])
                self.say({"ready": True, "pid": os.getpid()})
            except OSError as e:
                self.say({"failed": f"{e.strerror or e}"})
                self.ending = True
        if "stays" in command:
            self.stays = b"".join(map(_EIGHT.__getitem__, bytes.fromhex(command["stays"])))
        if "seen" in command and self.presses.dealt_with(command["seen"]):
            self.act(command["seen"])  # both did it and once is meant: twice here is not at all
        if "dark" in command:
            self.dark = command["dark"]
        if "streams" in command:
            self.set_streams(command["streams"])
        if command.get("status"):
            sent = sum(s.sent for s in self.streams.values())
            self.say({"status": True, "sent": sent, "errors": self.errors, "late": self.late})
            self.late = 0.0
        if command.get("stop"):
            self.ending = True

    def run(self) -> None:
        while not self.ending:
            wait = self.heap[0][0] - self.clock() if self.heap else REPORT_EVERY
            if wait > 0.0015:
                self.hear(min(wait - 0.001, REPORT_EVERY))
                if not self.heap and self.udp and self.clock() >= self.report_at:
                    self.report(self.clock())
            else:
                if wait > 0:
                    time.sleep(wait)
                self.hear(0.0)
                self.tick()
        now = self.clock()
        for stream in self.streams.values():
            stream.end(now)
        for line in self.lines.values():
            line.close()
        self.say({"ended": True})


def main() -> None:
    frames = Frames(int(sys.argv[1]), int(sys.argv[2]))
    engine = Engine(frames, int(sys.argv[3]))

    asked = engine.asked

    def stop(*_: object) -> None:
        engine.ending = True

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGUSR1, lambda *_: asked.append("blackout"))
    signal.signal(signal.SIGUSR2, lambda *_: asked.append("disarm"))
    os.set_blocking(1, False)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl+C reaches the whole group; the parent decides
    engine.run()


if __name__ == "__main__":
    main()
    os._exit(0)  # skip teardown: everything was sent, and nothing must keep a disarmed process alive
