"""How settings get into a box and out of it: Art-Net's remote programming, and a box's HTTP status."""

from __future__ import annotations

import json
from typing import Any

from welvo.live.listener import Listener
from welvo.observed.compare import heard_port
from welvo.observed.values import Heard
from welvo.protocols import artnet
from welvo.rig.counting import HIGHEST_PORT_ADDRESS, net_sub_universe
from welvo.rig.plan import split_key
from welvo.rig.wiring import DeviceModel, SettingValue


class LinkError(Exception):
    """A box that cannot be set or read; the message says what, why and what to do."""


def address_packets(model: DeviceModel, heard: Heard, values: dict[str, SettingValue]) -> list[artnet.Address]:
    """The ArtAddress packets that put planned values into a box: one per page that is touched.

    Protocol and merge are commands, of which a packet carries one; further ones follow in packets of their own.
    """
    packets: list[artnet.Address] = []
    if "name" in values:
        packets.append(artnet.Address(short_name=str(values["name"])))
    by_port: dict[str, dict[str, SettingValue]] = {}
    for full, value in values.items():
        label, key = split_key(full)
        if label:
            by_port.setdefault(label, {})[key] = value
        elif full != "name":
            raise LinkError(f"“{full}” cannot be set over Art-Net; set it on the box itself.")
    for label, wanted in by_port.items():
        port = heard_port(model, heard, label)
        if port is None:
            raise LinkError(f"The box at {heard.ip} reports no port {label}.")
        commands: list[int] = []
        if "protocol" in wanted:
            take = artnet.COMMAND_TAKE_SACN if wanted["protocol"] == "sacn" else artnet.COMMAND_TAKE_ARTNET
            commands.append(take + port.index)
        if "merge" in wanted:
            merge = artnet.COMMAND_MERGE_LTP if wanted["merge"] == "latest" else artnet.COMMAND_MERGE_HTP
            commands.append(merge + port.index)
        packet = artnet.Address(bind_index=port.page, command=commands[0] if commands else 0)
        if "universe" in wanted:
            packet = _with_universe(packet, port.index, wanted["universe"])
        packets.append(packet)
        packets += [artnet.Address(bind_index=port.page, command=c) for c in commands[1:]]
    return packets


def _with_universe(packet: artnet.Address, index: int, wire: SettingValue) -> artnet.Address:
    if not isinstance(wire, int) or not 0 <= wire <= HIGHEST_PORT_ADDRESS:
        raise LinkError(f"Art-Net can set universes 0 to {HIGHEST_PORT_ADDRESS}; {wire} is out of its reach.")
    net, sub, universe = net_sub_universe(wire)
    out = [artnet.NO_CHANGE] * 4
    out[index] = 0x80 | universe
    return artnet.Address(
        packet.bind_index, 0x80 | net, 0x80 | sub, packet.sw_in, (out[0], out[1], out[2], out[3]), packet.short_name,
        packet.long_name, packet.acn_priority, packet.command,
    )  # fmt: skip


def push(listener: Listener, model: DeviceModel, heard: Heard | None, ip: str, values: dict[str, SettingValue]) -> None:
    """Send planned values to a box. The next reply says whether it took them. Raises LinkError or ListenError."""
    if heard is None:
        raise LinkError(f"Nothing at {ip} has answered yet, so nothing can be pushed.")
    if "artnet" not in model.links:
        raise LinkError(f"{model.name} cannot be set over the network; enter the values on the box.")
    for packet in address_packets(model, heard, values):
        listener.send_artnet(packet, ip)


def read_status(ip: str, port: int, timeout: float = 0.5) -> dict[str, Any]:
    """A box's status page as JSON. Whatever is wrong with the answer is a LinkError in words."""
    import http.client  # heavy, and not needed before a box with a page was heard

    try:
        connection = http.client.HTTPConnection(ip, port, timeout=timeout)
        try:
            connection.request("GET", "/status")
            answer = connection.getresponse()
            body = answer.read(4 << 20)
        finally:
            connection.close()
        if answer.status != 200:
            raise LinkError(f"{ip} answers with error {answer.status}.")
        found = json.loads(body)
    except (OSError, http.client.HTTPException) as e:
        raise LinkError(f"{ip} does not show its status on port {port} ({e}).") from e
    except ValueError as e:
        raise LinkError(f"{ip} answers with something that is no status.") from e
    if not isinstance(found, dict) or not isinstance(found.get("ports"), list):
        raise LinkError(f"{ip} answers with something that is no status.")
    return found


def port_levels(status: dict[str, Any], label: str) -> bytes | None:
    """What a port puts out, from a status; None when it does not say, or says nonsense."""
    for port in status["ports"]:
        if isinstance(port, dict) and port.get("label") == label:
            levels = port.get("levels")
            if (
                isinstance(levels, list)
                and len(levels) <= 512
                and all(isinstance(v, int) and 0 <= v <= 255 for v in levels)
            ):
                return bytes(levels).ljust(512, b"\0")
    return None


def identify(listener: Listener, ip: str, on: bool) -> None:
    """Let a box blink, or stop it: Art-Net's locate and normal commands. Raises ListenError."""
    command = artnet.COMMAND_LOCATE if on else artnet.COMMAND_NORMAL
    listener.send_artnet(artnet.Address(command=command), ip)
