from __future__ import annotations

import pytest
from msgspec.structs import replace

from welvo.demo.gallery import make_gallery
from welvo.observed.presence import presence_of
from welvo.observed.values import NOTHING, DeviceAnswer, Event, Heard, HeardPort, Observed, Written
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.notation import read_mac
from welvo.rig.plan import planned_settings
from welvo.settings.artnet import heard_port, reported_settings
from welvo.settings.compare import compare_settings, lines_that_differ

PORTS = (
    HeardPort(2, 0, True, "artnet", 2),
    HeardPort(1, 1, False, "artnet", 9),
    HeardPort(1, 0, True, "sacn", 5, ltp=True),
)


def observed(at: float = 100.0, **more: object) -> Observed:
    return Observed(heard={"127.0.0.60": Heard("127.0.0.60", "BOX", ports=PORTS, at=at)}, **more)  # type: ignore[arg-type]


def test_outputs_stand_in_the_order_printed_on_the_box(rig: Rig) -> None:
    model, heard = rig.device_models["mod"], observed().heard["127.0.0.60"]
    a, b = heard_port(model, heard, "A"), heard_port(model, heard, "B")
    assert (
        a and b and (a.page, a.wire) == (1, 5) and (b.page, b.wire) == (2, 2) and heard_port(model, heard, "C") is None
    )
    assert reported_settings(model, heard)["A.merge"] == "latest" and reported_settings(model, heard)["name"] == "BOX"


def test_each_setting_gets_the_mark_it_deserves(rig: Rig) -> None:
    marks = {x.key: x.mark for x in compare_settings(rig, observed(), "d", 101.0)}
    assert marks == {
        "ip": "matches", "name": "silent", "A.protocol": "matches", "A.universe": "differs", "A.merge": "silent",
        "B.protocol": "matches", "B.universe": "matches", "B.merge": "silent",
    }  # fmt: skip
    assert [x.key for x in lines_that_differ(compare_settings(rig, observed(), "d", 101.0))] == ["A.universe"]


def test_silence_is_not_agreement(rig: Rig) -> None:
    assert {x.mark for x in compare_settings(rig, NOTHING, "d", 0.0) if x.plan is not None} == {"unknown"}
    assert {x.mark for x in compare_settings(rig, observed(), "d", 110.1) if x.plan is not None} == {"unknown"}
    assert presence_of(observed(), "127.0.0.60", 110.0).is_there and not presence_of(observed(), "", 0.0).is_there


def test_a_pushed_value_is_claimed_until_the_box_says_it_itself(rig: Rig) -> None:
    written = {"d": {"A.universe": Written(1, 100.5)}}
    line = {x.key: x for x in compare_settings(rig, observed(written=written), "d", 101.0)}["A.universe"]
    assert line.mark == "claimed"
    later = {x.key: x for x in compare_settings(rig, observed(at=101.0, written=written), "d", 101.5)}["A.universe"]
    assert later.mark == "differs"  # it answered, and still says 5: the push did not take
    other, _ = edits.set_feed(rig, "w1", "", wire=6)
    assert {x.key: x for x in compare_settings(other, observed(written=written), "d", 101.0)}[
        "A.universe"
    ].mark == "differs"


def test_a_device_of_an_unknown_model_has_no_lines(rig: Rig) -> None:
    assert compare_settings(replace(rig, device_models={}), observed(), "d", 0.0) == []


def test_the_log_keeps_the_last_500_events() -> None:
    seen = NOTHING
    for n in range(600):
        seen = seen.note_event(Event(float(n), "d", "x", str(n)))
    assert len(seen.log) == 500 and seen.log[0].what == "100"


def test_a_setting_that_a_firmware_lacks_nags_nobody(rig: Rig) -> None:
    rig, _ = edits.plan_setting(rig, "d", "A.merge", "highest")
    line = {x.key: x for x in compare_settings(rig, observed(), "d", 101.0)}["A.merge"]
    assert (line.mark, line.plan) == ("differs", "highest")
    lacking, change = edits.set_lacking(rig, "d", "A.merge", True)
    gone = {x.key: x for x in compare_settings(lacking, observed(), "d", 101.0)}["A.merge"]
    assert (gone.mark, gone.plan) == ("silent", None) and "lacks" in change.label
    assert edits.set_lacking(lacking, "d", "A.merge", False)[0] == rig
    with pytest.raises(Refused, match="has no setting"):
        edits.set_lacking(rig, "d", "A.luck", True)


def test_what_a_device_does_not_report_is_no_difference_where_it_would_stand_at_its_factory_value() -> None:
    rig = make_gallery()
    pen, device = next((k, d) for k, d in rig.devices.items() if d.name == "PENSTOCK")
    model = rig.device_models[device.model]
    spec = next(s for s in model.settings if s.scope == "device" and s.type == "number" and s.writable)
    said = Observed(said={device.ip: DeviceAnswer(100.0, {"ip": device.ip})}, listening=True)
    other = next(n for n in (spec.low, spec.high) if n != spec.factory)
    for value, mark in ((spec.factory, "unknown"), (other, "differs")):
        planned = planned_settings(rig, pen) | {spec.key: value}
        lines = {x.key: x.mark for x in compare_settings(rig, said, pen, 101.0, planned)}
        assert lines[spec.key] == mark


@pytest.mark.parametrize(("typed", "is_read"), [("", ""), ("02-4A-00-1f-33-07", "02:4a:00:1f:33:07"),
    (" 024a001f3307", "02:4a:00:1f:33:07"), ("02:4a:00:1f:33", None), ("02:4a:00:1f:33:0g", None)])  # fmt: skip
def test_a_mac_is_read_however_it_is_printed(typed: str, is_read: str | None) -> None:
    if is_read is None:
        with pytest.raises(Refused, match="is no MAC"):
            read_mac(typed)
    else:
        assert read_mac(typed) == is_read
