"""RDM pinned by literal bytes of the standard; the search finds everybody, collisions included."""

from __future__ import annotations

import random
from collections.abc import Generator
from contextlib import suppress

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from welvo.protocols import artnet, rdm
from welvo.protocols.rdm import Ask, RdmPacket
from welvo.protocols.wire import WireError

EXAMPLE = bytes.fromhex("CC 01 19 12 34 56 78 9A BC CB A9 87 65 43 21 00 01 00 00 00 20 00 30 01 04 06 6A")
"""GET STATUS_MESSAGES, the worked example of the standard (E1.20, 6.2.12)."""


def test_the_standard_s_own_example() -> None:
    frame = RdmPacket(0x123456789ABC, 0xCBA987654321, rdm.GET, rdm.STATUS_MESSAGES, b"\x04")
    assert rdm.encode_rdm(frame) == EXAMPLE and rdm.decode_rdm(EXAMPLE) == frame
    assert rdm.for_artnet(frame) == EXAMPLE[1:] and rdm.from_artnet(EXAMPLE[1:]) == frame
    with pytest.raises(WireError):
        rdm.from_artnet(EXAMPLE)  # with its start code: accepted by some tools, by the standard never
    said = rdm.answer_to(frame, 0x123456789ABC, b"", rdm.NACK)
    assert (said.to, said.source, said.command, said.port) == (0xCBA987654321, 0x123456789ABC, rdm.GET_RESPONSE, 2)


@pytest.mark.parametrize(
    ("at", "value", "field"),
    [(0, 0, "start code"), (2, 23, "message length"), (2, 200, "message length"), (23, 9, "PDL"), (26, 0, "checksum"),
     (20, 0x22, "checksum")],
)  # fmt: skip
def test_a_damaged_frame_names_its_field(at: int, value: int, field: str) -> None:
    raw = bytearray(EXAMPLE)
    raw[at] = value
    with pytest.raises(WireError, match=field):
        rdm.decode_rdm(bytes(raw))
    with pytest.raises(WireError):
        rdm.decode_rdm(EXAMPLE[:20])
    with pytest.raises(WireError, match="PDL"):
        rdm.encode_rdm(RdmPacket(1, 2, rdm.GET, 3, bytes(232)))


@given(st.binary(max_size=300))
def test_any_octets_give_a_frame_or_a_wire_error(raw: bytes) -> None:
    readers = (rdm.decode_rdm, rdm.from_artnet, rdm.decode_info, rdm.decode_personality, rdm.decode_slots)
    for read in (*readers, rdm.decode_pids, rdm.decode_sensor, rdm.decode_statuses):
        with suppress(WireError):
            read(raw)  # type: ignore[operator]
    rdm.decode_branch(raw)
    with suppress(WireError):
        artnet.decode_artnet(artnet.IDENTIFIER + raw)


def test_a_branch_s_answer_bit_by_bit() -> None:
    # 7FF0:00000101: 7F -> FF 7F, F0 -> FA F5, 00 -> AA 55, 01 -> AB 55; the sum of those twelve octets is 0x078F
    coded = bytes.fromhex("FF7F FAF5 AA55 AA55 AB55 AB55")
    total = sum(coded)
    tail = bytes([total >> 8 | 0xAA, total >> 8 | 0x55, total & 255 | 0xAA, total & 255 | 0x55])
    wanted = b"\xfe" * 7 + b"\xaa" + coded + tail
    assert rdm.encode_branch(0x7FF000000101) == wanted and rdm.decode_branch(wanted) == 0x7FF000000101
    assert rdm.decode_branch(wanted[3:]) == 0x7FF000000101  # the first octets may be lost
    both = bytes(a | b for a, b in zip(wanted, rdm.encode_branch(0x123456789ABC)))
    assert rdm.decode_branch(both) is None and rdm.decode_branch(b"") is None and rdm.decode_branch(wanted[:-1]) is None


def test_uids_are_said_and_read() -> None:
    assert rdm.say_uid(0x7FF000000101) == "7FF0:00000101" and rdm.read_uid(" 7ff0:00000101 ") == 0x7FF000000101
    for wrong in ("", "7FF0", "7FF0:0000010", "xxxx:00000101"):
        with pytest.raises(WireError):
            rdm.read_uid(wrong)


def line(uids: set[int], deaf: frozenset[int] = frozenset(), proxies: int = 0) -> Generator[bytes | None, Ask, None]:
    """A line with responders: it answers the search's questions as the wire would."""
    muted: set[int] = set()
    said: bytes | None = None
    while True:
        ask = yield said
        said = None
        if ask.kind == "unmute":
            muted.clear()
        elif ask.kind == "mute":
            if ask.low in uids and ask.low not in deaf:
                muted.add(ask.low)
                said = b"\0\0"
        else:
            answers = [rdm.encode_branch(u) for u in uids if u not in muted and ask.low <= u <= ask.high]
            if answers:
                said = bytes(max(octet) if len(set(octet)) == 1 else octet[0] | octet[-1] for octet in zip(*answers))


def run(uids: set[int], **more: object) -> tuple[list[int], int]:
    wire = line(uids, **more)  # type: ignore[arg-type]
    next(wire)
    looking = rdm.search_responders()
    asked = 0
    try:
        ask = next(looking)
        while True:
            asked += 1
            ask = looking.send(wire.send(ask))
    except StopIteration as e:
        return e.value, asked


@settings(max_examples=60)
@given(st.sets(st.integers(0, rdm.HIGHEST_UID), max_size=250))
def test_the_search_finds_every_responder(uids: set[int]) -> None:
    found, _ = run(uids)
    assert sorted(found) == sorted(uids)


def test_two_hundred_and_fifty_neighbours_are_found_and_it_ends_whatever_answers() -> None:
    near = {0x7FF000000000 + n for n in range(250)}
    found, asked = run(near)
    assert sorted(found) == sorted(near) and asked < 250 * 60
    rng = random.Random(3)
    many = {rng.randrange(rdm.HIGHEST_UID) for _ in range(250)}
    deaf = frozenset(sorted(many)[:3])
    found, _ = run(many, deaf=deaf)
    assert sorted(found) == sorted(many - deaf)
    noise = rdm.search_responders()
    ask = next(noise)
    count = 0
    with pytest.raises(rdm.Disturbed) as e:
        while True:
            count += 1
            ask = noise.send(b"\x55\x55\x55" if ask.kind == "branch" else None)
    assert e.value.found == [] and count <= rdm.MOST_FRUITLESS + 8  # the un-mutings, and the last leaf
    # many lamps that will not be muted are no noise: each is heard alone
    found, _ = run(many, deaf=frozenset(sorted(many)[:30]))
    assert sorted(found) == sorted(many)[30:]


def test_an_answer_that_was_lost_is_made_up_for() -> None:
    rng = random.Random(7)
    uids = {rng.randrange(rdm.HIGHEST_UID) for _ in range(12)}
    for lost in range(40):
        wire, looking, branches = line(uids), rdm.search_responders(), 0
        next(wire)
        ask = next(looking)
        try:
            while True:
                said = wire.send(ask)
                if ask.kind == "branch" and said is not None:
                    branches += 1
                    said = None if branches - 1 == lost else said
                ask = looking.send(said)
        except StopIteration as e:
            assert sorted(e.value) == sorted(uids), lost


def test_device_info_and_the_rest_by_their_octets() -> None:
    raw = bytes.fromhex("0100 0007 0102 00000203 0016 02 03 0091 0000 01")
    info = rdm.decode_info(raw)
    assert info == rdm.DeviceInfo(7, 0x0102, 0x203, 22, 2, 3, 145, 0, 1)
    assert rdm.encode_info(info) == raw and rdm.decode_info(raw[:14] + b"\xff\xff" + raw[16:]).address == 0
    with pytest.raises(WireError, match="513 slots"):
        rdm.decode_personality(b"\x01\x02\x01wide")
    for at, what in ((10, "footprint"), (14, "address"), (16, "sub-devices")):
        assert rdm.decode_info(raw[:at] + b"\x02\x00" + raw[at + 2 :])  # 512
        with pytest.raises(WireError, match=f"{what} 36611; 512 is the most"):
            rdm.decode_info(raw[:at] + b"\x8f\x03" + raw[at + 2 :])
    assert rdm.decode_personality(b"\x02\x00\x1622 slot") == rdm.Personality(2, 22, "22 slot")
    assert rdm.decode_slots(bytes.fromhex("0000 00 0101 0001 01 0000")) == [
        rdm.SlotInfo(0, 0, 0x0101), rdm.SlotInfo(1, 1, 0),
    ]  # fmt: skip
    heat = rdm.Sensor(0, 0, 1, 1, -200, 1200, 100, 800, 3, "Head")
    assert rdm.decode_sensor(rdm.encode_sensor(heat)) == heat and rdm.say_sensor(heat, 415) == "41.5 °C"
    assert rdm.decode_text(rdm.encode_text("ü" * 40)) == "ü" * 16 and rdm.decode_text(b"a\0b") == "a"
    assert rdm.decode_statuses(bytes.fromhex("0000 04 0021 0005 FFFE")) == [rdm.Status(0, 4, 0x21, 5, -2)]


# ---- in Art-Net

HEAD = b"Art-Net\0"


def test_the_table_of_devices_by_its_octets() -> None:
    raw = HEAD + bytes.fromhex("0080 000E 0000 00000000000000 01 00 02 23 24") + bytes(30)
    assert artnet.encode_artnet(artnet.TodRequest(1, (0x23, 0x24))) == raw and artnet.decode_artnet(
        raw
    ) == artnet.TodRequest(1, (0x23, 0x24))
    assert artnet.decode_artnet(raw[:26]) == artnet.TodRequest(1, (0x23, 0x24))
    raw = HEAD + bytes.fromhex("0081 000E 01 02 000000000000 01 01 00 23 0003 00 02 7FF000000101 7FF000000102")
    data = artnet.TodData(2, 1, 1, 0x23, 3, 0, (0x7FF000000101, 0x7FF000000102))
    assert artnet.encode_artnet(data) == raw and artnet.decode_artnet(raw) == data
    raw = HEAD + bytes.fromhex("0082 000E 0000 00000000000000 01 01 23")
    assert artnet.encode_artnet(artnet.TodControl(1, 0x23)) == raw and artnet.decode_artnet(raw) == artnet.TodControl(
        1, 0x23
    )
    for cut in (raw[:20], HEAD + bytes.fromhex("0081 000E 01 02 000000000000 01 01 00 23 0003 00 09 7FF0")):
        with pytest.raises(WireError):
            artnet.decode_artnet(cut)


def test_rdm_in_art_net_by_its_octets() -> None:
    raw = HEAD + bytes.fromhex("0083 000E 01 0000000000000000 01 00 23") + EXAMPLE[1:]
    packet = artnet.Rdm(1, 0x23, EXAMPLE[1:])
    assert artnet.encode_artnet(packet) == raw and artnet.decode_artnet(raw) == packet
    raw = HEAD + bytes.fromhex("0084 000E 01 00 7FF000000101 00 30 00F0 0001 0002 00000000 0011 0021")
    sub = artnet.RdmSub(0x7FF000000101, rdm.SET, rdm.DMX_START_ADDRESS, 1, 2, (17, 33))
    assert artnet.encode_artnet(sub) == raw and artnet.decode_artnet(raw) == sub


def test_a_label_is_kept_without_what_cannot_be_seen() -> None:
    raw = "Eel\n7 \u202egnp.\u200b é✓".encode()
    assert rdm.decode_text(raw) == "Eel\ufffd7 \ufffdgnp.\ufffd é✓"
    assert (
        artnet.decode_artnet(artnet.encode_artnet(artnet.PollReply((127, 0, 0, 9), "WEIR\t2\x1b[1m"))).short_name
        == "WEIR\ufffd2\ufffd[1m"
    )  # type: ignore[union-attr]


def test_a_table_holds_lamps_once_each_and_nobodys_addresses_not_at_all() -> None:
    """The null UID, the broadcast to everybody and the one to all lamps of a maker are no lamps (E1.20, 5.1)."""
    lamp, other, makers, everybody = 0x4D4C_0000_0001, 0x4D4C_0000_0002, 0x4D4C_FFFF_FFFF, 0xFFFF_FFFF_FFFF
    assert rdm.responders_of_table([other, 0, lamp, makers, other, everybody, lamp]) == [other, lamp]
    assert rdm.responders_of_table([0x4D4C_FFFF_FFFE]) == [0x4D4C_FFFF_FFFE]  # the highest that one can have
