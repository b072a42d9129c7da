"""How settings get into a device and out of it: Art-Net's remote programming, and a device's HTTP status."""

from __future__ import annotations

import msgspec

from welvo.live.listener import Listener
from welvo.observed.values import Heard
from welvo.protocols import artnet
from welvo.rig.base import Refused
from welvo.rig.entered import SettingValue
from welvo.rig.letters import mark_unseen_letters
from welvo.rig.wiring import BY_ARTNET, DeviceModel
from welvo.settings.artnet import address_packets

MOST_TEXT = 500
"""Letters of one text from a page of a device that are kept."""


class LinkError(Refused):
    """A device that cannot be set or read; the message says what, why and what to do."""


MOST_REASON = 120


def reason_of_error(e: Exception) -> str:
    """Why an answer could not be had, in one short line. What a library says of an answer that is none quotes from it,
    over several lines."""
    words = str(getattr(e, "strerror", None) or e)
    first = next((line.strip() for line in words.splitlines() if line.strip()), "")
    return mark_unseen_letters(first)[:MOST_REASON] or "it takes too long"


def read_page(raw: bytes) -> object:
    """The JSON of a device's page as plain values, with its texts cut and cleaned: they go on into files, lists and
    papers. Raises msgspec.DecodeError, ValueError or RecursionError for what is no JSON."""
    return _clean_value(msgspec.json.decode(raw))


def _clean_value(value: object) -> object:
    if isinstance(value, str):
        return mark_unseen_letters(value[:MOST_TEXT])
    if isinstance(value, list):
        return [_clean_value(x) for x in value]
    if isinstance(value, dict):
        return {_clean_value(k): _clean_value(v) for k, v in value.items()}
    return value


class ArtNetLink:
    """Settings by ArtAddress, sent through the listener, which owns the Art-Net port."""

    def __init__(self, listener: Listener) -> None:
        self._listener = listener

    def push_settings(self, model: DeviceModel, heard: Heard | None, ip: str, values: dict[str, SettingValue]) -> None:
        if heard is None:
            raise LinkError(f"Nothing at {ip} has answered yet, so nothing can be pushed.")
        if BY_ARTNET not in model.links:
            raise LinkError(f"{model.name} cannot be set over the network; enter the values on the device.")
        for packet in address_packets(model, heard, values):
            self._listener.send_artnet(packet, ip)

    def give_address(self, model: DeviceModel, at: str, ip: str, mask: str = "") -> None:
        """Have the device that is found at one address take another one, and restart (ArtIpProg, by unicast)."""
        if BY_ARTNET not in model.links:
            raise LinkError(f"{model.name} cannot be set over the network; enter the address on the device.")
        command = artnet.PROG_ENABLE | artnet.PROG_IP | (artnet.PROG_MASK if mask else 0)
        self._listener.send_artnet(artnet.IpProg(command, _four_octets(ip), _four_octets(mask or "0.0.0.0")), at)

    def identify_device(self, ip: str, on: bool) -> None:
        command = artnet.COMMAND_LOCATE if on else artnet.COMMAND_NORMAL
        self._listener.send_artnet(artnet.Address(command=command), ip)


def _four_octets(ip: str) -> artnet.Four:
    a, b, c, d = (int(p) for p in ip.split("."))
    return a, b, c, d
