"""A protocol's record is the whole truth: whatever a record promises there is an encoder, a listener and a number for,
and a record alone is never sent as something else."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from msgspec.structs import replace

from welvo.formats.pcap import Datagram
from welvo.live.encoders import LINES, OCTETS, UNIVERSES, can_send
from welvo.live.interfaces import LOOPBACK
from welvo.live.listener import Listener
from welvo.live.messages import UniverseOut
from welvo.live.output import kept_back, streams_to_send
from welvo.live.recording import frame_of
from welvo.patch.index import Index
from welvo.rig.document import Rig
from welvo.rig.protocol import NUMBERED, PROTOCOLS, ProtocolRecord
from welvo.rig.wiring import Feed
from welvo.standins.receiver import ReceivedUniverse
from welvo.survey.traffic import frame_octets, traffic_of_rig


@pytest.mark.parametrize("record", PROTOCOLS.values(), ids=PROTOCOLS)
def test_what_a_record_promises_is_there(record: ProtocolRecord) -> None:
    assert can_send(record.key)
    assert bool(record.port) == (record.packets is not None) == (record.carries != "line")
    assert record.has_universe_numbers == (record.lost_after > 0)
    for way, words in record.ways(record.lowest):
        assert way and words
    assert record.read_wire(record.write(record.highest)) == record.highest


def test_there_is_no_encoder_without_a_record() -> None:
    assert {*UNIVERSES, *OCTETS, *LINES} == PROTOCOLS.keys()


@pytest.fixture
def ears() -> Iterator[Listener]:
    made = Listener(LOOPBACK, [], quiet=True)
    yield made
    made.close()


@pytest.mark.parametrize("protocol", NUMBERED)
def test_what_is_sent_is_heard_recorded_and_merged_as_the_same_universe(protocol: str, ears: Listener) -> None:
    encoder, record = UNIVERSES[protocol], PROTOCOLS[protocol]  # type: ignore[index]
    out = UniverseOut("x", record.key, record.lowest + 6, ("127.0.0.5",))
    packet = encoder.empty_packet(out, bytes(range(1, 17)), "Bench")
    packet[encoder.slots_at + 3] = 77
    ears.take_datagram(bytes(packet), "127.0.0.9", 100.0)
    ((_, heard),) = ears.sources_of_universe(protocol, out.wire, 100.0)
    assert len(heard) == 512 and heard[3] == 77 and ears.noise == 0
    assert [s.wire for s in ears.heard_sources(100.0 + record.lost_after - 0.1)] == [out.wire]
    assert ears.heard_sources(100.0 + record.lost_after + 0.1) == []
    frame = frame_of(Datagram(0.0, "127.0.0.9", record.port, "127.0.0.5", record.port, bytes(packet)), 0.0)
    assert frame and frame.wire == (protocol, out.wire) and frame.levels[3] == 77
    assert ReceivedUniverse(protocol).merged_levels(0.0) == bytes(512)


@pytest.mark.parametrize("protocol", [*UNIVERSES, *OCTETS])
@pytest.mark.parametrize("slots", [1, 2, 511, 512])
def test_traffic_reckons_with_the_packets_that_are_sent(protocol: str, slots: int) -> None:
    record = PROTOCOLS[protocol]
    if record.has_universe_numbers:
        out = UniverseOut("x", record.key, record.lowest, (), slots=slots)
        sent = [UNIVERSES[record.key].empty_packet(out, b"\1" * 16, "")]
    else:
        sent = OCTETS[record.key].packets_of_frame(bytes(3 * slots), 1)
        slots = 3 * slots
    around = 66  # Ethernet, IPv4 and UDP with what lies between two frames
    assert frame_octets(record.key, slots) == (len(sent), sum(len(packet) + around for packet in sent))


def test_a_record_alone_is_kept_back_and_not_sent_as_another_protocol(
    rig: Rig, monkeypatch: pytest.MonkeyPatch
) -> None:
    for carries, like in (("universes", "artnet"), ("octets", "ddp"), ("line", "serial")):
        made_up = replace(PROTOCOLS[like], key="surf", word="surf", carries=carries)
        monkeypatch.setitem(PROTOCOLS, "surf", made_up)
        feed = Feed(universe="u1", sender="s", protocol="surf", wire=1, to="127.0.0.5")  # type: ignore[arg-type]
        fed = replace(rig, feeds={"w1": feed})  # no file and no edit lets it in
        assert kept_back(fed) == {"w1": "this program cannot send surf"}, carries
        assert streams_to_send(fed, LOOPBACK, {}, {}, Index(fed), lines={"1": "/dev/x"}) == [], carries
        assert traffic_of_rig(Index(fed)).feeds.keys() == {"w1"}


@pytest.mark.parametrize("protocol", NUMBERED)
def test_the_load_is_reckoned_with_packets_as_long_as_those_that_are_sent(protocol: str) -> None:
    encoder, record = UNIVERSES[protocol], PROTOCOLS[protocol]  # type: ignore[index]
    packet = encoder.empty_packet(UniverseOut("x", record.key, 7, ("127.0.0.5",)), bytes(range(16)), "Bench")
    assert record.packets and len(packet) == record.packets.head + record.packets.most
