"""Lamp buses as they are planned: where each stands in its universe, what its slots do, how long it takes.

A gateway takes a stretch of slots and speaks to its gear in frames that last 14 ms each, so the sums here are of two
kinds: which slot is whose, exact to the last one before 512, and how many frames a change costs on a wire that carries
36 of them a second.
"""

from __future__ import annotations

from typing import NamedTuple

from welvo.protocols import dali
from welvo.protocols.dali import Forward, To
from welvo.rig.abilities import port_gives_what
from welvo.rig.buses import CONTROLS, NO_BUS, Bus, Control, Curve
from welvo.rig.document import Rig
from welvo.rig.refs import BUS, PortRef, SegmentRef


class BusHere(NamedTuple):
    """A bus with its place: the universe it follows (by id) and its first slot there."""

    bus: Bus
    universe: str
    first: int


def bus_ports(rig: Rig, device_id: str) -> list[str]:
    """The ports of a device behind which lamp buses are, in the order printed on it."""
    device = rig.devices[device_id]
    return [x for x in device.ports if port_gives_what(rig, device_id, x) == "bus"]


def bus_at(rig: Rig, ref: PortRef) -> Bus:
    """What is planned for the bus of a port."""
    return rig.devices[ref.device].ports[ref.port].bus or NO_BUS


def buses_of(rig: Rig) -> set[SegmentRef]:
    """Every lamp bus that follows a universe, as what takes slots there."""
    kinds = {m for m, v in rig.device_models.items() if v.kind == "gateway" or "bus" in v.gives.values() or v.modes}
    return {
        SegmentRef(device_id, label, BUS)
        for device_id, d in rig.devices.items()
        if d.model in kinds
        for label in bus_ports(rig, device_id)
        if bus_of(rig, SegmentRef(device_id, label, BUS))
    }


def bus_of(rig: Rig, ref: SegmentRef) -> BusHere | None:
    """The bus of a port with its place; none when the port is gone, is no bus, or follows no universe."""
    device = rig.devices.get(ref.device)
    port = device.ports.get(ref.port) if device else None
    feed = rig.feeds.get(port.feed) if port else None
    if port is None or feed is None or feed.universe not in rig.universes:
        return None
    if port_gives_what(rig, ref.device, ref.port) != "bus":
        return None
    return BusHere(port.bus or NO_BUS, feed.universe, port.start)


def place_word(bus: Bus, place: int) -> str:
    """What a place of a bus is called: `gear 5`, `group 3`, `all gear`."""
    return {"gear": f"gear {place}", "groups": f"group {place}", "broadcast": "all gear"}[bus.addressing]


def place_short(bus: Bus, place: int) -> str:
    """A place in a cell of a tape: `5`, `G3`, `all`."""
    return {"gear": str(place), "groups": f"G{place}", "broadcast": "all"}[bus.addressing]


def part_short(bus: Bus, part: int) -> str:
    """What a slot of a place does, in a cell of a tape: `R`; nothing where a place has one slot."""
    word = CONTROLS[bus.control][1][part]
    if bus.slots_per_place == 1:
        return ""
    return word[-1] if bus.control == "primaries" else word[:1].upper()


def slot_words(bus: Bus, within: int) -> str:
    """What a slot of a bus (counted from 1 within its stretch) does: `gear 5 level`."""
    place, part = divmod(within - 1, bus.slots_per_place)
    return f"{place_word(bus, place)} {CONTROLS[bus.control][1][part]}"


# ---- levels


def arc_level(value: int, curve: Curve, least: int = 1) -> int:
    """The arc level that a slot's level (0 to 255) becomes. 255 goes out as 254: on a bus 255 means `no change`."""
    if value <= 0:
        return 0
    if curve == "linear":
        level = dali.level_of(value * 100 / 255)
    elif curve == "logarithmic":
        level = dali.level_of(dali.percent_of(min(value, 254)), linear=True)
    else:
        level = min(value, dali.HIGHEST_LEVEL)
    return max(least, level)


def light_of_level(level: int, curve: Curve) -> float:
    """Light of an arc level in percent, by the curve that the gear itself is set to: linear where slots are bent for
    it, else the standard's."""
    return dali.percent_of(level, linear=curve == "logarithmic")


def curve_table(curve: Curve, least: int) -> list[tuple[int, int, float]]:
    """Slot level, arc level and light in percent, at levels that show the curve."""
    shown = (0, 1, 13, 26, 51, 77, 102, 128, 153, 179, 204, 230, 254, 255)
    rows = [(v, arc_level(v, curve, least)) for v in shown]
    return [(v, n, light_of_level(n, curve)) for v, n in rows]


# ---- time


def address_of_place(bus: Bus, place: int) -> To:
    """Whom a place speaks to."""
    if bus.addressing == "gear":
        return To(short=place)
    return To(group=place) if bus.addressing == "groups" else dali.EVERYBODY


def frames_of(to: To, control: Control, slots: bytes, curve: Curve = "off", least: int = 1) -> list[Forward]:
    """The frames by which a gateway passes one place's slots on (IEC 62386-102, -209).

    Coloured light needs its values in the data registers first, the type enabled before each of its commands, and an
    activation: a colour costs seven to twelve frames where a level costs one.
    """
    v = slots.ljust(len(CONTROLS[control][1]), b"\0")
    arc = [arc_level(x, curve, least) for x in v]
    enable = dali.special_frame(dali.ENABLE_TYPE, dali.COLOUR)
    show = [enable, dali.command_frame(to, dali.ACTIVATE)]
    if control == "intensity":
        return [dali.level_frame(to, arc[0])]
    if control == "white":
        mirek = round(370 - v[1] / 255 * (370 - 153))  # 2,700 K to 6,500 K
        low = dali.colour_frames(to, dali.SET_TC, (mirek & 255, mirek >> 8))
        return [*low, *show, dali.level_frame(to, arc[0])]
    if control == "xy":
        x = dali.colour_frames(to, dali.SET_X, (v[2], v[1]))
        y = dali.colour_frames(to, dali.SET_Y, (v[4], v[3]))
        return [*x, *y, *show, dali.level_frame(to, arc[0])]
    if control == "primaries":
        # 16 bit a primary, 65,535 being `no change`
        each = [dali.colour_frames(to, dali.SET_PRIMARY, (min(p * 257, 65534) & 255, min(p * 257, 65534) >> 8, n))
                for n, p in enumerate(v[:6])]  # fmt: skip
        return [f for frames in each for f in frames] + show
    rgb = dali.colour_frames(to, dali.SET_RGB, (arc[0], arc[1], arc[2]))
    if control == "rgb":
        return [*rgb, *show]
    rest = [*arc[3:6], 255, 255][:3]
    return [*rgb, *dali.colour_frames(to, dali.SET_WAF, (rest[0], rest[1], rest[2])), *show]


class Timing(NamedTuple):
    """What a change of all places of a bus costs."""

    frames: int
    seconds: float
    places: int


def timing_of_bus(bus: Bus) -> Timing:
    """How long a change of everything takes: of the planned gear where gear is addressed and some is planned, else of
    all places."""
    used = len(bus.gear) if bus.addressing == "gear" and bus.gear else bus.count_places
    groups = {g for x in bus.gear for g in x.groups or ()}
    if bus.addressing == "groups" and groups:
        used = len(groups)
    one = frames_of(address_of_place(bus, 0), bus.control, bytes(6))
    return Timing(used * len(one), used * dali.seconds_of(one), used)
