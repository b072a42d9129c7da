"""DMX512-A against the numbers of the standard, and what a receiver makes of a line."""

from __future__ import annotations

import pytest

from welvo.protocols import dmx512
from welvo.protocols.wire import WireError
from welvo.survey.traffic import dmx_rate


def test_the_standards_numbers() -> None:
    assert round(1e6 * dmx512.packet_duration(512)) == 22_676  # 92 + 12 + 513 × 44 µs
    assert round(1 / dmx512.packet_duration(512), 1) == 44.1 == round(dmx_rate(512), 1)
    assert round(1 / dmx512.packet_duration(0)) == 831  # 1204 µs, however short the packet is
    assert dmx512.packet_duration(24) == dmx512.SHORTEST_PACKET < dmx512.packet_duration(25)
    assert dmx512.BREAK >= dmx512.SHORTEST_BREAK_SENT and dmx512.MARK >= dmx512.SHORTEST_MARK_SENT
    assert dmx512.dmx_packet(b"\x01\xff") == b"\x00\x01\xff"
    assert dmx512.dmx_packet(b"U" * 512, dmx512.TEST)[0] == 0x55
    with pytest.raises(WireError, match="512 at most, not 513"):
        dmx512.dmx_packet(bytes(513))
    with pytest.raises(WireError, match="256 is none"):
        dmx512.dmx_packet(b"", 256)


def test_a_receiver_takes_a_packet_at_the_next_break() -> None:
    got: list[tuple[int, bytes]] = []
    reader = dmx512.LineReader(lambda code, slots: got.append((code, slots)))
    reader.take_octets(b"\x09\x09")  # before the first break nothing belongs to anything
    reader.line_break(176e-6, 16e-6)
    reader.take_octets(b"\x00\x01")
    reader.take_octets(b"\x02")
    assert got == []
    reader.line_break(88e-6, 8e-6)
    assert got == [(0, b"\x01\x02")]
    reader.take_octets(b"\x17hi")
    reader.line_break(87e-6, 8e-6)  # too short to be one: what follows belongs to the same packet
    reader.line_break(176e-6, 7e-6)
    reader.take_octets(b"!")
    reader.line_break(1.0, 1.0)
    assert got[1:] == [(0x17, b"hi!")] and reader.short_breaks == 2
    reader.take_octets(bytes(600))
    reader.line_break(176e-6, 16e-6)
    assert len(got[-1][1]) == 512 and reader.overruns == 1
