"""Simulated gear, frame by frame, against what IEC 62386-102 says of each command."""

from __future__ import annotations

from collections.abc import Iterable

import pytest

from welvo.protocols import dali
from welvo.protocols.dali import SEVERAL, To
from welvo.standins.gear import NO_ADDRESS, TWICE_WITHIN, SimGear, Wire


def put(wire: Wire, *frames: dali.Forward) -> int | None:
    """Put frames on the wire, twice where they have to be; gives what came back for the last."""
    answer = None
    for f in frames:
        for _ in range(2 if f.twice else 1):
            answer = wire.put_octets(f.octets_of_frame())
    return answer


def ask(wire: Wire, short: int, code: int) -> int | None:
    return put(wire, dali.command_frame(To(short=short), code))


def wire(*gear: SimGear) -> Wire:
    return Wire(gear)


def test_a_level_is_kept_within_least_and_greatest_and_off_is_off() -> None:
    one = SimGear(short=3, physical=40, least=60, greatest=200)
    bus = wire(one)
    for level, now in ((254, 200), (1, 60), (0, 0), (100, 100), (255, 100)):  # 255 leaves it where it is
        put(bus, dali.level_frame(To(short=3), level))
        assert one.level == now and ask(bus, 3, dali.QUERY_LEVEL) == now
    put(bus, dali.level_frame(To(short=4), 0))  # another's
    assert one.level == 100


@pytest.mark.parametrize("code, begins, ends", [
    (dali.OFF, 90, 0), (dali.RECALL_MAX, 90, 200), (dali.RECALL_MIN, 90, 60), (dali.STEP_UP, 90, 91),
    (dali.STEP_UP, 200, 200),
    (dali.STEP_DOWN, 90, 89), (dali.STEP_DOWN, 60, 60), (dali.STEP_UP, 0, 0), (dali.STEP_DOWN, 0, 0),
    (dali.UP, 90, 90 + round(dali.fade_rate(7) * 0.2)), (dali.DOWN, 90, 90 - round(dali.fade_rate(7) * 0.2)),
])  # fmt: skip
def test_relative_levels_do_not_switch_on_and_stay_within_the_limits(code: int, begins: int, ends: int) -> None:
    one = SimGear(short=3, physical=40, least=60, greatest=200, level=begins)
    put(wire(one), dali.command_frame(To(short=3), code))
    assert one.level == ends


def test_who_is_meant() -> None:
    gear = [SimGear("a", 0), SimGear("b", 1, groups=1 << 4), SimGear("c", NO_ADDRESS)]
    bus = wire(*gear)

    def reached(to: To) -> str:
        for g in gear:
            g.level = 254
        put(bus, dali.level_frame(to, 100))
        return "".join(g.name for g in gear if g.level == 100)

    assert reached(To(short=0)) == "a" and reached(To(short=1)) == "b" and reached(To(short=63)) == ""
    assert reached(To(group=4)) == "b" and reached(To(group=5)) == ""
    assert reached(dali.EVERYBODY) == "abc"
    bus.put_octets(bytes([0xA8, 50]))  # reserved: no group, though its low bits read as group 4
    assert all(g.level == 100 for g in gear)


SETTINGS = [
    (dali.SET_MAX, 180, dali.QUERY_MAX, 180), (dali.SET_MAX, 10, dali.QUERY_MAX, 85),
    (dali.SET_MIN, 90, dali.QUERY_MIN, 90),
    (dali.SET_MIN, 2, dali.QUERY_MIN, 85), (dali.SET_POWER_ON, 77, dali.QUERY_POWER_ON, 77),
    (dali.SET_FAILURE, 0, dali.QUERY_FAILURE, 0), (dali.SET_FADE_TIME, 4, dali.QUERY_FADE, 0x47),
    (dali.SET_FADE_RATE, 0, dali.QUERY_FADE, 0x01), (dali.SET_SCENE + 9, 33, dali.QUERY_SCENE + 9, 33),
]  # fmt: skip


@pytest.mark.parametrize("code, value, query, reads", SETTINGS)
def test_a_setting_is_taken_when_it_comes_twice_in_time_and_not_otherwise(
    code: int, value: int, query: int, reads: int
) -> None:
    bus = wire(SimGear(short=5))
    before = ask(bus, 5, query)
    dtr, command = dali.setting_frames(To(short=5), code, value)
    assert command.twice and not dtr.twice
    put(bus, dtr)
    bus.put_octets(command.octets_of_frame())
    assert ask(bus, 5, query) == before  # once is not enough
    put(bus, dtr)
    bus.put_octets(command.octets_of_frame())
    bus.now += TWICE_WITHIN + 0.01
    bus.put_octets(command.octets_of_frame())
    assert ask(bus, 5, query) == before  # too late
    put(bus, dtr, command)
    assert ask(bus, 5, query) == reads
    stubborn = wire(SimGear(short=5, fault="stubborn"))
    put(stubborn, dtr, command)
    assert ask(stubborn, 5, query) == before


def test_groups_and_scenes_are_kept_left_and_reset() -> None:
    one = SimGear(short=5, level=120)
    bus = wire(one)

    def twice(code: int, value: int = 0) -> None:
        put(bus, *dali.setting_frames(To(short=5), code, value))

    twice(dali.ADD_TO_GROUP + 3)
    twice(dali.ADD_TO_GROUP + 12)
    assert (ask(bus, 5, dali.QUERY_GROUPS_LOW), ask(bus, 5, dali.QUERY_GROUPS_HIGH)) == (0b1000, 0b10000)
    twice(dali.REMOVE_FROM_GROUP + 3)
    assert ask(bus, 5, dali.QUERY_GROUPS_LOW) == 0
    twice(dali.SET_SCENE + 2, 200)
    put(bus, dali.command_frame(dali.EVERYBODY, dali.GO_TO_SCENE + 2))
    assert one.level == 200
    twice(dali.REMOVE_FROM_SCENE + 2)
    put(bus, dali.level_frame(dali.EVERYBODY, 99), dali.command_frame(dali.EVERYBODY, dali.GO_TO_SCENE + 2))
    assert one.level == 99 and ask(bus, 5, dali.QUERY_SCENE + 2) == dali.MASK  # no part of it: it stays
    twice(dali.RESET)
    assert (one.level, one.groups, one.short) == (254, 0, 5)  # a reset keeps the short address


def test_what_it_says_of_itself_and_of_its_faults() -> None:
    bus = wire(SimGear(short=1, kinds=(6, 8)), SimGear(short=2, fault="lamp"), SimGear(short=3, fault="deaf"))
    assert ask(bus, 1, dali.QUERY_TYPE) == 255  # several: each by the question for the next
    assert [ask(bus, 1, dali.QUERY_NEXT_TYPE) for _ in range(3)] == [6, 8, 254]
    assert ask(bus, 2, dali.QUERY_TYPE) == 6 and ask(bus, 2, dali.QUERY_LAMP_FAILURE) == 255
    assert ask(bus, 2, dali.QUERY_LAMP_ON) is None and (ask(bus, 2, dali.QUERY_STATUS) or 0) & 0b110 == 0b010
    assert ask(bus, 1, dali.QUERY_LAMP_ON) == 255 and ask(bus, 1, dali.QUERY_LAMP_FAILURE) is None
    assert ask(bus, 3, dali.QUERY_PRESENT) is None and ask(bus, 9, dali.QUERY_PRESENT) is None


def test_answers_that_are_not_the_same_lie_over_each_other() -> None:
    bus = wire(SimGear(short=7, level=100), SimGear(short=7, level=100), SimGear(short=8))
    assert ask(bus, 7, dali.QUERY_LEVEL) == 100  # the same from both
    bus.gear[1].level = 90
    assert ask(bus, 7, dali.QUERY_LEVEL) == SEVERAL


def test_colours_are_shown_when_they_are_activated() -> None:
    one, plain = SimGear(short=1, kinds=(8,), level=10), SimGear(short=1, kinds=(6,), level=10)
    for g in (one, plain):
        bus = wire(g)
        put(bus, *dali.colour_frames(To(short=1), dali.SET_RGB, (200, 30, 0)))
        assert g.level == 10
        put(bus, *dali.colour_frames(To(short=1), dali.ACTIVATE, ()))
    assert (one.colour, one.level) == ((200, 30, 0), 200)
    assert (plain.colour, plain.level) == ((), 10)  # a gear without colour does not listen


def addressed(gear: Iterable[SimGear], which: int, free: list[int]) -> list[tuple[str, int]]:
    """Commission gear as a controller does; gives who has which short address afterwards."""
    bus = Wire(gear, seed=5)
    walk = dali.address_in_turn(free, [])
    put(bus, *dali.initialise_frames(which))
    frames = next(walk)
    try:
        while True:
            frames = walk.send([put(bus, f) for f in frames][-1])
    except StopIteration:
        pass
    return sorted((g.name, g.short) for g in bus.gear)


def test_only_gear_without_an_address_gets_one_when_only_that_was_called_up() -> None:
    made = addressed([SimGear("old", 4), SimGear("x"), SimGear("y")], 0xFF, [0, 1, 2])
    assert dict(made)["old"] == 4 and {s for n, s in made if n != "old"} == {0, 1}
