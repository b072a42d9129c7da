"""Readers: what a field's text becomes, the bounds of the value's own type, and that what is written can be read."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from welvo.rig.base import Refused
from welvo.rig.patched import Element, Fixture
from welvo.rig.profile import Arrangement
from welvo.rig.readers import (
    LevelList,
    Number,
    NumberBounds,
    Order,
    Percent,
    TextReader,
    bounds_of_field,
    read_decimal,
    read_whole_number,
    text_reader,
)
from welvo.rig.runs import Segment, Supply
from welvo.rig.wiring import Feed


def test_bounds_are_those_of_the_annotation() -> None:
    assert bounds_of_field(Feed, "priority") == NumberBounds(0, 200, True)
    assert bounds_of_field(Element, "pixels") == NumberBounds(0, 100_000, True)
    volts = bounds_of_field(Supply, "volts")
    assert (volts.low, volts.high, volts.whole, volts.above) == (0, 60, False, True)
    assert bounds_of_field(Arrangement, "stagger") == NumberBounds(-1, 1, False)
    with pytest.raises(TypeError):
        bounds_of_field(Fixture, "name")


@pytest.mark.parametrize("text", ["0", "200", " 7 ", "+5"])
def test_whole_numbers_up_to_both_ends(text: str) -> None:
    assert read_whole_number(text, 0, 200) == int(text)


@pytest.mark.parametrize(
    ("text", "why"),
    [("-1", "from 0 to 200"), ("201", "201 is out of reach"), ("1.0", "no whole"), ("٣", "no whole"), ("", "no")],
)
def test_other_whole_numbers_are_refused(text: str, why: str) -> None:
    with pytest.raises(Refused, match=why):
        read_whole_number(text, 0, 200)


@pytest.mark.parametrize(
    ("text", "value"), [("0", 0), ("60", 60), ("12,5", 12.5), (".5", 0.5), ("5 V", 5), ("60V", 60)]
)
def test_decimals_up_to_both_ends_with_comma_and_unit(text: str, value: float) -> None:
    assert read_decimal(text, 0, 60, "V") == value


@pytest.mark.parametrize("text", ["60.01", "-0.1", "nan", "inf", "1e3", "1.2.3", "five", "1 2"])
def test_other_decimals_are_refused(text: str) -> None:
    with pytest.raises(Refused):
        read_decimal(text, 0, 60)


def test_a_bound_that_is_excluded_and_one_that_is_narrower() -> None:
    with pytest.raises(Refused, match="above from 0 to 60"):
        Number(Supply, "volts").read_text("0")
    assert Number(Supply, "volts").read_text("0.001") == 0.001
    with pytest.raises(Refused, match="from 1 to 100"):
        Number(Element, "pixels", least=1).read_text("0")
    assert Number(Element, "pixels", least=1).read_text("1") == 1


def test_empty_is_what_the_row_says() -> None:
    assert Number(Arrangement, "length", empty=0.0, shown_empty=True).read_text(" ") == 0.0
    assert Number(Arrangement, "length", empty=0.0, shown_empty=True).say_value(0.0) == ""
    with pytest.raises(Refused):
        Number(Feed, "priority").read_text("")


@given(st.floats(0.01, 5, allow_nan=False).map(lambda x: float(f"{x:g}")))
def test_what_a_number_says_it_reads_again(value: float) -> None:
    gamma = Number(Segment, "gamma")
    assert math.isclose(gamma.read_text(gamma.say_value(value)) or 0, value)


@given(st.integers(0, 100))
def test_percent_both_ways(percent: int) -> None:
    assert Percent().say_value(Percent().read_text(f"{percent} %")) == f"{percent} %"


def test_words_orders_and_levels() -> None:
    assert TextReader(longest=3).read_text(" abcd ") == "abc"
    with pytest.raises(Refused, match="needs a name"):
        TextReader("It needs a name.").read_text("  ")
    assert Order().read_text("grb") == "GRB" and Order(empty=True).read_text("") == ""
    for bad in ("", "RGX", "RR"):
        with pytest.raises(Refused):
            Order().read_text(bad)
    three = LevelList(3, "red, green, blue", "255 0 0")
    assert three.read_text("255, 0/7") == [255, 0, 7] and three.say_value([255, 0, 7]) == "255 0 7"
    for bad in ("1 2", "1 2 256", "1 2 3 4", "a b c"):
        with pytest.raises(Refused, match="255 0 0"):
            three.read_text(bad)


def test_the_type_of_a_field_chooses_its_reader() -> None:
    assert isinstance(text_reader(Fixture, "name"), TextReader)
    assert isinstance(text_reader(Feed, "priority"), Number)
