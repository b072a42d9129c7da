"""A heard device becomes a planned one: with its MAC, and its ports as far as the rig has feeds for their universes."""

from __future__ import annotations

from msgspec.structs import replace

from welvo.observed.values import Heard, Observed
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig, join_changes, put_entries
from welvo.rig.edits import add_device, set_device
from welvo.rig.entered import SettingValue
from welvo.rig.plan import device_at
from welvo.rig.wiring import DeviceModel, Port
from welvo.settings.artnet import heard_port


def feed_of(rig: Rig, protocol: str, wire: int) -> str:
    """The first feed that carries a number on the wire; empty when there is none."""
    return next((fid for fid, f in rig.feeds.items() if (f.protocol, f.wire) == (protocol, wire)), "")


def plan_heard(rig: Rig, model: DeviceModel, name: str, ip: str, heard: Heard, ports: bool) -> Edit:
    """Plan a device as it was heard: address and MAC, and with `ports` the feeds its ports are set to take."""
    now, first = add_device(rig, model, name, ip)
    device_id = first.made[0]
    device = now.devices[device_id]
    settings: dict[str, SettingValue] = {**device.settings, **({"mac": heard.mac} if heard.mac else {})}
    planned = dict(device.ports)
    for label in model.ports if ports else ():
        port = heard_port(model, heard, label)
        feed = feed_of(rig, port.protocol, port.wire) if port else ""
        if feed:
            planned[label] = replace(planned.get(label, Port()), feed=feed)
    now, second = set_device(now, device_id, f"plan {name}", settings=settings, ports=planned)
    return now, join_changes(f"plan {name} as it was heard", first, second)


def link_device(rig: Rig, device_id: str, ip: str, mac: str) -> Edit:
    """Say that a planned device is the one that answers at an address. Its feeds by unicast go along.

    Raises Refused when another device is planned there.
    """
    device = rig.devices[device_id]
    there = device_at(rig, ip)
    if there not in ("", device_id):
        raise Refused(f"{rig.devices[there].name} is planned at {ip} already.")
    settings = {**device.settings, **({"mac": mac} if mac else {})}
    feeds = {fid: replace(f, to=ip) for fid, f in rig.feeds.items() if device.ip and f.to == device.ip}
    return put_entries(
        rig, f"{device.name} is at {ip}", devices={device_id: replace(device, ip=ip, settings=settings)}, feeds=feeds
    )


def likely_devices(rig: Rig, observed: Observed, ip: str) -> list[str]:
    """Planned devices that a heard one may be, the likeliest first: the same MAC, the same name, silent ones."""
    heard, said = observed.heard.get(ip), observed.said.get(ip)
    mac = ((said.mac if said else "") or (heard.mac if heard else "")).lower()
    name = ((said.name if said else "") or (heard.name if heard else "")).lower()

    def rank(device_id: str) -> tuple[bool, bool, bool]:
        d = rig.devices[device_id]
        return (
            not mac or str(d.settings.get("mac", "")).lower() != mac,
            d.name.lower() != name,
            d.ip in observed.heard or d.ip in observed.said,
        )

    return sorted((k for k, d in rig.devices.items() if d.ip != ip), key=rank)
