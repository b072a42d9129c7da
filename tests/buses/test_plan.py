"""Lamp buses as planned: slots, levels and frames by numbers that were worked out by hand."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.conftest import at, small_rig
from welvo.buses.edits import (
    copy_gear,
    plan_gear,
    remove_gear,
    set_bus,
    set_gear,
    set_scene,
    toggle_group,
)
from welvo.buses.plan import (
    address_of_place,
    arc_level,
    bus_at,
    curve_table,
    frames_of,
    light_of_level,
    slot_words,
    timing_of_bus,
)
from welvo.checks.checker import check_rig
from welvo.patch.index import Index
from welvo.patch.landing import foresee_landing
from welvo.protocols.dali import To
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.buses import Bus, Gear
from welvo.rig.document import Rig
from welvo.rig.refs import BUS, PortRef, SegmentRef
from welvo.rig.wiring import Device, DeviceModel, Port

REF = PortRef("g", "BUS 1")
TAKER = SegmentRef("g", "BUS 1", BUS)


def rig_with_bus(start: int = 201, **bus: object) -> Rig:
    """The small rig and a gateway whose first bus follows universe 2 from a slot on."""
    rig = small_rig()
    model = DeviceModel(name="Leat", kind="gateway", ports=("BUS 1", "BUS 2"))
    port = Port(feed="w2", start=start, bus=Bus(**bus))  # type: ignore[arg-type]
    gateway = Device(name="LEAT", model="leat", ip="127.0.0.70", ports={"BUS 1": port, "BUS 2": Port()})
    return replace(rig, device_models={**rig.device_models, "leat": model}, devices={**rig.devices, "g": gateway})


@pytest.mark.parametrize(
    ("addressing", "control", "slots"),
    [("gear", "intensity", 64), ("gear", "rgb", 192), ("gear", "rgbw", 256), ("groups", "intensity", 16),
     ("groups", "white", 32), ("groups", "xy", 80), ("broadcast", "intensity", 1), ("broadcast", "rgbwaf", 6),
     ("gear", "primaries", 384)],
)  # fmt: skip
def test_a_bus_takes_as_many_slots_as_places_times_slots_of_each(addressing: str, control: str, slots: int) -> None:
    index = Index(rig_with_bus(addressing=addressing, control=control))
    [span] = index.spans_of(TAKER)
    assert (span.universe, span.first, span.last) == ("u2", 201, 200 + slots)
    assert index.word_for_taker(TAKER) == "BUS 1 of LEAT" and index.piece_of_taker(TAKER) is None


def test_past_512_is_exact_and_clashes_are_clashes() -> None:
    past = check_rig(rig_with_bus(450))
    [f] = [f for f in past.findings if f.code == "BUS-01"]
    assert f.title == "BUS 1 of LEAT ends 1 slot past 512" and f.facts["past"] == 1
    assert not [f for f in check_rig(rig_with_bus(449)).findings if f.code == "BUS-01"]
    met = [f for f in check_rig(rig_with_bus(90)).findings if f.code == "PATCH-01"]
    assert met[0].title == "BUS 1 of LEAT and ribbon meet on 30 slots" and "gear 11 level" in met[0].reason


def test_a_fixture_that_a_gear_drives_is_no_clash_and_leaves_its_slots_to_the_bus() -> None:
    rig = rig_with_bus(control="rgb", gear=(Gear(at=2, name="Cove", fixture="c"),))
    rig, _ = edits.set_fixtures(rig, "", {"c": {"at": at(2, 207)}})
    index = Index(rig)
    assert [(s.first, s.last, s.offset) for s in index.spans_of(TAKER)] == [(201, 206, 0), (221, 392, 20)]
    assert not [f for f in check_rig(rig).findings if f.code == "PATCH-01"]
    assert not foresee_landing(index, "c", 0, "u2", 230).meets
    moved, change = edits.move_item(rig, "c", 0, "u2", 301)
    index.follow_change(moved, change)
    assert [(s.first, s.last) for s in index.spans_of(TAKER)] == [(201, 300), (315, 392)]


def test_255_goes_out_as_254_and_curves_are_numbers() -> None:
    assert [arc_level(v, "off") for v in (0, 1, 128, 254, 255)] == [0, 1, 128, 254, 254]
    assert [arc_level(v, "off", 85) for v in (0, 1, 84, 86)] == [0, 85, 85, 86]
    # half the slot is half the light: level 229 is 50.5 % by the standard's table
    assert (
        arc_level(128, "linear") == 229
        and round(light_of_level(229, "linear")) == 51
        and arc_level(255, "linear") == 254
    )
    # gear that is linear itself: 229 stands for 50 %, so half the light of 254 is level 127
    assert arc_level(229, "logarithmic") == 128 and round(light_of_level(127, "logarithmic")) == 50
    assert curve_table("off", 1)[-1] == (255, 254, 100.0) and curve_table("linear", 170)[1][1] == 170


def test_frames_are_those_of_the_standard() -> None:
    def hexed(control: str, slots: bytes, to: To) -> str:
        return " ".join(f.octets_of_frame().hex() for f in frames_of(to, control, slots))  # type: ignore[arg-type]

    assert hexed("intensity", bytes([255]), To(short=5)) == "0afe"
    assert hexed("intensity", bytes([128]), To(group=3)) == "8680"
    assert hexed("rgb", bytes([255, 128, 0]), To(short=1)) == "a3fe c380 c500 c108 03eb c108 03e2"
    rgbw = hexed("rgbw", bytes([1, 2, 3, 4]), address_of_place(Bus(addressing="broadcast"), 0))
    assert rgbw == "a301 c302 c503 c108 ffeb a304 c3ff c5ff c108 ffec c108 ffe2"
    # 6,500 K are 153 mirek: 0x0099
    assert hexed("white", bytes([100, 255]), To(short=0)) == "a399 c300 c108 01e7 c108 01e2 0064"
    assert (
        len(frames_of(To(short=0), "xy", bytes(5))) == 11 and len(frames_of(To(short=0), "primaries", bytes(6))) == 32
    )


def test_how_long_a_change_of_everything_takes() -> None:
    whole = timing_of_bus(Bus())
    assert (whole.frames, whole.places) == (64, 64) and round(whole.seconds, 2) == 1.77  # 64 × 27.67 ms
    twenty = timing_of_bus(Bus(control="rgb", gear=tuple(Gear(at=n) for n in range(20))))
    assert (twenty.frames, twenty.places) == (140, 20) and round(twenty.seconds, 2) == 3.87
    grouped = timing_of_bus(Bus(addressing="groups", gear=(Gear(at=1, groups=(2, 3)),)))
    assert grouped.places == 2 and timing_of_bus(Bus(addressing="broadcast")).frames == 1


def test_words_of_slots() -> None:
    assert slot_words(Bus(), 12) == "gear 11 level" and slot_words(Bus(control="rgb"), 5) == "gear 1 green"
    assert slot_words(Bus(addressing="groups", control="white"), 8) == "group 3 colour temperature"
    assert slot_words(Bus(addressing="broadcast"), 1) == "all gear level"


def test_gear_is_planned_by_typing_and_edited() -> None:
    rig, change = plan_gear(rig_with_bus(), REF, "0–19 Cove")
    bus = bus_at(rig, REF)
    assert len(bus.gear) == 20 and bus.gear[19].name == "Cove 20" and change.label == "plan 20 gear on BUS 1"
    rig, _ = plan_gear(rig, REF, "5")
    assert bus_at(rig, REF).gear_at(5).name == "Cove 6"  # type: ignore[union-attr]
    for wrong in ("64", "9-3", "Cove", "", "-1", "0–64"):
        with pytest.raises(Refused, match="is no gear"):
            plan_gear(rig, REF, wrong)
    rig, _ = toggle_group(rig, REF, 3, 15)
    rig, _ = toggle_group(rig, REF, 3, 2)
    assert bus_at(rig, REF).gear_at(3).groups == (2, 15)  # type: ignore[union-attr]
    rig, _ = toggle_group(rig, REF, 3, 15)
    rig, _ = set_scene(rig, REF, 4, {3: 200, 4: 255})
    rig, _ = set_scene(rig, REF, 4, {4: None})
    assert bus_at(rig, REF).gear_at(3).scenes == ((4, 200),) and not bus_at(rig, REF).gear_at(4).scenes  # type: ignore[union-attr]
    rig, _ = set_gear(rig, REF, [3], "", fade_time=4, least=85)
    rig, label = copy_gear(rig, REF, 3, [(REF, 7), (PortRef("g", "BUS 2"), 0), (REF, 3)])
    assert label.label == "copy gear 3 to 2 others"
    other = bus_at(rig, PortRef("g", "BUS 2")).gear_at(0)
    assert other and (other.fade_time, other.least, other.groups, other.scenes) == (4, 85, (2,), ((4, 200),))
    assert bus_at(rig, REF).gear_at(7).name == "Cove 8"  # type: ignore[union-attr]
    rig, _ = remove_gear(rig, REF, range(64))
    assert not bus_at(rig, REF).gear
    rig, _ = set_bus(rig, REF, "", control="rgb")
    assert bus_at(rig, REF).control == "rgb"
    with pytest.raises(Refused):
        set_gear(rig, REF, [3], "", fade_rate=0)
    with pytest.raises(Refused, match="There is no group 16"):
        toggle_group(rig, REF, 3, 16)
    with pytest.raises(Refused, match="There is no scene 16"):
        set_scene(rig, REF, 16, {})
    with pytest.raises(Refused, match="256 is no level"):
        set_scene(rig, REF, 1, {1: 256})
    with pytest.raises(Refused, match="Nothing is planned"):
        copy_gear(rig, REF, 9, [(REF, 1)])
    with pytest.raises(Refused, match="no other gear"):
        copy_gear(set_gear(rig, REF, [9], "")[0], REF, 9, [(REF, 9)])
