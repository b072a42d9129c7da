"""DDP, the Distributed Display Protocol: one running stream of octets into a display's memory. UDP 4048, big-endian."""

from __future__ import annotations

import struct

from msgspec import Struct

from welvo.protocols.wire import WireError
from welvo.rig.protocol import PROTOCOLS, Protocol

KEY: Protocol = "ddp"
PORT = PROTOCOLS[KEY].port
MOST = 1440
"""Octets of data in one packet at most: 480 RGB pixels."""
VERSION, TIMECODE, STORAGE, REPLY, QUERY, PUSH = 0x40, 0x10, 0x08, 0x04, 0x02, 0x01
UNDEFINED, RGB, RGBW = 0x00, 0x0B, 0x1B
"""Data types of 8 bits an element; undefined is what mixed data is sent as."""
DISPLAY, CONFIG, STATUS, ALL = 1, 250, 251, 255
SEQUENCE_AT, HEAD = 1, 10
_HEAD = struct.Struct(">BBBBIH")


class Packet(Struct, frozen=True):
    """Data for `destination` from octet `offset` on. `push` shows all that came since the last push.

    `sequence` runs from 1 to 15; 0 means that it is not used. A query has no data and asks for `wanted` octets.
    """

    data: bytes = b""
    offset: int = 0
    push: bool = False
    sequence: int = 0
    kind: int = UNDEFINED
    destination: int = DISPLAY
    flags: int = 0
    wanted: int = 0
    timecode: int | None = None


def encode_ddp(p: Packet) -> bytes:
    """Raises WireError for what no packet can carry."""
    if not 0 <= p.sequence <= 15:
        raise WireError("sequence", f"{p.sequence} is not 0 to 15")
    if not 1 <= p.destination <= 255:
        raise WireError("destination", f"{p.destination} is not 1 to 255")
    if len(p.data) > MOST:
        raise WireError("data length", f"{len(p.data)} octets are more than {MOST}")
    if not 0 <= p.offset <= 0xFFFFFFFF:
        raise WireError("data offset", f"{p.offset} does not fit 32 bits")
    flags = (
        VERSION
        | p.flags & (STORAGE | REPLY | QUERY)
        | (PUSH if p.push else 0)
        | (TIMECODE if p.timecode is not None else 0)
    )
    length = p.wanted if p.flags & QUERY else len(p.data)
    head = _HEAD.pack(flags, p.sequence, p.kind, p.destination, p.offset, length)
    return head + (struct.pack(">I", p.timecode) if p.timecode is not None else b"") + p.data


def decode_ddp(raw: bytes) -> Packet:
    """Raises WireError that names the field."""
    if len(raw) < HEAD:
        raise WireError("packet", f"{len(raw)} octets are too few; the header alone has {HEAD}")
    flags, sequence, kind, destination, offset, length = _HEAD.unpack_from(raw)
    if flags & 0xC0 != VERSION:
        raise WireError("flags", f"version {flags >> 6} is not 1")
    if sequence & 0xF0:
        raise WireError("sequence", f"{sequence:#04x} uses the high half, which is 0")
    at, timecode = HEAD, None
    if flags & TIMECODE:
        if len(raw) < HEAD + 4:
            raise WireError("timecode", "it is announced and not there")
        at, timecode = HEAD + 4, struct.unpack_from(">I", raw, HEAD)[0]
    rest = flags & (STORAGE | REPLY | QUERY)
    if flags & QUERY:
        return Packet(
            b"",
            offset=offset,
            push=bool(flags & PUSH),
            sequence=sequence,
            kind=kind,
            destination=destination,
            flags=rest,
            wanted=length,
            timecode=timecode,
        )
    if len(raw) - at < length:
        raise WireError("data length", f"{length} octets are announced, {len(raw) - at} are there")
    return Packet(
        raw[at : at + length],
        offset=offset,
        push=bool(flags & PUSH),
        sequence=sequence,
        kind=kind,
        destination=destination,
        flags=rest,
        wanted=0,
        timecode=timecode,
    )


def packets_of_frame(data: bytes, destination: int = DISPLAY, kind: int = UNDEFINED) -> list[Packet]:
    """A whole frame as packets of rising offset; only the last one pushes."""
    cuts = range(0, max(1, len(data)), MOST)
    return [Packet(data[at : at + MOST], at, at == cuts[-1], kind=kind, destination=destination) for at in cuts]
