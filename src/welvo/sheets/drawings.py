"""Drawings of sheets: the map of a universe's 512 slots, a device with its cables to scale, the rig from above."""

from __future__ import annotations

import math
from collections.abc import Iterable
from functools import partial

from welvo.patch.index import Index
from welvo.patch.slot_words import channel_words
from welvo.rig.counting import SLOTS
from welvo.rig.document import Rig
from welvo.rig.lookup import name_of_item, profile_of
from welvo.rig.notation import say_place
from welvo.rig.plan import model_of
from welvo.rig.tints import tint_hex, tint_of
from welvo.runs.along import part_name
from welvo.runs.cable import PortStream
from welvo.runs.geometry import BOX, CABLE, Course, Stroke, course_of
from welvo.runs.pixels import streams_of
from welvo.sheets.blocks import Drawing
from welvo.sheets.pen import Pen

ACROSS = 16
NAMES = 24.0
"""Room for the names of segments beside a cable."""
_FIXED = 0.16
"""Millimetres on paper for one pixel of the fixed rooms of a course."""


def printed_tint(rig: Rig, key: str) -> tuple[str, str]:
    """Spine and body that an item is printed in."""
    return tint_hex(tint_of(rig, key), "light")


# ---- the map of a universe


def universe_map(index: Index, uid: str, high: float) -> Drawing:
    """All 512 slots, 16 to a row: who is on each, and what the slot does."""
    return Drawing(high, partial(_draw_map, index=index, uid=uid, high=high))


def _draw_map(pen: Pen, wide: float, index: Index, uid: str, high: float) -> None:
    rig = index.rig
    rows = SLOTS // ACROSS
    gutter = 9.0
    cell, tall = (wide - gutter) / ACROSS, high / rows
    taken: dict[int, list[tuple[str, str, bool]]] = {}
    for span in index.spans_on_universe(uid):
        item = span.item_of_span
        words = {first + k: short for first, n, short, *_ in channel_words(index, span) for k in range(n)}
        for address in range(span.first, min(span.last, SLOTS) + 1):
            word = words.get(span.offset + address - span.first + 1, "")
            taken.setdefault(address, []).append((item, word, address == span.first))
    size = rig.universes[uid].size
    for address in range(1, SLOTS + 1):
        x, y = gutter + (address - 1) % ACROSS * cell, (address - 1) // ACROSS * tall
        here = taken.get(address, [])
        fill: str | float | None = None if address <= size else 0.85
        if here:
            fill = printed_tint(rig, here[0][0])[1] if here[0][0] else 0.9
        pen.draw_frame(x, y, cell, tall, fill, 0.6, 0.1)
        pen.draw_text(x + 0.5, y + 2.1, str(address), 5, grey=0.3)
        if here:
            spine = printed_tint(rig, here[0][0])[0] if here[0][0] else "#808080"
            pen.draw_frame(x, y, 0.7 if here[0][2] else 0.25, tall, spine, None)
            owners = list(dict.fromkeys(name_of_item(rig, k) if k else "run" for k, *_ in here))
            if len(owners) > 1:
                pen.draw_frame(x + 0.2, y + 0.2, cell - 0.4, tall - 0.4, None, "#ad2318", 0.4)
            if len(owners) > 1:
                pen.draw_text(x + 1.1, y + tall - 1.1, "+".join(owners), 5.5, True, room=cell - 1.4)
                continue
            if here[0][2] or address % ACROSS == 1:
                pen.draw_text(x + cell - 0.6, y + 2.4, owners[0], 6.5, True, "right", room=cell - 4.2)
            pen.draw_text(x + 1.1, y + tall - 1.1, here[0][1], 6, room=cell - 1.6)
    for n in range(rows):
        pen.draw_text(gutter - 1, n * tall + tall * 0.66, str(n * ACROSS + 1), 7, True, "right")


# ---- a device with its cables


def draw_risers(index: Index, device_id: str, wide: float, high: float) -> list[Drawing]:
    """A device as a bar with its ports, every cable hanging from it to one scale; more drawings where one is too
    narrow."""
    streams = [s for s in streams_of(index.cables_and_sums, device_id) if s.pieces]
    if not streams:
        return []
    courses = [course_of(s) for s in streams]
    widths = [8.0 + c.lanes * 4.5 + NAMES for c in courses]
    chunks: list[list[int]] = [[]]
    used = 0.0
    for n, w in enumerate(widths):
        if chunks[-1] and used + min(w, wide) > wide:
            chunks.append([])
            used = 0.0
        chunks[-1].append(n)
        used += min(w, wide)
    deepest = max(c.leds for c in courses) or 1
    fixed = max(c.fixed for c in courses)
    scale = max(0.02, min(1.2, (high - 36 - fixed * _FIXED) / deepest))
    return [
        Drawing(
            min(high, 36 + max(courses[n].leds for n in chunk) * scale + max(courses[n].fixed for n in chunk) * _FIXED),
            partial(
                _draw_riser, index=index, device_id=device_id, scale=scale,
                ports=[(streams[n], courses[n], min(widths[n], wide)) for n in chunk],
            ),
        )
        for chunk in chunks
    ]  # fmt: skip


def _draw_riser(
    pen: Pen, wide: float, index: Index, device_id: str, scale: float, ports: list[tuple[PortStream, Course, float]]
) -> None:
    rig = index.rig
    device, model = rig.devices[device_id], model_of(rig, device_id)
    total = sum(w for *_, w in ports)
    pen.draw_frame(0, 0, max(total, 60), 9, 0.92, 0.0, 0.3)
    pen.draw_text(2, 6, device.name, 11, True)
    pen.draw_text(
        max(total, 60) - 2, 6, f"{model.name if model else ''}  {device.ip}", 8, align="right", room=max(total, 60) - 34
    )
    x = 0.0
    for stream, course, room in ports:
        pen.draw_frame(x + room / 2 - 6, 9, 12, 7, 1.0, 0.0, 0.3)
        pen.draw_text(x + room / 2, 14, stream.label, 10, True, "centre")
        start = say_place(*stream.start) if stream.start else "no feed"
        pen.draw_text(x + room / 2, 20, start, 7.5, True, "centre")
        pen.draw_text(x + room / 2, 23.5, f"{stream.pixels} px", 7, align="centre", grey=0.3)
        _draw_cable(pen, rig, stream, course, x, room, 27.0, scale)
        x += room


def _draw_cable(
    pen: Pen, rig: Rig, stream: PortStream, course: Course, x: float, room: float, top: float, scale: float
) -> None:
    lane = max(0.4, min(4.5, (room - NAMES - 8) / course.lanes))
    thick = lane * 0.6
    left = x + 3.0
    pen.draw_line(left + thick / 2, 24.5, left + thick / 2, top, 0.3)
    named: set[int] = set()
    beside, free = left + course.lanes * lane + 1.0, top

    def rect(s: Stroke) -> tuple[float, float, float]:
        y = top + s.fixed * _FIXED + scale * (s.led - s.leds if s.up else s.led)
        return left + s.lane * lane, y, s.leds * scale

    for s in course.strokes:
        piece = stream.pieces[s.n]
        sx, sy, tall = rect(s)
        if s.leds:
            fill = None if s.kind == "null" else printed_tint(rig, piece.key)[1]
            pen.draw_frame(sx, sy, thick, max(0.3, tall), fill, printed_tint(rig, piece.key)[0] if fill else 0.4, 0.2)
        elif s.kind == "extension":
            pen.draw_line(sx + thick / 2, sy, sx + thick / 2, sy + CABLE * _FIXED, 0.3)
        else:
            pen.draw_frame(sx, sy + 0.4, min(room - 5, 14), BOX * _FIXED - 0.8, 1.0, 0.0, 0.4)
            pen.draw_text(sx + 0.8, sy + BOX * _FIXED * 0.62, part_name(rig, piece), 6, True, room=min(room - 6, 12.5))
        if s.n not in named and s.leds:
            named.add(s.n)
            place = piece.place_of_slot(1)
            if s.kind == "null":
                lines = [f"{piece.leds} null"]
            else:
                lines = [part_name(rig, piece), f"px {piece.px}" + (f"   {say_place(*place)}" if place else "")]
            free = max(free, sy + 2.2)
            for n, words in enumerate(lines):
                pen.draw_text(beside, free, words, 6, n == 0, room=NAMES - 2)
                free += 2.5
            free += 0.8


# ---- from above


def from_above(index: Index, high: float, keys: Iterable[str] = ()) -> Drawing:
    """Where the fixtures hang, in metres from the left and from the front, with a scale."""
    return Drawing(high, partial(_draw_from_above, rig=index.rig, high=high, keys=tuple(keys)))


def _draw_from_above(pen: Pen, wide: float, rig: Rig, high: float, keys: tuple[str, ...]) -> None:
    at = {k: f.spot for k in (keys or rig.fixtures) if (f := rig.fixtures.get(k)) and f.spot}
    if not at:
        pen.draw_text(0, 6, "No fixture has a place yet.", 10)
        return
    xs, ys = [p[0] for p in at.values()], [p[1] for p in at.values()]
    left, right, front, back = min(xs) - 0.5, max(xs) + 0.5, min(ys) - 0.5, max(ys) + 0.5
    scale = min(wide / max(right - left, 1.0), (high - 10) / max(back - front, 1.0))
    foot = high - 8

    def place(x: float, y: float) -> tuple[float, float]:
        return (x - left) * scale, foot - (y - front) * scale

    if rig.ground and rig.ground.picture in rig.pictures:
        g = rig.ground
        x, y = place(g.left, g.front)
        data = rig.pictures[g.picture].data
        tall = _height_of_picture(data, g.wide)
        pen.canvas.saveState()
        pen.canvas.setFillAlpha(g.fade)
        pen.draw_picture(x, y - tall * scale, g.wide * scale, tall * scale, data)
        pen.canvas.restoreState()
    step = next(s for s in (0.5, 1.0, 2.0, 5.0, 10.0, 50.0, 1e6) if s * scale >= 8)
    for n in range(math.ceil(left / step), math.floor(right / step) + 1):
        px, _ = place(n * step, front)
        pen.draw_line(px, place(0, back)[1], px, foot, 0.1, 0.8)
        pen.draw_text(px, foot + 3, f"{n * step:g}", 6, align="centre", grey=0.35)
    for n in range(math.ceil(front / step), math.floor(back / step) + 1):
        _, py = place(left, n * step)
        pen.draw_line(0, py, (right - left) * scale, py, 0.1, 0.8)
        pen.draw_text(0.6, py - 0.5, f"{n * step:g}", 6, grey=0.35)
    pen.draw_text((right - left) * scale / 2, foot + 6.5, "front · metres", 7, align="centre", grey=0.3)
    radius = max(1.3, min(3.2, 0.28 * scale))
    for key, spot in at.items():
        x, y = place(spot[0], spot[1])
        profile = profile_of(rig, rig.fixtures[key])
        spine, body = tint_hex(profile.tint if profile else 0, "light")
        pen.draw_frame(x - radius, y - radius, 2 * radius, 2 * radius, body, spine, 0.4)
        pen.draw_text(x, y + 0.9, name_of_item(rig, key), min(7.5, radius * 2.6), True, "centre")


def _height_of_picture(data: bytes, wide: float) -> float:
    """How high a picture is that is so wide."""
    import io

    from reportlab.lib.utils import ImageReader

    try:
        across, down = ImageReader(io.BytesIO(data)).getSize()
    except Exception:  # any of the many errors of a damaged picture
        return wide
    return wide * float(down) / float(across)
