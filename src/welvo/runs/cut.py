"""Cutting a segment where the cable is opened: the LEDs keep their numbers, whichever way it ran and however it
folds."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec.structs import replace

from welvo.rig.base import Refused
from welvo.rig.patched import NOWHERE, Element
from welvo.rig.runs import Segment


def cut_segments(
    s: Segment, leds: int, before: int, element: Element | None = None
) -> tuple[list[Segment], list[Segment]]:
    """The segments in front of a cut and behind it, in cable order.

    `leds` is how many LEDs of the cable the segment has, `before` how many of them stay in front (0 < before < leds).
    A folded segment is cut into whole stretches that still fold, and single stretches that run one way.

    Raises Refused where the cut would part a group of LEDs, or a string that the sender unfolds.
    """
    if element and element.unfolds == "sender" and element.fold and before % (2 * element.fold):
        raise Refused(
            f"The sender unfolds {element.name}: it can be cut every {2 * element.fold} pixels only, where it has "
            "gone up and come back."
        )
    whole = s.fold if 0 < s.fold < leds else leds
    front = [_part_of_segment(s, leds, a, b, whole) for a, b in _chunks_of_cable(0, before, whole, leds)]
    behind = [_part_of_segment(s, leds, a, b, whole) for a, b in _chunks_of_cable(before, leds, whole, leds)]
    # cable, supply and an address of its own belong to where the string begins
    front, behind = ([replace(p, length=0.0, supply="", at=NOWHERE) for p in parts] for parts in (front, behind))
    return [replace(front[0], length=s.length, supply=s.supply, at=s.at), *front[1:]], behind


def _chunks_of_cable(begin: int, end: int, whole: int, leds: int) -> Iterator[tuple[int, int]]:
    """Stretches of cable from `begin` to `end`: whole ones together from an even one on, the others one by one."""
    at = begin
    while at < end:
        row, inside = divmod(at, whole)
        if not inside and row % 2 == 0:
            # as many whole stretches as there are; a short last one of the string is a stretch too
            last = end if end == leds else end // whole * whole
            if last > at:
                yield at, last
                at = last
                continue
        stop = min(end, (row + 1) * whole)
        yield at, stop
        at = stop


def _part_of_segment(s: Segment, leds: int, a: int, b: int, whole: int) -> Segment:
    """LEDs a to b of the cable (from 0, b not with it) as a segment of their own."""
    fold, turned = s.fold if b - a > whole else 0, False
    low, high = a, b
    if not fold and (a // whole) % 2:
        row = a // whole * whole
        stop = min(leds, row + whole)
        low, high, turned = row + stop - b, row + stop - a, True
    if s.reverse:
        low, high = leds - high, leds - low
    if low % s.group:
        raise Refused(f"{s.group} LEDs are one pixel there; the cut would part them.")
    return replace(s, first=s.first + low, count=high - low, fold=fold, reverse=s.reverse != turned)
