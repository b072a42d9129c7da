"""What is set on a lamp itself: its address on the line it hangs on, whatever slots of a universe carry it."""

from __future__ import annotations

import pytest
from click.testing import CliRunner
from msgspec.structs import replace

from welvo.checks.checker import check_rig
from welvo.cli import app
from welvo.formats.rigfile import save_rig_file
from welvo.patch.index import Index
from welvo.patch.set_on import set_on
from welvo.rig import edits
from welvo.rig.document import Rig, put_entries
from welvo.rig.patched import Element, Place
from welvo.rig.profile import AddressSetting
from welvo.rig.runs import Segment
from welvo.rig.wiring import Device, DeviceModel, Port
from welvo.survey.place_ways import place_ways
from welvo.survey.target import find_target
from welvo.survey.wires import wire_table


@pytest.fixture
def hung(rig: Rig) -> Rig:
    """120 RGB pixels on a port, a bridge behind them with 101 and 102; 201 behind a converter on the next port.

    The bridge begins on slot 361 of universe 1; 102 stands on DMX 9 behind it, which is 1.369 there.
    """
    run = (
        Segment(kind="pixels", element="r"),
        Segment(kind="bridge", width=66, fixtures=("a", "b")),
    )
    lamps = Segment(kind="lamps", fixtures=("x", "c"), functions=("V", "R", "G", "B"), start=31, count=2)
    model = DeviceModel(name="Pixels", kind="pixel", ports=("1", "2"), pixels_per_port=680)
    on_cable = {k: replace(rig.fixtures[k], at=(Place(from_run=True),)) for k in "ab"}
    out, _ = put_entries(
        rig, "", fixtures={**on_cable, "c": replace(rig.fixtures["c"], at=())},
        elements={"r": Element(name="string", pixels=120, at=Place(from_run=True))}, device_models={"px": model},
        devices={
            "d": None,
            "box": Device(
                name="BOX", model="px", ports={"1": Port(feed="w1", run=run), "2": Port(feed="w2", run=(lamps,))}
            )
        },
    )  # fmt: skip
    return out


def test_behind_a_bridge_or_a_converter_it_is_the_address_on_that_line(hung: Rig) -> None:
    index = Index(hung)
    assert [(s.universe, s.first) for s in index.spans_of("b")] == [("u1", 369)]
    assert set_on(index, "b")[:2] == (9, "behind the bridge on port 1 of BOX")
    assert set_on(index, "c")[:2] == (35, "behind the converter on port 2 of BOX")
    typed, _ = edits.move_item(hung, "b", 0, "u1", 400)
    assert set_on(Index(typed), "b").address == 40  # slot 400 is 40 behind the bridge
    assert set_on(Index(hung), "a").place == ("box", "1", 1)


def test_in_a_universe_it_is_its_first_slot_and_without_an_address_there_is_none(rig: Rig) -> None:
    assert set_on(Index(rig), "b") == (9, "", None)
    bare, _ = edits.set_fixtures(rig, "", {"b": {"at": ()}})
    assert set_on(Index(bare), "b") == (0, "", None)


def test_path_rule_and_command_line_say_the_same(hung: Rig, tmp_path: object) -> None:
    short = replace(hung.profiles["head"], address=AddressSetting(by="menu", highest=100))
    made, _ = put_entries(hung, "", profiles={"head": short})
    index = Index(made)
    ways = dict(place_ways(index, find_target(index, "102")))
    assert ways["Set on it"] == "set 009 in its menu"
    assert "PATCH-11" not in check_rig(made).codes_found  # 369 is out of its reach, 9 is not
    far, _ = put_entries(
        made, "", devices={"box": replace(made.devices["box"], ports={
            **made.devices["box"].ports,
            "1": replace(made.devices["box"].ports["1"], run=(
                made.devices["box"].ports["1"].run[0],
                replace(made.devices["box"].ports["1"].run[1], width=200, dmx={"b": 120}),
            )),
        })},
    )  # fmt: skip
    (f,) = [f for f in check_rig(far).findings if f.code == "PATCH-11"]
    assert (
        f.title == "102 cannot be set to 120"
        and "behind the bridge on port 1 of BOX" in f.reason
        and not f.possible_fixes
    )
    from pathlib import Path

    file = Path(str(tmp_path)) / "r.json"
    save_rig_file(made, file)
    assert "set 009 in its menu" in CliRunner().invoke(app, ["path", str(file), "102"]).output


def test_a_universe_that_a_port_runs_on_into_is_taken_by_it(hung: Rig) -> None:
    """The string is 200 pixels long now: 600 slots, of which 88 stand in universe 2."""
    long, _ = put_entries(hung, "", elements={"r": replace(hung.elements["r"], pixels=200)})
    rows = {r.feed: r.takers for r in wire_table(Index(long))}
    assert rows == {"w1": "BOX 1", "w2": "BOX 2, BOX 1"}
    assert {r.feed: r.takers for r in wire_table(Index(hung))} == {"w1": "BOX 1", "w2": "BOX 2"}
