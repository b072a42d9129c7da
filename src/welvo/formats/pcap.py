"""Capture files of network tools: UDP datagrams over IPv4, written as pcap and read from pcap or pcapng.

Written files hold bare IP packets (link type 101), so that no addresses of network cards have to be made up. Reading
goes by the link type; what is no whole UDP datagram over IPv4 is counted and left out. Bounds are looked at before
anything is taken from a file: it may come from anywhere.
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from welvo.formats.files import RigFileError
from welvo.rig.steps import take_step

RAW_IP = 101
MOST_PACKET = 1 << 18
MAGIC_US, MAGIC_NS = 0xA1B2C3D4, 0xA1B23C4D
NG = b"\x0a\x0d\x0d\x0a"
_LINK = {0: 4, 1: 14, 12: 0, 101: 0, 108: 4, 113: 16, 228: 0, 276: 20}
"""Octets before the IP packet, by link type."""


class Datagram(NamedTuple):
    """One UDP datagram: when it was seen (seconds since the epoch), from whom, to whom, and what was in it."""

    at: float
    source: str
    source_port: int
    to: str
    port: int
    payload: bytes


def capture_header() -> bytes:
    """How a written file begins."""
    return struct.pack("<IHHiIII", MAGIC_US, 2, 4, 0, 0, 65535, RAW_IP)


def capture_record(d: Datagram) -> bytes:
    """One datagram as it stands in a written file."""
    udp = struct.pack(">HHHH", d.source_port, d.port, 8 + len(d.payload), 0) + d.payload
    head = struct.pack(
        ">BBHHHBBH4s4s", 0x45, 0, 20 + len(udp), 0, 0, 64, 17, 0, _four_octets(d.source), _four_octets(d.to)
    )
    head = head[:10] + struct.pack(">H", _header_checksum(head)) + head[12:]
    whole = head + udp
    seconds, micros = divmod(round(d.at * 1e6), 1_000_000)
    return struct.pack("<IIII", seconds & 0xFFFFFFFF, micros, len(whole), len(whole)) + whole


def write_capture(datagrams: Iterable[Datagram]) -> bytes:
    return capture_header() + b"".join(map(capture_record, datagrams))


def _four_octets(ip: str) -> bytes:
    return bytes(int(p) for p in ip.split("."))


def _header_checksum(head: bytes) -> int:
    total: int = sum(struct.unpack(f">{len(head) // 2}H", head))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


Packet = tuple[float, int, int, int]
"""When a packet was seen, its link type, and where it begins and ends in the file."""


def read_capture(data: bytes, name: str = "capture") -> tuple[list[Datagram], int]:
    """The datagrams of a file, and how many packets were left out. Raises RigFileError when the file is no capture."""
    if data[:4] == NG:
        packets = _read_ng(data, name)
    elif len(data) >= 24:
        packets = _read_classic(data, name)
    else:
        raise RigFileError(f"{name} is no capture file (pcap or pcapng).")
    found: list[Datagram] = []
    left = 0
    known: dict[bytes, str] = {}
    for at, link, begin, end in packets:
        take_step("packets", len(found))
        datagram = _datagram_in_packet(data, at, link, begin, end, known)
        if datagram is None:
            left += 1
        else:
            found.append(datagram)
    return found, left


def _read_classic(data: bytes, name: str) -> Iterator[Packet]:
    for order in "<>":
        (magic,) = struct.unpack(order + "I", data[:4])
        if magic in (MAGIC_US, MAGIC_NS):
            break
    else:
        raise RigFileError(f"{name} is no capture file (pcap or pcapng).")
    tick = 1e-6 if magic == MAGIC_US else 1e-9
    link = struct.unpack(order + "I", data[20:24])[0] & 0x0FFFFFFF
    at = 24
    head = struct.Struct(order + "IIII")
    while at + 16 <= len(data):
        seconds, part, size, _ = head.unpack_from(data, at)
        if size > MOST_PACKET:
            raise RigFileError(f"{name} is damaged: a packet of {size} octets at octet {at}.")
        if at + 16 + size > len(data):
            return  # cut off while it was written: what is whole counts
        yield seconds + part * tick, link, at + 16, at + 16 + size
        at += 16 + size


def _read_ng(data: bytes, name: str) -> Iterator[Packet]:
    order, at = "<", 0
    links: list[tuple[int, float]] = []
    while at + 12 <= len(data):
        if data[at : at + 4] == NG:
            order = "<" if data[at + 8 : at + 12] == b"\x4d\x3c\x2b\x1a" else ">"
            links = []
        kind, size = struct.unpack(order + "II", data[at : at + 8])
        if size < 12 or size % 4 or size > MOST_PACKET + 64:
            raise RigFileError(f"{name} is damaged: a block of {size} octets at octet {at}.")
        body = data[at + 8 : at + size - 4]
        if len(body) < size - 12:
            return
        if kind == 1 and len(body) >= 8:
            links.append((struct.unpack(order + "H", body[:2])[0], _clock_resolution(body[8:], order)))
        elif kind == 6 and len(body) >= 20:
            which, high, low, caught = struct.unpack(order + "IIII", body[:16])
            if which < len(links) and caught <= len(body) - 20:
                link, tick = links[which]
                yield (high << 32 | low) * tick, link, at + 28, at + 28 + caught
        at += size


def _clock_resolution(options: bytes, order: str) -> float:
    """Seconds of one tick of an interface's clock, from its options; microseconds when it does not say."""
    at = 0
    while at + 4 <= len(options):
        code, size = struct.unpack(order + "HH", options[at : at + 4])
        if code == 9 and size == 1 and at + 4 < len(options):
            value = options[at + 4]
            return 2.0 ** -(value & 0x7F) if value & 0x80 else 10.0**-value
        if code == 0:
            break
        at += 4 + (size + 3 & ~3)
    return 1e-6


_IP, _UDP = struct.Struct(">B5xH1xB2x"), struct.Struct(">HHH")


def _datagram_in_packet(
    data: bytes, at: float, link: int, begin: int, end: int, known: dict[bytes, str]
) -> Datagram | None:
    """The datagram in a packet; None for any other packet. `known` are addresses as words, which many packets share."""
    skip = _LINK.get(link)
    if skip is None:
        return None
    if link == 1 and data[begin + 12 : begin + 14] == b"\x81\x00":
        skip += 4
    ip = begin + skip
    if end - ip < 28:
        return None
    first, fragment, protocol = _IP.unpack_from(data, ip)
    if first >> 4 != 4 or protocol != 17 or fragment & 0x3FFF:
        return None
    size = (first & 15) * 4
    udp = ip + size
    if size < 20 or end - udp < 8:
        return None
    source_port, port, length = _UDP.unpack_from(data, udp)
    if not 8 <= length <= end - udp:
        return None
    words = []
    for n in (ip + 12, ip + 16):
        four = data[n : n + 4]
        said = known.get(four)
        if said is None:
            said = known[four] = ".".join(map(str, four))
        words.append(said)
    return Datagram(at, words[0], source_port, words[1], port, data[udp + 8 : udp + length])
