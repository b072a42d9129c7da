"""Where pixels of rows and rings sit, in pitches."""

from __future__ import annotations

import math

import pytest

from welvo.rig.layout import along_arc, along_line, lay_out_ring, lay_out_row, lay_out_rows, radii_of_rings
from welvo.rig.profile import Spot


def at(spots: tuple[Spot, ...]) -> list[tuple[float, float]]:
    return [(s.x, s.y) for s in spots]


def test_rows_are_filled_left_to_right_or_like_a_snake() -> None:
    assert at(lay_out_row(3)) == [(0, 0), (1, 0), (2, 0)]
    assert at(lay_out_rows(6, 2)) == [(0, 0), (1, 0), (2, 0), (0, 1), (1, 1), (2, 1)]
    assert at(lay_out_rows(6, 2, serpentine=True))[3:] == [(2, 1), (1, 1), (0, 1)]


@pytest.mark.parametrize("pixels", [2, 3, 14, 60])
def test_on_a_ring_neighbours_are_a_pitch_apart_and_one_is_at_the_top(pixels: int) -> None:
    spots = lay_out_ring(pixels)
    assert spots[0].x == 0 and spots[0].y < 0 and spots[1].x >= 0  # clockwise
    around = [math.dist((a.x, a.y), (b.x, b.y)) for a, b in zip(spots, spots[1:] + spots[:1])]
    assert around == pytest.approx([1.0] * pixels, abs=3e-4)
    # what stands in files has four places, so that the same face is the same file everywhere
    assert all(v == round(v, 4) for s in spots for v in (s.x, s.y))


def test_rings_stand_a_pitch_apart_or_more() -> None:
    outer, middle, inner = radii_of_rings([24, 12, 1])
    assert inner == 0 and middle == pytest.approx(0.5 / math.sin(math.pi / 12)) and outer - middle >= 1
    assert radii_of_rings([4, 4]) == [
        pytest.approx(0.5 / math.sin(math.pi / 4) + 1),
        pytest.approx(0.5 / math.sin(math.pi / 4)),
    ]


def test_a_line_and_an_arc_hold_their_ends() -> None:
    a, b = Spot(x=0, y=0), Spot(x=3, y=1)
    assert at(along_line(a, b, 4)) == [(0, 0), (1, 0.3333), (2, 0.6667), (3, 1)] and along_line(a, b, 1) == (a,)
    half = along_arc(Spot(x=-1, y=0), Spot(x=0, y=-1), Spot(x=1, y=0), 5)
    assert at(half)[0] == (-1, 0) and at(half)[2] == pytest.approx((0, -1)) and at(half)[4] == pytest.approx((1, 0))
    assert all(math.hypot(s.x, s.y) == pytest.approx(1, abs=1e-3) for s in half)
    assert at(along_arc(a, Spot(x=1.5, y=0.5), b, 4)) == at(along_line(a, b, 4))  # three on one line
