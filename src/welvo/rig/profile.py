"""Profiles: what a fixture type does with the slots it takes."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from welvo.rig.base import Value

Slot = Annotated[int, Meta(ge=1, le=4096, description="a slot of a break, counted from 1")]
Width = Literal[1, 2, 3, 4]


class Range(Value, frozen=True, kw_only=True):
    """A named span of a channel's values: `first` to `last` inclusive, in the channel's own width."""

    first: Annotated[int, Meta(ge=0, le=0xFFFFFFFF)]
    last: Annotated[int, Meta(ge=0, le=0xFFFFFFFF)]
    name: str = ""
    does: str = ""


class Channel(Value, frozen=True, kw_only=True):
    """One function on 1 to 4 slots.

    `function` is a GDTF attribute name, `own:WORDS` for a function of the user's own, or empty for a channel
    nobody has described yet (then `name` keeps the word that was not understood). `slots` are counted from 1
    within the break, coarse first. `pixel` is 0 where the channel belongs to the whole lamp. `default`,
    `highlight` and ranges are in the channel's own width: 0..255 for 8 bit, 0..65535 for 16 bit.
    """

    function: str = ""
    name: str = ""
    short: str = ""
    slots: Annotated[tuple[Slot, ...], Meta(min_length=1, max_length=4)]
    brk: Annotated[int, Meta(ge=0, le=63, description="which break, counted from 0")] = 0
    pixel: Annotated[int, Meta(ge=0, le=10000)] = 0
    default: Annotated[int, Meta(ge=0, le=0xFFFFFFFF)] = 0
    highlight: Annotated[int, Meta(ge=0, le=0xFFFFFFFF)] | None = None
    ranges: tuple[Range, ...] = ()

    @property
    def top(self) -> int:
        """The highest value of this channel's width."""
        return int(256 ** len(self.slots)) - 1

    @property
    def described(self) -> bool:
        return bool(self.function)


class Break(Value, frozen=True, kw_only=True):
    """A part of a mode with an address of its own; `slots` is its footprint."""

    name: str = ""
    slots: Annotated[int, Meta(ge=0, le=4096)] = 0


class Spot(Value, frozen=True, kw_only=True):
    """Where one pixel sits on the face, in units of one pixel pitch, x to the right and y down."""

    x: float
    y: float


class Mode(Value, frozen=True, kw_only=True):
    """One personality. `spots[p - 1]` is the place of pixel p; empty means a plain row."""

    name: str
    breaks: Annotated[tuple[Break, ...], Meta(min_length=1, max_length=64)] = (Break(),)
    channels: tuple[Channel, ...] = ()
    spots: tuple[Spot, ...] = ()

    @property
    def footprint(self) -> int:
        """Slots of all breaks together."""
        return sum(b.slots for b in self.breaks)

    @property
    def pixels(self) -> int:
        """How many pixels the mode has; 0 for a lamp driven as one."""
        return max((c.pixel for c in self.channels), default=0)


class Profile(Value, frozen=True, kw_only=True):
    """A fixture type. `code` is its three letters on the tapes, `tint` its place in the colour table."""

    name: str
    maker: str = ""
    code: Annotated[str, Meta(max_length=4)] = ""
    tint: Annotated[int, Meta(ge=0, le=9999)] = 0
    revision: str = ""
    notes: str = ""
    modes: Annotated[dict[str, Mode], Meta(min_length=1)]
