"""A lamp bus (DALI, IEC 62386) behind a port of a gateway: what the slots of its universe do, and what its gear is
planned to be.

The gear on a bus are counted from 0, as the standard counts them; so are groups and scenes. Many pages count them from
1, which is told beside wherever it matters.
"""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta

from welvo.rig.base import Name, Value

Addressing = Literal["gear", "groups", "broadcast"]
Control = Literal["intensity", "white", "xy", "rgb", "rgbw", "rgbwaf", "primaries"]
Curve = Literal["off", "linear", "logarithmic"]
Level = Annotated[int, Meta(ge=0, le=255)]
"""An arc level: 0 off, 1 to 254 light, 255 (MASK) not part of a scene, or the last level."""
Short = Annotated[int, Meta(ge=0, le=63)]
Nibble = Annotated[int, Meta(ge=0, le=15)]

ADDRESSINGS: dict[Addressing, tuple[int, str]] = {
    "gear": (64, "every gear"), "groups": (16, "groups"), "broadcast": (1, "broadcast"),
}  # fmt: skip
"""How many places each way of addressing has, and its words."""
CONTROLS: dict[Control, tuple[str, tuple[str, ...]]] = {
    "intensity": ("intensity", ("level",)),
    "white": ("tunable white", ("level", "colour temperature")),
    "xy": ("colour by x and y", ("level", "x", "x fine", "y", "y fine")),
    "rgb": ("RGB", ("red", "green", "blue")),
    "rgbw": ("RGBW", ("red", "green", "blue", "white")),
    "rgbwaf": ("RGBWAF", ("red", "green", "blue", "white", "amber", "free colour")),
    "primaries": ("six primaries", tuple(f"primary {n}" for n in range(1, 7))),
}
"""The words of each control, and what its slots do, in their order."""
CURVES: dict[Curve, str] = {
    "off": "as it comes", "linear": "light in step with the slot", "logarithmic": "for gear that is set to linear",
}  # fmt: skip


class Gear(Value, frozen=True, kw_only=True):
    """One gear as it is planned: its short address, what it is called, the fixture that it drives, and its settings.
    A setting that is None the plan does not care about; `scenes` are pairs of scene and level."""

    at: Short
    name: Name = ""
    fixture: str = ""
    kind: Annotated[int, Meta(ge=-1, le=255)] = -1
    """Its device type; −1: the plan does not care."""
    groups: tuple[Nibble, ...] | None = None
    scenes: tuple[tuple[Nibble, Level], ...] = ()
    least: Annotated[int, Meta(ge=1, le=254)] | None = None
    greatest: Annotated[int, Meta(ge=1, le=254)] | None = None
    power_on: Level | None = None
    failure: Level | None = None
    fade_time: Nibble | None = None
    fade_rate: Annotated[int, Meta(ge=1, le=15)] | None = None


class Bus(Value, frozen=True, kw_only=True):
    """What a port of a gateway does with its universe from the port's start on. `every` is how many seconds a change
    of all its places may take at the most."""

    addressing: Addressing = "gear"
    control: Control = "intensity"
    curve: Curve = "off"
    least: Annotated[int, Meta(ge=1, le=254)] = 1
    every: Annotated[float, Meta(gt=0, le=600)] = 2.0
    gear: tuple[Gear, ...] = ()

    @property
    def count_places(self) -> int:
        return ADDRESSINGS[self.addressing][0]

    @property
    def slots_per_place(self) -> int:
        """Slots of one place."""
        return len(CONTROLS[self.control][1])

    @property
    def slots_needed(self) -> int:
        return self.count_places * self.slots_per_place

    @property
    def needs_colour_gear(self) -> bool:
        """Whether only gear of the colour type can follow it."""
        return self.control != "intensity"

    def gear_at(self, short: int) -> Gear | None:
        """The gear that is planned at a short address."""
        return next((g for g in self.gear if g.at == short), None)

    def slot_of_place(self, place: int) -> int:
        """The first slot of a place (from 0), counted from 1 within the bus's stretch."""
        return place * self.slots_per_place + 1


NO_BUS = Bus()
