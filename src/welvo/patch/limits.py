"""How many slots of a universe can reach the light: the sender's size, or what the ports that take it put out."""

from __future__ import annotations

from typing import NamedTuple

from welvo.rig.abilities import ability_of_port, port_gives_what
from welvo.rig.counting import SLOTS
from welvo.rig.document import Rig
from welvo.rig.plan import nothing_out, universe_size


class SlotLimit(NamedTuple):
    """The last slot that counts, and whose doing it is when that is not the universe's own size."""

    slots: int
    why: str = ""


def slots_of_port(rig: Rig, device: str, label: str) -> int:
    """How many slots one port puts out: its planned setting `slots` or the whole device's, else what its model can
    do; never more than the device takes of a universe."""
    most = min(ability_of_port(rig, device, label).slots or SLOTS, universe_size(rig, device) or SLOTS)
    port = rig.devices[device].ports.get(label)
    own = port.settings.get("slots") if port else None
    planned = own if own is not None else rig.devices[device].settings.get("slots")
    return min(most, planned) if isinstance(planned, int) and not isinstance(planned, bool) and planned > 0 else most


def limits_of_universes(rig: Rig) -> dict[str, SlotLimit]:
    """The limit of each universe that has one below its size: no port that takes it puts out more."""
    best: dict[str, tuple[int, str]] = {}
    for device_id, device in rig.devices.items():
        for label, port in device.ports.items():
            feed = rig.feeds.get(port.feed) if port.feed else None
            if feed is None or feed.universe not in rig.universes or nothing_out(rig, device_id, label):
                continue
            if port_gives_what(rig, device_id, label) != "dmx":
                best[feed.universe] = (SLOTS, "")  # pixels run on over the universe's end; it counts whole
                continue
            slots = slots_of_port(rig, device_id, label)
            if slots > best.get(feed.universe, (0, ""))[0]:
                best[feed.universe] = (slots, f"port {label} of {device.name} puts out {slots}")
    return {uid: SlotLimit(n, why) for uid, (n, why) in best.items() if n < rig.universes[uid].size}
