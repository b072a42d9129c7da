"""What hangs on cables takes its slots in the patch: clashes, gaps, capacity, trim and laying out see it."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.checks.run_examples import _lamps, bridge, cabled, reef
from tests.conftest import profile
from welvo.checks.checker import check_rig
from welvo.patch.index import Index
from welvo.patch.landing import foresee_landing
from welvo.patch.laying import Laying, lay_out_items, next_free
from welvo.patch.repack import repack_universe
from welvo.patch.slot_words import slot_word
from welvo.rig.base import Refused
from welvo.rig.document import Rig, put_entries
from welvo.rig.edits import set_universe
from welvo.rig.patched import Fixture, Place
from welvo.rig.refs import Goto, SegmentRef
from welvo.rig.runs import Segment
from welvo.runs.edits import change_segment
from welvo.survey import capacity

BRIDGE = SegmentRef("p", "1", 1)


@pytest.fixture
def bridged(rig: Rig) -> Rig:
    """Ten RGB pixels (11.001–030), then a bridge of 64 slots with two lamps, at DMX 1–4 and 33–36.

    Its 64 slots fill 22 pixels: 66 slots of the stream, 031 to 096."""
    return cabled("", reef(), bridge(64, ("g1", "g2"), dmx={"g2": 33}, name="sill"), rig=_lamps(2))(rig)[0]


def _typed(rig: Rig, key: str, universe: str, address: int, slots: int = 4) -> Rig:
    wash = profile("Wash", ", ".join(["dimmer", "red", "green", "blue", "amber", "white"][:slots]), 8)
    lamp = Fixture(number=700, profile="wash", mode="m", at=(Place(universe=universe, address=address),))
    return put_entries(rig, "", profiles={"wash": wash}, fixtures={key: lamp})[0]


def test_a_bridge_takes_its_whole_width_besides_what_its_lamps_take(bridged: Rig) -> None:
    index = Index(bridged)
    assert [(s.first, s.last, s.offset) for s in index.spans_of(BRIDGE)] == [(35, 62, 4), (67, 96, 36)]
    assert index.free_slots("u11") == 512 - 30 - 66 and index.free_stretches("u11")[0] == (97, 512)
    row = next(r for r in capacity.universe_rows(index) if r.id == "u11")
    assert (row.used, row.free_slots) == (96, 416) and not index.universes_with_overlaps()
    assert index.word_for_taker(BRIDGE) == "sill on port 1 of PEN"
    assert slot_word(index, index.spans_at_slot("u11", 67)[0], 67) == "DMX 37, for no lamp"


def test_what_is_typed_into_a_bridge_clashes_with_it_and_can_be_attached(bridged: Rig) -> None:
    made = _typed(bridged, "x", "u11", 40)
    assert [(c.first, c.last) for c in Index(made).clashes_in_universe("u11")] == [(40, 43)]
    found = next(f for f in check_rig(made).findings if f.code == "PATCH-01")
    assert found.title == "sill on port 1 of PEN and 700 meet on 4 slots" and found.items == ("x",)
    assert found.goes_to == Goto("item", "x")
    labels = [f.label for f in found.possible_fixes]
    assert labels == ["Move 700 to 11.097 (next free)", "Attach 700 behind sill on port 1 of PEN"]
    attached, _ = found.possible_fixes[1].edit(made)  # type: ignore[misc]
    assert "PATCH-01" not in check_rig(attached).codes_found
    assert attached.devices["p"].ports["1"].run[1].fixtures == ("g1", "g2", "x")
    astride = _typed(bridged, "x", "u11", 93)
    fixes = next(f for f in check_rig(astride).findings if f.code == "PATCH-01").possible_fixes
    assert [f.label for f in fixes] == ["Move 700 to 11.097 (next free)"]  # the bridge does not carry all of it


def test_nothing_is_laid_packed_or_dropped_into_a_bridge(bridged: Rig) -> None:
    made = _typed(bridged, "x", "u11", 200)
    index = Index(made)
    assert next_free(index, 20, "u11", 1) == ("u11", 97)
    laid = lay_out_items(index, [("x", 0)], Laying(start=("u11", 31)))
    assert [(s.universe, s.address) for s in laid.steps] == [("u11", 97)]
    assert [(s.key, s.address) for s in repack_universe(index, "u11").steps] == [("x", 97)]
    assert ("sill", "follows its cable") in [
        (w.split(" on ")[0], why) for w, why in repack_universe(index, "u11").fixed
    ]
    met = foresee_landing(index, "x", 0, "u11", 50)
    assert met.meets == ((BRIDGE, "u11", 50, 53),) and not foresee_landing(index, "x", 0, "u11", 97).meets


def test_a_lamp_moved_within_its_own_bridge_does_not_meet_it(bridged: Rig) -> None:
    made, _ = put_entries(
        bridged, "", fixtures={"g2": replace(bridged.fixtures["g2"], at=(Place(universe="u11", address=63),))}
    )
    index = Index(made)
    assert not index.clashes_in_universe("u11") and not foresee_landing(index, "g2", 0, "u11", 50).meets


def test_trim_leaves_a_universe_that_only_a_bridge_reaches_and_names_who_takes_what_goes(rig: Rig) -> None:
    small, _ = set_universe(rig, "u1", "")
    made, _ = cabled("", px_bridge := bridge(64), rig={})(small)
    short, _ = set_universe(made, "u11", "", size=40)
    index = Index(short)
    assert [(s.universe, s.first, s.last) for s in index.spans_of(SegmentRef("p", "1", 0))] == [
        ("u11", 1, 39), ("u12", 1, 27),
    ]  # fmt: skip
    left = dict(capacity.empty_universes(index))
    assert "u12" not in left and "u13" in left and px_bridge.width == 64
    assert "FEED-03" not in {f.code for f in check_rig(short).findings if f.where.endswith("12")}
    empty, _ = change_segment(short, "p", "1", 0, width=3)
    more, _ = put_entries(
        empty,
        "",
        devices={"p": replace(empty.devices["p"], ports={"1": replace(empty.devices["p"].ports["1"], pixels=20)})},
    )
    assert dict(capacity.empty_universes(Index(more)))["u12"].endswith("for which port 1 of PEN is configured")


def test_a_converter_takes_pixels_for_lamps_that_nobody_named(rig: Rig) -> None:
    lamps = Segment(kind="lamps", count=4, functions=("R", "G", "B"), fixtures=("g1",))
    made, _ = cabled("", lamps, rig=_lamps(1, "red, green, blue"))(rig)
    index = Index(made)
    assert [(s.first, s.last) for s in index.spans_of("g1")] == [(1, 3)]
    assert [(s.first, s.last) for s in index.spans_of(SegmentRef("p", "1", 0))] == [(4, 12)]
    assert slot_word(index, index.spans_at_slot("u11", 5)[0], 5) == "G of pixel 2"


def test_two_bridges_on_the_same_slots_of_two_devices_are_a_split(bridged: Rig) -> None:
    twin = replace(bridged.devices["p"], name="PEN 2")
    bare = replace(
        twin.ports["1"], run=tuple(replace(s, fixtures=(), dmx={}, element="") for s in twin.ports["1"].run[1:])
    )
    made, _ = put_entries(bridged, "", devices={"q": replace(twin, ports={"1": replace(bare, start=31)})})
    index = Index(made)
    assert "u11" in index.universes_with_overlaps() and len(index.spans_of(SegmentRef("q", "1", 0))) == 1
    assert not any(not (c.a.item_of_span or c.b.item_of_span) for c in index.clashes_in_universe("u11"))


def test_the_index_follows_what_a_bridge_takes(bridged: Rig) -> None:
    index = Index(bridged)
    for n, width in ((1, 40), (1, 80), (0, 0)):
        new, change = change_segment(index.rig, "p", "1", n, **({"width": width} if width else {"count": 5}))[:2]
        index.follow_change(new, change)
        assert index.spans_on_universe("u11") == Index(new).spans_on_universe("u11")
    assert index.spans_of(BRIDGE)[-1].last == 15 + 81
    gone, change = put_entries(index.rig, "", devices={"p": None})
    index.follow_change(gone, change)
    assert index.spans_of(BRIDGE) == () and index.spans_on_universe("u11") == Index(gone).spans_on_universe("u11")


def test_a_bridge_cannot_be_moved_into_a_clash_unseen(rig: Rig) -> None:
    """A fixture in the way of a bridge that grows is found as soon as it does."""
    made = _typed(cabled("", reef(), bridge(20), rig={})(rig)[0], "x", "u11", 60)
    assert "PATCH-01" not in check_rig(made).codes_found
    grown, _ = change_segment(made, "p", "1", 1, width=40)
    assert "PATCH-01" in check_rig(grown).codes_found
    with pytest.raises(Refused, match="too many"):
        change_segment(made, "p", "1", 1, width=600)
