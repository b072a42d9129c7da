"""Edits of lamp buses: how a bus follows its universe, and what its gear is planned to be."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from msgspec.structs import replace

from welvo.buses.plan import bus_at
from welvo.protocols.dali import GROUPS, MASK, SCENES, SHORT_ADDRESSES
from welvo.rig.base import Refused
from welvo.rig.buses import Gear
from welvo.rig.document import Edit, Rig, put_entries
from welvo.rig.edits import set_device, set_port
from welvo.rig.notation import say_count
from welvo.rig.refs import PortRef
from welvo.rig.wiring import Readdressing


def set_bus(rig: Rig, ref: PortRef, label: str, **fields: object) -> Edit:
    """Change how a bus follows its universe."""
    return set_port(rig, ref.device, ref.port, label, bus=replace(bus_at(rig, ref), **fields))


def set_gear(rig: Rig, ref: PortRef, shorts: Iterable[int], label: str, **fields: object) -> Edit:
    """Plan something for gear; those that were not planned yet are from now on."""
    bus = bus_at(rig, ref)
    gear = {g.at: g for g in bus.gear}
    for short in shorts:
        gear[short] = replace(gear.get(short) or Gear(at=short), **fields)
    return _with_gear(rig, ref, label, gear)


def _with_gear(rig: Rig, ref: PortRef, label: str, gear: Mapping[int, Gear]) -> Edit:
    return set_bus(rig, ref, label, gear=tuple(gear[k] for k in sorted(gear)))


def plan_gear(rig: Rig, ref: PortRef, wish: str) -> Edit:
    """Plan gear by what is typed: `0–19`, `5`, `0-3 Cove` (numbered on: Cove 1, Cove 2 …). Raises Refused."""
    m = re.fullmatch(r"\s*(\d{1,2})(?:\s*[-–]\s*(\d{1,2}))?(?:\s+(\S.*?))?\s*", wish)
    first, last = (int(m[1]), int(m[2] or m[1])) if m else (-1, -1)
    if not m or not 0 <= first <= last < SHORT_ADDRESSES:
        raise Refused(f"“{wish.strip()}” is no gear; write 0–19, or 0–19 and a name, within 0 and 63.")
    name = m[3] or ""
    made = {}
    for n, short in enumerate(range(first, last + 1), 1):
        words = f"{name} {n}" if name and last > first else name
        known = bus_at(rig, ref).gear_at(short)
        made[short] = replace(known, name=words or known.name) if known else Gear(at=short, name=words)
    kept = {g.at: g for g in bus_at(rig, ref).gear}
    return _with_gear(rig, ref, f"plan {say_count(len(made), 'gear', 'gear')} on {ref.port}", {**kept, **made})


def remove_gear(rig: Rig, ref: PortRef, shorts: Iterable[int]) -> Edit:
    gone = set(shorts)
    gear = {g.at: g for g in bus_at(rig, ref).gear if g.at not in gone}
    return _with_gear(rig, ref, f"take {say_count(len(gone), 'gear', 'gear')} out of the plan of {ref.port}", gear)


def toggle_group(rig: Rig, ref: PortRef, short: int, group: int) -> Edit:
    """Plan a gear into a group, or out of it."""
    if not 0 <= group < GROUPS:
        raise Refused(f"There is no group {group}; there are 0 to {GROUPS - 1}.")
    known = bus_at(rig, ref).gear_at(short)
    groups = set(known.groups or ()) if known else set()
    words = f"gear {short} {'leaves' if group in groups else 'joins'} group {group}"
    return set_gear(rig, ref, [short], words, groups=tuple(sorted(groups ^ {group})))


def set_scene(rig: Rig, ref: PortRef, scene: int, levels: Mapping[int, int | None]) -> Edit:
    """Plan the levels of a scene by short address; None leaves a gear's part in it open, 255 keeps it out of it."""
    if not 0 <= scene < SCENES:
        raise Refused(f"There is no scene {scene}; there are 0 to {SCENES - 1}.")
    gear = {g.at: g for g in bus_at(rig, ref).gear}
    for short, value in levels.items():
        if value is not None and not 0 <= value <= MASK:
            raise Refused(f"{value} is no level; it is 0 to 254, or 255 for “not part of it”.")
        known = gear.get(short) or Gear(at=short)
        others = {s: v for s, v in known.scenes if s != scene}
        if value is not None:
            others[scene] = value
        gear[short] = replace(known, scenes=tuple(sorted(others.items())))
    return _with_gear(rig, ref, f"plan scene {scene} of {ref.port}", gear)


KEPT = 20
"""So many addressings of a device are remembered."""


def remember_addressing(rig: Rig, ref: PortRef, at: float, changes: Iterable[tuple[int, int]]) -> Edit:
    """Keep what addressing the gear of a bus anew did, so that it can be put back at any time."""
    done = Readdressing(at=at, port=ref.port, changes=tuple(changes))
    label = f"remember the addresses on {ref.port}"
    return set_device(rig, ref.device, label, readdressed=(*rig.devices[ref.device].readdressed, done)[-KEPT:])


def copy_gear(rig: Rig, ref: PortRef, source: int, to: Iterable[tuple[PortRef, int]]) -> Edit:
    """Give what is planned for one gear (its levels, fades, groups and scenes) to others, also of other buses."""
    known = bus_at(rig, ref).gear_at(source)
    if known is None:
        raise Refused(f"Nothing is planned for gear {source} of {ref.port}.")
    settings = {
        k: getattr(known, k)
        for k in ("groups", "scenes", "least", "greatest", "power_on", "failure", "fade_time", "fade_rate")
    }
    by_bus: dict[PortRef, list[int]] = {}
    for where, short in to:
        if (where, short) != (ref, source):
            by_bus.setdefault(where, []).append(short)
    if not by_bus:
        raise Refused("There is no other gear to copy it to.")
    made = rig
    for where, shorts in by_bus.items():
        made, _ = set_gear(made, where, shorts, "", **settings)
    label = f"copy gear {source} to {say_count(sum(map(len, by_bus.values())), 'other')}"
    return put_entries(rig, label, devices={where.device: made.devices[where.device] for where in by_bus})
