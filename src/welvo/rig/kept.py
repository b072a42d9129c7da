"""Answers about a part of the rig, kept for as long as that part is the same object.

A rig is a value whose parts are shared from one to the next: an edit of fixtures leaves the very dictionary of feeds in
place. So what was worked out of all feeds, or of all universes, holds until that dictionary is another one. Two are
kept, since a rig and the one that an edit would make of it are asked in turn.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any, TypeVar

P = TypeVar("P")
T = TypeVar("T")


def kept(make: Callable[[P], T]) -> Callable[[P], T]:
    """Keep the last two answers of a function of one part, by the part's identity."""
    last: list[tuple[Any, T]] = []

    @wraps(make)
    def answer(part: P) -> T:
        for known, value in last:
            if known is part:
                return value
        value = make(part)
        last.insert(0, (part, value))
        del last[2:]
        return value

    return answer
