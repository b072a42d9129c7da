"""Universes, senders and feeds; devices, their ports and what hangs on them."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from welvo.rig.base import Value

Protocol = Literal["sacn", "artnet", "ddp", "serial"]
SettingValue = str | int | bool
Slot = Annotated[int, Meta(ge=1, le=512)]


class Universe(Value, frozen=True, kw_only=True):
    """One of the rig's own numbered universes; `size` is how many slots its sender uses (512 or 510 mostly).

    `reserve` lists stretches (first, last) that are kept free on purpose: nothing is laid out there by itself.
    """

    number: Annotated[int, Meta(ge=1, le=63999)]
    name: str = ""
    size: Annotated[int, Meta(ge=1, le=512)] = 512
    reserve: tuple[tuple[Slot, Slot], ...] = ()


class Sender(Value, frozen=True, kw_only=True):
    """Whatever feeds universes: a desk, another program, Welvo's own Bench (`kind` bench)."""

    name: str
    kind: Literal["bench", "desk", "program"] = "program"
    computer: str = ""
    universe_size: Annotated[int, Meta(ge=1, le=512)] = 512
    counts_from: Literal[0, 1] = 1
    lowest: Annotated[int, Meta(ge=0, le=63999)] = 1
    highest: Annotated[int, Meta(ge=0, le=63999)] = 63999
    rate: Annotated[float, Meta(gt=0, le=1000)] = 44
    priority: Annotated[int, Meta(ge=0, le=200)] = 100
    brightness: Annotated[float, Meta(ge=0, le=1)] = 1.0


class Feed(Value, frozen=True, kw_only=True):
    """How a universe leaves its sender.

    `wire` is the sACN universe (1..63999) or the Art-Net Port-Address (0..32767, 0-based). `to` is `multicast`
    (sACN), `subscribers` (Art-Net: unicast to every node that lists the address), `broadcast` (Art-Net, a
    manual choice), or an IPv4 address. `rule` is when frames go out: on change with keep-alive, or at every tick.
    `at_disarm` is what an Art-Net receiver is left with, since Art-Net has no end of stream. Rule `bare` sends on
    change and nothing else: receivers forget after seconds. `sync` is the sACN universe that releases a frame
    (0: none); for Art-Net any other number than 0 means that ArtSync follows the frames.

    `ddp` is one running octet stream to the box at `to`, `wire` its destination id (1 the display): all universes fed
    to it follow one another. With `keeps` every slot keeps its running number; without, free slots never enter
    the stream. `serial` is a DMX line on the sender's own computer, `wire` its number there.
    """

    universe: str
    sender: str
    protocol: Protocol = "sacn"
    wire: Annotated[int, Meta(ge=0, le=63999)]
    to: str = "multicast"
    priority: Annotated[int, Meta(ge=0, le=200)] = 100
    rate: Annotated[float, Meta(ge=1, le=1000)] = 44
    rule: Literal["change", "always", "bare"] = "change"
    sync: Annotated[int, Meta(ge=0, le=63999)] = 0
    keeps: bool = True
    at_disarm: Literal["hold", "zero", "defaults"] = "hold"


class Segment(Value, frozen=True, kw_only=True):
    """One thing on a cable, in cable order. A `line` is a DMX line of fixtures; the others belong to pixels."""

    kind: Literal["pixels", "null", "extension", "bridge", "line"]
    element: str = ""
    first: Annotated[int, Meta(ge=1)] = 1
    count: Annotated[int, Meta(ge=0, le=100_000)] = 0
    fixtures: tuple[str, ...] = ()
    width: Annotated[int, Meta(ge=0, le=512)] = 0
    reverse: bool = False
    fold: Annotated[int, Meta(ge=0)] = 0
    group: Annotated[int, Meta(ge=1)] = 1
    name: str = ""


class Port(Value, frozen=True, kw_only=True):
    """What is planned for one port: the feed it takes, further settings by key, and what hangs on it."""

    feed: str = ""
    settings: dict[str, SettingValue] = {}
    run: tuple[Segment, ...] = ()


class Device(Value, frozen=True, kw_only=True):
    """Anything that turns a feed into light. `ports` by the label printed on the box."""

    name: str
    model: str
    ip: str = ""
    settings: dict[str, SettingValue] = {}
    ports: dict[str, Port] = {}
    note: str = ""


class Use(Value, frozen=True, kw_only=True):
    """Which part of the rig one show uses. What is off stays in the rig: it is neither sent nor held against it."""

    name: Annotated[str, Meta(min_length=1)]
    universes_off: tuple[str, ...] = ()
    devices_off: tuple[str, ...] = ()


class SettingSpec(Value, frozen=True, kw_only=True):
    """One setting of a device model: what it is called, what it may be, what it risks, what it needs."""

    key: str
    label: str
    scope: Literal["device", "port"] = "device"
    type: Literal["text", "number", "choice", "ip", "universe", "switch"] = "text"
    options: tuple[str, ...] = ()
    low: int = 0
    high: int = 65535
    longest: int = 64
    unit: str = ""
    help: str
    writable: bool = True
    needs: tuple[Literal["save", "apply", "restart"], ...] = ()
    factory: SettingValue = ""


class DeviceModel(Value, frozen=True, kw_only=True):
    """A kind of box. `counts` says from which number its own pages count each protocol's universes."""

    name: str
    maker: str = ""
    kind: Literal["node", "pixel", "converter", "gateway", "serial", "fixture"] = "node"
    ports: tuple[str, ...] = ()
    slots_per_port: Annotated[int, Meta(ge=1, le=512)] = 512
    settings: tuple[SettingSpec, ...] = ()
    counts: dict[str, int] = {}
    universes: Annotated[int, Meta(ge=0, le=63999)] = 0
    """How many universes it can take in all; 0: as many as it has ports."""
    link: Annotated[int, Meta(ge=0, le=100_000)] = 100
    """Mbit/s of its network socket; 0: it has none."""
    wireless: bool = False
    links: tuple[Literal["artnet", "http"], ...] = ()
    status_port: Annotated[int, Meta(ge=0, le=65535)] = 0
    note: str = ""

    def spec(self, key: str) -> SettingSpec | None:
        return next((s for s in self.settings if s.key == key), None)
