"""Art-Net 4. Field names are the standard's; opcode and Port-Address are little-endian, lengths big-endian."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field

from msgspec import Struct

from welvo.protocols.wire import WireError, read_text_field, step_of, text_field
from welvo.rig.protocol import PROTOCOLS, Protocol

KEY: Protocol = "artnet"
PORT = PROTOCOLS[KEY].port
DATA_LOSS = PROTOCOLS[KEY].lost_after
"""Seconds without a frame after which a source leaves the merge."""
IDENTIFIER = b"Art-Net\0"
VERSION = 14
OP_POLL, OP_POLL_REPLY, OP_DMX, OP_SYNC, OP_ADDRESS = 0x2000, 0x2100, 0x5000, 0x5200, 0x6000
OP_INPUT, OP_IP_PROG, OP_IP_PROG_REPLY = 0x7000, 0xF800, 0xF900
OP_TOD_REQUEST, OP_TOD_DATA, OP_TOD_CONTROL, OP_RDM, OP_RDM_SUB = 0x8000, 0x8100, 0x8200, 0x8300, 0x8400
RDM_VERSION = 1
MOST_UIDS = 200
"""UIDs in one ArtTodData."""
NO_CHANGE = 0x7F
"""Switch fields of ArtAddress: leave as it is."""
SEQUENCE_AT, SLOTS_AT = 12, 18
OEM_UNKNOWN = 0x00FF
ESTA_EXPERIMENTAL = 0x7FF0


class Poll(Struct, frozen=True):
    """ArtPoll: who is there? Flag bit 1 asks for replies on change, bit 4 disables VLC."""

    flags: int = 0x02
    priority: int = 0x10
    top: int = 0
    bottom: int = 0


@dataclass(frozen=True)
class PollReply:
    """ArtPollReply: one page of a node. Lists are by port of this page, at most four."""

    ip: tuple[int, int, int, int]
    short_name: str = ""
    long_name: str = ""
    report: str = ""
    firmware: int = 0
    net: int = 0
    sub: int = 0
    oem: int = OEM_UNKNOWN
    esta: int = ESTA_EXPERIMENTAL
    status1: int = 0xD0
    port_types: tuple[int, ...] = ()
    good_input: tuple[int, ...] = ()
    good_output: tuple[int, ...] = ()
    sw_in: tuple[int, ...] = ()
    sw_out: tuple[int, ...] = ()
    acn_priority: int = 100
    style: int = 0
    mac: bytes = bytes(6)
    bind_ip: tuple[int, int, int, int] = (0, 0, 0, 0)
    bind_index: int = 1
    status2: int = 0x1D
    good_output_b: tuple[int, ...] = ()
    status3: int = 0

    @property
    def count_ports(self) -> int:
        return len(self.port_types)


class Dmx(Struct, frozen=True):
    """ArtDmx: the levels of one Port-Address. Sequence 0 switches sequencing off."""

    address: int
    slots: bytes
    sequence: int = 0
    physical: int = 0


class ArtSync(Struct, frozen=True):
    """ArtSync."""


class Address(Struct, frozen=True):
    """ArtAddress: remote programming of a page. Switch fields: 0x80 | value programs, 0x7F leaves alone."""

    bind_index: int = 1
    net: int = NO_CHANGE
    sub: int = NO_CHANGE
    sw_in: tuple[int, int, int, int] = (NO_CHANGE,) * 4
    sw_out: tuple[int, int, int, int] = (NO_CHANGE,) * 4
    short_name: str = ""
    long_name: str = ""
    acn_priority: int = 255
    command: int = 0


Four = tuple[int, int, int, int]


@dataclass(frozen=True)
class ArtInput:
    """ArtInput: switch inputs of a page off (True: that input is disabled)."""

    bind_index: int = 1
    disabled: tuple[bool, ...] = ()


class IpProg(Struct, frozen=True):
    """ArtIpProg: ask for a node's address, or set it. Command bits: 7 program at all, 6 DHCP, 4 gateway, 3 factory
    defaults, 2 address, 1 mask; 0 only asks."""

    command: int = 0
    ip: Four = (0, 0, 0, 0)
    mask: Four = (0, 0, 0, 0)
    gateway: Four = (0, 0, 0, 0)


class IpProgReply(Struct, frozen=True):
    """ArtIpProgReply: what a node has. Bit 6 of `status`: its address comes by DHCP."""

    ip: Four = (0, 0, 0, 0)
    mask: Four = (0, 0, 0, 0)
    status: int = 0
    gateway: Four = (0, 0, 0, 0)

    @property
    def uses_dhcp(self) -> bool:
        return bool(self.status & 0x40)


class TodRequest(Struct, frozen=True):
    """ArtTodRequest: which responders hang on these Port-Addresses of one Net? At most 32 low octets."""

    net: int
    addresses: tuple[int, ...]
    command: int = 0


class TodData(Struct, frozen=True):
    """ArtTodData: a part of the table of a port. `total` is how many the whole table has, `block` counts the packets.
    With `available` False there is no table (yet): the gateway is searching, or cannot."""

    port: int
    bind_index: int
    net: int
    address: int
    total: int
    block: int
    uids: tuple[int, ...]
    available: bool = True


class TodControl(Struct, frozen=True):
    """ArtTodControl: 1 throws the table away and searches anew."""

    net: int
    address: int
    command: int = 1


class Rdm(Struct, frozen=True):
    """ArtRdm: an RDM frame to or from one Port-Address, without its start code."""

    net: int
    address: int
    frame: bytes
    command: int = 0


class RdmSub(Struct, frozen=True):
    """ArtRdmSub: one parameter of many sub-devices at once. Values are there for SET and GET_RESPONSE only."""

    uid: int
    command: int
    pid: int
    first: int
    count: int
    values: tuple[int, ...] = ()


@dataclass(frozen=True)
class Other:
    """An Art-Net packet of a kind that Welvo does not read."""

    opcode: int
    raw: bytes = field(repr=False, default=b"")


Packet = (
    Poll
    | PollReply
    | Dmx
    | ArtSync
    | Address
    | ArtInput
    | IpProg
    | IpProgReply
    | TodRequest
    | TodData
    | TodControl
    | Rdm
    | RdmSub
    | Other
)

PROG_ENABLE, PROG_GATEWAY, PROG_IP, PROG_MASK = 0x80, 0x10, 0x04, 0x02
"""Bits of ArtIpProg's command: that anything is set at all; the gateway, the address, the mask."""

COMMAND_MERGE_LTP, COMMAND_MERGE_HTP = 0x10, 0x50
COMMAND_TAKE_ARTNET, COMMAND_TAKE_SACN = 0x60, 0x70
COMMAND_LOCATE, COMMAND_NORMAL = 0x04, 0x02


def _four_octets(values: tuple[int, ...]) -> bytes:
    return bytes(values[:4]).ljust(4, b"\0")


def _artnet_header(opcode: int) -> bytes:
    return IDENTIFIER + struct.pack("<H", opcode) + struct.pack(">H", VERSION)


def encode_artnet(p: Packet) -> bytes:
    """Bytes of a packet. Raises WireError when a value does not fit the standard."""
    if isinstance(p, Poll):
        return _artnet_header(OP_POLL) + struct.pack(
            ">BBHHHH", p.flags, p.priority, p.top, p.bottom, ESTA_EXPERIMENTAL, OEM_UNKNOWN
        )
    if isinstance(p, Dmx):
        return _encode_dmx(p)
    if isinstance(p, ArtSync):
        return _artnet_header(OP_SYNC) + b"\0\0"
    if isinstance(p, Address):
        return _artnet_header(OP_ADDRESS) + struct.pack(
            ">BB18s64s4s4sBBB",
            p.net,
            p.bind_index,
            text_field(p.short_name, 18),
            text_field(p.long_name, 64),
            _four_octets(p.sw_in),
            _four_octets(p.sw_out),
            p.sub,
            p.acn_priority,
            p.command,
        )
    if isinstance(p, PollReply):
        return _encode_reply(p)
    if isinstance(p, ArtInput):
        if len(p.disabled) > 4:
            raise WireError("NumPorts", f"{len(p.disabled)} inputs are more than one page holds")
        return _artnet_header(OP_INPUT) + struct.pack(
            ">xBH4s", p.bind_index, len(p.disabled), _four_octets(tuple(int(d) for d in p.disabled))
        )
    if isinstance(p, IpProg):
        return _artnet_header(OP_IP_PROG) + struct.pack(
            ">2xBx4s4sH4s4x", p.command, bytes(p.ip), bytes(p.mask), PORT, bytes(p.gateway)
        )
    if isinstance(p, TodRequest | TodData | TodControl | Rdm | RdmSub):
        return _encode_rdm(p)
    if isinstance(p, IpProgReply):
        return _artnet_header(OP_IP_PROG_REPLY) + struct.pack(
            ">4x4s4sHBx4s2x", bytes(p.ip), bytes(p.mask), PORT, p.status, bytes(p.gateway)
        )
    return p.raw


def _encode_rdm(p: TodRequest | TodData | TodControl | Rdm | RdmSub) -> bytes:
    if isinstance(p, TodRequest):
        if len(p.addresses) > 32:
            raise WireError("AdCount", f"{len(p.addresses)} addresses are more than 32")
        return (
            _artnet_header(OP_TOD_REQUEST)
            + struct.pack(">9xBBB", p.net, p.command, len(p.addresses))
            + bytes(p.addresses).ljust(32, b"\0")
        )
    if isinstance(p, TodData):
        if len(p.uids) > MOST_UIDS:
            raise WireError("UidCount", f"{len(p.uids)} UIDs are more than {MOST_UIDS}")
        head = struct.pack(
            ">BB6xBBBBHBB", RDM_VERSION, p.port, p.bind_index, p.net, 0 if p.available else 0xFF, p.address, p.total,
            p.block, len(p.uids),
        )  # fmt: skip
        return _artnet_header(OP_TOD_DATA) + head + b"".join(uid.to_bytes(6, "big") for uid in p.uids)
    if isinstance(p, TodControl):
        return _artnet_header(OP_TOD_CONTROL) + struct.pack(">9xBBB", p.net, p.command, p.address)
    if isinstance(p, Rdm):
        return _artnet_header(OP_RDM) + struct.pack(">B8xBBB", RDM_VERSION, p.net, p.command, p.address) + p.frame
    head = struct.pack(">Bx6sxBHHH4x", RDM_VERSION, p.uid.to_bytes(6, "big"), p.command, p.pid, p.first, p.count)
    return _artnet_header(OP_RDM_SUB) + head + struct.pack(f">{len(p.values)}H", *p.values)


def _decode_rdm(opcode: int, raw: bytes) -> Packet:
    if opcode == OP_TOD_REQUEST:
        _long_enough(raw, 24, "ArtTodRequest")
        count = raw[23]
        if count > 32 or len(raw) < 24 + count:
            raise WireError("AdCount", f"{count} does not fit {len(raw)} octets")
        return TodRequest(raw[21], tuple(raw[24 : 24 + count]), raw[22])
    if opcode == OP_TOD_DATA:
        _long_enough(raw, 28, "ArtTodData")
        count = raw[27]
        if count > MOST_UIDS or len(raw) < 28 + 6 * count:
            raise WireError("UidCount", f"{count} does not fit {len(raw)} octets")
        uids = tuple(int.from_bytes(raw[n : n + 6], "big") for n in range(28, 28 + 6 * count, 6))
        total = struct.unpack_from(">H", raw, 24)[0]
        return TodData(raw[13], max(1, raw[20]), raw[21], raw[23], total, raw[26], uids, raw[22] == 0)
    if opcode == OP_TOD_CONTROL:
        _long_enough(raw, 24, "ArtTodControl")
        return TodControl(raw[21], raw[23], raw[22])
    if opcode == OP_RDM:
        _long_enough(raw, 24 + 25, "ArtRdm")
        return Rdm(raw[21], raw[23], raw[24:], raw[22])
    _long_enough(raw, 32, "ArtRdmSub")
    uid = int.from_bytes(raw[14:20], "big")
    command, pid, first, count = struct.unpack_from(">BHHH", raw, 21)
    values: tuple[int, ...] = ()
    if command in (0x30, 0x21):
        if len(raw) < 32 + 2 * count:
            raise WireError("SubCount", f"{count} does not fit {len(raw)} octets")
        values = struct.unpack_from(f">{count}H", raw, 32)
    return RdmSub(uid, command, pid, first, count, values)


def _encode_dmx(p: Dmx) -> bytes:
    if not 0 <= p.address <= 0x7FFF:
        raise WireError("Port-Address", f"{p.address} is not in 0..32767")
    if not 1 <= len(p.slots) <= 512:
        raise WireError("length", f"{len(p.slots)} is not in 1..512")
    slots = p.slots if len(p.slots) % 2 == 0 else p.slots + b"\0"
    return (
        _artnet_header(OP_DMX)
        + struct.pack("<BBH", p.sequence & 255, p.physical, p.address)
        + struct.pack(">H", len(slots))
        + slots
    )


def _encode_reply(p: PollReply) -> bytes:
    if p.count_ports > 4:
        raise WireError("NumPorts", f"{p.count_ports} ports are more than one page holds")
    return (
        IDENTIFIER
        + struct.pack("<H", OP_POLL_REPLY)
        + bytes(p.ip)
        + struct.pack("<H", PORT)
        + struct.pack(">HBBHBB", p.firmware, p.net, p.sub, p.oem, 0, p.status1)
        + struct.pack("<H", p.esta)
        + text_field(p.short_name, 18)
        + text_field(p.long_name, 64)
        + text_field(p.report, 64)
        + struct.pack(">H", p.count_ports)
        + _four_octets(p.port_types)
        + _four_octets(p.good_input)
        + _four_octets(p.good_output)
        + _four_octets(p.sw_in)
        + _four_octets(p.sw_out)
        + struct.pack(">BBB3xB", p.acn_priority, 0, 0, p.style)
        + p.mac[:6].ljust(6, b"\0")
        + bytes(p.bind_ip)
        + bytes([p.bind_index, p.status2])
        + _four_octets(p.good_output_b)
        + bytes([p.status3])
        + bytes(6)
        + bytes(2)
        + bytes(2)
        + bytes(1)
        + bytes(10)
    )


def decode_artnet(raw: bytes) -> Packet:
    """Read a packet: longer ones than known are fine, shorter replies of older nodes as well."""
    if len(raw) < 10 or raw[:8] != IDENTIFIER:
        raise WireError("identifier", "is not Art-Net")
    opcode = struct.unpack_from("<H", raw, 8)[0]
    if opcode == OP_POLL_REPLY:
        return _decode_reply(raw)
    if len(raw) < 12 or struct.unpack_from(">H", raw, 10)[0] < VERSION:
        raise WireError("protocol version", "is missing or below 14")
    if opcode == OP_POLL:
        if len(raw) < 14:
            raise WireError("packet", f"{len(raw)} octets are too few for ArtPoll")
        top, bottom = struct.unpack_from(">HH", raw.ljust(18, b"\0"), 14)
        return Poll(raw[12], raw[13], top, bottom)
    if opcode == OP_DMX:
        if len(raw) < 19:
            raise WireError("packet", f"{len(raw)} octets are too few for ArtDmx")
        sequence, physical, address = struct.unpack_from("<BBH", raw, 12)
        length = struct.unpack_from(">H", raw, 16)[0]
        if not 1 <= length <= 512 or 18 + length > len(raw):
            raise WireError("length", f"{length} does not fit {len(raw)} octets")
        if address > 0x7FFF:
            raise WireError("Port-Address", "its highest bit is set")
        return Dmx(address, raw[18 : 18 + length], sequence, physical)
    if opcode == OP_SYNC:
        return ArtSync()
    if opcode == OP_ADDRESS:
        if len(raw) < 107:
            raise WireError("packet", f"{len(raw)} octets are too few for ArtAddress")
        net, bind, short, long, sw_in, sw_out, sub, priority, command = struct.unpack_from(">BB18s64s4s4sBBB", raw, 12)
        return Address(
            bind,
            net=net,
            sub=sub,
            sw_in=(*sw_in,),
            sw_out=(*sw_out,),
            short_name=read_text_field(short),
            long_name=read_text_field(long),
            acn_priority=priority,
            command=command,
        )
    if opcode == OP_INPUT:
        _long_enough(raw, 20, "ArtInput")
        bind, ports = struct.unpack_from(">BH", raw, 13)
        if ports > 4:
            raise WireError("NumPorts", f"{ports} inputs are more than one page holds")
        return ArtInput(bind, tuple(bool(d & 1) for d in raw[16 : 16 + ports]))
    if opcode == OP_IP_PROG:
        _long_enough(raw, 26, "ArtIpProg")
        whole = raw.ljust(34, b"\0")
        return IpProg(raw[14], _four_of(whole, 16), _four_of(whole, 20), _four_of(whole, 26))
    if opcode == OP_IP_PROG_REPLY:
        _long_enough(raw, 27, "ArtIpProgReply")
        whole = raw.ljust(34, b"\0")
        return IpProgReply(_four_of(whole, 16), _four_of(whole, 20), raw[26], _four_of(whole, 28))
    if opcode in (OP_TOD_REQUEST, OP_TOD_DATA, OP_TOD_CONTROL, OP_RDM, OP_RDM_SUB):
        return _decode_rdm(opcode, raw)
    return Other(opcode, raw)


def _long_enough(raw: bytes, least: int, name: str) -> None:
    if len(raw) < least:
        raise WireError("packet", f"{len(raw)} octets are too few for {name}")


def _four_of(raw: bytes, at: int) -> Four:
    return raw[at], raw[at + 1], raw[at + 2], raw[at + 3]


def artnet_accepts(last: int | None, new: int) -> bool:
    """Whether an ArtDmx of this sequence number is in order: 0 switches sequencing off, 255 is followed by 1.

    The standard leaves open how far back is late; as with sACN, what steps back further is a sender that began anew.
    The same number again is taken: it holds the same levels, or comes from a sender that never counts.
    """
    return not last or not new or not -20 < step_of(last, new) < 0


def _decode_reply(raw: bytes) -> PollReply:
    if len(raw) < 207:
        raise WireError("packet", f"{len(raw)} octets are too few for ArtPollReply")
    whole = raw.ljust(239, b"\0")
    if struct.unpack_from("<H", raw, 14)[0] != PORT:
        raise WireError("Port", "is not 6454")
    ports = struct.unpack_from(">H", raw, 172)[0]
    if ports > 4:
        raise WireError("NumPorts", f"{ports} ports are more than one page holds")
    firmware, net, sub, oem, _, status1 = struct.unpack_from(">HBBHBB", raw, 16)
    if net > 127 or sub > 15:
        raise WireError("NetSwitch", f"{net}/{sub} is out of range")

    def four(at: int) -> tuple[int, ...]:
        return tuple(whole[at : at + ports])

    return PollReply(
        ip=(raw[10], raw[11], raw[12], raw[13]),
        short_name=read_text_field(raw[26:44]),
        long_name=read_text_field(raw[44:108]),
        report=read_text_field(raw[108:172]),
        firmware=firmware,
        net=net,
        sub=sub,
        oem=oem,
        esta=struct.unpack_from("<H", raw, 24)[0],
        status1=status1,
        port_types=four(174),
        good_input=four(178),
        good_output=four(182),
        sw_in=four(186),
        sw_out=four(190),
        acn_priority=raw[194],
        style=raw[200],
        mac=raw[201:207],
        bind_ip=(whole[207], whole[208], whole[209], whole[210]),
        bind_index=max(1, whole[211]),
        status2=whole[212],
        good_output_b=four(213),
        status3=whole[217],
    )
