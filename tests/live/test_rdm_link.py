"""RDM through a gateway: every kind of answer, bounded in tries and time."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from typing import Any

import pytest

from welvo.demo.gallery import make_gallery
from welvo.formats.models import shipped_models
from welvo.live import rdm_link
from welvo.live.links import LinkError
from welvo.live.rdm_link import Gateways, RdmRefused, ResponderTalk, find_responders
from welvo.patch.index import Index
from welvo.protocols import artnet, rdm
from welvo.protocols.rdm import RdmPacket
from welvo.standins.host import responders_on_ports
from welvo.standins.lamps import LampPort, Responder
from welvo.standins.node import Node


class Wire:
    """Stands in for the listener: a node that answers at once, or loses what it is told to lose."""

    def __init__(self, node: Node) -> None:
        self.node = node
        self.on_rdm: Callable[[Any, str], object] | None = None
        self.lose = 0
        self.sent: list[artnet.Packet] = []

    def send_artnet(self, packet: artnet.Packet, ip: str) -> None:
        self.sent.append(packet)
        if self.lose:
            self.lose -= 1
            return
        for raw in self.node.take_artnet(artnet.decode_artnet(artnet.encode_artnet(packet)), "127.0.0.1"):
            answer = artnet.decode_artnet(raw)
            assert self.on_rdm and isinstance(answer, artnet.TodData | artnet.Rdm)
            self.on_rdm(answer, ip)


@pytest.fixture
def node() -> Node:
    """The demo's WEIR-2 with the lamps of its port A as they leave the factory."""
    rig = make_gallery()
    device = next(k for k, d in rig.devices.items() if d.name == "WEIR-2")
    made = Node("127.0.0.21", shipped_models()["weir-2"], {"A.universe": 3}, time.monotonic)
    made.lines = {k: LampPort(v) for k, v in responders_on_ports(Index(rig), device, {}, False).items()}
    made.search_takes = 0.05
    return made


@pytest.fixture
def wire(node: Node, monkeypatch: pytest.MonkeyPatch) -> Wire:
    monkeypatch.setattr(rdm_link, "ANSWER", 0.05)
    monkeypatch.setattr(rdm_link, "TABLE_AGAIN", 0.02)
    return Wire(node)


def lamps(node: Node) -> list[Responder]:
    return node.lines["A"].responders


def run(coroutine: Any) -> Any:
    return asyncio.run(coroutine)


def test_a_port_is_searched_and_every_responder_read(wire: Wire, node: Node) -> None:
    told: list[tuple[int, int]] = []
    found = run(
        find_responders(Gateways(wire).port_at("127.0.0.21", 3), True, lambda done, of: told.append((done, of)))
    )  # type: ignore[arg-type]
    assert {x.uid for x in found} == {r.uid for r in lamps(node)} and len(found) == 12
    assert {x.address for x in found} == {1} and {x.personality for x in found} == {1}
    eddy = next(x for x in found if x.model_name == "Eddy head")
    assert eddy.names == ((1, 22, "22 slot"), (2, 9, "9 slot")) and eddy.footprint == 22 and told[-1] == (12, 12)
    assert any(isinstance(p, artnet.TodControl) for p in wire.sent)


def test_a_lamp_tells_everything_it_knows(wire: Wire, node: Node) -> None:
    lamp = lamps(node)[0]
    read = run(ResponderTalk(Gateways(wire).port_at("127.0.0.21", 3)).read_responder(lamp.uid, True))  # type: ignore[arg-type]
    assert (
        read.deep and read.maker == "Tarnwick" and read.software == "1.4.2" and read.counters == {"device hours": 1200}
    )
    assert read.sensors == (("Head", "41.5 °C"),) and read.slots[0] == (0, 0, 0x0101, "pan")
    assert read.slots[1][:3] == (1, 1, 0) and len(read.slots) == 22


def test_setting_reads_back_and_a_refusal_says_why(wire: Wire, node: Node) -> None:
    lamp = lamps(node)[0]
    talk = ResponderTalk(Gateways(wire).port_at("127.0.0.21", 3))  # type: ignore[arg-type]
    run(talk.set_address(lamp.uid, 145))
    run(talk.set_label(lamp.uid, "207 Eddy"))
    run(talk.identify_responder(lamp.uid, True))
    assert (lamp.address, lamp.label, lamp.identify) == (145, "207 Eddy", True)
    with pytest.raises(RdmRefused, match="refuses address: the value is out of its range"):
        run(talk.set_address(lamp.uid, 600))
    with pytest.raises(RdmRefused, match="refuses personality: the value is out of its range"):
        run(talk.set_personality(lamp.uid, 9))
    lamp.fault = "stubborn"
    with pytest.raises(RdmRefused, match="locked against writing"):
        run(talk.set_address(lamp.uid, 1))
    with pytest.raises(RdmRefused, match="it does not know this parameter"):
        run(talk.get_parameter(lamp.uid, 0x8123))


def test_lost_packets_are_asked_for_again_and_silence_ends(wire: Wire, node: Node) -> None:
    lamp = lamps(node)[0]
    talk = ResponderTalk(Gateways(wire).port_at("127.0.0.21", 3))  # type: ignore[arg-type]
    wire.lose = 2
    assert run(talk.get_parameter(lamp.uid, rdm.DMX_START_ADDRESS)) == b"\x00\x01"
    wire.sent.clear()
    lamp.fault = "deaf"
    with pytest.raises(LinkError, match="does not answer"):
        run(talk.get_parameter(lamp.uid, rdm.DMX_START_ADDRESS))
    assert len(wire.sent) == rdm_link.TRIES
    assert "does not answer" in run(talk.read_responder(lamp.uid)).failed


def test_an_answer_that_is_put_off_is_fetched(wire: Wire, node: Node) -> None:
    lamp = lamps(node)[0]
    lamp.fault = "slow"
    read = run(ResponderTalk(Gateways(wire).port_at("127.0.0.21", 3)).read_responder(lamp.uid))  # type: ignore[arg-type]
    assert read.model_name == "Eddy head" and not read.failed
    assert any(isinstance(p, artnet.Rdm) and rdm.from_artnet(p.frame).pid == rdm.QUEUED_MESSAGE for p in wire.sent)


class Script:
    """A port whose answers are written down."""

    def __init__(self, *answers: tuple[int, bytes, int]) -> None:
        self.answers = list(answers)
        self.asked: list[RdmPacket] = []

    async def ask(self, request: RdmPacket) -> RdmPacket:
        self.asked.append(request)
        kind, data, pid = self.answers.pop(0) if len(self.answers) > 1 else self.answers[0]
        return RdmPacket(request.source, request.to, request.command + 1, pid or request.pid, data, 0, kind)

    async def table(self, anew: bool) -> list[int]:
        return []


def talk(*answers: tuple[int, bytes, int]) -> tuple[ResponderTalk, Script]:
    port = Script(*answers)
    return ResponderTalk(port, lambda _: None), port


def test_parts_are_put_together_and_nothing_waits_for_ever() -> None:
    long, port = talk((rdm.ACK_OVERFLOW, b"ab", 0), (rdm.ACK_OVERFLOW, b"cd", 0), (rdm.ACK, b"e", 0))
    assert run(long.get_parameter(1, rdm.SLOT_INFO)) == b"abcde" and len(port.asked) == 3
    endless, port = talk((rdm.ACK_OVERFLOW, b"x", 0))
    with pytest.raises(LinkError, match="never comes to the end"):
        run(endless.get_parameter(1, rdm.SLOT_INFO))
    assert len(port.asked) == rdm_link.MOST_PARTS
    late, port = talk(
        (rdm.ACK_TIMER, b"\x00\x02", 0), (rdm.ACK, b"", rdm.STATUS_MESSAGES), (rdm.ACK, b"\x07", rdm.SLOT_INFO)
    )
    assert run(late.get_parameter(1, rdm.SLOT_INFO)) == b"\x07" and port.asked[1].pid == rdm.QUEUED_MESSAGE
    never, port = talk((rdm.ACK_TIMER, b"\x00\x02", 0), (rdm.ACK, b"", rdm.STATUS_MESSAGES))
    with pytest.raises(LinkError, match="promised an answer that never came"):
        run(never.get_parameter(1, rdm.SLOT_INFO))
    assert len(port.asked) == 1 + rdm_link.MOST_FETCHED
    with pytest.raises(LinkError, match="wants 6553.5 s"):
        run(talk((rdm.ACK_TIMER, b"\xff\xff", 0))[0].get_parameter(1, rdm.SLOT_INFO))
    with pytest.raises(LinkError, match="something else"):
        run(talk((rdm.ACK, b"", rdm.DEVICE_INFO))[0].get_parameter(1, rdm.SLOT_INFO))
    with pytest.raises(RdmRefused, match="reason 0x0042"):
        run(talk((rdm.NACK, b"\x00\x42", 0))[0].get_parameter(1, rdm.SLOT_INFO))
    assert run(talk((rdm.ACK, b"short", 0))[0].read_responder(1)).failed.startswith("DEVICE_INFO")


def test_a_gateway_without_a_table_is_told(wire: Wire, node: Node, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(rdm_link, "TABLE", 0.4)
    with pytest.raises(LinkError, match="gives no table"):
        run(Gateways(wire).port_at("127.0.0.21", 77).table(True))  # type: ignore[arg-type]
    node.search_takes = 60
    with pytest.raises(LinkError, match="gives no table"):
        run(Gateways(wire).port_at("127.0.0.21", 3).table(True))  # type: ignore[arg-type]


def test_a_long_table_comes_in_blocks_and_collisions_are_resolved(wire: Wire, node: Node) -> None:
    made = [Responder(0x7FF200000000 + n * 7919, 1, "Eel", "Osmer", [("one", 4, [])]) for n in range(430)]
    made[3].fault = made[40].fault = "collides"
    node.lines["A"] = LampPort(made)
    uids = run(Gateways(wire).port_at("127.0.0.21", 3).table(True))  # type: ignore[arg-type]
    assert sorted(uids) == [r.uid for r in made]


class Listing(Script):
    """A port with a table of its own."""

    def __init__(self, uids: list[int]) -> None:
        super().__init__((rdm.ACK, b"short", 0))
        self.uids = uids

    async def table(self, anew: bool) -> list[int]:
        return self.uids


def test_a_table_is_not_believed_in_everything(wire: Wire) -> None:
    one, two = 0x7FF000000101, 0x7FF000000102
    everybody, all_of_a_maker = 0xFFFFFFFFFFFF, 0x7FF0FFFFFFFF
    gateways = Gateways(wire)  # type: ignore[arg-type]
    block = artnet.TodData(1, 1, 0, 3, 7, 0, (0, two, everybody, one, two, all_of_a_maker, one))
    wire.send_artnet = lambda packet, ip: gateways._take_packet(block, ip)  # type: ignore[method-assign]
    assert run(gateways.port_at("127.0.0.21", 3).table(False)) == [two, one]


def test_thousands_that_are_not_there_are_not_all_asked() -> None:
    port = Listing([n + 1 for n in range(8000)])
    found = run(find_responders(port, False))
    assert len(port.asked) == rdm_link.MOST_SILENT and [x.uid for x in found] == port.uids
    assert all(x.failed for x in found) and "was not asked: the 20 before it" in found[-1].failed


def test_sub_devices_are_read_one_by_one_with_gaps_in_their_numbers(wire: Wire, node: Node) -> None:
    lamp = lamps(node)[0]
    lamp.parts = {1: (101, 4), 4: (120, 8)}
    talk = ResponderTalk(Gateways(wire).port_at("127.0.0.21", 3))  # type: ignore[arg-type]
    assert run(talk.read_responder(lamp.uid, True)).parts == ((1, 101, 4), (4, 120, 8))
    with pytest.raises(RdmRefused, match="it has no such sub-device"):
        run(talk.get_parameter(lamp.uid, rdm.DEVICE_INFO, sub=2))
    lamp.parts = {}
    wire.sent.clear()
    assert run(talk.read_responder(lamp.uid, True)).parts == ()
    asked = [rdm.from_artnet(p.frame) for p in wire.sent if isinstance(p, artnet.Rdm)]
    assert all(f.sub == rdm.ROOT for f in asked)  # who announces none is not asked for any
