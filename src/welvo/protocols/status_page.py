"""The status page of a device (docs/device-settings.md): what its ports put out at this moment, as JSON.

The one description for both ends: devices write it, whoever asks them reads it. A page of somebody else is read port by
port, because one that says nonsense of one port may still be right about the others.
"""

from __future__ import annotations

from typing import Annotated

import msgspec
from msgspec import UNSET, Meta, Raw, Struct, UnsetType

from welvo.protocols.wire import WireError

SLOTS = 512
MOST_PORTS = 4096
Level = Annotated[int, Meta(ge=0, le=255)]
Levels = Annotated[tuple[Level, ...], Meta(max_length=SLOTS)]


class SourceOnPort(Struct, frozen=True):
    """Who sends to a port: its address and name, its priority, and how many seconds ago it was heard."""

    ip: str
    name: str
    priority: int
    age: float


class LevelsBehind(Struct, frozen=True):
    """What is measured on the DMX line behind a bridge or converter, which is the `place`th on its cable (from 0)."""

    place: int
    kind: str
    levels: Levels
    name: str = ""


class GearOnBus(Struct, frozen=True):
    """What is seen at one gear of a lamp bus. Only simulated gateways can tell."""

    short: int | None
    level: int
    name: str
    blinks: bool


class PortStatus(Struct, frozen=True, omit_defaults=True):
    """One port. `levels` are slots from 1 of a DMX port, `octets` (base64 in JSON) all that leave a port of pixels."""

    label: str
    protocol: str | UnsetType = UNSET
    universe: int | UnsetType = UNSET
    merge: str | UnsetType = UNSET
    slots: int | UnsetType = UNSET
    frames: int | UnsetType = UNSET
    levels: Levels | UnsetType = UNSET
    sources: tuple[SourceOnPort, ...] | UnsetType = UNSET
    octets: bytes | UnsetType = UNSET
    behind: tuple[LevelsBehind, ...] | UnsetType = UNSET
    gear: tuple[GearOnBus, ...] | UnsetType = UNSET


class StatusPage(Struct, frozen=True, kw_only=True):
    """A device and its ports. `test` is the on-board test that is shown, `noise` how many packets made no sense."""

    name: str = ""
    long_name: str | UnsetType = UNSET
    ip: str = ""
    model: str = ""
    identify: bool = False
    test: str | UnsetType = UNSET
    noise: int = 0
    ports: tuple[PortStatus, ...] = ()

    def port_labelled(self, label: str) -> PortStatus | None:
        return next((p for p in self.ports if p.label == label), None)

    def levels_of_port(self, label: str) -> bytes | None:
        """What a DMX port puts out, 512 levels; None when the page does not say."""
        port = self.port_labelled(label)
        return bytes(port.levels).ljust(SLOTS, b"\0") if port and port.levels is not UNSET else None

    def octets_of_port(self, label: str) -> tuple[bytes, tuple[LevelsBehind, ...]] | None:
        """The octets that leave a port of pixels, and what is measured behind its bridges and converters; None when
        the page does not say."""
        port = self.port_labelled(label)
        if port is None or port.octets is UNSET:
            return None
        return port.octets, port.behind if port.behind is not UNSET else ()


class _Outline(Struct):
    """A page as far as it has to be right for any of it to be read."""

    ports: Annotated[list[Raw], Meta(max_length=MOST_PORTS)]
    test: Raw = Raw()


def encode_status_page(page: StatusPage) -> bytes:
    return msgspec.json.encode(page)


def decode_status_page(raw: bytes) -> StatusPage:
    """A page as far as it makes sense: ports that do not are left out. Raises WireError for what is no page at all."""
    try:
        outline = msgspec.json.decode(raw, type=_Outline)
        ports = tuple(p for one in outline.ports if (p := _decode_port(one)) is not None)
        test = msgspec.json.decode(outline.test, type=str) if bytes(outline.test) else UNSET
    except (msgspec.MsgspecError, ValueError, RecursionError) as e:
        raise WireError("status", "it is no status page") from e
    return StatusPage(test=test, ports=ports)


def _decode_port(raw: Raw) -> PortStatus | None:
    try:
        return msgspec.json.decode(raw, type=PortStatus)
    except (msgspec.MsgspecError, ValueError, RecursionError):
        return None
