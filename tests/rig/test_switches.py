"""Address switches, worked out by hand: switch n weighs 2^(n−1)."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from welvo.rig.base import Refused
from welvo.rig.profile import AddressSetting
from welvo.rig.switches import (
    address_of,
    dial_digits,
    one_slip_away,
    reach_of_switches,
    say_switches,
    switch_positions,
    weights_of_switches,
    why_there,
)

NINE = AddressSetting(by="switches")
ZERO = AddressSetting(by="switches", base=0)


def test_145_is_128_and_16_and_1() -> None:
    assert switch_positions(NINE, 145) == (True, False, False, False, True, False, False, True, False)
    assert say_switches(NINE, 145) == "ON: 1, 5, 8"
    assert say_switches(ZERO, 145) == "ON: 5, 8" and say_switches(ZERO, 1) == "all switches off"
    turned = AddressSetting(by="switches", first="highest")
    assert (
        weights_of_switches(turned) == (256, 128, 64, 32, 16, 8, 4, 2, 1) and say_switches(turned, 145) == "ON: 2, 5, 9"
    )


def test_nine_switches_reach_511_and_512_when_they_encode_one_less() -> None:
    assert (
        reach_of_switches(NINE) == (1, 511)
        and reach_of_switches(ZERO) == (1, 512)
        and reach_of_switches(AddressSetting(by="switches", switches=10)) == (1, 512)
    )
    assert reach_of_switches(None) == (1, 512) and reach_of_switches(AddressSetting(highest=470)) == (1, 470)
    with pytest.raises(Refused, match="reach 1 to 511; 512 cannot"):
        switch_positions(NINE, 512)
    assert say_switches(NINE, 512) == "cannot be set: it reaches 1 to 511"


@given(
    st.builds(
        AddressSetting, by=st.just("switches"), switches=st.sampled_from([9, 10]), on=st.sampled_from(["up", "down"]),
        first=st.sampled_from(["lowest", "highest"]), base=st.sampled_from([0, 1])
    ), st.integers(1, 511)
)  # fmt: skip
def test_the_picture_reads_back_as_its_address(setting: AddressSetting, address: int) -> None:
    picture = switch_positions(setting, address)
    assert len(picture) == setting.switches and address_of(setting, picture) == address
    for switch, wrong in one_slip_away(setting, address):
        slipped = tuple(not s if n == switch - 1 else s for n, s in enumerate(picture))
        assert address_of(setting, slipped) == wrong and abs(wrong - address) in weights_of_switches(setting)


@pytest.mark.parametrize(
    "meant, answers, why",
    [
        (145, 145, "where it should"), (145, 144, "Switch 1 stands the other way: that alone makes 144 of 145"),
        (145, 17, "Switch 8"), (145, 274, "from the other end"), (145, 366, "ON is on the other side"),
        (5, 6, "counts from the other start"), (145, 300, "No single slip"),
    ]
)  # fmt: skip
def test_why_a_lamp_answers_elsewhere(meant: int, answers: int, why: str) -> None:
    assert why in why_there(NINE, meant, answers)


def test_dials_and_menus() -> None:
    assert dial_digits(AddressSetting(by="dials"), 45) == (0, 4, 5) and dial_digits(
        AddressSetting(by="dials", base=0), 45
    ) == (
        0,
        4,
        4,
    )
    assert say_switches(AddressSetting(by="dials"), 145) == "dial 1 4 5" and "another order" in why_there(
        AddressSetting(by="dials"), 145, 451
    )
    assert (
        say_switches(AddressSetting(base=0), 1) == "set 000 in its menu"
        and say_switches(None, 7) == "set 007 in its menu"
    )
    assert say_switches(AddressSetting(by="rdm"), 145) == "set 145 by RDM"
