"""Where the pixels of a mode or an element sit, in units of one pixel pitch."""

from __future__ import annotations

import math
from collections.abc import Sequence

from welvo.rig.profile import Arrangement, Spot


def lay_out_row(pixels: int) -> tuple[Spot, ...]:
    return tuple(Spot(x=float(n), y=0.0) for n in range(pixels))


def lay_out_rows(pixels: int, count: int, serpentine: bool = False) -> tuple[Spot, ...]:
    """`count` rows filled left to right, top to bottom; serpentine rows come back the other way."""
    wide = math.ceil(pixels / max(1, count))
    return spots_of(Arrangement(rows=count, columns=max(1, wide), serpentine=serpentine), pixels)


def lay_out_ring(pixels: int) -> tuple[Spot, ...]:
    """One ring, pixel 1 at the top, clockwise, neighbours one pitch apart."""
    return spots_of(Arrangement(kind="rings", rings=(pixels,)), pixels)


def two_rings(pixels: int) -> tuple[Spot, ...]:
    """An outer ring with the first pixels and an inner one with the last quarter or so."""
    inner = max(1, pixels * 2 // 7)
    return spots_of(Arrangement(kind="rings", rings=(pixels - inner, inner)), pixels)


def spots_of(a: Arrangement, pixels: int) -> tuple[Spot, ...]:
    """The places of `pixels` pixels; what does not fit into the arrangement goes on in the same way."""
    if a.kind == "rings":
        return _rings_of_arrangement(a, pixels)
    if a.kind == "line":
        return lay_out_row(pixels)
    return _rows_of_arrangement(a, pixels)


def _rows_of_arrangement(a: Arrangement, pixels: int) -> tuple[Spot, ...]:
    inner = max(1, a.columns if a.along == "rows" else a.rows)
    outer = max(a.rows if a.along == "rows" else a.columns, math.ceil(pixels / inner))
    found = []
    for n in range(pixels):
        line, at = divmod(n, inner)
        if a.serpentine and line % 2:
            at = inner - 1 - at
        x, y = (at, line) if a.along == "rows" else (line, at)
        wide, high = (inner, outer) if a.along == "rows" else (outer, inner)
        if "right" in a.corner:
            x = wide - 1 - x
        if "bottom" in a.corner:
            y = high - 1 - y
        found.append(Spot(x=x + (a.stagger if y % 2 else 0.0), y=float(y)))
    return tuple(found)


def radii_of_rings(counts: Sequence[int]) -> list[float]:
    """Radius of each ring from the outside: neighbours at least a pitch apart, rings a pitch from each other if they
    fit."""
    found: list[float] = []
    for n in reversed(counts):
        own = 0.5 / math.sin(math.pi / n) if n > 1 else 0.0
        found.append(max(own, found[-1] + 1.0) if found else own)
    return list(reversed(found))


def _rings_of_arrangement(a: Arrangement, pixels: int) -> tuple[Spot, ...]:
    counts = list(a.rings) or [pixels]
    found: list[Spot] = []
    for count, radius in zip(counts, radii_of_rings(counts)):
        for n in range(count):
            turn = math.radians(a.angle) + (1 if a.clockwise else -1) * 2 * math.pi * n / count
            found.append(Spot(x=round(radius * math.sin(turn), 4), y=round(-radius * math.cos(turn), 4)))
    return tuple(found[:pixels]) + tuple(
        Spot(x=float(n), y=max(radii_of_rings(counts)) + 1.0) for n in range(pixels - len(found))
    )


def along_line(a: Spot, b: Spot, count: int) -> tuple[Spot, ...]:
    """`count` spots evenly from a to b, both ends included."""
    if count == 1:
        return (a,)
    return tuple(
        Spot(x=round(a.x + (b.x - a.x) * n / (count - 1), 4), y=round(a.y + (b.y - a.y) * n / (count - 1), 4))
        for n in range(count)
    )


def along_arc(a: Spot, middle: Spot, b: Spot, count: int) -> tuple[Spot, ...]:
    """`count` spots evenly along the arc from a through `middle` to b; along the line when the three lie on one."""
    ax, ay, bx, by, cx, cy = a.x, a.y, middle.x, middle.y, b.x, b.y
    d = 2 * (ax * (by - cy) + bx * (cy - ay) + cx * (ay - by))
    if abs(d) < 1e-9:
        return along_line(a, b, count)
    sa, sb, sc = ax * ax + ay * ay, bx * bx + by * by, cx * cx + cy * cy
    ox = (sa * (by - cy) + sb * (cy - ay) + sc * (ay - by)) / d
    oy = (sa * (cx - bx) + sb * (ax - cx) + sc * (bx - ax)) / d
    radius = math.hypot(ax - ox, ay - oy)
    start, via, end = (math.atan2(y - oy, x - ox) for x, y in ((ax, ay), (bx, by), (cx, cy)))
    sweep = (end - start) % (2 * math.pi)
    if (via - start) % (2 * math.pi) > sweep:
        sweep -= 2 * math.pi
    return tuple(
        Spot(
            x=round(ox + radius * math.cos(start + sweep * n / max(1, count - 1)), 4),
            y=round(oy + radius * math.sin(start + sweep * n / max(1, count - 1)), 4),
        )
        for n in range(count)
    )


def renumber_spots(spots: Sequence[Spot], order: Sequence[int]) -> tuple[Spot, ...]:
    """Spots in a new number order: `order` names present pixels (from 1), those it leaves out keep their order
    behind."""
    taken = list(dict.fromkeys(n for n in order if 1 <= n <= len(spots)))
    rest = [n for n in range(1, len(spots) + 1) if n not in set(taken)]
    return tuple(spots[n - 1] for n in (*taken, *rest))


def pitch_of(spots: Sequence[Spot]) -> float:
    """The usual distance (median) of a pixel to its nearest neighbour, in the unit of the spots; 0 below two pixels.

    Spots are sorted into cells of a grid, so that 10 000 pixels take milliseconds.
    """
    if len(spots) < 2:
        return 0.0
    xs, ys = [s.x for s in spots], [s.y for s in spots]
    side = max(max(xs) - min(xs), max(ys) - min(ys)) / math.sqrt(len(spots)) or 1.0
    cells: dict[tuple[int, int], list[Spot]] = {}
    for s in spots:
        cells.setdefault((int(s.x // side), int(s.y // side)), []).append(s)
    found = []
    for s in spots:
        cx, cy, reach, best = int(s.x // side), int(s.y // side), 1, math.inf
        while best > (reach - 1) * side and reach < 4:
            near = [
                other
                for dx in range(-reach, reach + 1)
                for dy in range(-reach, reach + 1)
                for other in cells.get((cx + dx, cy + dy), ())
                if other is not s
            ]
            best = min((math.hypot(o.x - s.x, o.y - s.y) for o in near), default=math.inf)
            reach += 1
        if best < math.inf:
            found.append(best)
    return sorted(found)[len(found) // 2] if found else 0.0


def strip_facts(
    length: float = 0.0, count: int = 0, pitch: float = 0.0, density: float = 0.0
) -> tuple[float, int, float, float]:
    """Length (mm), count, pitch (mm) and density (pixels a metre) from any two that settle the rest.

    A pixel takes one pitch: length = count × pitch, density = 1000 / pitch. Raises ValueError when it cannot be told,
    or when what was given contradicts itself.
    """
    if density and pitch and abs(1000 / density - pitch) > 0.01 * pitch:
        raise ValueError(f"{density:g} a metre is a pitch of {1000 / density:g} mm, not {pitch:g} mm")
    pitch = pitch or (1000 / density if density else 0.0)
    if length and count:
        found = length / count
        if pitch and abs(found - pitch) > 0.02 * pitch:
            raise ValueError(f"{count} pixels on {length:g} mm are {found:g} mm apart, not {pitch:g} mm")
        pitch = found
    elif length and pitch:
        count = int(length / pitch + 1e-9)
    elif count and pitch:
        length = count * pitch
    else:
        raise ValueError("two of length, count and pitch settle the rest")
    if count < 1 or pitch <= 0:
        raise ValueError("that leaves no pixel at all")
    return length, count, pitch, 1000 / pitch
