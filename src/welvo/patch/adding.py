"""Adding many fixtures in one act, and patching what is typed: both by the one engine that lays out."""

from __future__ import annotations

import re
from difflib import get_close_matches

from msgspec import Struct
from msgspec.structs import replace

from welvo.patch.index import Index
from welvo.patch.laying import LaidOut, Laying, how_many, lay_out_items
from welvo.patch.steps import apply_steps, footprint_of, is_locked
from welvo.rig.base import Refused
from welvo.rig.counting import HIGHEST_SACN, SLOTS
from welvo.rig.document import Change, Edit, Rig, put_entries
from welvo.rig.edits import add_universe
from welvo.rig.lookup import name_of_item, universe_by_number, universes_in_order
from welvo.rig.notation import read_place, read_series, say_count, say_place
from welvo.rig.patched import Element, Fixture
from welvo.rig.wiring import Universe

MOST_UNIVERSES = 400
"""Universes that one wish makes at the most."""


def read_laying(index: Index, keys: list[tuple[str, int]], text: str) -> Laying:
    """`3.1`, `3.1 +8`, `3.1 gap 2` or `free` as a wish for laying out.

    A typed start is meant as it is typed: what is there already is not gone around, and makes a clash that is shown.
    Raises Refused when it cannot be read, or when the universe is not there.
    """
    if text.strip().lower() == "free":
        return Laying()
    series = read_series(text)
    number, address = read_place(series.start)
    uid = universe_by_number(index.rig, number)
    if not uid:
        raise Refused(f"There is no universe {number} in this rig yet.")
    pattern, by = ("spacing", series.spacing) if series.spacing is not None else ("gap", series.gap or 0)
    return Laying((uid, address), pattern, by, over=True)  # type: ignore[arg-type]


def patch_series(index: Index, keys: list[tuple[str, int]], text: str) -> Edit:
    """Patch breaks by what was typed. Refused by name: what is locked, and what finds no place."""
    rig = index.rig
    locked = next((k for k, b in keys if is_locked(rig, k, b)), "")
    if locked:
        raise Refused(f"{name_of_item(rig, locked)} is locked. Unlock it first, or leave it out.")
    laying = read_laying(index, keys, text)
    if len(keys) == 1 and keys[0][0] in rig.fixtures and laying.start:
        _fits_alone(index, keys[0], laying.start)
    if laying.start and keys[0][0] in rig.elements:
        check_room_for_pixel(rig, rig.elements[keys[0][0]], *laying.start)
    laid = lay_out_items(index, keys, laying, keep_runs=False)
    note = ""
    if laid.left and laid.steps and laying.start is None:  # `free` takes what is free, and names what is left
        names = [name_of_item(rig, k) for k, _ in laid.left]
        said = ", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")
        note = f"{len(laid.steps)} of {len(keys)} found a place. Left: {said}. Add a universe for them."
    else:
        _all_placed(index, keys, laid, laying)
    first = laid.steps[0]
    who = name_of_item(rig, keys[0][0]) if len(keys) == 1 else say_count(len(laid.steps), "fixture")
    where = say_place(rig.universes[first.universe].number, first.address)
    new, change = apply_steps(rig, list(laid.steps), f"move {who} to {where}")
    return new, replace(change, note=note)


def fit_from(index: Index, width: int, start: str) -> int:
    """How many of a width fit into the universe named, from a typed start on; one that is still to be made is empty."""
    series = read_series(start)
    number, address = read_place(series.start)
    uid = universe_by_number(index.rig, number)
    room = index if uid else Index(Rig(universes={"u": Universe(number=number)}))
    uid = uid or "u"
    laying = replace(read_laying(room, [], start), start=(uid, address), into=(uid,))
    return how_many(room, width, laying).count


def _fits_alone(index: Index, key: tuple[str, int], start: tuple[str, int]) -> None:
    """One fixture at a typed address: refused with the highest start where it would pass the end."""
    rig, (uid, address) = index.rig, start
    width, limit = footprint_of(rig, *key), index.limit_of_universe(uid)
    last = address + width - 1
    if last > limit.slots:
        why = f" ({limit.why})" if limit.why else ""
        raise Refused(
            f"{name_of_item(rig, key[0])} takes {width} slots; from {say_place(rig.universes[uid].number, address)} it "
            "would end "
            f"at {last}, past {limit.slots}{why}. The highest start is {limit.slots - width + 1}."
        )


def check_room_for_pixel(rig: Rig, element: Element, uid: str, address: int) -> None:
    """Refused: a start at the end of a universe where no whole pixel fits any more."""
    universe = rig.universes[uid]
    if element.whole and address + element.slots_per_pixel - 1 > universe.size >= element.slots_per_pixel:
        raise Refused(
            f"A pixel of {element.name} takes {element.slots_per_pixel} slots and is kept whole; from "
            f"{say_place(universe.number, address)} none fits into universe {universe.number}. The highest start is "
            f"{say_place(universe.number, universe.size - element.slots_per_pixel + 1)}."
        )


def _all_placed(index: Index, keys: list[tuple[str, int]], laid: LaidOut, laying: Laying) -> None:
    if not laid.left:
        return
    rig = index.rig
    lost = laid.left[0]
    if laying.start is None:
        raise Refused(
            f"No place is free for {name_of_item(rig, lost[0])} ({footprint_of(rig, *lost)} slots). Add a universe."
        )
    highest = max(u.number for u in rig.universes.values())
    raise Refused(
        f"{name_of_item(rig, lost[0])} does not fit any more: {len(laid.steps)} of {len(keys)} fit. "
        f"Add universe {highest + 1}, or start lower."
    )


class AddWish(Struct, frozen=True):
    """What `12 x Bar 9 at 1.001` asks for."""

    count: int
    profile: str
    mode: str
    start: str
    """A series, `free`, or empty for unpatched."""


def read_wish(rig: Rig, text: str) -> AddWish:
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
    return AddWish(count, pid, mid, (m[4] or "").strip())


def add_fixtures(index: Index, wish: AddWish, first_number: int | None = None, name: str = "") -> Edit:
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
    base, change = put_entries(rig, label, fixtures=made)
    if not wish.start:
        return base, replace(change, made=tuple(made))
    starts = read_starts(wish.start, len(profile.modes[wish.mode].breaks), profile.name)
    patched, fresh = base, list[str]()
    for break_no, start in enumerate(starts):
        patched, more = _named_universe(patched, start)
        fresh += more
        patched, more = _place_new_fixtures(patched, [(fid, break_no) for fid in made], start, label)
        fresh += more
    universes = {"universes": frozenset(fresh)} if fresh else {}
    return patched, Change(label, {"fixtures": frozenset(made), **universes}, tuple(made))


def read_starts(text: str, breaks: int, name: str) -> list[str]:
    """`2.1, 1.100`: where each break starts, by comma; breaks that are not named go to free places. Raises Refused."""
    found = [part.strip() or "free" for part in text.split(",")]
    if len(found) > breaks:
        raise Refused(f"{say_count(len(found), 'address', 'addresses')} for {say_count(breaks, 'break')} of {name}.")
    return found + ["free"] * (breaks - len(found))


def _named_universe(rig: Rig, start: str) -> tuple[Rig, list[str]]:
    """The universe that a start names, or the first one of an empty rig, made where it is not there."""
    number = 0
    if start.lower() != "free":
        number, _ = read_place(read_series(start).start)
    if universe_by_number(rig, number) or (not number and rig.universes):
        return rig, []
    rig, change = add_universe(rig, number or 1)
    return rig, list(change.made)


def _place_new_fixtures(rig: Rig, keys: list[tuple[str, int]], start: str, label: str) -> tuple[Rig, list[str]]:
    """Breaks of new fixtures laid out, with as many universes made as that needs; gives those.

    A further break goes to the next free places from the universe of the first one on.
    """
    fresh: list[str] = []
    while True:
        index = Index(rig)
        laying = read_laying(index, keys, start)
        first = next((s.universe for k, _ in keys for s in index.spans_of(k)), "")
        if laying.start is None and first:
            order = universes_in_order(rig)
            laying = replace(laying, into=tuple(order[order.index(first) :]))
        laid = lay_out_items(index, keys, laying, keep_runs=False)
        if not laid.left:
            return apply_steps(rig, list(laid.steps), label)[0], fresh
        highest = max(u.number for u in rig.universes.values())
        width = max(footprint_of(rig, *k) for k in laid.left)
        each = _count_per_universe(width, laying)
        need = -(-len(laid.left) // each) if each else 0
        if not need or len(fresh) + need > MOST_UNIVERSES or highest + need > HIGHEST_SACN:
            _all_placed(index, keys, laid, laying)
        for n in range(need):
            rig, change = add_universe(rig, highest + 1 + n)
            fresh += change.made


def _count_per_universe(width: int, laying: Laying) -> int:
    """How many of a width an empty universe of 512 slots takes, laid like this."""
    if not 0 < width <= SLOTS:
        return 0
    empty = Index(Rig(universes={"u": Universe(number=1)}))
    return how_many(empty, width, replace(laying, start=("u", 1), into=())).count
