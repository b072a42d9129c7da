"""Where fixtures hang: typed, spread evenly, moved together, snapped to a grid. Metres from the left, from the front,
above the floor."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence

from welvo.rig import edits
from welvo.rig.base import Refused
from welvo.rig.document import Edit, Rig
from welvo.rig.notation import metric, natural_sort_key

Spot3 = tuple[float, float, float]
FARTHEST = 1e5


def read_spot(text: str) -> tuple[float, float, float] | None:
    words = [w for w in re.split(r"[;,\s]+", metric(text).strip()) if w]
    if not words:
        return None
    try:
        numbers = [float(w) for w in words]
    except ValueError:
        numbers = []
    if not 1 <= len(numbers) <= 3 or any(not -1e5 < n < 1e5 for n in numbers):
        raise Refused(f"“{text.strip()}” is no spot. Write metres from the left, the front, the floor: 2.5, 0, 4")
    return (numbers + [0.0, 0.0])[0], (numbers + [0.0, 0.0])[1], (numbers + [0.0, 0.0])[2]


def read_spots(text: str, count: int) -> list[Spot3 | None]:
    """`2.5, 0, 4` for all of them, `0, 2, 4 to 10, 2, 4` evenly from the first to the last, nothing to take them away.

    Raises Refused.
    """
    ends = re.split(r"\s+to\s+", metric(text).strip())
    if len(ends) == 1:
        return [read_spot(text)] * count
    if len(ends) > 2:
        raise Refused(f"“{text.strip()}” has more than two ends. Write 0, 2, 4 to 10, 2, 4.")
    first, last = (read_spot(e) for e in ends)
    if first is None or last is None:
        raise Refused(f"“{text.strip()}” lacks an end. Write 0, 2, 4 to 10, 2, 4.")
    steps = max(1, count - 1)
    return [_round_position([a + (b - a) * n / steps for a, b in zip(first, last)]) for n in range(count)]


def _round_position(values: Iterable[float]) -> Spot3:
    x, y, z = (round(v, 3) + 0.0 for v in values)
    return x, y, z


def in_number_order(rig: Rig, keys: Iterable[str]) -> list[str]:
    fixtures = [k for k in keys if k in rig.fixtures]
    return sorted(fixtures, key=lambda k: (rig.fixtures[k].number, natural_sort_key(k)))


def place_fixtures(rig: Rig, keys: Iterable[str], text: str) -> Edit:
    """Give fixtures the places that were typed, in the order of their numbers."""
    chosen = in_number_order(rig, keys)
    if not chosen:
        raise Refused("Choose fixtures first: only they hang somewhere.")
    spots = read_spots(text, len(chosen))
    label = f"place {edits.names_of_few(rig, chosen)}"
    return edits.set_fixtures(rig, label, {k: {"spot": s} for k, s in zip(chosen, spots)})


def move_fixtures(rig: Rig, keys: Sequence[str], dx: float, dy: float) -> Edit:
    """Move fixtures by metres, to the right and to the back; those without a place are left out."""
    changes = {}
    for k in keys:
        spot = rig.fixtures[k].spot if k in rig.fixtures else None
        if spot:
            x, y, z = _round_position((spot[0] + dx, spot[1] + dy, spot[2]))
            if max(abs(x), abs(y)) > FARTHEST:
                raise Refused("That is farther away than anything hangs.")
            changes[k] = {"spot": (x, y, z)}
    if not changes:
        raise Refused("None of these has a place yet.")
    return edits.set_fixtures(rig, f"move {edits.names_of_few(rig, list(changes))}", changes)


def put_down(rig: Rig, keys: Iterable[str], x: float, y: float, step: float) -> Edit:
    """Put fixtures that have no place yet in a row from a point on, `step` metres apart, as high as the last ones."""
    chosen = in_number_order(rig, keys)
    if not chosen:
        raise Refused("Choose fixtures first: only they hang somewhere.")
    heights = [f.spot[2] for f in rig.fixtures.values() if f.spot]
    z = heights[-1] if heights else 0.0
    label = f"place {edits.names_of_few(rig, chosen)}"
    return edits.set_fixtures(
        rig, label, {k: {"spot": _round_position((x + n * step, y, z))} for n, k in enumerate(chosen)}
    )


def snap_to_grid(value: float, grid: float) -> float:
    """The nearest line of a grid; 0 is no grid."""
    return round(round(value / grid) * grid, 3) if grid else round(value, 3)
