"""What is found about lamp buses, planned and searched."""

from __future__ import annotations

from msgspec.structs import replace

from tests.buses.test_plan import REF, rig_with_bus
from tests.conftest import at
from welvo.buses.edits import set_bus, set_gear
from welvo.buses.inputs import Case, inputs_of, truth_table
from welvo.checks.checker import Checker, check_rig
from welvo.checks.registry import Finding
from welvo.formats.models import shipped_models
from welvo.observed.values import BusSeen, GearSeen, Observed
from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.buses import Gear
from welvo.rig.document import Rig
from welvo.rig.refs import Goto

WHERE = ("127.0.0.70", "BUS 1")


def seen(*gear: GearSeen, strays: bool = False) -> Observed:
    return Observed(buses={WHERE: BusSeen(gear, strays, 9.0)})


def found(rig: Rig, observed: Observed = Observed()) -> dict[str, Finding]:  # noqa: B008
    findings = [f for f in check_rig(rig, observed).findings if f.code.startswith("BUS")]
    assert len({(f.code, f.subject) for f in findings}) == len(findings)
    return {f.code: f for f in findings}


def healed(rig: Rig, f: Finding) -> Rig:
    """The rig after a finding's first fix, which takes the finding away."""
    edit = f.possible_fixes[0].edit
    assert edit
    after, _ = edit(rig)
    assert f.code not in found(after)
    return after


def test_a_bus_that_runs_past_512_can_begin_earlier() -> None:
    f = found(rig_with_bus(500, addressing="groups"))["BUS-01"]
    assert f.reason == "16 slots from 500 on; its last 3 places get nothing." and f.facts["past"] == 3
    assert f.goes_to == Goto("bus", "g", "BUS 1") and f.possible_fixes[0].label == "Begin at 2.497"
    assert healed(rig_with_bus(500, addressing="groups"), f).devices["g"].ports["BUS 1"].start == 497


def test_a_bus_that_takes_too_long_says_how_long() -> None:
    assert not found(rig_with_bus(200))  # 64 levels: 1.77 s
    slow = rig_with_bus(200, control="rgb", every=2.0)
    f = found(slow)["BUS-02"]
    assert f.title == "BUS 1 of LEAT takes 12.4 s for a change of everything"
    assert f.reason == "64 places of RGB are 448 frames; 2 s are wanted."
    assert healed(slow, f).devices["g"].ports["BUS 1"].bus.every == 13  # type: ignore[union-attr]


def test_colour_for_gear_that_has_none_by_plan_and_by_search() -> None:
    rig = rig_with_bus(200, control="rgb", every=60, gear=(Gear(at=1, kind=6), Gear(at=2, kind=8), Gear(at=3)))
    assert found(rig)["BUS-03"].reason == "Gear 1: not of the colour type."
    observed = seen(GearSeen(1, (8,)), GearSeen(2, (6,)), GearSeen(3, (6, 8)))
    f = found(rig, observed)["BUS-03"]
    assert f.facts["gear"] == "2" and f.goes_to == Goto("bus", "g", "BUS 1", 2)
    healed(rig, f)


def test_a_lamp_that_stands_elsewhere_than_its_gear() -> None:
    rig = rig_with_bus(201, gear=(Gear(at=4, name="Cove", fixture="c"),))
    f = found(rig)["BUS-04"]
    assert f.title == "201 stands at 2.001, gear 4 listens to 2.205" and f.items == ("c",)
    after = healed(rig, f)
    assert after.fixtures["c"].at == at(2, 205)
    locked, _ = edits.set_fixtures(rig, "", {"c": {"at": (replace(rig.fixtures["c"].at[0], locked=True),)}})
    assert not found(locked)["BUS-04"].possible_fixes


def leat() -> Rig:
    rig = rig_with_bus()
    return replace(rig, device_models={**rig.device_models, "leat": shipped_models()["leat-2"]})


def test_inputs_as_tables_with_the_broken_wire() -> None:
    assert "BUS-05" not in found(leat())
    rig, _ = edits.plan_setting(leat(), "g", "in2_use", "alarm")
    rig, _ = edits.plan_setting(rig, "g", "in2_scene", 15)
    f = found(rig)["BUS-05"]
    assert f.title == "A cut wire at input 2 of LEAT goes unnoticed"
    closed = healed(rig, f)
    one, two = inputs_of(closed.device_models["leat"], closed.devices["g"].settings)
    assert truth_table(one) == [Case("anything", "–", "nothing", "the input is off", True)]
    rest, acts, broken = truth_table(two)
    assert (rest.loop, acts.loop, broken.loop) == ("closed", "open", "open")
    assert (acts.does, acts.remark) == ("scene 15 on both buses", "held while it lasts")
    assert broken.does == acts.does and broken.good
    trigger = truth_table(two._replace(use="trigger", closed=False, bus="BUS 1"))
    assert [c.loop for c in trigger] == ["open", "closed", "open"] and trigger[2][2:] == (
        "nothing",
        "nobody notices",
        True,
    )


def test_what_a_search_found_wrong() -> None:
    rig = rig_with_bus(201, gear=(Gear(at=0, name="Cove 1"), Gear(at=1, fixture="c"), Gear(at=2, fade_time=4)))
    rig, _ = edits.set_fixtures(rig, "", {"c": {"at": at(2, 202)}})
    good = GearSeen(2, (6,), deep=True, fade_time=4, status=0b100)
    observed = seen(GearSeen(0, (6,), doubled=True), good, GearSeen(9, (6,), 0b10), strays=True)
    here = found(rig, observed)
    assert set(here) == {"BUS-06", "BUS-07", "BUS-08", "BUS-09"}
    assert here["BUS-06"].goes_to == Goto("bus", "g", "BUS 1", 0)
    assert here["BUS-07"].reason == "Planned and not found: gear 1." and here["BUS-07"].items == ("c",)
    assert here["BUS-08"].title == "BUS 1 has 1 gear at 9 and gear without a short address that nobody planned"
    assert here["BUS-09"].title == "Gear 9 on BUS 1: its lamp does not light"
    off = found(rig, seen(*(GearSeen(n, (6,)) for n in (0, 1)), replace(good, fade_time=0)))
    assert off["BUS-10"].reason == "Gear 2: fade time plan 2.0 s, gear no fade." and set(off) == {"BUS-10"}


def test_following_edits_and_observations_finds_the_same() -> None:
    rig = rig_with_bus(201, gear=(Gear(at=4, fixture="c"),))
    index = Index(rig)
    checker = Checker(index)
    for observed in (seen(GearSeen(4, (6,))), seen(GearSeen(5, (6,)), strays=True), seen()):
        checker.take_observations(observed, 5.0)
        assert checker.report_findings == check_rig(index.rig, observed, 5.0)
    for step in (
        lambda r: edits.move_item(r, "c", 0, "u2", 205),
        lambda r: edits.move_item(r, "c", 0, "u2", 300),
        lambda r: set_bus(r, REF, "", control="rgb"),
        lambda r: edits.set_port(r, "g", "BUS 1", "", start=400),
        lambda r: set_gear(r, REF, [4], "", fixture="", kind=6),
        lambda r: edits.set_port(r, "g", "BUS 1", "", feed=""),
        lambda r: edits.remove_device(r, "g"),
    ):
        after, change = step(index.rig)
        checker.follow_edit(change, index.follow_change(after, change))
        assert checker.report_findings == check_rig(after, checker.context.observed, 5.0)
