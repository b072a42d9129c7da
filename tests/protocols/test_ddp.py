"""Octets worked out from the DDP header's table, then round trips."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from welvo.protocols import ddp
from welvo.protocols.wire import WireError


def test_three_octets_at_a_place_are_these_octets() -> None:
    raw = bytes.fromhex("41 05 0B 01 000001F4 0003 FF8000")  # version 1 and push, sequence 5, RGB, display, octet 500
    assert ddp.encode_ddp(ddp.Packet(b"\xff\x80\x00", 500, True, 5, ddp.RGB)) == raw
    assert ddp.decode_ddp(raw) == ddp.Packet(b"\xff\x80\x00", 500, True, 5, ddp.RGB)


def test_a_question_and_a_timecode_are_these_octets() -> None:
    assert ddp.encode_ddp(ddp.Packet(destination=ddp.STATUS, flags=ddp.QUERY)) == bytes.fromhex(
        "42 00 00 FB 00000000 0000"
    )
    late = bytes.fromhex("50 00 00 01 00000000 0001 0000A000 07")
    assert ddp.encode_ddp(ddp.Packet(b"\x07", timecode=0xA000)) == late and ddp.decode_ddp(late).timecode == 0xA000


def test_a_long_frame_is_cut_at_1440_and_pushed_once() -> None:
    found = ddp.packets_of_frame(bytes(3000), destination=7)
    assert [(p.offset, len(p.data), p.push, p.destination) for p in found] == [
        (0, 1440, False, 7),
        (1440, 1440, False, 7),
        (2880, 120, True, 7),
    ]
    assert [(p.offset, p.push) for p in ddp.packets_of_frame(bytes(1440))] == [(0, True)] and len(
        ddp.packets_of_frame(b"")
    ) == 1


@pytest.mark.parametrize(
    "octets, field",
    [
        ("41 00", "packet"), ("01 00 00 01 00000000 0000", "flags"), ("C1 00 00 01 00000000 0000", "flags"),
        ("41 10 00 01 00000000 0000", "sequence"), ("41 00 00 01 00000000 0005 01", "data length"),
        ("51 00 00 01 00000000 0000 00", "timecode"),
    ]
)  # fmt: skip
def test_what_is_no_packet_names_the_field(octets: str, field: str) -> None:
    with pytest.raises(WireError) as e:
        ddp.decode_ddp(bytes.fromhex(octets))
    assert e.value.field == field


@pytest.mark.parametrize("packet", [
    ddp.Packet(sequence=16), ddp.Packet(destination=0), ddp.Packet(bytes(1441)), ddp.Packet(offset=1 << 32),
])  # fmt: skip
def test_what_no_packet_can_carry_is_refused(packet: ddp.Packet) -> None:
    with pytest.raises(WireError):
        ddp.encode_ddp(packet)


@given(
    st.binary(max_size=1440),
    st.integers(0, 0xFFFFFFFF),
    st.booleans(),
    st.integers(0, 15),
    st.integers(1, 255),
    st.none() | st.integers(0, 0xFFFFFFFF),
)
def test_there_and_back(
    data: bytes, offset: int, push: bool, sequence: int, destination: int, timecode: int | None
) -> None:
    packet = ddp.Packet(data, offset, push, sequence, ddp.RGBW, destination, timecode=timecode)
    assert ddp.decode_ddp(ddp.encode_ddp(packet)) == packet


@given(st.binary(max_size=40))
def test_noise_is_a_packet_or_a_named_error(raw: bytes) -> None:
    try:
        ddp.decode_ddp(raw)
    except WireError as e:
        assert e.field
