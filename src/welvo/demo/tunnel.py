"""The tunnel walk of the Drift Gallery: twenty lamps on a lamp bus behind a gateway."""

from __future__ import annotations

from msgspec.structs import replace

from welvo.buses.edits import set_bus
from welvo.formats.models import shipped_models
from welvo.rig.buses import Gear
from welvo.rig.document import Rig
from welvo.rig.edits import add_device
from welvo.rig.refs import PortRef
from welvo.rig.wiring import Feed, Port, Universe

COUNT = 20
GATEWAY = "LEAT"


def with_tunnel(rig: Rig) -> Rig:
    """The rig with its gateway: BUS 1 takes 64 slots of universe 31, in two groups and two scenes; BUS 2 is free. A
    contact of the fire panel holds full light."""
    rig = replace(
        rig,
        universes={**rig.universes, "u31": Universe(number=31, name="Tunnel walk")},
        feeds={**rig.feeds, "w31": Feed(universe="u31", sender="s1", wire=31)},
    )
    rig, change = add_device(rig, shipped_models()["leat-2"], GATEWAY, "127.0.0.70")
    device_id = change.made[0]
    device = rig.devices[device_id]
    ports = {**device.ports, "BUS 1": Port(feed="w31")}
    alarm = {"in1_use": "alarm", "in1_contact": "normally closed", "in1_bus": "BUS 1", "in1_scene": 0}
    planned = replace(device, ports=ports, settings={**device.settings, **alarm})
    rig = replace(rig, devices={**rig.devices, device_id: planned})
    gear = tuple(
        Gear(
            at=n, name=f"Arch {n // 2 + 1}{'L' if n % 2 == 0 else 'R'}", kind=6, groups=(n % 2,), fade_time=4,
            scenes=((0, 254), (1, 170 if n % 2 else 85)),
        )
        for n in range(COUNT)
    )  # fmt: skip
    return set_bus(rig, PortRef(device_id, "BUS 1"), "", gear=gear)[0]
