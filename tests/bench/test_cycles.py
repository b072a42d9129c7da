"""Test cycles: which levels each step sends, how a cycle is walked, the halving search."""

from __future__ import annotations

import random

import pytest

from welvo.bench.cycles import KINDS, Cycle, Halving, begin_halving, steps_of_cycle
from welvo.bench.levels import Levels
from welvo.demo.gallery import make_gallery
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.lookup import find_item_named


def frames(rig: Rig, kind: str, keys: list[str], universe: str = "u2") -> list[bytes]:
    """The levels of a universe at each step."""
    index, levels = Index(rig), Levels()
    found = []
    for step in steps_of_cycle(index, kind, keys):
        levels.start_test(step.hold, keys)
        found.append(levels.frame_of_universe(index, universe).tobytes())
    return found


def test_every_component_alone(rig: Rig) -> None:
    got = frames(rig, "components", ["c", "e"])
    assert len(got) == 4
    red, green, blue, off = got
    assert red[0] == 255 and red[2:5] == b"\xff\0\0" and red[100:103] == b"\xff\0\0"
    assert green[2:5] == b"\0\xff\0" and blue[127:130] == b"\0\0\xff"
    assert not any(off[0:1]) and not any(off[2:14]) and not any(off[100:130])


def test_whole_colours_and_all_on(rig: Rig) -> None:
    words = [s.words for s in steps_of_cycle(Index(rig), "colours", ["e"])]
    assert words == ["Red", "Green", "Blue", "White", "Off"]
    assert frames(rig, "colours", ["e"])[3][100:130] == b"\xff" * 30
    on, off = frames(rig, "all on", ["a", "e"], "u1")
    assert (on[4], off[4]) == (255, 0)
    with pytest.raises(Refused, match="Nothing of what is picked"):
        steps_of_cycle(Index(rig), "colours", ["a"])  # a head without colours


def test_a_ramp_goes_by_the_dimmer_where_there_is_one(rig: Rig) -> None:
    got = frames(rig, "ramp", ["c", "e"])
    assert [f[0] for f in got] == [round(255 * n / 16) for n in range(17)]
    assert {f[2] for f in got} == {255}  # its colours stay; the dimmer makes the ramp
    assert [f[100] for f in got] == [round(255 * n / 16) for n in range(17)]


def test_slot_by_slot_lights_one_slot_at_a_time_and_says_which(rig: Rig) -> None:
    index = Index(rig)
    found = steps_of_cycle(index, "slots", ["c"])
    assert len(found) == 14 and found[0].words == "201 slot 1 · 2.001" and found[2].see.startswith("Red of pixel 1")
    for n, got in enumerate(frames(rig, "slots", ["c"])):
        assert [i for i in range(14) if got[i]] == [n]


def test_pixel_by_pixel_and_the_ends(rig: Rig) -> None:
    got = frames(rig, "pixels", ["e"])
    assert len(got) == 10
    for n, f in enumerate(got):
        assert [i for i in range(30) if f[100 + i]] == [3 * n, 3 * n + 1, 3 * n + 2]
    first, _ = frames(rig, "ends", ["e"])
    assert first[100:103] == b"\0\xff\0" and first[127:130] == b"\xff\0\0" and not any(first[103:127])
    whole = make_gallery()
    index = Index(whole)
    ribbon = find_item_named(whole, "ribbon")
    (lit, _) = steps_of_cycle(index, "ends", [ribbon])
    segments = [p for _, p in index.cables_and_sums.on_runs(ribbon) if p.key == ribbon]
    assert len({n for n, _ in lit.hold.pixels[ribbon]}) == len({p.segment.first for p in segments} or {1}) * 2


def test_lamps_blink_their_own_numbers(rig: Rig) -> None:
    beats = [f[4] > 0 for f in frames(rig, "numbers", ["a", "b"], "u1")]
    other = [f[12] > 0 for f in frames(rig, "numbers", ["a", "b"], "u1")]

    def digits(lit: list[bool]) -> str:
        """What somebody reads who sees the lamp."""
        found, n = "", 0
        while n < len(lit):
            if lit[n : n + 3] == [True] * 3:
                n += 3
                short = 0
                while n < len(lit) and lit[n : n + 3] != [True] * 3:
                    short += lit[n]
                    n += 1
                found += str(short % 10)
            else:
                n += 1
        return found

    assert (digits(beats), digits(other)) == ("101", "102")


def test_a_cycle_is_walked_held_and_gone_back(rig: Rig) -> None:
    cycle = Cycle(steps_of_cycle(Index(rig), "pixels", ["e"]), speed=2.0)
    assert not cycle.let_time_pass(0.4) and cycle.let_time_pass(0.1) and cycle.at == 1
    cycle.held = True
    assert not cycle.let_time_pass(9)
    cycle.step_forward()
    cycle.step_back()
    cycle.step_back()
    cycle.step_back()
    assert cycle.at == 9  # round and round
    cycle.repeat = False
    cycle.step_forward()
    assert cycle.at == 9 and cycle.items_touched == {"e"}
    for wrong in (0, 26):
        with pytest.raises(Refused, match="0.02 to 25"):
            cycle.set_speed(wrong)


@pytest.mark.parametrize("kind", KINDS)
def test_every_cycle_says_what_must_be_seen_and_needs_something(rig: Rig, kind: str) -> None:
    index = Index(make_gallery())
    keys = [find_item_named(index.rig, n) for n in ("ribbon", "201", "101")]
    found = steps_of_cycle(index, kind, keys)
    assert found and all(s.words and s.see for s in found)
    with pytest.raises(Refused, match="Pick what is to be tested"):
        steps_of_cycle(index, kind, [])


def test_halving_finds_a_lamp_wherever_it_answers(rig: Rig) -> None:
    index = Index(rig)
    chance = random.Random(7)
    for _ in range(20):
        there = (chance.choice(["u1", "u2"]), chance.randint(1, 512))
        search, answers = begin_halving(index, ["u1", "u2"]), 0
        assert search.answers_left == 10
        while len(search.possible) > 1:
            lit = {place for place, v in search.step_to_show(index).hold.slots.items() if v}
            search, answers = search.with_answer(there in lit), answers + 1
        assert search.possible == (there,) and answers <= 10
    assert Halving(()).slots_asked == ()
    with pytest.raises(Refused, match="Choose the universes"):
        begin_halving(index, [])
    with pytest.raises(Refused, match="no cycle"):
        steps_of_cycle(index, "disco", ["a"])


@pytest.mark.parametrize("count, answers", [(0, 0), (1, 0), (2, 1), (3, 2), (4, 2), (5, 3), (8, 3), (9, 4), (512, 9)])
def test_halving_says_how_many_answers_are_left_at_the_most(count: int, answers: int) -> None:
    search = Halving(tuple(("u1", n) for n in range(1, count + 1)))
    assert search.answers_left == answers
    asked = 0
    while len(search.possible) > 1:  # the unlucky way: the larger half stays each time
        search, asked = search.with_answer(True), asked + 1
    assert asked == answers
