"""Settings that travel by Art-Net: a row for each says how it is read from a node's replies and written for a push.

A setting is an entry in a device's model. Where Art-Net carries it, it is one row here as well, and then it is
compared, pushed and read back without another line of code. A row that only reads has no `write`: the device reports
it, and it is set in another way. What ArtAddress carries as fields of one packet goes out together for each page;
commands, of which a packet has room for one, follow in packets of their own.

Net and Sub-Net are common to a page of up to four ports: setting one port's universe may move the others. So a push is
planned for the page as a whole (`whole_pages`), and says which neighbours it takes along before it goes.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from welvo.observed.values import Heard, HeardPort
from welvo.protocols import artnet, sacn
from welvo.rig.base import Refused
from welvo.rig.counting import HIGHEST_PORT_ADDRESS, net_sub_universe
from welvo.rig.entered import SettingValue
from welvo.rig.plan import setting_key, split_key
from welvo.rig.wiring import DeviceModel


class ArtAddressPart(Struct, frozen=True):
    """What a value is in an ArtAddress packet: fields of it, or a command."""

    fields: dict[str, object]
    command: int = 0


class DeviceRow(Struct, frozen=True):
    """A setting of the device itself."""

    key: str
    read: Callable[[Heard], SettingValue]
    write: Callable[[SettingValue], ArtAddressPart] | None = None


class PortRow(Struct, frozen=True):
    """A setting of each port; the row is given the port as the device reports it."""

    key: str
    read: Callable[[HeardPort], SettingValue]
    write: Callable[[SettingValue, HeardPort], ArtAddressPart] | None = None


def _universe_command(value: SettingValue, port: HeardPort) -> ArtAddressPart:
    if not isinstance(value, int) or not 0 <= value <= HIGHEST_PORT_ADDRESS:
        raise Refused(f"Art-Net can set universes 0 to {HIGHEST_PORT_ADDRESS}; {value} is out of its reach.")
    net, sub, universe = net_sub_universe(value)
    switches = [artnet.NO_CHANGE] * 4
    switches[port.index] = 0x80 | universe
    return ArtAddressPart({"net": 0x80 | net, "sub": 0x80 | sub, "sw_out": tuple(switches)})


def _protocol_command(value: SettingValue, port: HeardPort) -> ArtAddressPart:
    take = artnet.COMMAND_TAKE_SACN if value == sacn.KEY else artnet.COMMAND_TAKE_ARTNET
    return ArtAddressPart({}, take + port.index)


def _merge_command(value: SettingValue, port: HeardPort) -> ArtAddressPart:
    merge = artnet.COMMAND_MERGE_LTP if value == "latest" else artnet.COMMAND_MERGE_HTP
    return ArtAddressPart({}, merge + port.index)


DEVICE_ROWS: dict[str, DeviceRow] = {
    row.key: row
    for row in (
        DeviceRow("ip", lambda heard: heard.ip),
        DeviceRow("name", lambda heard: heard.name, lambda value: ArtAddressPart({"short_name": str(value)})),
        DeviceRow("long_name", lambda heard: heard.long_name, lambda value: ArtAddressPart({"long_name": str(value)})),
    )
}
PORT_ROWS: dict[str, PortRow] = {
    row.key: row
    for row in (
        PortRow("protocol", lambda port: port.protocol, _protocol_command),
        PortRow("universe", lambda port: port.wire, _universe_command),
        PortRow("merge", lambda port: "latest" if port.ltp else "highest", _merge_command),
    )
}


def heard_port(model: DeviceModel, heard: Heard, label: str) -> HeardPort | None:
    """The heard port for a label: outputs in page and index order stand in the order printed on the device."""
    return heard_ports(model, heard).get(label)


def heard_ports(model: DeviceModel, heard: Heard) -> dict[str, HeardPort]:
    """The heard port of each label (see `heard_port`)."""
    return dict(zip(model.ports, sorted((p for p in heard.ports if p.output), key=lambda p: (p.page, p.index))))


def reported_settings(model: DeviceModel, heard: Heard) -> dict[str, SettingValue]:
    """What a heard device says of its settings, by full key."""
    said: dict[str, SettingValue] = {key: row.read(heard) for key, row in DEVICE_ROWS.items()}
    for label, port in heard_ports(model, heard).items():
        for key, row in PORT_ROWS.items():
            said[setting_key(label, key)] = row.read(port)
    return said


class TakenAlong(Struct, frozen=True):
    """A port that moves because it shares a page with one that is set: its label and its universes on the wire."""

    label: str
    before: int
    after: int
    planned: bool
    """Whether the rig plans it there; nothing is planned for it otherwise."""


def whole_pages(
    model: DeviceModel, heard: Heard, values: dict[str, SettingValue], plan: dict[str, SettingValue]
) -> tuple[dict[str, SettingValue], list[TakenAlong]]:
    """What has to be pushed so that each page is as planned, and which ports it takes along.

    Raises Refused, naming the ports, where the universes planned for one page need more than one Net or Sub-Net.
    """
    labels = {port: label for label in model.ports if (port := heard_port(model, heard, label))}
    wanted = dict(values)
    along: list[TakenAlong] = []
    for page in sorted({p.page for p in labels}):
        mine = {label: port for port, label in labels.items() if port.page == page}
        keys = {label: setting_key(label, "universe") for label in mine}
        new = {label: int(values[keys[label]]) for label in mine if keys[label] in values}
        switches = {wire >> 4 for wire in new.values()}
        if not new or all(mine[label].wire >> 4 == wire >> 4 for label, wire in new.items()):
            continue  # Net and Sub-Net stay as they are
        others = {label: port for label, port in mine.items() if label not in new}
        for label in others:
            planned_there = plan.get(keys[label])
            if isinstance(planned_there, int):
                switches.add(planned_there >> 4)
        if len(switches) > 1:
            names = [f"{label} {new.get(label, plan.get(keys[label]))}" for label in mine if keys[label] in plan]
            raise Refused(
                f"Ports {', '.join(mine)} of this device share one Net and Sub-Net, and their planned universes need "
                f"different ones ({', '.join(names)}). Choose universes for them within one block of 16."
            )
        (switch,) = switches
        for label, port in others.items():
            there = plan.get(keys[label])
            after = there if isinstance(there, int) else switch << 4 | port.wire & 0x0F
            if isinstance(there, int):
                wanted[keys[label]] = there
            if after != port.wire:
                along.append(TakenAlong(label, port.wire, after, isinstance(there, int)))
    return wanted, along


def address_packets(model: DeviceModel, heard: Heard, values: dict[str, SettingValue]) -> list[artnet.Address]:
    """The ArtAddress packets that put values (by full key) into a device. Raises Refused for what cannot be pushed."""
    of_device: list[ArtAddressPart] = []
    of_pages: dict[int, list[ArtAddressPart]] = {}
    for setting, value in values.items():
        label, key = split_key(setting)
        if not label:
            row = DEVICE_ROWS.get(key)
            if row is None or row.write is None:
                raise Refused(f"“{setting}” cannot be set over Art-Net; set it on the device itself.")
            of_device.append(row.write(value))
            continue
        port_row, port = PORT_ROWS.get(key), heard_port(model, heard, label)
        if port is None:
            raise Refused(f"The device at {heard.ip} reports no port {label}.")
        if port_row is None or port_row.write is None:
            raise Refused(f"“{setting}” cannot be set over Art-Net; set it on the device itself.")
        of_pages.setdefault(port.page, []).append(port_row.write(value, port))
    packets = _pack_fields(of_device, 1) if of_device else []
    for page, written in of_pages.items():
        packets += _pack_fields(written, page)
    return packets


def _pack_fields(written: list[ArtAddressPart], page: int) -> list[artnet.Address]:
    """All fields in one packet, with the first command; each further command in one of its own.

    Net and Sub-Net of two ports of a page must be the same; raises Refused.
    """
    fields: dict[str, Any] = {}
    for name, value in (item for w in written for item in w.fields.items()):
        before = fields.get(name)
        if isinstance(value, tuple) and before is not None:
            value = tuple(new if new != artnet.NO_CHANGE else old for old, new in zip(before, value))
        elif before is not None and before != value:
            raise Refused("Ports of one page share Net and Sub-Net, and cannot be set to universes of different ones.")
        fields[name] = value
    commands = [w.command for w in written if w.command]
    first = replace(artnet.Address(bind_index=page, command=commands[0] if commands else 0), **fields)
    return [first, *(artnet.Address(bind_index=page, command=c) for c in commands[1:])]
