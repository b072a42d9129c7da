"""Bytes worked out from Art-Net 4, then round trips."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from welvo.protocols import artnet
from welvo.protocols.wire import WireError

HEAD = "4172742D4E657400"


def test_a_poll_is_these_octets() -> None:
    raw = bytes.fromhex(HEAD + "0020 000E 02 10 0000 0000 7FF0 00FF")
    assert artnet.encode_artnet(artnet.Poll()) == raw and len(raw) == 22
    assert artnet.decode_artnet(raw) == artnet.Poll()
    assert artnet.decode_artnet(raw[:14]) == artnet.Poll()  # the short form of older controllers


def test_levels_are_these_octets() -> None:
    raw = bytes.fromhex(HEAD + "0050 000E 09 00 2301 0004 01 02 03 04")  # 0x123: SubUni 0x23 first, then Net 1
    assert artnet.encode_artnet(artnet.Dmx(0x123, bytes([1, 2, 3, 4]), 9)) == raw
    assert artnet.decode_artnet(raw) == artnet.Dmx(0x123, bytes([1, 2, 3, 4]), 9)


def test_an_odd_number_of_levels_is_sent_even_and_taken_odd() -> None:
    raw = artnet.encode_artnet(artnet.Dmx(1, b"\x05\x06\x07"))
    assert raw[16:18] == b"\0\x04" and raw[18:] == b"\x05\x06\x07\0"
    odd = bytes.fromhex(HEAD + "0050 000E 00 00 0100 0003 050607")
    assert artnet.decode_artnet(odd) == artnet.Dmx(1, b"\x05\x06\x07")


def test_programming_a_page_is_these_octets() -> None:
    packet = artnet.Address(2, 0x81, 0x82, sw_out=(0x83, 0x7F, 0x7F, 0x7F), short_name="WEIR", command=0x70)
    raw = bytes.fromhex(
        HEAD + "0060 000E 81 02" + "57454952".ljust(36, "0") + "00" * 64 + "7F7F7F7F" + "837F7F7F" + "82 FF 70"
    )
    assert artnet.encode_artnet(packet) == raw and len(raw) == 107
    assert artnet.decode_artnet(raw) == packet


def test_sync_is_these_octets() -> None:
    assert artnet.encode_artnet(artnet.ArtSync()) == bytes.fromhex(HEAD + "0052 000E 0000")


def reply() -> artnet.PollReply:
    return artnet.PollReply(
        ip=(127, 0, 0, 21), short_name="WEIR-2", long_name="Weir two", report="#0001 [0003] ok", firmware=0x0103,
        net=1, sub=2, port_types=(0x80,), good_input=(0,), good_output=(0x81,), sw_in=(0,), sw_out=(3,),
        mac=bytes([2, 0x57, 127, 0, 0, 21]), bind_ip=(127, 0, 0, 21), bind_index=2, good_output_b=(0,),
    )  # fmt: skip


def test_a_reply_has_every_field_at_its_place() -> None:
    raw = artnet.encode_artnet(reply())
    assert len(raw) == 239 and raw[:10] == bytes.fromhex(HEAD + "0021")
    assert raw[10:14] == bytes([127, 0, 0, 21]) and raw[14:16] == b"\x36\x19"  # port little-endian
    assert raw[16:18] == b"\x01\x03" and (raw[18], raw[19]) == (1, 2)
    assert raw[20:22] == b"\x00\xff" and raw[24:26] == b"\xf0\x7f"  # OEM big-endian, ESTA little-endian
    assert raw[26:33] == b"WEIR-2\0" and raw[44:53] == b"Weir two\0" and raw[108:113] == b"#0001"
    assert raw[172:174] == b"\0\1" and (raw[174], raw[182], raw[190]) == (0x80, 0x81, 3)
    assert raw[201:207] == bytes([2, 0x57, 127, 0, 0, 21]) and raw[207:211] == bytes([127, 0, 0, 21]) and raw[211] == 2
    assert artnet.decode_artnet(raw) == reply()


def test_older_and_longer_replies_are_read_as_far_as_they_go() -> None:
    raw = artnet.encode_artnet(reply())
    old = artnet.decode_artnet(raw[:207])
    assert isinstance(old, artnet.PollReply) and old.bind_index == 1 and old.sw_out == (3,)
    assert artnet.decode_artnet(raw + b"more") == reply()


@pytest.mark.parametrize(
    ("raw", "field"),
    [
        (b"Art-Nix\0" + bytes(10), "identifier"), (b"", "identifier"),
        (bytes.fromhex(HEAD + "0050 000D 00 00 0100 0002 0000"), "version"),
        (bytes.fromhex(HEAD + "0050 000E 00 00 0100 0003 0000"), "length"),
        (bytes.fromhex(HEAD + "0050 000E 00 00 0100 0000 00"), "length"),
        (bytes.fromhex(HEAD + "0050 000E 00 00 0080 0002 0000"), "Port-Address"),
        (bytes.fromhex(HEAD + "0020 000E"), "ArtPoll"), (bytes.fromhex(HEAD + "0060 000E") + bytes(50), "ArtAddress"),
        (bytes.fromhex(HEAD + "0021") + bytes(100), "ArtPollReply"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_named(raw: bytes, field: str) -> None:
    with pytest.raises(WireError, match=field):
        artnet.decode_artnet(raw)


@pytest.mark.parametrize(
    ("at", "value", "field"), [(15, 0x20, "Port"), (173, 9, "NumPorts"), (18, 200, "NetSwitch"), (19, 16, "NetSwitch")]
)
def test_a_reply_that_is_rubbish_is_refused(at: int, value: int, field: str) -> None:
    raw = bytearray(artnet.encode_artnet(reply()))
    raw[at] = value
    with pytest.raises(WireError, match=field):
        artnet.decode_artnet(bytes(raw))


def test_what_does_not_fit_is_never_sent() -> None:
    for packet in (
        artnet.Dmx(32768, b"\0\0"),
        artnet.Dmx(1, b""),
        artnet.Dmx(1, bytes(513)),
        artnet.PollReply((1, 2, 3, 4), port_types=(0,) * 5),
    ):
        with pytest.raises(WireError):
            artnet.encode_artnet(packet)


def test_other_kinds_are_handed_on_unread() -> None:
    raw = bytes.fromhex(HEAD + "0097 000E") + bytes(7)
    other = artnet.decode_artnet(raw)
    assert isinstance(other, artnet.Other) and other.opcode == 0x9700 and artnet.encode_artnet(other) == raw


@given(
    st.integers(0, 32767),
    st.binary(min_size=1, max_size=256).map(lambda b: b + b),
    st.integers(0, 255),
    st.integers(0, 255),
)
def test_levels_that_are_written_are_read(address: int, slots: bytes, sequence: int, physical: int) -> None:
    packet = artnet.Dmx(address, slots, sequence, physical)
    assert artnet.decode_artnet(artnet.encode_artnet(packet)) == packet


@given(st.binary(max_size=300))
def test_noise_is_a_wire_error_and_nothing_else(raw: bytes) -> None:
    for head in ("", HEAD, HEAD + "0021", HEAD + "0050000E", HEAD + "0060000E"):
        try:
            artnet.decode_artnet(bytes.fromhex(head) + raw)
        except WireError:
            continue


def test_switching_inputs_off_is_these_octets() -> None:
    packet = artnet.ArtInput(2, (False, True))
    raw = bytes.fromhex(HEAD + "0070 000E 00 02 0002 00 01 00 00")
    assert artnet.encode_artnet(packet) == raw and len(raw) == 20 and artnet.decode_artnet(raw) == packet
    with pytest.raises(WireError, match="more than one page"):
        artnet.encode_artnet(artnet.ArtInput(1, (True,) * 5))
    with pytest.raises(WireError, match="more than one page"):
        artnet.decode_artnet(raw[:14] + b"\0\x05" + raw[16:])


def test_setting_an_address_is_these_octets() -> None:
    packet = artnet.IpProg(0x96, (10, 0, 40, 21), (255, 255, 255, 0), (10, 0, 40, 1))
    raw = bytes.fromhex(HEAD + "00F8 000E 0000 96 00 0A002815 FFFFFF00 1936 0A002801 00000000")
    assert artnet.encode_artnet(packet) == raw and len(raw) == 34 and artnet.decode_artnet(raw) == packet
    assert artnet.PROG_ENABLE | artnet.PROG_GATEWAY | artnet.PROG_IP | artnet.PROG_MASK == 0x96
    assert artnet.decode_artnet(raw[:26]) == artnet.IpProg(
        0x96, (10, 0, 40, 21), (255, 255, 255, 0)
    )  # an older, shorter one


def test_what_a_node_says_of_its_address_is_these_octets() -> None:
    packet = artnet.IpProgReply((10, 0, 40, 21), (255, 255, 255, 0), 0x40, (10, 0, 40, 1))
    raw = bytes.fromhex(HEAD + "00F9 000E 00000000 0A002815 FFFFFF00 1936 40 00 0A002801 0000")
    assert (
        artnet.encode_artnet(packet) == raw
        and len(raw) == 34
        and artnet.decode_artnet(raw) == packet
        and packet.uses_dhcp
    )
    for short in (raw[:26], bytes.fromhex(HEAD + "00F8 000E 0000"), bytes.fromhex(HEAD + "0070 000E")):
        with pytest.raises(WireError, match="too few"):
            artnet.decode_artnet(short)


def test_a_reply_has_every_field_at_its_offset_of_the_standard() -> None:
    """Art-Net 4, ArtPollReply: offsets counted by hand from the table."""
    reply = artnet.PollReply(
        (127, 0, 0, 9), "short", "long", firmware=0x0102, net=3, sub=4, oem=0x0506, esta=0x0708, status1=0x99,
        port_types=(0x80, 0x81, 0x82, 0x83), good_input=(1, 2, 3, 4), good_output=(5, 6, 7, 8), sw_in=(9, 10, 11, 12),
        sw_out=(13, 14, 15, 1), acn_priority=150, style=2, mac=bytes(range(1, 7)), bind_ip=(127, 0, 0, 8), bind_index=3,
        status2=0x1F, good_output_b=(21, 22, 23, 24), status3=0x20,
    )  # fmt: skip
    raw = artnet.encode_artnet(reply)
    assert raw[10:14] == bytes((127, 0, 0, 9)) and raw[14:16] == bytes((0x36, 0x19))
    assert raw[16:24] == bytes((1, 2, 3, 4, 5, 6, 0, 0x99)) and raw[24:26] == bytes((0x08, 0x07))
    assert raw[172:174] == bytes((0, 4)) and raw[174:178] == bytes((0x80, 0x81, 0x82, 0x83))
    assert [*raw[178:194]] == [1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 1]
    assert raw[194] == 150 and raw[195:200] == bytes(5) and raw[200] == 2 and raw[201:207] == bytes(range(1, 7))
    assert raw[207:213] == bytes((127, 0, 0, 8, 3, 0x1F)) and raw[213:218] == bytes((21, 22, 23, 24, 0x20))
