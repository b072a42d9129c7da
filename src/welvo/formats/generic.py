"""Device models for whoever has no better one at hand: so many ports of a kind, with the protocols' own settings."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from welvo.formats.models import shipped_models
from welvo.protocols import artnet
from welvo.rig.base import Refused
from welvo.rig.protocol import Protocol
from welvo.rig.wiring import BY_ARTNET, DeviceModel

GenericKind = Literal["node", "pixel", "converter"]
MOST_PORTS = 512


class Generic(Struct, frozen=True):
    """What a generic model is called, and what the limit of one of its ports counts."""

    words: str
    counts: str
    usual: int


GENERICS: dict[GenericKind, Generic] = {
    "node": Generic("node with DMX ports", "slots", 512),
    "pixel": Generic("pixel controller", "pixels", 680),
    "converter": Generic("converter of pixels to DMX", "pixels", 170),
}


def generic_model(kind: GenericKind, ports: int, limit: int, protocols: tuple[Protocol, ...]) -> DeviceModel:
    """A model of so many ports, each of which puts out `limit` slots or pixels (0: nobody said).

    A node has what every Art-Net node can be told: its name, and for each port protocol, universe and merging.
    Raises Refused for numbers that no device has.
    """
    about = GENERICS[kind]
    if not 1 <= ports <= MOST_PORTS:
        raise Refused(f"A device has 1 to {MOST_PORTS} ports; {ports} is out of reach.")
    if kind == "node" and not 1 <= limit <= 512:
        raise Refused(f"A DMX port puts out 1 to 512 slots; {limit} is out of reach.")
    if not 0 <= limit <= 100_000:
        raise Refused(f"A port takes 0 to 100 000 {about.counts}; {limit} is out of reach.")
    if not protocols:
        raise Refused("A device listens to one protocol at least.")
    common = shipped_models()["sluice-4"]
    return DeviceModel(
        name=f"{about.words[:1].upper()}{about.words[1:]}, {ports} {'port' if ports == 1 else 'ports'}",
        kind=kind,
        ports=tuple(str(n) for n in range(1, ports + 1)),
        slots_per_port=limit if kind == "node" else 512,
        pixels_per_port=0 if kind == "node" else limit,
        protocols=protocols,
        universes=0 if kind == "node" else min(63_999, max(ports, -(-ports * max(limit, 1) // 170))),
        settings=common.settings if kind == "node" else (),
        links=(BY_ARTNET,) if kind == "node" and artnet.KEY in protocols else (),
        page_ports=common.page_ports if kind == "node" else 1,
        counts=common.counts,
        note="A generic model: what it can do was typed, not read in a manual.",
    )
