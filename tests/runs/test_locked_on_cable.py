"""A lock holds along a cable: what stands before it may not push it."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from tests.survey.test_effects import rig_of_runs
from welvo.patch.mode_edits import change_mode
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig
from welvo.rig.edits import lock_items
from welvo.rig.runs import Segment
from welvo.runs.edits import attach_segments, change_segment, set_device_way, set_pixels, set_stream, take_down

PUSHES: dict[str, Callable[[Rig], Edit]] = {
    "a longer string": lambda r: set_pixels(r, "e", "longer", pixels=12),
    "something attached before it": lambda r: attach_segments(r, "n", "1", [Segment(kind="bridge", width=3)], 0),
    "a part of the string": lambda r: change_segment(r, "n", "1", 0, "part", count=5),
    "another start of the port": lambda r: set_stream(r, "n", "1", "start", start=7),
    "another mode of the lamp before it": lambda r: change_mode(r, ["a"], "p", "w"),
}


@pytest.mark.parametrize("what", PUSHES)
def test_what_would_push_a_locked_lamp_is_refused_by_name(what: str) -> None:
    rig, _ = lock_items(rig_of_runs(), ["b"], True)
    with pytest.raises(Refused, match="302 is locked at 1.039 and would go to .*Unlock it first"):
        PUSHES[what](rig)
    free, _ = lock_items(rig, ["b"], False)
    assert PUSHES[what](free)[0] != free


def test_what_does_not_push_it_is_done() -> None:
    rig, _ = lock_items(rig_of_runs(), ["b"], True)
    named, _ = set_pixels(rig, "e", "name", name="ribbon")
    assert named.elements["e"].name == "ribbon"
    behind, _ = attach_segments(rig, "n", "1", [Segment(kind="null", count=3)])
    assert len(behind.devices["n"].ports["1"].run) == 3
    assert set_device_way(rig, "n", "firmware", firmware="2")[0].devices["n"].firmware == "2"
    down, _ = take_down(rig, "n", "1", [1])  # by the operator's own hand
    assert down.fixtures["b"].at[0].origin_of_place == "none"
