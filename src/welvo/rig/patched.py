"""Fixtures, elements and the places they are given."""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from welvo.rig.base import Name, Value
from welvo.rig.colours import Components
from welvo.rig.entered import Entered
from welvo.rig.profile import Spot

Address = Annotated[int, Meta(ge=1, le=512, description="DMX address, 1 to 512")]


class Place(Value, frozen=True, kw_only=True):
    """Where a break or an element starts, said in one of three ways.

    Typed: `universe` (an id of the rig) and `address`. Anchored: `after` (an id of a fixture or element) plus
    `gap` free slots. From a run: `from_run`, then the cable decides. Nothing set: not patched. A `locked`
    place is never moved by anything but the operator's own hand.
    """

    universe: str = ""
    address: Address | None = None
    after: str = ""
    gap: Annotated[int, Meta(ge=0, le=65535)] = 0
    from_run: bool = False
    locked: bool = False

    @property
    def origin_of_place(self) -> Literal["none", "typed", "anchored", "run"]:
        if self.from_run:
            return "run"
        if self.after:
            return "anchored"
        return "typed" if self.universe and self.address is not None else "none"


NOWHERE = Place()


Turn = Literal["pan inverted", "tilt inverted", "pan and tilt swapped"]


class Fixture(Value, frozen=True, kw_only=True):
    """One lamp of a profile. `at` has one place per break of its mode; missing ones are not patched.

    `turns` says what a sender does to its movement. `fields` holds the rig's own columns by name (hang point,
    circuit, use …). `spot` is where it hangs, in metres: from the left, from the front, above the floor.
    """

    number: Annotated[int, Meta(ge=1, le=999_999, description="the crew's name for it")]
    name: Name = ""
    profile: str
    mode: str
    at: tuple[Place, ...] = ()
    turns: tuple[Turn, ...] = ()
    fields: dict[str, str] = {}
    spot: tuple[float, float, float] | None = None
    note: str = ""
    uid: Annotated[str, Meta(pattern="^([0-9A-F]{4}:[0-9A-F]{8})?$")] = ""
    """What its responder is known by in RDM, once somebody said so; empty: not known."""
    uuid: str = ""
    """Its name in scenes (MVR); empty: it never was in one."""
    entered: dict[str, Entered] = {}
    """What was ticked off on its setting card: `mode`, `address`, `address 2` for its second break …"""

    def place_of_break(self, break_no: int) -> Place:
        return self.at[break_no] if break_no < len(self.at) else NOWHERE


Kind = Literal["line", "rows", "ring", "free", "block"]


class Element(Value, frozen=True, kw_only=True):
    """A pixel item that is no lamp (ribbon, wall, ring), or a plain block of slots.

    It belongs to no profile and may span universes. `order` names the components of one pixel in sending
    order (`RGB`, `GRBW`). A block has `slots` instead of pixels. `whole` keeps each pixel inside one universe.
    """

    name: Name
    kind: Kind = "line"
    pixels: Annotated[int, Meta(ge=0, le=100_000)] = 0
    order: Components = "RGB"
    slots: Annotated[int, Meta(ge=0, le=512 * 63999)] = 0
    whole: bool = True
    type: str = ""
    """Which of the rig's kinds of pixels it is made of."""
    fold: Annotated[int, Meta(ge=0, le=100_000)] = 0
    """After how many pixels the string turns back; 0: it does not. Its pixels are numbered as if it never did."""
    unfolds: Literal["box", "sender"] = "box"
    """Who puts folded pixels into order: the controller that drives them, or the sender's own map."""
    at: Place = NOWHERE
    spots: tuple[Spot, ...] = ()
    tint: Annotated[int, Meta(ge=0, le=9999)] = 0
    code: Annotated[str, Meta(max_length=4)] = ""
    note: str = ""

    @property
    def slots_per_pixel(self) -> int:
        """Slots of one pixel; 1 for a block."""
        return 1 if self.kind == "block" else len(self.order)

    @property
    def slots_needed(self) -> int:
        """Slots it needs, padding not counted."""
        return self.slots if self.kind == "block" else self.pixels * len(self.order)


class Share(Value, frozen=True, kw_only=True):
    """Items that use the same slots on purpose.

    A `share` is of one profile and mode at one start: its members always move together. An `overlay` lays one
    profile over another (a strip as one unit and as pixels): its members may overlap in any way.
    """

    members: Annotated[tuple[str, ...], Meta(min_length=2)]
    kind: Literal["share", "overlay"] = "share"
    reason: str = ""


class Group(Value, frozen=True, kw_only=True):
    """A named set of fixtures and elements. It holds ids, so that renumbering and moving leave it whole."""

    name: Annotated[str, Meta(min_length=1, max_length=200)]
    members: tuple[str, ...] = ()


class Waiver(Value, frozen=True, kw_only=True):
    """A warning or note the operator accepts. It wakes when `facts` no longer match the finding's own."""

    code: str
    subject: str
    facts: str
    reason: Annotated[str, Meta(min_length=1)]
