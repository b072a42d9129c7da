"""One small worked example for each code that the demo has no fault for: how it comes about, and what it says."""

from __future__ import annotations

from collections.abc import Callable

from msgspec.structs import replace

from tests.conftest import profile
from welvo.rig.document import Rig, put
from welvo.rig.profile import Mode, Range, Spot

Example = Callable[[Rig], tuple[Rig, str]]


def _mode(chart: str, change: Callable[[Mode], Mode] = lambda m: m) -> Example:
    def make(rig: Rig) -> Rig:
        p = profile("Odd one", chart)
        return put(rig, "", profiles={"odd": replace(p, modes={"m": change(p.modes["m"])})})[0]

    return lambda rig: (make(rig), "")


def _says(example: Example, words: str) -> Example:
    return lambda rig: (example(rig)[0], words)


def _ranges(*ranges: tuple[int, int]) -> Callable[[Mode], Mode]:
    def change(mode: Mode) -> Mode:
        made = tuple(Range(first=a, last=b, name=f"{a} on") for a, b in ranges)
        return replace(mode, channels=(replace(mode.channels[0], ranges=made), *mode.channels[1:]))

    return change


def _newer(rig: Rig) -> tuple[Rig, str]:
    return put(
        rig, "", profiles={"new": replace(profile("Head", "pan, tilt, dimmer", 7), revision="B", revises="head")}
    )[0], "revision B is there"


def _own(rig: Rig) -> tuple[Rig, str]:
    both = {"x": profile("X", 'dimmer, "Bubble Pump"'), "y": profile("Y", 'dimmer, "bubble-pump"')}
    return put(rig, "", profiles=both)[0], "are one function?"


EXAMPLES: dict[str, Example] = {
    "PROF-05": _says(_mode("dimmer", _ranges((0, 9), (20, 255))), "nothing is said of 10–19"),
    "PROF-06": _says(_mode("dimmer", _ranges((0, 20), (20, 255))), "Both claim 20–20"),
    "PROF-07": _says(_mode("dimmer", lambda m: replace(m, channels=(replace(m.channels[0], default=300),))), "default 300 does not fit"),
    "PROF-08": _says(_mode("1 Zoom fine\n2 Dimmer"), "refines nothing"),
    "PROF-09": _says(_mode("red/1, red/3"), "Pixel 2 has no channels"),
    "PROF-10": _says(_mode("3 x (red)", lambda m: replace(m, spots=(Spot(x=0, y=0),))), "1 place for 3 pixels"),
    "PROF-11": _says(_mode("2 x (red)", lambda m: replace(m, spots=(Spot(x=1, y=1), Spot(x=1.01, y=1)))), "Pixels 1 and 2 lie on each other"),
    "PROF-12": _says(_mode("red, green", lambda m: replace(m, channels=tuple(replace(c, short="X") for c in m.channels))), "“X” stands for two"),
    "PROF-13": _own,
    "PROF-14": _says(_mode("pan, tilt, shutter = 255, gobo"), "no dimmer in only"),
    "PROF-15": _says(_mode("dimmer highlight 255, shutter, red highlight 255"), "shutter at 0"),
    "PROF-16": _says(_mode("dimmer, red", lambda m: replace(m, channels=(m.channels[0], replace(m.channels[1], needs=("Mstr",))))), "needs “Mstr”"),
    "PROF-17": _newer,
    "PROF-19": _says(_mode("red/1, green/1, blue/1, red/2, blue/2, green/2"), "Pixel 2 has other components"),
    "PROF-20": _says(_mode("dimmer, 171 x (red green blue)"), "Pixel 171 would be cut at 512"),
}  # fmt: skip
