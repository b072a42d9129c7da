"""Bridges, converters and DMX lines, with numbers worked out by hand."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.checks.run_examples import RUN, _lamps, bridge, cabled, px, reef
from tests.conftest import profile
from welvo.bench.levels import Levels, faders_of_selection
from welvo.checks.checker import check_rig
from welvo.observed.values import NOTHING
from welvo.patch.index import Index
from welvo.patch.set_on import set_on
from welvo.patch.table import text_of_cell
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.patched import Place
from welvo.rig.runs import Segment
from welvo.rig.wiring import DeviceModel
from welvo.runs.bridge import (
    colour_in_its_place,
    demands_of_bridge,
    first_free,
    gaps_behind,
    goes_on,
    meetings_behind,
    pixels_worth,
    rows_behind_bridge,
    set_right,
)
from welvo.runs.brightness import brightness_factors, product_of_factors, say_percent, scale_byte
from welvo.runs.cable import Cables, Piece, PortStream
from welvo.runs.edits import change_segment
from welvo.runs.lamps import (
    channels_driven,
    lamps_past_end,
    not_driven,
    read_functions,
    say_functions,
    slot_map,
    slots_of_lamp,
)
from welvo.runs.power import brightness_at
from welvo.survey.lines import adapter_between, contacts_of_adapter, line_sum
from welvo.survey.path import path_to_target
from welvo.survey.target import find_target


def bridged(rig: Rig, width: int = 64, **fields: object) -> tuple[Rig, Cables, PortStream, Piece]:
    """Ten RGB pixels, then a bridge with three four-slot lamps, at DMX 1, 5 and 20."""
    made, _ = cabled("", reef(), bridge(width, ("g1", "g2", "g3"), dmx={"g3": 20}), rig=_lamps(3), **fields)(rig)
    cables = Cables(made)
    stream = cables.streams["p", "1"]
    return made, cables, stream, stream.pieces[1]


def test_dmx_address_a_behind_a_bridge_that_begins_at_b_is_slot_b_plus_a_minus_1(rig: Rig) -> None:
    made, cables, stream, piece = bridged(rig)
    assert piece.stream == 31 and pixels_worth(piece) == 22  # 64 slots fill 22 RGB pixels
    behind = rows_behind_bridge(cables, stream, piece)
    assert [(r.name, r.dmx, r.last, r.stream, r.places) for r in behind] == [
        ("301", 1, 4, 31, (((11, 31), (11, 34)),)),
        ("302", 5, 8, 35, (((11, 35), (11, 38)),)),
        ("303", 20, 23, 50, (((11, 50), (11, 53)),)),
    ]
    assert (
        gaps_behind(behind, 64) == [(9, 19), (24, 64)]
        and meetings_behind(behind) == []
        and first_free(behind, 12) == 24
        and first_free(behind, 11) == 9
    )
    assert [(s.universe, s.first) for s in Index(made).spans_of("g3")] == [("u11", 50)]
    shown = path_to_target(Index(made), NOTHING, find_target(Index(made), "11.050"), 0)
    assert [(h.role, h.value) for h in shown.hops[-3:]] == [("port", "1"), ("bridge", "DMX 20"), ("lamp", "20")]
    assert dict(shown.ways)["Running in device"] == "px 17 · slot 50"


def test_brightness_is_the_exact_product_and_bytes_are_cut_off(rig: Rig) -> None:
    made, cables, stream, piece = bridged(rig, p_brightness=0.8, d_brightness=0.9)
    chain = brightness_factors(made, stream, piece)
    assert [f.who for f in chain] == ["sender Bench", "player of Bench", "PEN", "port 1", "segment"]
    assert say_percent(product_of_factors(chain)) == "72 %"
    assert scale_byte(255, product_of_factors(chain)) == ("183.6", 183)  # 255 · 0.8 · 0.9 = 183.6
    wrong = {d.what: d.says for d in demands_of_bridge(cables, stream, piece) if not d.holds}
    assert list(wrong) == ["brightness 100 %"] and "255 arrives as 183 (183.6 cut off)" in wrong["brightness 100 %"]


def test_a_brightness_that_overrides_stands_in_for_those_above_it_on_the_device(rig: Rig) -> None:
    made, cables, stream, piece = bridged(rig, p_brightness=0.4, d_brightness=0.9)
    right, _ = change_segment(made, "p", "1", 1, overrides=True)
    assert "RUN-14" not in check_rig(right).codes_found
    cables = Cables(right)
    bridge_piece = cables.streams["p", "1"].pieces[1]
    assert [f.who for f in brightness_factors(right, stream, bridge_piece)] == [
        "sender Bench",
        "player of Bench",
        "segment",
    ]
    assert brightness_at(right, stream, bridge_piece) == 1 and brightness_at(right, stream, stream.pieces[0]) == 0.36
    dim, _ = put_entries(right, "", senders={"s": replace(right.senders["s"], brightness=0.5)})
    assert "RUN-14" in check_rig(dim).codes_found  # what the sender scales stays scaled
    made, cables, stream, piece = bridged(rig, p_brightness=0.5, p_overrides=True, d_brightness=0.9)
    assert product_of_factors(brightness_factors(made, stream, piece)) == 0.5


def test_everything_that_spoils_dmx_is_found_and_set_right_at_once(rig: Rig) -> None:
    made, *_ = bridged(rig, width=12, p_gamma=2.2, p_dither=True)
    made, _ = change_segment(made, "p", "1", 1, order="GRB", fold=3, brightness=0.5)
    feeds = {k: replace(f, rate=60) for k, f in made.feeds.items() if k == "w11"}
    made, _ = put_entries(made, "", senders={"s": replace(made.senders["s"], player=0.5)}, feeds=feeds)
    cables = Cables(made)
    stream = cables.streams["p", "1"]
    wrong = [d.what for d in demands_of_bridge(cables, stream, stream.pieces[1]) if not d.holds]
    assert len(wrong) == 7, wrong
    assert "RUN-14" in check_rig(made).codes_found
    right, change = set_right(made, "p", "1", 1)
    assert "RUN-14" not in check_rig(right).codes_found and {"devices", "senders", "feeds"} <= set(change.touched)
    segment = right.devices["p"].ports["1"].run[1]
    assert (segment.width, segment.order, segment.fold, segment.dmx) == (23, "", 0, {"g3": 20})
    assert right.senders["s"].player == 1 and right.feeds["w11"].rate == 44


def test_a_plain_pixel_in_the_bridges_place_shows_the_first_three_slots(rig: Rig) -> None:
    _, cables, stream, piece = bridged(rig)
    assert colour_in_its_place(cables, stream, piece, (255, 0, 0)).word == "red"
    assert colour_in_its_place(cables, stream, piece, (0, 255, 255)).word == "cyan"
    assert colour_in_its_place(cables, stream, piece, (0, 0, 0)).word == "dark"
    assert (
        colour_in_its_place(cables, stream, piece, (255, 0, 0), chip="GRB").word == "green"
    )  # another kind of plain pixel
    dim, cables, stream, piece = bridged(rig, p_brightness=0.4)
    assert colour_in_its_place(cables, stream, piece, (255, 255, 0)) == (102, 102, 0, "dim yellow")
    swapped, _ = change_segment(dim, "p", "1", 1, order="GRB")
    cables = Cables(swapped)
    stream = cables.streams["p", "1"]
    assert colour_in_its_place(cables, stream, stream.pieces[1], (255, 0, 0)).word == "dim green"


def test_what_may_follow_a_bridge_is_a_fact_of_its_model(rig: Rig) -> None:
    for passes, slot, words in (("pixel", 25, "the next whole pixel"), ("slot", 23, "the very next slot")):
        model = DeviceModel(name="Siphon", kind="bridge", passes=passes)  # type: ignore[arg-type]
        made, _ = cabled("", bridge(22, model="s"), reef(), rig={"device_models": {"s": model}})(rig)
        cables = Cables(made)
        first, second = cables.streams["p", "1"].pieces
        assert second.stream == slot and words in goes_on(cables, first)[1] and str(slot) in goes_on(cables, first)[1]
        assert "RUN-11" not in check_rig(made).codes_found
    assert "RUN-11" in check_rig(cabled("", bridge(22), reef())(rig)[0]).codes_found


def test_a_fixture_with_an_address_that_the_bridge_does_not_carry_is_named(rig: Rig) -> None:
    made, _ = cabled("", reef(), bridge(64, ("g1",)), rig=_lamps(1))(rig)
    typed = {"g1": replace(made.fixtures["g1"], at=(Place(universe="u11", address=100),))}
    far, _ = put_entries(made, "", fixtures=typed)
    found = next(f for f in check_rig(far).findings if f.code == "RUN-18")
    assert found.reason == "The bridge carries 11.031 to 11.096."
    near, _ = put_entries(
        made, "", fixtures={"g1": replace(made.fixtures["g1"], at=(Place(universe="u11", address=40),))}
    )
    cables = Cables(near)
    stream = cables.streams["p", "1"]
    assert [r.dmx for r in rows_behind_bridge(cables, stream, stream.pieces[1])] == [10]


# ---- converters


def test_a_converter_lists_its_slots_and_what_a_colour_sends(rig: Rig) -> None:
    lamps = Segment(
        kind="lamps", element="r", functions=("V", "R", "G", "B", "=200"), start=11, spacing=10, fixtures=("g1",)
    )
    made, _ = cabled("", lamps, element=px(3), rig=_lamps(1, "dimmer, red, green, blue, shutter, zoom"))(rig)
    cables = Cables(made)
    stream = cables.streams["p", "1"]
    slots = slot_map(cables, stream, stream.pieces[0])
    assert [(s.lamp, s.function, s.dmx, s.pixel, s.place) for s in slots[::5]] == [
        (1, "V", 11, 1, (11, 1)), (2, "V", 21, 2, (11, 4)), (3, "V", 31, 3, (11, 7)),
    ]  # fmt: skip
    assert slots_of_lamp(lamps.functions, {"R": 255, "G": 128, "B": 0}, 100) == [100, 255, 128, 0, 200]
    # without a dimmer the colours are scaled and cut off: 255 · 100 / 255 = 100, 128 · 100 / 255 = 50.2
    assert slots_of_lamp(("R", "G", "W"), {"R": 255, "G": 128, "B": 64}, 100) == [100, 50, 25]
    assert not_driven(made, made.fixtures["g1"], lamps.functions, "RGB") == ["zoom"]
    assert [d.gets for d in channels_driven(made, made.fixtures["g1"], lamps.functions, "RGB")][-2:] == [
        "200 always",
        "",
    ]
    assert lamps_past_end(stream.pieces[0]) == 0
    assert lamps_past_end(stream.pieces[0]._replace(segment=replace(lamps, start=495))) == 1
    assert "PATCH-05" not in check_rig(made).codes_found


def converted(rig: Rig, order: str = "RGB", channels: str = "dimmer, red, green, blue", **more: object) -> Rig:
    """Three lamps of four channels behind a converter that drives them with the pixels of `r`."""
    lamps = Segment(kind="lamps", element="r", functions=("V", "R", "G", "B"), fixtures=("g1", "g2", "g3"), **more)
    return cabled("", lamps, element=replace(px(3), order=order), rig=_lamps(3, channels))(rig)[0]


def test_a_lamp_behind_a_converter_is_patched_where_its_pixel_stands(rig: Rig) -> None:
    made = converted(rig)
    index = Index(made)
    assert [(s.universe, s.first, s.last) for s in index.spans_of("g2")] == [("u11", 4, 6)]
    assert "g2" not in index.lost | index.open and not index.clashes_in_universe(
        "u11"
    )  # it lies on its element on purpose
    assert text_of_cell(index, "g2", "first") == "11.004" and text_of_cell(index, "g2", "last") == "11.006"
    assert set_on(index, "g2").address == 5  # on the converter's line
    shown = path_to_target(index, NOTHING, find_target(index, "302"), 0)
    assert [(h.role, h.value) for h in shown.hops[1:]][-4:] == [
        ("device", "PEN"), ("port", "1"), ("converter", "lamp 2"), ("lamp", "5"),
    ]  # fmt: skip
    assert dict(shown.ways)["Slot in it"] == "1 · R of its pixel"
    assert find_target(index, "11.005").key in ("r", "g2") and find_target(index, "302").address == 4


def test_a_lamp_behind_a_converter_is_driven_by_the_components_of_its_pixel(rig: Rig) -> None:
    index, levels = Index(converted(rig, order="GRB")), Levels()
    assert [f.short for f in faders_of_selection(index, ["g2"])] == ["G", "R", "B"]  # no dimmer: the converter makes it
    levels.hold_function(["g2"], "ColorAdd_R", 1.0)
    assert list(levels.frame_of_universe(index, "u11")[:9]) == [0, 0, 0, 0, 255, 0, 0, 0, 0]
    levels.hold_function(["r"], "ColorAdd_G", 0.5)
    assert list(levels.frame_of_universe(index, "u11")[:9]) == [
        128,
        0,
        0,
        0,
        255,
        0,
        128,
        0,
        0,
    ]  # a lamp by itself comes last
    levels.blackout = True
    assert not levels.frame_of_universe(index, "u11").any()


def test_lamps_of_a_converter_keep_clear_of_each_other(rig: Rig) -> None:
    made = converted(rig, channels="dimmer, red, green, blue, strobe")
    close = next(f for f in check_rig(made).findings if f.code == "RUN-33")
    assert close.facts == {"fixture": "301", "channels": 5, "spacing": 4}
    fixed, _ = close.possible_fixes[0].edit(made)  # type: ignore[misc]
    assert "RUN-33" not in check_rig(fixed).codes_found and fixed.devices["p"].ports["1"].run[0].spacing == 5
    with pytest.raises(Refused, match="4 channels each; from start to start .* and 3 is less"):
        change_segment(made, "p", "1", 0, spacing=3)


def test_what_a_pixel_has_no_component_for_is_not_driven(rig: Rig) -> None:
    lamps = Segment(kind="lamps", element="r", functions=("R", "G", "B", "W", "A"), fixtures=("g1",))
    made, _ = cabled("", lamps, element=px(1), rig=_lamps(1, "red, green, blue, white, amber"))(rig)
    found = channels_driven(made, made.fixtures["g1"], lamps.functions, "RGB")
    assert [(d.name, d.gets) for d in found if not d.fits] == [
        ("white", "what red, green and blue have in common"), ("amber", ""),
    ]  # fmt: skip
    told = next(f for f in check_rig(made).findings if f.code == "RUN-23")
    assert told.facts["channels"] == "white, amber" and "RGB pixels have no such component" in told.reason
    assert not_driven(made, made.fixtures["g1"], lamps.functions, "RGBWA") == []


def test_functions_are_read_and_nonsense_is_refused() -> None:
    assert read_functions("dimmer red G, blue =128 7") == ("V", "R", "G", "B", "=128", "=7")
    assert read_functions("Warm white cool white, white V") == ("D", "C", "W", "V")
    assert read_functions(say_functions(tuple("VRGBWAULNCD") + ("=7",))) == (*"VRGBWAULNCD", "=7")
    for text, words in (("red 300", "0 to 255"), ("wobble", "no function"), ("", "one channel")):
        with pytest.raises(Refused, match=words):
            read_functions(text)


# ---- lines


def test_adapters_say_contact_by_contact_what_joins_what() -> None:
    assert (
        adapter_between("5-pin", "3-pin") == "5-pin to 3-pin"
        and adapter_between("5-pin", "5-pin") == adapter_between("", "RJ45") == ""
    )
    assert contacts_of_adapter("5-pin", "RJ45")[:3] == [
        ("common", "1", "7 white/brown"),
        ("data −", "2", "2 orange"),
        ("data +", "3", "1 white/orange"),
    ]


def test_fixtures_on_a_line_stand_in_cable_order_or_where_they_were_put(rig: Rig) -> None:
    glow = profile("Glow", "dimmer, red", 9)
    lamps = {
        k: replace(rig.fixtures["a"], number=n, profile="glow", mode="m", at=(RUN,))
        for k, n in (("x", 401), ("y", 402), ("z", 403))
    }
    run = (Segment(kind="line", fixtures=("x", "y", "z"), dmx={"y": 101}),)
    ports = {**rig.devices["d"].ports, "B": replace(rig.devices["d"].ports["B"], run=run)}
    made, _ = put_entries(
        rig, "", profiles={"glow": glow}, fixtures=lamps, devices={"d": replace(rig.devices["d"], ports=ports)}
    )
    index = Index(made)
    assert [(index.spans_of(k)[0].universe, index.spans_of(k)[0].first) for k in "xyz"] == [
        ("u2", 1),
        ("u2", 101),
        ("u2", 103),
    ]


def test_the_cable_to_the_first_lamp_is_part_of_a_line(rig: Rig) -> None:
    line = Segment(kind="line", fixtures=("a", "b"), length=80.0, lengths={"a": 5.0, "b": 10.0})
    total = line_sum(Index(rig), line, None, "u1")
    assert [s.metres for s in total.stops] == [85.0, 10.0] and total.metres == total.longest == 95.0
    boosted = line_sum(Index(rig), replace(line, boosters=("b",)), None, "u1")
    assert boosted.longest == 85.0
    behind = line_sum(Index(rig), replace(line, kind="bridge", width=64), None, "u1")
    assert behind.longest == 15.0  # the pixels' cable, up to the bridge, carries no DMX
