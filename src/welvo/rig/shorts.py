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
    for c in channels:
        if not c.short:
            mine = taken.setdefault(c.pixel, set())
            known = BY_KEY.get(c.function)
            stem = known.short if known else (word_for(c.function, c.name) or "?").title().replace(" ", "")[:4]
            short, n = stem, 2
            while short in mine:
                short, n = stem[: 4 - len(str(n))] + str(n), n + 1
            mine.add(short)
            c = replace(c, short=short)
        found.append(c)
    return tuple(found)
