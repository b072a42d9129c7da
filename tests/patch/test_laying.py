"""Laying out many items, against a model that tries one slot after the other."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.conftest import at, profile
from welvo.patch.index import Index
from welvo.patch.laying import (
    Laying,
    how_many,
    items_in_order,
    items_that_follow_layout,
    lay_out_items,
    steps_that_change,
    take_layout,
)
from welvo.rig.base import Refused
from welvo.rig.document import Rig
from welvo.rig.edits import move_item, put_in_groups, share_places
from welvo.rig.patched import Element, Fixture, Place
from welvo.rig.wiring import Universe

WIDTHS = {"p1": 3, "p2": 10, "p3": 25}


def hall(universes: int = 3, size: int = 60, fixtures: dict[str, Fixture] | None = None) -> Rig:
    return Rig(
        profiles={k: profile(k, f"{w} x (dimmer)") for k, w in WIDTHS.items()},
        universes={f"u{n}": Universe(number=n, size=size) for n in range(1, universes + 1)},
        fixtures=fixtures or {},
    )


def lamps(*kinds: str, **more: Place) -> dict[str, Fixture]:
    return {f"f{n}": Fixture(number=n + 1, profile=k, mode="m") for n, k in enumerate(kinds)}


def slow_lay(rig: Rig, widths: list[int], laying: Laying) -> list[tuple[str, int]]:
    """The same by counting up one slot at a time; stops at the first that finds no place."""
    index = Index(rig)
    order = sorted(rig.universes, key=lambda u: rig.universes[u].number)
    at_universe = order.index(laying.start[0]) if laying.start else 0
    low = laying.start[1] if laying.start else 1
    base = 0
    mine: set[tuple[str, int]] = set()
    found = []
    for width in widths:
        placed = False
        while not placed and at_universe < len(order):
            uid = order[at_universe]
            u = rig.universes[uid]
            for s in range(low, u.size - laying.headroom - width + 2):
                if laying.pattern == "round" and (s - 1) % laying.by:
                    continue
                if laying.pattern == "spacing" and base and (s - base) % laying.by:
                    continue
                slots = range(s, s + width)
                if any(
                    index.spans_at_slot(uid, a) or (uid, a) in mine or any(x <= a <= y for x, y in u.reserve)
                    for a in slots
                ):
                    continue
                mine |= {(uid, a) for a in slots}
                found.append((uid, s))
                base = s
                low = (
                    max(s + laying.by, s + width)
                    if laying.pattern == "spacing"
                    else s + width + (laying.by if laying.pattern == "gap" else 0)
                )
                placed = True
                break
            else:
                at_universe, low, base = at_universe + 1, 1, 0
        if not placed:
            break
    return found


@st.composite
def wishes(draw: st.DrawFn) -> tuple[Rig, list[str], Laying]:
    there = {
        f"x{n}": Fixture(
            number=900 + n, profile=draw(st.sampled_from(sorted(WIDTHS))), mode="m",
            at=at(draw(st.integers(1, 3)), draw(st.integers(1, 40)))
        ) for n in range(draw(st.integers(0, 4)))
    }  # fmt: skip
    kinds = draw(st.lists(st.sampled_from(sorted(WIDTHS)), min_size=1, max_size=12))
    rig = hall(fixtures={**lamps(*kinds), **there})
    reserve = draw(st.sampled_from([(), ((50, 55),), ((1, 2), (30, 33))]))
    rig = replace(rig, universes={u: replace(v, reserve=reserve) for u, v in rig.universes.items()})
    pattern = draw(st.sampled_from(["packed", "gap", "spacing", "round"]))
    start = draw(st.none() | st.tuples(st.sampled_from(["u1", "u2"]), st.integers(1, 40)))
    by = draw(st.integers(max(WIDTHS.values()), 40) if pattern == "spacing" else st.integers(1, 30))
    return rig, kinds, Laying(start, pattern, by, headroom=draw(st.integers(0, 10)))


@settings(max_examples=150)
@given(wishes())
def test_laying_equals_counting_up_slot_by_slot(case: tuple[Rig, list[str], Laying]) -> None:
    rig, kinds, laying = case
    bare = replace(rig, fixtures={k: f for k, f in rig.fixtures.items() if k.startswith("x")})
    wanted = slow_lay(bare, [WIDTHS[k] for k in kinds], laying)
    laid = lay_out_items(Index(rig), [(f"f{n}", 0) for n in range(len(kinds))], laying)
    assert [(s.universe, s.address) for s in laid.steps] == wanted
    assert len(laid.left) == len(kinds) - len(wanted) and bool(laid.why) == bool(laid.left)


@given(st.integers(1, 512), st.integers(1, 60), st.integers(0, 60))
def test_how_many_is_the_trades_own_sum_in_an_empty_universe(start: int, width: int, more: int) -> None:
    """max(0, floor((U − f − s + 1) / d) + 1) from start s with spacing d and footprint f."""
    index = Index(Rig(universes={"u1": Universe(number=1)}))
    spacing = width + more
    fit = how_many(index, width, Laying(("u1", start), "spacing", spacing))
    assert fit.count == max(0, (512 - width - start + 1) // spacing + 1)
    if fit.count:
        assert fit.last - fit.first + 1 == width and fit.left_over == 512 - fit.last


def test_groups_stay_together_and_what_does_not_fit_is_named() -> None:
    rig = hall(fixtures=lamps("p2", "p2", "p2", "p2", "p3", "p3", "p3"))
    rig, _ = put_in_groups(rig, ["f0", "f1", "f2", "f3"], ["Left"])
    rig, _ = put_in_groups(rig, ["f4", "f5"], ["Right"])
    keys = [(f"f{n}", 0) for n in range(6)]
    laid = lay_out_items(Index(rig), keys, Laying(together=True))
    assert [(s.universe, s.address) for s in laid.steps] == [
        ("u1", 1),
        ("u1", 11),
        ("u1", 21),
        ("u1", 31),
        ("u2", 1),
        ("u2", 26),
    ]
    assert lay_out_items(Index(rig), keys, Laying()).steps[4].universe == "u2"  # 25 do not fit behind 40
    rig, _ = put_in_groups(rig, ["f4", "f5", "f6"], ["Right"])
    laid = lay_out_items(Index(rig), [*keys, ("f6", 0)], Laying(together=True))
    assert len(laid.steps) == 4 and laid.why == "the 3 items that belong together (75 slots) found no place."


def test_locked_ones_stay_and_are_gone_around_and_a_limit_counts_like_the_end() -> None:
    rig = hall(
        fixtures={**lamps("p2", "p2", "p2"), "f1": Fixture(number=2, profile="p2", mode="m", at=at(1, 5, locked=True))}
    )
    laid = lay_out_items(Index(rig), [("f0", 0), ("f1", 0), ("f2", 0)], Laying())
    assert laid.stays == ("f1",) and [(s.key, s.address) for s in laid.steps] == [("f0", 15), ("f2", 25)]
    over = lay_out_items(Index(rig), [("f0", 0)], Laying(("u1", 1), over=True))
    assert over.steps[0].address == 15
    with pytest.raises(Refused, match="1.055 lies past the last slot to use, 50"):
        lay_out_items(Index(rig), [("f0", 0)], Laying(("u1", 55), headroom=10))


def test_orders_sort_names_as_people_do_and_spots_from_the_left() -> None:
    rig = hall(fixtures=lamps("p1", "p1", "p1"))
    named = {"f0": ("Kelp 10", (2.0, 0.0, 3.0)), "f1": ("Kelp 2", (5.0, 1.0, 3.0)), "f2": ("kelp 1", None)}
    rig = replace(rig, fixtures={k: replace(f, name=named[k][0], spot=named[k][1]) for k, f in rig.fixtures.items()})
    keys = [("f0", 0), ("f1", 0), ("f2", 0)]
    assert [k for k, _ in items_in_order(rig, keys, "name")] == ["f2", "f1", "f0"]
    assert [k for k, _ in items_in_order(rig, keys, "left to right")] == ["f0", "f1", "f2"]
    assert [k for k, _ in items_in_order(rig, keys[::-1], "number")] == ["f0", "f1", "f2"]


def test_elements_run_over_universes_only_where_all_of_it_is_free() -> None:
    rig = hall(fixtures={"x": Fixture(number=1, profile="p1", mode="m", at=at(2, 58))})
    rig = replace(rig, elements={"e": Element(name="wall", pixels=30, order="RGB")})  # 90 slots: 60 + 30
    laid = lay_out_items(Index(rig), [("e", 0)], Laying())
    assert [(s.universe, s.address) for s in laid.steps] == [("u1", 1)]
    rig = replace(rig, elements={"e": Element(name="wall", pixels=40, order="RGB")})  # 120: 3.058 is needed as well
    assert lay_out_items(Index(rig), [("e", 0)], Laying()).steps == ()


def test_followers_are_named_and_only_what_changes_is_a_change() -> None:
    rig = hall(fixtures={**lamps("p2", "p2"), "z": Fixture(number=9, profile="p1", mode="m", at=(Place(after="f1"),))})
    rig = replace(rig, fixtures={**rig.fixtures, "f0": replace(rig.fixtures["f0"], at=at(1, 1))})
    index = Index(rig)
    laid = lay_out_items(index, [("f0", 0), ("f1", 0)], Laying())
    assert [s.key for s in steps_that_change(index, laid)] == ["f1"] and items_that_follow_layout(index, laid) == ["z"]
    new, change = take_layout(rig, laid)
    assert change.label == "lay out 2 items from 1.001" and Index(new).spans_of("z")[0].first == 21
    with pytest.raises(Refused, match="step of 1 slot"):
        lay_out_items(index, [("f0", 0)], Laying(pattern="spacing"))


def test_a_share_goes_as_one_and_what_stood_behind_others_is_said() -> None:
    rig = hall(
        fixtures={**lamps("p2", "p2", "p3"), "z": Fixture(number=9, profile="p1", mode="m", at=(Place(after="f2"),))}
    )
    rig = replace(rig, fixtures={**rig.fixtures, **{k: replace(rig.fixtures[k], at=at(1, 30)) for k in ("f0", "f1")}})
    rig, _ = share_places(rig, ["f0", "f1"])
    laid = lay_out_items(Index(rig), [("f0", 0), ("f1", 0), ("f2", 0), ("z", 0)], Laying())
    assert {s.key: (s.universe, s.address) for s in laid.steps} == {
        "f0": ("u1", 1),
        "f1": ("u1", 1),
        "f2": ("u1", 11),
        "z": ("u1", 36),
    }
    assert laid.freed == ("z",)
    assert Index(take_layout(rig, laid)[0]).clashes_in_universe("u1") == []
    cable = replace(rig, fixtures={**rig.fixtures, "z": replace(rig.fixtures["z"], at=(Place(from_run=True),))})
    assert lay_out_items(Index(cable), [("z", 0)], Laying()).stays == ("z",)


def test_how_many_more_fit_counts_on_from_the_last_one(rig: Rig) -> None:
    """Behind one on 1.401–408, every 40 slots: 441 and 481 fit, and nothing between."""
    placed, _ = move_item(rig, "a", 0, "u1", 401)
    index = Index(placed)
    here = Laying(("u1", 401), "spacing", 40, into=("u1",))
    assert how_many(index, 8, here, behind=(401, 8)).count == 2
    gaps = Laying(("u1", 401), "gap", 30, into=("u1",))
    fit = how_many(index, 8, gaps, behind=(401, 8))
    assert (fit.count, fit.first) == (2, 477)  # 439–446 and 477–484
