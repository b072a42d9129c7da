"""Simulated responders on the ports of simulated nodes: lamps that speak RDM (E1.20), with faults to be switched on.

A line is what the standard's search sees: whoever is not muted answers a branch at once with the others, and their
octets lie over each other. The node searches it exactly as a gateway does, with the one search of `protocols.rdm`.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from welvo.protocols import rdm
from welvo.protocols.rdm import RdmPacket
from welvo.rig.attributes import word_for
from welvo.rig.document import Rig
from welvo.rig.lookup import mode_of, profile_of
from welvo.rig.profile import Mode

LAMP_FAULTS = ("deaf", "slow", "collides", "stubborn", "forgets")
"""deaf: answers nothing. slow: puts every answer off. collides: its answers to a search arrive damaged twice. stubborn:
refuses to be set. forgets: says yes and stays as it was."""
_LABELS = {v: k for k, v in reversed(rdm.SLOT_WORDS.items())}
HEAT = rdm.Sensor(
    0, kind=0, unit=1, prefix=1, low=-200, high=1200, normal_low=100, normal_high=850, recorded=0, name="Head"
)


@dataclass
class Responder:
    """One lamp's mind. `personalities` are name and slots, with the slots of each as SLOT_INFO and words."""

    uid: int
    model: int
    model_name: str
    maker: str
    personalities: list[tuple[str, int, list[tuple[rdm.SlotInfo, str]]]]
    personality: int = 1
    address: int = 1
    label: str = ""
    software: str = "1.4.2"
    hours: int = 1200
    identify: bool = False
    fault: str = ""
    muted: bool = False
    damaged: int = 0
    queue: list[RdmPacket] = field(default_factory=list)
    parts: dict[int, tuple[int, int]] = field(default_factory=dict)
    """Its sub-devices by number: address and slots of each."""
    clock: Callable[[], float] = lambda: 0.0
    name: str = ""
    """The number of the fixture that it stands in for."""
    _ready: float = 0.0

    @property
    def slots_needed(self) -> int:
        return self.personalities[self.personality - 1][1]

    def as_new(self) -> None:
        """As it left the factory."""
        self.address, self.personality, self.label, self.fault = 1, 1, "", ""

    def take_request(self, request: RdmPacket) -> RdmPacket | None:
        """What it answers to a request of its own; None is silence."""
        if self.fault == "deaf":
            return None
        if request.command == rdm.DISCOVERY:
            if request.pid in (rdm.DISC_MUTE, rdm.DISC_UN_MUTE):
                self.muted = request.pid == rdm.DISC_MUTE
                return rdm.answer_to(request, self.uid, b"\0\0")
            return None
        if request.command == rdm.GET and request.pid == rdm.QUEUED_MESSAGE:
            return self._answer_queued(request)
        try:
            data = self._answer_get(request) if request.command == rdm.GET else self._answer_set(request)
        except _No as e:
            return rdm.answer_to(request, self.uid, struct.pack(">H", e.reason), rdm.NACK)
        said = rdm.answer_to(request, self.uid, data)
        if self.fault == "slow":
            self.queue = [said]
            self._ready = self.clock() + 0.05
            return rdm.answer_to(request, self.uid, struct.pack(">H", 1), rdm.ACK_TIMER, 1)
        if len(data) > rdm.MOST_DATA:
            return self._answer_in_parts(request, data)
        return said

    def _answer_queued(self, request: RdmPacket) -> RdmPacket:
        if not self.queue or self.clock() < self._ready:
            none = RdmPacket(
                request.source, self.uid, rdm.GET_RESPONSE, rdm.STATUS_MESSAGES, b"", request.transaction, rdm.ACK
            )
            return none
        kept = self.queue.pop(0)
        left = len(self.queue)
        return RdmPacket(
            request.source, self.uid, kept.command, kept.pid, kept.data, request.transaction, kept.port, left, kept.sub
        )

    def _answer_in_parts(self, request: RdmPacket, data: bytes) -> RdmPacket:
        """An answer that is too long goes out in parts; the same question asks for the next one."""
        done = sum(len(f.data) for f in self.queue if f.pid == request.pid)
        part = data[done : done + rdm.MOST_DATA]
        last = done + len(part) >= len(data)
        said = rdm.answer_to(request, self.uid, part, rdm.ACK if last else rdm.ACK_OVERFLOW)
        self.queue = [] if last else [*self.queue, said]
        return said

    def _answer_get(self, request: RdmPacket) -> bytes:
        infos = self.personalities[self.personality - 1][2]
        data, pid = request.data, request.pid
        if request.sub != rdm.ROOT:
            if request.sub not in self.parts:
                raise _No(0x0009)
            if pid != rdm.DEVICE_INFO:
                raise _No(0x0000)
        if pid == rdm.DEVICE_INFO:
            return rdm.encode_info(self._info_of(request.sub))
        if pid == rdm.SUPPORTED_PARAMETERS:
            extra = (rdm.DEVICE_MODEL_DESCRIPTION, rdm.MANUFACTURER_LABEL, rdm.DEVICE_LABEL, rdm.DMX_PERSONALITY,
                     rdm.DMX_PERSONALITY_DESCRIPTION, rdm.SLOT_INFO, rdm.SLOT_DESCRIPTION, rdm.DEVICE_HOURS,
                     rdm.SENSOR_DEFINITION, rdm.SENSOR_VALUE, rdm.QUEUED_MESSAGE)  # fmt: skip
            return struct.pack(f">{len(extra)}H", *extra)
        texts = {
            rdm.DEVICE_MODEL_DESCRIPTION: self.model_name, rdm.MANUFACTURER_LABEL: self.maker,
            rdm.DEVICE_LABEL: self.label, rdm.SOFTWARE_VERSION_LABEL: self.software,
        }  # fmt: skip
        if pid in texts:
            return rdm.encode_text(texts[pid])
        if pid == rdm.DMX_PERSONALITY:
            return bytes([self.personality, len(self.personalities)])
        if pid == rdm.DMX_PERSONALITY_DESCRIPTION:
            n = data[0] if len(data) == 1 else 0
            if not 1 <= n <= len(self.personalities):
                raise _No(0x0006 if data else 0x0001)
            words, wide, _ = self.personalities[n - 1]
            return rdm.encode_personality(rdm.Personality(n, wide, words))
        if pid == rdm.DMX_START_ADDRESS:
            return struct.pack(">H", self.address)
        if pid == rdm.IDENTIFY_DEVICE:
            return bytes([self.identify])
        if pid == rdm.SLOT_INFO:
            return rdm.encode_slots([i for i, _ in infos])
        if pid == rdm.SLOT_DESCRIPTION:
            offset = struct.unpack(">H", data)[0] if len(data) == 2 else -1
            words = next((w for i, w in infos if i.offset == offset), None)  # type: ignore[assignment]
            if words is None:
                raise _No(0x0006)
            return data + rdm.encode_text(words)
        if pid == rdm.DEVICE_HOURS:
            return struct.pack(">I", self.hours)
        if pid in (rdm.SENSOR_DEFINITION, rdm.SENSOR_VALUE):
            if data != b"\0":
                raise _No(0x0006)
            return rdm.encode_sensor(HEAT) if pid == rdm.SENSOR_DEFINITION else struct.pack(">Bhhhh", 0, 415, 0, 0, 0)
        raise _No(0x0000)

    def _info_of(self, sub: int) -> rdm.DeviceInfo:
        """What the lamp itself, or one of its parts, says in DEVICE_INFO. A part has one personality, no sensor."""
        whole = sub == rdm.ROOT
        address, wide = (self.address, self.personalities[self.personality - 1][1]) if whole else self.parts[sub]
        return rdm.DeviceInfo(
            self.model,
            category=0x0101,
            software=0x0104,
            footprint=wide,
            personality=self.personality if whole else 1,
            personalities=len(self.personalities) if whole else 1,
            address=address,
            subs=len(self.parts),
            sensors=1 if whole else 0,
        )

    def _answer_set(self, request: RdmPacket) -> bytes:
        if self.fault == "stubborn":
            raise _No(0x0004)
        data, pid = request.data, request.pid
        if pid == rdm.DMX_START_ADDRESS:
            address = struct.unpack(">H", data)[0] if len(data) == 2 else 0
            if not 1 <= address <= 512:
                raise _No(0x0006 if len(data) == 2 else 0x0001)
            self.address = self.address if self.fault == "forgets" else address
        elif pid == rdm.DMX_PERSONALITY:
            if len(data) != 1 or not 1 <= data[0] <= len(self.personalities):
                raise _No(0x0006)
            self.personality = self.personality if self.fault == "forgets" else data[0]
        elif pid == rdm.DEVICE_LABEL:
            self.label = rdm.decode_text(data)
        elif pid == rdm.IDENTIFY_DEVICE:
            if data not in (b"\0", b"\1"):
                raise _No(0x0006)
            self.identify = data == b"\1"
        else:
            raise _No(0x0005 if pid in rdm.NAMES else 0x0000)
        return b""


class _No(Exception):
    def __init__(self, reason: int) -> None:
        self.reason = reason


class LampPort:
    """All responders of one port."""

    def __init__(self, responders: Iterable[Responder] = ()) -> None:
        self.responders = list(responders)
        self.table: list[int] = []
        self.searched = False
        self.ready_at = 0.0

    def ask_line(self, request: RdmPacket) -> RdmPacket | None:
        """Put a request on the line; broadcasts are obeyed and not answered."""
        said = None
        for r in self.responders:
            if request.to == r.uid:
                said = r.take_request(request)
            elif request.to in (rdm.BROADCAST, (r.uid >> 32) << 32 | 0xFFFF_FFFF):
                r.take_request(request)
        return said

    def answer_branch(self, low: int, high: int) -> bytes | None:
        """What comes back from a branch: one answer, several over each other, or silence."""
        answers = []
        for r in self.responders:
            if r.muted or r.fault == "deaf" or not low <= r.uid <= high:
                continue
            raw = rdm.encode_branch(r.uid)
            if r.fault == "collides" and r.damaged < 2:
                r.damaged += 1
                raw = raw[:9] + bytes([raw[9] ^ 0x14]) + raw[10:]
            answers.append(raw)
        return bytes(_overflow_octets(octets) for octets in zip(*answers)) if answers else None

    def search_line(self) -> list[int]:
        """Find everybody, as a gateway does."""
        looking = rdm.search_responders()
        ask = next(looking)
        try:
            while True:
                came: bytes | None = None
                if ask.kind == "unmute":
                    self.ask_line(RdmPacket(rdm.BROADCAST, 0, rdm.DISCOVERY, rdm.DISC_UN_MUTE))
                elif ask.kind == "mute":
                    came = b"\0" if self.ask_line(RdmPacket(ask.low, 0, rdm.DISCOVERY, rdm.DISC_MUTE)) else None
                else:
                    came = self.answer_branch(ask.low, ask.high)
                ask = looking.send(came)
        except StopIteration as e:
            self.table, self.searched = list(e.value), True
        except rdm.Disturbed as e:
            self.table, self.searched = e.found, True
        return self.table


def _overflow_octets(octets: tuple[int, ...]) -> int:
    made = 0
    for o in octets:
        made |= o
    return made


# ---- lamps of a rig


def uid_of(rig: Rig, key: str) -> int:
    """The UID of a fixture's stand-in: its own where the rig knows it, else made from its id, out of the range for
    prototypes."""
    f = rig.fixtures[key]
    if f.uid:
        return rdm.read_uid(f.uid)
    return 0x7FF1 << 32 | zlib.crc32(key.encode()) & 0xFFFF_FFFE


def responder_of(rig: Rig, key: str, address: int, as_planned: bool, clock: Callable[[], float]) -> Responder | None:
    """The lamp of a fixture: set as planned, or as it leaves the factory (address 1, first personality)."""
    f = rig.fixtures[key]
    profile, mode = profile_of(rig, f), mode_of(rig, f)
    if profile is None or mode is None:
        return None
    modes = [m for m in profile.modes.values() if m.breaks[0].slots]
    if not modes:
        return None
    number = modes.index(mode) + 1 if as_planned and mode in modes else 1
    return Responder(
        uid_of(rig, key),
        zlib.crc32(f"{profile.maker} {profile.name}".encode()) & 0xFFFF,
        profile.name,
        profile.maker,
        [(m.name, m.breaks[0].slots, _slots_of_mode(m)) for m in modes[:255]],
        number,
        address if as_planned and address else 1,
        "",
        clock=clock,
        name=str(f.number),
    )


def _slots_of_mode(mode: Mode) -> list[tuple[rdm.SlotInfo, str]]:
    found: list[tuple[rdm.SlotInfo, str]] = []
    for c in mode.channels:
        if c.break_no:
            continue
        words = word_for(c.function, c.name)
        stem = c.function.rstrip("0123456789")
        label = next((v for k, v in _LABELS.items() if k in (c.function, f"{stem}1", stem)), 0xFFFF)
        found.append((rdm.SlotInfo(c.slots[0] - 1, 0, label), words))
        found += [(rdm.SlotInfo(s - 1, 1, c.slots[0] - 1), f"{words} fine") for s in c.slots[1:]]
    return sorted(found, key=lambda x: x[0].offset)
