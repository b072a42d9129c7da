"""Setting the lamps of a port: in which order, and what becomes of each."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, field

from tests.live.test_rdm_link import Wire, lamps, node, wire  # noqa: F401  (fixtures)
from welvo.demo.gallery import make_gallery
from welvo.live.lamp_push import LampPush, LampResult
from welvo.live.rdm_link import Gateways, find_responders
from welvo.matching.lamps import LampWish, bind_all, pair_responders, port_lamps, wishes_for_lamps
from welvo.patch.index import Index
from welvo.protocols import rdm
from welvo.protocols.rdm import RdmPacket
from welvo.standins.lamps import LampPort, Responder
from welvo.standins.node import Node


def test_a_line_at_address_one_comes_to_its_planned_addresses_and_modes(wire: Wire, node: Node) -> None:  # noqa: F811
    port = Gateways(wire).port_at("127.0.0.21", 3)  # type: ignore[arg-type]
    rig = make_gallery()
    device = next(k for k, d in rig.devices.items() if d.name == "WEIR-2")
    planned = port_lamps(Index(rig), device, "A")
    found = asyncio.run(find_responders(port, True))
    rig, _ = bind_all(rig, pair_responders(Index(rig), planned, found))
    index = Index(rig)
    lamps(node)[0].personality = 2
    lamps(node)[5].address = 145
    found = asyncio.run(find_responders(port, False))
    push = LampPush(
        found, wishes_for_lamps(index, pair_responders(index, planned, found), ("address", "personality", "label"))
    )
    asyncio.run(push.run_push(port))
    assert {r.outcome for r in push.results.values()} == {"taken"} and push.done == push.of
    after = pair_responders(index, planned, list(push.lamps.values()))
    assert all(x.mark == "matches" for p in after for x in p.lines) and len(after) == 12
    assert not wishes_for_lamps(index, after, ("address", "personality", "label"))
    assert push.summary_of_push[0].endswith("taken and read back.") and not push.summary_of_push[1]


@dataclass
class Line:
    """A port whose lamps are asked directly, and that writes down who sat on whom."""

    lamps: LampPort
    met: list[tuple[int, int]] = field(default_factory=list)

    async def ask(self, request: RdmPacket) -> RdmPacket:
        said = self.lamps.ask_line(request)
        at = [r.address for r in self.lamps.responders]
        self.met += [(a, at.count(a)) for a in set(at) if at.count(a) > 1]
        assert said
        return said

    async def table(self, anew: bool) -> list[int]:
        return [r.uid for r in self.lamps.responders]


def line(*addresses: int) -> tuple[Line, list[Responder]]:
    made = [Responder(n, 1, "Eel", "Osmer", [("one", 4, []), ("two", 8, [])], address=a) for n, a in
            enumerate(addresses, 1)]  # fmt: skip
    return Line(LampPort(made)), made


def pushed(port: Line, wished: dict[int, LampWish], stop: bool = False) -> LampPush:
    push = LampPush(asyncio.run(find_responders(port, False)), wished)
    if stop:
        push.stop_push()
    asyncio.run(push.run_push(port))
    return push


def test_lamps_that_change_places_never_meet() -> None:
    port, made = line(1, 5, 9)
    push = pushed(port, {1: LampWish(5), 2: LampWish(9), 3: LampWish(1)})
    assert [r.address for r in made] == [5, 9, 1] and not port.met
    assert set(push.results) == {(n, "address") for n in (1, 2, 3)}


def test_who_refuses_to_leave_keeps_others_away() -> None:
    port, made = line(1, 5)
    made[1].fault = "stubborn"
    push = pushed(port, {1: LampWish(5, label="left"), 2: LampWish(9)})
    assert [r.address for r in made] == [1, 5] and made[0].label == "left" and not port.met
    assert push.results[2, "address"].outcome == "refused" and "locked" in push.results[2, "address"].why
    assert push.results[1, "address"] == LampResult("not sent", "0000:00000002 still stands at 005")
    assert push.summary_of_push[1]


def test_a_yes_is_held_against_what_is_read_back() -> None:
    port, made = line(1, 5)
    made[0].fault = "forgets"
    push = pushed(port, {1: LampWish(17, 2), 2: LampWish(25, 2)})
    assert push.results[1, "address"] == LampResult("otherwise", "it reads back 1")
    assert push.results[1, "personality"].outcome == "otherwise"
    assert (made[1].address, made[1].personality) == (25, 2) and push.results[2, "address"].outcome == "taken"
    assert push.lamps[2].footprint == 8


def test_what_was_stopped_is_not_sent_and_said_to_be_so() -> None:
    port, made = line(1, 5)
    push = pushed(port, {1: LampWish(17)}, stop=True)
    assert made[0].address == 1 and push.results[1, "address"] == LampResult("not sent", "it was stopped")


def test_a_lamp_that_falls_silent_keeps_what_was_known(wire: Wire, node: Node) -> None:  # noqa: F811
    port = Gateways(wire).port_at("127.0.0.21", 3)  # type: ignore[arg-type]
    found = asyncio.run(find_responders(port, True))
    lamp = lamps(node)[0]
    lamp.fault = "deaf"
    push = LampPush(found, {lamp.uid: LampWish(99)})
    asyncio.run(push.run_push(port))
    assert push.results[lamp.uid, "address"].outcome == "unknown"
    kept = push.lamps[lamp.uid]
    assert kept.model_name == "Eddy head" and "does not answer" in kept.failed
    assert rdm.say_uid(lamp.uid) in kept.failed
