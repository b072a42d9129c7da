"""Settings of a port copied to others, and a device's values made the plan."""

from __future__ import annotations

import pytest

from tests.standins.test_pixel import INDEX, PENSTOCK, RIG
from welvo.matching.plan_back import copy_port, copy_targets, plan_reported
from welvo.matching.planned import full_plan
from welvo.patch.index import Index
from welvo.rig.base import Refused


def test_copying_shows_what_would_change_and_leaves_what_is_attached() -> None:
    targets = {t.label: t.changes for t in copy_targets(RIG, PENSTOCK, "6")}
    assert set(targets) == {str(n) for n in range(1, 13)} - {"6"}
    assert targets["1"] == (("brightness", "1", "0.8"),)
    copied, _ = copy_port(RIG, PENSTOCK, "6", [(PENSTOCK, "1"), (PENSTOCK, "9")])
    ports = copied.devices[PENSTOCK].ports
    assert (ports["1"].brightness, ports["9"].brightness, ports["2"].brightness) == (0.8, 0.8, 1.0)
    assert ports["1"].run == RIG.devices[PENSTOCK].ports["1"].run and ports["1"].feed == "w201"
    for targets_ in ([], [(PENSTOCK, "6")], [("d1", "A")], [(PENSTOCK, "99")]):
        with pytest.raises(Refused, match="same model"):
            copy_port(RIG, PENSTOCK, "6", targets_)


@pytest.mark.parametrize(
    ("key", "value"),
    [
        ("brightness", 55), ("size", 510), ("packs", "whole"), ("mode", "6 long ports"), ("1.gamma", 2.2),
        ("1.chip", "LU-4"), ("1.slot", 4), ("3/2.order", "BRG"), ("3/2.fold", 5), ("3/2.group", 5),
        ("3/2.reverse", False), ("3/2.brightness", 12.5), ("description", "by the door"), ("1.universe", 300),
    ],
)  # fmt: skip
def test_what_a_device_has_becomes_the_plan(key: str, value: object) -> None:
    assert full_plan(INDEX, PENSTOCK).get(key) != value
    rig, _ = plan_reported(RIG, PENSTOCK, key, value)  # type: ignore[arg-type]
    assert full_plan(Index(rig), PENSTOCK)[key] == value


@pytest.mark.parametrize(
    ("key", "value"),
    [("1.segments", 4), ("2.universe", 9), ("2.slot", 3), ("3/2.pixels", 9), ("3/2.nulls", 1), ("3/9.fold", 2),
     ("brightness", 130), ("mode", "13 ports"), ("1.universe", "x")],
)  # fmt: skip
def test_what_the_rig_cannot_take_over_is_refused(key: str, value: object) -> None:
    with pytest.raises(Refused):
        plan_reported(RIG, PENSTOCK, key, value)  # type: ignore[arg-type]
