from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from welvo.demo.gallery import make_gallery
from welvo.formats.chart import read_chart
from welvo.patch.index import Index
from welvo.patch.mode_edits import change_mode, order_modes, remove_mode, revise_profile
from welvo.rig.attributes import ATTRIBUTES
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig
from welvo.rig.lamp import ADDS, EMITTERS, drive_colour, gating_channels, look_at_levels, slot_bytes
from welvo.rig.profile import Mode, Range
from welvo.survey.effect_words import say_all
from welvo.survey.effects import effects_of


def mode(text: str) -> Mode:
    return read_chart(text).mode_of_chart("m")


def levels(m: Mode, **values: int) -> dict[int, int]:
    return {n: values[c.short] for n, c in enumerate(m.channels) if c.short in values}


def test_what_keeps_a_colour_dark_is_derived_and_can_be_corrected() -> None:
    m = mode("dimmer, shutter, red, 2 x (dimmer, green)")
    red, green2 = m.channels[2], m.channels[6]
    assert [c.short for c in gating_channels(m, red)] == ["Dim", "Shut"]
    assert [(c.short, c.pixel) for c in gating_channels(m, green2)] == [("Dim", 0), ("Shut", 0), ("Dim", 2)]
    own = replace(m, channels=(*m.channels[:2], replace(red, needs=()), *m.channels[3:]))
    assert gating_channels(own, own.channels[2]) == []


def test_a_colour_without_its_dimmer_shows_nothing_and_says_why() -> None:
    m = mode("dimmer, shutter = 255, red, green, blue")
    assert look_at_levels(m, levels(m, R=255)).dark == "dimmer at 0"
    lit = look_at_levels(m, levels(m, R=255, Dim=128))
    assert lit.dark == "" and lit.pixels[0] == pytest.approx((128 / 255, 0, 0))
    assert look_at_levels(m, levels(m, Dim=255)).dark == "no colour is raised (red, green, blue)"
    assert look_at_levels(m, levels(m, Dim=255, R=255, Shut=0)).dark == "shutter at 0"


def test_ranges_decide_whether_a_shutter_is_open() -> None:
    m = make_gallery().profiles["p2"].modes["m1"]
    assert look_at_levels(m, levels(m, Dim=65535, W=255)).dark == "shutter at 0, “closed”"
    strobing = look_at_levels(m, levels(m, Dim=65535, W=255, Shut=127))
    assert (
        strobing.dark == ""
        and strobing.strobe == pytest.approx(20.0)
        and ("shutter", "strobe, slow to fast") in strobing.words
    )
    assert look_at_levels(m, levels(m, Dim=65535, W=255, Shut=250)).strobe is None


def test_pixels_wheels_subtractive_mixing_and_angles() -> None:
    pixels = mode("dimmer, 2 x (red green blue)")
    shown = look_at_levels(pixels, {0: 255, 5: 255}).pixels
    assert shown == ((0, 0, 0), (0, 1, 0))
    wheel = mode("dimmer, colour wheel, cyan")
    wheel = replace(
        wheel,
        channels=(
            wheel.channels[0],
            replace(wheel.channels[1], ranges=(Range(first=10, last=20, name="Red", does="colour", light="#ff0000"),)),
            wheel.channels[2],
        ),
    )
    r, g, b = look_at_levels(wheel, {0: 255, 1: 15}).pixels[0]
    assert r > 0.9 and g < 0.01 and b < 0.01
    assert look_at_levels(wheel, {0: 255, 2: 255}).pixels[0][0] == 0
    head = mode("pan 16, tilt, dimmer")
    head = replace(head, channels=(replace(head.channels[0], low=0.0, high=540.0, unit="°"), *head.channels[1:]))
    shown_ = look_at_levels(head, {0: 65535, 1: 0})
    assert (shown_.pan, shown_.tilt) == (270, -135)
    inverted = replace(head, channels=(replace(head.channels[0], invert=True), *head.channels[1:]))
    assert look_at_levels(inverted, {0: 65535}).pan == -270


def test_a_wanted_colour_becomes_levels() -> None:
    m = mode("dimmer, shutter, red, green, blue, white")
    answer = drive_colour(m, (1.0, 0.5, 0.25), 0.5)
    assert slot_bytes(m, answer.levels) == [bytes([128, 255, 255, 128, 64, 64])]
    assert any("where the shutter is open" in w for w in answer.warnings)
    plain = mode("red, green, blue")
    assert slot_bytes(plain, drive_colour(plain, (1, 0, 0), 0.5).levels) == [
        bytes([128, 0, 0])
    ]  # no dimmer: the colours take it
    dim = mode("dimmer")
    assert any("cannot mix colours" in w for w in drive_colour(dim, (1, 0, 0), 1.0).warnings)
    held = drive_colour(m, (1, 1, 1), 1.0, {0: 0})
    assert "It would stay dark: dimmer at 0." in held.warnings


def test_every_emitter_has_a_light_and_helps_with_the_colours_that_it_adds() -> None:
    emitters = [a for a in ATTRIBUTES if a.is_emitter]
    assert len(emitters) > 10 and all(max(EMITTERS[a.key]) > ADDS for a in emitters)
    m = mode("red, green, blue, cyan emitter, magenta emitter, yellow emitter, uv, amber")

    def shares(*rgb: float) -> dict[str, int]:
        levels = drive_colour(m, rgb, 1.0).levels  # type: ignore[arg-type]
        return {c.function.removeprefix("ColorAdd_"): levels[n] for n, c in enumerate(m.channels)}

    assert shares(0, 1, 1) == {"R": 0, "G": 255, "B": 255, "C": 255, "M": 0, "Y": 0, "UV": 0, "RY": 0}
    assert shares(1, 0.2, 0.6)["M"] == round(0.4 * 255) and shares(1, 0.2, 0.6)["C"] == 0
    assert shares(0.5, 0.5, 0)["Y"] == 128 and shares(1, 1, 1)["C"] == 0
    assert shares(0, 0, 1)["UV"] == 0  # beside blue it would only shift it
    alone = mode("red, green, uv")
    assert drive_colour(alone, (0, 0, 1), 1.0).levels[2] == 255  # without a blue it is the nearest there is


@settings(max_examples=60, deadline=None)
@given(st.tuples(*[st.floats(0.05, 1)] * 3), st.floats(0.1, 1))
def test_driving_a_colour_and_looking_at_it_agree(rgb: tuple[float, float, float], brightness: float) -> None:
    for chart in ("red 16, green 16, blue 16", "dimmer 16, shutter = 255, 3 x (red 16, green 16, blue 16)"):
        m = mode(chart)
        answer = drive_colour(m, rgb, brightness)
        for p in look_at_levels(m, answer.levels).pixels:
            assert p == pytest.approx(tuple(c * brightness for c in rgb), abs=0.003)


# ---- consequences


def said(edit: Edit, *kinds: str) -> list[tuple[str, str, str]]:
    found = effects_of(Index(make_gallery()), edit)
    return [(e.who, e.was_at, e.is_at) for e in found if e.kind in kinds]


def test_another_mode_shows_every_address_before_it_is_done() -> None:
    rig = make_gallery()
    edit = change_mode(rig, ["f201", "f202"], "p2", "m2")
    assert said(edit, "slots", "moves") == [("201", "3.001–022", "3.001–009"), ("202", "3.025–046", "3.025–033")]
    assert said(edit, "meets") == []
    wide = change_mode(rig, ["f201"], "p1", "m1")  # 38 slots where 202 begins at 25
    (meets,) = [e for e in effects_of(Index(rig), wide) if e.kind == "meets"]
    assert (meets.who, meets.with_whom, meets.slots) == ("201", "202", 14)
    assert say_all(()) == "Nobody moves, and nobody meets anybody."


def test_what_is_anchored_behind_moves_too() -> None:
    rig = make_gallery()
    edit = change_mode(rig, ["f207"], "p2", "m2")
    assert said(edit, "moves") == [("208", "3.427–448", "3.414–435")] and said(edit, "slots")[0][0] == "207"
    assert [e.who for e in effects_of(Index(rig), edit) if e.kind == "parts"] == ["207"]  # 304 is met no longer


def test_modes_are_removed_only_with_a_place_to_go() -> None:
    rig = make_gallery()
    with pytest.raises(Refused, match="8 fixtures stand in mode “22 slot”"):
        remove_mode(rig, "p2", "m1")
    after, _ = remove_mode(rig, "p2", "m1", "m2")
    assert list(after.profiles["p2"].modes) == ["m2"] and after.fixtures["f201"].mode == "m2"
    with pytest.raises(Refused, match="only mode"):
        remove_mode(after, "p2", "m2")
    assert list(order_modes(rig, "p2", ["m2", "m1"])[0].profiles["p2"].modes) == ["m2", "m1"]


def test_a_revision_keeps_the_older_one_until_it_is_brought_over() -> None:
    rig: Rig = make_gallery()
    newer = replace(
        rig.profiles["p2"],
        revision="2",
        modes={
            "a": read_chart("dimmer").mode_of_chart("9 slot"),
            "b": read_chart("pan, dimmer").mode_of_chart("22 slot"),
        },
    )
    beside, change = revise_profile(rig, "p2", newer, move=False)
    nid = change.made[0]
    assert beside.profiles[nid].revises == "p2" and beside.fixtures["f201"].profile == "p2"
    over, change = revise_profile(rig, "p2", newer, move=True)
    nid = change.made[0]
    assert "p2" not in over.profiles and (over.fixtures["f201"].profile, over.fixtures["f201"].mode) == (
        nid,
        "b",
    )  # by the mode's name
    index = Index(rig)
    index.follow_change(over, change)
    assert {k: index.spans_of(k) for k in over.fixtures} == {k: Index(over).spans_of(k) for k in over.fixtures}
