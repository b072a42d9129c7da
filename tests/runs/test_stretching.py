"""One function lays pixels and slots over universes; every number here was worked out by hand."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.conftest import profile
from welvo.patch.index import Index
from welvo.patch.landing import foresee_landing
from welvo.patch.laying import Laying
from welvo.patch.laying import lay_out_items as lay_out
from welvo.rig.document import Rig, put_entries
from welvo.rig.patched import Element, Fixture, Place
from welvo.rig.runs import Segment
from welvo.rig.wiring import Device, DeviceModel, Feed, Port, Sender, Universe
from welvo.runs.cable import lay_slots, place_in
from welvo.survey.target import of_pixel


def where(address: int, pixels: int, k: int, size: int, whole: bool, pixel: int, component: int) -> tuple[int, int]:
    parts, *_ = lay_slots(1, address, pixels * k, k, lambda _: size, whole)
    found = place_in(parts, (pixel - 1) * k + component)
    assert found
    return found


def test_dense_rgb_cuts_the_pixel_at_511() -> None:
    assert [where(1, 171, 3, 512, False, 171, c) for c in (1, 2, 3)] == [(1, 511), (1, 512), (2, 1)]


def test_whole_pixels_leave_what_cannot_hold_one_free() -> None:
    assert where(1, 171, 3, 512, True, 170, 3) == (1, 510) and where(1, 171, 3, 512, True, 171, 1) == (2, 1)
    assert where(481, 9, 4, 512, True, 9, 1) == (2, 1)  # 481…512 holds eight RGBW pixels
    assert lay_slots(1, 1, 12, 6, lambda _: 4, True) == ((), 1, 1)  # a pixel wider than its universe fits nowhere


@given(st.integers(1, 512), st.integers(1, 6), st.integers(1, 700), st.sampled_from([510, 512, 96]), st.booleans())
def test_every_slot_is_laid_once_and_in_order(address: int, k: int, pixels: int, size: int, whole: bool) -> None:
    parts, *_ = lay_slots(1, address, pixels * k, k, lambda _: size, whole)
    covered = [(p.universe, a) for p in parts for a in range(p.first, p.last + 1)]
    assert covered == sorted(set(covered)) and len(covered) == pixels * k
    assert [p.done for p in parts] == [sum(q.last - q.first + 1 for q in parts[:n]) for n in range(len(parts))]
    if whole:
        assert all(p.done % k == 0 for p in parts)


def hall() -> Rig:
    """400 dense RGB pixels over universes of 510, 512 and 512, once typed and once from a cable; node of one port."""
    universes = {"u1": Universe(number=1, size=510), "u2": Universe(number=2), "u3": Universe(number=3)}
    elements = {"e": Element(name="wall", pixels=400, whole=False, at=Place(universe="u1", address=1))}
    return Rig(universes=universes, elements=elements, profiles={"p": profile("Bar", "4 x (dimmer)")})


def attached(rig: Rig) -> Rig:
    model = DeviceModel(name="Pixel 1", kind="pixel", ports=("1",))
    device = Device(
        name="PEN", model="m", packs="dense", ports={"1": Port(feed="w", run=(Segment(kind="pixels", element="e"),))}
    )
    element = replace(rig.elements["e"], at=Place(from_run=True))
    return put_entries(
        rig, "", device_models={"m": model}, devices={"d": device}, elements={"e": element},
        senders={"s": Sender(name="Bench", kind="bench")}, feeds={"w": Feed(universe="u1", sender="s", wire=1)},
    )[0]  # fmt: skip


def test_a_typed_element_and_one_on_a_cable_end_on_the_same_slot() -> None:
    """1200 slots: 510 + 512 leave 178 for the third universe, wherever the start comes from."""
    typed, cabled = Index(hall()), Index(attached(hall()))
    spans = [(s.universe, s.first, s.last, s.offset) for s in typed.spans_of("e")]
    assert spans == [("u1", 1, 510, 0), ("u2", 1, 512, 510), ("u3", 1, 178, 1022)]
    assert [(s.universe, s.first, s.last, s.offset) for s in cabled.spans_of("e")] == spans
    for index in (typed, cabled):
        assert (index.rig.universes[of_pixel(index, "e", 400).universe].number, of_pixel(index, "e", 400).address) == (
            3,
            176,
        )
    # what follows it, and what is said before it is moved, end there as well
    behind, _ = put_entries(
        typed.rig, "", fixtures={"f": Fixture(number=1, profile="p", mode="m", at=(Place(after="e", gap=2),))}
    )
    assert [(s.universe, s.first) for s in Index(behind).spans_of("f")] == [("u3", 181)]
    assert foresee_landing(typed, "e", 0, "u1", 4).goes_on == 3
    laid = lay_out(typed, [("e", 0)], Laying(("u1", 4), over=True))
    assert [(s.universe, s.address) for s in laid.steps] == [("u1", 4)]


@pytest.mark.parametrize("whole", [True, False])
def test_an_anchor_behind_a_full_universe_has_no_place(whole: bool) -> None:
    """100 RGB pixels at 1.211 end at 1.510, the last slot of a universe of 510: nothing begins at 1.511 … but at
    512."""
    rig = hall()
    element = Element(name="wall", pixels=100, whole=whole, at=Place(universe="u1", address=211))
    rig, _ = put_entries(
        rig,
        "",
        elements={"e": element},
        fixtures={"f": Fixture(number=1, profile="p", mode="m", at=(Place(after="e"),))},
    )
    assert [(s.universe, s.first) for s in Index(rig).spans_of("f")] == [("u1", 511)]
