import pytest

from welvo.rig.base import Refused
from welvo.rig.notation import (
    metric,
    read_ip,
    read_numbers,
    read_place,
    read_series,
    say_count,
    say_numbers_in_order,
    say_place,
    say_thousands,
)  # fmt: skip
from welvo.rig.protocol import PROTOCOLS, every_way, say_artnet, say_wire


def test_places_have_three_digit_addresses() -> None:
    assert say_place(3, 45) == "3.045"
    assert read_place(" 3.45 ") == read_place("3.045") == (3, 45)


@pytest.mark.parametrize(
    ("typed", "says"),
    [
        ("0.1", "no universe 0"), ("70000.1", "no universe 70000"), ("3.513", "no address 513"),
        ("3.0", "no address 0"), ("3", "is no address"), ("three", "is no address"), ("", "is no address"),
        ("3.4.5", "is no address"), ("-3.1", "is no address"),
    ],
)  # fmt: skip
def test_what_is_no_place_is_refused_by_name(typed: str, says: str) -> None:
    with pytest.raises(Refused, match=says):
        read_place(typed)


def test_spacing_and_gap_are_two_things() -> None:
    packed, spaced, gapped, upwards = (read_series(t) for t in ("3.1", "3.1 +8", "3.1 gap 2", "101+"))
    assert (packed.start, packed.spacing, packed.gap) == ("3.1", None, None)
    assert (spaced.start, spaced.spacing, spaced.gap) == ("3.1", 8, None)
    assert (gapped.start, gapped.spacing, gapped.gap) == ("3.1", None, 2)
    assert (upwards.start, upwards.spacing) == ("101", 1)
    with pytest.raises(Refused, match="share"):
        read_series("3.1 +0")


def test_number_lists() -> None:
    assert read_numbers("203, 205–207 210") == [203, 205, 206, 207, 210]
    for bad, says in (("5-3", "backwards"), ("a", "no number"), ("1-20000", "more than 10 000")):
        with pytest.raises(Refused, match=says):
            read_numbers(bad)


@pytest.mark.parametrize(
    ("typed", "says"),
    [
        ("10.0.40", "has 3 parts"), ("10.0.40.21.5", "has 5 parts"), ("10.0.40.256", "256"), ("10.0.x.1", "“x”"),
        ("0.0.0.0", "no address yet"), ("255.255.255.0", "is a mask"), ("239.255.0.1", "multicast"),
        ("", "has 1 parts"),
    ],
)  # fmt: skip
def test_what_cannot_be_a_boxs_address_is_refused_with_the_reason(typed: str, says: str) -> None:
    with pytest.raises(Refused, match=says):
        read_ip(typed)


def test_an_address_is_said_plainly() -> None:
    assert read_ip(" 010.000.040.021 ") == "10.0.40.21"


@pytest.mark.parametrize(
    ("typed", "wire"), [("0/0/3", 3), ("3", 3), ("0x003", 3), ("1/2/3", 0x123), ("127/15/15", 32767), ("Art 0/1/0", 16)]
)
def test_artnet_numbers_in_every_writing(typed: str, wire: int) -> None:
    assert PROTOCOLS["artnet"].read_wire(typed) == wire


@pytest.mark.parametrize(
    ("protocol", "typed", "says"),
    [
        ("artnet", "255.255.255.0", "mask"), ("artnet", "0/16/0", "15"), ("artnet", "128/0/0", "127"),
        ("artnet", "32768", "32767"), ("sacn", "0", "0"), ("sacn", "70000", "63999"), ("sacn", "64214", "63999"),
        ("sacn", "x", "no sACN"),
    ],
)  # fmt: skip
def test_wire_numbers_that_do_not_exist(protocol: str, typed: str, says: str) -> None:
    with pytest.raises(Refused, match=says):
        PROTOCOLS[protocol].read_wire(typed)


def test_every_way_shows_both_counts() -> None:
    art = dict(every_way("artnet", 0x123))
    assert (
        art["Art-Net net/sub/uni"] == "1/2/3"
        and art["One number, from 0"] == "291"
        and art["One number, from 1"] == "292"
    )
    assert art["Hexadecimal"] == "0x0123"
    acn = dict(every_way("sacn", 258))
    assert acn["Multicast group"] == "239.255.1.2" and acn["Counted from 0"] == "257"
    assert dict(every_way("artnet", 0))["sACN of that number"].startswith("none")
    assert (say_wire("sacn", 3), say_wire("artnet", 3), say_artnet(32767)) == ("sACN 3", "Art 0/0/3", "127/15/15")


def test_words() -> None:
    assert say_thousands(10000) == "10\u202f000"
    assert (say_count(1, "slot"), say_count(2, "slot"), say_count(2, "bus", "buses")) == (
        "1 slot",
        "2 slots",
        "2 buses",
    )


@pytest.mark.parametrize(
    ("typed", "metres"),
    [
        ("41' 6\"", "12.649"), ("41'6", "12.649"), ("8 ft", "2.438"), ("2 ft 6 in", "0.762"), ("6 in", "0.152"),
        ("2.5, 0, 4", "2.5, 0, 4"), ("12' 0 8'", "3.658 0 2.438"),
        ("12', 0, 8' to 10, 2, 4", "3.658, 0, 2.438 to 10, 2, 4"),
        ("7,5 feet", "2.286"), ("12; 3; 3", "12; 3; 3"), ("inner 3", "inner 3"), ("", ""),
    ],
)  # fmt: skip
def test_feet_and_inches_are_understood_beside_metres(typed: str, metres: str) -> None:
    assert metric(typed) == metres
    if typed == "8 ft":
        assert metric(typed, "mm") == "2438.4"


@pytest.mark.parametrize("typed", ["201-203, 301, 204", "5", "7, 6, 5", "1-4", "9, 1-3, 2"])
def test_numbers_in_an_order_of_their_own_are_said_so_that_they_are_read_again(typed: str) -> None:
    numbers = read_numbers(typed)
    assert read_numbers(say_numbers_in_order(numbers)) == numbers
    assert say_numbers_in_order([201, 202, 203, 301, 204]) == "201–203, 301, 204"
