"""Packing one universe anew with the fewest moves."""

from __future__ import annotations

from msgspec import Struct

from welvo.patch.index import Index, Span
from welvo.patch.steps import PatchStep, place_of
from welvo.rig.counting import Stretch, free_between
from welvo.rig.document import Rig
from welvo.rig.lookup import name_of_item

NODES = 20_000
"""How far the search goes before it takes the best found so far; 8 items need far less."""


class Movable(Struct, frozen=True):
    """Something that may move: where it starts now and how wide it is."""

    name: int
    start: int
    width: int


class Packing(Struct, frozen=True):
    """Where everything would stand: `steps` only for what moves, `fixed` what may not, with the reason."""

    steps: tuple[PatchStep, ...]
    fixed: tuple[tuple[str, str], ...]
    before: int
    after: int
    """The last slot that a movable item takes, before and after."""
    exact: bool


def why_fixed(index: Index, span: Span) -> str:
    """Why an item must stay where it is, or an empty string."""
    rig: Rig = index.rig
    if not span.item_of_span:
        return "follows its cable"
    place = place_of(rig, span.item_of_span, max(0, span.break_no))
    if place.locked:
        return "locked"
    if index.shared_with(span.item_of_span):
        return "shared"
    if place.origin_of_place != "typed":
        return (
            "follows its cable" if place.origin_of_place == "run" else f"stands behind {name_of_item(rig, place.after)}"
        )
    if index.items_that_follow(span.item_of_span):
        return "others stand behind it"
    if span.key in rig.elements and (len(index.spans_of(span.key)) > 1 or span.key in index.missing):
        return "spans universes"
    return ""


def repack_universe(index: Index, universe: str) -> Packing:
    """Close the gaps of a universe: the last movable item ends as low as can be, with as few moves as can be."""
    rig = index.rig
    spans = index.spans_on_universe(universe)
    fixed = [(s, why_fixed(index, s)) for s in spans]
    movable = [s for s, why in fixed if not why]
    taken: list[Stretch] = [(s.first, s.last) for s, why in fixed if why]
    free = free_between([*taken, *rig.universes[universe].reserve], index.limit_of_universe(universe).slots)
    items = [Movable(n, s.first, s.last - s.first + 1) for n, s in enumerate(movable)]
    before = max((s.last for s in movable), default=0)
    places, exact = pack_items(items, free)
    if places is None:
        places = {i.name: i.start for i in items}
    _keep_order(items, places)
    steps = tuple(
        PatchStep(movable[n].item_of_span, movable[n].break_no, universe, at)
        for n, at in sorted(places.items(), key=lambda p: p[1])
        if at != movable[n].first
    )
    after = max((places[i.name] + i.width - 1 for i in items), default=0)
    names = tuple((index.word_for_taker(s.key), why) for s, why in fixed if why)
    return Packing(steps, names, before, after, exact)


def _keep_order(items: list[Movable], places: dict[int, int]) -> None:
    """Items of one width that move anyway take their new places in the order they stood in."""
    for width in {i.width for i in items}:
        moved = sorted((i for i in items if i.width == width and places[i.name] != i.start), key=lambda i: i.start)
        for item, at in zip(moved, sorted(places[i.name] for i in moved)):
            places[item.name] = at


def pack_items(items: list[Movable], free: list[Stretch], nodes: int = NODES) -> tuple[dict[int, int] | None, bool]:
    """Starts by item name such that the end of the last is lowest, then the moves fewest; and whether that is proved.

    Gives None when they do not fit at all. Branch and bound from left to right: at each place either what stands
    there stays, or another item moves in, or the rest of the stretch stays empty.
    """
    return _Search(items, free, nodes).run_search()


class _Search:
    def __init__(self, items: list[Movable], free: list[Stretch], nodes: int) -> None:
        self.items = sorted(items, key=lambda i: (i.start, i.name))
        self.free = free
        self.left = nodes
        self.best: dict[int, int] | None = None
        self.cost = (10**9, 10**9)
        self.seen: dict[tuple[int, int], int] = {}
        """The fewest moves with which a place was reached with these items left, as a mask of their names."""

    def run_search(self) -> tuple[dict[int, int] | None, bool]:
        if not self.items:
            return {}, True
        self._place_greedily(self.items)
        self._place_greedily(sorted(self.items, key=lambda i: -i.width))
        if self.free:
            self._search_step(0, self.free[0][0], list(self.items), {}, 0, 0)
        return self.best, self.left > 0

    def _place_greedily(self, order: list[Movable]) -> None:
        """A first answer: everything in this order at the lowest place that is still free."""
        room = list(self.free)
        places: dict[int, int] = {}
        for item in order:
            n = next((n for n, (a, b) in enumerate(room) if b - a + 1 >= item.width), -1)
            if n < 0:
                return
            a, b = room[n]
            places[item.name] = a
            room[n] = (a + item.width, b)
        self._offer_places(places)

    def _offer_places(self, places: dict[int, int]) -> None:
        end = max(places[i.name] + i.width - 1 for i in self.items)
        cost = (end, sum(places[i.name] != i.start for i in self.items))
        if cost < self.cost:
            self.cost, self.best = cost, dict(places)

    def _lowest_end(self, n: int, at: int, slots: int) -> int:
        """Where `slots` would end if they could be poured into the free stretches from here on."""
        for a, b in self.free[n:]:
            a = max(a, at)
            room = b - a + 1
            if room > 0:
                if slots <= room:
                    return a + slots - 1
                slots -= room
        return 10**9

    def _search_step(self, n: int, at: int, rest: list[Movable], places: dict[int, int], end: int, moves: int) -> None:
        if not rest:
            if (end, moves) < self.cost:
                self.cost, self.best = (end, moves), dict(places)
            return
        self.left -= 1
        if self.left <= 0 or n >= len(self.free):
            return
        slots = lost = mask = 0
        for i in rest:
            slots += i.width
            lost += i.start < at  # what stood before here has to move whatever happens
            mask |= 1 << i.name
        bound = max(end, self._lowest_end(n, at, slots))
        if (bound, moves + lost) >= self.cost or self.seen.get((at, mask), 10**9) <= moves:
            return
        self.seen[at, mask] = moves  # from here on only what is left and where counts, not how it came about
        last = self.free[n][1]
        for item in rest:
            if item.start == at and at + item.width - 1 <= last:
                self._take_place(item, n, at, rest, places, moves)
        gone: set[int] = set()
        for item in self._worth_moving(rest, at):
            if item.start == at or at + item.width - 1 > last or item.width in gone:
                continue
            if item.start < at:
                gone.add(item.width)  # moving one that cannot stay any more is never worse than moving another
            self._take_place(item, n, at, rest, places, moves + 1)
        for item in rest:  # leave a hole up to something that stays
            if at < item.start <= last - item.width + 1:
                self._take_place(item, n, item.start, rest, places, moves)
        if n + 1 < len(self.free):
            self._search_step(n + 1, self.free[n + 1][0], rest, places, end, moves)

    @staticmethod
    def _worth_moving(rest: list[Movable], at: int) -> list[Movable]:
        """The widest first; of one width those that cannot stay any more, then the last."""
        return sorted(rest, key=lambda i: (-i.width, i.start >= at, -i.start))

    def _take_place(
        self, item: Movable, n: int, at: int, rest: list[Movable], places: dict[int, int], moves: int
    ) -> None:
        places[item.name] = at
        left = [i for i in rest if i is not item]
        behind = at + item.width
        following = n + 1 if behind > self.free[n][1] and n + 1 < len(self.free) else n
        self._search_step(following, max(behind, self.free[following][0]), left, places, behind - 1, moves)
        del places[item.name]
