"""Profiles: what a fixture type does with the slots it takes."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from welvo.rig.base import Name, Value

Slot = Annotated[int, Meta(ge=1, le=4096, description="a slot of a break, counted from 1")]
Does = Literal["", "open", "closed", "strobe", "colour", "rotation", "index", "macro", "reset"]
Unit = Annotated[str, Meta(max_length=8, description="° for angles, Hz, %, K, s, rpm, or none")]


class Range(Value, frozen=True, kw_only=True):
    """A named span of a channel's values: `first` to `last` inclusive, in the channel's own width.

    `low` and `high` are what the span means physically at its two ends, in the channel's unit. `does` is a hint for
    what the lamp does there; `hold` is how many seconds a reset or lamp command must be held; `light` is the colour
    the lamp gives there, as `#rrggbb`.
    """

    first: Annotated[int, Meta(ge=0, le=0xFFFFFFFF)]
    last: Annotated[int, Meta(ge=0, le=0xFFFFFFFF)]
    name: Name = ""
    does: Does = ""
    low: float | None = None
    high: float | None = None
    hold: Annotated[float, Meta(ge=0, le=3600)] = 0.0
    light: Annotated[str, Meta(pattern="^(#[0-9a-f]{6})?$")] = ""


class Channel(Value, frozen=True, kw_only=True, rename={"break_no": "brk"}):
    """One function on 1 to 4 slots.

    `function` is a GDTF attribute name, `own:WORDS` for a function of the user's own, or empty for a channel
    nobody has described yet (then `name` keeps the word that was not understood). `slots` are counted from 1
    within the break, coarse first; the fine ones may stand anywhere. `pixel` is 0 where the channel belongs to the
    whole lamp. `default`, `highlight`, `release` and ranges are in the channel's own width: 0..255 for 8 bit,
    0..65535 for 16 bit. `release` is the value when output is released (none: the default). `low` and `high` are
    what the lowest and highest value mean physically, in `unit`; `invert` swaps the two ends. `snap`: it jumps
    instead of fading. `master`: whether a master fader and blackout take it along; `auto` leaves that to its
    function. `needs` names (by short name) the channels that must not be at zero for this one to give light;
    none: as derived from the functions.
    """

    function: str = ""
    name: Name = ""
    short: Annotated[str, Meta(max_length=8)] = ""
    slots: Annotated[tuple[Slot, ...], Meta(min_length=1, max_length=4)]
    break_no: Annotated[int, Meta(ge=0, le=63, description="which break, counted from 0")] = 0
    pixel: Annotated[int, Meta(ge=0, le=10000)] = 0
    default: Annotated[int, Meta(ge=0, le=0xFFFFFFFF)] = 0
    highlight: Annotated[int, Meta(ge=0, le=0xFFFFFFFF)] | None = None
    release: Annotated[int, Meta(ge=0, le=0xFFFFFFFF)] | None = None
    invert: bool = False
    snap: bool = False
    master: Literal["auto", "yes", "no"] = "auto"
    low: float | None = None
    high: float | None = None
    unit: Unit = ""
    needs: tuple[str, ...] | None = None
    ranges: tuple[Range, ...] = ()

    @property
    def highest_value(self) -> int:
        """The highest value of this channel's width."""
        return int(256 ** len(self.slots)) - 1

    @property
    def is_described(self) -> bool:
        return bool(self.function)


class Break(Value, frozen=True, kw_only=True):
    """A part of a mode with an address of its own; `slots` is its footprint."""

    name: Name = ""
    slots: Annotated[int, Meta(ge=0, le=4096)] = 0


FARTHEST_SPOT = 1e6
"""Pitches from the middle of a face, at most."""


class Spot(Value, frozen=True, kw_only=True):
    """Where one pixel sits on the face, in units of one pixel pitch, x to the right and y down."""

    x: Annotated[float, Meta(ge=-FARTHEST_SPOT, le=FARTHEST_SPOT)]
    y: Annotated[float, Meta(ge=-FARTHEST_SPOT, le=FARTHEST_SPOT)]


Corner = Literal["top left", "top right", "bottom left", "bottom right"]


class Arrangement(Value, frozen=True, kw_only=True):
    """How the spots of a face came about, so that it can be changed as a whole; `free` when they were placed by hand.

    Rows: `rows` × `columns` from `corner`, `along` rows or columns, `serpentine` when every second one comes back;
    `stagger` shifts every second row by that share of a pitch. Rings: pixels per ring from the outside, first pixel at
    `angle` degrees (0 up, clockwise). Line: pixels along `length` millimetres.
    """

    kind: Literal["rows", "rings", "line", "free"] = "rows"
    rows: Annotated[int, Meta(ge=1, le=1000)] = 1
    columns: Annotated[int, Meta(ge=1, le=10000)] = 1
    corner: Corner = "top left"
    along: Literal["rows", "columns"] = "rows"
    serpentine: bool = False
    stagger: Annotated[float, Meta(ge=-1, le=1)] = 0.0
    rings: tuple[Annotated[int, Meta(ge=1, le=10000)], ...] = ()
    angle: Annotated[float, Meta(ge=-360, le=360)] = 0.0
    clockwise: bool = True
    length: Annotated[float, Meta(ge=0, le=1e6)] = 0.0


class Backdrop(Value, frozen=True, kw_only=True):
    """A reference picture behind the face: `picture` is an id of the rig.

    The part between `left`, `top`, `right` and `bottom` (shares of the picture) is shown, turned by `turn` degrees
    clockwise, `wide` pitches wide with its middle at `x`, `y`. `fade` 0 hides it, 1 shows it in full.
    """

    picture: str
    left: Annotated[float, Meta(ge=0, le=1)] = 0.0
    top: Annotated[float, Meta(ge=0, le=1)] = 0.0
    right: Annotated[float, Meta(ge=0, le=1)] = 1.0
    bottom: Annotated[float, Meta(ge=0, le=1)] = 1.0
    turn: Annotated[float, Meta(ge=-360, le=360)] = 0.0
    x: Annotated[float, Meta(ge=-FARTHEST_SPOT, le=FARTHEST_SPOT)] = 0.0
    y: Annotated[float, Meta(ge=-FARTHEST_SPOT, le=FARTHEST_SPOT)] = 0.0
    wide: Annotated[float, Meta(gt=0, le=1e5)] = 10.0
    fade: Annotated[float, Meta(ge=0, le=1)] = 0.6
    locked: bool = False


class Mode(Value, frozen=True, kw_only=True):
    """One personality. `spots[p - 1]` is the place of pixel p; empty means a plain row.

    `pixel_size` is how much of a pitch one pixel fills: count × width is at most 1.
    """

    name: Name
    breaks: Annotated[tuple[Break, ...], Meta(min_length=1, max_length=64)] = (Break(),)
    channels: tuple[Channel, ...] = ()
    spots: tuple[Spot, ...] = ()
    arrangement: Arrangement | None = None
    pixel_shape: Literal["round", "square", "bar"] = "round"
    pixel_size: Annotated[float, Meta(gt=0, le=1)] = 0.86
    backdrop: Backdrop | None = None
    note: str = ""

    @property
    def slots_needed(self) -> int:
        """Slots of all breaks together."""
        return sum(b.slots for b in self.breaks)

    @property
    def count_pixels(self) -> int:
        """How many pixels the mode has; 0 for a lamp driven as one."""
        return max((c.pixel for c in self.channels), default=0)


class Facts(Value, frozen=True, kw_only=True):
    """What is known of the lamp itself; 0 or empty where nobody knows. Millimetres, degrees, kelvin, watts,
    kilograms."""

    beam: Literal["", "wash", "spot", "beam", "flood", "glow", "none"] = ""
    angle: Annotated[float, Meta(ge=0, le=360)] = 0.0
    kelvin: Annotated[float, Meta(ge=0, le=50000)] = 0.0
    width: Annotated[float, Meta(ge=0, le=1e5)] = 0.0
    height: Annotated[float, Meta(ge=0, le=1e5)] = 0.0
    depth: Annotated[float, Meta(ge=0, le=1e5)] = 0.0
    weight: Annotated[float, Meta(ge=0, le=1e4)] = 0.0
    watts: Annotated[float, Meta(ge=0, le=1e6)] = 0.0


class AddressSetting(Value, frozen=True, kw_only=True):
    """How the lamp is told its address.

    Switches stand left to right; `first` is what the leftmost weighs (1, or the highest weight). `on` is the way of
    the printed ON. With `base` 0 the lamp encodes address − 1, so that all switches off mean address 1. `highest`
    is the last start its menu offers.
    """

    by: Literal["menu", "switches", "dials", "rdm"] = "menu"
    switches: Annotated[int, Meta(ge=9, le=10)] = 9
    on: Literal["up", "down"] = "up"
    first: Literal["lowest", "highest"] = "lowest"
    base: Literal[0, 1] = 1
    highest: Annotated[int, Meta(ge=1, le=512)] = 512


CARRIED_PICTURES = "welvo/pictures/"
"""How the names of kept files begin that are pictures of this profile, while it is outside of a rig."""


class Profile(Value, frozen=True, kw_only=True):
    """A fixture type. `code` is its three letters on the tapes, `tint` its place in the colour table.

    `source` says where it came from (`library:KEY`, `gdtf:NAME`), `revises` is the id of the older revision of the rig
    that it replaces, and `kept` holds files of an imported archive that Welvo does not read, by name.
    """

    name: Name
    maker: str = ""
    code: Annotated[str, Meta(max_length=4)] = ""
    tint: Annotated[int, Meta(ge=0, le=9999)] = 0
    revision: str = ""
    notes: str = ""
    source: str = ""
    revises: str = ""
    facts: Facts | None = None
    address: AddressSetting | None = None
    unit_load: Annotated[float, Meta(ge=0, le=64)] = 1.0
    """What it loads a DMX line with: a receiver of the standard is one unit, and a driver takes 32."""
    connector: str = ""
    """What its DMX input is made of: `5-pin`, `3-pin` or `RJ45`; empty: not known."""
    kept: dict[str, bytes] = {}
    modes: Annotated[dict[str, Mode], Meta(min_length=1)]
