"""The index answers by hand-counted slots, and following every edit is the same as building anew."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from welvo.patch.index import Index
from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.buses import Bus, Gear
from welvo.rig.document import Change, Rig, put_entries
from welvo.rig.patched import Element, Fixture, Place, Share
from welvo.rig.runs import Segment
from welvo.rig.wiring import Feed, Port


def spans(index: Index, key: str) -> list[tuple[str, int, int]]:
    return [(s.universe, s.first, s.last) for s in index.spans_of(key)]


def test_who_is_on_which_slot(rig: Rig) -> None:
    index = Index(rig)
    assert spans(index, "b") == [("u1", 9, 16)] and spans(index, "e") == [("u2", 101, 130)]
    assert [s.key for s in index.spans_at_slot("u1", 8)] == ["a"] and [s.key for s in index.spans_at_slot("u1", 9)] == [
        "b"
    ]
    assert (
        index.spans_at_slot("u1", 17) == []
        and index.free_slots("u1") == 496
        and index.free_slots("u2") == 512 - 14 - 30
    )
    assert index.occupancy_of_universe("u1")[:18].tolist() == [1] * 16 + [0, 0]


def test_touching_is_fine_and_one_slot_over_is_not(rig: Rig) -> None:
    index = Index(rig)
    assert index.universes_with_overlaps() == set() and index.clashes_in_universe("u1") == []
    new, change = edits.move_item(rig, "b", 0, "u1", 8)
    index.follow_change(new, change)
    (clash,) = index.clashes_in_universe("u1")
    assert (clash.first, clash.last) == (8, 8) and index.universes_with_overlaps() == {"u1"}


def test_a_declared_share_is_no_clash_while_both_stand_alike(rig: Rig) -> None:
    both, _ = edits.move_item(rig, "b", 0, "u1", 1)
    shared, _ = put_entries(both, "", shares={"x": Share(members=("a", "b"))})
    assert Index(shared).clashes_in_universe("u1") == [] and Index(shared).shared_with("a") == ["b"]
    apart, _ = edits.move_item(shared, "b", 0, "u1", 3)
    assert len(Index(apart).clashes_in_universe("u1")) == 1


def test_an_element_runs_on_over_universes_that_are_there(rig: Rig) -> None:
    long, _ = put_entries(
        rig, "", elements={"e": replace(rig.elements["e"], pixels=200, at=Place(universe="u1", address=401))}
    )
    index = Index(long)
    assert spans(index, "e") == [("u1", 401, 511), ("u2", 1, 489)]  # 37 whole pixels fit into 112 slots, 163 follow
    more, _ = put_entries(
        rig, "", elements={"e": replace(rig.elements["e"], pixels=200, at=Place(universe="u2", address=401))}
    )
    index = Index(more)
    assert spans(index, "e") == [("u2", 401, 511)] and index.missing == {"e": 3}


def test_anchored_things_stand_behind_what_they_follow(rig: Rig) -> None:
    anchored, _ = edits.set_fixtures(rig, "", {"b": {"at": (Place(after="a", gap=4),)}})
    index = Index(anchored)
    assert spans(index, "b") == [("u1", 13, 20)] and index.items_that_follow("a") == ["b"]
    moved, change = edits.move_item(anchored, "a", 0, "u2", 300)
    assert index.follow_change(moved, change).items == {"a", "b"}
    assert spans(index, "b") == [("u2", 312, 319)]
    behind, _ = edits.set_fixtures(rig, "", {"b": {"at": (Place(after="e", gap=1),)}})
    assert spans(Index(behind), "b") == [("u2", 132, 139)]


def test_a_circle_of_anchors_leads_nowhere_and_does_not_hang(rig: Rig) -> None:
    circle, _ = edits.set_fixtures(rig, "", {"a": {"at": (Place(after="b"),)}, "b": {"at": (Place(after="a"),)}})
    index = Index(circle)
    assert spans(index, "a") == spans(index, "b") == [] and index.lost == {"a", "b"}


def test_fixtures_that_follow_their_cable_stand_packed_from_1(rig: Rig) -> None:
    run = tuple(replace(rig.fixtures[k], at=(Place(from_run=True),)) for k in "ab")
    line, _ = put_entries(rig, "", fixtures={"a": run[0], "b": run[1]})
    index = Index(line)
    assert spans(index, "a") == [("u1", 1, 8)] and spans(index, "b") == [("u1", 9, 16)]
    turned, change = edits.set_port(line, "d", "A", "", run=(Segment(kind="line", fixtures=("b", "a")),))
    index.follow_change(turned, change)
    assert spans(index, "b") == [("u1", 1, 8)] and spans(index, "a") == [("u1", 9, 16)]
    other, change = edits.set_port(turned, "d", "A", "", feed="w2")
    index.follow_change(other, change)
    assert spans(index, "a")[0][0] == "u2"


# ---- following equals rebuilding

addresses = st.integers(1, 512)
keys = st.sampled_from(["a", "b", "c"])
places = st.one_of(
    st.builds(Place, universe=st.sampled_from(["u1", "u2", "gone"]), address=addresses),
    st.builds(Place, after=st.sampled_from(["a", "b", "c", "e", "lost"]), gap=st.integers(0, 30)),
    st.just(Place(from_run=True)), st.just(Place()),
)  # fmt: skip
steps = st.one_of(
    st.tuples(st.just("place"), keys, places), st.tuples(st.just("element"), st.integers(1, 400), places),
    st.tuples(st.just("remove"), st.sampled_from(["a", "b", "c", "e"])), st.tuples(st.just("add"), keys, addresses),
    st.tuples(st.just("universe"), st.integers(1, 6)), st.tuples(st.just("drop"), st.sampled_from(["u1", "u2"])),
    st.tuples(st.just("size"), st.sampled_from([510, 512, 96])),
    st.tuples(st.just("feed"), st.sampled_from(["u1", "u2"])),
    st.tuples(st.just("line"), st.permutations(["a", "b", "c"])), st.tuples(st.just("profile"), st.integers(1, 30)),
    st.tuples(st.just("bus"), addresses, st.sampled_from(["gear", "groups", "broadcast"]), st.sampled_from(["", "a"])),
)  # fmt: skip


def apply(rig: Rig, step: tuple[Any, ...]) -> tuple[Rig, Change] | None:
    kind, *rest = step
    if kind == "place" and rest[0] in rig.fixtures:
        return edits.set_fixtures(rig, "", {rest[0]: {"at": (rest[1],)}})
    if kind == "element":
        return put_entries(rig, "", elements={"e": Element(name="ribbon", pixels=rest[0], at=rest[1])})
    if kind == "remove" and (rest[0] in rig.fixtures or rest[0] in rig.elements):
        return edits.take_out_items(rig, [rest[0]])
    if kind == "add" and "u1" in rig.universes:
        return put_entries(
            rig,
            "",
            fixtures={rest[0]: Fixture(number=9, profile="bar", mode="m", at=(Place(universe="u1", address=rest[1]),))},
        )
    if kind == "universe" and not any(u.number == rest[0] for u in rig.universes.values()):
        return edits.add_universe(rig, rest[0])
    if kind == "drop" and rest[0] in rig.universes:
        return edits.remove_universe(rig, rest[0])
    if kind == "size" and "u1" in rig.universes:
        return edits.set_universe(rig, "u1", "", size=rest[0])
    if kind == "feed" and rest[0] in rig.universes and "w1" in rig.feeds:
        return put_entries(rig, "", feeds={"w1": Feed(universe=rest[0], sender="s", wire=5)})
    if kind == "line":
        return edits.set_port(
            rig,
            "d",
            "A",
            "",
            feed="w1" if "w1" in rig.feeds else "",
            run=(Segment(kind="line", fixtures=tuple(rest[0])),),
        )
    if kind == "bus":
        bus = Bus(addressing=rest[1], control="rgb", gear=(Gear(at=3, fixture=rest[2]),))
        return edits.set_port(rig, "g", "BUS", "", feed="w1" if "w1" in rig.feeds else "", start=rest[0], bus=bus)
    if kind == "profile":
        from welvo.formats.chart import read_chart

        return edits.set_profile(rig, "head", "", modes={"m": read_chart(f"gap {rest[0]}").mode_of_chart("m")})
    return None


def state(index: Index, rig: Rig) -> dict[str, Any]:
    live = np.flatnonzero(index.uni[: index._used] >= 0)
    rows = {index._uni_row[u]: u for u in index._uni_row}
    return {
        "spans": {k: index.spans_of(k) for k in (*rig.fixtures, *rig.elements) if index.spans_of(k)},
        "on": {u: index.spans_on_universe(u) for u in rig.universes}, "missing": dict(index.missing),
        "flagged": index.universes_with_overlaps(),
        "columns": sorted((rows[int(index.uni[n])], int(index.first[n]), int(index.last[n])) for n in live),
        "lost": set(index.lost), "open": set(index.open), "past": index.past_the_end(),
        "limits": {u: index.limit_of_universe(u) for u in rig.universes},
        "free": {u: index.free_stretches(u) for u in rig.universes},
    }  # fmt: skip


@settings(max_examples=200, deadline=None)
@example(
    [
        ("place", "a", Place(universe="u1", address=1)),
        ("place", "c", Place(from_run=True)),
        ("line", ["a", "b", "c"]),
        ("profile", 1),
    ]
)
@given(st.lists(steps, min_size=1, max_size=12))
def test_following_every_edit_equals_building_anew(trail: list[tuple[Any, ...]]) -> None:
    rig = START
    index = Index(rig)
    for step in trail:
        done = apply(rig, step)
        if done:
            rig, change = done
            index.follow_change(rig, change)
            assert state(index, rig) == state(Index(rig), rig), step


def _start() -> Rig:
    from tests.conftest import at, node_model, profile
    from welvo.rig.wiring import Device, DeviceModel, Sender, Universe

    return Rig(
        profiles={"head": profile("Head", "gap 8"), "bar": profile("Bar", "gap 14")},
        universes={"u1": Universe(number=1), "u2": Universe(number=2)},
        fixtures={
            k: Fixture(number=n, profile=p, mode="m", at=at(u, a)) for n,
            (k, p, u, a) in enumerate((("a", "head", 1, 1), ("b", "head", 1, 9), ("c", "bar", 2, 1)), 1)
        }, elements={"e": Element(name="ribbon", pixels=10, at=at(2, 101)[0])}, senders={"s": Sender(name="B")},
        feeds={"w1": Feed(universe="u1", sender="s", wire=1)}, device_models={"m": node_model(),
                                                "g": DeviceModel(name="Gateway", kind="gateway", ports=("BUS",))},
        devices={
            "d": Device(
                name="N", model="m", ports={"A": Port(feed="w1", run=(Segment(kind="line", fixtures=("a", "b")),))}
            ), "g": Device(name="G", model="g", ports={"BUS": Port()}),
        },
    )  # fmt: skip


START = _start()


@given(st.lists(st.tuples(st.integers(1, 500), st.integers(1, 40)), min_size=1, max_size=14))
def test_clashes_are_what_comparing_every_pair_finds(blocks: list[tuple[int, int]]) -> None:
    blocks = [(a, min(w, 513 - a)) for a, w in blocks]
    elements = {
        f"e{n}": Element(name=f"x{n}", kind="block", slots=w, whole=False, at=Place(universe="u1", address=a))
        for n, (a, w) in enumerate(blocks)
    }
    rig = Rig(universes=dict(START.universes), elements=elements)
    index = Index(rig)
    wanted = {
        (f"e{i}", f"e{j}", max(a, c), min(a + w, c + v) - 1)
        for i, (a, w) in enumerate(blocks) for j, (c, v) in enumerate(blocks)
        if i < j and a < c + v and c < a + w
    }  # fmt: skip
    found = {
        (*sorted((c.a.key, c.b.key), key=lambda k: int(k[1:])), c.first, c.last)
        for c in index.clashes_in_universe("u1")
    }
    assert found == wanted and (index.universes_with_overlaps() == {"u1"}) == bool(wanted)


def test_moving_a_locked_element_is_refused(rig: Rig) -> None:
    locked, _ = put_entries(
        rig, "", elements={"e": replace(rig.elements["e"], at=Place(universe="u2", address=101, locked=True))}
    )
    with pytest.raises(Refused, match="ribbon is locked"):
        edits.move_item(locked, "e", 0, "u1", 1)


def test_the_columns_grow_as_things_are_added_one_by_one(rig: Rig) -> None:
    index = Index(rig)
    for n in range(150):
        rig, change = put_entries(
            rig,
            "",
            fixtures={
                f"n{n}": Fixture(
                    number=1000 + n, profile="head", mode="m", at=(Place(universe="u2", address=1 + n % 500),)
                )
            },
        )
        index.follow_change(rig, change)
    anew = Index(rig)
    assert (
        index.universes_with_overlaps() == anew.universes_with_overlaps() == {"u2"}
        and index.occupancy_of_universe("u2").tolist() == anew.occupancy_of_universe("u2").tolist()
    )
