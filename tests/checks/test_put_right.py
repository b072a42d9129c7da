"""Findings that once named the wrong thing, or had a fix that did nothing or made another fault."""

from __future__ import annotations

from msgspec.structs import replace

from tests.survey.test_effects import rig_of_runs
from welvo.checks.checker import check_rig
from welvo.checks.registry import Finding
from welvo.demo.gallery import make_gallery
from welvo.formats.chart import read_chart
from welvo.patch.index import Index
from welvo.patch.table import text_of_cell
from welvo.rig import edits
from welvo.rig.document import Rig, put_entries
from welvo.rig.edits import set_port
from welvo.rig.patched import Element, Place
from welvo.rig.refs import PortRef
from welvo.rig.runs import Segment
from welvo.runs.edits import change_segment
from welvo.survey.target import find_target


def found(rig: Rig, code: str) -> list[Finding]:
    return [f for f in check_rig(rig).findings if f.code == code]


def test_how_far_past_the_end_counts_from_the_end_also_when_all_of_it_lies_outside() -> None:
    rig = rig_of_runs()
    high = replace(rig.fixtures["c"], at=(Place(universe="u1", address=506),))
    some, _ = put_entries(rig, "", fixtures={"c": high})
    assert found(some, "PATCH-02")[0].title == "303 ends 1 slot past universe 1"
    short, _ = edits.set_universe(some, "u1", "size", size=400)
    assert {f.title for f in found(short, "PATCH-02")} >= {"303 ends 113 slots past universe 1"}


def test_the_lamp_that_falls_off_its_bridge_is_named() -> None:
    narrow, _ = change_segment(rig_of_runs(), "n", "1", 1, "width", width=12)
    assert "302 ends past it: the highest address behind it is 16, its width 12" in found(narrow, "RUN-14")[0].reason


def test_one_place_is_not_two() -> None:
    rig = rig_of_runs()
    run = rig.devices["n"].ports["1"].run
    port = replace(rig.devices["n"].ports["1"], run=(run[0], replace(run[1], fixtures=("a", "b", "a"))))
    twice, _ = put_entries(rig, "", devices={"n": replace(rig.devices["n"], ports={"1": port})})
    (said,) = found(twice, "RUN-16")
    assert said.reason == "On BOX · 1, named twice there."
    fixed, _ = said.possible_fixes[0].edit(twice)  # type: ignore[misc]
    assert fixed != twice and not found(fixed, "RUN-16")
    assert not found(rig, "RUN-16")


def test_two_buses_on_the_same_slots_meet_and_the_fix_meets_nobody() -> None:
    rig = make_gallery()
    leat = next(k for k, d in rig.devices.items() if d.name == "LEAT")
    one, two = (PortRef(leat, label) for label in ("BUS 1", "BUS 2"))
    port = rig.devices[leat].ports["BUS 1"]
    both, _ = set_port(rig, *two, "as the other", feed=port.feed, start=port.start + 8, bus=port.bus)
    clashes = [f for f in found(both, "PATCH-01") if "BUS 1" in f.title and "BUS 2" in f.title]
    assert len(clashes) == 1 and "56 slots" in clashes[0].title, [f.title for f in clashes]
    fixed, _ = clashes[0].possible_fixes[0].edit(both)  # type: ignore[misc]
    assert not [f for f in found(fixed, "PATCH-01") if "BUS" in f.title]
    assert fixed.devices[leat].ports["BUS 1"] == both.devices[leat].ports["BUS 1"] and one != two


def test_a_lamp_behind_a_converter_is_patched_where_its_pixel_is() -> None:
    rig = rig_of_runs()
    lamps = Element(name="lamps", pixels=2, order="RGB", at=Place(from_run=True))
    run = (Segment(kind="pixels", element="e"),
           Segment(kind="lamps", element="L", fixtures=("a", "b"), functions=("V", "R", "G", "B")))  # fmt: skip
    port = replace(rig.devices["n"].ports["1"], run=run)
    rig, _ = put_entries(rig, "", elements={"L": lamps}, devices={"n": replace(rig.devices["n"], ports={"1": port})})
    index = Index(rig)
    assert (text_of_cell(index, "b", "first"), text_of_cell(index, "b", "last")) == ("1.034", "1.036")
    for name, address in (("lamps/1", 31), ("lamps/2", 34), ("302", 34)):
        target = find_target(index, name)
        assert (target.universe, target.address) == ("u1", address), name


def test_a_destination_with_leading_zeros_is_the_same_address() -> None:
    rig, _ = edits.set_feed(rig_of_runs(), "w2", "to", to="127.0.0.021")
    assert rig.feeds["w2"].to == "127.0.0.21"


def test_a_code_follows_the_name_unless_somebody_chose_it() -> None:
    rig, change = edits.add_profile(rig_of_runs(), replace(rig_of_runs().profiles["p"], name="New profile"))
    pid = change.made[0]
    assert rig.profiles[pid].code == "NEW"
    named, _ = edits.set_profile(rig, pid, "name", name="Eddy head")
    assert named.profiles[pid].code == "EDD"
    chosen, _ = edits.set_profile(rig, pid, "code", code="QQ")
    assert edits.set_profile(chosen, pid, "name", name="Eddy head")[0].profiles[pid].code == "QQ"


def test_findings_stand_in_natural_order() -> None:
    rig = rig_of_runs()
    high = {
        f"h{n}": replace(rig.fixtures["c"], number=n, at=(Place(universe="u2", address=510),)) for n in (9, 10, 100)
    }
    rig, _ = put_entries(rig, "", fixtures=high, elements={})
    numbers = [f.facts["fixture"] for f in found(rig, "PATCH-02") if f.facts["universe"] == 2]
    assert numbers == ["9", "10", "100"]


def test_where_a_port_configured_for_less_goes_dark_is_the_pixel_behind_its_last() -> None:
    rig = rig_of_runs()
    second = Element(name="second", pixels=10, at=Place(from_run=True))
    run = (Segment(kind="pixels", element="e"), Segment(kind="pixels", element="s"))
    for configured, dark in ((9, "pixel 10 of string"), (10, "pixel 1 of second"), (12, "pixel 3 of second")):
        port = replace(rig.devices["n"].ports["1"], run=run, pixels=configured)
        made, _ = put_entries(
            rig, "", elements={"s": second}, devices={"n": replace(rig.devices["n"], ports={"1": port})}
        )
        (said,) = found(made, "RUN-32")
        assert f"dark from {dark} on" in said.reason and said.title.startswith(f"The last {20 - configured} pixel")


def test_a_break_longer_than_a_universe_is_named_by_its_number() -> None:
    rig = rig_of_runs()
    mode = read_chart("break A: dimmer\nbreak B: gap 512, dimmer").mode_of_chart("long")
    rig, _ = put_entries(rig, "", profiles={"x": replace(rig.profiles["p"], modes={"m": mode})})
    (said,) = found(rig, "PROF-03")
    assert said.facts == {"break": 2, "slots": 513} and "break 2 needs 513 slots" in said.title
