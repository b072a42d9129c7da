"""What is attached to a port: the segments of a cable, the kinds of pixels they are made of, the supplies that feed
them."""

from __future__ import annotations

from collections.abc import Collection
from typing import Annotated, Literal

from msgspec import Meta

from welvo.rig.base import Name, Value
from welvo.rig.colours import STRAIGHT, Components, ComponentsOrNone
from welvo.rig.patched import NOWHERE, Place

Kind = Literal["pixels", "null", "extension", "bridge", "line", "lamps"]
KINDS: tuple[Kind, ...] = ("pixels", "null", "extension", "bridge", "line", "lamps")
Fraction = Annotated[float, Meta(ge=0, le=1)]
Metres = Annotated[float, Meta(ge=0, le=1e4)]
LampFunction = Annotated[str, Meta(pattern=f"^([{STRAIGHT}]|=(25[0-5]|2[0-4][0-9]|1?[0-9]{{1,2}}))$")]
"""What drives one channel behind a converter: a component's letter, or `=` and a fixed value from 0 to 255."""
DmxAddress = Annotated[int, Meta(ge=1, le=512)]
Sex = Literal["", "male", "female"]


class Segment(Value, frozen=True, kw_only=True):
    """One item on a cable, in cable order.

    `pixels` is `count` pixels of `element` (an element, or a fixture whose mode is plain pixels) from pixel `first`
    on; count 0 means all that follow. `null` is `count` pixels of cable that the sender knows nothing of, `extension`
    cable without pixels. `bridge` turns `width` slots of the stream into a DMX line of `fixtures`; `line` is a DMX
    line on a port that gives DMX. `lamps` is a converter that turns one pixel into each lamp: `functions` says what
    each of a lamp's channels does (`dimmer`, a component's letter, or `=128`), the first lamp at DMX address `start`,
    the next `spacing` slots on.

    `dmx` holds DMX addresses behind a bridge or on a line that were typed; what is not in it stands right behind the
    one before. `lengths` are metres of cable before a fixture of a line, `boosters` the fixtures a splitter or booster
    stands before. `length` is metres of cable before the segment (of it, for an extension), `area` the
    cross-section of each of its supply conductors in mm². `supply` feeds power in at its data-in end.
    """

    kind: Kind
    name: Name = ""
    element: str = ""
    first: Annotated[int, Meta(ge=1, le=100_000)] = 1
    count: Annotated[int, Meta(ge=0, le=100_000)] = 0
    reverse: bool = False
    fold: Annotated[int, Meta(ge=0, le=100_000)] = 0
    group: Annotated[int, Meta(ge=1, le=100_000)] = 1
    order: ComponentsOrNone = ""
    """The order the controller gives the components out in; empty: straight, as they come."""
    brightness: Fraction = 1.0
    overrides: bool = False
    """Its brightness stands in for the port's and the device's, instead of multiplying with them."""
    gamma: Annotated[float, Meta(gt=0, le=5)] = 1.0
    at: Place = NOWHERE
    """An address of its own; nowhere: right behind what comes before it in the port's stream."""
    fixtures: tuple[str, ...] = ()
    width: Annotated[int, Meta(ge=0, le=512)] = 0
    model: str = ""
    dmx: dict[str, DmxAddress] = {}
    functions: tuple[LampFunction, ...] = ()
    start: DmxAddress = 1
    spacing: Annotated[int, Meta(ge=0, le=512)] = 0
    lengths: dict[str, Metres] = {}
    boosters: tuple[str, ...] = ()
    terminated: bool | None = None
    length: Metres = 0.0
    area: Annotated[float, Meta(ge=0, le=1000)] = 0.0
    supply: str = ""
    data_in: str = ""
    """Which end the data comes in at, in the crew's words."""

    @property
    def takes_slots(self) -> bool:
        """Whether it takes slots of the port's stream."""
        return self.kind in ("pixels", "bridge", "lamps")

    @property
    def lamp_step(self) -> int:
        """Slots from one lamp behind a converter to the next: as typed, else as many as a lamp has functions."""
        return self.spacing or len(self.functions)

    def lamp_address(self, lamp: int) -> int:
        """The DMX address of the nth lamp (from 1) behind a converter; it may lie past 512."""
        return self.start + (lamp - 1) * self.lamp_step


class PixelType(Value, frozen=True, kw_only=True):
    """A kind of pixel string. `order` is how its chips take the components.

    `currents` are mA per component at full, in the order of `order`; `idle` mA that flow when it is dark. `volts` is
    its
    supply, `least` the lowest at which its chips still work. `slot_us` is how long one component takes on the wire,
    `reset_us` the pause that ends a frame. `pitch` is mm from pixel to pixel, `area` mm² of each supply conductor in
    it. `connector` and `sex` are those of its data-in end, where `wires` says which colour does what, function first;
    its other end is the counterpart, so that strings of a kind join.
    """

    name: Annotated[str, Meta(min_length=1, max_length=200)]
    chip: str = ""
    order: Components = "RGB"
    volts: Annotated[float, Meta(gt=0, le=60)] = 5.0
    least: Annotated[float, Meta(ge=0, le=60)] = 0.0
    currents: tuple[Annotated[float, Meta(ge=0, le=5000)], ...] = ()
    idle: Annotated[float, Meta(ge=0, le=5000)] = 0.0
    slot_us: Annotated[float, Meta(gt=0, le=1e4)] = 10.0
    reset_us: Annotated[float, Meta(ge=0, le=1e5)] = 300.0
    pitch: Annotated[float, Meta(ge=0, le=1e4)] = 0.0
    area: Annotated[float, Meta(ge=0, le=1000)] = 0.0
    connector: str = ""
    sex: Sex = ""
    wires: tuple[tuple[str, str], ...] = ()
    note: str = ""


def dmx_key(fixture: str, break_no: int) -> str:
    """How a break is named in `Segment.dmx`: the fixture's id, and behind a colon which break, from the second on."""
    return fixture if break_no == 0 else f"{fixture}:{break_no}"


def dmx_owner(key: str, fixtures: Collection[str]) -> str:
    """The fixture of such a name; empty when it is none of those given. Ids may hold colons themselves."""
    if key in fixtures:
        return key
    owner, _, number = key.rpartition(":")
    return owner if owner in fixtures and number.isdecimal() else ""


class Supply(Value, frozen=True, kw_only=True):
    """A power supply: volts, and the amperes it is rated for."""

    name: Annotated[str, Meta(min_length=1, max_length=200)]
    volts: Annotated[float, Meta(gt=0, le=60)] = 5.0
    amps: Annotated[float, Meta(gt=0, le=1000)] = 10.0
    note: str = ""
