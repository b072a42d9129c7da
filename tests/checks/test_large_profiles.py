"""What a rule costs is bounded by what is there: counted in calls, so that the speed of the machine does not matter."""

from __future__ import annotations

import sys
from collections.abc import Callable
from types import FrameType

import pytest

from welvo.checks.checker import check_rig
from welvo.formats.chart import read_chart
from welvo.rig.document import Rig
from welvo.rig.profile import Profile
from welvo.rig.shorts import with_shorts


def work(act: Callable[[], object]) -> int:
    """Lines of Python that an act runs through, in thousands."""
    lines = 0

    def count(frame: FrameType, event: str, _: object) -> object:
        nonlocal lines
        lines += event == "line"
        return count

    sys.settrace(count)
    try:
        act()
    finally:
        sys.settrace(None)
    return lines // 1000


def rig_of(pixels: int, profiles: int = 1) -> Rig:
    mode = read_chart(f"dimmer, {pixels} x (red green blue)").mode_of_chart("m")
    return Rig(profiles={f"p{n}": Profile(name=f"P{n}", modes={"m": mode}) for n in range(profiles)})


@pytest.mark.parametrize(("small", "large"), [((300, 1), (1200, 1)), ((60, 4), (60, 16))])
def test_four_times_as_much_is_four_times_the_work(small: tuple[int, int], large: tuple[int, int]) -> None:
    few, many = work(lambda: check_rig(rig_of(*small))), work(lambda: check_rig(rig_of(*large)))
    assert many < 5.5 * few, (few, many)


def test_a_thousand_channels_of_one_function_get_names_of_their_own_in_one_go() -> None:
    channels = read_chart("1990 x (red gap)").mode_of_chart("m").channels
    alike = [c.__class__(function=c.function, slots=c.slots) for c in channels]
    few, many = work(lambda: with_shorts(alike[:400])), work(lambda: with_shorts(alike[:1600]))
    assert many < 6 * max(few, 1)
    assert len({c.short for c in with_shorts(alike)}) == len(alike)
