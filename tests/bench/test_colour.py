"""Colours and colour temperatures, read and held on lamps and pixels."""

from __future__ import annotations

import pytest

from welvo.bench.colour import colour_of, of_temperature, read_colour
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Rig


def test_temperatures_go_from_red_to_blue() -> None:
    warm, neutral, cold = of_temperature(2000), of_temperature(6504), of_temperature(20000)
    assert warm[0] == 1.0 and warm[2] < 0.1 and cold[2] == 1.0 and cold[0] < 0.6
    assert min(neutral) > 0.93  # daylight is white
    assert of_temperature(3200)[1] == pytest.approx(0.52, abs=0.04)  # a halogen lamp
    for wrong in (1000, 30_000):
        with pytest.raises(Refused, match="1667 to 25000"):
            of_temperature(wrong)


def test_colours_as_they_are_written() -> None:
    assert read_colour("#ff0000") == ((1.0, 0.0, 0.0), 1.0) == read_colour("255, 0 0")
    assert read_colour("#000000") == ((0.0, 0.0, 0.0), 0.0)
    half, brightness = read_colour("808080")
    assert half == (1.0, 1.0, 1.0) and brightness == pytest.approx(0.216, abs=0.001)
    assert read_colour("3200 K") == (of_temperature(3200), 1.0)
    for wrong in ("red-ish", "300 0 0", "99 K", ""):
        with pytest.raises(Refused):
            read_colour(wrong)


def test_a_colour_is_made_by_the_emitters_there_are(rig: Rig) -> None:
    index = Index(rig)
    bar, _ = colour_of(index, "c", (1.0, 0.5, 0.0), 0.8)
    assert bar["Dimmer"] == pytest.approx(0.8, abs=0.01) and bar["ColorAdd_R"] == 1.0  # its dimmer takes the brightness
    assert bar["ColorAdd_G"] == pytest.approx(0.5, abs=0.01) and bar["ColorAdd_B"] == 0.0
    ribbon, _ = colour_of(index, "e", (1.0, 0.5, 0.0), 0.5)
    assert ribbon == {"ColorAdd_R": 0.5, "ColorAdd_G": 0.25, "ColorAdd_B": 0.0}
    _, warnings = colour_of(index, "a", (1.0, 0.0, 0.0))
    assert any("cannot mix colours" in w for w in warnings)
