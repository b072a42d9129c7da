"""The setting card of fixtures: what to set on each lamp, ticked, woken by a change, taken back."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.conftest import at, profile
from welvo.checks.checker import check_rig
from welvo.demo.gallery import make_gallery
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.edits import move_item
from welvo.rig.lookup import find_item_named
from welvo.rig.patched import Fixture
from welvo.rig.profile import AddressSetting
from welvo.rig.wiring import Universe
from welvo.survey.fixture_card import lamp_card, steps_to_repeat, tick_lamps, untick_lamps


def small() -> Rig:
    two = replace(profile("Two ways", "dimmer"), address=AddressSetting(by="switches"))
    two = replace(two, modes={**two.modes, "long": replace(profile("x", "dimmer, red").modes["m"], name="Long")})
    one = profile("One way", "dimmer", 1)
    rig = Rig(name="Card", profiles={"two": two, "one": one})
    fixtures = {
        "b": Fixture(number=2, profile="one", mode="m", at=at(1, 7)),
        "a": Fixture(number=1, name="Left", profile="two", mode="long", at=at(1, 5)),
        "c": Fixture(number=3, profile="one", mode="m"),
    }
    return put_entries(rig, "", universes={"u1": Universe(number=1)}, fixtures=fixtures)[0]


def test_what_to_set_in_order_of_numbers() -> None:
    steps = lamp_card(Index(small()), ("b", "a", "c"))
    assert [(s.number, s.what, s.value, s.how, s.on, s.state) for s in steps] == [
        (1, "Mode", "Long", "2 slots in its menu", "", "open"),
        (1, "Address", 5, "ON: 1, 3", "universe 1", "open"),
        (
            2,
            "Address",
            7,
            "set 007 in its menu",
            "universe 1",
            "open",
        ),  # of one mode; 3 has no address
    ]


def test_a_tick_wakes_when_the_plan_moves_and_sleeps_again_when_it_moves_back() -> None:
    rig = small()
    rig, _ = tick_lamps(rig, lamp_card(Index(rig), ("a", "b")), "Ann", 1000.0)
    assert {(s.state, s.by, s.at) for s in lamp_card(Index(rig), ("a", "b"))} == {("ticked", "Ann", 1000.0)}
    assert "PATCH-17" not in check_rig(rig).codes_found
    moved = move_item(rig, "b", 0, "u1", 9)[0]
    (step,) = steps_to_repeat(Index(moved), "b")
    assert (step.value, step.was, step.state) == (9, 7, "woken")
    (found,) = [f for f in check_rig(moved).findings if f.code == "PATCH-17"]
    assert found.title == "2 was set to 7, the plan says 9"
    assert not steps_to_repeat(Index(move_item(moved, "b", 0, "u1", 7)[0]), "b")
    fixed, _ = untick_lamps(moved, [step])
    assert "PATCH-17" not in check_rig(fixed).codes_found and fixed.fixtures["a"].entered


def test_behind_a_bridge_the_address_of_the_line_is_on_the_card() -> None:
    rig = make_gallery()
    lamp = next(k for k in (find_item_named(rig, str(n)) for n in range(1, 999)) if k and "behind" in _behind(rig, k))
    (step,) = [s for s in lamp_card(Index(rig), (lamp,)) if s.key == "address"]
    assert step.on.startswith("behind the bridge on port") and 1 <= int(step.value) <= 512


def _behind(rig: Rig, key: str) -> str:
    return " ".join(s.on for s in lamp_card(Index(rig), (key,)))


def test_nothing_to_tick_is_refused() -> None:
    with pytest.raises(Refused, match="nothing to tick"):
        tick_lamps(small(), [], "Ann", 1.0)
