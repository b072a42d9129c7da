"""What the network showed, as values. Times are seconds since the epoch, given from outside."""

from __future__ import annotations

from typing import Literal

import msgspec

from welvo.rig.entered import SettingValue
from welvo.rig.protocol import Protocol
from welvo.rig.wiring import Need

SILENT_AFTER = 10.0
"""Seconds without a reply (three missed polls) after which a device counts as silent; Art-Net 4, conversation."""


class HeardPort(msgspec.Struct, frozen=True):
    """One port as a node's own reply tells it; `wire` in the counting of the wire (0-based for Art-Net)."""

    page: int
    index: int
    output: bool
    protocol: Protocol
    wire: int
    active: bool = False
    merging: bool = False
    ltp: bool = False


class Heard(msgspec.Struct, frozen=True):
    """A device that answered, all its pages together."""

    ip: str
    name: str = ""
    long_name: str = ""
    mac: str = ""
    firmware: int = 0
    report: str = ""
    ports: tuple[HeardPort, ...] = ()
    at: float = 0.0
    first: float = 0.0
    """When it was heard for the first time."""
    macs: tuple[str, ...] = ()
    """Every MAC that answered at the address within the last polls: more than one are two devices."""
    dhcp: bool = False
    page: bool = False
    """Whether it says that it has pages to be looked at."""


class DeviceAnswer(msgspec.Struct, frozen=True):
    """What a device says of itself and its settings when it is asked (docs/device-settings.md), all by full key.

    `active` is what it works by now, `saved` what it will work by after a restart, `entered` what it was given and
    has neither saved nor put to work. `waits` are the acts that something entered or saved still needs.
    """

    at: float
    active: dict[str, SettingValue] = {}
    saved: dict[str, SettingValue] = {}
    entered: dict[str, SettingValue] = {}
    waits: dict[str, tuple[Need, ...]] = {}
    name: str = ""
    maker: str = ""
    model: str = ""
    mac: str = ""
    serial: str = ""
    firmware: str = ""
    uptime: float = 0.0
    test: str = ""
    """The test pattern it shows by itself; empty: none."""
    identify: bool = False


Outcome = Literal["taken", "refused", "otherwise", "waits", "not sent", "unknown"]
"""What became of a setting that was pushed: taken and read back; refused by the device; taken, but it reads back
otherwise; waiting for save, apply or restart; never sent, since something before it failed; sent, and nobody knows."""


class Result(msgspec.Struct, frozen=True):
    """What became of one setting of a push."""

    outcome: Outcome
    value: SettingValue
    why: str = ""
    needs: tuple[Need, ...] = ()
    at: float = 0.0


class Lamp(msgspec.Struct, frozen=True):
    """What a responder of a port says of itself by RDM. `personality` counts from 1; `address` is 0 where it takes no
    slots. What was not asked yet, or what it does not know, is empty."""

    uid: int
    model: int = 0
    category: int = 0
    footprint: int = 0
    personality: int = 0
    personalities: int = 0
    address: int = 0
    subs: int = 0
    label: str = ""
    maker: str = ""
    model_name: str = ""
    software: str = ""
    names: tuple[tuple[int, int, str], ...] = ()
    """Its personalities: number, slots, name."""
    slots: tuple[tuple[int, int, int, str], ...] = ()
    """Its slots: offset from 0, kind, label id (or the primary slot's offset), its own words."""
    parts: tuple[tuple[int, int, int], ...] = ()
    """Its sub-devices: number from 1, address, slots."""
    sensors: tuple[tuple[str, str], ...] = ()
    """Name and measured value with its unit."""
    counters: dict[str, int] = {}
    """Hours, strikes, power cycles by what they are called."""
    identify: bool = False
    deep: bool = False
    """Whether everything was asked, not only who it is and where."""
    failed: str = ""
    """Why it could not be read."""
    at: float = 0.0


PortAt = tuple[str, int]
"""A gateway's port: its IP address and its Art-Net Port-Address; or `line` and the number of a serial line."""


class GearSeen(msgspec.Struct, frozen=True):
    """What one gear of a lamp bus answered. Numbers are as on the bus; −1 where nothing was said. `scenes` are the 16
    stored levels, empty before all was asked."""

    at: int
    """Its short address."""
    kinds: tuple[int, ...] = ()
    """Its device types."""
    status: int = -1
    level: int = -1
    physical: int = -1
    """The least level it can give at all."""
    least: int = -1
    greatest: int = -1
    power_on: int = -1
    failure: int = -1
    fade_time: int = -1
    fade_rate: int = -1
    groups: tuple[int, ...] = ()
    scenes: tuple[int, ...] = ()
    random: int = -1
    """Its random address: another one each time the bus is initialised."""
    colours: int = -1
    """Its colour type features (-209), where it is of the colour type."""
    doubled: bool = False
    """Whether several answered at this address, and not the same."""
    deep: bool = False
    """Whether everything was asked, not only what it is and how it does."""


class BusSeen(msgspec.Struct, frozen=True):
    """What a search of a lamp bus found; `strays` when gear without a short address is on it."""

    gear: tuple[GearSeen, ...] = ()
    strays: bool = False
    at: float = 0.0

    def gear_at(self, short: int) -> GearSeen | None:
        return next((g for g in self.gear if g.at == short), None)


BusAt = tuple[str, str]
"""A gateway's bus: the gateway's IP address and the label of the port."""


class SourceSeen(msgspec.Struct, frozen=True):
    """One source of one wire universe: `key` is its CID (sACN) or IP and input port (Art-Net)."""

    protocol: Protocol
    wire: int
    key: str
    name: str
    ip: str
    priority: int
    rate: float
    own: bool
    at: float
    preview: bool = False
    """Whether it sends for preview only: no receiver shows its levels (E1.31, 6.2.6)."""
    sync: int = 0
    """The synchronization universe its levels wait for; 0: none."""
    frames: int = 0
    """How many were heard since it began."""
    jitter: float = 0.0
    """By how many seconds the time between two frames differs from the usual, on average."""
    gap: float = 0.0
    """The longest silence between two frames, in seconds."""
    lost: int = 0
    """Sequence numbers that never came."""
    disordered: int = 0
    """Frames that came behind a newer one, and were left out."""


class Written(msgspec.Struct, frozen=True):
    """A value that was pushed to a device; `answered` when the device replied, whatever it replied."""

    value: SettingValue
    at: float
    answered: bool = False


class Event(msgspec.Struct, frozen=True):
    at: float
    device: str
    setting: str
    what: str


class Observed(msgspec.Struct, frozen=True):
    """All that was seen. `heard` by IP address, `written` by device id then full setting key."""

    heard: dict[str, Heard] = {}
    sources: tuple[SourceSeen, ...] = ()
    written: dict[str, dict[str, Written]] = {}
    said: dict[str, DeviceAnswer] = {}
    """By IP address: what devices that can be asked say of their settings."""
    lamps: dict[PortAt, tuple[Lamp, ...]] = {}
    """What hangs on ports that were searched by RDM; an empty tuple is a port where nobody answered."""
    buses: dict[BusAt, BusSeen] = {}
    """What is on lamp buses that were searched."""
    results: dict[str, dict[str, Result]] = {}
    """By device id and full key: what became of the last push of a setting."""
    log: tuple[Event, ...] = ()
    listening: bool = False
    stuck: dict[str, str] = {}
    """Feeds of the Bench that were armed and do not leave this computer, and why."""
    patience: float = SILENT_AFTER
    """Seconds without an answer after which a device counts as silent: more on a computer that is itself late."""
    network: str = ""
    """The interface in use, as address/mask."""
    library: dict[str, str] = {}
    """Newest revision of each library profile of this computer, by its source (`library:KEY`)."""

    def note_event(self, event: Event) -> Observed:
        return msgspec.structs.replace(self, log=(*self.log[-499:], event))


NOTHING = Observed()
