"""Where everything of one port is drawn on the riser: worked out once, painted often."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import NamedTuple

from PySide6.QtCore import QLineF, QRectF

from welvo.runs.cable import Piece, PortStream
from welvo.runs.geometry import Course, Stroke, place_along, seams_in_segment

FIRST_BEND = 53
"""Where a cable leaves its port, below the load."""


class Room(NamedTuple):
    """The room of one port: its column, the left edge of its first lane, lane pitch, thickness of a string, px per
    LED."""

    column: QRectF
    left: float
    lane: float
    thick: float
    scale: float


def room_for(column: QRectF, course_of: Course | None, scale: float) -> Room:
    lanes = max(1, course_of.lanes if course_of else 1)
    lane = max(0.05, min(16.0, (column.width() - 10) / lanes))
    left = column.left() + max(2.0, (column.width() - lane * lanes) / 2)
    return Room(column, left, lane, max(1.0, lane - (3 if lane > 6 else 1 if lane > 2 else 0)), scale)


def rect_of(room: Room, s: Stroke) -> QRectF:
    """Where a stroke is drawn."""
    column, left0, lane, thick, scale = room
    left = left0 + s.lane * lane
    top = column.top() + s.fixed + scale * (s.led - s.leds if s.up else s.led)
    if s.leds:
        return QRectF(left, top, thick, max(1.0, s.leds * scale))
    if s.kind == "extension":
        return QRectF(left + thick / 2 - 1, top, 2, s.room)
    wide = min(column.width() - 6, 66.0)
    x = min(max(column.left() + 3, left + thick / 2 - wide / 2), column.right() - wide - 3)
    return QRectF(x, top + 3, wide, s.room - 8)


@dataclass
class PortLayout:
    """What is painted for a port: strings and their spines by tint, null pixels, cables, seams, devices."""

    strings: dict[int, list[QRectF]] = field(default_factory=dict)
    spines: dict[int, list[QRectF]] = field(default_factory=dict)
    nulls: list[QRectF] = field(default_factory=list)
    cables: list[QLineF] = field(default_factory=list)
    bare: list[QLineF] = field(default_factory=list)
    seams: list[QLineF] = field(default_factory=list)
    segments: list[tuple[QRectF, Piece]] = field(default_factory=list)
    block: bool = False


def lay_out(stream: PortStream, course_of: Course, room: Room, tints: dict[str, int]) -> PortLayout:
    """Everything of one port, ready to be painted. Lanes thinner than a pixel are drawn as one block per string."""
    made = PortLayout(block=room.lane < 6)
    thin = room.lane < 2
    merged: dict[tuple[int, int], list[float]] = {}
    last_x = last_y = 0.0
    first = True
    pieces = stream.pieces
    top0, scale, left0, lane, thick = room.column.top(), room.scale, room.left, room.lane, room.thick
    for s in course_of.strokes:
        key = tints.get(pieces[s.n].key, 0)
        if s.leds and thin and not first:
            top = top0 + s.fixed + scale * (s.led - s.leds if s.up else s.led)
            at = (key, int(left0 + s.lane * lane))
            have = merged.get(at)
            if have is None:
                merged[at] = [top, top + s.leds * scale]
            else:
                have[0], have[1] = min(have[0], top), max(have[1], top + s.leds * scale)
            continue
        r = rect_of(room, s)
        x, top, bottom = r.left() + r.width() / 2, r.top(), r.bottom()
        begin, end = (bottom, top) if s.up else (top, bottom)
        if first:
            made.cables.append(QLineF(x, FIRST_BEND, x, begin if s.lead else top))
        elif not made.block:
            if abs(last_x - x) > 1:
                dip = max(last_y, begin) + 4 if s.up else min(last_y, begin) - 4
                made.cables += (
                    QLineF(last_x, last_y, last_x, dip),
                    QLineF(last_x, dip, x, dip),
                    QLineF(x, dip, x, begin),
                )
            elif abs(last_y - begin) > 1:
                made.cables.append(QLineF(last_x, last_y, x, begin))
        first, last_x, last_y = False, x, end
        if s.leds:
            if s.kind == "null":
                made.nulls.append(r)
            elif key in made.strings:
                made.strings[key].append(r)
            else:
                made.strings[key] = [r]
        elif s.kind == "extension":
            made.bare.append(QLineF(x, top, x, bottom))
        else:
            made.segments.append((r, pieces[s.n]))
    for (key, column), (low, high) in merged.items():
        made.strings.setdefault(key, []).append(QRectF(column, low, max(1.0, thick), max(1.0, high - low)))
    for key, rects in made.strings.items():
        wide = 2.0 if not made.block else max(1.0, min(2.0, room.thick / 2))
        if room.thick > 1.5:
            made.spines[key] = [QRectF(r.left(), r.top(), wide, r.height()) for r in rects]
        if not made.block:
            made.spines[key] += [QRectF(r.left(), r.top(), r.width(), 1) for r in rects if r.height() > 10]
    beside = 1 if made.block else 4
    for piece in pieces:
        if len(piece.parts) < 2:
            continue
        for along, *_ in seams_in_segment(stream, piece):
            at_ = place_along(course_of, piece.n, along)
            if at_:
                s, led = at_
                r = rect_of(room, s)
                y = top0 + s.fixed + scale * (led + (0.5 if s.up else -0.5))
                made.seams.append(QLineF(r.left() - beside, y, r.right() + beside, y))
    return made
