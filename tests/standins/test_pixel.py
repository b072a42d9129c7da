"""The simulated pixel controller: settings in three states, and what leaves its ports, held against Welvo's sums."""

from __future__ import annotations

import pytest

from tests.standins.test_node import Clock, data
from welvo.demo.gallery import make_gallery
from welvo.formats.models import shipped_models
from welvo.matching.planned import full_plan
from welvo.patch.index import Index
from welvo.protocols import artnet, ddp
from welvo.rig.entered import SettingValue
from welvo.runs.along import pixel_places
from welvo.runs.bridge import set_right
from welvo.standins.host import StandInError, attached_to_ports, set_fault
from welvo.standins.pixel import PixelDevice, PowerLost

RIG = make_gallery()
INDEX = Index(RIG)
PENSTOCK = next(k for k, d in RIG.devices.items() if d.name == "PENSTOCK")


def penstock(index: Index = INDEX, **settings: SettingValue) -> tuple[PixelDevice, Clock]:
    clock = Clock()
    plan = {k: v for k, v in full_plan(index, PENSTOCK).items() if k != "ip"}
    model = index.rig.device_models[index.rig.devices[PENSTOCK].model]
    return PixelDevice("127.0.0.50", model, {**plan, **settings}, clock, attached_to_ports(index, PENSTOCK)), clock


def light(device: PixelDevice, universe: int, address: int, *levels: int) -> None:
    slots = bytearray(512)
    slots[address - 1 : address - 1 + len(levels)] = bytes(levels)
    packet = data(0, universe=universe)
    device.take_sacn(type(packet)(packet.cid, universe, bytes(slots), "", 100, 0), "")


@pytest.mark.parametrize("pixel", [1, 2, 54, 55])
@pytest.mark.parametrize("element", ["c1", "c2", "c6", "b2", "rim"])
def test_a_pixel_lights_where_the_plan_says_it_is(element: str, pixel: int) -> None:
    if pixel > RIG.elements[element].pixels:
        pytest.skip("the string is shorter")
    device, _ = penstock()
    (place,) = pixel_places(INDEX.cables_and_sums, element, pixel)
    universe, address = place.places[0]
    light(device, universe, address, 10, 20, 30)
    octets = device.octets_of_port(place.stream.label)
    scale = 80 if element == "rim" else 100
    first = (place.cable - 1) * 3
    want = [20 * scale // 100, 10 * scale // 100, 30 * scale // 100]  # put out as GRB
    assert list(octets[first : first + 3]) == want and sum(octets) == sum(want), "this pixel, and no other"


def test_a_dense_stream_that_a_universes_end_cuts_comes_out_whole() -> None:
    device, _ = penstock()
    (place,) = pixel_places(INDEX.cables_and_sums, "sw", 171)
    assert [p[0] for p in place.places] == [207, 207, 208], "one pixel in two universes"
    light(device, 207, 511, 7, 8)
    light(device, 208, 1, 9)
    at = (place.cable - 1) * 3
    assert list(device.octets_of_port("7")[at : at + 3]) == [9, 8, 7]  # BGR


def test_behind_the_bridge_255_arrives_as_204_until_it_is_set_right() -> None:
    device, _ = penstock()
    light(device, 206, 123, 255)  # DMX 33 behind the bridge: universe 206 from slot 91 on
    (bridge,) = device.levels_behind("6")
    assert (bridge.kind, bridge.levels[32], sum(bridge.levels)) == ("bridge", 204, 204)
    right = Index(set_right(RIG, PENSTOCK, "6", 2)[0])
    device, _ = penstock(right)
    light(device, 206, 123, 255)
    assert device.levels_behind("6")[0].levels[32] == 255


def test_a_pixel_count_that_is_short_moves_what_is_behind_the_bridge() -> None:
    device, _ = penstock()
    device.faults.short = 1
    light(device, 206, 123, 255)
    assert device.levels_behind("6")[0].levels[32] == 0


def test_null_pixels_grouping_gamma_and_order() -> None:
    device, _ = penstock(**{"1.segments": 1, "1/1.pixels": 4, "1/1.nulls": 2, "1/1.group": 2, "1.gamma": 2.0})
    light(device, 201, 1, 255, 128, 0, 0, 0, 128)
    assert list(device.octets_of_port("1")) == [0] * 6 + [64, 255, 0] * 2 + [0, 0, 64] * 2


def test_a_dead_port_puts_nothing_out_and_a_test_pattern_covers_what_comes() -> None:
    device, _ = penstock(mode="6 long ports")
    light(device, 202, 1, 255, 255, 255)
    assert device.octets_of_port("2") == b""
    device, _ = penstock()
    assert device.start_test("plaid") and device.start_test("red") == ""
    assert list(device.octets_of_port("1")[:3]) == [0, 255, 0], "red put out as GRB"
    assert device.about_device()["test"] == "red"


def test_settings_are_entered_saved_and_active() -> None:
    device, clock = penstock()
    results = device.stage_values(
        {"1.brightness": 50, "1/1.pixels": 54, "1.chip": "LU-4", "mode": "7 ports", "1.colour": 1, "9.universe": 70000}
    )
    assert [r["taken"] for r in results.values()] == [True, True, True, False, False, False]
    assert results["mode"]["why"] == "Mode is one of 12 ports, 6 long ports." and "0 to 65535" in str(
        results["9.universe"]
    )
    store = device.store
    assert store.active["1.brightness"] == 50 and store.waiting_settings()["1.brightness"] == ("save",)
    assert store.active["1/1.pixels"] == 55 and store.waiting_settings()["1/1.pixels"] == ("save", "apply")
    device.save_settings()
    assert "1.brightness" not in store.waiting_settings() and store.waiting_settings() == {
        "1/1.pixels": ("apply",),
        "1.chip": ("restart",),
    }
    device.apply_settings()
    assert store.active["1/1.pixels"] == 54 and store.waiting_settings() == {"1.chip": ("restart",)}
    device.restart_device()
    assert device.is_silent and store.active["1.chip"] == "LU-4" and not store.waiting_settings()
    clock.now += 2.1
    assert not device.is_silent


def test_what_was_not_saved_is_gone_after_a_restart() -> None:
    device, _ = penstock()
    device.stage_values({"1.brightness": 50, "1/1.pixels": 54})
    device.restart_device()
    assert device.store.active["1.brightness"] == 100 and device.store.active["1/1.pixels"] == 55
    assert not device.store.waiting_settings() and not device.store.entered


def test_faults_do_what_they_say() -> None:
    device, clock = penstock()
    set_fault(device, "refuses", ["1.chip"])
    assert device.stage_values({"1.chip": "LU-4"})["1.chip"] == {"taken": False, "why": "this device refuses it"}
    set_fault(device, "halts", 1)
    with pytest.raises(PowerLost):
        device.stage_values({"1.brightness": 50, "2.brightness": 50})
    assert device.is_silent and device.store.active["1.brightness"] == 100
    clock.now += 5
    set_fault(device, "twin", True)
    macs = {artnet.decode_artnet(device.poll_replies()[0]).mac for _ in range(2)}  # type: ignore[union-attr]
    assert len(macs) == 2
    set_fault(device, "forgets", True)
    device.stage_values({"name": "OTHER"})
    device.save_settings()
    device.restart_device()
    assert device.name == "PENSTOCK-12"
    set_fault(device, "swapped", True)
    light(device, 201, 1, 10, 20, 30)
    assert list(device.octets_of_port("1")[:3]) == [10, 20, 30], "GRB with its first two in each other's place"
    with pytest.raises(StandInError, match="has no fault “haunted”"):
        set_fault(device, "haunted", True)


def test_ddp_is_shown_by_its_push_and_status_is_answered() -> None:
    device, _ = penstock(**{"1.protocol": "ddp"})
    device.take_ddp(ddp.Packet(bytes([1, 2, 3]), 0))
    assert device.octets_of_port("1")[:3] == bytes(3)
    device.take_ddp(ddp.Packet(bytes([4, 5, 6]), 3, push=True))
    assert list(device.octets_of_port("1")[:6]) == [2, 1, 3, 5, 4, 6]
    (status,) = device.take_ddp(ddp.Packet(destination=ddp.STATUS, flags=ddp.QUERY))
    assert b'"mod":"Penstock 12"' in ddp.decode_ddp(status).data
    (config,) = device.take_ddp(ddp.Packet(destination=ddp.CONFIG, flags=ddp.QUERY))
    assert b'"l":165' in ddp.decode_ddp(config).data and device.take_ddp(ddp.Packet(bytes(9), 10**6)) == []


def test_an_address_is_programmed_by_art_net_too() -> None:
    device, _ = penstock()
    (asked,) = (artnet.decode_artnet(r) for r in device.take_artnet(artnet.IpProg(), ""))
    assert asked == artnet.IpProgReply((127, 0, 0, 50), (255, 255, 255, 0))
    command = artnet.PROG_ENABLE | artnet.PROG_IP
    device.take_artnet(artnet.IpProg(command, (127, 0, 0, 77)), "")
    assert device.is_silent and device.store.active["ip"] == "127.0.0.77"


def test_every_shipped_model_with_a_page_can_be_simulated() -> None:
    for key, model in shipped_models().items():
        if model.kind != "node" and model.settings:
            device = PixelDevice("127.0.0.99", model, {}, Clock())
            assert device.all_values()["active"]["ip"] == "127.0.0.99" and device.status_page().ports is not None, key
            secret = {s.key for s in model.settings if s.secret}
            device.stage_values(dict.fromkeys(secret, "open sesame"))
            assert not any(
                "open sesame" in str(v) for v in (device.all_values(), device.about_device(), device.status_page())
            )
