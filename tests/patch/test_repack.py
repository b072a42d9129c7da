"""Packing a universe anew, against a search through every order and every set of items that stay."""

from __future__ import annotations

from itertools import pairwise, permutations

from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from tests.conftest import at, profile
from welvo.patch.index import Index
from welvo.patch.laying import free_between
from welvo.patch.repack import Movable, pack_items, repack_universe
from welvo.patch.steps import apply_steps
from welvo.rig.document import Rig
from welvo.rig.edits import share_places
from welvo.rig.patched import Fixture, Place
from welvo.rig.wiring import Universe


def slow_best(items: list[Movable], free: list[tuple[int, int]]) -> tuple[int, int] | None:
    """(end of the last, moves) of the best packing: every order, and every place for the next from left to right.

    In some best packing each item stands right behind the one before, at a stretch's start, or where it stood.
    """
    best: tuple[int, int] | None = None

    def place(order: tuple[Movable, ...], low: int, moves: int, end: int) -> None:
        nonlocal best
        if best and (end, moves) >= best:
            return
        if not order:
            best = (end, moves)
            return
        item = order[0]
        starts = {item.start} | {max(a, low) for a, b in free if b >= low}
        for s in sorted(starts):
            if s >= low and any(a <= s and s + item.width - 1 <= b for a, b in free):
                place(order[1:], s + item.width, moves + (s != item.start), s + item.width - 1)

    for order in permutations(items):
        place(order, 1, 0, 0)
    return best


@st.composite
def cases(draw: st.DrawFn) -> tuple[list[Movable], list[tuple[int, int]]]:
    limit = draw(st.integers(10, 40))
    taken = draw(st.lists(st.tuples(st.integers(1, 36), st.integers(1, 4)), max_size=2))
    free = free_between([(a, a + n - 1) for a, n in taken], limit)
    count = draw(st.integers(1, 6))
    items = [Movable(n, draw(st.integers(1, 38)), draw(st.integers(1, 6))) for n in range(count)]
    return items, free


@settings(max_examples=100)
@given(cases())
def test_packing_equals_brute_force(case: tuple[list[Movable], list[tuple[int, int]]]) -> None:
    items, free = case
    wanted = slow_best(items, free)
    found, proved = pack_items(items, free)
    assert proved
    if wanted is None:
        assert found is None
        return
    assert found is not None
    spans = sorted((found[i.name], found[i.name] + i.width - 1) for i in items)
    assert all(b < c for (_, b), (c, _) in pairwise(spans))
    assert all(any(a <= x and y <= b for a, b in free) for x, y in spans)
    assert (spans[-1][1], sum(found[i.name] != i.start for i in items)) == wanted


def test_eight_things_are_proved_best_quickly() -> None:
    items = [Movable(n, 500 - 41 * n, 3 + 5 * n) for n in range(8)]
    free = free_between([(20, 25), (100, 110)], 512)
    assert slow_best(items[:5], free) == (
        max(s + i.width - 1 for i in items[:5] for s in [(pack_items(items[:5], free)[0] or {})[i.name]]), 5
    )  # fmt: skip
    found, proved = pack_items(items, free)
    assert proved and found and len(found) == 8


def many(starts: list[int], width: int = 10, **more: object) -> Rig:
    fixtures = {
        f"f{n}": Fixture(number=n + 1, profile="p", mode="m", at=at(1, s, **(more if n == 0 else {})))
        for n, s in enumerate(starts)
    }
    return Rig(
        profiles={"p": profile("Strip", f"{width} x (dimmer)")}, universes={"u1": Universe(number=1)}, fixtures=fixtures
    )


def test_no_free_slot_is_left_before_the_last_and_one_move_is_enough() -> None:
    rig = many([1, 11, 31, 41])
    packing = repack_universe(Index(rig), "u1")
    assert [(s.key, s.address) for s in packing.steps] == [("f3", 21)]  # 41 into the hole at 21: one move, not two
    assert (packing.before, packing.after) == (50, 40)
    after = Index(apply_steps(rig, list(packing.steps), "")[0])
    assert not (after.occupancy_of_universe("u1")[:40] == 0).any()


def test_what_is_locked_shared_followed_or_reserved_stays() -> None:
    rig = many([5, 31, 61], locked=True)
    packing = repack_universe(Index(rig), "u1")
    assert packing.fixed == (("1", "locked"),)
    assert {s.key: s.address for s in packing.steps} == {"f1": 15, "f2": 25}
    shared, _ = share_places(many([31, 31, 61]), ["f0", "f1"])
    assert [(s.key, s.address) for s in repack_universe(Index(shared), "u1").steps] == [("f2", 1)]
    behind = many([21, 61])
    behind = replace(
        behind, fixtures={**behind.fixtures, "f9": Fixture(number=9, profile="p", mode="m", at=(Place(after="f0"),))}
    )
    packing = repack_universe(Index(behind), "u1")
    assert dict(packing.fixed) == {"1": "others stand behind it", "9": "stands behind 1"}
    assert [(s.key, s.address) for s in packing.steps] == [("f1", 1)]
    kept = replace(behind, universes={"u1": Universe(number=1, reserve=((1, 15),))})
    assert [(s.key, s.address) for s in repack_universe(Index(kept), "u1").steps] == [("f1", 41)]


def test_many_things_of_many_widths_still_give_a_whole_answer() -> None:
    fixtures = {f"f{n}": Fixture(number=n + 1, profile=f"p{n % 7}", mode="m", at=at(1, 1 + n * 12)) for n in range(40)}
    profiles = {f"p{k}": profile(f"P{k}", f"{4 + k} x (dimmer)") for k in range(7)}
    rig = Rig(profiles=profiles, universes={"u1": Universe(number=1)}, fixtures=fixtures)
    packing = repack_universe(Index(rig), "u1")
    after = Index(apply_steps(rig, list(packing.steps), "")[0])
    assert not after.universes_with_overlaps() and not (after.occupancy_of_universe("u1")[: packing.after] == 0).any()
