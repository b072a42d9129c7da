"""One small worked example for each code that the demo has no fault for: how it comes about, and what it says."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace

from tests.checks.run_examples import RUN_EXAMPLES
from tests.conftest import profile
from welvo.rig.document import Rig, put_entries
from welvo.rig.edits import change_show, declare_overlay, set_show
from welvo.rig.entered import Entered
from welvo.rig.patched import Element, Place
from welvo.rig.profile import Mode, Range, Spot
from welvo.rig.wiring import Device, DeviceModel, Feed, Port, Sender

Example = Callable[[Rig], tuple[Rig, str]]


def _mode(chart: str, change: Callable[[Mode], Mode] = lambda m: m) -> Example:
    def make(rig: Rig) -> Rig:
        p = profile("Odd one", chart)
        return put_entries(rig, "", profiles={"odd": replace(p, modes={"m": change(p.modes["m"])})})[0]

    return lambda rig: (make(rig), "")


def _says(example: Example, words: str) -> Example:
    return lambda rig: (example(rig)[0], words)


def _ranges(*ranges: tuple[int, int]) -> Callable[[Mode], Mode]:
    def change(mode: Mode) -> Mode:
        made = tuple(Range(first=a, last=b, name=f"{a} on") for a, b in ranges)
        return replace(mode, channels=(replace(mode.channels[0], ranges=made), *mode.channels[1:]))

    return change


def _newer(rig: Rig) -> tuple[Rig, str]:
    return put_entries(
        rig, "", profiles={"new": replace(profile("Head", "pan, tilt, dimmer", 7), revision="B", revises="head")}
    )[0], "revision B is there"


def _own(rig: Rig) -> tuple[Rig, str]:
    both = {"x": profile("X", 'dimmer, "Bubble Pump"'), "y": profile("Y", 'dimmer, "bubble-pump"')}
    return put_entries(rig, "", profiles=both)[0], "are one function?"


def _rig(words: str, **parts: dict[str, object]) -> Example:
    """Put entries into the plain rig."""
    return lambda rig: (put_entries(rig, "", **parts)[0], words)


def _change(part: str, key: str, words: str, **fields: object) -> Example:
    """Change fields of one entry of the plain rig."""
    return lambda rig: (put_entries(rig, "", **{part: {key: replace(getattr(rig, part)[key], **fields)}})[0], words)


def _box(words: str, link: int = 100, rate: float = 44, **model: object) -> Example:
    """A second device whose two ports take the rig's feed and a new one, multicast at some rate."""

    def make(rig: Rig) -> tuple[Rig, str]:
        made = DeviceModel(name="Tub 2", kind="pixel", ports=("1", "2"), link=link, **model)  # type: ignore[arg-type]
        first = next(iter(rig.feeds))
        other = Feed(universe="u2", sender=rig.feeds[first].sender, wire=77, rate=rate)
        box = Device(name="Tub", model="tub", ports={"1": Port(feed=first), "2": Port(feed="w77")})
        return put_entries(rig, "", device_models={"tub": made}, devices={"tub": box}, feeds={"w77": other})[0], words

    return make


def _overlay_apart(rig: Rig) -> tuple[Rig, str]:
    return declare_overlay(rig, ["a", "b"])[0], "The overlay of 101 and 102 has come apart"


def _part_off(rig: Rig) -> tuple[Rig, str]:
    rig, change = change_show(rig, "", "", name="Matinee", universes_off=("u2",))
    key = change.made[0]
    return set_show(rig, key)[0], "leaves out 1 universe and 0 devices"


def _cut(rig: Rig) -> tuple[Rig, str]:
    wall = Element(name="wall", pixels=200, order="RGB", whole=False, at=Place(universe="u1", address=100))
    return put_entries(rig, "", elements={"w": wall})[0], "wall has 1 pixel in two universes"


def _skipped(rig: Rig) -> tuple[Rig, str]:
    wall = Element(name="wall", pixels=20, order="RGB", at=Place(universe="u1", address=511))
    return put_entries(rig, "", elements={"w": wall})[
        0
    ], "No whole pixel of wall fits at 1.511 It takes 3 slots and begins at 2.001"


def _shifted(rig: Rig) -> tuple[Rig, str]:
    """A bar of pixels as a lamp and as an element, which begins one slot behind it."""
    wall = Element(name="wall", pixels=4, order="RGB", at=Place(universe="u2", address=2))
    both, _ = put_entries(rig, "", elements={"w": wall})
    return declare_overlay(both, ["c", "w"])[0], "wall lies one slot behind 201 201 begins at 2.001, wall at 2.002"


def _set_before(rig: Rig) -> tuple[Rig, str]:
    key = next(k for k, f in rig.fixtures.items() if f.at and f.at[0].address)
    ticked = {"address": Entered(value=500, who="Ann", at=1.0)}
    return put_entries(rig, "", fixtures={key: replace(rig.fixtures[key], entered=ticked)})[0], "was set to 500"


def _entered_before(rig: Rig) -> tuple[Rig, str]:
    device = next(iter(rig.devices))
    ticked = {"name": Entered(value="OLD", who="Ann", at=1.0)}
    named = replace(rig.devices[device], entered=ticked, settings={**rig.devices[device].settings, "name": "NEW"})
    return put_entries(rig, "", devices={device: named})[0], "was set to Name OLD, the plan says NEW"


def _colour_names(rig: Rig) -> tuple[Rig, str]:
    """Two profiles whose channels of one colour are called otherwise."""
    made = {}
    for n, (word, label) in enumerate((("amber", "Gold"), ("amber", "Honey"))):
        p = profile(f"Odd {n}", f"dimmer, {word}", 7 + n)
        mode = p.modes["m"]
        mode = replace(mode, channels=(mode.channels[0], replace(mode.channels[1], name=label)))
        made[f"odd{n}"] = replace(p, modes={"m": mode})
    return put_entries(rig, "", profiles=made)[0], "Amber is called “gold” in Odd 0 and “honey” in Odd 1"


EXAMPLES: dict[str, Example] = {
    **RUN_EXAMPLES, "PATCH-17": _set_before, "DEV-13": _entered_before,
    "PATCH-10": _cut, "PATCH-15": _skipped, "PATCH-16": _shifted,
    "PATCH-13": _change("senders", "s", "Nothing drives 10 slots of ribbon", universe_size=120),
    "PATCH-14": _overlay_apart, "FEED-08": _change("senders", "s", "Bench cannot send sACN 1", lowest=2),
    "FEED-09": _change("universes", "u1", "Bench uses 512 slots of universe 1, the plan 510", size=510),
    "FEED-10": _rig(
        "Desk comes before Bench on sACN 1", senders={"x": Sender(name="Desk")},
        feeds={"x": Feed(universe="u1", sender="x", wire=1, priority=150)}
    ),
    "FEED-11": _rig(
        "Universe 1 goes out as sACN 1 and Art 0/1/4",
        feeds={"x": Feed(universe="u1", sender="s", wire=20, protocol="artnet", to="subscribers")}
    ), "FEED-12": _change("feeds", "w1", "sACN 1 is sent at 60 frames a second; DMX follows at 44", rate=60),
    "FEED-14": _change("feeds", "w1", "sACN 1 is sent only when something changes", rule="bare"),
    "FEED-17": _rig(
        "A serial line needs every frame",
        feeds={"x": Feed(universe="u2", sender="s", wire=1, protocol="serial", to="", rule="bare")}
    ),
    "FEED-15": _rig(
        "waits for sACN 1, which carries levels itself", feeds={"x": Feed(universe="u2", sender="s", wire=30, sync=1)}
    ),
    "FEED-16": _rig(
        "Universe 2 is fed by DDP to nobody",
        feeds={"x": Feed(universe="u2", sender="s", wire=1, protocol="ddp", to="")}
    ), "DEV-05": _box("Tub takes 2 universes and can take 1", universes=1),
    "DEV-06": _box("of its 1 Mbit/s", link=1, rate=1000), "USE-01": _part_off,
    "PROF-05": _says(_mode("dimmer", _ranges((0, 9), (20, 255))), "nothing is said of 10–19"),
    "PROF-06": _says(_mode("dimmer", _ranges((0, 20), (20, 255))), "Both claim 20–20"),
    "PROF-07": _says(
        _mode("dimmer", lambda m: replace(m, channels=(replace(m.channels[0], default=300),))),
        "default 300 does not fit"
    ), "PROF-08": _says(_mode("1 Zoom fine\n2 Dimmer"), "refines nothing"),
    "PROF-09": _says(_mode("red/1, red/3"), "Pixel 2 has no channels"),
    "PROF-10": _says(_mode("3 x (red)", lambda m: replace(m, spots=(Spot(x=0, y=0),))), "1 place for 3 pixels"),
    "PROF-11": _says(
        _mode("2 x (red)", lambda m: replace(m, spots=(Spot(x=1, y=1), Spot(x=1.01, y=1)))),
        "Pixels 1 and 2 lie on each other"
    ),
    "PROF-12": _says(
        _mode("red, green", lambda m: replace(m, channels=tuple(replace(c, short="X") for c in m.channels))),
        "“X” stands for two"
    ), "PROF-13": _own, "PROF-14": _says(_mode("pan, tilt, shutter = 255, gobo"), "no dimmer in only"),
    "PROF-15": _says(_mode("dimmer highlight 0, shutter, red"), "dark at highlight"),
    "PROF-16": _says(
        _mode("dimmer, red", lambda m: replace(m, channels=(m.channels[0], replace(m.channels[1], needs=("Mstr",))))),
        "needs “Mstr”"
    ), "PROF-17": _newer,
    "PROF-19": _says(_mode("red/1, green/1, blue/1, red/2, blue/2, green/2"), "Pixel 2 has other components"),
    "PROF-21": _colour_names,
    "PROF-20": _says(_mode("dimmer, 171 x (red green blue)"), "Pixel 171 would be cut at 512"),
}  # fmt: skip
