"""Driving anything: what is picked, single pixels, only these, the master, movement, spreading, revealing."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from welvo.bench.levels import FASTEST, Hold, Levels, reveal_item, spread_values
from welvo.bench.picking import pick_items, pixels_in
from welvo.demo.gallery import make_gallery
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.patched import Group


def frame(levels: Levels, rig: Rig, universe: str = "u1") -> bytes:
    return levels.frame_of_universe(Index(rig), universe).tobytes()


def test_what_is_typed_is_picked(rig: Rig) -> None:
    rig, _ = put_entries(rig, "", groups={"g": Group(name="Left wall", members=("a", "e"))})
    index = Index(rig)
    assert pick_items(index, "101–102, 201").items == ("a", "b", "c")
    assert pick_items(index, "left wall; 101").items == ("a", "e")
    assert pick_items(index, "universe 2").items == ("c", "e") and pick_items(index, "on NODE A").items == ("a", "b")
    found = pick_items(index, "201/2, 201/3-4, ribbon/1–10, 1.5, 2.100–2.103, 1.5")
    assert found.pixels == (("c", (2, 3, 4)), ("e", tuple(range(1, 11))))
    assert found.slots == (("u1", 5), ("u2", 100), ("u2", 101), ("u2", 102), ("u2", 103)) and not found.items
    assert pick_items(index, " ").is_empty and pick_items(index, "101 201").items == ("a", "c")
    assert [pixels_in(index, k) for k in ("a", "c", "e")] == [0, 4, 10]
    penstock = pick_items(Index(make_gallery()), "on PENSTOCK 6").items
    assert len(penstock) > 5


@pytest.mark.parametrize(
    "typed, why",
    [
        ("999", "no fixture 999"),
        ("102-101", "runs backwards"),
        ("9.1", "no universe 9"),
        ("1.513", "no address 513"),
        ("1.1–2.5", "crosses universes"),
        ("201/5", "has 4 pixels"),
        ("101/1", "has no pixels"),
        ("nobody/1", "no “nobody”"),
        ("nobody", "is nothing here"),
        ("on NOWHERE 1", "no device"),
        ("on NODE Z", "has no port Z"),
    ],
)
def test_what_cannot_be_picked_is_said(rig: Rig, typed: str, why: str) -> None:
    with pytest.raises(Refused, match=why):
        pick_items(Index(rig), typed)


def test_single_pixels_of_lamps_and_elements(rig: Rig) -> None:
    levels = Levels()
    levels.hold_function(["c"], "ColorAdd_R", 0.5)
    levels.hold_pixels("c", [2], "ColorAdd_R", 1.0)
    levels.hold_pixels("e", [1, 10], "ColorAdd_G", 1.0)
    found = frame(levels, rig, "u2")
    assert found[2:14] == bytes((128, 0, 0, 255, 0, 0, 128, 0, 0, 128, 0, 0))
    assert found[100:103] == bytes((0, 255, 0)) and found[127:130] == bytes((0, 255, 0)) and not any(found[103:127])
    levels.release_items(["c"])
    assert frame(levels, rig, "u2")[5] == 0 and frame(levels, rig, "u2")[101] == 255


def test_only_these_and_what_the_others_do(rig: Rig) -> None:
    levels = Levels()
    levels.hold_function(["a", "b", "c"], "Dimmer", 1.0)
    levels.hold_slot("u1", 300, 9)
    levels.only_these(["b"])
    found = frame(levels, rig)
    assert (found[4], found[12], found[5], found[299]) == (0, 255, 255, 0)  # a's shutter stands at its default
    assert frame(levels, rig, "u2")[0] == 0
    levels.only_these(["b"], "zero")
    assert sum(frame(levels, rig)[:8]) == 0 and frame(levels, rig)[12] == 255
    levels.only_these([])
    assert (frame(levels, rig)[4], frame(levels, rig)[299]) == (255, 9)


def test_the_master_takes_down_what_follows_it(rig: Rig) -> None:
    levels = Levels()
    levels.hold_function(["a"], "Dimmer", 1.0)
    levels.hold_function(["a"], "Pan", 1.0)
    levels.hold_function(["e"], "ColorAdd_R", 1.0)
    levels.master = 0.5
    found = frame(levels, rig)
    assert (found[0], found[1], found[4], found[5]) == (255, 255, 128, 255)  # pan and shutter stay, the dimmer follows
    assert frame(levels, rig, "u2")[100] == 128
    mode = rig.profiles["head"].modes["m"]
    own = [replace(c, master="no") if c.function == "Dimmer" else c for c in mode.channels]
    steady = replace(rig.profiles["head"], modes={"m": replace(mode, channels=tuple(own))})
    assert frame(levels, put_entries(rig, "", profiles={"head": steady})[0])[4] == 255  # its profile says so


def test_heads_are_brought_to_where_they_are_held(rig: Rig) -> None:
    index, levels = Index(rig), Levels()
    assert levels.move_from(index, ["a", "c"], "Pan") and not levels.move_from(index, ["a"], "Dimmer")
    start = frame(levels, rig)[0]
    levels.hold_function(["a"], "Pan", 1.0)
    assert frame(levels, rig)[0] == start  # it has not moved yet
    passed = 0.0
    while levels.advance_moves(0.02):
        passed += 0.02
        assert frame(levels, rig)[0] <= 255
    assert frame(levels, rig)[0] == 255 and passed == pytest.approx((1 - start / 255) / FASTEST, abs=0.05)
    assert levels.from_rest(index) and frame(levels, rig)[0] == start  # armed anew, it begins where it stands
    levels.release_items()
    assert not levels.moving and not levels.from_rest(index)


def test_a_test_takes_its_items_over_and_gives_them_back(rig: Rig) -> None:
    levels = Levels()
    levels.hold_function(["a", "b"], "Dimmer", 1.0)
    levels.hold_pixels("c", [1], "ColorAdd_B", 1.0)
    levels.start_test(Hold({("a", "Dimmer"): 0.25}, {"c": {(4, "ColorAdd_R"): 1.0}}, {("u1", 40): 7}), ["a", "c"])
    found, second = frame(levels, rig), frame(levels, rig, "u2")
    assert (found[4], found[12], found[39]) == (64, 255, 7)
    assert (second[4], second[11]) == (0, 255)
    levels.blackout = True
    assert not any(frame(levels, rig)[4:5]) and frame(levels, rig)[39] == 0
    levels.blackout = False
    levels.end_test()
    assert frame(levels, rig)[4] == 255 and frame(levels, rig, "u2")[4] == 255


def test_values_are_spread_over_a_selection() -> None:
    keys = list("abcde")
    assert list(spread_values(keys, 0, 1).values()) == [0, 0.25, 0.5, 0.75, 1]
    assert list(spread_values(keys, 0, 1, "centre out").values()) == [1, 0.5, 0, 0.5, 1]
    assert list(spread_values(keys, 1, 0, "every 2nd").values()) == [1, 0, 1, 0, 1]
    assert spread_values(["a"], 0.3, 0.9) == {"a": 0.3} and spread_values([], 0, 1) == {}
    for wrong in ("sideways", "every 0"):
        with pytest.raises(Refused, match="is no spread"):
            spread_values(keys, 0, 1, wrong)


def test_revealing_lights_a_lamp_and_centres_it(rig: Rig) -> None:
    index = Index(rig)
    found = reveal_item(index, "a")
    assert (found["Dimmer"], found["Pan"], found["Tilt"]) == (1.0, 0.5, 0.5)
    assert set(reveal_item(index, "e").values()) == {1.0}
