"""Bytes worked out from ANSI E1.31-2018, then round trips."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from welvo.protocols import sacn
from welvo.protocols.wire import WireError, text_field

CID = bytes(range(1, 17))
ROOT = "0010 0000 4153432D45312E3137000000"


def data_bytes() -> bytes:
    """Six slots, universe 258, priority 120, sequence 7, preview set: 126 + 6 = 132 octets."""
    return bytes.fromhex(
        ROOT
        + "7074 00000004" + CID.hex()  # root: flags 7, length 132 − 16 = 116 = 0x074
        + "705E 00000002" + "57656C766F".ljust(128, "0") + "78 0000 07 80 0102"  # framing: 132 − 38 = 94 = 0x05E
        + "7011 02 A1 0000 0001 0007 00" + "0A14FF000180"  # DMP: 132 − 115 = 17; count is 6 + start code
    )  # fmt: skip


def test_a_data_packet_is_these_octets() -> None:
    packet = sacn.Data(CID, 258, bytes([10, 20, 255, 0, 1, 128]), "Welvo", 120, 7, sacn.PREVIEW)
    assert sacn.encode_sacn(packet) == data_bytes()
    assert sacn.decode_sacn(data_bytes()) == packet


def test_a_full_packet_has_the_lengths_of_the_standard() -> None:
    raw = sacn.encode_sacn(sacn.Data(CID, 1, bytes(512)))
    assert len(raw) == 638
    assert (raw[16:18].hex(), raw[38:40].hex(), raw[115:117].hex(), raw[123:125].hex()) == (
        "726e",
        "7258",
        "720b",
        "0201",
    )


def test_a_synchronization_packet_is_these_octets() -> None:
    raw = bytes.fromhex(ROOT + "7021 00000008" + CID.hex() + "700B 00000001 05 1F40 0000")
    assert sacn.encode_sacn(sacn.SyncPacket(CID, 8000, 5)) == raw and len(raw) == 49
    assert sacn.decode_sacn(raw) == sacn.SyncPacket(CID, 8000, 5)


def test_a_discovery_packet_is_these_octets() -> None:
    raw = bytes.fromhex(
        ROOT
        + "706C 00000008"
        + CID.hex()
        + "7056 00000002"
        + "41".ljust(128, "0")
        + "00000000"
        + "700C 00000001 00 00 0001 1F40"
    )
    packet = sacn.Discovery(CID, "A", (1, 8000))
    assert sacn.encode_sacn(packet) == raw and len(raw) == 124
    assert sacn.decode_sacn(raw) == packet


@pytest.mark.parametrize(
    ("at", "value", "field"),
    [
        (0, 0x11, "preamble"), (3, 1, "preamble"), (5, 0, "identifier"), (16, 0x60, "root length"),
        (17, 0xFF, "root length"), (21, 5, "root vector"), (43, 9, "framing vector"), (39, 0xFF, "framing length"),
        (117, 3, "DMP"), (118, 0xA2, "DMP"), (122, 2, "DMP"), (120, 1, "DMP"), (124, 200, "property count"),
        (108, 201, "priority"), (113, 0xFF, "universe"),
    ],
)  # fmt: skip
def test_one_wrong_octet_is_named(at: int, value: int, field: str) -> None:
    raw = bytearray(data_bytes())
    raw[at] = value
    with pytest.raises(WireError, match=field):
        sacn.decode_sacn(bytes(raw))


def test_universes_priorities_and_cids_that_do_not_exist_are_never_sent() -> None:
    for packet in (
        sacn.Data(CID, 0, b""), sacn.Data(CID, 64000, b""), sacn.Data(CID, 1, bytes(513)),
        sacn.Data(CID, 1, b"", priority=201), sacn.Data(bytes(16), 1, b""), sacn.Data(b"short", 1, b""),
        sacn.SyncPacket(CID, 0), sacn.Discovery(CID, "", (2, 1)), sacn.Discovery(CID, "", tuple(range(1, 514))),
    ):  # fmt: skip
        with pytest.raises(WireError):
            sacn.encode_sacn(packet)


def test_multicast_groups() -> None:
    assert (sacn.group_of_universe(1), sacn.group_of_universe(258), sacn.group_of_universe(64214)) == (
        "239.255.0.1",
        "239.255.1.2",
        "239.255.250.214",
    )


def test_the_sequence_rule_refuses_exactly_the_last_twenty_numbers() -> None:
    refused = [new for new in range(256) if not sacn.sacn_accepts(100, new)]
    assert refused == list(range(81, 101))
    assert sacn.sacn_accepts(None, 0) and sacn.sacn_accepts(255, 0) and not sacn.sacn_accepts(3, 250)


def test_names_are_cut_at_a_letter_not_inside_one() -> None:
    assert text_field("é" * 40, 64) == ("é" * 31).encode() + b"\0\0"
    raw = sacn.encode_sacn(sacn.Data(CID, 1, b"", "ü" * 60))
    decoded = sacn.decode_sacn(raw)
    assert isinstance(decoded, sacn.Data) and decoded.name == "ü" * 31


packets = st.one_of(
    st.builds(
        sacn.Data, st.binary(min_size=16, max_size=16).filter(any), st.integers(1, 63999), st.binary(max_size=512),
        st.text(max_size=15).filter(str.isprintable), st.integers(0, 200), st.integers(0, 255),
        st.sampled_from([0, 0x80, 0x40, 0x20]), st.integers(0, 63999), st.integers(0, 255),
    ),
    st.builds(sacn.SyncPacket, st.just(CID), st.integers(1, 63999), st.integers(0, 255)),
    st.builds(
        lambda u: sacn.Discovery(CID, "x", tuple(sorted(u)), 1, 2), st.sets(st.integers(1, 63999), max_size=512)
    ),
)  # fmt: skip


@given(packets)
def test_what_is_written_is_read(packet: sacn.Packet) -> None:
    assert sacn.decode_sacn(sacn.encode_sacn(packet)) == packet


@given(st.binary(max_size=700))
def test_noise_is_a_wire_error_and_nothing_else(raw: bytes) -> None:
    for noise in (raw, data_bytes()[:38] + raw, data_bytes()[: len(raw)]):
        try:
            sacn.decode_sacn(noise)
        except WireError:
            continue


def test_what_a_sender_patches_stands_where_the_standard_has_it() -> None:
    """E1.31, table 4-1: sequence number, options and the first slot in octets from 0."""
    packet = sacn.Data(b"c" * 16, 7, bytes((9, 8)), "desk", sequence=201, options=sacn.TERMINATED)
    raw = sacn.encode_sacn(packet)
    assert (sacn.SEQUENCE_AT, sacn.OPTIONS_AT, sacn.SLOTS_AT) == (111, 112, 126)
    assert (raw[111], raw[112], raw[126]) == (201, 0x40, 9)
