"""Edits of modes, worked out by hand on small charts."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from welvo.formats.chart import read_chart
from welvo.formats.chart_write import write_chart
from welvo.rig import modes
from welvo.rig.base import Refused
from welvo.rig.colours import FUNCTIONS
from welvo.rig.layout import along_arc, along_line, lay_out_rows, radii_of_rings, renumber_spots, spots_of, strip_facts
from welvo.rig.profile import Arrangement, Channel, Mode, Range, Spot


def mode(text: str) -> Mode:
    return read_chart(text).mode_of_chart("m")


def slots(m: Mode) -> list[tuple[str, int, tuple[int, ...]]]:
    return [(c.short, c.break_no, c.slots) for c in m.channels]


def test_many_channels_are_edited_in_one_act() -> None:
    m = mode("dimmer, 24 x (red green blue)")
    lit = modes.set_channels(m, [n for n, c in enumerate(m.channels) if c.pixel], highlight=255)
    assert sum(c.highlight == 255 for c in lit.channels) == 72 and lit.channels[0].highlight is None
    with pytest.raises(Refused, match="300 does not fit dimmer: 0 to 255"):
        modes.set_channels(m, range(5), default=300)


def test_a_function_brings_its_short_name_and_default() -> None:
    m = modes.set_function(mode("?, red"), [0], "Pan")
    assert (m.channels[0].short, m.channels[0].default, m.channels[0].name) == ("Pan", 128, "")
    kept = modes.set_function(mode("dimmer = 7"), [0], "Zoom")
    assert kept.channels[0].default == 7
    with pytest.raises(Refused, match="is red already"):
        modes.set_short(mode("red, green"), 1, "R")
    assert modes.set_short(mode("2 x (red green)"), 2, "Rot").channels[2].short == "Rot"


def test_fine_bytes_may_be_put_anywhere() -> None:
    m = modes.set_slots(mode("pan, tilt, dimmer"), 0, (1, 7))
    assert m.channels[0].slots == (1, 7) and m.breaks[0].slots == 7 and m.channels[0].default == 32768
    with pytest.raises(Refused, match="Slot 2 is tilt already"):
        modes.set_slots(mode("pan, tilt"), 0, (1, 2))
    for bad in ((), (1, 1), (0,), (1, 2, 3, 4, 5), (5000,)):
        with pytest.raises(Refused):
            modes.set_slots(mode("pan"), 0, bad)


def test_values_follow_the_width() -> None:
    c = Channel(
        function="Dimmer",
        slots=(1,),
        default=255,
        highlight=128,
        ranges=(Range(first=0, last=9), Range(first=10, last=255)),
    )
    wide = modes.widen_channel(c, (1, 2))
    assert (wide.default, wide.highlight) == (65535, 32768) and [(r.first, r.last) for r in wide.ranges] == [
        (0, 2559),
        (2560, 65535),
    ]
    back = modes.widen_channel(wide, (1,))
    assert (back.default, back.highlight, [(r.first, r.last) for r in back.ranges]) == (255, 128, [(0, 9), (10, 255)])


def test_removing_and_moving_closes_up_and_makes_room() -> None:
    m = mode("pan 16, tilt 16, dimmer, red")
    assert slots(modes.remove_channels(m, [1])) == [("Pan", 0, (1, 2)), ("Dim", 0, (3,)), ("R", 0, (4,))]
    moved = modes.move_channels(m, [3], 0, 1)
    assert slots(moved) == [("R", 0, (1,)), ("Pan", 0, (2, 3)), ("Tilt", 0, (4, 5)), ("Dim", 0, (6,))]
    assert slots(modes.move_channels(m, [0], 0, 7)) == [
        ("Tilt", 0, (1, 2)),
        ("Dim", 0, (3,)),
        ("R", 0, (4,)),
        ("Pan", 0, (5, 6)),
    ]


def test_breaks_are_split_joined_and_filled_from_each_other() -> None:
    m = mode("pan 16, dimmer, 2 x (red green)")
    two = modes.split_break(m, 0, 4, "pixels")
    assert [(b.name, b.slots) for b in two.breaks] == [("", 3), ("pixels", 4)] and two.channels[2].slots == (1,)
    assert slots(modes.join_break(two, 1)) == slots(m)
    over = modes.move_channels(two, [1], 1, 1)
    assert [b.slots for b in over.breaks] == [2, 5] and slots(over)[1] == ("Dim", 1, (1,))
    with pytest.raises(Refused, match="lies inside pan"):
        modes.split_break(m, 0, 2)
    for bad in (1, 99):
        with pytest.raises(Refused, match="slot from 2"):
            modes.split_break(m, 0, bad)
    assert modes.name_break(two, 0, "head").breaks[0].name == "head"


def test_pixels_are_laid_in_another_order_or_in_planes() -> None:
    m = mode("dimmer, 2 x (red green blue), fan")
    grb = modes.arrange_pixels(m, 0, ["ColorAdd_G", "ColorAdd_R", "ColorAdd_B"], False)
    assert write_chart(grb) == "dimmer, 2 x (green red blue), fan"
    planes = modes.arrange_pixels(m, 0, modes.components_of_pixel(m, 0), True)
    assert write_chart(planes) == "dimmer, planes 2 x (red green blue), fan"
    assert [c.slots for c in planes.channels if c.pixel == 2] == [(3,), (5,), (7,)]
    for chart, order, says in (
        ("dimmer", ["ColorAdd_R"], "no pixels"),
        ("red/1, fan, red/2", ["ColorAdd_R"], "Fan stands between"),
        ("red/1, green/2", ["ColorAdd_R"], "Pixel 2 does not have"),
    ):
        with pytest.raises(Refused, match=says):
            modes.arrange_pixels(mode(chart), 0, order, False)


@settings(max_examples=60, deadline=None)
@given(st.permutations("RGBW"), st.integers(1, 20), st.booleans(), st.sampled_from([1, 2]))
def test_every_order_of_components_and_back(order: list[str], pixels: int, planes: bool, width: int) -> None:
    m = modes.strip_mode(pixels, "RGBW", width)
    other = modes.arrange_pixels(m, 0, [FUNCTIONS[x] for x in order], planes)
    assert other.slots_needed == m.slots_needed == pixels * 4 * width
    assert modes.arrange_pixels(other, 0, modes.components_of_pixel(m, 0), False) == m


def test_a_strip_is_made_in_one_step() -> None:
    m = modes.strip_mode(60, "GRB")
    assert (m.name, m.slots_needed, m.count_pixels, m.channels[0].function) == ("60 px GRB", 180, 60, "ColorAdd_G")
    for bad in ((0, "RGB"), (10, "RRG"), (10, "XYZ"), (2000, "RGB")):
        with pytest.raises(Refused):
            modes.strip_mode(*bad)  # type: ignore[arg-type]


def ranged(*spans: tuple[int, int]) -> Channel:
    return Channel(function="Shutter1", slots=(1,), ranges=tuple(Range(first=a, last=b, name=f"{a}") for a, b in spans))


def test_ranges_gaps_overlaps_and_borders() -> None:
    c = ranged((0, 9), (20, 99), (90, 200))
    assert modes.range_gaps(c) == [(10, 19), (201, 255)] and modes.range_overlaps(c) == [(90, 99, "20", "90")]
    assert modes.range_gaps(ranged()) == []
    whole = ranged((0, 9), (10, 255))
    assert [(r.first, r.last) for r in modes.move_border(whole, 1, 128).ranges] == [(0, 127), (128, 255)]
    assert [(r.first, r.last) for r in modes.move_border(whole, 1, 0).ranges] == [
        (0, 0),
        (1, 255),
    ]  # each keeps a value
    assert [(r.first, r.last) for r in modes.split_range(whole, 200).ranges] == [(0, 9), (10, 199), (200, 255)]
    assert [(r.first, r.last) for r in modes.split_range(ranged(), 100).ranges] == [(0, 99), (100, 255)]
    assert (10, 19) in [(r.first, r.last) for r in modes.split_range(c, 12).ranges]
    assert [(r.first, r.last) for r in modes.remove_range(whole, 1).ranges] == [(0, 255)]
    assert [(r.first, r.last) for r in modes.remove_range(whole, 0).ranges] == [(0, 255)]
    with pytest.raises(Refused, match="begins at 10"):
        modes.split_range(whole, 10)
    with pytest.raises(Refused, match="does not fit"):
        modes.set_range(whole, 0, last=300)


def test_two_modes_side_by_side() -> None:
    rows_ = {
        r.word: (r.left, r.right, r.same)
        for r in modes.compare_modes(mode("pan 16, dimmer, red"), mode("pan, dimmer, zoom"))
    }
    assert rows_ == {
        "pan": ("1–2", "1", False),
        "dimmer": ("3", "2", False),
        "red": ("4", "–", False),
        "zoom": ("–", "3", False),
    }
    same = modes.compare_modes(mode("dimmer, 3 x (red)"), mode("dimmer, 3 x (red)"))
    assert [(r.word, r.left, r.same) for r in same] == [("dimmer", "1", True), ("red of each pixel", "2 … 3×", True)]


# ---- layouts


def xy(spots: tuple[Spot, ...]) -> list[tuple[float, float]]:
    return [(s.x, s.y) for s in spots]


def test_rows_from_any_corner_in_any_direction() -> None:
    def at(**more: object) -> list[tuple[float, float]]:
        return xy(spots_of(Arrangement(rows=2, columns=3, **more), 6))  # type: ignore[arg-type]

    assert at(corner="top right") == [(2, 0), (1, 0), (0, 0), (2, 1), (1, 1), (0, 1)]
    assert at(corner="bottom left") == [(0, 1), (1, 1), (2, 1), (0, 0), (1, 0), (2, 0)]
    assert at(along="columns") == [(0, 0), (0, 1), (1, 0), (1, 1), (2, 0), (2, 1)]
    assert at(along="columns", serpentine=True) == [(0, 0), (0, 1), (1, 1), (1, 0), (2, 0), (2, 1)]
    assert at(serpentine=True, corner="bottom right") == [(2, 1), (1, 1), (0, 1), (0, 0), (1, 0), (2, 0)]
    assert at(stagger=0.5)[3:] == [(0.5, 1), (1.5, 1), (2.5, 1)]
    assert xy(lay_out_rows(5, 2))[3:] == [(0, 1), (1, 1)]


def test_rings_lines_and_arcs() -> None:
    assert radii_of_rings([16, 8]) == [pytest.approx(2.563, abs=1e-3), pytest.approx(1.307, abs=1e-3)]
    turned = spots_of(Arrangement(kind="rings", rings=(4,), angle=90, clockwise=False), 4)
    assert [(round(x, 2), round(y, 2)) for x, y in xy(turned)] == [(0.71, 0), (0, -0.71), (-0.71, 0), (0, 0.71)]
    assert xy(along_line(Spot(x=0, y=0), Spot(x=3, y=6), 4)) == [(0, 0), (1, 2), (2, 4), (3, 6)]
    arc = along_arc(Spot(x=-1, y=0), Spot(x=0, y=-1), Spot(x=1, y=0), 3)
    assert [(round(x, 3), round(y, 3)) for x, y in xy(arc)] == [(-1, 0), (0, -1), (1, 0)]
    assert along_arc(Spot(x=0, y=0), Spot(x=1, y=0), Spot(x=2, y=0), 3) == along_line(Spot(x=0, y=0), Spot(x=2, y=0), 3)
    assert xy(renumber_spots(tuple(Spot(x=n, y=0) for n in range(4)), [3, 1])) == [(2, 0), (0, 0), (1, 0), (3, 0)]


def test_length_count_pitch_and_density_follow_from_one_another() -> None:
    assert strip_facts(length=5000, density=60) == (5000, 300, pytest.approx(16.667, abs=1e-3), pytest.approx(60))
    assert strip_facts(count=144, pitch=7)[0] == 1008 and strip_facts(length=1000, count=50)[2:] == (20, 50)
    for bad in (
        {"length": 5.0},
        {"length": 1000.0, "count": 60, "pitch": 10.0},
        {"density": 60.0, "pitch": 10.0, "count": 5},
        {"length": 1.0, "pitch": 10.0},
    ):
        with pytest.raises(ValueError, match="settle|apart|pitch|no pixel"):
            strip_facts(**bad)  # type: ignore[arg-type]
