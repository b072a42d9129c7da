"""What stands on each slot of a span, in words: the names that tapes and the Bench write into cells."""

from __future__ import annotations

from welvo.patch.index import Span
from welvo.rig.colours import FUNCTIONS
from welvo.rig.document import Rig
from welvo.rig.lookup import mode_of


def channel_words(rig: Rig, span: Span) -> list[tuple[int, int, str, int, str]]:
    """(first slot within the item, slots wide, short name, pixel, function), in order of slots."""
    fixture = rig.fixtures.get(span.key)
    if fixture:
        mode = mode_of(rig, fixture)
        found = []
        for c in mode.channels if mode else ():
            if c.break_no != span.break_no:
                continue
            if c.slots == tuple(range(c.slots[0], c.slots[0] + len(c.slots))):
                found.append((c.slots[0], len(c.slots), c.short, c.pixel, c.function))
            else:
                found += [(s, 1, c.short, c.pixel, c.function) for s in c.slots]
        return sorted(found)
    element = rig.elements[span.key]
    if element.kind == "block":
        return [(n, 1, str(n), 0, "") for n in range(span.offset + 1, span.offset + span.last - span.first + 2)]
    k = len(element.order)
    return [
        (n, 1, element.order[(n - 1) % k], (n - 1) // k + 1, FUNCTIONS[element.order[(n - 1) % k]])
        for n in range(span.offset + 1, span.offset + span.last - span.first + 2)
    ]
