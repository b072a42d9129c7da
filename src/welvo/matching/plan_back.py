"""Making what a device has the plan: the other way round from `patch.planned`.

A setting that follows from a run is not kept twice, so planning another value changes the run itself: the order of a
segment, its fold, the brightness of a port. What a run is made of (how many LEDs hang there, where a stream begins) is
no choice of a page; there the refusal says where it is changed.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

from msgspec.structs import replace

from welvo.matching.planned import segments_of
from welvo.rig.abilities import port_gives_what
from welvo.rig.base import Refused
from welvo.rig.buses import NO_BUS
from welvo.rig.colours import straight_order
from welvo.rig.document import Edit, Rig, put_entries
from welvo.rig.edits import plan_setting, set_device
from welvo.rig.entered import SettingValue
from welvo.rig.plan import model_of, split_key, split_owner
from welvo.rig.refs import PortRef
from welvo.rig.wiring import Device, DeviceModel, Port
from welvo.runs.cable import Cables
from welvo.runs.edits import change_segment, set_device_way

_FROM_RUN = "follows from what is attached; change it in Runs"


def _fraction_of_percent(value: SettingValue) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or not 0 <= value <= 100:
        raise Refused(f"{value} is no brightness in percent.")
    return value / 100


def plan_reported(rig: Rig, device_id: str, setting: str, value: SettingValue | None) -> Edit:
    """Plan a value for a setting, whatever in the rig says it. Raises Refused where the rig cannot take it over."""
    owner, key = split_key(setting)
    label, number = split_owner(owner)
    model = model_of(rig, device_id)
    scope = "segment" if number else "port" if label else "device"
    has = model and any(s.scope == scope and s.key == key for s in model.settings)
    device = rig.devices[device_id]
    pixels = bool(label) and label in device.ports and port_gives_what(rig, device_id, label) == "pixels"
    if value is None or not has:
        return plan_setting(rig, device_id, setting, value)
    words = f"plan {device.name} {setting} {value}"
    if scope == "segment" and pixels:
        return _edit_segment(rig, device_id, label, number, key, value, words)
    if scope == "port" and pixels and key in ("brightness", "gamma", "chip"):
        new: Any = (
            _fraction_of_percent(value) if key == "brightness" else float(value) if key == "gamma" else str(value)
        )
        port = replace(device.ports.get(label, Port()), **{key: new})
        return set_device(rig, device_id, words, ports={**device.ports, label: port})
    if scope == "port" and pixels and key == "slot":
        port = device.ports[label]
        if port.follows:
            raise Refused(f"Port {label} follows the one before it, so its start {_FROM_RUN}.")
        return set_device(rig, device_id, words, ports={**device.ports, label: replace(port, start=int(value))})
    if scope == "port" and pixels and (key == "segments" or (key == "universe" and not device.ports[label].feed)):
        raise Refused(f"{key.capitalize()} of port {label}: it {_FROM_RUN}.")
    if scope == "device" and key in ("mode", "size", "packs", "brightness"):
        of: Any = _fraction_of_percent(value) if key == "brightness" else value
        return set_device_way(rig, device_id, words, **{key: of})
    return plan_setting(rig, device_id, setting, value)


def _edit_segment(rig: Rig, device_id: str, label: str, number: int, key: str, value: SettingValue, words: str) -> Edit:
    stream = Cables(rig).streams.get(PortRef(device_id, label))
    found = next((s for s in segments_of(stream) if s.number == number), None) if stream else None
    if found is None:
        raise Refused(f"Port {label} has no segment {number} in the plan; attach it in Runs, or push the plan.")
    n = found.piece.n
    if key == "order":
        straight_one = str(value) == straight_order(str(value))
        return change_segment(rig, device_id, label, n, words, order="" if straight_one else str(value))
    if key == "brightness":
        return change_segment(rig, device_id, label, n, words, brightness=_fraction_of_percent(value))
    if key in ("fold", "group", "reverse"):
        return change_segment(rig, device_id, label, n, words, **{key: value})
    raise Refused(f"{key.capitalize()} of segment {number} on port {label} {_FROM_RUN}.")


COPIED = ("brightness", "overrides", "gamma", "dither", "chip")
"""What is copied from port to port besides settings planned by hand. What is attached, and where it begins, is not."""


COPIED_OF_BUS = ("addressing", "control", "curve", "least", "every")
"""What is copied from bus to bus; the gear that is planned on it is not."""
WORDS_OF_PORT = {
    "overrides": "instead of the device's", "dither": "dithering", "chip": "chip type", "every": "may take, in seconds",
    "least": "least level",
}  # fmt: skip
"""What is called otherwise than its key."""


class PortCopy(NamedTuple):
    """One port that settings would be copied to, and what each would become: (setting, before, after)."""

    device_id: str
    label: str
    changes: tuple[tuple[str, str, str], ...]


def copy_targets(rig: Rig, device_id: str, label: str) -> list[PortCopy]:
    """Every other port of the rig's devices of the same model, with what would change there."""
    source = rig.devices[device_id].ports.get(label, Port())
    model_id = rig.devices[device_id].model
    model = rig.device_models.get(model_id)
    found = []
    for other_id, device in rig.devices.items():
        for port in model.ports if model and device.model == model_id else ():
            if (other_id, port) == (device_id, label):
                continue
            has = device.ports.get(port, Port())
            changes = [
                (key, _say_value(getattr(has, key)), _say_value(getattr(source, key)))
                for key in COPIED
                if getattr(has, key) != getattr(source, key)
            ]
            changes += [
                (key, _say_value(has.settings.get(key)), _say_value(source.settings.get(key)))
                for key in sorted({*has.settings, *source.settings})
                if has.settings.get(key) != source.settings.get(key)
            ]
            changes += [
                (key, _say_value(getattr(has.bus or NO_BUS, key)), _say_value(getattr(source.bus or NO_BUS, key)))
                for key in COPIED_OF_BUS
                if (has.bus or source.bus) and getattr(has.bus or NO_BUS, key) != getattr(source.bus or NO_BUS, key)
            ]
            said = tuple((_word_for_setting(model, key), a, b) for key, a, b in changes)
            found.append(PortCopy(other_id, port, said))
    return found


def _word_for_setting(model: DeviceModel | None, key: str) -> str:
    """What a setting of a port is called, as its page or its form calls it."""
    spec = model.spec_of_setting(key) if model else None
    return (spec.label.lower() if spec else WORDS_OF_PORT.get(key)) or key.replace("_", " ")


def _say_value(value: object) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    return "not planned" if value in (None, "") else f"{value:g}" if isinstance(value, float) else str(value)


def copy_port(rig: Rig, device_id: str, label: str, targets: Sequence[tuple[str, str]]) -> Edit:
    """Copy what is planned for a port to other ports. Raises Refused for a port of another kind."""
    source = rig.devices[device_id].ports.get(label, Port())
    able = {(t.device_id, t.label) for t in copy_targets(rig, device_id, label)}
    lost = next((t for t in targets if t not in able), None)
    if lost or not targets:
        raise Refused("Choose ports of devices of the same model.")
    changed: dict[str, Device] = {}
    for other_id, port in targets:
        device = changed.get(other_id, rig.devices[other_id])
        has = device.ports.get(port, Port())
        new = replace(has, settings=source.settings, **{key: getattr(source, key) for key in COPIED})
        if source.bus is not None:
            new = replace(new, bus=replace(has.bus or NO_BUS, **{k: getattr(source.bus, k) for k in COPIED_OF_BUS}))
        changed[other_id] = replace(device, ports={**device.ports, port: new})
    count = len(targets)
    words = f"copy settings of {rig.devices[device_id].name} {label} to {count} port{'s' if count > 1 else ''}"
    return put_entries(rig, words, devices=changed)
