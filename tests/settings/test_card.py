"""Setting cards, snapshots and ticks of devices."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.standins.test_pixel import INDEX, PENSTOCK, RIG
from welvo.checks.checker import check_rig
from welvo.formats.rigfile import rig_from_bytes, rig_to_bytes
from welvo.matching.planned import compare_device, full_plan
from welvo.observed.values import NOTHING, DeviceAnswer, Observed
from welvo.patch.index import Index
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.plan import model_of
from welvo.runs.bridge import set_right
from welvo.settings.card import CardStep, card_steps, tick_settings, untick_settings
from welvo.settings.snapshots import MOST, differences_of_snapshots, remove_snapshot, take_snapshot, to_write_back

MODEL = model_of(RIG, PENSTOCK)
assert MODEL
PLAN = full_plan(INDEX, PENSTOCK)


def steps(rig: Rig, observed: Observed = NOTHING) -> list[CardStep]:
    assert MODEL
    return card_steps(rig, PENSTOCK, MODEL, compare_device(Index(rig), observed, PENSTOCK, 100.0))


def by_key(rig: Rig, observed: Observed = NOTHING) -> dict[str, CardStep]:
    return {s.key: s for s in steps(rig, observed) if s.key}


def test_a_card_is_in_the_order_and_the_counting_of_the_devices_pages() -> None:
    found = steps(RIG)
    assert list(dict.fromkeys(s.page for s in found)) == [*("Network", "Device", "Outputs", "Segments", "", "Lights")]
    restart = next(s for s in found if s.page == "")
    assert (restart.what, restart.value) == ("Restart", "about 2 s")
    outputs = [s.what for s in found if s.page == "Outputs"]
    assert outputs[-2:] == ["Save", "Apply"] and outputs.index("Save") == len(outputs) - 2
    cards = by_key(RIG)
    assert cards["6.brightness"].value == "80 %" and cards["6.brightness"].where == "port 6"
    assert cards["1/2.universe"].value == "201" and cards["1/2.reverse"].value == "on"
    assert MODEL
    counting = replace(MODEL, counts={**MODEL.counts, "sacn": 0, "slot": 0})
    other = replace(RIG, device_models={**RIG.device_models, RIG.devices[PENSTOCK].model: counting})
    cards = {
        s.key: s for s in card_steps(other, PENSTOCK, counting, compare_device(Index(other), NOTHING, PENSTOCK, 100.0))
    }
    assert cards["1/2.universe"].value == "200" and cards["1/2.slot"].value == "165", "this one counts from 0"


def test_a_tick_is_claimed_and_wakes_when_the_plan_is_another() -> None:
    ticked, _ = tick_settings(RIG, PENSTOCK, {"6.brightness": 80, "mode": "12 ports"}, "Ines", 50.0)
    cards = by_key(ticked)
    assert (cards["6.brightness"].state, cards["6.brightness"].by, cards["1.slot"].state) == ("ticked", "Ines", "open")
    marks = {x.key: x.mark for x in compare_device(Index(ticked), NOTHING, PENSTOCK, 100.0)}
    assert (marks["6.brightness"], marks["1.slot"]) == ("claimed", "unknown")
    right, _ = set_right(ticked, PENSTOCK, "6", 2)
    assert by_key(right)["6.brightness"].state == "woken"
    said = replace(NOTHING, said={"127.0.0.50": DeviceAnswer(99.0, {"6.brightness": 80})})
    assert by_key(ticked, said)["6.brightness"].state == "proved"
    assert untick_settings(ticked, PENSTOCK, {"mode"})[0].devices[PENSTOCK].entered.keys() == {"6.brightness"}
    assert rig_from_bytes(rig_to_bytes(ticked)) == ticked
    with pytest.raises(Refused, match="nothing to tick"):
        tick_settings(RIG, PENSTOCK, {}, "Ines", 50.0)


def test_a_snapshot_is_kept_compared_and_written_back() -> None:
    said = DeviceAnswer(99.0, dict(PLAN), dict(PLAN), mac="02:57", firmware="2.3")
    kept, _ = take_snapshot(RIG, PENSTOCK, said, 100.0, "before a restart")
    (one,) = kept.devices[PENSTOCK].snapshots
    assert (one.why, one.mac, one.values["1/1.pixels"]) == ("before a restart", "02:57", 55)
    now = {**PLAN, "1/1.pixels": 54, "6.gamma": 2.2, "odd": 1}
    assert differences_of_snapshots(one.values, now) == [
        ("1/1.pixels", 55, 54),
        ("6.gamma", 1.0, 2.2),
        ("odd", None, 1),
    ]
    back = to_write_back(kept, PENSTOCK, one, now)
    assert back == {"1/1.pixels": 55, "6.gamma": 1.0}
    assert to_write_back(kept, PENSTOCK, one, {**now, **back}) == {}, "after a restore the difference is empty"
    assert rig_from_bytes(rig_to_bytes(kept)) == kept
    many = kept
    for n in range(MOST + 3):
        many, _ = take_snapshot(many, PENSTOCK, said, 200.0 + n)
    assert len(many.devices[PENSTOCK].snapshots) == MOST and many.devices[PENSTOCK].snapshots[0].at == 203.0
    assert remove_snapshot(kept, PENSTOCK, 100.0)[0].devices[PENSTOCK].snapshots == ()
    for nothing in (None, DeviceAnswer(99.0)):
        with pytest.raises(Refused, match="nothing to keep"):
            take_snapshot(RIG, PENSTOCK, nothing, 100.0)
    with pytest.raises(Refused, match="not there any more"):
        remove_snapshot(RIG, PENSTOCK, 100.0)


def test_what_the_lights_show_is_a_step_to_tick() -> None:
    lights = [s for s in steps(RIG) if s.page == "Lights"]
    assert MODEL and [(s.what, s.value) for s in lights] == list(MODEL.lights) and len(lights) > 2
    key = lights[0].key
    ticked, _ = tick_settings(RIG, PENSTOCK, {key: lights[0].value}, "Ines", 50.0)
    assert by_key(ticked)[key].state == "ticked" and by_key(ticked)[lights[1].key].state == "open"
    assert "DEV-13" not in check_rig(ticked).codes_found  # a light is no setting that could have another value by now
    assert by_key(untick_settings(ticked, PENSTOCK, {key})[0])[key].state == "open"
