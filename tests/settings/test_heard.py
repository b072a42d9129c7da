"""A heard device becomes a planned one, or is said to be one that is planned."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.conftest import node_model
from welvo.observed.values import NOTHING, DeviceAnswer, Heard, HeardPort
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.settings.heard import likely_devices, link_device, plan_heard

HEARD = Heard(
    "127.0.0.77", "SPARE", mac="02:00:00:00:00:07",
    ports=(HeardPort(1, 0, True, "sacn", 1), HeardPort(2, 0, True, "artnet", 77)),
)  # fmt: skip


def test_a_plan_is_made_of_what_was_heard(rig: Rig) -> None:
    made, change = plan_heard(rig, node_model(), "SPARE", HEARD.ip, HEARD, ports=True)
    device = made.devices[change.made[0]]
    assert (device.ip, device.settings["mac"]) == (HEARD.ip, HEARD.mac)
    assert (device.ports["A"].feed, device.ports["B"].feed) == ("w1", ""), "no feed of the rig has Art-Net 77"
    bare, change = plan_heard(rig, node_model(), "SPARE", HEARD.ip, HEARD, ports=False)
    assert bare.devices[change.made[0]].ports["A"].feed == ""


def test_a_planned_device_is_linked_to_the_one_that_answers(rig: Rig) -> None:
    direct, _ = edits.set_feed(rig, "w1", "", to="127.0.0.60")
    linked, _ = link_device(direct, "d", HEARD.ip, HEARD.mac)
    assert (linked.devices["d"].ip, linked.devices["d"].settings["mac"]) == (HEARD.ip, HEARD.mac)
    assert linked.feeds["w1"].to == HEARD.ip and linked.feeds["w2"] == direct.feeds["w2"], "unicast goes along"
    twin, _ = edits.add_device(rig, rig.device_models["mod"], "TWIN", HEARD.ip)
    with pytest.raises(Refused, match="TWIN is planned at"):
        link_device(twin, "d", HEARD.ip, HEARD.mac)


def test_the_likeliest_stands_first(rig: Rig) -> None:
    base = rig.devices["d"]
    devices = {
        "near": replace(base, name="OTHER", ip="127.0.0.61"),
        "named": replace(base, name="Spare", ip="127.0.0.62"),
        "same": replace(base, name="X", ip="127.0.0.63", settings={"mac": HEARD.mac.upper()}),
        "live": replace(base, name="Y", ip="127.0.0.64"),
    }
    more, _ = put_entries(rig, "", devices=devices)
    seen = replace(
        NOTHING, heard={HEARD.ip: HEARD, "127.0.0.64": Heard("127.0.0.64")}, said={"127.0.0.61": DeviceAnswer(1.0)}
    )
    order = likely_devices(more, seen, HEARD.ip)
    assert order[:2] == ["same", "named"] and set(order[-2:]) == {"live", "near"}
