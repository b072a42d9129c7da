"""Streaming ACN, ANSI E1.31-2018. Section numbers refer to that standard."""

from __future__ import annotations

import struct

from msgspec import Struct

from welvo.protocols.wire import WireError, read_text_field, step_of, text_field
from welvo.rig.protocol import PROTOCOLS, Protocol

KEY: Protocol = "sacn"
PORT = PROTOCOLS[KEY].port
IDENTIFIER = b"ASC-E1.17\0\0\0"  # 5.3
ROOT_DATA, ROOT_EXTENDED = 0x00000004, 0x00000008  # 5.5
FRAME_DATA = 0x00000002  # 6.2.1
EXTENDED_SYNC, EXTENDED_DISCOVERY = 0x00000001, 0x00000002  # 6.3.1, 6.4.1
DISCOVERY_UNIVERSE = 64214  # 12.1
PREVIEW, TERMINATED, FORCE_SYNC = 0x80, 0x40, 0x20  # 6.2.6
DATA_LOSS = PROTOCOLS[KEY].lost_after
"""Seconds without a packet after which a source is gone (6.7.1)."""
SEQUENCE_AT, OPTIONS_AT, SLOTS_AT = 111, 112, 126
"""Offsets that a sender patches in a prebuilt packet."""
LIST_AT, UNIVERSE_LIST = 120, 0x00000001  # 8
DISCOVERY_LOSS = 25.0
"""Seconds after which a source that no longer announces its universes is forgotten: two intervals of 10 s and a half
(4.3)."""


class Data(Struct, frozen=True):
    """One E1.31 data packet (6.2, 7). `slots` are 0 to 512 levels behind `start_code`."""

    cid: bytes
    universe: int
    slots: bytes
    name: str = ""
    priority: int = 100
    sequence: int = 0
    options: int = 0
    sync: int = 0
    start_code: int = 0

    @property
    def is_terminated(self) -> bool:
        return bool(self.options & TERMINATED)

    @property
    def is_preview(self) -> bool:
        return bool(self.options & PREVIEW)


class SyncPacket(Struct, frozen=True):
    """Universe synchronization (6.3)."""

    cid: bytes
    address: int
    sequence: int = 0


class Discovery(Struct, frozen=True):
    """One page of the list of universes a source transmits (6.4, 8)."""

    cid: bytes
    name: str
    universes: tuple[int, ...]
    page: int = 0
    last_page: int = 0


Packet = Data | SyncPacket | Discovery


def group_of_universe(universe: int) -> str:
    """The IPv4 multicast group of a universe (9.3.1)."""
    return f"239.255.{universe >> 8}.{universe & 255}"


def _flags_and_length(length: int) -> int:
    return 0x7000 | length  # 5.4: flags 0x7, 12-bit length counted from the flags themselves


def _root_layer(cid: bytes, vector: int, total: int) -> bytes:
    if len(cid) != 16 or not any(cid):
        raise WireError("CID", "must be 16 octets and not all zero")
    return struct.pack(">HH12sHI16s", 0x0010, 0, IDENTIFIER, _flags_and_length(total - 16), vector, cid)


def encode_sacn(packet: Packet) -> bytes:
    """Bytes of a packet. Raises WireError when a value does not fit the standard."""
    if isinstance(packet, Data):
        return _encode_data(packet)
    if isinstance(packet, SyncPacket):
        _check_universe("synchronization address", packet.address)
        return _root_layer(packet.cid, ROOT_EXTENDED, 49) + struct.pack(
            ">HIBHH", _flags_and_length(11), EXTENDED_SYNC, packet.sequence, packet.address, 0
        )
    count = len(packet.universes)
    if count > 512 or list(packet.universes) != sorted(set(packet.universes)):
        raise WireError("universe list", "at most 512 universes a page, ascending")
    total = LIST_AT + 2 * count
    return (
        _root_layer(packet.cid, ROOT_EXTENDED, total)
        + struct.pack(">HI64sI", _flags_and_length(total - 38), EXTENDED_DISCOVERY, text_field(packet.name, 64), 0)
        + struct.pack(">HIBB", _flags_and_length(total - 112), UNIVERSE_LIST, packet.page, packet.last_page)
        + struct.pack(f">{count}H", *packet.universes)
    )


def _check_universe(field: str, universe: int) -> None:
    if not 1 <= universe <= 63999:
        raise WireError(field, f"{universe} is not in 1..63999")


def _encode_data(p: Data) -> bytes:
    _check_universe("universe", p.universe)
    if not 0 <= p.priority <= 200:
        raise WireError("priority", f"{p.priority} is not in 0..200")
    if len(p.slots) > 512:
        raise WireError("slots", f"{len(p.slots)} are more than 512")
    total = 126 + len(p.slots)
    return (
        _root_layer(p.cid, ROOT_DATA, total)
        + struct.pack(
            ">HI64sBHBBH",
            _flags_and_length(total - 38),
            FRAME_DATA,
            text_field(p.name, 64),
            p.priority,
            p.sync,
            p.sequence & 255,
            p.options,
            p.universe,
        )
        + struct.pack(">HBBHHHB", _flags_and_length(total - 115), 0x02, 0xA1, 0, 1, len(p.slots) + 1, p.start_code)
        + p.slots
    )


def decode_sacn(raw: bytes) -> Packet:
    """Read a packet; whatever breaks a rule of the standard is a WireError that names the field.

    Lengths must agree with each other and with what is there; octets behind the end of the root layer are not read.
    """
    if len(raw) < 38:
        raise WireError("packet", f"{len(raw)} octets are too few for a root layer")
    preamble, post, identifier, flags, vector = struct.unpack_from(">HH12sHI", raw)
    if preamble != 0x0010 or post != 0:
        raise WireError("preamble", f"0x{preamble:04X}/0x{post:04X} instead of 0x0010/0x0000")
    if identifier != IDENTIFIER:
        raise WireError("packet identifier", "is not ASC-E1.17")
    end = _end_of_layer("root length", flags, 16, len(raw))
    cid = raw[22:38]
    if not any(cid):
        raise WireError("CID", "is all zero")
    if vector == ROOT_DATA:
        return _decode_data(raw, cid, end)
    if vector == ROOT_EXTENDED:
        return _decode_extended(raw, cid, end)
    raise WireError("root vector", f"0x{vector:08X} is unknown")


def _end_of_layer(field: str, flags: int, start: int, most: int, exactly: bool = False) -> int:
    """Where a layer that begins at `start` ends, by its own flags and length (5.4)."""
    end = start + (flags & 0xFFF)
    if flags >> 12 != 7 or end > most or (exactly and end != most):
        raise WireError(field, f"0x{flags:04X} does not fit {most} octets")
    return end


def _decode_data(raw: bytes, cid: bytes, end: int) -> Data:
    if end < SLOTS_AT:
        raise WireError("packet", f"{end} octets are too few for a data packet")
    flags, vector, name, priority, sync, sequence, options, universe = struct.unpack_from(">HI64sBHBBH", raw, 38)
    _end_of_layer("framing length", flags, 38, end, exactly=True)
    if vector != FRAME_DATA:
        raise WireError("framing vector", f"0x{vector:08X} is not a data packet")
    dmp, dmp_vector, kind, first, step, count, start = struct.unpack_from(">HBBHHHB", raw, 115)
    if dmp_vector != 0x02 or kind != 0xA1 or first != 0 or step != 1:
        raise WireError("DMP layer", "vector, type, first address or increment is not the standard's")
    _end_of_layer("DMP length", dmp, 115, end, exactly=True)
    if not 1 <= count <= 513 or 125 + count != end:
        raise WireError("property count", f"{count} does not fit {end} octets")
    if priority > 200:
        raise WireError("priority", f"{priority} is reserved")
    if sync:
        _check_universe("synchronization address", sync)
    _check_universe("universe", universe)
    return Data(cid, universe, raw[SLOTS_AT:end], read_text_field(name), priority, sequence, options, sync, start)


def _decode_extended(raw: bytes, cid: bytes, end: int) -> Packet:
    if end < 49:
        raise WireError("packet", f"{end} octets are too few for an extended packet")
    flags, vector = struct.unpack_from(">HI", raw, 38)
    _end_of_layer("framing length", flags, 38, end, exactly=True)
    if vector == EXTENDED_SYNC:
        if end != 49:
            raise WireError("packet", f"{end} octets are not a synchronization packet's 49")
        sequence, address = struct.unpack_from(">BH", raw, 44)
        _check_universe("synchronization address", address)
        return SyncPacket(cid, address, sequence)
    if vector == EXTENDED_DISCOVERY:
        return _decode_discovery(raw, cid, end)
    raise WireError("extended vector", f"0x{vector:08X} is unknown")


def _decode_discovery(raw: bytes, cid: bytes, end: int) -> Discovery:
    if end < LIST_AT:
        raise WireError("packet", f"{end} octets are too few for a discovery packet")
    flags, vector, page, last = struct.unpack_from(">HIBB", raw, 112)
    _end_of_layer("universe list length", flags, 112, end, exactly=True)
    if vector != UNIVERSE_LIST:
        raise WireError("universe list vector", f"0x{vector:08X} is no universe list")
    count, odd = divmod(end - LIST_AT, 2)
    if odd or count > 512:
        raise WireError("universe list", f"{end - LIST_AT} octets are no list of 0 to 512 universes")
    if page > last:
        raise WireError("page", f"{page} is behind the last one, {last}")
    return Discovery(cid, read_text_field(raw[44:108]), struct.unpack_from(f">{count}H", raw, LIST_AT), page, last)


def sacn_accepts(last: int | None, new: int) -> bool:
    """Whether a sequence number is taken (6.7.2): refused when the step back is 0 to 19."""
    return last is None or not -20 < step_of(last, new) <= 0
