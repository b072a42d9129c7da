"""What is to be driven, as it is typed: items, single pixels of them, raw slots, in one line."""

from __future__ import annotations

import re

from msgspec import Struct

from welvo.patch.index import BY_PIXEL, Index
from welvo.patch.slot_words import letters_of
from welvo.rig.base import Refused
from welvo.rig.counting import SLOTS
from welvo.rig.lookup import find_item_named, mode_of, universe_by_number
from welvo.rig.notation import say_numbers
from welvo.rig.plan import ports_taking
from welvo.rig.refs import PortRef

MOST = 10_000


class PickedItems(Struct, frozen=True):
    """Items by id in the order they were named; pixels by item, from 1; slots as (universe id, address)."""

    items: tuple[str, ...] = ()
    pixels: tuple[tuple[str, tuple[int, ...]], ...] = ()
    slots: tuple[tuple[str, int], ...] = ()

    @property
    def is_empty(self) -> bool:
        return not (self.items or self.pixels or self.slots)


def pixels_in(index: Index, key: str) -> int:
    """How many pixels an item has that can be driven by themselves."""
    element, fixture = index.rig.elements.get(key), index.rig.fixtures.get(key)
    if element:
        return 0 if element.kind == "block" else element.pixels
    span = index.span_of_break(key)
    if span and span.break_no == BY_PIXEL:
        return 1 if letters_of(index, span) else 0
    mode = mode_of(index.rig, fixture) if fixture else None
    return mode.count_pixels if mode else 0


def pick_items(index: Index, text: str) -> PickedItems:
    """Read `203–207, 301/3, 4.1–4.12, ribbon/1–10, universe 3, on PENSTOCK 6, Left wall`: numbers, pixels, slots, all
    of a universe, of a port, of a group. Raises Refused for the first part that is none of these."""
    items: dict[str, None] = {}
    pixels: dict[str, dict[int, None]] = {}
    slots: dict[tuple[str, int], None] = {}
    parts = [p.strip() for p in re.split(r"[,;]", text.replace("–", "-"))]
    for part in (x for p in parts for x in (p.split() if re.fullmatch(r"[\d\s-]+", p) else [p])):
        if part:
            _pick_one(index, part, items, pixels, slots)
        if len(items) + len(slots) + sum(map(len, pixels.values())) > MOST:
            raise Refused(f"That is more than {MOST} things at once.")
    return PickedItems(tuple(items), tuple((k, tuple(v)) for k, v in pixels.items()), tuple(slots))


def _pick_one(
    index: Index,
    part: str,
    items: dict[str, None],
    pixels: dict[str, dict[int, None]],
    slots: dict[tuple[str, int], None],
) -> None:
    rig = index.rig
    if m := re.fullmatch(r"(\d+)\s*(?:-\s*(\d+))?", part):
        items |= dict.fromkeys(_fixtures_in_range(index, *_pick_range(part, m[1], m[2])))
    elif m := re.fullmatch(r"(\d+)\.(\d+)\s*(?:-\s*(?:(\d+)\.)?(\d+))?", part):
        if m[3] and m[3] != m[1]:
            raise Refused(f"“{part}” crosses universes; write each by itself.")
        uid = universe_by_number(rig, int(m[1]))
        if not uid:
            raise Refused(f"There is no universe {m[1]} in this rig.")
        first, last = _pick_range(part, m[2], m[4])
        if not 1 <= first <= last <= SLOTS:
            raise Refused(f"There is no address {last if last > SLOTS else first}: slots run from 1 to {SLOTS}.")
        slots |= dict.fromkeys((uid, n) for n in range(first, last + 1))
    elif m := re.fullmatch(r"(.+?)\s*/\s*(\d+)\s*(?:-\s*(\d+))?", part):
        key = find_item_named(rig, m[1])
        if not key:
            raise Refused(f"There is no “{m[1]}” in this rig.")
        first, last = _pick_range(part, m[2], m[3])
        most = pixels_in(index, key)
        if not 1 <= first <= last <= most:
            raise Refused(f"{index.word_for_taker(key)} has {most or 'no'} pixels; “{part}” is none of them.")
        pixels.setdefault(key, {}).update(dict.fromkeys(range(first, last + 1)))
    elif m := re.fullmatch(r"universe\s+(\d+)", part, re.IGNORECASE):
        uid = universe_by_number(rig, int(m[1]))
        if not uid:
            raise Refused(f"There is no universe {m[1]} in this rig.")
        items |= dict.fromkeys(index.items_on(uid))
    elif m := re.fullmatch(r"on\s+(.+?)\s+(\S+)", part, re.IGNORECASE):
        items |= dict.fromkeys(on_port(index, m[1], m[2]))
    else:
        group = next((g for g in rig.groups.values() if g.name.lower() == part.lower()), None)
        key = find_item_named(rig, part)
        if group:
            items |= dict.fromkeys(k for k in group.members if k in rig.fixtures or k in rig.elements)
        elif key:
            items[key] = None
        else:
            raise Refused(
                f"“{part}” is nothing here. Write 203–207, 301/3, 4.1–4.12, universe 3, on PENSTOCK 6, or a name."
            )


def _pick_range(part: str, first: str, last: str | None) -> tuple[int, int]:
    a, b = int(first), int(last or first)
    if b < a:
        raise Refused(f"“{part}” runs backwards.")
    return a, b


def _fixtures_in_range(index: Index, first: int, last: int) -> list[str]:
    by_number = {f.number: k for k, f in index.rig.fixtures.items() if first <= f.number <= last}
    if not by_number or (first not in by_number and first == last):
        raise Refused(f"There is no fixture {say_numbers(range(first, min(last, first + MOST) + 1))} in this rig.")
    return [by_number[n] for n in sorted(by_number)]


def on_port(index: Index, device: str, label: str) -> list[str]:
    """The items whose levels a port puts out. Raises Refused."""
    rig = index.rig
    device_id = next((k for k, d in rig.devices.items() if d.name.lower() == device.lower()), "")
    if not device_id:
        raise Refused(f"There is no device “{device}” in this rig.")
    port = rig.devices[device_id].ports.get(label)
    if port is None:
        raise Refused(f"{rig.devices[device_id].name} has no port {label}.")
    stream = index.cables_and_sums.streams.get(PortRef(device_id, label))
    if stream:
        return list(dict.fromkeys(k for p in stream.pieces for k in (p.key, *p.segment.fixtures) if k))
    lines = [f for s in port.run for f in s.fixtures]
    if lines:
        return list(dict.fromkeys(lines))
    feed = rig.feeds.get(port.feed)
    taken = feed and (device_id, label) in ports_taking(rig, port.feed)
    return index.items_on(feed.universe) if feed and taken else []
