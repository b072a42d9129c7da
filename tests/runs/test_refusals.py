"""Edits of runs: what is refused, in which words, with the rig as it was; and small ones that must do what they say."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from msgspec.structs import replace

from tests.checks.run_examples import cabled, reef
from welvo.checks.checker import check_rig
from welvo.formats.models import shipped_models, shipped_pixels
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.edits import add_device
from welvo.rig.patched import Element, Place
from welvo.rig.runs import PixelType, Segment
from welvo.rig.wiring import Feed, Universe
from welvo.runs.cable import Cables
from welvo.runs.edits import (
    add_supply,
    attach_segments,
    begin_and_make,
    begin_at,
    change_many,
    change_segment,
    follow_cable,
    make_to_fit,
    put_pixel_kind,
    set_bridge_model,
    set_device_way,
    set_guidance,
    set_pixel_type,
    set_pixels,
    set_stream,
)
from welvo.runs.wish import attach_wish, read_attach


@pytest.fixture
def attached(rig: Rig) -> Rig:
    """The small rig with controller `p`: ten pixels and a bridge with lamp 201 behind it on port 1."""
    return cabled("", reef(), Segment(kind="bridge", width=30, fixtures=("c",)))(rig)[0]


def once(**fields: Any) -> Callable[[Rig], object]:
    return lambda r: change_segment(r, "p", "1", 0, **fields)


@pytest.mark.parametrize(
    ("edit", "words"),
    [
        (once(group=0), "one LED at least"),
        (once(width=513), "1 to 512 slots"),
        (once(count=100_001), "100 000 pixels at most"),
        (once(first=100_001), "100 000 pixels at most"),
        (once(brightness=1.5), "0 to 100 %"),
        (once(gamma=0.0), "above 0 to 5"),
        (lambda r: change_segment(r, "p", "1", 1, dmx={"c": 513}), "no DMX address 513"),
        (lambda r: change_segment(r, "p", "1", 1, dmx={"a": 5}), "Only what is attached behind it"),
        (lambda r: change_many(r, [("p", "1", 0), ("p", "1", 1)], "brightness", brightness=-1.0), "0 to 100 %"),
        (lambda r: set_pixels(r, "r", "name", name="  "), "needs a name"),
        (lambda r: set_stream(r, "p", "1", "start", start=0), "no address 0"),
        (lambda r: set_stream(r, "p", "1", "start", start=513), "no address 513"),
        (lambda r: set_stream(r, "p", "1", "pixels", pixels=100_001), "0 to 100 000 pixels"),
        (lambda r: set_device_way(r, "p", "mode", mode="wobble"), "has no mode “wobble”"),
        (lambda r: add_supply(r, " ", 12, 10), "needs a name"),
        (lambda r: add_supply(r, "tin", 0, 10), "volts cannot be that"),
        (lambda r: add_supply(r, "tin", 12, 1001), "amps cannot be that"),
        (lambda r: begin_at(r, "p", 0, "packed"), "no universe 0"),
        (lambda r: begin_at(r, "d", 9, "packed"), "Nothing is attached to NODE yet"),
        (lambda r: begin_and_make(r, "p", 63_999, "packed", 4), "they end at 63999"),
        (lambda r: make_to_fit(r, "d"), "No port of NODE has a universe"),
        (lambda r: follow_cable(r, "r"), "follows its cable already, or is locked"),
        (lambda r: attach_segments(r, "d", "A", [reef()]), "gives DMX"),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused_by_name(attached: Rig, edit: Callable[[Rig], object], words: str) -> None:
    with pytest.raises(Refused, match=words):
        edit(attached)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("5 RGB moss at 0", "count from 1"), ("line: 201 201", "201 is named twice"), ("null 0", "1 to 100 000"),
        ("5 RGB moss at 3; 5 RGB weed on 1", "to one port can begin"), ("ribbon, reef wobble", "nothing of this rig"),
        ("201, 77", "no fixture 77"), ("8 x 0 RGB panel", "1 to 100 000 pixels"),
        ("ring 0 RGB", "1 to 100 000 pixels"), ("null 3 of Silk 60", "Only something new"),
        ("5 RGB moss of kind wobble", "wobble"), ("bridge 8: 201 201", "201 is named twice"),
    ],
)  # fmt: skip
def test_lines_that_cannot_be_read_say_why(attached: Rig, text: str, words: str) -> None:
    with pytest.raises(Refused, match=words):
        read_attach(attached, "p", "2", text, shipped_pixels())


def test_a_box_keeps_to_what_its_model_can(rig: Rig) -> None:
    """A model of one universe size, whole pixels only, takes neither another size nor cut pixels."""
    model = replace(shipped_models()["penstock-12"], universe_size=510, straddles=False)
    made, change = add_device(rig, model, "PEN 2")
    device_id = change.made[0]
    with pytest.raises(Refused, match="takes 510 slots of a universe, never 512"):
        set_device_way(made, device_id, "size", size=512)
    with pytest.raises(Refused, match="keep them whole"):
        set_device_way(made, device_id, "packs", packs="dense")
    assert set_device_way(made, device_id, "size", size=510)[0].devices[device_id].size == 510


def test_wire_numbers_that_do_not_exist_are_refused_and_others_go_on_as_the_first(rig: Rig) -> None:
    made, _ = add_device(
        Rig(universes={"u1": Universe(number=1)}, senders=rig.senders), shipped_models()["penstock-12"], "PEN"
    )
    made = attach_wish(made, "d1", "1", "2 x 300 RGB moss")[0]
    for protocol, wire, fits in (
        ("artnet", 32_767, False),
        ("sacn", 63_999, False),
        ("artnet", 40, True),
        ("sacn", 7, True),
    ):
        feed = Feed(universe="u1", sender="s", protocol=protocol, wire=wire)  # type: ignore[arg-type]
        fed = set_stream(replace(made, feeds={"w1": feed}), "d1", "1", "feed", feed="w1")[0]
        if not fits:
            with pytest.raises(Refused, match="which does not exist"):
                make_to_fit(fed, "d1")
            continue
        new = make_to_fit(fed, "d1", headroom=1)[0]
        # 600 × 3 slots take 4 universes, and one is spare
        assert [(new.universes[f.universe].number, f.wire - wire) for f in new.feeds.values()] == [
            (n, n - 1) for n in range(1, 6)
        ]
        assert {f.protocol for f in new.feeds.values()} == {protocol}
        with pytest.raises(Refused, match="there and fed"):
            make_to_fit(new, "d1")


def test_a_bridge_of_another_model_is_cut_to_what_that_gives(attached: Rig) -> None:
    narrow = next(m for m in shipped_models().values() if m.kind == "bridge")
    narrow = replace(narrow, name="Trickle", slots_per_port=24)
    new, change = set_bridge_model(attached, "p", "1", 1, "", narrow)
    bridge = new.devices["p"].ports["1"].run[1]
    assert bridge.width == 24 and new.device_models[bridge.model].name == "Trickle" and "is Trickle" in change.label
    back, _ = set_bridge_model(new, "p", "1", 1, "")
    assert back.devices["p"].ports["1"].run[1].model == ""


def test_kinds_of_pixels_are_taken_into_the_rig_and_all_of_a_kind_follow(attached: Rig) -> None:
    key, kind = next(iter(shipped_pixels().items()))
    new, change = set_pixel_type(attached, ["r"], key, kind)
    assert new.elements["r"].type == key and new.pixel_types[key] == kind and kind.name in change.label
    other = PixelType(name="Own", chip="X", order="RGB", volts=12, least=9)
    assert put_pixel_kind(new, key, other)[0].pixel_types[key].chip == "X"
    none, change = set_pixel_type(new, ["r"], "", None)
    assert none.elements["r"].type == "" and "of no known kind" in change.label


def test_many_segments_are_changed_in_one_step_and_the_rest_stays(attached: Rig) -> None:
    new, change = change_many(attached, [("p", "1", 0), ("p", "1", 1)], "half brightness", brightness=0.5)
    assert [s.brightness for s in new.devices["p"].ports["1"].run] == [0.5, 0.5] and "2 segments" in change.label
    assert set_guidance(new, 120)[0].line_metres == 120
    assert "RUN-14" in {f.code for f in check_rig(new).findings}  # what is behind the bridge is no DMX now


def test_following_again_takes_a_typed_address_away_and_the_lock_keeps_it(rig: Rig) -> None:
    typed = {"q": Element(name="spar", pixels=3, at=Place(universe="u2", address=300))}
    made, _ = cabled("", reef(), Segment(kind="pixels", element="q"), rig={"elements": typed})(rig)
    new, _ = follow_cable(made, "q")
    assert new.elements["q"].at.origin_of_place == "run" and Cables(new).start_on_cable("q", 0) is not None
    locked = replace(
        made, elements={**made.elements, "q": replace(typed["q"], at=Place(universe="u2", address=300, locked=True))}
    )
    with pytest.raises(Refused, match="spar follows its cable already, or is locked"):
        follow_cable(locked, "q")
