"""Settings that travel by Art-Net: a row for each says how it is read from a node's replies and written for a push.

A setting is an entry in a device's model. Where Art-Net carries it, it is one row here as well, and then it is
compared, pushed and read back without another line of code. A row that only reads has no `write`: the device reports
it, and it is set in another way. What ArtAddress carries as fields of one packet goes out together for each port;
commands, of which a packet has room for one, follow in packets of their own.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from welvo.observed.values import Heard, HeardPort
from welvo.protocols import artnet
from welvo.rig.base import Refused
from welvo.rig.counting import HIGHEST_PORT_ADDRESS, net_sub_universe
from welvo.rig.plan import setting_key, split_key
from welvo.rig.wiring import DeviceModel, SettingValue


@dataclass(frozen=True)
class ArtAddressPart:
    """What a value is in an ArtAddress packet: fields of it, or a command."""

    fields: dict[str, Any]
    command: int = 0


@dataclass(frozen=True)
class DeviceRow:
    """A setting of the device itself."""

    key: str
    read: Callable[[Heard], SettingValue]
    write: Callable[[SettingValue], ArtAddressPart] | None = None


@dataclass(frozen=True)
class PortRow:
    """A setting of each port; the row is given the port as the device reports it."""

    key: str
    read: Callable[[HeardPort], SettingValue]
    write: Callable[[SettingValue, HeardPort], ArtAddressPart] | None = None


def _universe(value: SettingValue, port: HeardPort) -> ArtAddressPart:
    if not isinstance(value, int) or not 0 <= value <= HIGHEST_PORT_ADDRESS:
        raise Refused(f"Art-Net can set universes 0 to {HIGHEST_PORT_ADDRESS}; {value} is out of its reach.")
    net, sub, universe = net_sub_universe(value)
    switches = [artnet.NO_CHANGE] * 4
    switches[port.index] = 0x80 | universe
    return ArtAddressPart({"net": 0x80 | net, "sub": 0x80 | sub, "sw_out": tuple(switches)})


def _protocol(value: SettingValue, port: HeardPort) -> ArtAddressPart:
    take = artnet.COMMAND_TAKE_SACN if value == "sacn" else artnet.COMMAND_TAKE_ARTNET
    return ArtAddressPart({}, take + port.index)


def _merge(value: SettingValue, port: HeardPort) -> ArtAddressPart:
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
        PortRow("protocol", lambda port: port.protocol, _protocol),
        PortRow("universe", lambda port: port.wire, _universe),
        PortRow("merge", lambda port: "latest" if port.ltp else "highest", _merge),
    )
}


def heard_port(model: DeviceModel, heard: Heard, label: str) -> HeardPort | None:
    """The heard port for a label: outputs in page and index order stand in the order printed on the device."""
    order = sorted((p for p in heard.ports if p.output), key=lambda p: (p.page, p.index))
    at = model.ports.index(label) if label in model.ports else -1
    return order[at] if 0 <= at < len(order) else None


def reported(model: DeviceModel, heard: Heard) -> dict[str, SettingValue]:
    """What a heard device says of its settings, by full key."""
    said: dict[str, SettingValue] = {key: row.read(heard) for key, row in DEVICE_ROWS.items()}
    for label in model.ports:
        port = heard_port(model, heard, label)
        if port:
            said |= {setting_key(label, key): row.read(port) for key, row in PORT_ROWS.items()}
    return said


def address_packets(model: DeviceModel, heard: Heard, values: dict[str, SettingValue]) -> list[artnet.Address]:
    """The ArtAddress packets that put values (by full key) into a device. Raises Refused for what cannot be pushed."""
    of_device: list[ArtAddressPart] = []
    of_ports: dict[str, list[ArtAddressPart]] = {}
    pages: dict[str, int] = {}
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
        of_ports.setdefault(label, []).append(port_row.write(value, port))
        pages[label] = port.page
    packets = _packed(of_device, 1) if of_device else []
    for label, written in of_ports.items():
        packets += _packed(written, pages[label])
    return packets


def _packed(written: list[ArtAddressPart], page: int) -> list[artnet.Address]:
    """All fields in one packet, with the first command; each further command in one of its own."""
    fields = {name: value for w in written for name, value in w.fields.items()}
    commands = [w.command for w in written if w.command]
    first = replace(artnet.Address(bind_index=page, command=commands[0] if commands else 0), **fields)
    return [first, *(artnet.Address(bind_index=page, command=c) for c in commands[1:])]
