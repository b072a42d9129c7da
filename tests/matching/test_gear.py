"""Gear beside the plan, and the words for its numbers."""

from __future__ import annotations

import pytest

from tests.buses.test_plan import REF, rig_with_bus
from welvo.matching.gear import (
    board_of_bus,
    faults_of_gear,
    gear_lines,
    gear_wishes,
    read_gear_level,
    read_groups,
    read_rate,
    read_time,
    say_groups,
    say_kind,
    say_level,
    say_rate,
    say_time,
    status_words,
)
from welvo.observed.values import BusSeen, GearSeen, Observed
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.buses import Bus, Gear
from welvo.survey.path import path_to_target
from welvo.survey.target import of_slot


@pytest.mark.parametrize(
    ("typed", "level"),
    [
        ("170", 170),
        ("10 %", 170),
        ("10%", 170),
        ("100 %", 254),
        ("0", 0),
        ("off", 0),
        ("0,1 %", 1),
        ("254", 254),
        ("", None),
    ],
)
def test_levels_are_typed_as_numbers_or_as_light(typed: str, level: int | None) -> None:
    assert read_gear_level(typed) == level


def test_what_is_no_level_time_rate_or_group_is_refused_with_what_it_should_be() -> None:
    for wrong in ("255", "-1", "101 %", "ten", "1.5", "1 2"):
        with pytest.raises(Refused, match="is no level; write 0 to 254"):
            read_gear_level(wrong)
    assert read_gear_level("last", "last") == read_gear_level("255", "last") == 255
    # the standard's table: 2.0 s is register 4, 45 steps a second register 7
    assert [read_time(t) for t in ("2", "2.1 s", "0.6", "no fade", "90", "")] == [4, 4, 1, 0, 15, None]
    assert [read_rate(t) for t in ("45", "358", "2.8 steps a second", "")] == [7, 1, 15, None]
    assert [read_groups(t) for t in ("0, 3", "3 0 3", "none", "")] == [(0, 3), (0, 3), (), None]
    for reader, wrong in (
        (read_time, "soon"),
        (read_rate, "0"),
        (read_rate, "fast"),
        (read_groups, "16"),
        (read_groups, "a"),
    ):
        with pytest.raises(Refused):
            reader(wrong)


def test_numbers_are_said_in_the_standards_steps() -> None:
    assert (say_level(170), say_level(0), say_level(254), say_level(255, "last level")) == (
        "170 (10 %)", "0 (off)", "254 (100 %)", "last level",
    )  # fmt: skip
    assert say_level(1) == "1 (0.1 %)" and say_level(None) == say_level(-1) == "–"
    assert (say_time(4), say_time(0), say_time(-1)) == ("2.0 s", "no fade", "–")
    assert (say_rate(1), say_rate(7), say_rate(None)) == ("358 steps a second", "44.7 steps a second", "–")
    assert (say_groups((3, 0)), say_groups(()), say_groups((0, 15), 1)) == ("0, 3", "none", "1, 16")
    assert (say_kind(6), say_kind(8), say_kind(99), say_kind(-1)) == ("LED", "colour", "type 99", "–")


def test_status_is_said_in_words() -> None:
    seen = GearSeen(3, status=0b1010)
    assert faults_of_gear(seen) == ["its lamp does not light", "a limit was exceeded"]
    assert status_words(seen) == "lamp failure, limit error" and status_words(GearSeen(3)) == "–"
    assert not faults_of_gear(GearSeen(3, status=0b100)) and status_words(GearSeen(3, status=0)) == "nothing to report"


def test_plan_and_reported_stand_side_by_side_and_what_was_not_asked_is_not_known() -> None:
    gear = Gear(at=3, kind=8, groups=(1,), least=85, power_on=255, fade_time=4, scenes=((0, 200), (2, 255)))
    shallow = {x.key: x.mark for x in gear_lines(gear, GearSeen(3, (6, 8), groups=(1,)))}
    assert shallow == {
        "kind": "matches", "groups": "matches", "scenes": "unknown", "least": "unknown", "greatest": "silent",
        "power_on": "unknown", "failure": "silent", "fade_time": "unknown", "fade_rate": "silent",
    }  # fmt: skip
    deep = GearSeen(3, (6,), groups=(), least=85, greatest=254, power_on=254, failure=1, fade_time=0, fade_rate=7,
                    scenes=(200, 9, 255, *[255] * 13), deep=True)  # fmt: skip
    said = {x.key: (x.plan, x.reported, x.mark) for x in gear_lines(gear, deep)}
    assert said["kind"] == ("colour", "LED", "differs") and said["groups"] == ("1", "none", "differs")
    assert said["scenes"] == ("0: 200", "0: 200, 1: 9", "matches")  # of scene 1 the plan says nothing
    assert said["power_on"] == ("last level", "254 (100 %)", "differs") and said["fade_time"][2] == "differs"
    wishes = gear_wishes(Bus(gear=(gear, Gear(at=4))), BusSeen((deep, GearSeen(4, doubled=True))))
    assert wishes == {3: ("groups", "power_on", "fade_time")}
    assert gear_wishes(Bus(gear=(gear,)), BusSeen((deep,)), [7]) == {}


def test_the_board_has_every_place_and_the_path_goes_through_it() -> None:
    rig = rig_with_bus(201, gear=(Gear(at=4, name="Cove"),))
    at = ("127.0.0.70", "BUS 1")
    gear = GearSeen(4, (6,), status=0b100, level=100, groups=(2,))

    def hop(observed: Observed, address: int = 205) -> tuple[str, str, str]:
        chain = path_to_target(Index(rig), observed, of_slot(Index(rig), "u2", address), 1.0)
        n = next(n for n, h in enumerate(chain.hops) if h.role == "gear")
        return chain.hops[n].value, chain.hops[n].fact, chain.joints[n - 1].mark

    assert hop(Observed()) == ("gear 4", "Cove", "unknown")
    found = Observed(buses={at: BusSeen((gear,))})
    assert hop(found) == ("gear 4", "Cove", "matches") and hop(found, 206) == ("gear 5", "no answer", "differs")
    places = board_of_bus(rig, found, REF)
    assert len(places) == 64 and places[4].planned and places[4].seen == gear and not places[5].seen
    broken = Observed(buses={at: BusSeen((GearSeen(4, status=0b10),))})
    assert hop(broken)[1:] == ("its lamp does not light", "differs")
    rig = rig_with_bus(201, addressing="groups")
    assert hop(found, 203) == ("group 2", "1 gear in it", "matches")
    assert hop(found, 204)[2] == "differs" and hop(Observed(), 204) == ("group 3", "not searched", "unknown")
