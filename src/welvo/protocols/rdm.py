"""RDM (ANSI E1.20): frames, parameters and the search for responders, without I/O.

A UID is a whole number of 48 bits: the maker's 16 above the device's 32. A frame is written from its start code 0xCC to
its checksum; ArtRdm carries it without the start code, though the checksum still counts it (`for_artnet`).
"""

from __future__ import annotations

import re
import struct
from collections.abc import Generator, Iterable
from typing import Literal, NamedTuple

from msgspec import Struct

from welvo.protocols.wire import WireError, read_text_field

START, SUB_START = 0xCC, 0x01
HIGHEST_UID = 0xFFFF_FFFF_FFFE
BROADCAST = 0xFFFF_FFFF_FFFF
ROOT = 0
MOST_SLOTS, NO_ADDRESS = 512, 0xFFFF
"""Slots, addresses and sub-devices at the most, and the address of who takes no slots (E1.20, 10.5.1)."""
MOST_DATA = 231

DISCOVERY, DISCOVERY_RESPONSE = 0x10, 0x11
GET, GET_RESPONSE, SET, SET_RESPONSE = 0x20, 0x21, 0x30, 0x31
CLASSES = (DISCOVERY, DISCOVERY_RESPONSE, GET, GET_RESPONSE, SET, SET_RESPONSE)

ACK, ACK_TIMER, NACK, ACK_OVERFLOW = 0, 1, 2, 3

DISC_UNIQUE_BRANCH, DISC_MUTE, DISC_UN_MUTE = 0x0001, 0x0002, 0x0003
QUEUED_MESSAGE, STATUS_MESSAGES = 0x0020, 0x0030
SUPPORTED_PARAMETERS, PARAMETER_DESCRIPTION = 0x0050, 0x0051
DEVICE_INFO, DEVICE_MODEL_DESCRIPTION, MANUFACTURER_LABEL, DEVICE_LABEL = 0x0060, 0x0080, 0x0081, 0x0082
FACTORY_DEFAULTS, SOFTWARE_VERSION_LABEL = 0x0090, 0x00C0
DMX_PERSONALITY, DMX_PERSONALITY_DESCRIPTION, DMX_START_ADDRESS = 0x00E0, 0x00E1, 0x00F0
SLOT_INFO, SLOT_DESCRIPTION, DEFAULT_SLOT_VALUE = 0x0120, 0x0121, 0x0122
SENSOR_DEFINITION, SENSOR_VALUE, RECORD_SENSORS = 0x0200, 0x0201, 0x0202
DEVICE_HOURS, LAMP_HOURS, LAMP_STRIKES, DEVICE_POWER_CYCLES = 0x0400, 0x0401, 0x0402, 0x0405
IDENTIFY_DEVICE, RESET_DEVICE = 0x1000, 0x1001


NAMES: dict[int, str] = {
    QUEUED_MESSAGE: "queued message", STATUS_MESSAGES: "status messages",
    SUPPORTED_PARAMETERS: "supported parameters", PARAMETER_DESCRIPTION: "parameter description",
    DEVICE_INFO: "device info", DEVICE_MODEL_DESCRIPTION: "model", MANUFACTURER_LABEL: "maker", DEVICE_LABEL: "label",
    FACTORY_DEFAULTS: "factory defaults", SOFTWARE_VERSION_LABEL: "software", DMX_PERSONALITY: "personality",
    DMX_PERSONALITY_DESCRIPTION: "personality description", DMX_START_ADDRESS: "address", SLOT_INFO: "slots",
    SLOT_DESCRIPTION: "slot description", DEFAULT_SLOT_VALUE: "default slot values",
    SENSOR_DEFINITION: "sensor definition", SENSOR_VALUE: "sensor", RECORD_SENSORS: "record sensors",
    DEVICE_HOURS: "device hours", LAMP_HOURS: "lamp hours", LAMP_STRIKES: "lamp strikes",
    DEVICE_POWER_CYCLES: "power cycles", IDENTIFY_DEVICE: "identify", RESET_DEVICE: "reset",
}  # fmt: skip

NACKS: dict[int, str] = {
    0x0000: "it does not know this parameter", 0x0001: "the request has another form than it takes",
    0x0002: "its hardware has a fault", 0x0003: "the proxy refuses it", 0x0004: "it is locked against writing",
    0x0005: "it cannot do that with this parameter", 0x0006: "the value is out of its range",
    0x0007: "its buffer is full", 0x0008: "the packet is too long for it", 0x0009: "it has no such sub-device",
    0x000A: "the proxy's buffer is full", 0x000B: "it does not support this action",
    0x000C: "there is no such endpoint", 0x000D: "the endpoint cannot be in that mode",
    0x000E: "it does not know that UID", 0x000F: "it does not know that scope",
    0x0010: "that is no static configuration", 0x0011: "that is no IPv4 address", 0x0012: "that is no IPv6 address",
    0x0013: "that is no port",
}  # fmt: skip
"""Reasons of a refusal in words (E1.20, table A-17, and later standards of the family)."""


def say_uid(uid: int) -> str:
    """`7FF0:00000101`."""
    return f"{uid >> 32:04X}:{uid & 0xFFFF_FFFF:08X}"


def read_uid(text: str) -> int:
    """A UID as it is printed. Raises WireError."""
    m = re.fullmatch(r"\s*([0-9A-Fa-f]{4})\s*[:.]?\s*([0-9A-Fa-f]{8})\s*", text)
    if not m:
        raise WireError("UID", f"“{text.strip()}” is none; write 7FF0:00000101")
    return int(m[1], 16) << 32 | int(m[2], 16)


def uid_bytes(uid: int) -> bytes:
    if not 0 <= uid <= BROADCAST:
        raise WireError("UID", f"{uid} has more than 48 bits")
    return uid.to_bytes(6, "big")


# ---- frames


class RdmPacket(Struct, frozen=True):
    """One RDM packet (E1.20, 6.2). `port` is the port's number in a request (1 to 255), the response type in an
    answer."""

    to: int
    source: int
    command: int
    pid: int
    data: bytes = b""
    transaction: int = 0
    port: int = 1
    count: int = 0
    sub: int = ROOT


def checksum_of(raw: bytes) -> int:
    return sum(raw) & 0xFFFF


def encode_rdm(f: RdmPacket) -> bytes:
    """The bytes from the start code to the checksum. Raises WireError for what no frame can hold."""
    if len(f.data) > MOST_DATA:
        raise WireError("PDL", f"{len(f.data)} octets are more than {MOST_DATA}")
    if f.command not in CLASSES:
        raise WireError("command class", f"0x{f.command:02X} is none")
    try:
        raw = bytes([START, SUB_START, 24 + len(f.data)]) + uid_bytes(f.to) + uid_bytes(f.source)
        raw += struct.pack(">BBBHBHB", f.transaction, f.port, f.count, f.sub, f.command, f.pid, len(f.data)) + f.data
    except struct.error as e:
        raise WireError("header", str(e)) from None
    return raw + struct.pack(">H", checksum_of(raw))


def decode_rdm(raw: bytes) -> RdmPacket:
    """Read a frame. Raises WireError, naming the field that is wrong."""
    if len(raw) < 26:
        raise WireError("packet", f"{len(raw)} octets are too few for RDM")
    if raw[0] != START or raw[1] != SUB_START:
        raise WireError("start code", "is not RDM's")
    length = raw[2]
    if length < 24 or len(raw) < length + 2:
        raise WireError("message length", f"{length} does not fit {len(raw)} octets")
    if raw[23] != length - 24:
        raise WireError("PDL", f"{raw[23]} does not fit a length of {length}")
    if checksum_of(raw[:length]) != struct.unpack_from(">H", raw, length)[0]:
        raise WireError("checksum", "does not match")
    transaction, port, count, sub, command, pid, _ = struct.unpack_from(">BBBHBHB", raw, 15)
    if command not in CLASSES:
        raise WireError("command class", f"0x{command:02X} is none")
    return RdmPacket(
        int.from_bytes(raw[3:9], "big"), int.from_bytes(raw[9:15], "big"), command, pid, bytes(raw[24:length]),
        transaction, port, count, sub,
    )  # fmt: skip


def for_artnet(f: RdmPacket) -> bytes:
    """A frame as ArtRdm carries it: without its start code."""
    return encode_rdm(f)[1:]


def from_artnet(raw: bytes) -> RdmPacket:
    """A frame out of ArtRdm. One that was sent with its start code is an error all the same."""
    return decode_rdm(bytes([START]) + raw)


def answer_to(request: RdmPacket, source: int, data: bytes = b"", kind: int = ACK, count: int = 0) -> RdmPacket:
    """The answer of a responder to a request."""
    return RdmPacket(
        request.source, source, request.command + 1, request.pid, data, request.transaction, kind, count, request.sub
    )


# ---- DISC_UNIQUE_BRANCH


def encode_branch(uid: int, preamble: int = 7) -> bytes:
    """What a responder sends when a branch holds it (E1.20, 7.5): no break, every octet twice with other bits set."""
    coded = b"".join(bytes([b | 0xAA, b | 0x55]) for b in uid_bytes(uid))
    sum_ = struct.pack(">H", checksum_of(coded))
    return b"\xfe" * preamble + b"\xaa" + coded + b"".join(bytes([b | 0xAA, b | 0x55]) for b in sum_)


def decode_branch(raw: bytes) -> int | None:
    """The one UID that answered a branch; None for anything else, which is a collision."""
    at = raw.find(b"\xaa")
    if not 0 <= at <= 7 or raw[:at].strip(b"\xfe") or len(raw) < at + 17:
        return None
    coded = raw[at + 1 : at + 17]
    plain = bytes(coded[n] & coded[n + 1] for n in range(0, 16, 2))
    if struct.unpack(">H", plain[6:])[0] != checksum_of(coded[:12]):
        return None
    return int.from_bytes(plain[:6], "big")


class Ask(NamedTuple):
    """A question of the search: un-mute everybody, mute one, or who is in a branch from `low` to `high`."""

    kind: Literal["unmute", "mute", "branch"]
    low: int = 0
    high: int = 0


MUTES = 3
"""How often a muting that nobody answers is tried."""
MOST_FRUITLESS = 400
"""Questions that met a collision and led to nobody, in a row, after which a line counts as disturbed. A tree of UIDs
is 48 deep, so that even a line that damages most answers finds somebody far sooner."""


class Disturbed(Exception):
    """A search that meets nothing but collisions: noise, a lamp that talks all the time, or no terminator. `found` are
    those that were found until then."""

    def __init__(self, found: list[int]) -> None:
        super().__init__(f"{MOST_FRUITLESS} branches in a row only collided")
        self.found = found


def search_responders(known: tuple[int, ...] = (), unmute: bool = True) -> Generator[Ask, bytes | None, list[int]]:
    """Finds every responder of a line (E1.20, 7.6) by questions that whoever runs it puts on the line.

    To `branch` it must be sent the octets that came back, or None for silence; to `mute` an answer or None; to `unmute`
    anything. It gives the UIDs. With `known` ones and without un-muting it finds those that came since. Raises
    Disturbed.
    """
    found: list[int] = []
    fruitless = 0
    if unmute:
        yield Ask("unmute")
        yield Ask("unmute")  # nobody acknowledges it
    for uid in known:
        if (yield from _mute_responder(uid)):
            found.append(uid)
    # Everybody is asked once more at the end: a lamp whose answer came too late or damaged in its branch is found then.
    stack = [(0, HIGHEST_UID)] * 2
    twice: dict[tuple[int, int, int], int] = {}
    while stack:
        low, high = stack.pop()
        if low == high:
            if low not in found:
                there = yield from _mute_responder(low)
                found += [low] if there else []
                fruitless = 0 if there else fruitless + MUTES
            continue
        came = yield Ask("branch", low, high)
        if came is None:
            continue
        one = decode_branch(came)
        fruitless += one is None  # a lamp that is heard alone, and will not be muted, is no disturbance
        if fruitless > MOST_FRUITLESS:
            raise Disturbed(found)
        again = twice.get((low, high, one or 0), 0)
        if one is not None and low <= one <= high and again < MUTES:
            twice[low, high, one] = again + 1
            if (yield from _mute_responder(one)):
                if one not in found:
                    found.append(one)
                    fruitless = 0
                stack.append((low, high))
                continue
        middle = (low + high) // 2
        stack += [(middle + 1, high), (low, middle)]
    return found


def responders_of_table(uids: Iterable[int]) -> list[int]:
    """Those of a table that can be lamps, each once and in its order: the null UID and broadcasts, to everybody or to
    all of one maker (E1.20, 5.1), are nobody's."""
    return [uid for uid in dict.fromkeys(uids) if uid and uid & 0xFFFFFFFF != 0xFFFFFFFF]


def _mute_responder(uid: int) -> Generator[Ask, bytes | None, bool]:
    for _ in range(MUTES):
        if (yield Ask("mute", uid, uid)) is not None:
            return True
    return False


# ---- parameters


class DeviceInfo(Struct, frozen=True):
    """DEVICE_INFO (E1.20, 10.5.1). `personality` counts from 1; `address` is 0 where it takes no slots."""

    model: int
    category: int
    software: int
    footprint: int
    personality: int
    personalities: int
    address: int
    subs: int = 0
    sensors: int = 0


def encode_info(i: DeviceInfo) -> bytes:
    return struct.pack(
        ">HHHIHBBHHB", 0x0100, i.model, i.category, i.software, i.footprint, i.personality, i.personalities,
        i.address or 0xFFFF, i.subs, i.sensors,
    )  # fmt: skip


def decode_info(data: bytes) -> DeviceInfo:
    if len(data) != 19:
        raise WireError("DEVICE_INFO", f"{len(data)} octets instead of 19")
    _, model, category, software, footprint, now, count, address, subs, sensors = struct.unpack(">HHHIHBBHHB", data)
    # on a disturbed line two wrong octets may make up for each other in the checksum
    told = {"footprint": footprint, "address": 0 if address == NO_ADDRESS else address, "sub-devices": subs}
    for what, value in told.items():
        if value > MOST_SLOTS:
            raise WireError("DEVICE_INFO", f"{what} {value}; {MOST_SLOTS} is the most there can be")
    return DeviceInfo(
        model,
        category=category,
        software=software,
        footprint=footprint,
        personality=now,
        personalities=count,
        address=0 if address == NO_ADDRESS else address,
        subs=subs,
        sensors=sensors,
    )


def decode_text(data: bytes) -> str:
    """A label: no terminator, 32 octets at most; what is no text becomes a mark."""
    return read_text_field(data[:32])


def encode_text(text: str) -> bytes:
    raw = text.encode("utf-8")[:32]
    while raw:
        try:
            raw.decode("utf-8")
            break
        except UnicodeDecodeError:
            raw = raw[:-1]
    return raw


def unpack_numbers(form: str, data: bytes, what: str) -> tuple[int, ...]:
    """The numbers of a parameter's data. Raises WireError when its length is another one."""
    if len(data) != struct.calcsize(form):
        raise WireError(what, f"{len(data)} octets instead of {struct.calcsize(form)}")
    return struct.unpack(form, data)


class Personality(Struct, frozen=True):
    number: int
    slots: int
    name: str


def decode_personality(data: bytes) -> Personality:
    if len(data) < 3:
        raise WireError("DMX_PERSONALITY_DESCRIPTION", f"{len(data)} octets are too few")
    number, slots = struct.unpack_from(">BH", data)
    if slots > MOST_SLOTS:
        raise WireError("DMX_PERSONALITY_DESCRIPTION", f"{slots} slots; {MOST_SLOTS} is the most there can be")
    return Personality(number, slots, decode_text(data[3:]))


def encode_personality(p: Personality) -> bytes:
    return struct.pack(">BH", p.number, p.slots) + encode_text(p.name)


class SlotInfo(Struct, frozen=True):
    """One slot: `kind` 0 is a primary one, whose `label` says what it does; of others `label` is the primary's
    offset."""

    offset: int
    kind: int
    label: int


def decode_slots(data: bytes) -> list[SlotInfo]:
    if len(data) % 5:
        raise WireError("SLOT_INFO", f"{len(data)} octets are no whole slots")
    return [SlotInfo(*struct.unpack_from(">HBH", data, n)) for n in range(0, len(data), 5)]


def encode_slots(slots: list[SlotInfo]) -> bytes:
    return b"".join(struct.pack(">HBH", s.offset, s.kind, s.label) for s in slots)


def decode_pids(data: bytes) -> list[int]:
    if len(data) % 2:
        raise WireError("SUPPORTED_PARAMETERS", f"{len(data)} octets are no whole parameters")
    return list(struct.unpack(f">{len(data) // 2}H", data))


class Sensor(Struct, frozen=True):
    """SENSOR_DEFINITION (E1.20, 10.7.1). Ranges are in the sensor's own steps."""

    number: int
    kind: int
    unit: int
    prefix: int
    low: int
    high: int
    normal_low: int
    normal_high: int
    recorded: int
    name: str


UNITS = {0: "", 1: "°C", 2: "V", 4: "V", 5: "A", 7: "A", 8: "Hz", 10: "W", 21: "s"}
PREFIXES = {0: 1.0, 1: 0.1, 2: 0.01, 3: 0.001, 0x11: 10.0, 0x12: 100.0, 0x13: 1000.0}


def decode_sensor(data: bytes) -> Sensor:
    if len(data) < 13:
        raise WireError("SENSOR_DEFINITION", f"{len(data)} octets are too few")
    number, kind, unit, prefix, low, high, usual_low, usual_high, recorded = struct.unpack_from(">BBBBhhhhB", data)
    return Sensor(
        number,
        kind=kind,
        unit=unit,
        prefix=prefix,
        low=low,
        high=high,
        normal_low=usual_low,
        normal_high=usual_high,
        recorded=recorded,
        name=decode_text(data[13:]),
    )


def encode_sensor(s: Sensor) -> bytes:
    numbers = (s.number, s.kind, s.unit, s.prefix, s.low, s.high, s.normal_low, s.normal_high, s.recorded)
    return struct.pack(">BBBBhhhhB", *numbers) + encode_text(s.name)


def say_sensor(s: Sensor, value: int) -> str:
    """A measured value in its unit."""
    return f"{value * PREFIXES.get(s.prefix, 1.0):g} {UNITS.get(s.unit, '')}".strip()


class Status(Struct, frozen=True):
    """One STATUS_MESSAGE (E1.20, 10.3.2)."""

    sub: int
    kind: int
    id: int
    value1: int
    value2: int


def decode_statuses(data: bytes) -> list[Status]:
    if len(data) % 9:
        raise WireError("STATUS_MESSAGES", f"{len(data)} octets are no whole messages")
    return [Status(*struct.unpack_from(">HBHhh", data, n)) for n in range(0, len(data), 9)]


SLOT_WORDS: dict[int, str] = {
    0x0001: "Dimmer", 0x0002: "Dimmer", 0x0101: "Pan", 0x0102: "Tilt", 0x0201: "Color1", 0x0202: "ColorSub_C",
    0x0203: "ColorSub_Y", 0x0204: "ColorSub_M", 0x0205: "ColorAdd_R", 0x0206: "ColorAdd_G", 0x0207: "ColorAdd_B",
    0x0208: "CTO", 0x0301: "Gobo1", 0x0302: "Gobo1PosRotate", 0x0303: "Prism1", 0x0304: "Effects1", 0x0401: "Iris",
    0x0402: "Focus1", 0x0403: "Frost1", 0x0404: "Shutter1", 0x0405: "Zoom", 0x0501: "LampControl",
    0x0502: "Control1", 0x0503: "PositionMSpeed", 0x0504: "Macro1",
}  # fmt: skip
"""GDTF attributes for the label ids of primary slots (E1.20, table C-2)."""
