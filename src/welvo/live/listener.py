"""Hears what is on the wire: Art-Net and sACN on one chosen interface, in a thread of its own.

It also owns the program's one socket on UDP 6454, polls for nodes and sends ArtAddress from there.
"""

from __future__ import annotations

import contextlib
import errno
import os
import socket
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass

from welvo.formats.pcap import Datagram
from welvo.live.groups import Ears, Groups
from welvo.live.interfaces import Interface, dropped_by, port_taken, state_of
from welvo.live.mass import AT_ONCE, LARGEST, Gather
from welvo.live.recording import Recorder, likely_destination
from welvo.live.worker import Worker, WorkerFaults
from welvo.observed.values import Heard, HeardPort, SourceSeen
from welvo.patience import steady
from welvo.protocols import artnet, sacn
from welvo.protocols.wire import WireError
from welvo.rig.base import Refused
from welvo.rig.protocol import PROTOCOLS, Protocol

POLL_EVERY = 2.6
"""Seconds between polls; Art-Net 4 asks for 2.5 to 3."""
MANY, REST = 8000, 0.0015
"""From so many packets a second on the listener rests between two looks: waking for each of them costs more than they
do themselves. What is late by a millisecond and a half is seen in jitter of that size, and nowhere else."""
LOOK_EVERY = 0.2
"""Seconds between two looks at the interface itself: whether it is still there, and still the same one."""
TRY_EVERY = 1.0
"""Seconds between two trials to get what could not be had: a port that another program held, a group."""
CONTROLLER = 1
"""Style code of a controller in ArtPollReply."""
"""Seconds after which a silent ArtDmx source no longer counts (Art-Net 4, merge)."""
MOST_MACS = 4
"""MACs that are kept of one address."""
NO_MAC = "00:00:00:00:00:00"
FORGOTTEN = 600.0
"""Seconds after which a device that says nothing more is no longer kept; it counts as silent long before."""
MOST_SOURCES, MOST_DEVICES, MOST_LIST_PAGES = 20_000, 4096, 4096
"""How many sources, devices and announced lists are kept at most, whatever is sent; the oldest go first."""


class ListenError(Refused):
    """The listener cannot work here; the message names the port and its role."""


@dataclass(slots=True)
class _Source:
    protocol: Protocol
    wire: int
    key: str
    name: str
    ip: str
    priority: int
    first: float
    at: float
    levels: bytes
    sequence: int | None = None
    frames: int = 0
    rate: float = 0.0
    window: float = 0.0
    counted: int = 0
    sync: int = 0
    usual: float = 0.0
    jitter: float = 0.0
    gap: float = 0.0
    lost: int = 0
    disordered: int = 0
    head: bytes = b""
    """Everything of its last packet before the sequence number …"""
    tail: bytes = b""
    """… and from there to its slots: a packet of its size that has both is one like it."""
    size: int = 0
    latest: bytes = b""
    """Its newest packet, as long as those are alike: its slots are taken out when somebody asks."""

    def frame_of_source(self) -> bytes:
        return self.latest[126:] if self.latest else self.levels


@dataclass
class _Announced:
    """What one source says it sends (E1.31, 4.3): the universes of each page of its list."""

    name: str
    ip: str
    at: float
    pages: dict[int, tuple[int, ...]]


class Listener:
    """Start with `start_listening()`, end with `close()`. All questions may be asked from any thread.

    `poll_everybody` asks for devices every few seconds. A `quiet` listener lets nothing out at all: it does not ask,
    does not answer, and joins no groups, so that it hears only what is sent to this computer or to everyone.
    """

    def __init__(
        self,
        interface: Interface,
        universes: Iterable[int] = (),
        clock: Callable[[], float] = steady,
        poll: bool = True,
        quiet: bool = False,
    ) -> None:
        self.interface = interface
        self.quiet = quiet
        self.faults = WorkerFaults()
        self._clock = clock
        self._poll = poll and not quiet
        self._lock = threading.Lock()
        self._sources: dict[tuple[str, int, str], _Source] = {}
        self._heard: dict[str, dict[int, tuple[artnet.PollReply, float]]] = {}
        self._told: dict[str, tuple[tuple[float, int], Heard]] = {}
        self._macs: dict[str, dict[str, float]] = {}
        self._first: dict[str, float] = {}
        self._own_cids: set[bytes] = set()
        self._previews: dict[tuple[str, int, str], _Source] = {}
        self._lists: dict[bytes, _Announced] = {}
        self._list_pages = 0
        self._next_sweep = 0.0
        self._ears = Ears()
        self._groups = Groups(interface, self._ears)
        self._worker = Worker("listener", self._listen_on, self.faults)
        self._next_poll = 0.0
        self._alike: dict[bytes, _Source] = {}
        """sACN sources by CID and universe, for packets that are like the last one."""
        self._dropped_before = 0
        self._recorder: Recorder | None = None
        self.on_rdm: Callable[[artnet.TodData | artnet.Rdm, str], object] | None = None
        """Who is told of tables and answers of gateways; called in the listener's thread."""
        self.ended: deque[tuple[float, int, str]] = deque(maxlen=50)
        """Streams that ended properly: when, the sACN universe, the source's name."""
        self.noise = 0
        self.last_noise = ""
        self.packets = 0
        self.taken: list[int] = []
        """UDP ports that another program holds."""
        self._problems: list[str] = []
        self._unheard: list[str] = []
        """What of the groups cannot be heard, in words."""
        self._wanted: set[int] = set()
        self._state = state_of(interface)
        self._look_at = time.monotonic() + LOOK_EVERY
        self._try_at = time.monotonic() + TRY_EVERY
        self._art: socket.socket | None = None
        self._art_all: socket.socket | None = None
        self._acn: socket.socket | None = None
        self._bind_missing()
        self.join_universes([*universes, sacn.DISCOVERY_UNIVERSE])

    # ---- sockets

    def _bind_missing(self) -> None:
        """Open the sockets that are not open. Those that are stay: one that is bound to an address hears it again when
        the interface comes back, and the streaming process sends from the same one."""
        ip, everyone = self.interface.ip, self.interface.broadcast_address
        taken: list[int] = []
        problems: list[str] = []

        def had(known: socket.socket | None, ip: str, port: int, exclusive: bool) -> socket.socket | None:
            try:
                return known or self._bind_socket(ip, port, exclusive)
            except OSError as e:
                if e.errno == errno.EADDRINUSE:
                    taken.append(port)
                else:
                    problems.append(f"{ip} cannot be listened on: {e.strerror}.")
                return None

        self._art = had(self._art, ip, artnet.PORT, exclusive=True)
        self._art_all = had(self._art_all, everyone, artnet.PORT, exclusive=False)
        self._acn = had(self._acn, ip, sacn.PORT, exclusive=True)
        self.taken, self._problems = taken, problems

    def _bind_socket(self, ip: str, port: int, exclusive: bool) -> socket.socket:
        """A socket on exactly one address. An exclusive one finds out whether another program has the port."""
        sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            if not exclusive:
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 22)
            sock.bind((ip, port))
        except OSError:
            sock.close()
            raise
        # From now on sockets that share groups may be bound beside it; the kernel looks at both when one is bound.
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        sock.setblocking(False)
        self._ears.add_socket(sock)
        return sock

    @property
    def find_problems(self) -> list[str]:
        """What is in the way of hearing everything, in words. It may take a while: who holds a port is looked up."""
        return [*(port_taken(self.interface.ip, port) for port in self.taken), *self.known_problems]

    @property
    def known_problems(self) -> list[str]:
        """The problems that are known without looking anything up."""
        return [*self._problems, *self._unheard]

    def join_universes(self, universes: Iterable[int]) -> None:
        """Hear these sACN universes as multicast, and no others any more."""
        if self.quiet:
            return
        wanted = {u for u in universes if 1 <= u <= sacn.DISCOVERY_UNIVERSE} | {sacn.DISCOVERY_UNIVERSE}
        with self._lock:
            self._wanted = wanted
            if wanted != self._groups.joined_universes:
                self._unheard = self._groups.join_universes(wanted)

    def _look_after(self, now: float) -> None:
        """Notice an interface that went away and is back, or is another one by the same name: a multicast group belongs
        to the interface in the kernel and not to its address, so all of them are joined anew. And try again what could
        not be had."""
        self._look_at = now + LOOK_EVERY
        before, self._state = self._state, state_of(self.interface)
        if self._state.trouble:
            return
        back = bool(before.trouble) or before.number != self._state.number
        if back or (now >= self._try_at and (self.taken or self._problems or self._unheard)):
            self._try_at = now + TRY_EVERY
            with self._lock:
                self._bind_missing()
                if not self.quiet:
                    self._unheard = (
                        self._groups.renew_groups(self._wanted) if back else self._groups.join_universes(self._wanted)
                    )
        if back:
            self._next_poll = 0.0

    @property
    def artnet_fd(self) -> int:
        """The socket on UDP 6454, for the engine to send from; -1 when the port was taken."""
        if not self._art:
            return -1
        return self._art.fileno()

    @property
    def is_running(self) -> bool:
        return self._worker.is_alive

    def start_listening(self) -> None:
        self._worker.start_thread()

    def close(self) -> None:
        self._worker.stop_thread()
        for sock in (self._art, self._art_all, self._acn):
            if sock:
                sock.close()
        self._groups.close()
        self._ears.close()

    # ---- the thread

    def _listen_on(self) -> None:
        gather = Gather()
        counted, counted_at, busy = self.packets, time.monotonic(), False
        stopping = self._worker.stopping
        while not stopping.is_set():
            now = time.monotonic()
            if now >= self._look_at:
                self._look_after(now)
            if self._poll and now >= self._next_poll:
                self._next_poll = now + POLL_EVERY
                self.poll_everybody()
            if now - counted_at >= 0.1:
                busy = (self.packets - counted) / (now - counted_at) > MANY
                counted, counted_at = self.packets, now
            if busy:
                time.sleep(REST)
            try:
                ready = self._ears.ready_sockets(0.05)  # whoever closes it waits no longer than this
            except (OSError, ValueError):
                stopping.wait(0.01)
                continue
            now = self._clock()
            for sock, many in ready:
                if not many:
                    try:
                        raw, sender = sock.recvfrom(LARGEST)
                    except OSError:  # it was closed just now, or an error of the network lay there
                        continue
                    if self._recorder or not self._like_the_last(raw, sender[0], now):
                        self.take_datagram(raw, sender[0], now)
                    else:
                        self.packets += 1
                    continue
                while True:
                    got = gather.take_datagrams(sock)
                    if got:
                        now = self._clock()
                        for raw, ip in got:
                            self.take_datagram(raw, ip, now)
                    if len(got) < AT_ONCE:
                        break

    def take_datagram(self, raw: bytes, ip: str, now: float) -> None:
        """One datagram. What is no proper packet is counted as noise and changes nothing else."""
        self.packets += 1
        recorder = self._recorder
        if recorder is None and type(raw) is bytes and self._like_the_last(raw, ip, now):
            return
        if recorder:
            to, port = likely_destination(raw, self.interface.ip, self.interface.broadcast_address)
            recorder.take_datagram(Datagram(now, ip, port, to, port, raw))
        try:
            if raw[:8] == artnet.IDENTIFIER:
                self._take_artnet(artnet.decode_artnet(raw), ip, now)
            else:
                self._take_sacn(sacn.decode_sacn(raw), ip, now, raw)
        except WireError as e:
            self.noise += 1
            self.last_noise = f"{ip}: {e}"
        except Exception as e:  # a fault of ours: the packets behind this one are to be heard all the same
            self.faults.note_fault("listening", e)

    def _like_the_last(self, raw: bytes, ip: str, now: float) -> bool:
        """Take a packet that differs from its source's last one in nothing but sequence number and slots.

        A thousand universes are 44,000 packets a second, and nearly every one is like that. What was looked at once,
        octet by octet, need not be looked at again: comparing is a tenth of the work of decoding.
        """
        s = self._alike.get(raw[22:38] + raw[113:115])
        if (
            s is None
            or len(raw) != s.size
            or not (raw.startswith(s.head) and raw.startswith(s.tail, 112))
            or s.ip != ip
        ):
            return False
        with self._lock:
            since = now - s.at
            if since > sacn.DATA_LOSS:
                return False  # it was lost, and may be forgotten
            step = (raw[111] - s.sequence) & 255 if s.sequence is not None else 1
            if step != 1:
                if not sacn.sacn_accepts(s.sequence, raw[111]):
                    return False  # what that means is decided in one place
                s.lost += _missed_frames(step)
            s.sequence = raw[111]
            s.latest = raw
            s.at = now
            s.frames += 1
            s.counted += 1
            if since > s.gap:
                s.gap = since
            if s.usual:
                off = since - s.usual
                s.jitter += ((off if off > 0 else -off) - s.jitter) / 16
                s.usual += off / 16
            else:
                s.usual = since
            if now - s.window >= 1.0:
                s.rate = s.counted / (now - s.window)
                s.window, s.counted = now, 0
        return True

    def _take_artnet(self, packet: artnet.Packet, ip: str, now: float) -> None:
        if isinstance(packet, artnet.Poll):
            self._answer_poll(ip)
        elif isinstance(packet, artnet.PollReply):
            if ip == self.interface.ip and packet.style == CONTROLLER:
                return  # ourselves
            with self._lock:
                if ip not in self._heard:
                    self._forget_devices(now)
                pages = self._heard.setdefault(ip, {})
                pages[packet.bind_index] = (packet, now)
                self._first.setdefault(ip, now)
                macs = self._macs.setdefault(ip, {})
                macs[packet.mac.hex(":")] = now
                while len(macs) > MOST_MACS:
                    del macs[min(macs, key=lambda m: macs[m])]
        elif isinstance(packet, artnet.TodData | artnet.Rdm):
            if self.on_rdm:
                self.on_rdm(packet, ip)
        elif isinstance(packet, artnet.Dmx):
            key = f"{ip}/{packet.physical}"
            old = self._sources.get((artnet.KEY, packet.address, key))
            if old and now - old.at <= artnet.DATA_LOSS and not artnet.artnet_accepts(old.sequence, packet.sequence):
                old.disordered += 1
                return
            source = self._count_packet(artnet.KEY, packet.address, key, "", ip, 100, packet.slots, now)
            if packet.sequence and source.sequence:  # 0 is “no sequence”, and is never counted through
                source.lost += _missed_frames((packet.sequence - source.sequence) % 255 or 255)
            source.sequence = packet.sequence

    def _forget_devices(self, now: float) -> None:
        """Make room for one more device: what was silent for long goes, and of too many the oldest tenth."""
        if len(self._heard) < MOST_DEVICES and now < self._next_sweep:
            return
        self._next_sweep = now + FORGOTTEN / 10
        by_age = sorted(self._heard, key=lambda known: _newest_page(self._heard[known]))
        excess = MOST_DEVICES // 10 if len(by_age) >= MOST_DEVICES else 0
        for n, known in enumerate(by_age):
            if n >= excess and now - _newest_page(self._heard[known]) <= FORGOTTEN:
                break
            del self._heard[known]
            self._macs.pop(known, None)
            self._told.pop(known, None)
            self._first.pop(known, None)

    def _answer_poll(self, ip: str) -> None:
        """A controller answers polls too (Art-Net 4, style 1); its own are no question."""
        if not self._art or self.quiet or ip == self.interface.ip:
            return
        parts = tuple(int(p) for p in self.interface.ip.split("."))
        reply = artnet.PollReply(
            ip=(parts[0], parts[1], parts[2], parts[3]),
            short_name="Welvo",
            long_name="Welvo, planning and testing",
            report="#0001 [0000] listening",
            style=CONTROLLER,
            status1=0,
            status2=0x08,
        )
        with contextlib.suppress(OSError):
            self._art.sendto(artnet.encode_artnet(reply), (ip, artnet.PORT))

    def _take_sacn(self, packet: sacn.Packet, ip: str, now: float, raw: bytes) -> None:
        if isinstance(packet, sacn.Discovery):
            self._take_list(packet, ip, now)
            return
        if not isinstance(packet, sacn.Data) or packet.start_code:
            return
        key = packet.cid.hex()
        where = (sacn.KEY, packet.universe, key)
        if packet.is_preview:
            with self._lock:
                self._previews[where] = _Source(
                    sacn.KEY,
                    wire=packet.universe,
                    key=key,
                    name=packet.name,
                    ip=ip,
                    priority=packet.priority,
                    first=now,
                    at=now,
                    levels=b"",
                )
                _shrink_sources(self._previews, MOST_SOURCES // 10)
            return
        with self._lock:
            old = self._sources.get(where)
            if old and now - old.at <= sacn.DATA_LOSS and not sacn.sacn_accepts(old.sequence, packet.sequence):
                old.disordered += 1
                return
            if packet.is_terminated:
                self._alike.pop(raw[22:38] + raw[113:115], None)
                if self._sources.pop(where, None):
                    self.ended.append((now, packet.universe, packet.name))
                return
        source = self._count_packet(sacn.KEY, packet.universe, key, packet.name, ip, packet.priority, packet.slots, now)
        if source.sequence is not None:
            source.lost += _missed_frames((packet.sequence - source.sequence) % 256 or 256)
        source.sequence, source.sync = packet.sequence, packet.sync
        if type(raw) is bytes and raw[125] == 0 and len(raw) == 126 + len(packet.slots) and not packet.is_terminated:
            source.head, source.tail, source.size = raw[:111], raw[112:126], len(raw)
            self._alike[raw[22:38] + raw[113:115]] = source

    def _take_list(self, packet: sacn.Discovery, ip: str, now: float) -> None:
        """A page of what a source announces. Pages behind its last one are out of date."""
        with self._lock:
            old = self._lists.pop(packet.cid, None)
            pages = {n: listed for n, listed in old.pages.items() if n <= packet.last_page} if old else {}
            pages[packet.page] = packet.universes
            name = packet.name or (old.name if old else "")
            self._lists[packet.cid] = _Announced(name, ip, now, pages)  # at the end: the dictionary is in order of age
            self._list_pages += len(pages) - (len(old.pages) if old else 0)
            self._forget_lists(now)

    def _forget_lists(self, now: float) -> None:
        while self._lists:
            cid = next(iter(self._lists))
            oldest = self._lists[cid]
            if now - oldest.at <= sacn.DISCOVERY_LOSS and self._list_pages <= MOST_LIST_PAGES:
                return
            del self._lists[cid]
            self._list_pages -= len(oldest.pages)

    def _count_packet(
        self, protocol: Protocol, wire: int, key: str, name: str, ip: str, priority: int, levels: bytes, now: float
    ) -> _Source:
        with self._lock:
            source = self._sources.get((protocol, wire, key))
            if source is None:
                if len(self._sources) >= MOST_SOURCES:
                    _shrink_sources(self._sources, MOST_SOURCES)
                    self._alike.clear()
                source = _Source(
                    protocol,
                    wire=wire,
                    key=key,
                    name=name,
                    ip=ip,
                    priority=priority,
                    first=now,
                    at=now,
                    levels=levels,
                    window=now,
                )
                self._sources[protocol, wire, key] = source
            else:
                since = now - source.at
                source.gap = max(source.gap, since)
                if source.usual:
                    source.jitter += (abs(since - source.usual) - source.jitter) / 16
                    source.usual += (since - source.usual) / 16
                else:
                    source.usual = since
            source.name, source.ip, source.priority = name, ip, priority
            source.at, source.levels, source.latest = now, levels, b""
            source.frames += 1
            source.counted += 1
            if now - source.window >= 1.0:
                source.rate = source.counted / (now - source.window)
                source.window, source.counted = now, 0
            return source

    # ---- asking and telling

    def poll_everybody(self) -> None:
        """Ask who is there, by directed broadcast."""
        if self._art:
            with contextlib.suppress(OSError):
                self._art.sendto(artnet.encode_artnet(artnet.Poll()), (self.interface.broadcast_address, artnet.PORT))

    def poll_one(self, ip: str) -> None:
        """Ask one device, wherever it is; what is in the way of sending is no answer."""
        if self._art:
            with contextlib.suppress(OSError):
                self._art.sendto(artnet.encode_artnet(artnet.Poll()), (ip, artnet.PORT))

    def send_artnet(self, packet: artnet.Packet, ip: str) -> None:
        """Send one packet from UDP 6454 to a device. Raises ListenError when the port is not ours."""
        if not self._art:
            raise ListenError(port_taken(self.interface.ip, artnet.PORT))
        try:
            self._art.sendto(artnet.encode_artnet(packet), (ip, artnet.PORT))
        except OSError as e:
            raise ListenError(f"{ip} cannot be reached from {self.interface.ip}: {e.strerror}.") from e

    def own_streams(self, cid: bytes) -> None:
        """Streams of this CID are our own."""
        self._own_cids.add(cid)

    def heard_devices(self) -> dict[str, Heard]:
        """All nodes that answered, their pages put together."""
        with self._lock:
            found: dict[str, Heard] = {}
            for ip, pages in self._heard.items():
                newest, known = _newest_page(pages), self._told.get(ip)
                if known is None or known[0] != (newest, len(pages)):  # of two hundred, most said nothing since
                    made = _put_pages_together(ip, pages, self._first.get(ip, 0.0), self._macs.get(ip, {}))
                    known = self._told[ip] = ((newest, len(pages)), made)
                found[ip] = known[1]
            return found

    def announced_universes(self, now: float) -> dict[str, tuple[int, ...]]:
        """Universes that sources say they send, by CID in hex; a source that says it no more is forgotten."""
        with self._lock:
            self._forget_lists(now)
            return {
                cid.hex(): tuple(sorted({u for page in a.pages.values() for u in page}))
                for cid, a in self._lists.items()
            }

    def heard_sources(self, now: float) -> list[SourceSeen]:
        """Sources on the wire that are not lost by their own protocol's rule."""
        with self._lock:
            for where, s in list(self._sources.items()):
                if now - s.at > PROTOCOLS[s.protocol].lost_after:
                    del self._sources[where]
            if len(self._alike) > 2 * len(self._sources) + 16:
                known = set(map(id, self._sources.values()))
                self._alike = {k: s for k, s in self._alike.items() if id(s) in known}
            for where, s in list(self._previews.items()):
                if now - s.at > sacn.DATA_LOSS:
                    del self._previews[where]
            live = [self._seen_source(s, now) for s in self._sources.values()]
            return live + [
                self._seen_source(s, now, True) for where, s in self._previews.items() if where not in self._sources
            ]

    def _seen_source(self, s: _Source, now: float, preview: bool = False) -> SourceSeen:
        if s.protocol == sacn.KEY:
            own = bytes.fromhex(s.key) in self._own_cids
        else:
            own = s.ip == self.interface.ip and bool(self._own_cids)
        rate = 0.0 if preview else round(_rate_of_source(s, now), 1)
        of = (s.protocol, s.wire, s.key, s.name, s.ip, s.priority, rate, own, s.at, preview, s.sync)
        return SourceSeen(*of, s.frames, s.jitter, max(s.gap, now - s.at), s.lost, s.disordered)

    def sources_of_universe(self, protocol: str, wire: int, now: float) -> list[tuple[SourceSeen, bytes]]:
        """Every source of one wire universe with what it sends."""
        with self._lock:
            mine = [s for s in self._sources.values() if (s.protocol, s.wire) == (protocol, wire)]
            return [(self._seen_source(s, now), s.frame_of_source()) for s in mine]

    def own_drops(self) -> int:
        """Datagrams that reached this computer and were lost in it, since the listener began or it was counted anew."""
        inodes = set()
        for fd in self._ears.open_descriptors():
            with contextlib.suppress(OSError):
                inodes.add(os.fstat(fd).st_ino)
        return max(0, dropped_by(inodes) - self._dropped_before)

    def count_anew(self) -> None:
        """Forget what was lost and how long the silences were, to see whether it is still so."""
        with self._lock:
            for s in self._sources.values():
                s.gap, s.lost, s.disordered, s.jitter = 0.0, 0, 0, 0.0
        self._dropped_before += self.own_drops()

    def record_into(self, recorder: Recorder | None) -> None:
        """Have every datagram kept from now on; None: no more."""
        self._recorder = recorder

    def source_levels(self, protocol: str, wire: int, key: str) -> bytes | None:
        """The levels that one source sends, whatever the others do."""
        with self._lock:
            source = self._sources.get((protocol, wire, key))
            return source.frame_of_source() if source else None

    def levels_on_wire(self, protocol: str, wire: int) -> bytes | None:
        """The levels on the wire: of the newest source among those of the highest priority."""
        with self._lock:
            mine = [s for s in self._sources.values() if (s.protocol, s.wire) == (protocol, wire)]
            if not mine:
                return None
            top = max(s.priority for s in mine)
            return max((s for s in mine if s.priority == top), key=lambda s: s.at).frame_of_source()


def _shrink_sources(sources: dict[tuple[str, int, str], _Source], most: int) -> None:
    """Make room for one more: the tenth that was silent the longest goes, not what is being heard."""
    if len(sources) >= most:
        for where in sorted(sources, key=lambda known: sources[known].at)[: max(1, most // 10)]:
            del sources[where]


def _missed_frames(step: int) -> int:
    """Frames left out between two sequence numbers; a step of half the circle or more is a new beginning."""
    return step - 1 if step < 128 else 0


def _newest_page(pages: dict[int, tuple[artnet.PollReply, float]]) -> float:
    return max(at for _, at in pages.values())


def _rate_of_source(s: _Source, now: float) -> float:
    if s.rate and now - s.window < 2.5:
        return s.rate
    span = now - s.window
    return s.counted / span if span > 0.2 else s.rate


def _put_pages_together(
    ip: str, pages: dict[int, tuple[artnet.PollReply, float]], first: float, macs: dict[str, float]
) -> Heard:
    newest = _newest_page(pages)
    known = tuple(sorted(m for m, at in macs.items() if newest - at < 4 * POLL_EVERY and m != NO_MAC))
    fresh = {n: r for n, (r, at) in pages.items() if newest - at < 3 * POLL_EVERY}
    root = fresh[min(fresh)]
    ports = []
    for page, reply in sorted(fresh.items()):
        for i, kind in enumerate(reply.port_types):
            output = bool(kind & 0x80)
            good = reply.good_output[i] if output else reply.good_input[i]
            nibble = reply.sw_out[i] if output else reply.sw_in[i]
            wire = reply.net << 8 | reply.sub << 4 | (nibble & 0x0F)
            ports.append(
                HeardPort(
                    page,
                    i,
                    output,
                    sacn.KEY if good & 1 else artnet.KEY,
                    wire,
                    bool(good & 0x80),
                    output and bool(good & 0x08),
                    output and bool(good & 0x02),
                )
            )
    return Heard(
        ip,
        name=root.short_name,
        long_name=root.long_name,
        mac=root.mac.hex(":"),
        firmware=root.firmware,
        report=root.report,
        ports=tuple(ports),
        at=newest,
        first=first,
        macs=known,
        dhcp=bool(root.status2 & 0x02),
        page=bool(root.status2 & 0x01),
    )
