"""What damage on the wire may do to a decoder: give a packet, or the one documented error. Nothing else, ever."""

from __future__ import annotations

import contextlib
import random
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from welvo.protocols import artnet, ddp, sacn
from welvo.protocols.wire import WireError, step_of

CID = bytes(range(1, 17))
GOOD: list[tuple[Callable[[bytes], object], bytes]] = [
    (sacn.decode_sacn, sacn.encode_sacn(sacn.Data(CID, 3, bytes(range(20)), "desk", sync=7000))),
    (sacn.decode_sacn, sacn.encode_sacn(sacn.SyncPacket(CID, 8000, 5))),
    (sacn.decode_sacn, sacn.encode_sacn(sacn.Discovery(CID, "desk", (1, 2, 8000)))),
    (artnet.decode_artnet, artnet.encode_artnet(artnet.Dmx(5, bytes(24), 3))),
    (artnet.decode_artnet, artnet.encode_artnet(artnet.Poll())),
    (artnet.decode_artnet, artnet.encode_artnet(artnet.PollReply((127, 0, 0, 9), "BOX", port_types=(0x80,) * 4,
    sw_out=(1, 2)))),
    (artnet.decode_artnet, artnet.encode_artnet(artnet.Address(2, 0x81, 0x82))),
    (ddp.decode_ddp, ddp.encode_ddp(ddp.Packet(bytes(30), 300, True, 4, timecode=77))),
]  # fmt: skip


@given(st.sampled_from(GOOD), st.lists(st.tuples(st.integers(0, 260), st.integers(0, 255)), max_size=6), st.integers())
def test_bit_damage_gives_a_packet_or_the_documented_error(
    good: tuple[Callable[[bytes], object], bytes], damage: list[tuple[int, int]], cut: int
) -> None:
    decode, raw = good
    hurt = bytearray(raw)
    for at, value in damage:
        hurt[at % len(hurt)] = value
    for octets in (bytes(hurt), bytes(hurt[: cut % (len(hurt) + 1)])):
        try:
            decode(octets)
        except WireError as e:
            assert e.field


def test_every_octet_of_every_packet_may_be_any_octet() -> None:
    chance = random.Random(11)
    for decode, raw in GOOD:
        for at in range(len(raw)):
            for value in (0, 1, 0x6F, 0x70, 0x7F, 0x80, 0xFF, chance.randrange(256)):
                hurt = bytearray(raw)
                hurt[at] = value
                with contextlib.suppress(WireError):
                    decode(bytes(hurt))


@pytest.mark.parametrize(
    ("raw", "at", "octets", "field"),
    [
        (GOOD[2][1], 112, "7003", "universe list length"),  # the packet that ended listening: a list shorter than empty
        (GOOD[2][1], 112, "7FFF", "universe list length"),
        (GOOD[2][1], 118, "0300", "page"),
        (GOOD[2][1], 114, "00000002", "universe list vector"),
        (GOOD[2][1], 38, "7010", "framing length"),
        (GOOD[0][1], 22, "00" * 16, "CID"),
        (GOOD[0][1], 16, "7010", "packet"),
        (GOOD[0][1], 38, "7010", "framing length"),
        (GOOD[0][1], 115, "7010", "DMP length"),
        (GOOD[0][1], 123, "0003", "property count"),
        (GOOD[0][1], 109, "FB00", "synchronization address"),
        (GOOD[0][1], 108, "C9", "priority"),
        (GOOD[1][1], 45, "0000", "synchronization address"),
    ],
)
def test_what_the_standard_reserves_is_refused_by_name(raw: bytes, at: int, octets: str, field: str) -> None:
    hurt = bytearray(raw)
    hurt[at : at + len(octets) // 2] = bytes.fromhex(octets)
    with pytest.raises(WireError) as e:
        sacn.decode_sacn(bytes(hurt))
    assert e.value.field == field


def test_octets_behind_a_packet_are_not_read_and_reserved_options_are_ignored() -> None:
    raw = bytearray(GOOD[0][1])
    raw[sacn.OPTIONS_AT] = 0x1F
    packet = sacn.decode_sacn(bytes(raw) + b"padding")
    assert isinstance(packet, sacn.Data) and packet.slots == bytes(range(20)) and not packet.is_preview


def test_the_sequence_of_artnet_says_what_is_late() -> None:
    assert [n for n in range(1, 256) if not artnet.artnet_accepts(100, n)] == list(range(81, 100))
    assert (
        artnet.artnet_accepts(100, 0)
        and artnet.artnet_accepts(0, 1)
        and artnet.artnet_accepts(None, 9)
        and artnet.artnet_accepts(255, 1)
    )
    assert (step_of(255, 1), step_of(3, 1), step_of(0, 128)) == (2, -2, -128)
