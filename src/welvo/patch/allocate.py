"""Giving out addresses: the next free place, series, and adding many fixtures in one act."""

from __future__ import annotations

import re
from dataclasses import dataclass
from difflib import get_close_matches

from msgspec.structs import replace

from welvo.patch.index import Index, Span
from welvo.rig.base import Refused
from welvo.rig.counting import SLOTS, free_between, how_many_fit, stretches
from welvo.rig.document import Change, Edit, Rig, put
from welvo.rig.edits import add_universe, with_place
from welvo.rig.lookup import call, mode_of, universe_by_number, universes_in_order
from welvo.rig.notation import plural, read_place, read_series, say_place
from welvo.rig.patched import Element, Fixture, Place

Breaks = frozenset[tuple[str, int]]
"""Breaks of things that are on the move, so that their present places do not count as taken."""


def next_free(
    index: Index,
    universe: str,
    footprint: int,
    start: int = 1,
    ignore: Breaks = frozenset(),
    highest: int = SLOTS,
) -> int | None:
    """The first address from `start` on where `footprint` slots are free up to the universe's limit, or None.

    Slots declared as reserve and those above `highest` are never given out.
    """
    size = min(index.limit(universe).slots, highest)
    taken = [(s.first, s.last) for s in index.on(universe) if (s.key, s.brk) not in ignore]
    taken += index.rig.universes[universe].reserve
    for a, b in free_between(taken, size):
        at = max(a, start)
        if at + footprint - 1 <= b:
            return at
    return None


def next_free_anywhere(
    index: Index,
    footprint: int,
    universe: str = "",
    start: int = 1,
    ignore: Breaks = frozenset(),
    highest: int = SLOTS,
) -> tuple[str, int] | None:
    """The next free place in the universe given, then in those after it, then in those before."""
    order = universes_in_order(index.rig)
    at = order.index(universe) if universe in order else 0
    for uid in order[at:] + order[:at]:
        found = next_free(index, uid, footprint, start if uid == universe else 1, ignore, highest)
        if found:
            return uid, found
    return None


@dataclass(frozen=True)
class Landing:
    """What placing a thing somewhere would mean, before it is done.

    `meets` lists (thing, universe id, first, last) of what it would lie on; `cuts` the pixels it would have in two
    universes, `goes_on` the number of the last universe it runs into, `needs` one that the rig does not have.
    """

    universe: str
    first: int
    last: int
    meets: tuple[tuple[str, str, int, int], ...]
    free_before: int
    free_after: int
    past_end: int
    refused: str = ""
    cuts: tuple[int, ...] = ()
    goes_on: int = 0
    needs: int = 0
    why: str = ""
    """Whose doing it is when the end is not the universe's own."""

    @property
    def clean(self) -> bool:
        return not self.meets and not self.past_end and not self.refused and not self.cuts and not self.needs


def landing(
    index: Index, key: str, brk: int, universe: str, address: int, ignore: frozenset[str] = frozenset()
) -> Landing:
    """Consequences of moving one break of a thing to an address: whom it meets, what is free around it.

    Things in `ignore` move along and are not met.
    """
    rig = index.rig
    limit = index.limit(universe)
    size = limit.slots
    element = rig.elements.get(key)
    fixture = rig.fixtures.get(key)
    cuts: tuple[int, ...] = ()
    goes_on = needs = 0
    if element:
        u = rig.universes[universe]
        unit = 1 if element.kind == "block" else len(element.order)
        parts = stretches(address, element.footprint, unit, u.size, element.whole)
        last = parts[0][2] if parts else address
        mine = []
        for ahead, a, b, before in parts:
            uid = universe if not ahead else universe_by_number(rig, u.number + ahead)
            if not uid:
                needs = u.number + ahead
                break
            mine.append((uid, a, b))
            goes_on = u.number + ahead if ahead else 0
            if before % unit:
                cuts += (before // unit + 1,)
    else:
        last = address + footprint_of(rig, key, brk) - 1
        mine = [(universe, address, last)]
    found = []
    for uid, a, b in mine:
        for s in index.on(uid):
            if s.first > b:
                break
            if s.last < a or (s.key, s.brk) == (key, brk) or s.key in ignore or (element and s.key == key):
                continue
            if index.meant(Span(key, brk, uid, a, b, 0), s):
                continue
            found.append((s.key, uid, max(a, s.first), min(b, s.last)))
    others = [s for s in index.on(universe) if (s.key, s.brk) != (key, brk) and s.key not in ignore]
    before_ = address - 1 - max((s.last for s in others if s.last < address), default=0)
    after = min((s.first for s in others if s.first > last), default=size + 1) - last - 1
    place = fixture.place(brk) if fixture else element.at if element else Place()
    refused = f"{call(rig, key)} is locked" if place.locked else ""
    if place.way == "run":
        refused = refused or f"{call(rig, key)} follows its cable"
    return Landing(
        universe, address, last, tuple(found), max(0, before_), max(0, after), max(0, last - size), refused, cuts, goes_on, needs, limit.why
    )  # fmt: skip


def footprint_of(rig: Rig, key: str, brk: int = 0) -> int:
    fixture = rig.fixtures.get(key)
    if fixture:
        mode = mode_of(rig, fixture)
        return mode.breaks[brk].slots if mode and brk < len(mode.breaks) else 0
    element: Element | None = rig.elements.get(key)
    return element.footprint if element else 0


@dataclass(frozen=True)
class Step:
    """One line of a preview: what moves from where to where."""

    key: str
    brk: int
    universe: str
    address: int


def lay_out(
    index: Index,
    keys: list[tuple[str, int]],
    start: tuple[str, int] | None,
    spacing: int | None,
    gap: int | None,
    begin: str = "",
) -> list[Step]:
    """Addresses for breaks in list order: from `start` packed, spaced or gapped; without a start, next free places (from universe `begin` on).

    A thing that no longer fits goes to 1 of the next universe of the rig. Locked places are refused by name.
    Raises Refused when the universes run out.
    """
    rig = index.rig
    for key, brk in keys:
        fixture = rig.fixtures.get(key)
        if fixture and fixture.place(brk).locked:
            raise Refused(f"{fixture.number} is locked. Unlock it first, or leave it out.")
    order = universes_in_order(rig)
    if not order:
        raise Refused("There is no universe yet. Add one first.")
    steps: list[Step] = []
    if start is None:
        moving = frozenset(keys)
        placed: list[Span] = []
        uid = begin if begin in order else order[0]
        cursor = 1
        for key, brk in keys:
            width = footprint_of(rig, key, brk)
            spot = _free_beside(index, order, uid, cursor, width, moving, placed)
            if spot is None:
                raise Refused(f"No place is free for {call(rig, key)} ({width} slots). Add a universe.")
            uid, cursor = spot[0], spot[1] + width
            placed.append(Span(key, brk, spot[0], spot[1], spot[1] + width - 1, 0))
            steps.append(Step(key, brk, *spot))
        return steps
    uid, address = start
    for n, (key, brk) in enumerate(keys):
        width = footprint_of(rig, key, brk)
        size = rig.universes[uid].size
        if n and address + width - 1 > size:
            following = order[order.index(uid) + 1 :]
            if not following:
                fits = how_many_fit(start[1], spacing or width + (gap or 0), width, size)
                raise Refused(
                    f"{call(rig, key)} does not fit any more: {fits} of {len(keys)} fit. "
                    f"Add universe {rig.universes[uid].number + 1}, or start lower."
                )
            uid, address = following[0], 1
        steps.append(Step(key, brk, uid, address))
        address += spacing if spacing is not None else width + (gap or 0)
    return steps


def _free_beside(
    index: Index, order: list[str], uid: str, start: int, width: int, moving: Breaks, placed: list[Span]
) -> tuple[str, int] | None:
    for u in order[order.index(uid) :]:
        at: int | None = start if u == uid else 1
        while at is not None:
            at = next_free(index, u, width, at, moving)
            if at is None:
                break
            meets = [s for s in placed if s.universe == u and s.first <= at + width - 1 and at <= s.last]
            if not meets:
                return u, at
            at = max(s.last for s in meets) + 1
            if at > 512:
                at = None
    return None


def apply_steps(rig: Rig, steps: list[Step], label: str) -> Edit:
    fixtures: dict[str, Fixture] = {}
    elements: dict[str, Element] = {}
    for step in steps:
        place = Place(universe=step.universe, address=step.address)
        if step.key in rig.elements:
            elements[step.key] = replace(rig.elements[step.key], at=place)
        else:
            old = fixtures.get(step.key, rig.fixtures[step.key])
            fixtures[step.key] = replace(old, at=with_place(old, step.brk, place))
    return put(rig, label, fixtures=fixtures, elements=elements)


def patch_series(index: Index, keys: list[tuple[str, int]], text: str) -> Edit:
    """Patch breaks by what was typed: `3.1`, `3.1 +8`, `3.1 gap 2`, or `free` for the next free places."""
    rig = index.rig
    if text.strip().lower() == "free":
        steps = lay_out(index, keys, None, None, None)
    else:
        series = read_series(text)
        number, address = read_place(series.start)
        uid = universe_by_number(rig, number)
        if not uid:
            raise Refused(f"There is no universe {number} in this rig yet.")
        if len(keys) == 1:
            width = footprint_of(rig, *keys[0])
            size = rig.universes[uid].size
            if keys[0][0] in rig.fixtures and address + width - 1 > size:
                raise Refused(
                    f"{call(rig, keys[0][0])} takes {width} slots; from {say_place(number, address)} it would end at "
                    f"{address + width - 1}, past {size}. The highest start is {size - width + 1}."
                )
        steps = lay_out(index, keys, (uid, address), series.spacing, series.gap)
    first = steps[0]
    who = call(rig, keys[0][0]) if len(keys) == 1 else plural(len(keys), "fixture")
    return apply_steps(rig, steps, f"move {who} to {say_place(rig.universes[first.universe].number, first.address)}")


@dataclass(frozen=True)
class Wish:
    """What `12 x Bar 9 at 1.001` asks for."""

    count: int
    profile: str
    mode: str
    start: str
    """A series, `free`, or empty for unpatched."""


def read_wish(rig: Rig, text: str) -> Wish:
    """Read `12 x Bar 9 at 1.001 +40`, with `(mode)` behind the name when it is not the first one."""
    m = re.fullmatch(
        r"\s*(?:(\d+)\s*[x×*]\s*)?(.+?)(?:\s*\(\s*([^)]*)\s*\))?(?:\s+at\s+(.+?))?\s*", text, re.IGNORECASE
    )
    if not m or not text.strip():
        raise Refused("Say how many of what, and where: 12 x Bar 9 at 1.001")
    count = int(m[1] or 1)
    if not 1 <= count <= 10_000:
        raise Refused("Add between 1 and 10 000 fixtures at a time.")
    names = {p.name.lower(): pid for pid, p in rig.profiles.items()}
    names |= {f"{p.maker} {p.name}".strip().lower(): pid for pid, p in rig.profiles.items()}
    wanted = m[2].strip().lower()
    pid = names.get(wanted, "")
    if not pid:
        near = get_close_matches(wanted, names, 1, 0.5)
        hint = f" Did you mean {rig.profiles[names[near[0]]].name}?" if near else ""
        raise Refused(f"There is no profile “{m[2].strip()}” in this rig.{hint}")
    modes = rig.profiles[pid].modes
    if m[3] is None:
        mid = next(iter(modes))
    else:
        mid = next((k for k, v in modes.items() if v.name.lower() == m[3].strip().lower()), "")
        if not mid:
            raise Refused(
                f"{rig.profiles[pid].name} has no mode “{m[3].strip()}”. It has: "
                + ", ".join(v.name for v in modes.values())
                + "."
            )
    return Wish(count, pid, mid, (m[4] or "").strip())


def add_fixtures(index: Index, wish: Wish, first_number: int | None = None, name: str = "") -> Edit:
    """Add fixtures with numbers and names, patched as wished. Universes that are named or run on into are made."""
    rig = index.rig
    profile = rig.profiles[wish.profile]
    taken = {f.number for f in rig.fixtures.values()}
    number = first_number or max(taken, default=100) + 1
    made: dict[str, Fixture] = {}
    serial = len(rig.fixtures) + 1
    for n in range(wish.count):
        if number + n in taken:
            raise Refused(f"Number {number + n} is taken already. Start the numbers somewhere else.")
        while f"f{serial}" in rig.fixtures or f"f{serial}" in made:
            serial += 1
        fid = f"f{serial}"
        text = (
            name.replace("#", str(n + 1)) if "#" in name else (f"{name} {n + 1}" if name and wish.count > 1 else name)
        )
        made[fid] = Fixture(number=number + n, name=text or profile.name, profile=wish.profile, mode=wish.mode)
    label = f"add {wish.count} {profile.name}"
    base, change = put(rig, label, fixtures=made)
    if not wish.start:
        return base, replace(change, made=tuple(made))
    mode = profile.modes[wish.mode]
    base, fresh = _with_universes(base, wish, mode.breaks[0].slots)
    room = Index(base)
    breaks = len(mode.breaks)
    keys = [(fid, 0) for fid in made]
    patched, _ = patch_series(room, keys, wish.start)
    for b in range(1, breaks):
        patched, more = _further_break(patched, list(made), b, label)
        fresh += more
    universes = {"universes": frozenset(fresh)} if fresh else {}
    return patched, Change(label, {"fixtures": frozenset(made), **universes}, tuple(made))


def _further_break(rig: Rig, keys: list[str], brk: int, label: str) -> tuple[Rig, list[str]]:
    """The next free places for another break of new fixtures, from the first one's universe on; gives universes made."""
    made: list[str] = []
    index = Index(rig)
    begin = next((s.universe for k in keys for s in index.spans(k)), "")
    while True:
        try:
            steps = lay_out(Index(rig), [(k, brk) for k in keys], None, None, None, begin)
            return apply_steps(rig, steps, label)[0], made
        except Refused:
            highest = max(u.number for u in rig.universes.values())
            if len(made) >= 100 or highest >= 63999:
                raise
            rig, change = add_universe(rig, highest + 1)
            uid = change.made[0]
            made.append(uid)


def _with_universes(rig: Rig, wish: Wish, width: int) -> tuple[Rig, list[str]]:
    """The universes that a wish needs and the rig does not have: the one it names, and as many as it runs on into."""
    made: list[str] = []
    if wish.start.lower() == "free":
        if not rig.universes:
            rig, change = add_universe(rig, 1)
            uid = change.made[0]
            made.append(uid)
        return rig, made
    series = read_series(wish.start)
    number, address = read_place(series.start)
    first = universe_by_number(rig, number)
    if not first:
        rig, change = add_universe(rig, number)
        first = change.made[0]
        made.append(first)
    step = series.spacing if series.spacing is not None else width + (series.gap or 0)
    order = universes_in_order(rig)
    room = 0
    for n, uid in enumerate(order[order.index(first) :]):
        room += how_many_fit(1 if n else address, max(1, step), width, rig.universes[uid].size)
    while room < wish.count and 0 < width <= SLOTS and len(made) < 400:
        highest = max(u.number for u in rig.universes.values())
        if highest >= 63999:
            break
        rig, change = add_universe(rig, highest + 1)
        uid = change.made[0]
        made.append(uid)
        room += how_many_fit(1, max(1, step), width)
    return rig, made
