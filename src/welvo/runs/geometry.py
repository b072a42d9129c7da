"""How a cable lies when it is drawn: stretches down and up, bends where it turns, items that take a fixed room.

Along a cable a place is counted in LEDs; a bridge, a converter, a line or a bare cable takes room in pixels of the
screen instead. So every point is a pair: LEDs and fixed pixels, to be scaled when it is drawn.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from welvo.runs.along import cable_order
from welvo.runs.cable import Piece, PortStream

BOX = 40
CABLE = 14
MOST_TURNS = 400
"""A cable that turns more often is drawn as a block: nobody counts such bends on a screen."""


class Stroke(NamedTuple):
    """One straight stretch of a segment: LEDs `first`…`first + leds − 1` of it along the cable (from 1).

    It lies in lane `lane`, from (`led`, `fixed`) on, upwards when `up`. Items without LEDs have `leds` 0 and take
    `room` fixed pixels. `lead` says that bare cable runs down beside it first, because its data comes in at the far
    end.
    """

    n: int
    kind: str
    lane: int
    first: int
    leds: int
    led: int
    fixed: int
    up: bool
    room: int
    lead: bool = False


class Course(NamedTuple):
    """A whole cable: its strokes, the lanes it needs, and how far down it reaches."""

    strokes: tuple[Stroke, ...]
    lanes: int
    leds: int
    fixed: int


def course_of(stream: PortStream) -> Course:
    """Lay a port's cable out. A reversed segment comes back up, a fold turns every stretch."""
    strokes: list[Stroke] = []
    lane, led, fixed, up = 0, 0, 0, False
    deepest = deepest_fixed = 0
    fresh = True
    for p in stream.pieces:
        s = p.segment
        if not p.leds or s.kind not in ("pixels", "null"):
            room = CABLE if s.kind == "extension" else BOX
            strokes.append(Stroke(p.n, s.kind, lane, 1, 0, led, fixed, False, room))
            fixed += room
            deepest_fixed = max(deepest_fixed, fixed)
            up, fresh = False, False
            continue
        length = s.fold if s.kind == "pixels" and 0 < s.fold < p.leds else p.leds
        if p.leds / length > MOST_TURNS:
            length = p.leds
        for at in range(0, p.leds, length):
            leds = min(length, p.leds - at)
            turned = (at // length) % 2 == 1
            wants_up = (s.reverse != turned) if s.kind == "pixels" else up
            lead = False
            if wants_up and led < leds:  # nothing to go up along: the data comes in at the far end
                lead = fresh or not up
                led = max(led, leds)
            if (wants_up != up and not fresh) or (lead and not fresh):
                lane += 1
            up, fresh = wants_up, False
            strokes.append(Stroke(p.n, s.kind, lane, at + 1, leds, led, fixed, up, 0, lead))
            led = led - leds if up else led + leds
            deepest = max(deepest, led, led + leds if up else led)
    return Course(tuple(strokes), lane + 1, deepest, deepest_fixed)


def seams_in_segment(stream: PortStream, piece: Piece) -> list[tuple[int, tuple[int, int], tuple[int, int], bool]]:
    """Where universes end inside a segment: (place along the cable from 1 that begins the next, last slot before, first
    slot behind, whether a pixel is cut there)."""
    found: list[tuple[int, tuple[int, int], tuple[int, int], bool]] = []
    if len(piece.parts) < 2:
        return found
    order = cable_order(piece.segment, piece.leds) if piece.leds else np.arange(1, piece.pixels + 1)
    for a, b in zip(piece.parts, piece.parts[1:]):
        cut = bool(b.done % piece.k)
        data = b.done // piece.k + 1
        along = np.flatnonzero(order == data)
        if along.size:
            found.append((int(along[0]) + 1, (a.universe, a.last), (b.universe, b.first), cut))
    return found


def place_along(course: Course, n: int, led: int) -> tuple[Stroke, float] | None:
    """The stroke that LED `led` (from 1) of segment `n` lies on, and the LED coordinate of its middle."""
    for s in course.strokes:
        if s.n == n and s.leds and s.first <= led < s.first + s.leds:
            offset = led - s.first + 0.5
            return s, s.led - offset if s.up else s.led + offset
    return None
