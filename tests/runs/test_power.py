"""Power along a run: three cases worked by hand, and who has to give how much."""

from __future__ import annotations

from msgspec.structs import replace

from tests.checks.run_examples import SILK, cabled, px, reef
from welvo.rig.document import Rig
from welvo.rig.runs import PixelType, Segment, Supply
from welvo.runs.cable import Cables
from welvo.runs.power import (
    along_string,
    frame_ms,
    joints_of_port,
    loads_of_supplies,
    pixel_amps,
    stretches_of_port,
    voltage_drop,
)


def test_case_1_a_lead_of_five_metres() -> None:
    """ΔU = 2 · 0.0175 Ω·mm²/m · 5 m · 3 A / 1.5 mm² = 0.35 V."""
    assert abs(voltage_drop(5, 3, 1.5) - 0.35) < 1e-12
    assert voltage_drop(5, 3, 0) == 0  # an unknown cross-section is not guessed at


def test_case_2_four_pixels_of_one_ampere() -> None:
    """1 m apart on 0.035 mm²: 2 · 0.0175 · 1 / 0.035 = 1 V for each ampere and metre. 3 A, 2 A, 1 A flow in the three
    stretches between the four pixels: 10, 7, 5, 4 V."""
    kind = PixelType(name="x", pitch=1000, area=0.035)
    assert [round(v, 9) for v in along_string(kind, 4, 1.0, 0.0, 10.0)] == [10, 7, 5, 4]
    # with 2 A more that flow on at the end: 5, 4, 3 A
    assert [round(v, 9) for v in along_string(kind, 4, 1.0, 2.0, 20.0)] == [20, 15, 11, 8]


def test_case_3_a_ribbon_of_100_behind_ten_metres_of_cable(rig: Rig) -> None:
    """100 pixels of 3 · 20 mA at 50 % take 3 A. Ten metres of 2.5 mm² lose 2 · 0.0175 · 10 · 3 / 2.5 = 0.42 V: 4.58 V
    at its beginning. In the ribbon, 20 mm and 0.5 mm² from pixel to pixel, 0.0014 V for each ampere; 99 + 98 + … + 1 =
    4950
    steps of 30 mA lose 0.0014 · 4950 · 0.03 = 0.2079 V: 4.3721 V at its end."""
    made, _ = cabled("", reef(length=10, area=2.5), element=px(100, type="silk"), p_brightness=0.5)(rig)
    cables = Cables(made)
    (s,) = stretches_of_port(cables, cables.streams["p", "1"])
    assert (round(s.amps, 9), round(s.volts, 6), round(s.end, 6), s.below) == (3.0, 4.58, 4.3721, 0)
    full, _ = cabled("", reef(length=10, area=2.5), element=px(100, type="silk"))(rig)
    cables = Cables(full)
    (s,) = stretches_of_port(cables, cables.streams["p", "1"])
    # at full white all losses double: 4.16 V to begin with, and the chips' 4 V end after pixel p with
    # 0.0014 · 0.06 · (99 + 98 + … + (101 − p)) > 0.16, that is more than 1904.8 steps: 99 + … + 78 = 1947 → p = 23
    assert (round(s.volts, 6), s.below) == (4.16, 23)


def test_currents_follow_model_component_and_brightness() -> None:
    kind = replace(SILK, currents=(10, 20, 30), idle=2)
    assert round(pixel_amps(kind) * 1000, 6) == 62
    assert round(pixel_amps(kind, 0.5) * 1000, 6) == 32
    assert round(pixel_amps(kind, 1.0, {"G": 1.0}) * 1000, 6) == 22


def test_a_supply_feeds_what_hangs_behind_it_until_the_next(rig: Rig) -> None:
    elements = {
        "r": px(50, type="silk"),
        "q": replace(px(50, type="silk"), name="spar"),
        "t": replace(px(50, type="silk"), name="tern"),
    }
    run = (reef(), Segment(kind="pixels", element="q", supply="tin"), Segment(kind="pixels", element="t"))
    made, _ = cabled(
        "",
        *run,
        element=px(50, type="silk"),
        rig={"elements": elements, "supplies": {"tin": Supply(name="Tin", volts=5, amps=5)}},
        m_port_amps=2.0,
    )(rig)
    cables = Cables(made)
    assert [(x.kind, x.name, round(x.amps, 6), x.rated) for x in loads_of_supplies(cables)] == [
        ("port", "PEN 1", 3.0, 2.0), ("device", "PEN", 3.0, 0.0), ("supply", "Tin", 6.0, 5),
    ]  # fmt: skip
    a, b, c = stretches_of_port(cables, cables.streams["p", "1"])
    assert (round(a.through, 6), round(b.through, 6), round(c.through, 6)) == (3.0, 6.0, 3.0)
    assert b.volts == 5.0 and c.volts < 5.0


def test_wires_are_joined_by_what_they_do(rig: Rig) -> None:
    wires = (("V+", "red"), ("data", "black"), ("ground", "green"))
    made, _ = cabled("", reef(), element=px(10, type="silk"), m_wires=wires, m_connector="JST", m_sex="male")(rig)
    cables = Cables(made)
    (joint,) = joints_of_port(cables, cables.streams["p", "1"])
    assert joint.wires == (("V+", "red", "red"), ("data", "black", "green"), ("ground", "green", "black"))
    assert joint.wrong[0] == "both sides are male" and "join by function, not by colour" in joint.wrong[1]


def test_strings_of_a_kind_join_and_parts_of_one_string_are_no_joint(rig: Rig) -> None:
    more = {"q": replace(px(4, type="silk"), name="weed"), "x": replace(px(4), name="moss")}
    run = (reef(count=6), reef(first=7), Segment(kind="extension", length=2), Segment(kind="pixels", element="q"),
           Segment(kind="pixels", element="x"), Segment(kind="pixels", element="q"))  # fmt: skip
    made, _ = cabled("", *run, element=px(10, type="silk"), rig={"elements": more}, m_connector="JST", m_sex="female")(
        rig
    )
    cables = Cables(made)
    found = joints_of_port(cables, cables.streams["p", "1"])
    # its other end is the counterpart of its first; of moss nobody knows what it ends in
    assert [(j.n, j.one, j.other, j.wrong) for j in found] == [
        (0, "port 1", "reef 1–6", ()),
        (3, "reef 7–10", "weed", ()),
        (5, "moss", "weed", ()),
    ]


def test_a_frame_takes_ten_microseconds_a_component_and_the_pause(rig: Rig) -> None:
    """100 RGB pixels and 10 null pixels: 110 · 3 · 10 µs + 300 µs = 3.6 ms."""
    made, _ = cabled("", reef(), Segment(kind="null", count=10), element=px(100, type="silk"))(rig)
    cables = Cables(made)
    assert round(frame_ms(cables, cables.streams["p", "1"]), 6) == 3.6
    silk = replace(made.pixel_types["silk"], reset_us=0.0)
    cables = Cables(replace(made, pixel_types={**made.pixel_types, "silk": silk}))
    assert round(frame_ms(cables, cables.streams["p", "1"]), 6) == 3.3  # a kind that needs no pause gets none
