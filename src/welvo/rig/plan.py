"""What the rig says each setting of a device is. Said once: a port's universe follows from the feed it takes."""

from __future__ import annotations

import re

from welvo.rig.base import Refused
from welvo.rig.colours import STRAIGHT
from welvo.rig.document import Rig
from welvo.rig.entered import SettingValue
from welvo.rig.kept import keep_last_two, table_of
from welvo.rig.notation import read_ip, read_mask
from welvo.rig.protocol import PROTOCOLS, USUAL
from welvo.rig.wiring import Device, DeviceModel, Feed, SettingSpec


def setting_key(port: str, key: str) -> str:
    """`A.universe` for a port's setting, `name` for the device's own."""
    return f"{port}.{key}" if port else key


def split_key(setting: str) -> tuple[str, str]:
    port, dot, key = setting.rpartition(".")
    return (port, key) if dot else ("", setting)


def planned_settings(rig: Rig, device: str) -> dict[str, SettingValue]:
    """All planned settings of a device by full key; what the plan does not care about is absent."""
    d = rig.devices[device]
    plan: dict[str, SettingValue] = dict(d.settings)
    if d.ip:
        plan["ip"] = d.ip
    for label, port in d.ports.items():
        for key, value in port.settings.items():
            plan[setting_key(label, key)] = value
        feed = rig.feeds.get(port.feed)
        if feed:
            plan[setting_key(label, "protocol")] = feed.protocol
            plan[setting_key(label, "universe")] = feed.wire
    return plan


def model_of(rig: Rig, device: str) -> DeviceModel | None:
    return rig.device_models.get(rig.devices[device].model)


def segment_owner(port: str, number: int) -> str:
    """`6/2`: the second segment of port 6, as the device's own list counts them (from 1)."""
    return f"{port}/{number}"


def split_owner(owner: str) -> tuple[str, int]:
    """Port label and segment of an owner; 0 where it is the port itself. A label may hold a stroke of its own."""
    label, stroke, number = owner.rpartition("/")
    return (label, int(number)) if stroke and label and number.isdecimal() else (owner, 0)


AllSettings = list[tuple[str, str, SettingSpec]]


def all_settings(model: DeviceModel, segments: dict[str, int] | None = None) -> AllSettings:
    """(full key, owner, spec), the device's own first, then port by port as printed on the device. Do not change it.

    `segments` says how many segments each port has; theirs follow those of the port. The list is the same for all
    devices of a model with as many segments, and is kept.
    """
    asked = (id(model), tuple((segments or {}).items()))
    lists: dict[object, tuple[DeviceModel, AllSettings]] = table_of("settings of a model", 500)
    known = lists.get(asked)
    if known is None or known[0] is not model:
        known = lists[asked] = (model, _list_settings(model, segments or {}))
    return known[1]


def _list_settings(model: DeviceModel, segments: dict[str, int]) -> AllSettings:
    of_device = [s for s in model.settings if s.scope == "device"]
    of_port = [s for s in model.settings if s.scope == "port"]
    of_segment = [s for s in model.settings if s.scope == "segment"]
    found = [(s.key, "", s) for s in of_device]
    for label in model.ports:
        found += [(setting_key(label, s.key), label, s) for s in of_port]
        for n in range(1, segments.get(label, 0) + 1 if of_segment else 1):
            owner = segment_owner(label, n)
            found += [(setting_key(owner, s.key), owner, s) for s in of_segment]
    return found


def spec_of(model: DeviceModel, key: str) -> SettingSpec | None:
    """The model's entry of a full key; None when the model has no such setting."""
    owner, name = split_key(key)
    label, number = split_owner(owner)
    scope = "segment" if number else "port" if label else "device"
    if label and label not in model.ports:
        return None
    return next((s for s in model.settings if s.key == name and s.scope == scope), None)


def say_key(model: DeviceModel | None, key: str) -> str:
    """`Brightness of port 6`, `Fold of segment 2 on port 6`."""
    owner, name = split_key(key)
    label, number = split_owner(owner)
    spec = spec_of(model, key) if model else None
    words = spec.label if spec else name
    return f"{words} of segment {number} on port {label}" if number else f"{words} of port {label}" if label else words


def away_from_factory(model: DeviceModel, values: dict[str, SettingValue]) -> int:
    """How many settings of a device are others than when it was new."""
    return sum(1 for k, v in values.items() if (s := spec_of(model, k)) and v not in (s.factory, ""))


def pages_of(model: DeviceModel) -> dict[tuple[str, str], str]:
    """Which of the device's own pages each setting is on, by scope and key."""
    found: dict[tuple[str, str], str] = {}
    page = "Network"
    for s in model.settings:
        page = s.page or page
        found[s.scope, s.key] = page
    return found


def link_of(model: DeviceModel, spec: SettingSpec) -> str:
    """What carries a setting to the device and back; `hand` where nothing does."""
    return spec.link or (model.links[0] if model.links else "hand")


def on_page(model: DeviceModel, spec: SettingSpec, value: SettingValue | None) -> SettingValue | None:
    """A value in the counting of the device's own page; the same where the page counts as the plan does."""
    if spec.counts and isinstance(value, int) and not isinstance(value, bool):
        return value + model.counts.get(spec.counts, 1) - 1
    return value


def say_setting(spec: SettingSpec | None, value: SettingValue | None, protocol: str = USUAL) -> str:
    """A value as the interface shows it."""
    if value is None or value == "":
        return "—"
    if spec and spec.secret:
        return "kept outside the rig"
    if spec and spec.type == "universe" and isinstance(value, int):
        return PROTOCOLS[protocol].write(value)
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, float):
        value = f"{value:g}"
    if spec and spec.unit and isinstance(value, int | str):
        return f"{value} {spec.unit}"
    if spec and spec.type == "choice" and value in PROTOCOLS:
        return PROTOCOLS[value].word
    return str(value)


def read_setting(spec: SettingSpec, text: str, protocol: str = USUAL) -> SettingValue | None:
    """What somebody typed for a setting, held against its entry in the model; nothing typed is nothing planned."""
    t = text.strip()
    if not t:
        return None
    if spec.type == "universe":
        wire = PROTOCOLS[protocol].read_wire(t)
        if not spec.low <= wire <= spec.high:
            raise Refused(f"The device takes universes {spec.low} to {spec.high}; {wire} is out of its reach.")
        return wire
    if spec.type == "number":
        if not re.fullmatch(r"\d{1,9}", t) or not spec.low <= int(t) <= spec.high:
            raise Refused(f"{spec.label}: a whole number from {spec.low} to {spec.high}.")
        return int(t)
    if spec.type == "decimal":
        number = t.replace(",", ".").removesuffix(spec.unit).strip() if spec.unit else t.replace(",", ".")
        if not re.fullmatch(r"\d{1,6}(\.\d{1,4})?", number) or not spec.low <= float(number) <= spec.high:
            raise Refused(f"{spec.label}: a number from {spec.low} to {spec.high}.")
        return float(number)
    if spec.type == "switch":
        if t.lower() not in ("on", "off", "yes", "no"):
            raise Refused(f"{spec.label} is on or off.")
        return t.lower() in ("on", "yes")
    if spec.type == "order":
        if not 1 <= len(t) <= 6 or len(set(t.upper())) < len(t) or not set(t.upper()) <= set(STRAIGHT):
            raise Refused(f"{spec.label} is a colour order such as GRB or RGBW.")
        return t.upper()
    if spec.type == "mask":
        return read_mask(t)
    if spec.type == "choice" and t not in spec.options:
        raise Refused(f"{spec.label} is one of {', '.join(spec.options)}.")
    if len(t) > spec.longest:
        raise Refused(f"“{t}” has {len(t)} letters; {spec.label.lower()} takes {spec.longest} at most.")
    return read_ip(t) if spec.type == "ip" else t


def universe_size(rig: Rig, device: str) -> int:
    """How many slots of a universe a device takes; 0 when nobody said otherwise than the sender."""
    model = model_of(rig, device)
    return rig.devices[device].size or (model.universe_size if model else 0)


def nothing_out(rig: Rig, device: str, label: str) -> str:
    """Why nothing ever comes out of a port: its model lacks it, or its mode switches it off. Empty: it works."""
    model = model_of(rig, device)
    if model is None:
        return ""
    if label not in model.ports:
        return f"a {model.name} has no port {label}"
    mode = model.output_mode(rig.devices[device].mode)
    return f"mode “{mode.name}” switches it off" if mode and label in mode.off else ""


def ports_taking(rig: Rig, feed: str) -> list[tuple[str, str]]:
    """(device id, port label) of all ports planned to take a feed, and able to give it out."""
    return [
        (device_id, label)
        for device_id, d in rig.devices.items()
        for label, p in d.ports.items()
        if p.feed == feed and not nothing_out(rig, device_id, label)
    ]


def port_of_fixture(rig: Rig, fixture: str) -> tuple[str, str, int] | None:
    """Device id, port label and place on the line (from 1) where a DMX line lists the fixture."""
    for device_id, d in rig.devices.items():
        for label, p in d.ports.items():
            for segment in p.run:
                if segment.kind == "line" and fixture in segment.fixtures:
                    return device_id, label, segment.fixtures.index(fixture) + 1
    return None


@keep_last_two
def _by_ip(devices: dict[str, Device]) -> dict[str, tuple[str, ...]]:
    found: dict[str, tuple[str, ...]] = {}
    for device_id, d in devices.items():
        if d.ip:
            found[d.ip] = (*found.get(d.ip, ()), device_id)
    return found


def devices_at(rig: Rig, ip: str) -> tuple[str, ...]:
    """All devices that are planned at an address, in the order of their entry."""
    return _by_ip(rig.devices).get(ip, ())


def device_at(rig: Rig, ip: str) -> str:
    """The first device that is planned at an address; empty: none."""
    return next(iter(devices_at(rig, ip)), "")


def feed_reaches(feed: Feed, ip: str) -> bool:
    """Whether a feed's packets get to a device at an address: all but unicast to somebody else."""
    return feed.to in ("multicast", "broadcast", "subscribers", ip)
