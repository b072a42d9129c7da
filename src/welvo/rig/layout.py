"""Where the pixels of a mode or an element sit, in units of one pixel pitch."""

from __future__ import annotations

import math

from welvo.rig.profile import Spot


def row(pixels: int) -> tuple[Spot, ...]:
    return tuple(Spot(x=float(n), y=0.0) for n in range(pixels))


def rows(pixels: int, count: int, serpentine: bool = False) -> tuple[Spot, ...]:
    """`count` rows filled left to right, top to bottom; serpentine rows come back the other way."""
    wide = math.ceil(pixels / max(1, count))
    found = []
    for n in range(pixels):
        y, x = divmod(n, wide)
        found.append(Spot(x=float(wide - 1 - x if serpentine and y % 2 else x), y=float(y)))
    return tuple(found)


def ring(pixels: int) -> tuple[Spot, ...]:
    """One ring, pixel 1 at the top, clockwise, neighbours one pitch apart."""
    radius = 0.5 / math.sin(math.pi / pixels) if pixels > 1 else 0.0
    return tuple(
        Spot(
            x=round(radius * math.sin(2 * math.pi * n / pixels), 4),
            y=round(-radius * math.cos(2 * math.pi * n / pixels), 4),
        )
        for n in range(pixels)
    )


def two_rings(pixels: int) -> tuple[Spot, ...]:
    """An outer ring with the first pixels and an inner one with the last quarter or so."""
    inner = max(1, pixels * 2 // 7)
    outer = pixels - inner
    big = ring(outer)
    reach = max((math.hypot(s.x, s.y) for s in big), default=1.0)
    natural = 0.5 / math.sin(math.pi / inner) if inner > 1 else 0.0
    small = reach - 1.0 if reach - 1.0 >= 0.8 * natural else 0.5 * reach
    return big + tuple(
        Spot(
            x=round(small * math.sin(2 * math.pi * n / inner), 4),
            y=round(-small * math.cos(2 * math.pi * n / inner), 4),
        )
        for n in range(inner)
    )


SHAPES = {
    "row": row,
    "2 rows": lambda n: rows(n, 2),
    "3 rows": lambda n: rows(n, 3),
    "square": lambda n: rows(n, max(1, round(math.sqrt(n)))),
    "ring": ring,
    "2 rings": two_rings,
}
