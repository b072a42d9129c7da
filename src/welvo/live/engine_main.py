"""The process that streams: reads levels from shared memory, sends them, ends when told or orphaned.

Run as `python -m welvo.live.engine_main FRAMES_FD ROWS ARTNET_FD`. Commands are lines on standard input, answers lines
on standard output (`welvo.live.messages`). The end of standard input is the end of the parent: streams are
terminated and the process exits. It imports as little as it can, to be ready fast.

Ten times a second it reports how it goes: which streams leave, and which the network does not take, and why. Nothing
here ever waits for the parent: an answer that the pipe has no room for is kept, and dropped when too many wait, because
light must not depend on somebody reading along.
"""

from __future__ import annotations

import contextlib
import heapq
import os
import select
import signal
import socket
import sys
import time
from collections import deque
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Protocol

from welvo.live.beside import Act, Presses, listen_for_keys
from welvo.live.encoders import OCTETS, UNIVERSES, Packet, Target
from welvo.live.frames import SLOTS, Frames
from welvo.live.mass import Mass, can_send_in_mass
from welvo.live.messages import (
    EngineAnswer,
    EngineCommand,
    LineOut,
    OctetsOut,
    Opening,
    Out,
    StreamGroup,
    UniverseOut,
    line_of,
    read_command,
)

if TYPE_CHECKING:
    from welvo.live.serial_line import OfferedLine

KEEP_ALIVE = 0.9
"""Seconds after which an unchanged frame goes out again; both standards ask for 0.8 to 1 s."""
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
SendTo = Callable[[bytes | bytearray, Target], int]


class FeedStream:
    """One feed on its way out: a prebuilt packet of which only sequence and slots change."""

    def __init__(self, spec: UniverseOut, cid: bytes, name: str, sendto: SendTo) -> None:
        self.spec = spec
        self.sendto = sendto
        self.encoder = encoder = UNIVERSES[spec.protocol]
        self.always, self.bare, self.sync = spec.rule == "always", spec.rule == "bare", spec.sync
        self.targets: list[Target] = [(ip, encoder.port) for ip in spec.to]
        self.packet = encoder.empty_packet(spec, cid, name)
        self.at, self.sequence_at = encoder.slots_at, encoder.sequence_at
        self.slots = spec.slots
        self.first = spec.row * SLOTS
        self.behind = self.first + self.slots
        self.levels = bytes(self.slots)
        self.fresh = self.repeats = encoder.after_change
        self.seen = -1
        self.sequence = self.wraps_to = encoder.lowest_sequence
        self.last_sent = -1e9
        self.sent = 0
        self.wrong = "" if self.targets else NOBODY

    def make_due(self, number: int, levels: bytes, now: float) -> bool:
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

    def send_due(self, number: int, levels: bytes, now: float) -> int:
        """Send the packet if one is due; gives how many targets the network did not take it for."""
        if not self.make_due(number, levels, now):
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

    def end_stream(self, now: float) -> None:
        """End the stream: by packets that say so, or where there are none by the chosen last frame and then silence."""
        times, last = self.encoder.mark_as_last(self.packet), self.levels
        if not times:
            if self.spec.last is None:
                return
            times, last = 1, self.spec.last[: self.slots].ljust(self.slots, b"\0")
        for _ in range(times):
            self.repeats = 1
            self.send_due(-2, bytes(self.first) + last, now)


class DeviceStream:
    """One stream of octets to a device, gathered out of several universes, in packets of which the last pushes."""

    sync = 0

    def __init__(self, spec: OctetsOut, sendto: SendTo) -> None:
        self.spec = spec
        self.sendto = sendto
        self.encoder = OCTETS[spec.protocol]
        self.always, self.bare = spec.rule == "always", spec.rule == "bare"
        self.targets: list[Target] = [(ip, self.encoder.port) for ip in spec.to]
        self.parts = [(p.row * SLOTS + p.first, p.octets, p.offset) for p in spec.parts]
        self.levels = bytes(spec.length)
        self.frame = bytearray(self.levels)
        self.packets = self.encoder.packets_of_frame(self.levels, spec.wire)
        self.repeats = 1
        self.seen = -1
        self.sequence = 0
        self.last_sent = -1e9
        self.sent = 0
        self.wrong = ""

    def send_due(self, number: int, levels: bytes, now: float) -> int:
        """Send the frame if it is due; gives how many targets the network did not take a packet for."""
        if number != self.seen:
            self.seen = number
            for at, count, offset in self.parts:
                self.frame[offset : offset + count] = levels[at : at + count]
            self._load_frame(bytes(self.frame))
        if self.repeats:
            self.repeats -= 1
        elif not self.always and (self.bare or now - self.last_sent < KEEP_ALIVE):
            return 0
        return self._send_frame(now)

    def _load_frame(self, frame: bytes) -> None:
        if frame == self.levels:
            return
        self.levels = frame
        self.repeats = 1
        for n, packet in enumerate(self.packets):
            packet[self.encoder.head :] = frame[n * self.encoder.most : (n + 1) * self.encoder.most]

    def _send_frame(self, now: float) -> int:
        self.last_sent = now
        self.sent += 1
        failed = 0
        for packet in self.packets:
            self.sequence = self.sequence % self.encoder.highest_sequence + 1
            packet[self.encoder.sequence_at] = self.sequence
            for target in self.targets:
                try:
                    self.sendto(packet, target)
                except OSError as e:
                    failed += 1
                    self.wrong = e.strerror or str(e)
        if not failed:
            self.wrong = ""
        return failed

    def end_stream(self, now: float) -> None:
        """There is no end of such a stream: zeros if they were chosen, else the device keeps what it has."""
        if self.spec.dark_at_end:
            self._load_frame(bytes(len(self.levels)))
            self._send_frame(now)


class LineStream:
    """One feed on its way out on a DMX line of this computer.

    A line without a frame for a second is dead to its receivers, so repeats are left out for less than that, however
    the feed is planned.
    """

    sync = 0
    targets: list[Target] = []

    def __init__(self, spec: LineOut, line: OfferedLine | None) -> None:
        self.spec = spec
        self.line = line
        self.always = spec.rule == "always"
        self.first = spec.row * SLOTS
        self.behind = self.first + spec.slots
        self.levels = b""
        self.seen = -1
        self.last_offered = -1e9

    @property
    def sent(self) -> int:
        return self.line.sent if self.line else 0

    @property
    def wrong(self) -> str:
        return self.line.wrong if self.line else NO_PORT

    def send_due(self, number: int, levels: bytes, now: float) -> int:
        """Offer the frame to the line if it is due. What goes wrong there is in `wrong`; it counts as no packet."""
        changed = False
        if number != self.seen:
            self.seen = number
            new = levels[self.first : self.behind]
            changed, self.levels = new != self.levels, new
        if self.line and (changed or self.always or now - self.last_offered >= KEEP_ALIVE):
            self.last_offered = now
            self.line.offer_frame(self.levels)
        return 0

    def end_stream(self, now: float) -> None:
        """A line has no end of stream: the chosen last frame, then nothing. The engine closes its port."""
        if self.line and self.spec.last is not None:
            self.line.offer_frame(self.spec.last)


Stream = FeedStream | DeviceStream | LineStream


def way_of(target: Target) -> str:
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
        self.lines: dict[str, OfferedLine] = {}
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
        self.sequences: dict[tuple[str, int], int] = {}
        """The last sequence number of each synchronization universe, by protocol: two may have the same number."""

    def open_sockets(self, where: Opening) -> None:
        if where.keys:
            listen_for_keys(os.getppid(), self.presses)
        interface = where.interface
        self.interface, self.name, self.cid = interface, where.name, bytes.fromhex(where.cid)
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

    def renew_sockets(self) -> None:
        """Send to groups through the interface as it is now.

        The socket keeps the interface's number in the kernel, which is another one after an adapter was pulled and put
        in again. The fresh socket takes the old one's descriptor, which all streams know.
        """
        if not isinstance(self.udp, socket.socket):
            return
        with contextlib.suppress(OSError), self._for_groups() as fresh:
            os.dup2(fresh.fileno(), self.udp.fileno(), inheritable=False)

    def set_streams(self, specs: Sequence[Out]) -> None:
        """Take over a new set: streams that stay keep their sequence, those that go are ended properly."""
        now = self.clock()
        fresh: dict[str, Stream] = {}
        for spec in specs:
            old = self.streams.get(spec.id)
            fresh[spec.id] = old if old and old.spec == spec else self.make_stream(spec, old, fresh, now)
        for key in self.streams.keys() - fresh.keys():
            self.streams[key].end_stream(now)
        self.streams = fresh
        used = {s.line.name for s in fresh.values() if isinstance(s, LineStream) and s.line}
        for name in self.lines.keys() - used:
            self.lines.pop(name).close()
        self.ways = {way_of(t): t for stream in fresh.values() for t in stream.targets}
        self.announce_at = now
        self.schedule_streams(now)

    def make_stream(self, spec: Out, old: Stream | None, others: dict[str, Stream], now: float) -> Stream:
        """A stream in place of `old`, which it goes on from where receivers would see one and the same."""
        if isinstance(spec, LineOut):
            return LineStream(spec, self.line_of_stream(spec, others))
        if isinstance(spec, OctetsOut):
            made = DeviceStream(spec, self.socket_of(own_port=False).sendto)
            if isinstance(old, DeviceStream):
                made.sequence = old.sequence
            return made
        own_port = UNIVERSES[spec.protocol].own_port
        stream = FeedStream(spec, self.cid, self.name, self.socket_of(own_port).sendto)
        same = isinstance(old, FeedStream) and (old.spec.protocol, old.spec.wire) == (spec.protocol, spec.wire)
        if isinstance(old, FeedStream) and same:
            old.targets = [t for t in old.targets if t not in stream.targets]
            if old.targets:  # it goes on, but no longer to these
                old.end_stream(now)
            stream.sequence = old.sequence
        elif old:
            old.end_stream(now)
        return stream

    def socket_of(self, own_port: bool) -> Sends:
        found = self.art if own_port else self.udp
        assert found is not None
        return found

    def schedule_streams(self, now: float) -> None:
        """Give every stream its moments. Streams of one rate are spread over a period, but for those that are released
        together."""
        by_rate: dict[tuple[float, str, int], list[Stream]] = {}
        for stream in self.streams.values():
            released_with = stream.spec.protocol if isinstance(stream, FeedStream) and stream.sync else ""
            by_rate.setdefault((stream.spec.rate, released_with, stream.sync), []).append(stream)
        self.start = now + 0.02
        self.heap = []
        for (rate, _, sync), streams in by_rate.items():
            phases = 1 if sync else min(PHASES, len(streams))
            for n in range(phases):
                due = self.start + n / phases / rate
                self.heap.append((due, len(self.heap), 1.0 / rate, streams[n::phases]))
        heapq.heapify(self.heap)
        self.masses = {order: made for _, order, _, group in self.heap if (made := self.gather_mass(group))}
        groups = tuple(
            StreamGroup(due - self.start, period, tuple(s.spec.id for s in group))
            for due, _, period, group in self.heap
        )
        self.answer_parent(EngineAnswer(groups=groups, start=self.start + time.time() - self.clock()))

    def gather_mass(self, group: Sequence[Stream]) -> list[Mass]:
        """A group as calls that send many packets at once; empty where that is not possible, or not worth it."""
        feeds = [s for s in group if isinstance(s, FeedStream)]
        by_socket = [
            (self.udp, [s for s in feeds if not s.encoder.own_port]),
            (self.art, [s for s in feeds if s.encoder.own_port]),
        ]
        whole = len(feeds) == len(group) and all(can_send_in_mass(sock, mine) for sock, mine in by_socket if mine)
        return (
            [Mass(sock, mine) for sock, mine in by_socket if mine and isinstance(sock, socket.socket)] if whole else []
        )

    def line_of_stream(self, spec: LineOut, others: dict[str, Stream]) -> OfferedLine | None:
        """The line a stream goes out on: that of its port, which no other stream may use."""
        name = spec.line
        if not name or any(isinstance(s, LineStream) and s.line and s.line.name == name for s in others.values()):
            return None
        if name not in self.lines:
            from welvo.live.serial_line import OfferedLine  # few rigs need it, and starting must be fast

            self.lines[name] = OfferedLine(name)
        return self.lines[name]

    def announce_universes(self, now: float) -> None:
        """Say which universes are being sent, by every protocol that has a way to say it."""
        self.announce_at = now + DISCOVERY_EVERY
        feeds = [s.spec for s in self.streams.values() if isinstance(s, FeedStream)]
        for protocol, encoder in UNIVERSES.items():
            wires = sorted({spec.wire for spec in feeds if spec.protocol == protocol})
            for packet in encoder.announce_universes(self.cid, self.name, wires):
                self.send_packet(encoder.own_port, packet)

    def release_stream(self, stream: FeedStream) -> None:
        """Tell receivers to show what they hold."""
        key = (stream.spec.protocol, stream.sync)
        self.sequences[key] = sequence = (self.sequences.get(key, -1) + 1) % 256
        packet = stream.encoder.release_frames(stream.spec, self.cid, sequence)
        if packet:
            self.send_packet(stream.encoder.own_port, packet)

    def send_packet(self, own_port: bool, packet: Packet) -> None:
        try:
            self.socket_of(own_port).sendto(*packet)
        except OSError:
            self.errors += 1

    def answer_parent(self, message: EngineAnswer) -> None:
        """Answer the parent; what it does not read in time is dropped, whole lines at a time."""
        if len(self.outbox) < MOST_UNREAD:
            self.outbox += line_of(message)
        self.flush_answers()

    def flush_answers(self) -> None:
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
            self.renew_sockets()

    def _no_way_to(self, target: Target) -> str:
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

    def report_state(self, now: float) -> None:
        """Tell the parent how it goes, as one line: what is counted, and by stream what is wrong."""
        self.report_at = now + REPORT_EVERY
        self.beats += 1
        for act in self.presses.due_presses():
            self.do_act(act)
        while self.asked:
            self.do_act(self.asked.popleft())
        if self.outbox:
            self.flush_answers()
            return  # it does not read: nothing new before it has read what is there
        self.look_for_ways()
        wrong: dict[str, str] = {}
        for key, stream in self.streams.items():
            why = stream.wrong
            for target in stream.targets if self.no_way and not why else ():
                why = why or self.no_way.get(way_of(target), "")
            if why:
                wrong[key] = why
        news = None
        if wrong != self.told:
            news = self.told = wrong
        self.answer_parent(
            EngineAnswer(beat=self.beats, sent=self.count_frames(), errors=self.errors, late=self.late, wrong=news)
        )

    def count_frames(self) -> int:
        """Frames that all streams sent so far."""
        return sum(s.sent for s in self.streams.values())

    def _levels_to_send(self) -> tuple[int, bytes]:
        """The levels to send, and a number that is another one when they are."""
        self.frame = self.frames.read_frame(self.frame)
        number, levels = self.frame
        if not self.dark:
            return 2 * number, levels
        if self._darkened is None or self._darkened[:2] != (number, self.stays):
            mask = int.from_bytes(self.stays[: len(levels)].ljust(len(levels), b"\0"), "little")
            dark = (int.from_bytes(levels, "little") & mask).to_bytes(len(levels), "little")
            self._darkened = (number, self.stays, dark)
        return 2 * number + 1, self._darkened[2]

    def do_act(self, act: Act) -> None:
        """Blackout, or its end, or disarming, asked for beside the window; the parent is told."""
        if act == "blackout":
            self.dark = not self.dark
        else:
            self.ending = True
        self.answer_parent(EngineAnswer(did=act))

    def send_due(self) -> None:
        """Send what is due now, and put each group's next moment on its fixed schedule."""
        now = self.clock()
        if now >= self.announce_at:
            self.announce_universes(now)
        if now >= self.report_at:
            self.report_state(now)
        number, levels = self._levels_to_send()
        while self.heap and self.heap[0][0] <= now:
            due, order, period, group = heapq.heappop(self.heap)
            self.late = max(self.late, now - due)
            first = group[0]
            before = sum(stream.sent for stream in group) if first.sync else 0
            masses = self.masses.get(order)
            if masses is None:
                for stream in group:
                    self.errors += stream.send_due(number, levels, now)
            else:
                for mass in masses:
                    self.errors += mass.send_due(number, levels, now)
            if isinstance(first, FeedStream) and first.sync and sum(stream.sent for stream in group) > before:
                self.release_stream(first)
            following = due + period
            if now - following > 0.25:  # the computer slept: do not send a burst of old frames
                following += int((now - following) / period) * period
            heapq.heappush(self.heap, (following, order, period, group))
            now = self.clock()

    def hear_command(self, timeout: float) -> None:
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
            self.obey_command(read_command(line))

    def obey_command(self, command: EngineCommand) -> None:
        if command.open:
            try:
                self.open_sockets(command.open)
                self.answer_parent(EngineAnswer(ready=True))
            except OSError as e:
                self.answer_parent(EngineAnswer(failed=f"{e.strerror or e}"))
                self.ending = True
        if command.stays is not None:
            self.stays = b"".join(map(_EIGHT.__getitem__, command.stays))
        if command.seen and self.presses.dealt_with(command.seen):
            self.do_act(command.seen)  # both did it and once is meant: twice here is not at all
        if command.dark is not None:
            self.dark = command.dark
        if command.streams is not None:
            self.set_streams(command.streams)
        if command.status:
            self.answer_parent(EngineAnswer(status=True, sent=self.count_frames(), errors=self.errors, late=self.late))
            self.late = 0.0
        if command.stop:
            self.ending = True

    def run_engine(self) -> None:
        while not self.ending:
            wait = self.heap[0][0] - self.clock() if self.heap else REPORT_EVERY
            if wait > 0.0015:
                self.hear_command(min(wait - 0.001, REPORT_EVERY))
                if not self.heap and self.udp and self.clock() >= self.report_at:
                    self.report_state(self.clock())
            else:
                if wait > 0:
                    time.sleep(wait)
                self.hear_command(0.0)
                self.send_due()
        now = self.clock()
        for stream in self.streams.values():
            stream.end_stream(now)
        for line in self.lines.values():
            line.close()
        self.answer_parent(EngineAnswer(ended=True))


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
    engine.run_engine()


if __name__ == "__main__":
    main()
    os._exit(0)  # skip teardown: everything was sent, and nothing must keep a disarmed process alive
