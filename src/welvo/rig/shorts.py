"""Short names of channels: up to four letters, their own within the pixel they belong to."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from welvo.rig.attributes import BY_KEY, word_for
from welvo.rig.profile import Channel


def with_shorts(channels: Sequence[Channel]) -> tuple[Channel, ...]:
    """Give every channel without a short name one that no other of its pixel has."""
    taken: dict[int, set[str]] = {}
    for c in channels:
        if c.short:
            taken.setdefault(c.pixel, set()).add(c.short)
    found = []
    tried: dict[tuple[int, str], int] = {}  # up to which number a stem was given: thousands may share one
    for c in channels:
        if not c.short:
            mine = taken.setdefault(c.pixel, set())
            known = BY_KEY.get(c.function)
            stem = known.short if known else (word_for(c.function, c.name) or "?").title().replace(" ", "")[:4]
            n = tried.get((c.pixel, stem), 1)
            short = _number_stem(stem, n)
            while short in mine:
                n += 1
                short = _number_stem(stem, n)
            tried[c.pixel, stem] = n
            mine.add(short)
            c = replace(c, short=short)
        found.append(c)
    return tuple(found)


def _number_stem(stem: str, n: int) -> str:
    return stem if n == 1 else stem[: max(0, 4 - len(str(n)))] + str(n)
