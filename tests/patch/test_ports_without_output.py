"""Ports that give nothing out, and limits that are the device's or the universe's own."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.checks.run_examples import cabled, reef
from welvo.checks.checker import check_rig
from welvo.observed.values import NOTHING
from welvo.patch.adding import patch_series
from welvo.patch.index import Index
from welvo.patch.landing import foresee_landing
from welvo.patch.laying import Laying, lay_out_items
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.edits import remove_device, set_port, set_universe
from welvo.rig.patched import Element, Place
from welvo.rig.wiring import OutputMode, Port
from welvo.runs.edits import set_device_way, set_model, switched_off
from welvo.survey import capacity
from welvo.survey.path import path_to_target
from welvo.survey.target import find_target
from welvo.survey.wires import ports_by_feed


@pytest.fixture
def half(rig: Rig) -> Rig:
    """Node NODE of ports A and B; its mode “half” switches B off."""
    model = replace(rig.device_models["mod"], modes=(OutputMode(name="half", off=("B",)),))
    return put_entries(rig, "", device_models={"mod": model})[0]


def test_a_port_that_its_mode_switches_off_takes_nothing(half: Rig) -> None:
    assert switched_off(half, "d", "half") == (["B"], []) and switched_off(half, "d", "") == ([], [])
    off, _ = set_device_way(half, "d", "", mode="half")
    index = Index(off)
    assert [p.port for ports in ports_by_feed(index).values() for p in ports] == ["A"]
    assert next((r.unit, r.used, r.possible) for r in capacity.device_rows(index)) == ("ports", 1, 1)
    codes = {f.code: f for f in check_rig(off).findings}
    assert codes["RUN-12"].title == "Port B is planned to take Art 0/0/2, and nothing comes out of it"
    assert codes["FEED-07"].facts["universe"] == 2
    fixed, _ = codes["RUN-12"].possible_fixes[0].edit(off)  # type: ignore[misc]
    assert fixed.devices["d"].ports["B"].feed == "" and "RUN-12" not in check_rig(fixed).codes_found
    shown = path_to_target(index, NOTHING, find_target(index, "2.001"), 0)
    assert [h.role for h in shown.hops][-1] == "device" and shown.joints[-1].word_for_joint == "nobody takes it"


def test_what_is_attached_to_a_dead_port_is_said_on_its_path(rig: Rig) -> None:
    made, _ = cabled("", reef(), m_modes=(OutputMode(name="off", off=("1",)),), d_mode="off")(rig)
    assert switched_off(replace(made, devices={"p": replace(made.devices["p"], mode="")}), "p", "off") == (["1"], ["r"])
    shown = path_to_target(Index(made), NOTHING, find_target(Index(made), "reef"), 0)
    joint = next(j for h, j in zip(shown.hops[1:], shown.joints) if h.role == "port")
    assert (joint.mark, joint.takes) == ("differs", "mode “off” switches it off")


def test_a_port_that_the_model_lacks_is_refused_and_goes_with_a_smaller_model(half: Rig) -> None:
    with pytest.raises(Refused, match="has no port C; it has A, B"):
        set_port(half, "d", "C", "", feed="w1")
    smaller = replace(half.device_models["mod"], ports=("A",), modes=())
    new, _ = set_model(half, "mod", smaller)
    assert list(new.devices["d"].ports) == ["A"]
    hung, _ = put_entries(
        half, "", devices={"d": replace(half.devices["d"], ports={"B": Port(feed="w1", run=(reef(),))})}
    )
    kept, _ = set_model(hung, "mod", smaller)
    assert kept.devices["d"].ports["B"].run and "RUN-12" in check_rig(kept).codes_found


def test_a_device_taken_away_leaves_a_finding_for_what_it_took(rig: Rig) -> None:
    other = replace(rig.devices["d"], name="OTHER", ports={"A": Port()})
    two, _ = put_entries(rig, "", devices={"e": other})
    assert "FEED-07" not in check_rig(two).codes_found
    left, _ = remove_device(two, "d")
    assert sorted(f.facts["universe"] for f in check_rig(left).findings if f.code == "FEED-07") == [1, 2]


def test_a_device_that_takes_fewer_slots_of_a_universe_ends_it_there(rig: Rig) -> None:
    short, _ = put_entries(rig, "", devices={"d": replace(rig.devices["d"], size=100)})
    assert Index(short).limit_of_universe("u1") == (100, "port A of NODE puts out 100")


def test_a_stream_in_universes_of_510_reaches_to_510(rig: Rig) -> None:
    made, _ = cabled("", reef(), p_pixels=170)(rig)
    for uid in ("u11", "u12"):
        made, _ = set_universe(made, uid, "", size=510)
    told = next(f for f in check_rig(made).findings if f.code == "RUN-20")
    assert told.reason == "Port 1 for 170 with 10, to 11.510."


def test_a_start_where_no_whole_pixel_fits_is_refused_with_the_highest(rig: Rig) -> None:
    wall = Element(name="wall", pixels=20, order="RGB", at=Place())
    made, _ = put_entries(rig, "", elements={"w": wall})
    index = Index(made)
    with pytest.raises(Refused, match=r"from 1\.511 none fits into universe 1\. The highest start is 1\.510"):
        patch_series(index, [("w", 0)], "1.511")
    assert foresee_landing(index, "w", 0, "u1", 511).refused == "no whole pixel fits there; the highest start is 510"
    assert not foresee_landing(index, "w", 0, "u1", 510).refused
    with pytest.raises(Refused, match="A spacing of 40 is less than the 60 slots"):
        lay_out_items(index, [("w", 0)], Laying(start=("u1", 1), pattern="spacing", by=40))
