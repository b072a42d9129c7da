"""Hears what is on the wire: Art-Net and sACN on one chosen interface, in a thread of its own.

It also owns the program's one socket on UDP 6454, polls for nodes and sends ArtAddress from there.
"""

from __future__ import annotations

import contextlib
import selectors
import socket
import threading
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass

from welvo.live.interfaces import Interface, port_taken
from welvo.observed.values import Heard, HeardPort, SourceSeen
from welvo.protocols import artnet, sacn
from welvo.protocols.wire import WireError
from welvo.rig.base import Refused
from welvo.rig.protocol import Protocol

POLL_EVERY = 2.6
"""Seconds between polls; Art-Net 4 asks for 2.5 to 3."""
CONTROLLER = 1
"""Style code of a controller in ArtPollReply."""
ART_LOST = 10.0
"""Seconds after which a silent ArtDmx source no longer counts (Art-Net 4, merge)."""
_IP_MULTICAST_ALL = 49
"""Linux socket option; 0 = only groups joined on this very socket. Not named in Python's socket module."""


class ListenError(Refused):
    """The listener cannot work here; the message names the port and its role."""


@dataclass
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


class Listener:
    """Start with `start()`, end with `close()`. All questions may be asked from any thread."""

    def __init__(
        self,
        interface: Interface,
        universes: Iterable[int] = (),
        clock: Callable[[], float] = time.time,
        poll: bool = True,
    ) -> None:
        self.interface = interface
        self._clock = clock
        self._poll = poll
        self._lock = threading.Lock()
        self._sources: dict[tuple[str, int, str], _Source] = {}
        self._heard: dict[str, dict[int, tuple[artnet.PollReply, float]]] = {}
        self._own_cids: set[bytes] = set()
        self._lists: dict[bytes, tuple[str, str, float, dict[int, tuple[int, ...]]]] = {}
        self._groups: dict[int, socket.socket] = {}
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self._selector = selectors.DefaultSelector()
        self.noise = 0
        self.last_noise = ""
        self.packets = 0
        self.problems: list[str] = []
        self._art = self._bind(interface.ip, artnet.PORT, exclusive=True)
        self._art_all = self._bind(interface.broadcast, artnet.PORT, exclusive=False)
        self._acn = self._bind(interface.ip, sacn.PORT, exclusive=True)
        for sock in (self._art, self._art_all, self._acn):
            if sock:
                self._selector.register(sock, selectors.EVENT_READ)
        self.join([*universes, sacn.DISCOVERY_UNIVERSE])

    # ---- sockets

    def _bind(self, ip: str, port: int, exclusive: bool) -> socket.socket | None:
        """A socket on exactly one address. An exclusive one that is taken is a problem told in words."""
        sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            if not exclusive:
                sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
            sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 22)
            sock.bind((ip, port))
        except OSError as e:
            sock.close()
            if e.errno == 98:  # address in use
                self.problems.append(port_taken(ip, port))
            else:
                self.problems.append(f"{ip} cannot be listened on: {e.strerror}.")
            return None
        sock.setblocking(False)
        return sock

    def join(self, universes: Iterable[int]) -> None:
        """Hear these sACN universes as multicast, and no others any more. One socket per group, bound to it."""
        wanted = {u for u in universes if 1 <= u <= sacn.DISCOVERY_UNIVERSE} | {sacn.DISCOVERY_UNIVERSE}
        with self._lock:
            for universe in self._groups.keys() - wanted:
                sock = self._groups.pop(universe)
                with contextlib.suppress(KeyError, ValueError):
                    self._selector.unregister(sock)
                sock.close()
            for universe in sorted(wanted - self._groups.keys()):
                sock = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
                try:
                    sock.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                    sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 20)
                    sock.setsockopt(socket.IPPROTO_IP, _IP_MULTICAST_ALL, 0)
                    sock.bind((sacn.group(universe), sacn.PORT))
                    member = socket.inet_aton(sacn.group(universe)) + socket.inet_aton(self.interface.ip)
                    sock.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, member)
                    sock.setblocking(False)
                    self._selector.register(sock, selectors.EVENT_READ)
                    self._groups[universe] = sock
                except OSError as e:
                    sock.close()
                    self.problems.append(f"sACN universe {universe} cannot be heard: {e.strerror}.")
                    break

    @property
    def artnet_fd(self) -> int:
        """The socket on UDP 6454, for the engine to send from; -1 when the port was taken."""
        if not self._art:
            return -1
        return self._art.fileno()

    def start(self) -> None:
        self._thread = threading.Thread(target=self._run, name="listener", daemon=True)
        self._thread.start()

    def close(self) -> None:
        self._stop.set()
        if self._thread:
            self._thread.join(2.0)
        for sock in (self._art, self._art_all, self._acn, *self._groups.values()):
            if sock:
                sock.close()
        self._selector.close()

    # ---- the thread

    def _run(self) -> None:
        next_poll = 0.0
        buffer = bytearray(2048)
        while not self._stop.is_set():
            now = time.monotonic()
            if self._poll and now >= next_poll:
                self.poll()
                next_poll = now + POLL_EVERY
            try:
                events = self._selector.select(0.1)
            except (OSError, ValueError):
                continue
            for key, _ in events:
                sock = key.fileobj
                assert isinstance(sock, socket.socket)
                for _ in range(256):
                    try:
                        size, sender = sock.recvfrom_into(buffer)
                    except (BlockingIOError, OSError):
                        break
                    self.take(bytes(buffer[:size]), sender[0], self._clock())

    def take(self, raw: bytes, ip: str, now: float) -> None:
        """One datagram. What is no proper packet is counted as noise and changes nothing else."""
        self.packets += 1
        try:
            if raw[:8] == artnet.IDENTIFIER:
                self._take_artnet(artnet.decode(raw), ip, now)
            else:
                self._take_sacn(sacn.decode(raw), ip, now)
        except WireError as e:
            self.noise += 1
            self.last_noise = f"{ip}: {e}"

    def _take_artnet(self, packet: artnet.Packet, ip: str, now: float) -> None:
        if isinstance(packet, artnet.Poll):
            self._answer(ip)
        elif isinstance(packet, artnet.PollReply):
            if ip == self.interface.ip and packet.style == CONTROLLER:
                return  # ourselves
            with self._lock:
                pages = self._heard.setdefault(ip, {})
                pages[packet.bind_index] = (packet, now)
        elif isinstance(packet, artnet.Dmx):
            key = f"{ip}/{packet.physical}"
            self._count("artnet", packet.address, key, "", ip, 100, packet.slots, now)

    def _answer(self, ip: str) -> None:
        """A controller answers polls too (Art-Net 4, style 1); its own are no question."""
        if not self._art or ip == self.interface.ip:
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
            self._art.sendto(artnet.encode(reply), (ip, artnet.PORT))

    def _take_sacn(self, packet: sacn.Packet, ip: str, now: float) -> None:
        if isinstance(packet, sacn.Discovery):
            with self._lock:
                name, _, _, pages = self._lists.get(packet.cid, ("", "", 0.0, {}))
                self._lists[packet.cid] = (packet.name or name, ip, now, {**pages, packet.page: packet.universes})
            return
        if not isinstance(packet, sacn.Data) or packet.preview or packet.start_code:
            return
        key = packet.cid.hex()
        with self._lock:
            old = self._sources.get(("sacn", packet.universe, key))
            if old and not sacn.accepts(old.sequence, packet.sequence):
                return
            if packet.terminated:
                self._sources.pop(("sacn", packet.universe, key), None)
                return
        source = self._count("sacn", packet.universe, key, packet.name, ip, packet.priority, packet.slots, now)
        source.sequence = packet.sequence

    def _count(
        self, protocol: Protocol, wire: int, key: str, name: str, ip: str, priority: int, levels: bytes, now: float
    ) -> _Source:
        with self._lock:
            source = self._sources.get((protocol, wire, key))
            if source is None:
                if len(self._sources) > 20_000:
                    self._sources.clear()
                source = _Source(protocol, wire, key, name, ip, priority, now, now, levels, window=now)
                self._sources[protocol, wire, key] = source
            source.name, source.ip, source.priority = name, ip, priority
            source.at, source.levels = now, levels
            source.frames += 1
            source.counted += 1
            if now - source.window >= 1.0:
                source.rate = source.counted / (now - source.window)
                source.window, source.counted = now, 0
            return source

    # ---- asking and telling

    def poll(self) -> None:
        """Ask who is there, by directed broadcast."""
        if self._art:
            with contextlib.suppress(OSError):
                self._art.sendto(artnet.encode(artnet.Poll()), (self.interface.broadcast, artnet.PORT))

    def send_artnet(self, packet: artnet.Packet, ip: str) -> None:
        """Send one packet from UDP 6454 to a device. Raises ListenError when the port is not ours."""
        if not self._art:
            raise ListenError(port_taken(self.interface.ip, artnet.PORT))
        try:
            self._art.sendto(artnet.encode(packet), (ip, artnet.PORT))
        except OSError as e:
            raise ListenError(f"{ip} cannot be reached from {self.interface.ip}: {e.strerror}.") from e

    def own(self, cid: bytes) -> None:
        """Streams of this CID are our own."""
        self._own_cids.add(cid)

    def heard(self) -> dict[str, Heard]:
        """All nodes that answered, their pages put together."""
        with self._lock:
            return {ip: _heard(ip, pages) for ip, pages in self._heard.items()}

    def sources(self, now: float) -> list[SourceSeen]:
        """Sources on the wire that are not lost by their own protocol's rule."""
        with self._lock:
            for where, s in list(self._sources.items()):
                if now - s.at > (sacn.DATA_LOSS if s.protocol == "sacn" else ART_LOST):
                    del self._sources[where]
            return [
                SourceSeen(
                    s.protocol,
                    s.wire,
                    s.key,
                    s.name,
                    s.ip,
                    s.priority,
                    round(_rate(s, now), 1),
                    (s.protocol == "sacn" and bytes.fromhex(s.key) in self._own_cids)
                    or (s.protocol == "artnet" and s.ip == self.interface.ip and bool(self._own_cids)),
                    s.at,
                )
                for s in self._sources.values()
            ]

    def levels(self, protocol: str, wire: int) -> bytes | None:
        """The levels on the wire: of the newest source among those of the highest priority."""
        with self._lock:
            mine = [s for s in self._sources.values() if (s.protocol, s.wire) == (protocol, wire)]
            if not mine:
                return None
            top = max(s.priority for s in mine)
            return max((s for s in mine if s.priority == top), key=lambda s: s.at).levels


def _rate(s: _Source, now: float) -> float:
    if s.rate and now - s.window < 2.5:
        return s.rate
    span = now - s.window
    return s.counted / span if span > 0.2 else s.rate


def _heard(ip: str, pages: dict[int, tuple[artnet.PollReply, float]]) -> Heard:
    newest = max(at for _, at in pages.values())
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
                    "sacn" if good & 1 else "artnet",
                    wire,
                    bool(good & 0x80),
                    output and bool(good & 0x08),
                    output and bool(good & 0x02),
                )
            )
    return Heard(
        ip, root.short_name, root.long_name, root.mac.hex(":"), root.firmware, root.report, tuple(ports), newest
    )
