"""Answers about a part of the rig, kept for as long as that part is the same object.

A rig is a value whose parts are shared from one to the next: an edit of fixtures leaves the very dictionary of feeds in
place. So what was worked out of all feeds, or of all universes, holds until that dictionary is another one. Two are
kept, since a rig and the one that an edit would make of it are asked in turn.

Every thread keeps answers of its own. The window works with the rig as it is while a thread beside it makes a sheet of
an older one: kept in common, each would push out what the other has just worked out, and both would write into one
table at once.
"""

from __future__ import annotations

from collections.abc import Callable
from contextvars import ContextVar
from functools import wraps
from typing import Any, TypeVar

P = TypeVar("P")
T = TypeVar("T")

_memory: ContextVar[dict[object, Any] | None] = ContextVar("memory", default=None)


def memory_of_thread() -> dict[object, Any]:
    """What the present thread keeps, by what it is an answer to. A thread begins with none."""
    found = _memory.get()
    if found is None:
        found = {}
        _memory.set(found)
    return found


def table_of(what: str, most: int) -> dict[Any, Any]:
    """A table of answers of one kind that the present thread keeps; emptied when it has grown past `most`."""
    found: dict[Any, Any] = memory_of_thread().setdefault(what, {})
    if len(found) > most:
        found.clear()
    return found


def keep_last_two(make: Callable[[P], T]) -> Callable[[P], T]:
    """Keep the last two answers of a function of one part, by the part's identity."""

    @wraps(make)
    def answer(part: P) -> T:
        last: list[tuple[Any, T]] = memory_of_thread().setdefault(make, [])
        for known, value in last:
            if known is part:
                return value
        value = make(part)
        last.insert(0, (part, value))
        del last[2:]
        return value

    return answer
