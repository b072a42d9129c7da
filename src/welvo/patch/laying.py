"""Laying out many items in one act: where each would stand, what is left over, who follows. Nothing is done yet.

Whoever gives addresses goes through here: the typed series, the form on the tapes, the next free place, copies, pastes
and the fixes of findings. So they keep to the same limits (a sender's universe size, what a port takes, reserves, what
is locked) and come to the same places. The filler places one item after another and never goes back: an operator who
lays out forty lamps expects the forty-first behind them, not in a gap that was too small for the third.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from welvo.patch.index import Index
from welvo.patch.steps import Breaks, PatchStep, apply_steps, footprint_of, is_locked, place_of
from welvo.rig.base import Refused
from welvo.rig.counting import SLOTS, Stretch, free_between
from welvo.rig.document import Edit, Rig
from welvo.rig.lookup import name_of_item, universes_in_order
from welvo.rig.notation import natural_sort_key, say_count, say_place
from welvo.rig.patched import Element

Pattern = Literal["packed", "gap", "spacing", "round"]
Order = Literal["list", "number", "name", "left to right", "front to back"]
ORDERS: tuple[Order, ...] = ("list", "number", "name", "left to right", "front to back")


class Laying(Struct, frozen=True):
    """How items are to be laid out.

    `start` is (universe id, address), None for the first free place. `pattern` is packed, a `gap` of `by` free slots
    between, a `spacing` of `by` slots from start to start, or `round` starts (1, 1 + by, 1 + 2·by …). `into` lists
    the universes to go through; empty: from the start on, in order of number. `headroom` slots stay free at the end
    of each. `together` keeps every group in one universe. `over` lays them over what is there, except what is locked.
    """

    start: tuple[str, int] | None = None
    pattern: Pattern = "packed"
    by: int = 0
    order: Order = "list"
    into: tuple[str, ...] = ()
    headroom: int = 0
    together: bool = False
    over: bool = False


class LaidOut(Struct, frozen=True):
    """A layout: `steps` in order, `left` what found no place, `why` it did not, `free_after` slots behind the last."""

    steps: tuple[PatchStep, ...]
    left: tuple[tuple[str, int], ...] = ()
    why: str = ""
    last: tuple[str, int, int] = ("", 0, 0)
    free_after: int = 0
    stays: tuple[str, ...] = ()
    """Items asked for that are locked or follow a cable, and therefore keep their places."""
    freed: tuple[str, ...] = ()
    """Items asked for that stood behind others and would get an address of their own."""


class _Universe:
    """The free stretches of one universe, walked from left to right."""

    def __init__(self, free: list[Stretch], limit: int) -> None:
        self.free, self.limit = free, limit

    def first_fit(self, width: int, low: int, fits: Callable[[int], int]) -> int:
        """The lowest start from `low` on where `width` slots are free; `fits` raises a start to one allowed. 0:
        none."""
        for a, b in self.free:
            if b < low:
                continue
            s = fits(max(a, low))
            if s + width - 1 <= b:
                return s
        return 0


class _Filler:
    """Places one item after another; never goes back."""

    def __init__(self, index: Index, laying: Laying, moving: Breaks) -> None:
        self.index, self.laying = index, laying
        rig = index.rig
        order = list(laying.into) or universes_in_order(rig)
        if not order:
            raise Refused("There is no universe yet. Add one first.")
        if (laying.start and not laying.into) or (laying.start and laying.start[0] in order):
            order = order[order.index(laying.start[0]) :]
        self.order = order
        self.moving = moving
        self._known: dict[str, _Universe] = {}
        self._widths: dict[tuple[str, str, int], int] = {}
        self.at = 0
        self.low = laying.start[1] if laying.start and laying.start[0] == order[0] else 1
        self.typed = bool(laying.start and laying.over)
        """Whether the next item is the first of a typed start, which is meant exactly as typed."""
        self.base = 0
        """The start of the item before in this universe, that spacing counts from; 0: none yet."""

    def slots_needed(self, key: str, break_no: int) -> int:
        """Slots of a break; of ten thousand fixtures of one mode it is looked up once."""
        fixture = self.index.rig.fixtures.get(key)
        if fixture is None:
            return footprint_of(self.index.rig, key, break_no)
        kind = (fixture.profile, fixture.mode, break_no)
        found = self._widths.get(kind)
        if found is None:
            found = self._widths[kind] = footprint_of(self.index.rig, key, break_no)
        return found

    def state_of_universe(self, uid: str) -> _Universe:
        found = self._known.get(uid)
        if found is None:
            rig = self.index.rig
            limit = self.index.limit_of_universe(uid).slots - self.laying.headroom
            taken = list(rig.universes[uid].reserve)
            for s in self.index.spans_on_universe(uid):
                if (s.item_of_span, s.break_no) in self.moving:
                    continue
                if self.laying.over and s.item_of_span and not is_locked(rig, s.item_of_span, max(0, s.break_no)):
                    continue
                taken.append((s.first, s.last))
            found = self._known[uid] = _Universe(free_between(taken, limit), limit)
        return found

    def _allowed_start(self, start: int) -> int:
        """The first start at or behind one that the way of laying allows."""
        pattern, by = self.laying.pattern, self.laying.by
        if pattern == "round" and by > 1:
            return 1 + -(-(start - 1) // by) * by
        if pattern == "spacing" and self.base and by > 0:
            return self.base + -(-(start - self.base) // by) * by
        return start

    def place_next(self, width: int) -> tuple[str, int] | None:
        """Universe and start for the next item, or None when it fits nowhere behind the last."""
        while self.at < len(self.order):
            uid = self.order[self.at]
            start = self.state_of_universe(uid).first_fit(width, self.low, self._allowed_start)
            if start:
                self.note_taken(start, width)
                return uid, start
            self.next_universe()
        return None

    def note_taken(self, start: int, width: int) -> None:
        pattern, by = self.laying.pattern, self.laying.by
        self.base = start
        free = start + width
        self.low = max(start + by, free) if pattern == "spacing" else free + by if pattern == "gap" else free

    def next_universe(self) -> None:
        self.at, self.low, self.base = self.at + 1, 1, 0

    def place_element(self, key: str, exactly: bool) -> tuple[str, int] | None:
        """An element starts where all its stretches are free. One that a universe holds stays in one, unless its start
        was typed (`exactly`)."""
        element = self.index.rig.elements[key]
        if self.laying.pattern == "spacing":
            return self._place_in_series(element, exactly)
        if (
            not exactly
            and element.slots_needed <= self.state_of_universe(self.order[min(self.at, len(self.order) - 1)]).limit
        ):
            return self.place_next(element.slots_needed)
        rig, cables = self.index.rig, self.index.cables_and_sums
        while self.at < len(self.order):
            uid = self.order[self.at]
            parts, _ = cables.stretch_element(element, rig.universes[uid].number, self.low)
            ids = [cables.universe_with_number(p.universe) for p in parts]
            if parts and (exactly or all(u and self._holds_something(u, p.first, p.last) for u, p in zip(ids, parts))):
                start = self.low
                last = next((n for n in range(len(ids) - 1, -1, -1) if ids[n] in self.order), 0)
                self.at = self.order.index(ids[last]) if ids[last] in self.order else len(self.order)
                self.low, self.base = parts[last].last + 1 + (self.laying.by if self.laying.pattern == "gap" else 0), 0
                return uid, start
            self.next_universe()
        return None

    def _place_in_series(self, element: Element, exactly: bool) -> tuple[str, int] | None:
        """The next start of a series, counted in slots from the start before, over the ends of universes."""
        cables, rig = self.index.cables_and_sums, self.index.rig
        while self.at < len(self.order):
            uid, start = self.order[self.at], self.low
            parts, _ = cables.stretch_element(element, rig.universes[uid].number, start)
            ids = [cables.universe_with_number(p.universe) for p in parts]
            free = all(u and self._holds_something(u, p.first, p.last) for u, p in zip(ids, parts))
            alone = len(parts) > 1 and element.slots_needed <= self.state_of_universe(uid).limit
            if parts and (exactly or (free and not alone)):
                ends = self.order.index(ids[-1]) if ids[-1] in self.order else len(self.order)
                self.at, self.low = max(self._counted_on(self.at, start + self.laying.by), (ends, parts[-1].last + 1))
                return uid, start
            if alone and not exactly:
                self.next_universe()  # what one universe holds is not cut: the series goes on at the next one's start
            else:
                self.at, self.low = self._counted_on(self.at, start + self.laying.by)
        return None

    def _counted_on(self, at: int, low: int) -> tuple[int, int]:
        """A start past its universe's end, as one in the universes behind."""
        while at < len(self.order) and low > self.index.rig.universes[self.order[at]].size:
            low -= self.index.rig.universes[self.order[at]].size
            at += 1
        return at, low

    def _holds_something(self, uid: str, first: int, last: int) -> bool:
        return any(a <= first and last <= b for a, b in self.state_of_universe(uid).free)


def _check_step(laying: Laying, widest: int) -> None:
    """A spacing is counted from start to start, so that one below the footprint would lay them on each other."""
    if laying.pattern in ("spacing", "round") and laying.by < 1:
        raise Refused(f"A {laying.pattern} needs a step of 1 slot or more.")
    if laying.pattern == "spacing" and laying.by < widest:
        raise Refused(
            f"A spacing of {laying.by} is less than the {say_count(widest, 'slot')} one takes: they would lie on each "
            "other. "
            f"Write +{widest}, or gap for the slots left free between."
        )


def items_in_order(rig: Rig, keys: list[tuple[str, int]], order: Order) -> list[tuple[str, int]]:
    """Items in the order they are to be laid out; those without a spot or number come last, as they stood."""
    if order == "list":
        return keys

    def rank(item: tuple[str, int]) -> tuple[object, ...]:
        key = item[0]
        fixture = rig.fixtures.get(key)
        if order == "number":
            return (0, fixture.number) if fixture else (1, 0)
        if order == "name":
            name = fixture.name if fixture else rig.elements[key].name
            return tuple(natural_sort_key(name))
        if fixture is None or fixture.spot is None:
            return (1, 0.0, 0.0)
        x, y, _ = fixture.spot
        return (0, x, y) if order == "left to right" else (0, y, x)

    return sorted(keys, key=rank)


def _bundle_items(rig: Rig, keys: list[tuple[str, int]], together: bool) -> list[list[tuple[str, int]]]:
    """What has to stay in one universe: each group's items; without groups all that was asked for."""
    if not together:
        return [[k] for k in keys]
    group_of: dict[str, str] = {}
    for gid, group in rig.groups.items():
        for member in group.members:
            group_of.setdefault(member, gid)
    found: dict[str, list[tuple[str, int]]] = {}
    for item in keys:
        found.setdefault(group_of.get(item[0], ""), []).append(item)
    return list(found.values())


def lay_out_items(index: Index, keys: list[tuple[str, int]], laying: Laying, keep_runs: bool = True) -> LaidOut:
    """Where each break or element would stand. Locked ones keep their places and are gone around.

    What follows a cable stays with it, unless `keep_runs` is off: then a typed address takes it off its cable.
    Raises Refused when the wish itself cannot be (no universe, a start past the end, a spacing below a footprint).
    """
    rig = index.rig
    kinds = {(f.profile, f.mode, b): (k, b) for k, b in keys if (f := rig.fixtures.get(k))}
    widths = [footprint_of(rig, *k) for k in (*kinds.values(), *((k, 0) for k, _ in keys if k in rig.elements))]
    _check_step(laying, max(widths, default=0))
    if laying.start:
        uid, address = laying.start
        if address > index.limit_of_universe(uid).slots - laying.headroom:
            limit = index.limit_of_universe(uid)
            why = f" ({limit.why})" if limit.why else ""
            raise Refused(
                f"{say_place(rig.universes[uid].number, address)} lies past the last slot to use, "
                f"{limit.slots - laying.headroom}{why}."
            )
    places = {k: place_of(rig, *k) for k in keys}
    resting = {k for k, p in places.items() if p.locked or (keep_runs and p.origin_of_place == "run")}
    movable = [k for k in items_in_order(rig, keys, laying.order) if k not in resting]
    stays = tuple(dict.fromkeys(k for k, b in keys if (k, b) in resting))
    freed = tuple(dict.fromkeys(k for k, b in movable if places[k, b].origin_of_place == "anchored"))
    leader = _leaders_of_shares(index, movable)
    riders = [k for k in movable if k[0] in leader]
    movable = [k for k in movable if k[0] not in leader]
    filler = _Filler(index, laying, frozenset([*movable, *riders]))
    steps: list[PatchStep] = []
    left: list[tuple[str, int]] = []
    why = ""
    for bundle in _bundle_items(rig, movable, laying.together):
        placed = _place_bundle(filler, rig, bundle)
        if placed is None:
            left += bundle
            needed = sum(footprint_of(rig, *k) for k in bundle)
            who = (
                name_of_item(rig, bundle[0][0]) if len(bundle) == 1 else f"the {len(bundle)} items that belong together"
            )
            why = why or f"{who} ({say_count(needed, 'slot')}) found no place."
            if not laying.together:
                left += [k for k in movable if k not in {(s.key, s.break_no) for s in steps} and k not in left]
                break
        else:
            steps += placed
    last, after = ("", 0, 0), 0
    placed_at = {(s.key, s.break_no): s for s in steps}
    if steps:
        s = steps[-1]
        end = s.address + footprint_of(rig, s.key, s.break_no) - 1
        last = (s.universe, s.address, end)
        after = next((b - end for a, b in filler.state_of_universe(s.universe).free if a <= end + 1 <= b), 0)
    for key, break_no in riders:
        lead = placed_at.get((leader[key], break_no))
        if lead:
            steps.append(PatchStep(key, break_no, lead.universe, lead.address))
        else:
            left.append((key, break_no))
    return LaidOut(tuple(steps), tuple(left), why, last, after, stays, freed)


def lay_out_tracks(index: Index, keys: list[tuple[str, int]], laying: Laying) -> LaidOut:
    """As `lay_out_items`; but a break that stands in another universe than the first one of its lamp is laid out in
    the same way from where the lowest of its kind stands now, instead of being drawn into the first one's universe."""
    rig = index.rig
    apart: dict[int, list[tuple[str, int]]] = {}
    for key, break_no in keys:
        first, own = index.span_of_break(key, 0), index.span_of_break(key, break_no)
        if break_no and first and own and own.universe != first.universe:
            apart.setdefault(break_no, []).append((key, break_no))
    elsewhere = {k for found in apart.values() for k in found}
    if not elsewhere or all(k in elsewhere for k in keys):
        return lay_out_items(index, keys, laying)
    laid = lay_out_items(index, [k for k in keys if k not in elsewhere], laying)
    for found in apart.values():
        now = Index(apply_steps(rig, list(laid.steps), "")[0])  # they go around what has just been laid out
        spans = [s for k in found if (s := index.span_of_break(*k))]
        lowest = min(spans, key=lambda s: (rig.universes[s.universe].number, s.first))
        widest = max(footprint_of(rig, *k) for k in found)
        by = max(laying.by, widest) if laying.pattern == "spacing" else laying.by
        order = universes_in_order(rig)
        more = lay_out_items(
            now, found, replace(laying, start=(lowest.universe, lowest.first), by=by,
                                into=tuple(order[order.index(lowest.universe) :])),
        )  # fmt: skip
        laid = replace(
            laid, steps=laid.steps + more.steps, left=laid.left + more.left, why=laid.why or more.why,
            stays=tuple(dict.fromkeys(laid.stays + more.stays)), freed=tuple(dict.fromkeys(laid.freed + more.freed)),
        )  # fmt: skip
    return laid


def _leaders_of_shares(index: Index, keys: list[tuple[str, int]]) -> dict[str, str]:
    """Members of shares that stand as declared go where the first of them goes: item → the first one asked for."""
    asked = list(dict.fromkeys(k for k, _ in keys))
    found: dict[str, str] = {}
    for share in index.rig.shares.values():
        here = [k for k in asked if k in share.members]
        if (
            share.kind == "share"
            and len(here) > 1
            and len({tuple((s.universe, s.first) for s in index.spans_of(k)) for k in here}) == 1
        ):
            found.update(dict.fromkeys(here[1:], here[0]))
    return found


def _place_bundle(filler: _Filler, rig: Rig, bundle: list[tuple[str, int]]) -> list[PatchStep] | None:
    """All of a bundle; more than one item must end up in one universe."""
    while filler.at < len(filler.order):
        begun = filler.at
        state = (filler.low, filler.base)
        steps: list[PatchStep] = []
        for key, break_no in bundle:
            if key in rig.elements:
                spot = filler.place_element(key, exactly=filler.typed)
            else:
                spot = filler.place_next(filler.slots_needed(key, break_no))
            filler.typed = False
            if spot is None or (len(bundle) > 1 and steps and spot[0] != steps[0].universe):
                break
            steps.append(PatchStep(key, break_no, *spot))
        if len(steps) == len(bundle):
            return steps
        if len(bundle) == 1:
            return None
        first = filler.order.index(steps[0].universe) if steps else begun
        filler.at, (filler.low, filler.base) = begun, state
        while filler.at <= first:
            filler.next_universe()
    return None


class MoreFit(Struct, frozen=True):
    """How many more fit, with the last one's place and what is left behind it."""

    count: int
    universe: str = ""
    first: int = 0
    last: int = 0
    left_over: int = 0


def how_many(
    index: Index, width: int, laying: Laying, most: int = 10_000, behind: tuple[int, int] | None = None
) -> MoreFit:
    """How many items of a width fit from here, exactly. Raises Refused as `lay_out_items` does.

    `behind` is the start and width of one that is laid already, from which spacing and gaps count on.
    """
    if width < 1:
        raise Refused("What takes no slots fits any number of times.")
    _check_step(laying, width)
    filler = _Filler(index, laying, frozenset())
    if behind:
        filler.note_taken(*behind)
    count, at, left = 0, ("", 0), 0
    while count < most:
        spot = filler.place_next(width)
        if spot is None:
            break
        count, at = count + 1, spot
    if count:
        end = at[1] + width - 1
        left = next((b - end for a, b in filler.state_of_universe(at[0]).free if a <= end + 1 <= b), 0)
    return MoreFit(count, at[0], at[1], at[1] + width - 1 if count else 0, left)


def take_layout(rig: Rig, laid: LaidOut, label: str = "") -> Edit:
    """Do a layout that was looked at."""
    if not laid.steps:
        raise Refused(laid.why or "Nothing was laid out.")
    first = laid.steps[0]
    items = len({s.key for s in laid.steps})
    who = name_of_item(rig, first.key) if items == 1 else say_count(items, "item")
    return apply_steps(
        rig,
        list(laid.steps),
        label or f"lay out {who} from {say_place(rig.universes[first.universe].number, first.address)}",
    )


def steps_that_change(index: Index, laid: LaidOut) -> list[PatchStep]:
    """Those steps that change anything."""
    now = {
        (s.key, s.break_no): (s.universe, s.first)
        for k in {s.key for s in laid.steps}
        for s in reversed(index.spans_of(k))
    }
    return [s for s in laid.steps if now.get((s.key, s.break_no)) != (s.universe, s.address)]


def items_that_follow_layout(index: Index, laid: LaidOut) -> list[str]:
    """Items that are not laid out themselves but move because they are anchored to one that is."""
    asked = {s.key for s in laid.steps}
    moved = {s.key for s in steps_that_change(index, laid)}
    return list(dict.fromkeys(f for key in moved for f in index.items_that_follow(key) if f not in asked))


def next_free(
    index: Index,
    width: int,
    universe: str = "",
    start: int = 1,
    moving: Breaks = frozenset(),
    highest: int = SLOTS,
    reach: Callable[[str], int] = lambda _: SLOTS,
) -> tuple[str, int] | None:
    """The next free place for so many slots: in the universe given from `start` on, in those after it, then in those
    before. What is in `moving` does not count as taken; no start above `highest` is given, and nothing that ends above
    what `reach` says of its universe."""
    order = universes_in_order(index.rig)
    if not order or width < 1:
        return None
    at = order.index(universe) if universe in order else 0
    turn = (*order[at:], *order[:at])
    filler = _Filler(index, Laying(start=(turn[0], start), into=turn), moving)
    while filler.at < len(turn):
        found = filler.state_of_universe(turn[filler.at]).first_fit(width, filler.low, lambda s: s)
        if found and found <= highest and found + width - 1 <= reach(turn[filler.at]):
            return turn[filler.at], found
        filler.next_universe()
    return None
