"""Solvers: a mistake is made up, the sights it gives are told one by one, and it must be what is left."""

from __future__ import annotations

import random
from typing import Any

import pytest

from welvo.bench.solvers import (
    BEHIND,
    SeenTest,
    Solver,
    StringFold,
    bridge_slots,
    fold_and_direction,
    solve_colour_order,
    solve_substitution,
    start_address,
    universe_base,
    which_device,
)
from welvo.demo.gallery import make_gallery
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Rig


def solve(solver: Solver[Any], real: Any) -> tuple[Solver[Any], int]:
    """Tell what a real case shows, always for the test that decides most, until nothing tells more."""
    asked = 0
    while solver.next_test:
        test = solver.next_test
        before = len(solver.still_possible)
        solver = solver.after_sight(test, solver.predict(real, test))
        asked += 1
        assert len(solver.still_possible) < before
    return solver, asked


@pytest.mark.parametrize("sent, most", [("RGB", 2), ("RGBW", 3)])
def test_two_or_three_sights_tell_a_colour_order(sent: str, most: int) -> None:
    solver = solve_colour_order(sent)
    for real in solver.possible:
        solved, asked = solve(solver, real)
        assert solved.still_possible == (real,) and asked <= most and solved.words_of_verdict == f"It is {real}."
    assert solver.predict("GRB", "slot 1") == "green"


def test_a_lamp_is_found_by_lighting_slots(rig: Rig) -> None:
    index = Index(rig)
    solver = start_address(index, "a")
    assert solver.possible[:4] == (1, 2, 11, 101)  # what slips make of address 1, before all others
    for real in (1, 2, 33, 257, 500):
        solved, asked = solve(solver, real)
        assert real in solved.still_possible and asked <= 14
    solved, _ = solve(solver, 2)
    assert solved.still_possible == (2,)
    with pytest.raises(Refused, match="lamp with an address"):
        start_address(index, "e")


def test_counting_from_nought_or_one_shows_in_one_or_two_sights() -> None:
    solver = universe_base([1, 2, 3])
    for real in solver.possible:
        solved, asked = solve(solver, real)
        assert solved.still_possible == (real,) and asked <= 2
    off = solver.after_sight("universe 2", "the port set to 3")
    assert "one more than the sender" in off.words_of_verdict


def test_folds_and_ends_of_a_string() -> None:
    solver = fold_and_direction(60, [8])
    chance = random.Random(4)
    for real in chance.sample(list(solver.possible), 8):
        solved, asked = solve(solver, real)
        shows = [tuple(solver.predict(x, t) for t in solver.tests) for x in solved.still_possible]
        assert real in solved.still_possible and len(set(shows)) == 1 and asked <= 4
    assert solver.predict(StringFold(8, False), "pixel 9") == "place 16"  # the second row runs back
    assert solver.predict(StringFold(0, True), "pixel 1") == "place 60"
    assert solver.predict(StringFold(8, False), "pixel 57") == "place 60"  # the last row is short, and runs back
    with pytest.raises(Refused, match="one pixel"):
        fold_and_direction(1)


def test_devices_are_told_apart_by_what_they_take() -> None:
    index = Index(make_gallery())
    named = {d.name: k for k, d in index.rig.devices.items()}
    solver = which_device(index, [named[n] for n in ("SLUICE-N", "SLUICE-S", "BRINE", "PENSTOCK")])
    solved, _ = solve(solver, named["PENSTOCK"])
    assert solved.words_of_verdict == "It is PENSTOCK."


def test_sights_are_taken_back_and_contradictions_said() -> None:
    solver = solve_colour_order("RGB").after_sight("slot 1", "red").after_sight("slot 2", "red")
    assert solver.still_possible == () and solver.words_of_verdict.startswith("No single mistake")
    solver = solver.without_sight("slot 2")
    assert solver.sights == (SeenTest("slot 1", "red"),) and solver.still_possible == ("RGB", "RBG")
    assert solver.words_of_verdict == "2 possibilities left: RGB, RBG."
    assert solver.after_sight("slot 1", "green").still_possible == ("GRB", "GBR")  # seen again, otherwise
    assert solver.possible_answers("slot 2") == {"green": 1, "blue": 1}
    with pytest.raises(Refused, match="no test"):
        solver.after_sight("slot 9", "red")


def test_a_plain_pixel_in_a_bridges_place_tells_the_side() -> None:
    rig = make_gallery()
    index = Index(rig)
    solver = solve_substitution(index, "f534")
    assert solver.predict(BEHIND, "red") in ("red", "dim red")
    assert solver.after_sight("red", solver.predict(BEHIND, "red")).words_of_verdict == f"It is {BEHIND}."
    assert "before the bridge" in solver.after_sight("blue", "another colour, or nothing").words_of_verdict
    slots = bridge_slots(index, "f534", (1, 2, 3))
    assert list(slots.values()) == [1, 2, 3] and len({u for u, _ in slots}) == 1
    first = min(a for _, a in slots)
    assert any(
        s.first == first for s in index.spans_on_universe(next(iter(slots))[0])
    )  # where the bridge's stretch begins
    with pytest.raises(Refused, match="behind a bridge"):
        solve_substitution(index, "f207")
    assert bridge_slots(index, "f207", (1,)) == {}
