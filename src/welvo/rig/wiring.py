"""Universes, senders and feeds; devices, their ports and what is attached to them."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from welvo.rig.base import Name, Value
from welvo.rig.buses import Bus
from welvo.rig.entered import Entered, SettingValue
from welvo.rig.protocol import NUMBERED, USUAL, Protocol
from welvo.rig.runs import Fraction, Segment, Sex

Slot = Annotated[int, Meta(ge=1, le=512)]


class Universe(Value, frozen=True, kw_only=True):
    """One of the rig's own numbered universes; `size` is how many slots its sender uses (512 or 510 mostly).

    `reserve` lists stretches (first, last) that are kept free on purpose: nothing is laid out there by itself.
    """

    number: Annotated[int, Meta(ge=1, le=63999)]
    name: Name = ""
    size: Annotated[int, Meta(ge=1, le=512)] = 512
    reserve: tuple[tuple[Slot, Slot], ...] = ()


class Sender(Value, frozen=True, kw_only=True):
    """Whatever feeds universes: a desk, another program, Welvo's own Bench (`kind` bench)."""

    name: Name
    kind: Literal["bench", "desk", "program"] = "program"
    computer: str = ""
    universe_size: Annotated[int, Meta(ge=1, le=512)] = 512
    counts_from: Literal[0, 1] = 1
    lowest: Annotated[int, Meta(ge=0, le=63999)] = 1
    highest: Annotated[int, Meta(ge=0, le=63999)] = 63999
    rate: Annotated[float, Meta(gt=0, le=1000)] = 44
    priority: Annotated[int, Meta(ge=0, le=200)] = 100
    brightness: Fraction = 1.0
    player: Fraction = 1.0
    """Brightness of what plays in it, where that is a fader of its own."""


class Feed(Value, frozen=True, kw_only=True):
    """How a universe leaves its sender.

    `wire` is the sACN universe (1..63999) or the Art-Net Port-Address (0..32767, 0-based). `to` is `multicast`
    (sACN), `subscribers` (Art-Net: unicast to every node that lists the address), `broadcast` (Art-Net, a
    manual choice), or an IPv4 address. `rule` is when frames go out: on change with keep-alive, or at every tick.
    `at_disarm` is what an Art-Net receiver is left with, since Art-Net has no end of stream. Rule `bare` sends on
    change and nothing else: receivers forget after seconds. `sync` is the sACN universe that releases a frame
    (0: none); for Art-Net any other number than 0 means that ArtSync follows the frames.

    `ddp` is one running octet stream to the device at `to`, `wire` its destination id (1 the display): all universes
    fed
    to it follow one another. With `keeps` every slot keeps its running number; without, free slots never enter
    the stream. `serial` is a DMX line on the sender's own computer, `wire` its number there.
    """

    universe: str
    sender: str
    protocol: Protocol = USUAL
    wire: Annotated[int, Meta(ge=0, le=63999)]
    to: str = "multicast"
    priority: Annotated[int, Meta(ge=0, le=200)] = 100
    rate: Annotated[float, Meta(ge=1, le=1000)] = 44
    rule: Literal["change", "always", "bare"] = "change"
    sync: Annotated[int, Meta(ge=0, le=63999)] = 0
    keeps: bool = True
    at_disarm: Literal["hold", "zero", "defaults"] = "hold"


class Port(Value, frozen=True, kw_only=True):
    """What is planned for one port: the feed it takes, further settings by key, and what is attached to it.

    A port of pixels begins at slot `start` of its feed's universe and runs on over the universes behind it; with
    `follows` it begins right behind the port before it (`packed`) or at the next universe (`universe`). `pixels` is
    what the device is configured for, 0: what is connected. `chip` is the chip type it is set to, empty: the string's.
    """

    feed: str = ""
    settings: dict[str, SettingValue] = {}
    run: tuple[Segment, ...] = ()
    start: Slot = 1
    follows: Literal["", "packed", "universe"] = ""
    pixels: Annotated[int, Meta(ge=0, le=100_000)] = 0
    brightness: Fraction = 1.0
    overrides: bool = False
    """Its brightness stands in for the device's, instead of multiplying with it."""
    gamma: Annotated[float, Meta(gt=0, le=5)] = 1.0
    dither: bool = False
    chip: str = ""
    bus: Bus | None = None
    """What a port with a lamp bus does with its universe; none: as a gateway leaves the factory."""


class Snapshot(Value, frozen=True, kw_only=True):
    """All settings that a device had at a time, by full key. `at` is seconds since the epoch, `why` the occasion."""

    at: Annotated[float, Meta(ge=0)]
    why: str = ""
    values: dict[str, SettingValue] = {}
    mac: str = ""
    firmware: str = ""


class Readdressing(Value, frozen=True, kw_only=True):
    """What addressing the gear of a bus anew changed: pairs of the short address before and after, −1 before for gear
    that had none. `at` is seconds since the epoch."""

    at: Annotated[float, Meta(ge=0)]
    port: str
    changes: tuple[tuple[Annotated[int, Meta(ge=-1, le=63)], Annotated[int, Meta(ge=0, le=63)]], ...] = ()


class Device(Value, frozen=True, kw_only=True):
    """Anything that turns a feed into light. `ports` by the label printed on the device.

    `mode` and `firmware` are one of its model's; empty: not chosen, not known. `size` is how many slots of a universe
    it takes, 0: as many as the sender uses; `packs` how it lays pixels over universes.
    """

    name: Name
    model: str
    ip: str = ""
    settings: dict[str, SettingValue] = {}
    ports: dict[str, Port] = {}
    mode: str = ""
    firmware: str = ""
    size: Annotated[int, Meta(ge=0, le=512)] = 0
    packs: Literal["whole", "dense"] = "whole"
    brightness: Fraction = 1.0
    note: str = ""
    snapshots: tuple[Snapshot, ...] = ()
    """The oldest first."""
    readdressed: tuple[Readdressing, ...] = ()
    """What was done to the short addresses on its buses, the oldest first."""
    entered: dict[str, Entered] = {}
    """By full key: what was ticked off on its setting card."""
    lacks: tuple[str, ...] = ()
    """Full keys of settings of its model that this device, with its firmware, does not have."""


class Show(Value, frozen=True, kw_only=True):
    """Which part of the rig one show uses. What is off stays in the rig: it is neither sent nor held against it."""

    name: Annotated[str, Meta(min_length=1, max_length=200)]
    universes_off: tuple[str, ...] = ()
    devices_off: tuple[str, ...] = ()


Need = Literal["save", "apply", "restart"]
LinkKind = Literal["artnet", "http", "ddp", "hand"]
BY_ARTNET: LinkKind = "artnet"


class SettingSpec(Value, frozen=True, kw_only=True):
    """One setting of a device model: what it is called, what it may be, what it risks, what it needs.

    The model's list is in the order of the device's own pages; `page` names the page where it is no longer the one of
    the setting before. `counts` names the entry of the model's `counts` by which its own pages count it. `link` says
    what carries it; empty: the first of the model's links. A `secret` is never written into a rig, nor shown.
    `needs` is what it takes after it was entered, in this order.
    """

    key: str
    label: str
    scope: Literal["device", "port", "segment"] = "device"
    type: Literal["text", "number", "decimal", "choice", "ip", "mask", "universe", "switch", "order"] = "text"
    page: str = ""
    counts: str = ""
    link: LinkKind | Literal[""] = ""
    secret: bool = False
    options: tuple[str, ...] = ()
    low: int = 0
    high: int = 65535
    longest: int = 64
    unit: str = ""
    help: str
    writable: bool = True
    needs: tuple[Need, ...] = ()
    factory: SettingValue = ""


class OutputMode(Value, frozen=True, kw_only=True):
    """One way a device can be set to work. Limits of 0 and an empty `gives` are the model's own; `off` lists dead
    ports."""

    name: Annotated[str, Meta(min_length=1, max_length=200)]
    off: tuple[str, ...] = ()
    gives: Literal["", "dmx", "pixels", "bus"] = ""
    pixels_per_port: Annotated[int, Meta(ge=0, le=100_000)] = 0
    slots_per_port: Annotated[int, Meta(ge=0, le=512)] = 0
    stream_slots: Annotated[int, Meta(ge=0, le=400_000)] = 0
    universes: Annotated[int, Meta(ge=0, le=63999)] = 0
    note: str = ""


class Firmware(Value, frozen=True, kw_only=True):
    """What is known of one version of a device's firmware. A limit of 0 is the model's own."""

    version: Annotated[str, Meta(min_length=1)]
    good: bool = True
    universes: Annotated[int, Meta(ge=0, le=63999)] = 0
    pixels_per_port: Annotated[int, Meta(ge=0, le=100_000)] = 0
    note: str = ""


ABILITIES = ("null", "fold", "group", "order", "brightness", "gamma", "reverse")


class DeviceModel(Value, frozen=True, kw_only=True):
    """A kind of device, with the labels of its ports in the order printed on it.

    `counts` says from which number its own pages count: each protocol's universes, `slot`, `pixel`. `gives` says what a
    port puts out where that is not what its kind does. Limits of 0 are none. A device that `straddles` can take a pixel
    that is cut by a universe's end; one with `own_starts` lets each segment begin anywhere. `does` is what it can do to
    a segment. A bridge `passes` nothing, or what follows on its cable begins at the next whole pixel or at the next
    slot; `dmx_rate` is how many frames a second it gives to the DMX line behind it.
    """

    name: Name
    maker: str = ""
    kind: Literal["node", "pixel", "converter", "gateway", "serial", "fixture", "bridge"] = "node"
    ports: tuple[str, ...] = ()
    gives: dict[str, Literal["dmx", "pixels", "bus"]] = {}
    slots_per_port: Annotated[int, Meta(ge=1, le=512)] = 512
    pixels_per_port: Annotated[int, Meta(ge=0, le=100_000)] = 0
    stream_slots: Annotated[int, Meta(ge=0, le=400_000)] = 0
    protocols: tuple[Protocol, ...] = NUMBERED
    modes: tuple[OutputMode, ...] = ()
    firmwares: tuple[Firmware, ...] = ()
    straddles: bool = True
    own_starts: bool = False
    universe_size: Annotated[int, Meta(ge=0, le=512)] = 0
    """How many slots of a universe it takes; 0: it can be told."""
    does: tuple[str, ...] = ABILITIES
    order_names: Literal["out", "in"] = "out"
    """What a colour order on its pages names: the components as it puts them out, or as it takes them to come in."""
    chips: tuple[str, ...] = ()
    """Chip types it can drive; none named: any."""
    passes: Literal["nothing", "pixel", "slot"] = "nothing"
    dmx_rate: Annotated[float, Meta(ge=0, le=1000)] = 44.0
    port_amps: Annotated[float, Meta(ge=0, le=1000)] = 0.0
    amps: Annotated[float, Meta(ge=0, le=1e4)] = 0.0
    volts: tuple[float, ...] = ()
    """Supply voltages it takes and hands on to its ports."""
    connector: str = ""
    sex: Sex = ""
    wires: tuple[tuple[str, str], ...] = ()
    settings: tuple[SettingSpec, ...] = ()
    counts: dict[str, int] = {}
    universes: Annotated[int, Meta(ge=0, le=63999)] = 0
    """How many universes it can take in all; 0: as many as it has ports."""
    link: Annotated[int, Meta(ge=0, le=100_000)] = 100
    """Mbit/s of its network socket; 0: it has none."""
    wireless: bool = False
    links: tuple[LinkKind, ...] = ()
    restart_takes: Annotated[float, Meta(ge=0, le=600)] = 5.0
    """Seconds from the order to restart until it answers again, as a rule."""
    factory_ip: str = ""
    """The address it has when it comes out of its box; empty: it asks for one."""
    tests: tuple[str, ...] = ()
    """Test patterns it can show by itself."""
    lights: tuple[tuple[str, str], ...] = ()
    """What its status lights mean: how one looks, what that says."""
    page_ports: Annotated[int, Meta(ge=1, le=4)] = 1
    """How many ports share a page of Art-Net settings, and with it Net and Sub-Net."""
    status_port: Annotated[int, Meta(ge=0, le=65535)] = 0
    note: str = ""

    def spec_of_setting(self, key: str) -> SettingSpec | None:
        return next((s for s in self.settings if s.key == key), None)

    def output_mode(self, name: str) -> OutputMode | None:
        return next((m for m in self.modes if m.name == name), None)
