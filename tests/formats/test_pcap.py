"""Capture files: what is written is read, what others wrote is read, what is damaged is said."""

from __future__ import annotations

import shutil
import struct
import subprocess
from pathlib import Path

import pytest

from welvo.formats import pcap
from welvo.formats.files import RigFileError
from welvo.formats.pcap import Datagram

ONE = Datagram(1_700_000_000.25, "127.0.0.1", 5568, "239.255.0.3", 5568, b"hello")
TWO = Datagram(1_700_000_001.5, "127.0.0.5", 6454, "127.255.255.255", 6454, bytes(530))


def test_a_file_is_these_very_octets() -> None:
    written = pcap.write_capture([ONE])
    assert written[:24] == bytes.fromhex("d4c3b2a1 02000400 00000000 00000000 ffff0000 65000000")
    assert written[24:40] == struct.pack("<IIII", 1_700_000_000, 250_000, 33, 33)
    ip = written[40:60]
    assert ip[:2] == b"\x45\x00" and ip[9] == 17 and ip[12:20] == bytes((127, 0, 0, 1, 239, 255, 0, 3))
    assert sum(struct.unpack(">10H", ip)) % 0xFFFF == 0  # its checksum is right
    assert written[60:68] == struct.pack(">HHHH", 5568, 5568, 13, 0) and written[68:] == b"hello"


def test_what_is_written_is_read() -> None:
    assert pcap.read_capture(pcap.write_capture([ONE, TWO])) == ([ONE, TWO], 0)
    assert pcap.read_capture(pcap.write_capture([])) == ([], 0)
    cut = pcap.write_capture([ONE, TWO])[:-3]
    assert pcap.read_capture(cut) == ([ONE], 0)  # ended while it was written


def _classic(link: int, frames: list[bytes], order: str = ">", magic: int = pcap.MAGIC_NS) -> bytes:
    head = struct.pack(order + "IHHiIII", magic, 2, 4, 0, 0, 65535, link)
    return head + b"".join(struct.pack(order + "IIII", 10, 500_000_000, len(f), len(f)) + f for f in frames)


def _ng(link: int, frames: list[bytes], options: bytes = b"") -> bytes:
    def block(kind: int, body: bytes) -> bytes:
        body += b"\0" * (-len(body) % 4)
        size = 12 + len(body)
        return struct.pack("<II", kind, size) + body + struct.pack("<I", size)

    found = block(0x0A0D0D0A, b"\x4d\x3c\x2b\x1a" + struct.pack("<HHq", 1, 0, -1))
    found += block(1, struct.pack("<HHI", link, 0, 0) + options)
    ticks = 10_500_000
    for f in frames:
        found += block(6, struct.pack("<IIIII", 0, ticks >> 32, ticks & 0xFFFFFFFF, len(f), len(f)) + f)
    return found + block(5, b"statistics")


IP = pcap.capture_record(ONE)[16:]


@pytest.mark.parametrize(
    "data",
    [
        _classic(101, [IP]),
        _classic(1, [bytes(12) + b"\x08\x00" + IP]),
        _classic(1, [bytes(12) + b"\x81\x00\x00\x05\x08\x00" + IP], "<"),
        _classic(113, [bytes(16) + IP]),
        _ng(276, [bytes(20) + IP]),
        _ng(0, [b"\x02\0\0\0" + IP]),
    ],
)
def test_captures_of_other_tools_are_read(data: bytes) -> None:
    (found,), left = pcap.read_capture(data)
    assert left == 0 and found.at == pytest.approx(10.5) and found[1:] == ONE[1:]


def test_nanoseconds_of_a_pcapng_clock() -> None:
    options = struct.pack("<HHB3x", 9, 1, 9) + struct.pack("<HH", 0, 0)
    (found,), _ = pcap.read_capture(_ng(101, [IP], options))
    assert found.at == pytest.approx(0.0105)


def test_what_is_no_datagram_is_left_out() -> None:
    tcp = bytearray(IP)
    tcp[9] = 6
    fragment = bytearray(IP)
    fragment[6] = 0x20
    long = bytearray(IP)
    long[24:26] = b"\xff\xff"
    found, left = pcap.read_capture(_classic(101, [bytes(tcp), bytes(fragment), bytes(long), b"", b"\x60" * 60, IP]))
    assert (len(found), left) == (1, 5)
    assert pcap.read_capture(_classic(999, [IP])) == ([], 1)


@pytest.mark.parametrize(
    "data", [b"", b"PK\x03\x04" + bytes(60), _classic(101, [IP])[:24] + b"\xff" * 40, _ng(1, [])[:28] + b"\xff" * 40]
)
def test_what_is_no_capture_is_said(data: bytes) -> None:
    with pytest.raises(RigFileError, match=r"no capture file|damaged"):
        pcap.read_capture(data, "x.pcap")


def test_a_network_tool_reads_what_is_written(tmp_path: Path) -> None:
    if not shutil.which("tshark"):
        pytest.skip("tshark is not installed")
    file = tmp_path / "x.pcap"
    file.write_bytes(pcap.write_capture([ONE, TWO]))
    asked = ["tshark", "-r", str(file), "-T", "fields", "-e", "ip.dst", "-e", "udp.port", "-e", "ip.checksum.status"]
    done = subprocess.run([*asked, "-o", "ip.check_checksum:TRUE"], capture_output=True, text=True, timeout=300)
    assert [line.split("\t") for line in done.stdout.splitlines()] == [
        ["239.255.0.3", "5568,5568", "1"],
        ["127.255.255.255", "6454,6454", "1"],
    ]
