"""Recordings of the wire: datagrams as they were heard, kept as a capture file; and what receivers had at any moment.

A recording is the capture itself, so that network tools read it and their captures play back. To say what the wire was
like at a moment, all frames up to it are gone through once; marks every few seconds keep a jump short.
"""

from __future__ import annotations

import bisect
import threading
from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

from msgspec import Struct

from welvo.formats import pcap
from welvo.formats.files import RigFileError, read_bytes, shown_name, write_atomic
from welvo.formats.pcap import Datagram
from welvo.observed.values import SourceSeen
from welvo.observed.wire import Takes, merge_sources
from welvo.protocols import artnet, sacn
from welvo.protocols.wire import WireError
from welvo.rig.protocol import PROTOCOLS, Protocol
from welvo.rig.steps import take_step

MOST_OCTETS = 1 << 30
"""The largest file that is read."""
MOST_KEPT = 512 << 20
"""Octets that a running recording keeps at the most; then it ends, and says so."""
MARK_EVERY = 5.0

Wire = tuple[Protocol, int]
"""Protocol and number."""


class RecordedFrame(Struct, frozen=True):
    """One frame of levels. `ended` closes the stream of its source."""

    at: float
    wire: Wire
    source: str
    name: str
    ip: str
    priority: int
    levels: bytes
    preview: bool = False
    ended: bool = False


class Recorder:
    """Takes datagrams from the listener's thread until it is full. `count_taken` and `octets` may be read at any
    time."""

    def __init__(self, most: int = MOST_KEPT) -> None:
        self.octets = 0
        self.full = False
        self._most = most
        self._kept: deque[Datagram] = deque()
        self._lock = threading.Lock()

    @property
    def count_taken(self) -> int:
        return len(self._kept)

    def take_datagram(self, datagram: Datagram) -> None:
        with self._lock:
            if self.octets + len(datagram.payload) > self._most:
                self.full = True
                return
            self.octets += len(datagram.payload)
            self._kept.append(datagram)

    def finish_recording(self) -> Recording:
        with self._lock:
            return Recording(list(self._kept))


@dataclass
class _Mark:
    """Every source's newest frame at a moment; `n` frames came before it."""

    n: int
    newest: dict[tuple[Wire, str], RecordedFrame]


@dataclass
class Recording:
    """Datagrams in order of time, and the frames in them. Times are seconds from the first one."""

    datagrams: list[Datagram]
    left_out: int = 0
    frames: list[RecordedFrame] = field(default_factory=list)
    _times: list[float] = field(default_factory=list)
    _marks: list[_Mark] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.datagrams = sorted(self.datagrams, key=lambda d: d.at)
        self.begun = self.datagrams[0].at if self.datagrams else 0.0
        alike = _Alike()
        for n, d in enumerate(self.datagrams):
            take_step("packets", n, len(self.datagrams))
            frame = alike.make_frame(d, d.at - self.begun)
            if frame:
                self.frames.append(frame)
        self._times = [f.at for f in self.frames]
        newest: dict[tuple[Wire, str], RecordedFrame] = {}
        due = 0.0
        for n, f in enumerate(self.frames):
            if f.at >= due:
                before = self.frames[n - 1].at if n else 0.0  # whoever begins from this mark asks about later times
                newest = {k: old for k, old in newest.items() if before - old.at <= PROTOCOLS[k[0][0]].lost_after}
                self._marks.append(_Mark(n, dict(newest)))
                due = f.at + MARK_EVERY
            _take_frame(newest, f)

    @property
    def length_in_seconds(self) -> float:
        return self.datagrams[-1].at - self.begun if self.datagrams else 0.0

    @property
    def recorded_wires(self) -> list[Wire]:
        return sorted({f.wire for f in self.frames})

    def sources_at(self, at: float) -> dict[Wire, list[tuple[SourceSeen, bytes]]]:
        """Whom a receiver would hear at a moment, with their levels; who is silent for too long is gone."""
        until = bisect.bisect_right(self._times, at)
        known = bisect.bisect_right([m.n for m in self._marks], until) - 1
        newest: dict[tuple[Wire, str], RecordedFrame] = {}
        begin = 0
        if known >= 0:
            begin, newest = self._marks[known].n, dict(self._marks[known].newest)
        for f in self.frames[begin:until]:
            _take_frame(newest, f)
        found: dict[Wire, list[tuple[SourceSeen, bytes]]] = {}
        for (wire, key), f in newest.items():
            if at - f.at <= PROTOCOLS[wire[0]].lost_after:
                seen = SourceSeen(
                    wire[0],
                    wire=wire[1],
                    key=key,
                    name=f.name,
                    ip=f.ip,
                    priority=f.priority,
                    rate=0.0,
                    own=False,
                    at=self.begun + f.at,
                    preview=f.preview,
                )
                found.setdefault(wire, []).append((seen, f.levels))
        return found

    def levels_at(self, at: float, takes: Takes = "highest") -> dict[Wire, bytes]:
        """What receivers get at a moment, by wire universe."""
        return {wire: merge_sources(sources, takes).levels for wire, sources in self.sources_at(at).items()}

    def save_recording(self, path: Path) -> None:
        """Raises RigFileError when it cannot be written."""
        write_atomic(path, pcap.write_capture(self.datagrams))


def _take_frame(newest: dict[tuple[Wire, str], RecordedFrame], f: RecordedFrame) -> None:
    if f.ended:
        newest.pop((f.wire, f.source), None)
    else:
        newest[f.wire, f.source] = f


def load_recording(path: Path) -> Recording:
    """Read a capture. Raises RigFileError when the file is no capture."""
    return recording_of(read_bytes(path, MOST_OCTETS, "a capture"), shown_name(path))


def recording_of(data: bytes, name: str) -> Recording:
    """A recording from the bytes of a capture. Raises RigFileError when they are no capture."""
    datagrams, left = pcap.read_capture(data, name)
    found = Recording(datagrams, left)
    if not found.frames:
        raise RigFileError(f"{name} holds no frame of sACN or Art-Net.")
    return found


class _Alike:
    """Reads frames: what was looked at once, octet by octet, is not looked at again while only the sequence number and
    the slots of a stream change."""

    def __init__(self) -> None:
        self._known: dict[tuple[bytes, str], tuple[bytes, bytes, int, int, RecordedFrame]] = {}
        """By stream: its packet before and behind the sequence number, where its slots begin, its size, and a frame."""

    def make_frame(self, d: Datagram, at: float) -> RecordedFrame | None:
        raw = d.payload
        is_artnet = raw[:8] == artnet.IDENTIFIER
        stream = raw[13:18] if is_artnet else raw[22:38] + raw[113:115], d.source
        known = self._known.get(stream)
        if known:
            head, tail, slots, size, like = known
            if len(raw) == size and raw.startswith(head) and raw.startswith(tail, len(head) + 1):
                return RecordedFrame(
                    at, like.wire, like.source, like.name, like.ip, like.priority, raw[slots:], like.preview, like.ended
                )
        found = frame_of(d, at)
        counted, slots = (artnet.SEQUENCE_AT, artnet.SLOTS_AT) if is_artnet else (sacn.SEQUENCE_AT, sacn.SLOTS_AT)
        if found and raw[slots:] == found.levels:
            self._known[stream] = (raw[:counted], raw[counted + 1 : slots], slots, len(raw), found)
        return found


def frame_of(d: Datagram, at: float) -> RecordedFrame | None:
    """The levels in a datagram; None for anything else."""
    try:
        if d.payload[:8] == artnet.IDENTIFIER:
            packet = artnet.decode_artnet(d.payload)
            if isinstance(packet, artnet.Dmx):
                key = f"{d.source}/{packet.physical}"
                return RecordedFrame(at, (artnet.KEY, packet.address), key, "", d.source, 100, packet.slots)
            return None
        found = sacn.decode_sacn(d.payload)
    except WireError:
        return None
    if not isinstance(found, sacn.Data) or found.start_code:
        return None
    return RecordedFrame(
        at,
        (sacn.KEY, found.universe),
        found.cid.hex(),
        found.name,
        d.source,
        found.priority,
        found.slots,
        found.is_preview,
        found.is_terminated,
    )


def likely_destination(payload: bytes, own: str, broadcast: str) -> tuple[str, int]:
    """Where a datagram that was heard was most likely sent: the socket it came from does not always say."""
    if payload[:8] == artnet.IDENTIFIER:
        return own, artnet.PORT
    try:
        found = sacn.decode_sacn(payload)
    except WireError:
        return own, sacn.PORT
    universe = found.universe if isinstance(found, sacn.Data) else sacn.DISCOVERY_UNIVERSE
    return sacn.group_of_universe(universe), sacn.PORT


def in_use(frames: Iterable[RecordedFrame]) -> dict[Wire, tuple[int, ...]]:
    """Slots (from 1) of each wire universe that are ever above zero."""
    lit: dict[Wire, int] = {}
    for f in frames:  # as one long number each: half a million frames are looked at in half a second
        lit[f.wire] = lit.get(f.wire, 0) | int.from_bytes(f.levels, "little")
    return {
        wire: tuple(n for n, level in enumerate(any_.to_bytes((any_.bit_length() + 7) // 8, "little"), 1) if level)
        for wire, any_ in lit.items()
    }
