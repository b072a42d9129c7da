"""What is different between two rigs, field by field, and setting one such field.

A touch names one place: a part of the rig, the id there, and the way inside of the entry. It goes down through values
and mappings to what is one thing for whoever works with it: a number, a name, the list of what hangs on a port. Two
people who touched other places can be merged, and one touch can be taken back without the rest.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Final, NamedTuple

import msgspec
from msgspec.structs import replace

from welvo.rig.base import Value
from welvo.rig.document import PARTS, Change, Edit, Rig, put_entries, put_rig

BESIDE = ("tests", "versions")
"""Parts that stand beside the plan: they are records of their own, and no difference of it."""
OWN_FIELDS = ("name", "note", "use", "columns", "line_metres", "ground")
"""Fields of the rig itself that are compared."""


class Gone:
    """Stands for a value that is not there."""

    def __repr__(self) -> str:
        return "GONE"


GONE: Final = Gone()


class Touch(NamedTuple):
    """One difference: `path` leads from the entry to a field, and on to a key where the field is a mapping. An empty
    path is the entry as a whole. For the rig's own fields the part is `rig`, the id the field's name."""

    part: str
    id: str
    path: tuple[str, ...]
    before: object
    after: object

    @property
    def touched_place(self) -> tuple[str, str, tuple[str, ...]]:
        return self.part, self.id, self.path


def list_differences(a: Rig, b: Rig, parts: Iterable[str] = PARTS) -> list[Touch]:
    """All differences from `a` to `b`, in the order of the rig's parts."""
    found = [
        Touch("rig", name, (), getattr(a, name), getattr(b, name))
        for name in OWN_FIELDS
        if getattr(a, name) != getattr(b, name)
    ]
    for part in parts:
        old, new = getattr(a, part), getattr(b, part)
        if old is new or part in BESIDE:
            continue
        for key, value in old.items():
            other = new.get(key)
            if other is None:
                found.append(Touch(part, key, (), value, GONE))
            elif other is not value and other != value:
                found += (Touch(part, key, *rest) for rest in _differences_inside(value, other, ()))
        found += [Touch(part, key, (), GONE, value) for key, value in new.items() if key not in old]
    return found


def _differences_inside(
    a: object, b: object, path: tuple[str, ...]
) -> Iterator[tuple[tuple[str, ...], object, object]]:
    if a is b or (a == b and type(a) is type(b)):
        return
    if isinstance(a, Value) and type(a) is type(b):
        for name in a.__struct_fields__:
            yield from _differences_inside(getattr(a, name), getattr(b, name), (*path, name))
    elif isinstance(a, dict) and isinstance(b, dict):
        for key in (*a, *(k for k in b if k not in a)):
            yield from _differences_inside(a.get(key, GONE), b.get(key, GONE), (*path, key))
    else:
        yield path, a, b


def value_at(rig: Rig, part: str, key: str, path: tuple[str, ...]) -> object:
    """What stands at a place; GONE where there is nothing."""
    at: object = getattr(rig, key) if part == "rig" else getattr(rig, part).get(key, GONE)
    for step in path:
        if at is GONE:
            return GONE
        at = at.get(step, GONE) if isinstance(at, dict) else getattr(at, step, GONE)
    return at


def with_value(entry: object, path: tuple[str, ...], value: object) -> object:
    """An entry with another value at a place inside of it; GONE takes a key out of its mapping."""
    if not path:
        return value
    step, rest = path[0], path[1:]
    if isinstance(entry, dict):
        if not rest and value is GONE:
            return {k: v for k, v in entry.items() if k != step}
        return {**entry, step: with_value(entry.get(step, GONE), rest, value)}
    if not isinstance(entry, msgspec.Struct):
        raise KeyError(step)
    return replace(entry, **{step: with_value(getattr(entry, step), rest, value)})


def set_places(rig: Rig, label: str, wanted: Iterable[tuple[str, str, tuple[str, ...], object]]) -> Edit:
    """Set values at places. Raises KeyError where the way to one is gone, Refused for what cannot stand there."""
    parts: dict[str, dict[str, object]] = {}
    own: dict[str, object] = {}
    for part, key, path, value in wanted:
        if part == "rig":
            own[key] = value
            continue
        entries = parts.setdefault(part, {})
        if not path:
            entries[key] = None if value is GONE else value
            continue
        entry = entries[key] if key in entries else getattr(rig, part).get(key)
        if entry is None:
            raise KeyError(key)
        entries[key] = with_value(entry, path, value)
    made, change = put_entries(rig, label, **parts)
    if own:
        made, more = put_rig(made, label, **own)
        change = Change(label, {**change.touched, **more.touched})
    return made, change
