"""The simulated gateway: its bus over HTTP, what it passes on, what it refuses."""

from __future__ import annotations

from typing import Any

import pytest
from aiohttp.test_utils import TestClient, TestServer

from welvo.demo.gallery import make_gallery
from welvo.formats.models import shipped_models
from welvo.protocols import sacn
from welvo.standins.gateway import Gateway
from welvo.standins.gear import SimGear, Wire
from welvo.standins.host import StandInError, describe_devices, make_simulated
from welvo.standins.pages import settings_application

PLANNED = {"BUS 1.protocol": "sacn", "BUS 1.universe": 31, "BUS 1.slot": 1, "BUS 1.addressing": "gear"}


def gateway(*gear: SimGear, **settings: Any) -> tuple[Gateway, list[float]]:
    now = [100.0]
    made = Gateway(
        "127.0.0.70", shipped_models()["leat-2"], {**PLANNED, **settings}, lambda: now[0], {"BUS 1": Wire(gear)}, 1e6
    )
    return made, now


async def ask(device: Gateway, body: object) -> tuple[int, Any]:
    async with TestClient(TestServer(settings_application(device))) as client:
        answer = await client.post("/settings/1/bus", json=body)
        return answer.status, await answer.json()


def run(coroutine: Any) -> Any:
    import asyncio

    return asyncio.run(coroutine)


def test_frames_over_http_and_what_is_refused() -> None:
    device, _ = gateway(SimGear(short=3), SimGear(short=3, level=100))
    # QUERY CONTROL GEAR PRESENT to 3, QUERY ACTUAL LEVEL to 3 (two answers over each other), to 4 (silence)
    status, body = run(ask(device, {"bus": "BUS 1", "frames": ["0791", "07a0", "0991"]}))
    assert status == 200 and body["answers"] == [255, -1, None] and body["seconds"] == pytest.approx(0.119, abs=0.001)
    for wrong in ([], ["7"], ["0791"] * 41, "0791", [1], None):
        assert run(ask(device, {"bus": "BUS 1", "frames": wrong}))[0] == 400
    for wrong in ({"bus": "BUS 9", "frames": ["0791"]}, {"frames": ["0791"]}):
        assert run(ask(device, wrong))[0] == 400


def test_it_passes_its_slots_on_and_255_as_254() -> None:
    device, now = gateway(SimGear(short=0), SimGear(short=1), SimGear(short=5, level=0))

    def send(levels: bytes) -> None:
        device.take_sacn(sacn.Data(b"c" * 16, 31, levels), "127.0.0.1")

    device.follow_universes()
    assert device.wires["BUS 1"].gear[0].level == 254 and device.wires["BUS 1"].frames == 0  # nobody sends yet
    send(bytes([255, 100, 0, 0, 0, 120]) + bytes(506))
    device.follow_universes()
    assert [g.level for g in device.wires["BUS 1"].gear] == [254, 100, 120]
    before = device.wires["BUS 1"].frames
    now[0] += 1
    device.follow_universes()
    assert device.wires["BUS 1"].frames == before  # what did not change is not sent again
    assert [g.level for g in device.status_page().ports[0].gear] == [254, 100, 120]  # type: ignore[union-attr]


def test_a_slow_bus_lets_the_last_place_wait() -> None:
    device, now = gateway(*(SimGear(short=n) for n in range(64)))
    device.bus_speed = 1.0
    device.take_sacn(sacn.Data(b"c" * 16, 31, bytes([100] * 64) + bytes(448)), "127.0.0.1")
    device.follow_universes()
    assert sum(g.level == 100 for g in device.wires["BUS 1"].gear) < 5
    for _ in range(80):
        now[0] += 0.05
        device.follow_universes()
    assert all(g.level == 100 for g in device.wires["BUS 1"].gear)


def test_the_test_button_and_the_settings_it_works_by() -> None:
    device, _ = gateway(SimGear(short=0, level=0), **{"BUS 1.control": "rgb", "BUS 1.curve": "nonsense"})
    assert device.bus_by_settings("BUS 1").control == "rgb" and device.bus_by_settings("BUS 1").curve == "off"
    assert device.start_test("all full") == "" and device.wires["BUS 1"].gear[0].level == 254
    assert device.start_test("disco") and device.start_test("") == "" and device.wires["BUS 1"].gear[0].level == 0


def test_gear_of_a_rig_is_as_planned_or_as_it_leaves_the_factory() -> None:
    rig = make_gallery()

    def wire(table: dict[str, Any]) -> Wire:
        found = describe_devices(rig, {"127.0.0.70": table}, shipped_models())
        made = make_simulated(next(d for d in found if d.ip == "127.0.0.70"), lambda: 0.0)
        assert isinstance(made, Gateway)
        return made.wires["BUS 1"]

    new = wire({})
    assert len(new.gear) == 20 and {g.short for g in new.gear} == {255} and len({g.random for g in new.gear}) == 20
    planned = wire(
        {"planned": True, "gear": {"BUS 1": {"3": {"short": 9, "kinds": [6, 8]}, "4": {"gone": True}, "extra": 2}}}
    )
    assert len(planned.gear) == 21 and planned.gear[3].short == 9 and planned.gear[3].kinds == (6, 8)
    assert planned.gear[0].groups == 1 and planned.gear[0].scenes[:2] == [254, 85] and planned.gear[-1].short == 255
    for wrong in ({"BUS 9": {}}, {"BUS 1": {"40": {"short": 1}}}, {"BUS 1": {"3": {"fault": "tired"}}}, "x"):
        with pytest.raises(StandInError):
            wire({"gear": wrong})
