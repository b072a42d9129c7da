"""Moving, copying and swapping items that are patched already, and what a mode change would do."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable

from msgspec.structs import replace

from welvo.patch.index import Index
from welvo.patch.laying import Laying, lay_out_items
from welvo.patch.steps import PatchStep, apply_steps, footprint_of, is_locked, place_of
from welvo.rig.base import Refused
from welvo.rig.document import Change, Edit, Rig, fresh_ids, put_entries
from welvo.rig.edits import with_place
from welvo.rig.lookup import mode_of, name_of_item, universe_by_number, universes_in_order
from welvo.rig.notation import Shift, say_count, say_place
from welvo.rig.patched import Element, Fixture, Place
from welvo.rig.protocol import PROTOCOLS


def shift_breaks(index: Index, keys: list[tuple[str, int]], shift: Shift) -> list[PatchStep]:
    """Every break moved by slots and whole universes. What would leave its universe is refused by name."""
    rig = index.rig
    steps = []
    for key, break_no in keys:
        if is_locked(rig, key, break_no):
            raise Refused(f"{name_of_item(rig, key)} is locked. Unlock it first, or leave it out.")
        span = index.span_of_break(key, break_no)
        if span is None:
            raise Refused(f"{name_of_item(rig, key)} has no address that could be moved on.")
        number = rig.universes[span.universe].number + shift.universes
        uid = universe_by_number(rig, number)
        if not uid:
            raise Refused(f"{name_of_item(rig, key)} would go to universe {number}, which is not there.")
        address = span.first + shift.by
        last = address + footprint_of(rig, key, break_no) - 1
        size = rig.universes[uid].size
        if address < 1 or (key in rig.fixtures and last > size) or address > size:
            where = say_place(number, address) if address > 0 else f"before {say_place(number, 1)}"
            raise Refused(f"{name_of_item(rig, key)} would go to {where} and no longer fit its universe of {size}.")
        steps.append(PatchStep(key, break_no, uid, address))
    return steps


def make_copies(index: Index, keys: list[str], times: int, patched: bool = True) -> tuple[Edit, list[str]]:
    """So many copies of each item, on the next free places; and the names of those that found none."""
    rig = index.rig
    new, change = copy_items(rig, keys, times=times)
    if not patched:
        return (new, change), []
    order = universes_in_order(rig)
    if not order:
        return (new, change), [name_of_item(new, k) for k in change.made]
    steps: list[PatchStep] = []
    left: list[str] = []
    # A break that stands in another universe than the first one does so on purpose: its copies stay with it there.
    for lead, breaks in _tracks_of_copies(index, keys, change.made, new).items():
        into = tuple(order[order.index(lead) :]) if lead in order else tuple(order)
        laid = lay_out_items(Index(apply_steps(new, steps, "")[0]), breaks, Laying(into=into))
        steps += laid.steps
        left += [name_of_item(new, k) for k, _ in laid.left]
    return (apply_steps(new, steps, change.label)[0] if steps else new, change), list(dict.fromkeys(left))


def _tracks_of_copies(index: Index, keys: list[str], made: Iterable[str], new: Rig) -> dict[str, list[tuple[str, int]]]:
    """The breaks of copies by the universe from which on each looks for room: that of the original's own break."""
    originals = [k for k in keys if k in index.rig.fixtures] + [k for k in keys if k in index.rig.elements]
    fixtures = [k for k in originals if k in index.rig.fixtures]
    elements = [k for k in originals if k in index.rig.elements]
    tracks: dict[str, list[tuple[str, int]]] = {}
    lead = next((s.universe for k in keys for s in index.spans_of(k)), "")
    counts = {"f": 0, "e": 0}
    for key in made:
        kind, own = ("f", fixtures) if key in new.fixtures else ("e", elements)
        original = own[counts[kind] % len(own)]
        counts[kind] += 1
        first = index.span_of_break(original)
        for b in _breaks_of(new, key):
            if not footprint_of(new, key, b):
                continue
            span = index.span_of_break(original, b)
            apart = span and first and span.universe != first.universe
            tracks.setdefault(span.universe if span and apart else lead, []).append((key, b))
    return tracks


def numbers_from(rig: Rig, first: int, count: int) -> list[int]:
    """Free numbers from `first` on, skipping those that are taken."""
    taken = {f.number for f in rig.fixtures.values()}
    found: list[int] = []
    n = first
    while len(found) < count:
        if n not in taken:
            found.append(n)
        n += 1
    return found


class FreeNumbers:
    """Numbers that are taken, and the next one that is free from any on, without counting through all of them."""

    def __init__(self, taken: Iterable[int]) -> None:
        self._next: dict[int, int] = {n: n + 1 for n in taken}

    def __contains__(self, number: int) -> bool:
        return number in self._next

    def take_number(self, number: int) -> None:
        self._next.setdefault(number, number + 1)

    def at_or_above(self, number: int) -> int:
        """The lowest free number from this one on."""
        found = number
        while found in self._next:
            found = self._next[found]
        while number != found:  # whoever asks from here the next time is there at once
            self._next[number], number = found, self._next[number]
        return found


def next_copy_name(name: str, taken: Collection[str]) -> str:
    """The name of a copy: counted on from the number it ends with, past those that are taken; `Kelp 4` → `Kelp 5`."""
    m = re.fullmatch(r"(.*?)(\d+)", name)
    stem, digits = (m[1], m[2]) if m else (f"{name} ", "1")
    n = int(digits)
    while True:
        n += 1
        found = f"{stem}{n:0{len(digits)}d}"
        if found not in taken:
            return found


def copy_items(rig: Rig, keys: list[str], steps: list[PatchStep] | None = None, times: int = 1) -> Edit:
    """Copies with free numbers behind the highest and names that count on; placed where `steps` say (by the original's
    key), else unpatched. `times` of each, all of one after the other."""
    where = {(s.key, s.break_no): Place(universe=s.universe, address=s.address) for s in steps or []}
    fixtures: dict[str, Fixture] = {}
    elements: dict[str, Element] = {}
    highest = max((f.number for f in rig.fixtures.values()), default=100)
    originals = [k for k in keys if k in rig.fixtures] * times
    used = {f.name for f in rig.fixtures.values()}
    ids = fresh_ids("f", rig.fixtures)
    for key, number in zip(originals, numbers_from(rig, highest + 1, len(originals))):
        old = rig.fixtures[key]
        name = next_copy_name(old.name, used) if re.search(r"\d$", old.name) else old.name
        used.add(name)
        made = replace(old, number=number, name=name, at=())
        for (k, break_no), place in where.items():
            if k == key:
                made = replace(made, at=with_place(made, break_no, place))
        fixtures[next(ids)] = made
    names = {e.name for e in rig.elements.values()}
    ids = fresh_ids("e", rig.elements)
    for key in (k for k in keys * times if k in rig.elements):
        e = rig.elements[key]
        name = next_copy_name(e.name, names)
        names.add(name)
        elements[next(ids)] = replace(e, name=name, at=where.get((key, 0), Place()))
    what = name_of_item(rig, keys[0]) if len(keys) == 1 else say_count(len(keys), "item")
    return put_entries(rig, f"copy {what}", fixtures=fixtures, elements=elements, made=(*fixtures, *elements))


def swap_places(index: Index, a: tuple[str, int], b: tuple[str, int]) -> list[PatchStep]:
    """Two breaks change places: each starts where the other started. Locked or anchored ones are refused."""
    rig = index.rig
    starts = []
    for key, break_no in (a, b):
        if is_locked(rig, key, break_no):
            raise Refused(f"{name_of_item(rig, key)} is locked. Unlock it first.")
        span = index.span_of_break(key, break_no)
        if span is None or place_of(rig, key, break_no).origin_of_place != "typed":
            raise Refused(f"{name_of_item(rig, key)} has no typed address to give away.")
        starts.append((span.universe, span.first))
    for (key, break_no), (uid, address) in ((a, starts[1]), (b, starts[0])):
        if key in rig.fixtures and address + footprint_of(rig, key, break_no) - 1 > rig.universes[uid].size:
            raise Refused(f"{name_of_item(rig, key)} would end past universe {rig.universes[uid].number} there.")
    return [PatchStep(*a, *starts[1]), PatchStep(*b, *starts[0])]


def swap_items(index: Index, a: tuple[str, int], b: tuple[str, int]) -> Edit:
    """Two items change places. Of lamps with several breaks all that both have patched: half a lamp in another's place
    is nobody's wish. Different breaks are swapped alone."""
    rig = index.rig
    steps = swap_places(index, a, b)
    for n in range(8) if a[1] == b[1] else ():
        if n != a[1] and index.span_of_break(a[0], n) and index.span_of_break(b[0], n) and n in _breaks_of(rig, a[0]):
            steps += swap_places(index, (a[0], n), (b[0], n))
    return apply_steps(rig, steps, f"swap {name_of_item(rig, a[0])} and {name_of_item(rig, b[0])}")


def _breaks_of(rig: Rig, key: str) -> range:
    fixture = rig.fixtures.get(key)
    mode = mode_of(rig, fixture) if fixture else None
    return range(len(mode.breaks) if mode else 1)


def renumber_universes(
    rig: Rig, uids: list[str], first: int, wires: bool
) -> tuple[Rig, Change, list[tuple[str, str, str]]]:
    """A block of universes counted anew from `first`, in order of their present numbers, and what that changes.

    With `wires` each feed that went by its universe's number goes by the new one; ports follow their feeds. A number
    that another universe has, or a wire number that another universe's feed has, is refused.
    """
    block = [u for u in universes_in_order(rig) if u in set(uids)]
    new = {u: first + n for n, u in enumerate(block)}
    for u, number in new.items():
        other = next((k for k, v in rig.universes.items() if v.number == number and k not in new), "")
        if other:
            raise Refused(f"Universe {number} is there already and is not part of the block.")
        if not 1 <= number <= 63999:
            raise Refused(f"Universe {rig.universes[u].number} would become {number}; they run from 1 to 63999.")
    said = [(f"universe {rig.universes[u].number}", str(rig.universes[u].number), str(n)) for u, n in new.items()]
    feeds = {}
    if wires:
        from welvo.rig.edits import check_feed
        from welvo.rig.protocol import say_wire

        for fid, feed in rig.feeds.items():
            if feed.universe in new and PROTOCOLS[feed.protocol].has_universe_numbers:
                delta = new[feed.universe] - rig.universes[feed.universe].number
                if feed.wire + delta < 0:
                    raise Refused(f"{say_wire(feed.protocol, feed.wire)} cannot go {-delta} lower.")
                feeds[fid] = replace(feed, wire=feed.wire + delta)
                check_feed(feeds[fid])
                said.append(
                    (
                        f"its feed {say_wire(feed.protocol, feed.wire)}",
                        say_wire(feed.protocol, feed.wire),
                        say_wire(feed.protocol, feed.wire + delta),
                    )
                )
    universes = {u: replace(rig.universes[u], number=n) for u, n in new.items()}
    made, change = put_entries(
        rig, f"renumber {say_count(len(block), 'universe')} from {first}", universes=universes, feeds=feeds
    )
    return made, change, [s for s in said if s[1] != s[2]]
