"""What stands on each slot of a span, in words: for the cells of tapes and Bench, for findings and the path.

A fixture's slots are named by its mode, an element's by its components. A lamp behind a converter has the components of
the pixel that drives it, and a segment that takes slots of its own the DMX addresses or pixels of its stretch.
"""

from __future__ import annotations

from welvo.buses.plan import bus_of, part_short, place_short
from welvo.buses.plan import slot_words as bus_slot_words
from welvo.patch.index import BY_PIXEL, Index, Span
from welvo.rig.attributes import word_for
from welvo.rig.buses import Bus
from welvo.rig.colours import FUNCTIONS
from welvo.rig.lookup import mode_of
from welvo.rig.profile import Mode
from welvo.rig.refs import BUS
from welvo.runs.along import components_of


def _mode_on_span(index: Index, span: Span) -> Mode | None:
    """The mode whose channels stand on a span; None where something else does."""
    fixture = index.rig.fixtures.get(span.item_of_span)
    return mode_of(index.rig, fixture) if fixture and span.break_no != BY_PIXEL else None


def _bus_on_span(index: Index, span: Span) -> Bus | None:
    """The lamp bus whose slots a span is; None where something else takes them."""
    if isinstance(span.key, str) or span.key.place != BUS:
        return None
    found = bus_of(index.rig, span.key)
    return found.bus if found else None


def letters_of(index: Index, span: Span) -> str:
    """The components of the pixels on a span, in the order they are sent in; empty where no pixels are."""
    element = index.rig.elements.get(span.item_of_span)
    if element:
        return "" if element.kind == "block" else element.order
    if span.break_no == BY_PIXEL:
        lamp = index.cables_and_sums.converter_of_fixture(span.item_of_span)
        return components_of(index.rig, lamp.piece) if lamp else ""
    if _bus_on_span(index, span):
        return ""
    piece = index.piece_of_taker(span.key)
    return components_of(index.rig, piece) if piece and piece.segment.kind != "bridge" else ""


def channel_words(index: Index, span: Span) -> list[tuple[int, int, str, int, str]]:
    """(first slot within the item, slots wide, short name, pixel, function), in order of slots."""
    if span.item_of_span in index.rig.fixtures and span.break_no != BY_PIXEL:
        found = []
        mode = _mode_on_span(index, span)
        for c in mode.channels if mode else ():
            if c.break_no != span.break_no:
                continue
            if c.slots == tuple(range(c.slots[0], c.slots[0] + len(c.slots))):
                found.append((c.slots[0], len(c.slots), c.short, c.pixel, c.function))
            else:
                found += [(s, 1, c.short, c.pixel, c.function) for s in c.slots]
        return sorted(found)
    bus = _bus_on_span(index, span)
    if bus:
        return [
            (
                n,
                1,
                f"{place_short(bus, (n - 1) // bus.slots_per_place)}{part_short(bus, (n - 1) % bus.slots_per_place)}",
                0,
                "",
            )
            for n in range(span.offset + 1, span.offset + span.last - span.first + 2)
        ]
    order = letters_of(index, span)
    slots = range(span.offset + 1, span.offset + span.last - span.first + 2)
    if not order:
        return [(n, 1, str(n), 0, "") for n in slots]
    k = len(order)
    return [(n, 1, order[(n - 1) % k], (n - 1) // k + 1, FUNCTIONS[order[(n - 1) % k]]) for n in slots]


def slot_word(index: Index, span: Span, address: int) -> str:
    """What one slot of a span does: `Pan`, `Red of pixel 3`."""
    within = span.offset + address - span.first + 1
    if bus := _bus_on_span(index, span):
        return bus_slot_words(bus, within)
    if span.item_of_span in index.rig.fixtures and span.break_no != BY_PIXEL:
        mode = _mode_on_span(index, span)
        for c in mode.channels if mode else ():
            if c.break_no == span.break_no and within in c.slots:
                word = c.name or word_for(c.function)
                fine = f", byte {c.slots.index(within) + 1} of {len(c.slots)}" if len(c.slots) > 1 else ""
                return f"{word}{f' of pixel {c.pixel}' if c.pixel else ''}{fine}"
        return "gap"
    order = letters_of(index, span)
    if not order:
        return f"slot {within}" if span.item_of_span else f"DMX {within}, for no lamp"
    letter, pixel = order[(within - 1) % len(order)], (within - 1) // len(order) + 1
    return f"{letter} of its pixel" if span.break_no == BY_PIXEL else f"{letter} of pixel {pixel}"


def words_on(index: Index, span: Span, first: int, last: int) -> list[str]:
    """What the slots `first` to `last` (addresses) of a span do, each function once, in order; at most eight."""
    mode = _mode_on_span(index, span)
    if mode is None:
        return list(dict.fromkeys(slot_word(index, span, a) for a in range(first, min(last, first + 8) + 1)))[:8]
    low, high = span.offset + first - span.first + 1, span.offset + last - span.first + 1
    found = sorted(
        (c.slots[0], f"{c.name or word_for(c.function)}{f' of pixel {c.pixel}' if c.pixel else ''}")
        for c in mode.channels
        if c.break_no == span.break_no and any(low <= s <= high for s in c.slots)
    )
    return list(dict.fromkeys(w for _, w in found))[:8] or ["gap"]
