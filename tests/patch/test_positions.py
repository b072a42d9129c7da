"""Places in metres: typed, spread, moved, snapped."""

from __future__ import annotations

import pytest

from welvo.patch.index import Index
from welvo.patch.positions import move_fixtures, place_fixtures, put_down, read_spots, snap_to_grid
from welvo.patch.table import change_cells
from welvo.rig.base import Refused
from welvo.rig.document import Rig


def test_two_ends_are_spread_evenly_in_number_order(rig: Rig) -> None:
    made, done = place_fixtures(rig, ["c", "b", "a"], "0, 2, 4 to 10, 2, 5")
    assert [made.fixtures[k].spot for k in "abc"] == [(0, 2, 4), (5, 2, 4.5), (10, 2, 5)]
    assert done.label == "place 101 and 102 and 201"
    typed, _ = change_cells(Index(made), ["b"], "spot", "1.5, 3")
    assert typed.fixtures["b"].spot == (1.5, 3, 0)
    gone, _ = place_fixtures(made, ["a", "e"], "")
    assert gone.fixtures["a"].spot is None
    assert read_spots("1 to 2", 1) == [(1.0, 0.0, 0.0)]
    for wrong, why in (
        ("1 to 2 to 3", "more than two ends"),
        ("1 to ", "is no spot"),
        (" to 1", "is no spot"),
        ("x", "is no spot"),
    ):
        with pytest.raises(Refused, match=why):
            place_fixtures(rig, ["a", "b"], wrong)
    with pytest.raises(Refused, match="only they hang"):
        place_fixtures(rig, ["e"], "1")


def test_moving_keeps_heights_and_refuses_what_hangs_nowhere(rig: Rig) -> None:
    made, _ = place_fixtures(rig, ["a", "b"], "1, 2, 3")
    on, _ = move_fixtures(made, ["a", "b", "c"], 0.5, -1)
    assert on.fixtures["a"].spot == (1.5, 1.0, 3.0) and on.fixtures["c"].spot is None
    with pytest.raises(Refused, match="None of these"):
        move_fixtures(made, ["c"], 1, 1)
    with pytest.raises(Refused, match="farther away"):
        move_fixtures(made, ["a"], 1e6, 0)
    down, _ = put_down(made, ["c"], 4, 5, 1)
    assert down.fixtures["c"].spot == (4.0, 5.0, 3.0)  # as high as the last ones
    assert (snap_to_grid(1.13, 0.25), snap_to_grid(1.13, 0), snap_to_grid(-0.3, 0.5)) == (1.25, 1.13, -0.5)
